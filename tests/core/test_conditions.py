"""The shipped conditions, the linter, differences in words, rows on the state of the position, mirrored sides by symmetry."""

from __future__ import annotations

import json

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings

from tests.build import terms, walk_bars
from tests.core.ideas import conditions
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.costs import Costs
from wolbrin.core.rules.conditions import read_conditions, search, shipped, tags_of, write_conditions
from wolbrin.core.rules.difference import differences
from wolbrin.core.rules.evaluate import condition_flags
from wolbrin.core.rules.formula import parse_condition
from wolbrin.core.rules.lint import lint, lint_on
from wolbrin.core.rules.mirror import mirror_condition
from wolbrin.core.rules.model import Condition, PositionOperand, Strategy
from wolbrin.core.rules.printing import condition_text
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.rules.templates import templates
from wolbrin.core.rules.words import describe


def fat_tailed(count: int, seed: int) -> Bars:
    """A history with quiet and wild bars, on a grid of quarters so that sums and mirrors are exact."""
    rng = np.random.default_rng(seed)
    plain = walk_bars(count, seed=seed, minutes=15)
    step = np.clip(rng.standard_t(3, count) * 8, -150, 150).round()
    close = 40_000 + np.cumsum(step)
    jump = np.where(rng.random(count) < 0.05, rng.integers(-60, 61, count), 0)
    open_ = np.concatenate(([40_000.0], close[:-1])) + rng.integers(-2, 3, count) + jump
    reach = np.abs(rng.standard_t(3, (2, count)) * 4).round().clip(0, 100)
    high, low = np.maximum(open_, close) + reach[0], np.minimum(open_, close) - reach[1]
    prices = tuple(x / 4 for x in (open_, high, low, close))
    return make_bars(terms(tick_size=0.25), 15, plain.time, prices, plain.volume)


LONG = fat_tailed(12_000, 9)
BRIEF = Brief(costs=Costs(spread_ticks=1, slippage_ticks=1, per_contract=2))


@pytest.fixture(scope="module")
def columns() -> Columns:
    return Columns(LONG)


@pytest.mark.parametrize("one", shipped(), ids=lambda c: c.name)
def test_every_shipped_condition_fires_and_never_looks_ahead(columns: Columns, one) -> None:
    made = one.condition()
    text = condition_text(made)
    assert parse_condition(text) == made
    if any(isinstance(r.left, PositionOperand) for r in made.leaves):
        return  # known to the simulator only
    cut = 3100
    for condition in (made, mirror_condition(made)):
        flags = condition_flags(columns, condition)
        assert flags.any(), "it never fires"
        part = condition_flags(Columns(LONG.take(cut)), condition)
        np.testing.assert_array_equal(part, flags[:cut])


def test_the_library_is_large_searchable_and_goes_through_a_file() -> None:
    assert len(shipped()) >= 150
    assert {"trend", "reversal", "volatility", "breakout", "time", "session structure", "candlestick",
            "imbalance"} <= set(tags_of(shipped()))
    assert all("rsi" in c.formula for c in search(shipped(), "rsi", "reversal")[:1])
    assert read_conditions(json.loads(write_conditions(shipped())), "here") == shipped()
    for data, words in (({"version": 7}, "version 7"), ({"conditions": [{"name": "x", "formula": "clos > 1"}]}, "close"),
                        ([], "named values")):
        with pytest.raises(UserError, match=words):
            read_conditions(data, "file")


def upside_down(bars: Bars) -> Bars:
    """The same history with up and down exchanged, around twice its highest price."""
    top = 2 * float(bars.high.max())
    prices = (top - bars.open, top - bars.low, top - bars.high, top - bars.close)
    return make_bars(bars.terms, bars.interval, bars.time, prices, bars.volume)


SYMMETRIC = ("rises(ema(20), 3) and not (rsi(14) > 70)", "crosses_above(cci(20), -65) or new_low(close, 30)",
             "ranks_below(sma(rsi(5), 3), 20, 40)", "low < bands(20, 2).lower and close > low + 0.3 * range()",
             "inside_band(close, keltner(20, 1)) and momentum(5) > 0.5 * atr(14)", "-5 <= body() / atr(14) <= -0.4",
             "at_least(2, close > ago(open, 3), place() > 0.75, imbalance().up > 0)",
             "close - ago(close, 4) < -1.5 * atr(14)",
             "within(swings(3).break_ > 0, 3) and 100 - rsi(14) > 45", "atr(14) + close > highest(20)",
             "rsi(5) - 50 > 8 and 90 - place() * 100 > 20")


