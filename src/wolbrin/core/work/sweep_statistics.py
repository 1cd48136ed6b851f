"""What speaks against the winner of a sweep: how many were tried, the Sharpe ratio beside luck's best, overfitting. Only
training bars."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.jobs import check_stopped
from wolbrin.core.search.deflated import Deflated, Hurdle, deflated
from wolbrin.core.search.overfitting import FLAT, Overfitting, block_sums, blocks_for, overfitting
from wolbrin.core.search.plateau import Surroundings
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import DAILY, Searches
from wolbrin.core.store.tables import Columns
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.sweep_luck import read_luck
from wolbrin.core.work.sweep_reading import Reading
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import SUMS, SweepResult, daily_table, questions_again
from wolbrin.core.work.sweep_work import PARTS, SweepWork, evaluate_block

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
MOST = 1_500  # sets whose years are looked at, times four, where only sums were kept
AGAIN = 20_000  # sets taken over from older sweeps that are run once more for their daily results, at most
MOST_LOOKED = 100_000_000  # sets times neighbors for which the plateau's rule is judged
LEAST_DAYS = 80  # trading days below which the days cannot be cut into blocks


@dataclass(frozen=True)
class Statistics:
    """Of one market. tried: sets of this sweep there; tried_on: everything ever tried on it. best, center: Sharpe ratios of
    the largest value and of the set recommended beside luck's best; None without such a set. overfitting: None with fewer
    than two sets or too few days."""

    market: str
    tried: int
    tried_on: int
    best: Deflated | None
    center: Deflated | None
    overfitting: Overfitting | None

    def lines(self) -> list[str]:
        """A sentence each."""
        out = [f"{self.tried:,} sets tried here, {self.tried_on:,} alternatives on {self.market} altogether."]
        for name, one in (("Best set", self.best), ("Plateau's center", self.center)):
            if one is not None:
                out.append(f"{name}: {one.words()}" + (
                    f" {one.days:,} days there are; {one.needed:,.0f} would be needed to be 95% sure."
                    if np.isfinite(one.needed) and one.needed > one.days else ""))
        if self.overfitting is not None:
            o = self.overfitting
            out += [o.largest.words(), o.plateau.words(), FLAT, o.words()]
        return out


def of_market(request: SweepRequest, settings: Floats, market: str) -> NDArray[np.bool_]:
    at = next((i for i, a in enumerate(request.axes) if a.kind == "market"), -1)
    return settings[:, at] == request.markets.index(market) if at >= 0 else np.ones(len(settings), bool)


def _sets_in(request: SweepRequest, table: Columns) -> Ints:
    """Numbers of the sets of a stored table."""
    names = request.columns
    if not table or names[0] not in table:
        return np.zeros(0, np.int64)
    return request.space.find(np.stack([table[name] for name in names], axis=1))


def _work(project: Project, result: SweepResult) -> SweepWork:
    """The sweep's own question once more."""
    footing = Footing.of(project)
    questions = questions_again(project, footing, result)
    return SweepWork(footing, result.request, tuple((p, q) for p, (_, q) in questions.items()), "all")


def daily_of(work: SweepWork, sets: Ints) -> Floats:
    """float64[n, d]: daily results of some sets of one market, run once more; 0 before a run begins and where refused."""
    if not len(sets):
        return np.zeros((0, 0))
    parts: list[tuple[Ints, Floats]] = []
    places = sets // work.request.space.inner
    for place in np.unique(places):
        rows = np.flatnonzero(places == place)
        for i in range(0, len(rows), 50):
            check_stopped()
            part = rows[i:i + 50]
            done = evaluate_block(work, sets[part])
            daily = np.zeros((len(part), done.daily.shape[1]))
            daily[done.kept] = np.nan_to_num(done.daily)
            parts.append((part, daily))
    out = np.zeros((len(sets), parts[0][1].shape[1]))
    for part, daily in parts:
        out[part] = daily
    return out


def _row(reading: Reading, market: str, values: Floats, fit: NDArray[np.bool_]) -> int:
    """The row of a market with the largest value among those that fit, -1 for none."""
    at = np.flatnonzero(fit & np.isfinite(values) & of_market(reading.request, reading.settings, market) & (reading.at >= 0))
    return int(at[np.argmax(values[at])]) if len(at) else -1


