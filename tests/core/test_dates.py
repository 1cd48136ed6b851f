"""The gate Dates: what knows dates, or where its history began, is told and cannot be opened; all else is let through."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import numpy as np
import pytest

from tests.build import SHORT, any_seed, walk_bars
from tests.core.test_evidence import fresh
from tests.core.test_luck import noise
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.indicators.catalogue import CATALOGUE, CUMULATIVE
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.bars import Bars, Span
from wolbrin.core.market.moved import DAYS, begun_later, years_on
from wolbrin.core.market.sessions import NS_A_DAY
from wolbrin.core.market.zones import to_local
from wolbrin.core.proving.dates import DatesGate, what_it_knows
from wolbrin.core.proving.gate import Case, Outcome
from wolbrin.core.rules.conditions import shipped
from wolbrin.core.rules.model import Condition, Filters, NumberOperand, Row, Side, Strategy
from wolbrin.core.rules.operands import CustomOperand
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.rules.templates import templates
from wolbrin.core.search.explorer import Explorer
from wolbrin.core.search.families import FAMILIES, longer_than
from wolbrin.core.search.genotype import Plan
from wolbrin.core.search.ingredients import Pantry, Sources
from wolbrin.core.search.limits import Limits
from wolbrin.core.store.holdout import HoldoutBook
from wolbrin.core.work.proving import prove_job
from wolbrin.core.work.subject import Subject

BARS = walk_bars(9_000, seed=8)
READY = Prepared.of(BARS)


@pytest.fixture
def seed() -> int:
    drawn = any_seed()
    return drawn


def judged(strategy: Strategy, history: Prepared = READY) -> Outcome:
    return DatesGate().judge(Case(strategy, history, Brief(), Span(), 1))


def ruled(text: str) -> Strategy:
    return parse_strategy(f"name = 'x'\n{text}\ntime_exit = 5\n")


def entered(condition: Condition) -> Strategy:
    return Strategy(name="x", long=Side(entry=condition), flat_by_session_end=False)


def test_a_calendar_moved_by_28_years_recurs_by_the_clock() -> None:
    """Weekdays, days of the year and local times are the same, through every change of the clock; sessions move along."""
    moved = years_on(BARS)
    zone = BARS.terms.time_zone
    np.testing.assert_array_equal(to_local(moved.time, zone), to_local(BARS.time, zone) + DAYS * NS_A_DAY)
    assert DAYS % 7 == 0
    for a, b in zip(BARS.trading_date[::97].tolist(), moved.trading_date[::97].tolist()):
        one, other = (dt.date(1970, 1, 1) + dt.timedelta(days=d) for d in (a, b))
        assert (other.year - one.year, other.month, other.day) == (28, one.month, one.day)
    np.testing.assert_array_equal(moved.session, BARS.session)
    assert (moved.sessions.close[moved.session] - moved.end == BARS.sessions.close[BARS.session] - BARS.end).all()
    assert moved.hash != BARS.hash


def test_everything_that_ships_passes() -> None:
    strategies = [*(t.strategy() for t in templates()), *(entered(c.condition()) for c in shipped())]
    fell = {s.long.entry.model_dump_json()[:80]: o.reason for s in strategies if not (o := judged(s)).passed}
    assert not fell


def test_indicators_forget_where_the_history_began_or_are_known_as_sums() -> None:
    """Every indicator of the catalogue at its usual settings, long after a later begin: the same values, but for those that
    add up all bars so far."""
    first = int(np.flatnonzero(np.diff(BARS.session, prepend=-1) != 0)[20])
    whole, later = Columns(BARS), Columns(begun_later(BARS, first))
    for entry in CATALOGUE:
        for out in entry.outputs:
            a, b = (c.indicator(entry.key, {}, out.key, "close")[skip + 4_000:] for c, skip in ((whole, first), (later, 0)))
            with np.errstate(invalid="ignore"):
                alike = (np.isnan(a) & np.isnan(b)) | (np.abs(a - b) <= 1e-6 * np.maximum(np.abs(a), 1.0))
            assert (alike.mean() > 0.99) == (entry.key not in CUMULATIVE), (entry.key, out.key, alike.mean())


def test_ingredients_pass(seed: int) -> None:
    """Rows of Discover's own pool, at any seed: none knows a date, and no more than two in a hundred differ by the begin
    (such as where both sides of a comparison are equal but for rounding)."""
    history = Prepared.of(noise(seed, 220))
    limits = Limits(pool=250).on(history.bars.terms)
    pantry = Pantry(FAMILIES, Sources(15, (), (), (), longer_than(15)))
    explorer = Explorer(history, Brief(), Plan(limits), pantry, seed % 997)
    fell = []
    for code in explorer.prepare().codes.tolist():
        node = explorer.node(code)
        assert isinstance(node, Row | Condition)
        case = Case(entered(node if isinstance(node, Condition) else Condition(rows=(node,))), history, Brief(), Span(), 1)
        found = what_it_knows(case, 2)
        assert found.by_date == 0
        if found.by_begin > DatesGate().options.most_different:
            fell.append((found.by_begin, found.begun))
    assert len(fell) <= 0.02 * len(explorer.prepare().codes) + 2, fell


@pytest.mark.parametrize("text", [
    "long_entry = running_sum(close / close) > 4000 and running_sum(close / close) < 4200",
    "long_entry = running_sum(close / close) > 6000 and crosses_above(close, sma(close, 10))",
    "long_entry = obv() > 20000\nshort_entry = obv() < -20000",
])
def test_the_number_of_a_bar_is_where_the_history_began(text: str) -> None:
    told = judged(ruled(text))
    assert told.verdict == "falls", told.reason
    assert "where its history began" in told.reason
    assert "unning sum" in told.reason or "n-balance" in told.reason


def test_dates_in_own_indicators_are_told_and_named() -> None:
    """As the program runs them: functions of the bars, whose times they may read. One knows three days, one leap years
    wrongly, one only weekdays and hours."""
    lucky = BARS.time[[2_000, 4_000, 6_000]] // NS_A_DAY

    def own(name: str, digest: str, values: object, bars: Bars) -> np.ndarray:
        day = bars.time // NS_A_DAY
        if name == "days":
            return np.isin(day, lucky).astype(float)
        if name == "years":
            return (bars.time.astype("datetime64[ns]").astype("datetime64[Y]").astype(int) % 5).astype(float)
        return ((day + 3) % 7 + bars.time % NS_A_DAY / NS_A_DAY).astype(float)

    history = Prepared.of(BARS, own=own)
    for name, passes in (("days", False), ("years", False), ("clock", True)):
        row = Row(left=CustomOperand(name=name, digest="0" * 16, turns="unsigned"), compare="above",
                  right=NumberOperand(value=0.5))
        told = judged(entered(Condition(rows=(row,))), history)
        assert told.passed == passes, told.reason
        if not passes:
            assert "Knows dates" in told.reason
            assert name in told.reason


def test_what_knows_where_it_began_cannot_be_opened_on_any_line(tmp_path: Path) -> None:
    project = fresh(tmp_path / "p")
    strategy = ruled("long_entry = running_sum(close / close) > 1500 and running_sum(close / close) < 1900")
    seen = []
    engine = Engine(1)
    job = prove_job(project, [Subject(strategy, "AAA", 15, 5)], open_holdout=True, gates=[g for g in SHORT.gates()
                    if g.opens_holdout], notify=seen.append)
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    assert "depend on more than prices and the clock" in seen[0].fault
    assert HoldoutBook(project).count() == 0
    engine.close()
    project.close()


def test_a_verdict_is_for_the_numbers_in_force_and_filters_count() -> None:
    """A filter by weekday and hour is no date; an entry that a filter forbids says nothing."""
    filters = Filters.model_validate({"weekdays": ["Mon", "Tue"], "windows": [{"first": "10:00", "last": "12:00"}]})
    told = judged(ruled("long_entry = crosses_above(close, sma(close, 10))").model_copy(update={"filters": filters}))
    assert told.passed, told.reason
    assert told.figures["by_date"] == 0.0
