"""The live counts of the funnel, from what the project has on record."""

from __future__ import annotations

from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.work.standing import standing_ids


def proved_ids(project: Project) -> list[int]:
    """Shelf ids of the candidates that stand after the whole line."""
    return standing_ids(project, Dossiers(project).shelf())


def funnel(project: Project) -> dict[str, int]:
    """Counts by name: markets, strategies, studies, runs, sweeps, discovered, tried, kept, proved, distinct, portfolios,
    members (of the newest portfolio)."""
    dossiers = Dossiers(project)
    counts = dossiers.counts()
    counts["proved"] = len(proved_ids(project))
    counts["distinct"] = len(project.get_value("distinct", []))
    portfolios = dossiers.portfolios()
    counts["members"] = len(portfolios[-1][2]) if portfolios else 0
    return counts
