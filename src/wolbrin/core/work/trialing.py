"""A trial as a job: one chunk for some rules on one market at one interval, every chunk stored as it comes."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Chunk, Job, State
from wolbrin.core.market.terms import Model
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.study.shuffle import shuffled
from wolbrin.core.study.trial import FIGURES, Luck, TrialRow, check_size, figures_of, luck, passes

Floats = NDArray[np.float64]
BLOCK = 20
REAL = -1


class TrialRequest(Model):
    """All that a trial depends on, beside the project's brief. shuffles: histories without memory to compare with."""

    kind: Literal["field", "variants"] = "field"
    title: str = "Field trial"
    rows: tuple[TrialRow, ...]
    columns: tuple[tuple[str, int], ...]
    shuffles: int = Field(2, ge=0, le=100)
    seed: int = 1


@dataclass
class TrialResult:
    """Grows block by block. figures: float64[rows, columns, FIGURES]; dealt: the same for each shuffle; NaN until known.
    faults: sentences of tests that could not be run."""

    request: TrialRequest
    figures: Floats
    dealt: Floats
    faults: list[str] = field(default_factory=list)

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
    dossiers = Dossiers(project)
    check_size(len(request.rows), len(request.columns), request.shuffles)
    for market, interval in request.columns:
        project.prepared(market, interval)
    result = TrialResult.empty(request)
    text = request.model_dump(mode="json")
    search = dossiers.begin_search("trial", request.title, text)
    # What was tried counts against each market it was tried on.
    tried_on = {at: dossiers.begin_search("trial column", request.title, {"market": market, "interval": interval})
                for at, (market, interval) in enumerate(request.columns)}
    stored = 0

    @lru_cache(maxsize=4)
    def history(market: str, interval: int, deal: int) -> Prepared:
        real = project.prepared(market, interval)
        if deal == REAL:
            return real
        bars = shuffled(real.bars, request.seed * 1000 + deal)
        return real.over(bars)

    def work(part: tuple[int, int, list[int]]) -> tuple[Floats, list[str]]:
        column, deal, rows = part
        market, interval = request.columns[column]
        ready = history(market, interval, deal)
        table, faults = np.full((len(rows), 3 + len(FIGURES)), np.nan), []
        for at, row in enumerate(rows):
            strategy = request.rows[row].strategy
            table[at, :3] = row, column, deal
            try:
                brief = project.settings.of(strategy).brief(ready.bars.terms)
                table[at, 3:] = figures_of(ready, strategy, brief)
            except UserError as err:
                faults.append(f"{request.rows[row].name} on {market}: {err.sentence()}")
        return table, faults

    def commit(outcome: tuple[Floats, list[str]]) -> None:
        nonlocal stored
        table, faults = outcome
        real = int((table[:, 2] == REAL).sum())
        with project.transaction():
            dossiers.keep_block(search, stored, table[:, :3], table[:, 3:])
            if real:
                dossiers.advance_search(tried_on[int(table[0, 1])], real, 0)
        stored += 1
        result.put(table)
        result.faults += [f for f in faults if f not in result.faults]
        notify(result)

    def finish(state: State) -> None:
        for one in (search, *tried_on.values()):
            dossiers.advance_search(one, 0, 0, state.value)

    every = list(range(len(request.rows)))
    chunks = [Chunk((column, deal, every[i:i + BLOCK]), len(every[i:i + BLOCK]))
              for deal in (REAL, *range(request.shuffles)) for column in range(len(request.columns))
              for i in range(0, len(every), BLOCK)]
    return Job(request.title, "tests", chunks, work, commit, finish), result


def last_trial(project: Project, kind: str) -> TrialResult | None:
    """The newest trial of that kind with results, as far as it came."""
    found = project.rows("SELECT id, request FROM searches WHERE kind = 'trial' AND json_extract(request, '$.kind') = ? AND "
                         "id IN (SELECT search FROM sweep_rows) ORDER BY id DESC LIMIT 1", kind)
    if not found:
        return None
    result = TrialResult.empty(TrialRequest.model_validate(json.loads(found[0]["request"])))
    for r in project.rows("SELECT settings, figures FROM sweep_rows WHERE search = ? ORDER BY block", found[0]["id"]):
        where = np.frombuffer(r["settings"]).reshape(-1, 3)
        result.put(np.hstack([where, np.frombuffer(r["figures"]).reshape(len(where), -1)]))
    return result


def candidate_from_trial(project: Project, result: TrialResult, row: int, column: int) -> Candidate:
    """Make a candidate of one cell; it carries how many were tried to find it."""
    one, (market, interval) = result.request.rows[row], result.request.columns[column]
    history = project.prepared(market, interval)
    run = backtest(history, one.strategy, project.settings.of(one.strategy).brief(history.bars.terms), detail=False)
    origin = "field trial" if result.request.kind == "field" else "variants trial"
    return candidate_of(run, f"{one.name} {market}"[:80], origin, result.tried)
