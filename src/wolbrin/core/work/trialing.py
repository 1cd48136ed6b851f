"""A trial as a job: one chunk for some rules on one market at one interval, every chunk stored as it comes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import backtest, need_bars, record_of
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Chunk, Job, State
from wolbrin.core.market.terms import Model
from wolbrin.core.measures.inference import Tally
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.study.shuffle import shuffle
from wolbrin.core.study.trial import FIGURES, Luck, TrialRow, check_size, figures_of, luck, passes
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.sweeping import brief_again

Floats = NDArray[np.float64]
BLOCK = 20
REAL = -1


class TrialRequest(Model):
    """What is tried. shuffles: histories without memory to compare with; mirrored: their bars are turned over at random, so
    that drift and what belongs to an hour go too. own: training span of the strategy that is varied."""

    kind: Literal["field", "variants"] = "field"
    title: str = "Field trial"
    rows: tuple[TrialRow, ...]
    columns: tuple[tuple[str, int], ...]
    shuffles: int = Field(2, ge=0, le=100)
    mirrored: bool = False
    seed: int = 1
    own: OwnSpan | None = None


@dataclass
class TrialResult:
    """Grows block by block. figures: float64[rows, columns, FIGURES]; dealt: the same for each shuffle; NaN until known.
    faults: sentences of tests that could not be run. records: what made each column, by its number."""

    request: TrialRequest
    figures: Floats
    dealt: Floats
    faults: list[str] = field(default_factory=list)
    records: dict[int, Record] = field(default_factory=dict)

    @classmethod
    def empty(cls, request: TrialRequest) -> TrialResult:
        shape = len(request.rows), len(request.columns), len(FIGURES)
        return cls(request, np.full(shape, np.nan), np.full((request.shuffles, *shape), np.nan))

    @property
    def tried(self) -> int:
        """Tests on real histories."""
        return len(self.request.rows) * len(self.request.columns)

    def put(self, table: Floats) -> None:
        """Take a block in: float64[b, 3 + FIGURES], the first three being row, column and shuffle (REAL for none)."""
        for row, column, deal, *values in table:
            where = self.figures if deal == REAL else self.dealt[int(deal)]
            where[int(row), int(column)] = values

    def passed(self, threshold: float, least_trades: int) -> NDArray[np.bool_]:
        """bool[rows, columns]."""
        return passes(self.figures, threshold, least_trades)

    def luck(self, threshold: float, least_trades: int) -> Luck | None:
        """Passes on real and on shuffled histories, over the tests done on all of them."""
        done = np.isfinite(self.figures[..., 3])
        for deal in self.dealt:
            done &= np.isfinite(deal[..., 3])
        return luck(self.figures[done], [d[done] for d in self.dealt], threshold, least_trades)


def trial_job(project: Project, request: TrialRequest,
              notify: Callable[[TrialResult], None] = lambda result: None) -> tuple[Job, TrialResult]:
    """Prepare a trial over the training span. Raises UserError before anything runs when there is nothing to try."""
    searches, footing = Searches(project), Footing.of(project)
    check_size(len(request.rows), len(request.columns), request.shuffles)
    result = TrialResult.empty(request)
    tried = searches.tried()
    briefs = []
    for at, (market, interval) in enumerate(request.columns):
        ready = footing.histories.prepared(market, interval)
        briefs.append(footing.brief(ready.bars.terms, request.own))
        need_bars(ready, briefs[at].span)
        result.records[at] = record_of(ready, None, briefs[at], rules=request.title, seeds=(request.seed,),
                                       tried=tried.get(market, 0) + len(request.rows))
    search = searches.begin(now(), "trial", request.title, request.model_dump(mode="json"), columns=FIGURES)
    # What was tried counts against each market it was tried on.
    tried_on = {at: searches.begin(now(), "trial column", request.title, {"trial": search}, record=result.records[at],
                                   market=market, interval=interval)
                for at, (market, interval) in enumerate(request.columns)}
    stored = 0

    @lru_cache(maxsize=4)
    def history(market: str, interval: int, deal: int) -> Prepared:
        real = footing.histories.prepared(market, interval)
        return real if deal == REAL else shuffle(real, request.seed * 1000 + deal, request.mirrored)

    def work(part: tuple[int, int, list[int]]) -> tuple[Floats, list[str]]:
        column, deal, rows = part
        market, interval = request.columns[column]
        ready = history(market, interval, deal)
        table, faults = np.full((len(rows), 3 + len(FIGURES)), np.nan), []
        for at, row in enumerate(rows):
            strategy = request.rows[row].strategy
            table[at, :3] = row, column, deal
            try:
                table[at, 3:] = figures_of(ready, strategy, briefs[column])
            except UserError as err:
                faults.append(f"{request.rows[row].name} on {market}: {err.sentence()}")
        return table, faults

    def commit(outcome: tuple[Floats, list[str]]) -> None:
        nonlocal stored
        table, faults = outcome
        real = int((table[:, 2] == REAL).sum())
        with project.transaction():
            searches.keep_block(search, stored, table[:, :3], table[:, 3:])
            if real:
                sharpe = Tally.of(table[:, 3 + FIGURES.index("sharpe_daily")])
                searches.advance(tried_on[int(table[0, 1])], real, 0, sharpe=sharpe)
        stored += 1
        result.put(table)
        result.faults += [f for f in faults if f not in result.faults]
        notify(result)

    def finish(state: State) -> None:
        for one in (search, *tried_on.values()):
            searches.advance(one, 0, 0, state.value)

    every = list(range(len(request.rows)))
    chunks = [Chunk((column, deal, every[i:i + BLOCK]), len(every[i:i + BLOCK]))
              for deal in (REAL, *range(request.shuffles)) for column in range(len(request.columns))
              for i in range(0, len(every), BLOCK)]
    return Job(request.title, "tests", chunks, work, commit, finish), result


def last_trial(project: Project, kind: str) -> TrialResult | None:
    """The newest trial of that kind with results, as far as it came."""
    searches = Searches(project)
    id = searches.last("trial", kind)
    if id is None:
        return None
    rows = searches.stored(id, 3)
    result = TrialResult.empty(TrialRequest.model_validate(rows.request))
    result.put(np.hstack([rows.settings, rows.named(FIGURES)]))
    columns = {c: at for at, c in enumerate(result.request.columns)}
    for r in project.rows("SELECT id, market, interval FROM searches WHERE kind = 'trial column' AND "
                          "json_extract(request, '$.trial') = ?", id):
        record = searches.record(r["id"])
        if record is not None and (r["market"], r["interval"]) in columns:
            result.records[columns[r["market"], r["interval"]]] = record
    return result


def candidate_from_trial(project: Project, result: TrialResult, row: int, column: int) -> Candidate:
    """Make a candidate of one cell, under the brief of its trial; it carries how many were tried on its market."""
    one, (market, interval) = result.request.rows[row], result.request.columns[column]
    brief = brief_again(project, result.records.get(column), market, interval)
    run = backtest(project.prepared(market, interval), one.strategy, brief, detail=False)
    origin = "field trial" if result.request.kind == "field" else "variants trial"
    return candidate_of(run, f"{one.name} {market}"[:80], origin, max(1, Searches(project).tried_on(market)),
                        (result.request.seed,))
