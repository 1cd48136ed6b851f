"""Measures what docs/discover.md says of searches by what a scan shows, on generated markets (tests/core/scan_markets.py).

    .venv/bin/python tools/discover_tables.py edges [--seeds 20] [--sharpe 3] [--method informed]   # ready, and true
    .venv/bin/python tools/discover_tables.py noise [--searches 40]                                 # what luck becomes

Prints tables as Markdown. Any seed (--seed); half a minute to two a search on one processor. Beside an informed search the
others may take as long (--seconds).
"""

from __future__ import annotations

import argparse
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.core.scan_markets import EDGES, edge, noise
from tests.core.test_informed import project_of
from tools.measure_luck import searched

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.market.bars import Bars, Span
from wolbrin.core.proving.line import usual_line, walk_line
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.work.discover_request import USUAL_CONTROLS, USUAL_COUNT, DiscoverRequest, Method, usual_limits
from wolbrin.core.work.discovering import read_discover
from wolbrin.core.work.finding_families import families_in
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.origins import Origins
from wolbrin.core.work.proving import case_of
from wolbrin.core.work.subject import Subject

FRESH = 500_000
TICKS = 0.5  # of slippage a side
WALKED = 12  # representatives that walk the line at most
NOISE_DAYS = 1_500


@dataclass(frozen=True)
class Told:
    """kept, expected: finds and what luck keeps; families; ready: of the representatives; true: of those, that earn on a
    fresh market of the same kind; walked: representatives; seconds: of the search."""

    kept: int
    expected: float
    families: int
    walked: int
    ready: int
    true: int
    seconds: float


def market(kind: str, sharpe: float, seed: int) -> tuple[Prepared, Bars | None]:
    """A history, and the bars of the market that leads it, where one does."""
    if kind not in EDGES:
        return noise(kind, seed, NOISE_DAYS), None
    made = edge(kind, sharpe, seed)
    return made.history, made.other


def one(unit: tuple[str, float, int, Method, float]) -> Told:
    kind, sharpe, seed, method, seconds = unit
    history, other = market(kind, sharpe, seed)
    with tempfile.TemporaryDirectory() as folder:
        project = project_of(Path(folder) / "p", history, TICKS)
        if other is not None:
            project.add_market(other.terms, other, "generated")
        count = USUAL_COUNT[method] if not seconds else 10_000_000
        request = DiscoverRequest((("TST", 15),), usual_limits(method), method=method, count=count, seconds=seconds,
                                  controls=USUAL_CONTROLS[method], seed=seed)
        begun = time.monotonic()
        search = searched(project, request).search
        spent = time.monotonic() - begun
        result = read_discover(project, search)
        found = families_in(project, result.search)
        ready = true = 0
        leads = [f.leads for f in found.families[:WALKED]]
        for kept in Shelf(project).bodies(leads):
            passed, earns = walked(project, kept, kind, sharpe, seed)
            ready += passed
            true += passed and earns
        project.close()
    return Told(result.kept, result.luck.expected, len(found.families), len(leads), ready, true, spent)


def walked(project: Project, kept: object, kind: str, sharpe: float, seed: int) -> tuple[bool, bool]:
    """Whether a candidate becomes ready, and whether it earns on a fresh market of the same kind."""
    subject = Subject.of(kept)  # type: ignore[arg-type]
    case = case_of(Footing.of(project), subject, Span(), Origins(project))
    case = replace(case, tried_on=Searches(project).tried_on("TST"))
    outcomes = walk_line(case, usual_line().gates())
    if not outcomes or not outcomes[-1].passed:
        return False, False
    history, other = market(kind, sharpe, seed + FRESH)
    bars = replace(history.bars, terms=case.history.bars.terms)
    fresh = Prepared.of(bars)
    if other is not None:
        fresh = Prepared(bars, Columns(bars, elsewhere=lambda market, interval: other))
    profits = backtest(fresh, case.strategy, replace(case.brief, span=Span()), detail=False).profits
    return True, float(profits.sum()) > 0


def edges(seeds: int, seed: int, sharpe: float, method: Method, seconds: float) -> None:
    print(f"| edge | {method}: ready | true of ready | families | kept | by luck | seconds |\n|---|---|---|---|---|---|---|")
    for kind in EDGES:
        with ProcessPoolExecutor(2) as pool:
            told = list(pool.map(one, [(kind, sharpe, seed + i, method, seconds) for i in range(seeds)]))
        ready = sum(t.ready for t in told)
        print(f"| {kind} | {sum(t.ready > 0 for t in told)} of {seeds} | {sum(t.true for t in told)} of {ready} | "
              f"{np.mean([t.families for t in told]):.1f} | {np.mean([t.kept for t in told]):.0f} | "
              f"{np.mean([t.expected for t in told]):.1f} | {np.mean([t.seconds for t in told]):.0f} |", flush=True)


def luck(searches: int, seed: int) -> None:
    print("| market | searches | kept | by luck | walked | ready | seconds |\n|---|---|---|---|---|---|---|")
    for kind in ("plain", "volatility clusters", "drift"):
        with ProcessPoolExecutor(2) as pool:
            told = list(pool.map(one, [(kind, 0.0, seed + i, "informed", 0.0) for i in range(searches)]))
        print(f"| {kind} | {searches} | {sum(t.kept for t in told)} | {sum(t.expected for t in told):.1f} | "
              f"{sum(t.walked for t in told)} | {sum(t.ready for t in told)} | {np.mean([t.seconds for t in told]):.0f} |",
              flush=True)


def main() -> None:
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("what", choices=("edges", "noise"))
    asked.add_argument("--seeds", type=int, default=20)
    asked.add_argument("--searches", type=int, default=40)
    asked.add_argument("--seed", type=int, default=1)
    asked.add_argument("--sharpe", type=float, default=3.0)
    asked.add_argument("--method", choices=("informed", "random", "evolve"), default="informed")
    asked.add_argument("--seconds", type=float, default=0.0)
    given = asked.parse_args()
    if given.what == "edges":
        edges(given.seeds, given.seed, given.sharpe, given.method, given.seconds)
    else:
        luck(given.searches, given.seed)


if __name__ == "__main__":
    main()
