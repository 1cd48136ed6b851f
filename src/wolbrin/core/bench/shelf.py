"""How the Shelf and the table of a sweep do with very many rows."""

from __future__ import annotations

import dataclasses
import sqlite3
import tempfile
import time
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path

import numpy as np

from wolbrin.core.bench.data import bench_bars, bench_strategy
from wolbrin.core.bench.figure import Measured, measured
from wolbrin.core.engine.run import backtest
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.search.maps import MapSide, map_of
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.store.tables import pack_table, unpack_table
from wolbrin.core.store.wanted import NUMBERS, TEXTS, Wanted
from wolbrin.core.work.funnel import funnel
from wolbrin.core.work.standing import restand

CANDIDATES = 100_000
SETS = 200_000
FILTERS = ({"name": "99"}, {"words": "ATR"}, {"made": "zzz"}, {"net": "> 1"}, {"tried": "> 3"}, {"stands": "open"},
           {"market": "B", "net": "> 0"})


def one_candidate(project: Project) -> Candidate:
    """A candidate of the bench strategy on the project's first market."""
    market = project.markets()[0]
    run = backtest(project.prepared(market.code, market.minutes), bench_strategy(),
                   project.settings.brief(market.terms), detail=False)
    return candidate_of(run, "Bench", "discover", 1)


def like(c: Candidate, number: int, rng: np.random.Generator) -> Candidate:
    """The same candidate under another name, with other rules and figures."""
    strategy = c.strategy.model_copy(update={"quantity": 1.0 + number})
    return dataclasses.replace(c, name=f"Bench {number}", strategy=strategy,
                               summary=dict(zip(SUMMARY, rng.normal(size=len(SUMMARY)).tolist())))


def fill(project: Project, count: int, seed: int = 1) -> None:
    """Put so many candidates on the Shelf, as one kept candidate repeated by the database."""
    shelf = Shelf(project)
    first = shelf.keep(one_candidate(project), 1)
    figures = [f"m_{key}" for key in SUMMARY]
    rng = np.random.default_rng(seed)
    with project.transaction() as db:
        db.execute(f"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {count - 1}) INSERT INTO "
                   "candidates (created, name, hash, market, interval, origin, search, tried, record_key, place, words, "
                   "made) SELECT created, name || ' ' || (i * 7919 % 100003), hash || i, market, interval, origin, "
                   f"1 + i % 9, tried, record_key, place, words, made FROM n, candidates WHERE id = {first}")
        db.execute("INSERT INTO bodies SELECT c.id, b.body, b.record, b.summary, b.spark, b.daily FROM candidates c, "
                   f"bodies b WHERE b.candidate = {first} AND c.id > {first}")
        db.executemany(f"UPDATE candidates SET {', '.join(f'{f} = ?' for f in figures)} WHERE id = ?",
                       _rows(rng, db.execute("SELECT id FROM candidates"), len(figures)))


def _rows(rng: np.random.Generator, ids: sqlite3.Cursor, width: int) -> Iterator[tuple[float | int, ...]]:
    for (id,) in ids.fetchall():
        yield (*rng.normal(size=width).tolist(), id)


def quickest(act: Callable[[], object], times: int = 3) -> float:
    """Seconds of the quickest of several calls."""
    spent = []
    for _ in range(times):
        began = time.perf_counter()
        act()
        spent.append(time.perf_counter() - began)
    return min(spent)


def shelf_figures() -> list[Measured]:
    """100,000 candidates and 200,000 sets of a sweep."""
    found = []
    with tempfile.TemporaryDirectory() as folder:
        project = Project.create(Path(folder) / "bench")
        bars = bench_bars(100_000)
        project.add_market(bars.terms, bars, "bench")
        fill(project, CANDIDATES)
        restand(project)
        shelf = Shelf(project)
        bare = quickest(lambda: project.read_ids("SELECT id FROM candidates"))
        beside = f"reading the {CANDIDATES:,} ids alone: {1e3 * bare:.0f} ms"

        def opened() -> None:
            again = Project(project.folder)
            own = Shelf(again)
            restand(again)
            own.lines(own.ids(Wanted("net", True))[:60].tolist())
            funnel(again)
            again.close()

        found.append(measured("opening a Shelf of 100,000", quickest(opened), "s", "lower", 0.3, beside))
        sorts = {key: max(quickest(partial(shelf.ids, Wanted(key, down))) for down in (False, True))
                 for key in (*TEXTS, *NUMBERS, *SUMMARY)}
        worst = max(sorts, key=lambda key: sorts[key])
        found.append(measured("sorting it by the slowest column", sorts[worst], "s", "lower", 0.2, f"{worst}; {beside}"))
        filters = {next(iter(f)): quickest(partial(shelf.ids, Wanted("net", True, f))) for f in FILTERS}
        worst = max(filters, key=lambda key: filters[key])
        found.append(measured("filtering it by the slowest column", filters[worst], "s", "lower", 0.2, f"{worst}; {beside}"))
        project.close()
    rng = np.random.default_rng(1)
    values = [np.round(rng.uniform(0, 20, SETS)) for _ in range(4)]
    figures = rng.normal(size=(SETS, len(SUMMARY)))
    settings = np.column_stack(values)
    axis = tuple(float(v) for v in range(21))
    drawn = quickest(lambda: map_of(settings, figures[:, 0], MapSide(0, axis), MapSide(1, axis)))
    packed = pack_table({str(i): figures[:, i] for i in range(figures.shape[1])})
    read = quickest(lambda: unpack_table(packed))
    found.append(measured("heat map of 200,000 sets", 1e3 * drawn, "ms", "lower", None,
                          f"reading their {figures.shape[1]} figures from Arrow: {1e3 * read:.0f} ms"))
    return found


