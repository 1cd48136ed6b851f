"""The live counts of the funnel, from what the project has on record."""

from __future__ import annotations

from wolbrin.core.store.database import Database
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.portfolios import newest_size
from wolbrin.core.work.standing import READY, STANDS


def funnel(project: Database) -> dict[str, int]:
    """Counts by name: markets, strategies, studies, runs, sweeps, discovered, tried, kept, ticked, proved, distinct,
    portfolios, members (of the newest portfolio). Proved is what passed the line, sealed still or opened. Reads no candidate;
    those whose standing is being worked out are not proved yet."""
    dossiers = Dossiers(project)
    counts = dossiers.counts()
    counts["proved"] = int(project.rows("SELECT count(*) n FROM candidates WHERE stands IN (?, ?)", READY, STANDS)[0]["n"])
    counts["ticked"] = int(project.rows("SELECT count(*) n FROM candidates WHERE ticked")[0]["n"])
    counts["distinct"] = len(project.get_value("distinct", []))
    counts["members"] = newest_size(project)
    return counts
