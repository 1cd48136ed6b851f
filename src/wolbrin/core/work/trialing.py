"""A trial as a job: one chunk for some rules on one market at one interval, every chunk stored as it comes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from wolbrin.core.batch.many import Many
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import backtest, need_bars, record_of
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Chunk, Job, Listed, State, Work
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.measures.inference import Tally
from wolbrin.core.models import Model
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.store.database import this_program
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import ROWS, Searches, matrix, search_read
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.study.shuffle import DEALING, shuffle
from wolbrin.core.study.trial import FIGURES, Luck, TrialRow, check_size, luck, passes
from wolbrin.core.work.briefs import brief_again
from wolbrin.core.work.footing import Footing, Request

Floats = NDArray[np.float64]
BLOCK = 40
ROOM = 64 * 1024**2  # bytes of packed conditions at a time
REAL = -1
KIND, COLUMN = "trial", "trial column"
STORED = ("row", "column", "deal", *FIGURES)


class TrialRequest(Model):
    """What is tried. shuffles: histories without memory to compare with; mirrored: their bars are turned over at random, so
    that drift and what belongs to an hour go too. dealing: how they are dealt, see study.shuffle. own: training span of the
    strategy that is varied."""

    kind: Literal["field", "variants"] = "field"
    title: str = "Field trial"
    rows: tuple[TrialRow, ...]
    columns: tuple[tuple[str, int], ...]
    shuffles: int = Field(2, ge=0, le=100)
    mirrored: bool = False
    seed: int = 1
    own: OwnSpan | None = None
    dealing: int = DEALING


@dataclass
class TrialResult:
    """Grows block by block. figures: float64[rows, columns, FIGURES]; dealt: the same for each shuffle; NaN until known.
    faults: sentences of tests that could not be run. records: what made each column, by its number. search: its number in the
    project; unfinished: it can be gone on with."""

    request: TrialRequest
    figures: Floats
    dealt: Floats
    faults: list[str] = field(default_factory=list)
    records: dict[int, Record] = field(default_factory=dict)
    search: int = 0
    unfinished: bool = False

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
        """Passes on real and on shuffled histories, over the tests done on all of them; None without any that say what luck
        brings (those of an older program were not dealt at the scale of their days)."""
        if self.request.dealing != DEALING:
            return None
        done = np.isfinite(self.figures[..., 3])
        for deal in self.dealt:
            done &= np.isfinite(deal[..., 3])
        return luck(self.figures[done], [d[done] for d in self.dealt], threshold, least_trades)


@dataclass(frozen=True)
class TrialWork(Request):
    """All that a block needs, wherever it runs. briefs, contents: of each column, the latter hashes of its bars."""

    footing: Footing
    request: TrialRequest
    briefs: tuple[Brief, ...]
    contents: tuple[str, ...]

    @cached_property
    def _held(self) -> Callable[[int, int], Many]:
        return lru_cache(maxsize=3)(self._read)

    def _read(self, column: int, deal: int) -> Many:
        market, interval = self.request.columns[column]
        real = self.footing.prepared(market, interval, self.contents[column])
        flat = all(row.strategy.flat_by_session_end for row in self.request.rows)
        history = real if deal == REAL else shuffle(real, self.request.seed * 1000 + deal, self.request.mirrored, flat)
        return Many(history, self.briefs[column], ROOM)

    def many(self, column: int, deal: int) -> Many:
        """Candidates on the history of a column, or on one of its shuffles."""
        return self._held(column, deal)


def evaluate_tests(work: TrialWork, unit: tuple[int, int, list[int]]) -> tuple[Floats, list[str]]:
    """Some rows of the matrix on one history: float64[b, 3 + FIGURES] (row, column, shuffle first), and sentences of tests
    that could not be run. unit: column, shuffle, rows."""
    column, deal, rows = unit
    tests = [work.request.rows[row] for row in rows]
    table = np.full((len(rows), 3 + len(FIGURES)), np.nan)
    table[:, 0], table[:, 1:3] = rows, (column, deal)
    out = work.many(column, deal).evaluate([t.strategy for t in tests])
    table[:, 3:] = out.figures[:, [SUMMARY.index(key) for key in FIGURES]]
    faults = [f"{tests[at].name} on {work.request.columns[column][0]}: {words}" for at, words in out.faults.items()]
    return table, faults


def _job(project: Project, work: TrialWork, result: TrialResult, search: int, tried_on: dict[int, int], first: int,
         notify: Callable[[TrialResult], None]) -> Job:
    """The job of a trial that is on record, from piece `first` on. tried_on: the search that counts each column."""
    searches, request = Searches(project), work.request
    every = list(range(len(request.rows)))
    chunks = [Chunk((column, deal, every[i:i + BLOCK]), len(every[i:i + BLOCK]))
              for deal in (REAL, *range(request.shuffles)) for column in range(len(request.columns))
              for i in range(0, len(every), BLOCK)]

    def commit(outcomes: list[tuple[Floats, list[str]]], cursor: dict[str, Any]) -> None:
        table = np.concatenate([t for t, _ in outcomes])
        faults = list(dict.fromkeys([*result.faults, *(f for _, found in outcomes for f in found)]))
        with project.transaction():
            searches.commit(search, cursor | {"faults": faults}, {ROWS: {name: table[:, i] for i, name in enumerate(STORED)}})
            for part in (t for t, _ in outcomes if t[0, 2] == REAL):
                searches.advance(tried_on[int(part[0, 1])], len(part), 0,
                                 [Tally.of(part[:, 3 + FIGURES.index("sharpe_daily")])])
        searches.tidy(search)
        result.faults = faults
        result.put(table)
        notify(result)

    def finish(state: State) -> None:
        result.unfinished = state is not State.DONE
        vars(work).pop("_held", None)  # its memory is large
        for one in (search, *tried_on.values()):
            searches.end(one, state)

    return Job(request.title, "tests", Listed(chunks, first), Work(evaluate_tests, work), commit=commit, finish=finish)


def trial_job(project: Project, request: TrialRequest,
              notify: Callable[[TrialResult], None] = lambda result: None) -> tuple[Job, TrialResult]:
    """Prepare a trial over the training span. Raises UserError before anything runs when there is nothing to try."""
    searches, footing = Searches(project), Footing.of(project)
    check_size(len(request.rows), len(request.columns), request.shuffles)
    result = TrialResult.empty(request)
    tried = searches.tried()
    briefs, contents = [], []
    for at, (market, interval) in enumerate(request.columns):
        ready = footing.prepared(market, interval)
        briefs.append(footing.brief(ready.bars.terms, request.own))
        contents.append(ready.bars.hash)
        need_bars(ready, briefs[at].span)
        result.records[at] = record_of(ready, None, briefs[at], rules=request.title, seeds=(request.seed,),
                                       tried=tried.get(market, 0) + len(request.rows))
    with project.transaction():
        search = searches.begin(now(), KIND, request.title, request.model_dump(mode="json"), columns=FIGURES,
                                cursor={"first": 0})
        # What was tried counts against each market it was tried on.
        tried_on = {at: searches.begin(now(), COLUMN, request.title, {"trial": search}, record=result.records[at],
                                       market=market, interval=interval)
                    for at, (market, interval) in enumerate(request.columns)}
    result.search = search
    work = TrialWork(footing, request, tuple(briefs), tuple(contents))
    return _job(project, work, result, search, tried_on, 0, notify), result


def resume_trial(project: Project, search: int,
                 notify: Callable[[TrialResult], None] = lambda result: None) -> tuple[Job, TrialResult]:
    """Go on with a trial where it was. Raises UserError when it cannot be, such as on another history."""
    searches, footing = Searches(project), Footing.of(project)
    result = read_trial(project, search)
    if result.request.shuffles and result.request.dealing != DEALING:
        raise UserError("the shuffled histories of this trial were dealt by an older program, in another way",
                        result.request.title, "Run the trial again.")
    columns = list(enumerate(result.request.columns))
    briefs = tuple(brief_again(project, result.records.get(at), *place, same_engine=True) for at, place in columns)
    contents = tuple(result.records[at].history for at, _ in columns)
    with project.transaction() as db:
        stored = searches.take_up(search)
        tried_on = _columns(project, search, result.request)
        db.executemany("UPDATE searches SET state = 'running', program = ? WHERE id = ?",
                       [(this_program(), id) for id in tried_on.values()])
    result.unfinished = False
    work = TrialWork(footing, result.request, briefs, contents)
    return _job(project, work, result, search, tried_on, (stored.cursor or {}).get("first", 0), notify), result


def _columns(project: Project, search: int, request: TrialRequest) -> dict[int, int]:
    """The search that counts each column of a trial, by the column's number."""
    at = {place: number for number, place in enumerate(request.columns)}
    return {at[r["market"], r["interval"]]: r["id"] for r in project.rows(
        "SELECT id, market, interval FROM searches WHERE kind = ? AND json_extract(request, '$.trial') = ?", COLUMN, search)
        if (r["market"], r["interval"]) in at}


