"""Every figure that is shown anywhere, by the place that shows it: what `wolbrin figure`, docs and hovers read."""

from __future__ import annotations

from wolbrin.core.engine.ledger import LEDGER
from wolbrin.core.errors import UserError
from wolbrin.core.figures.figure import Figure
from wolbrin.core.figures.markets import MARKETS
from wolbrin.core.figures.portfolios import MEMBERS, OVERLAPS, PORTFOLIOS, SCHEMES
from wolbrin.core.figures.runs import COUNTS, GROUPS, KEPT, TRADES
from wolbrin.core.figures.searches import FINDS, SCANS, STUDIES, SWEEPS, WALKED, WALKS
from wolbrin.core.measures.catalogue import MEASURES
from wolbrin.core.proving.line import GATES

MOST = 12  # that are offered where a name is unknown


def figures() -> dict[str, tuple[Figure, ...]]:
    """All of them, by place."""
    made: dict[str, tuple[Figure, ...]] = {
        "measures": tuple(MEASURES), "ledger": tuple(LEDGER), "trades of the window": tuple(TRADES.values()),
        "counts of a run": tuple(COUNTS.values()), "breakdowns and drawdowns": tuple(GROUPS.values()),
        "kept runs": tuple(KEPT.values()), "markets": tuple(MARKETS.values()), "study and trials": tuple(STUDIES.values()),
        "scan": tuple(SCANS.values()), "sweep": tuple(SWEEPS.values()), "finds and the Shelf": tuple(FINDS.values()),
        "walk-forward": (*WALKED.values(), *WALKS.values())}
    made |= {f"gate {g.title}": (*g.shown, *g.more) for g in GATES if g.shown or g.more}
    made |= {f"table of {g.title}: {t.title}": t.columns for g in GATES for t in g.tables}
    return made | {"overlap": tuple(OVERLAPS.values()), "members of a portfolio": tuple(MEMBERS.values()),
                   "portfolio": tuple(PORTFOLIOS.values()), "weights": tuple(SCHEMES.values())}


def figure_named(name: str) -> list[tuple[str, Figure]]:
    """Figures of a key or title, each with its place; those that hold the words where none is called so.

    Raises:
        UserError: there is none.
    """
    every = [(place, one) for place, some in figures().items() for one in some]
    found = [(place, one) for place, one in every if one.named(name)]
    if not found:
        words = name.strip().casefold()
        found = [(place, one) for place, one in every if words and words in f"{one.title} {one.key}".casefold()]
    if not found:
        raise UserError(f'there is no figure "{name}"', "figure",
                        f"Some are {', '.join(m.key for m in MEASURES[:MOST])}; `wolbrin figure` lists all.")
    return found
