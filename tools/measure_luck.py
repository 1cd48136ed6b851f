"""Measures what docs/discover.md and docs/proving.md say of luck, on generated markets (tests/core/planted.py).

    .venv/bin/python tools/measure_luck.py counts [--searches 40]   # kept on noise beside what controls keep
    .venv/bin/python tools/measure_luck.py power [--searches 10]    # edges that are found beyond luck
    .venv/bin/python tools/measure_luck.py gates [--seeds 2]        # caught and lost, by gate
    .venv/bin/python tools/measure_luck.py again [--searches 40]    # Luck, where somebody searches noise again and again

Prints a table as Markdown. Any seed (--seed); minutes to an hour on two cores.
"""

from __future__ import annotations

import argparse
import datetime as dt
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.core.planted import KINDS, planted

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.bars import Bars, Span
from wolbrin.core.proving.luck import LuckGate
from wolbrin.core.proving.gate import Case
from wolbrin.core.proving.line import GATES, OFF
from wolbrin.core.search.limits import Limits
from wolbrin.core.search.objective import Floor
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discover_results import DiscoverResult, strength
from wolbrin.core.work.discovering import discover_job
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.origins import Origins
from wolbrin.core.work.proving import case_of
from wolbrin.core.work.subject import Subject

LOOSE = (Floor(key="profit_factor", value=1.05), Floor(key="t_daily", value=1.0))
LOW, HIGH = (0.0, 0.5), (1.0, 2.0)  # ticks of spread and slippage
LUCKY, MORE = ("noise", "drift"), 4  # markets without an edge, of which more are searched
BEST = 20


def project_of(folder: Path, bars: Bars, costs: tuple[float, float]) -> Project:
    made = Project.create(folder, Settings(training_first=dt.date(2023, 1, 1), holdout_first=dt.date(2038, 1, 1),
                                           last=dt.date(2040, 1, 1)))
    terms = bars.terms.model_copy(update={"spread_ticks": costs[0], "slippage_ticks": costs[1]})
    made.add_market(terms, replace(bars, terms=terms), "generated")
    return made


def searched(project: Project, request: DiscoverRequest) -> DiscoverResult:
    engine = Engine(1)
    job, result = discover_job(project, request)
    state = engine.start(job, "threads").wait()
    engine.close()
    if state is not State.DONE:
        raise SystemExit(str(job.error))
    return result


def count(unit: tuple[str, str, str, tuple[float, float], int, int]) -> tuple[int, float, bool, bool]:
    """Kept by one search, by its controls on average, and whether it is told to have found more, or stronger."""
    kind, method, floors, costs, seed, tries = unit
    with tempfile.TemporaryDirectory() as folder:
        project = project_of(Path(folder) / "p", planted(kind, seed, 300), costs)
        request = DiscoverRequest((("TST", 15),), Limits(pool=300), floors=LOOSE if floors == "loose" else (),
                                  method=method, count=tries, controls=3, seed=seed)  # type: ignore[arg-type]
        result = searched(project, request)
        curve = strength(project, result)
        told = result.kept, result.luck.expected, result.luck.beyond, curve.beyond
        project.close()
    return told


def power(searches: int, seed: int, tries: int) -> None:
    """Planted edges: searches that kept more than luck brings, whose strongest find is stronger, and that did either."""
    print("| market | costs | more | stronger | either | kept | by luck |\n|---|---|---|---|---|---|---|")
    for kind in (*KINDS, *LUCKY):
        for name, costs in (("low", LOW), ("high", HIGH)):
            with ProcessPoolExecutor(2) as pool:
                found = list(pool.map(count, [(kind, "random", "usual", costs, seed + i, tries) for i in range(searches)]))
            kept = [f[0] for f in found]
            print(f"| {kind} | {name} | {sum(f[2] for f in found)} | {sum(f[3] for f in found)} | "
                  f"{sum(f[2] or f[3] for f in found)} | {min(kept)} to {max(kept)} | {np.mean([f[1] for f in found]):.1f} |",
                  flush=True)


def counts(searches: int, seed: int, tries: int) -> None:
    print("| market | search | floors | costs | kept | by luck | over | more | stronger |")
    print("|---|---|---|---|---|---|---|---|---|")
    for kind in ("noise", "drift"):
        for method in ("random", "evolve"):
            for floors in ("usual", "loose"):
                for name, costs in (("low", LOW), ("high", HIGH)):
                    units = [(kind, method, floors, costs, seed + i, tries) for i in range(searches)]
                    with ProcessPoolExecutor(2) as pool:
                        found = list(pool.map(count, units))
                    kept, luck = (np.array([f[i] for f in found], float) for i in (0, 1))
                    gap = kept - luck
                    error = float(gap.std(ddof=1)) / np.sqrt(searches)
                    over = f"{gap.mean():+.1f} ± {error:.1f}"
                    print(f"| {kind} | {method} | {floors} | {name} | {kept.sum():,.0f} | {luck.sum():,.0f} | {over} | "
                          f"{sum(f[2] for f in found)} | {sum(f[3] for f in found)} |", flush=True)