@search_read()
def read_trial(project: Project, search: int) -> TrialResult:
    """A trial as far as it came."""
    searches = Searches(project)
    stored = searches.asked(search, "trial")
    asked = {k: v for k, v in stored.request.items() if k != "version"}
    result = TrialResult.empty(TrialRequest.model_validate({"dealing": 1} | asked))
    result.search, result.unfinished = search, stored.unfinished
    result.faults = list((stored.cursor or {}).get("faults", []))
    result.put(matrix(searches.rows(search), STORED))
    for at, id in _columns(project, search, result.request).items():
        record = searches.record(id)
        if record is not None:
            result.records[at] = record
    return result


def last_trial(project: Project, kind: str) -> TrialResult | None:
    """The newest trial of that kind with results, as far as it came."""
    id = Searches(project).last(KIND, kind)
    return read_trial(project, id) if id is not None else None


def candidate_from_trial(project: Project, result: TrialResult, row: int, column: int) -> Candidate:
    """Make a candidate of one cell, under the brief of its trial; it carries how many were tried on its market."""
    one, (market, interval) = result.request.rows[row], result.request.columns[column]
    brief = brief_again(project, result.records.get(column), market, interval)
    run = backtest(project.prepared(market, interval), one.strategy, brief, detail=False)
    origin = "field trial" if result.request.kind == "field" else "variants trial"
    return candidate_of(run, f"{one.name} {market}"[:80], origin, max(1, Searches(project).tried_on(market)),
                        (result.request.seed,))