@pytest.mark.parametrize("formula", SYMMETRIC)
def test_mirrored_prices_give_the_mirrored_ledger(formula: str) -> None:
    """Shorts of the mirrored rules on the history upside down are the longs on the history as it is."""
    text = f"long_entry = {formula}\nlong_exit = crosses_below(close, sma(10))\nstop = 20 * atr(14)\nname = 'x'\n"
    long_only = Strategy.model_validate(parse_strategy(text).model_dump() | {"short": {"mode": "off"}})
    both = parse_strategy(text)
    short_only = Strategy.model_validate(both.model_dump() | {"long": {"mode": "off"}, "short": {
        "mode": "own", "entry": mirror_condition(both.long.entry).model_dump(),
        "exit": mirror_condition(both.long.exit).model_dump()}})
    bars = LONG.take(3000)
    a, b = backtest(bars, long_only, BRIEF), backtest(upside_down(bars), short_only, BRIEF)
    assert len(a) > 3
    assert describe(short_only) != describe(long_only)
    np.testing.assert_array_equal(a.trades_i[:, [k.T_ENTRY_BAR, k.T_EXIT_BAR, k.T_REASON]],
                                  b.trades_i[:, [k.T_ENTRY_BAR, k.T_EXIT_BAR, k.T_REASON]])
    np.testing.assert_allclose(a.profits, b.profits, rtol=0, atol=1e-6)
    np.testing.assert_array_equal(a.trades_i[:, k.T_SIDE], -b.trades_i[:, k.T_SIDE])


@settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
@given(conditions)
def test_every_mirror_is_a_condition_that_can_be_written(condition: Condition) -> None:
    mirrored = Condition.model_validate(mirror_condition(condition).model_dump())
    assert Condition.model_validate_json(mirrored.model_dump_json()) == mirrored


def test_rows_on_the_position_are_read_at_each_close() -> None:
    """Bars held and open profit in R, worked out from the ledger's own entry; entries today from the fills."""
    bars = LONG.take(3000)
    text = ("name = 'x'\nlong_entry = rises(close) and entries_today < 2\nshort = 'off'\nstop = 3 * atr(14)\n"
            "long_exit = bars_held >= 3 and close < open or open_profit_r > 0.8\n")
    run = backtest(Prepared.of(bars), parse_strategy(text), BRIEF)
    assert len(run) > 50
    t, reasons = run.trades_i, set()
    for row in t:
        entry, stop, first, last = row[k.T_ENTRY], row[k.T_STOP], row[k.T_ENTRY_BAR], row[k.T_EXIT_BAR]
        risk = abs(entry - stop)
        leave = next((i for i in range(first, len(bars)) if (i - first + 1 >= 3 and bars.c[i] < bars.o[i])
                      or (bars.c[i] - entry) / risk > 0.8), None)
        reason = k.REASONS[row[k.T_REASON]]
        reasons.add(reason)
        if reason == "condition":
            assert last == leave + 1
        elif leave is not None:
            assert last <= leave + 1
    assert "condition" in reasons
    dates = bars.trading_date[t[:, k.T_ENTRY_BAR]]
    assert np.unique(dates, return_counts=True)[1].max() == 2
    free = backtest(bars, parse_strategy(text.replace(" and entries_today < 2", "")), BRIEF)
    assert np.unique(bars.trading_date[free.trades_i[:, k.T_ENTRY_BAR]], return_counts=True)[1].max() > 2
    assert len(backtest(bars, parse_strategy(text.replace("and entries_today < 2", "and not (bars_held == 0)")), BRIEF)) == 0
    cut = backtest(bars.take(2000), parse_strategy(text), BRIEF)
    np.testing.assert_array_equal(cut.trades_i[:-1], t[:len(cut) - 1])


def test_the_linter_says_what_is_wrong(columns: Columns) -> None:
    def words(text: str) -> str:
        return " | ".join(f"{f.where}: {f.words}" for f in lint_on(columns, parse_strategy("name = 'x'\n" + text)))

    assert "no entry" in words("stop = ticks(5)")
    assert "cannot both be true" in words("long_entry = close > sma(20) and sma(20) > close")
    assert "no stop" in words("long_entry = close > open")
    assert "nothing ever closes" in words("long_entry = close > open\nshort = 'off'\nflat_by_session_end = False")
    assert "is never true" in words("long_entry = close > open and rsi(14) > 100")
    assert "never true together" in words("long_entry = bars_in_session() == 1 and bars_in_session() > 4\nstop = ticks(9)")
    assert "every bar" in words("long_entry = high >= low")
    assert "longer than the data" in words("long_entry = close > sma(200)\nlong_exit = series(sma(900), interval=1440) > 0")
    assert '"spare" is used nowhere' in words("spare = parameter(3)\nlong_entry = close > open")
    assert not [f for t in templates() for f in lint(t.strategy())]


def test_differences_are_told_in_words() -> None:
    a = parse_strategy("name = 'a'\nlong_entry = close > sma(20) and rises(close)\nstop = ticks(20)\n")
    b = parse_strategy("name = 'b'\nlong_entry = close > sma(30) and rises(close) and place() > 0.5\ntarget = 2 * stop\n"
                       "stop = ticks(25)\nweekdays = ['Mon']\n")
    told = differences(a, b)
    assert 'long entry: "close is above SMA(20)" becomes "close is above SMA(30)"' in told
    assert 'long entry: with "Close in range is above 0.5"' in told
    assert "stop: 25 ticks, not 20 ticks" in told
    assert "target: 2 × stop, where there was none" in told
    assert any(t.startswith("filters: on Mon") for t in told)
    assert not differences(a, a.model_copy(update={"name": "other"}))


def test_an_unknown_schedule_is_no_obstacle_to_reading_templates() -> None:
    for one in templates():
        made = one.strategy()
        assert made.name == one.name
        run = backtest(walk_bars(4000, seed=3, minutes=5, **{"code": terms().code}), made, BRIEF, detail=False)
        assert run.fault == ""
