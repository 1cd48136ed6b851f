"""The live counts of the funnel, from what the project has on record."""

from __future__ import annotations

from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.work.proving import standing


def proved_ids(dossiers: Dossiers) -> list[int]:
    """Shelf ids of the candidates that stand after the whole line."""
    latest = dossiers.latest()
    return [k.id for k in dossiers.shelf()
            if standing(latest.get((k.hash, k.candidate.market, k.candidate.interval), {})) == "stands"]


def funnel(project: Project) -> dict[str, int]:
    """Counts by name: markets, strategies, studies, runs, sweeps, discovered, tried, kept, proved, distinct, portfolios,
    members (of the newest portfolio)."""
    dossiers = Dossiers(project)
    counts = dossiers.counts()
    counts["proved"] = len(proved_ids(dossiers))
    counts["distinct"] = len(project.get_value("distinct", []))
    portfolios = dossiers.portfolios()
    counts["members"] = len(portfolios[-1][2]) if portfolios else 0
    return counts