def statistics(project: Project, result: SweepResult, reading: Reading, market: str = "") -> Statistics:
    """All of it for one market, the first where none is named. Raises UserError when the sweep cannot be asked again."""
    request = result.request
    market = market or request.markets[0]
    searches = Searches(project)
    mine = of_market(request, reading.settings, market)
    on = np.flatnonzero(mine & (reading.at >= 0))
    tried_on = searches.tried_on(market)
    if not len(on):
        return Statistics(market, int(mine.sum()), tried_on, None, None, None)
    work = _work(project, result)
    try:
        table = searches.rows(result.search, daily_table(request, market, DAILY))
        stored = _sets_in(request, table)
        missing = np.setdiff1d(reading.at[on], stored) if len(stored) else np.zeros(0, np.int64)
        if len(stored) and len(missing) <= AGAIN:  # sets taken over from an older sweep have theirs there
            sets = np.concatenate([stored, missing])
            again = daily_of(work, missing)
            daily = np.nan_to_num(table["daily"].astype(np.float64))
            daily = np.concatenate([daily, again]) if len(again) else daily
        else:
            sets, daily = np.zeros(0, np.int64), np.zeros((0, 0))
        luck = read_luck(project, result)
        best = luck.of(market).sharpe.tolist() if luck is not None else []
        found = {}
        for name, values in (("best", reading.score), ("center", reading.median)):
            row = _row(reading, market, values, reading.passes)
            own = daily_of(work, reading.at[row:row + 1])[0] if row >= 0 else None
            found[name] = deflated(own, Hurdle.of(best, len(on), len(own))) if own is not None else None
        return Statistics(market, int(mine.sum()), tried_on, found["best"], found["center"],
                          _overfitting(searches, result, market, sets, daily))
    finally:
        work.let_go()


def _overfitting(searches: Searches, result: SweepResult, market: str, sets: Ints, daily: Floats) -> Overfitting | None:
    request = result.request
    if len(sets):
        blocks = blocks_for(len(sets), request.space.most_neighbors, daily.shape[1])
        if not blocks or len(sets) < 2:
            return None
        sums, squares, days = block_sums(daily, blocks)
    else:
        table = searches.rows(result.search, daily_table(request, market, SUMS))
        sets = _sets_in(request, table)
        width = len(searches.rows(result.search, daily_table(request, market, "days")).get("day", ()))
        if len(sets) < 2 or width < LEAST_DAYS:
            return None
        sums, squares = table["sums"].astype(np.float64), table["squares"].astype(np.float64)
        edges: Ints = np.linspace(0, width, PARTS + 1).astype(np.int64)
        days = edges[1:] - edges[:-1]
        if blocks_for(len(sets), request.space.most_neighbors, width) < PARTS:  # half as many, each of two
            sums, squares = sums[:, ::2] + sums[:, 1::2], squares[:, ::2] + squares[:, 1::2]
            days = days[::2] + days[1::2]
    complete = request.method == "every" and not result.unfinished
    around = Surroundings(request.space, sets, result.refused_sets, complete)
    looked = around.known and len(sets) * around.width <= MOST_LOOKED
    near = around.of(np.arange(len(sets), dtype=np.int64)) if looked else np.zeros((len(sets), 0), np.int64)
    return overfitting(sums, squares, days, near)


def years_of(project: Project, result: SweepResult, market: str = "") -> tuple[list[int], Ints, Floats]:
    """Net profit of each calendar year: years, numbers of sets, float64[n, years]. From the daily results that were kept; of
    at most MOST sets, evenly, where only sums were."""
    request = result.request
    market = market or request.markets[0]
    searches = Searches(project)
    days = searches.rows(result.search, daily_table(request, market, "days")).get("day", np.zeros(0, np.int32))
    table = searches.rows(result.search, daily_table(request, market, DAILY))
    sets = _sets_in(request, table)
    work: Any = None
    if len(sets):
        daily = np.nan_to_num(table["daily"].astype(np.float64))
        settings, _ = result.table()
        mine = request.space.find(settings[of_market(request, settings, market)])
        missing = np.setdiff1d(mine, sets)
        if len(missing) and len(missing) <= AGAIN:
            work = _work(project, result)
            sets, daily = np.concatenate([sets, missing]), np.concatenate([daily, daily_of(work, missing)])
    else:
        work = _work(project, result)
        settings, _ = result.table()
        every = np.sort(request.space.find(settings[of_market(request, settings, market)]))
        sets = every[np.linspace(0, len(every) - 1, min(4 * MOST, len(every))).astype(int)] if len(every) else every
        daily = daily_of(work, sets)
    if work is not None:
        work.let_go()
    if not len(days) or not len(sets):
        return [], sets, np.zeros((len(sets), 0))
    year = days.astype("datetime64[D]").astype("datetime64[Y]").astype(int) + 1970
    known, first = np.unique(year, return_index=True)
    return known.tolist(), sets, np.add.reduceat(daily, first, axis=1)