def judged(unit: tuple[str, int, tuple[float, float], int]) -> list[tuple[bool, dict[str, str]]]:
    """The best finds of a search: whether each earns on a fresh market of the same kind, and the verdict of every gate."""
    kind, seed, costs, tries = unit
    with tempfile.TemporaryDirectory() as folder:
        days = 1_000
        project = project_of(Path(folder) / "p", planted(kind, seed, days), costs)
        floors = LOOSE if kind in LUCKY else ()  # with the usual ones luck finds next to nothing
        request = DiscoverRequest((("TST", 15),), Limits(pool=600), floors=floors, count=tries, controls=5, seed=seed)
        result = searched(project, request)
        shelf, footing, origins = Shelf(project), Footing.of(project), Origins(project)
        fresh = planted(kind, seed + 500_000, days)
        ids = shelf.ids(Wanted(search=result.search, sort="t_daily", down=True))[:BEST].tolist()
        gates: list[Any] = [g for g in GATES if not g.opens_holdout and g.key not in OFF]
        out = []
        for kept in shelf.bodies(ids):
            subject = Subject.of(kept)
            case: Case = case_of(footing, subject, Span(), origins)
            terms = case.history.bars.terms
            other = Prepared.of(replace(fresh, terms=terms))
            brief = replace(case.brief, span=Span())
            earns = float(backtest(other, case.strategy, brief, detail=False).profits.sum()) > 0
            out.append((earns, {g.key: g.judge(case).verdict for g in gates}))
        project.close()
    return out


def gates(seeds: int, seed: int, tries: int) -> None:
    kinds = (*KINDS, *LUCKY)
    units = [(kind, seed + s, costs, tries) for kind in kinds for costs in (LOW, HIGH)
             for s in range(seeds * (MORE if kind in LUCKY else 1))]
    with ProcessPoolExecutor(2) as pool:
        found = list(pool.map(judged, units))
    print("| market | costs | finds judged | earn on a fresh market | ready of these | ready of the others |")
    print("|---|---|---|---|---|---|")
    for kind in kinds:
        for name, costs in (("low", LOW), ("high", HIGH)):
            mine = [e for u, f in zip(units, found) for e in f if (u[0], u[2]) == (kind, costs)]
            real = [v for earns, v in mine if earns]
            luck = [v for earns, v in mine if not earns]
            ready = [sum(all(x == "passes" for x in v.values()) for v in part) for part in (real, luck)]
            print(f"| {kind} | {name} | {len(mine)} | {len(real)} | {ready[0]} | {ready[1]} |")
    every = [(earns and u[0] in KINDS, v) for u, f in zip(units, found) for earns, v in f]
    real, luck = [v for edge, v in every if edge], [v for edge, v in every if not edge]
    print(f"\n| gate | lost of {len(real)} with an edge | lost by it alone | not enough | caught of {len(luck)} without | "
          "caught by it alone |")
    print("|---|---|---|---|---|---|")
    for g in (g for g in GATES if not g.opens_holdout and g.key not in OFF):
        lost = [v for v in real if v[g.key] == "falls"]
        alone = sum(all(x == "passes" for k, x in v.items() if k != g.key) for v in lost)
        unsure = sum(v[g.key] == "not enough" for v in real)
        caught = [v for v in luck if v[g.key] != "passes"]
        only = sum(all(x == "passes" for k, x in v.items() if k != g.key) for v in caught)
        print(f"| {g.title} | {len(lost)} | {alone} | {unsure} | {len(caught)} | {only} |")


def tried_again(unit: tuple[str, tuple[float, float], int, int]) -> tuple[list[int], list[int]]:
    """Five searches of other seeds on one noise market: finds of each, and how many of them pass Luck after all five."""
    method, costs, seed, tries = unit
    with tempfile.TemporaryDirectory() as folder:
        project = project_of(Path(folder) / "p", planted("noise", seed, 300), costs)
        results = [searched(project, DiscoverRequest((("TST", 15),), Limits(pool=300), method=method,  # type: ignore[arg-type]
                                                     count=tries, controls=3, seed=seed * 10 + k)) for k in range(5)]
        shelf, footing, origins = Shelf(project), Footing.of(project), Origins(project)
        gate, tried = LuckGate(), Searches(project).tried_on("TST")
        found, passed = [], []
        for result in results:
            kept = shelf.bodies(shelf.ids(Wanted(search=result.search)).tolist())
            cases = [replace(case_of(footing, Subject.of(k), Span(), origins), tried_on=tried) for k in kept]
            found.append(len(kept))
            passed.append(sum(gate.judge(case).passed for case in cases))
        project.close()
    return found, passed


def again(markets: int, seed: int, tries: int) -> None:
    print("| search | costs | finds | pass Luck | searches in which any passes | markets in which any passes |")
    print("|---|---|---|---|---|---|")
    for method in ("random", "evolve"):
        for name, costs in (("low", LOW), ("high", HIGH)):
            with ProcessPoolExecutor(2) as pool:
                done = list(pool.map(tried_again, [(method, costs, seed + i, tries) for i in range(markets)]))
            passed = np.array([p for _, p in done])
            print(f"| {method} | {name} | {sum(sum(f) for f, _ in done):,} | {passed.sum():,} | {(passed > 0).sum()} of "
                  f"{passed.size} | {(passed.sum(axis=1) > 0).sum()} of {markets} |", flush=True)


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("what", choices=("counts", "power", "gates", "again"))
    parser.add_argument("--searches", type=int, default=40)
    parser.add_argument("--seeds", type=int, default=2)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--tries", type=int, default=0)
    args = parser.parse_args()
    if args.what == "counts":
        counts(args.searches, args.seed, args.tries or 768)
    elif args.what == "power":
        power(args.searches, args.seed, args.tries or 1_536)
    elif args.what == "again":
        again(args.searches, args.seed, args.tries or 768)
    else:
        gates(args.seeds, args.seed, args.tries or 2_048)
