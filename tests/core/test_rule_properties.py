"""Whole random strategies of the full rule language: they run, money adds up, no look-ahead; mirror and words by table."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings

from tests.build import walk_bars
from tests.core.ideas import ideas
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.market.costs import Costs
from wolbrin.core.rules.decide import LONG_IN, decide
from wolbrin.core.rules.difference import differences
from wolbrin.core.rules.evaluate import operand_column
from wolbrin.core.rules.explain import why
from wolbrin.core.rules.formula import parse_condition, parse_operand
from wolbrin.core.rules.language import Names
from wolbrin.core.rules.lint import lint_on
from wolbrin.core.rules.mirror import mirror_condition
from wolbrin.core.rules.model import Condition, Parameter, PositionOperand, Row, Strategy, settled
from wolbrin.core.rules.named import calculate, formula_of, named, names_in
from wolbrin.core.rules.numbers import tunables, with_values
from wolbrin.core.rules.printing import condition_text
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.rules.words import condition_words, describe

BARS = walk_bars(260, seed=31)
COSTS = Brief(costs=Costs(spread_ticks=1, slippage_ticks=1, per_contract=1.5), capital=1e6)


@settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck))
@given(ideas)
def test_any_strategy_runs_adds_up_and_never_looks_ahead(strategy: Strategy) -> None:
    try:
        run = backtest(BARS, strategy, COSTS)
    except UserError as err:
        assert err.what  # such as a longer interval that these bars do not divide
        return
    if run.fault:
        return
    f = run.trades_f
    np.testing.assert_allclose(f[:, k.F_NET], f[:, k.F_GROSS] - f[:, k.F_SPREAD] - f[:, k.F_SLIPPAGE] - f[:, k.F_COMMISSION]
                               - f[:, k.F_FINANCING], atol=1e-6)
    if len(run.net) and not run.counts["ruined"]:
        np.testing.assert_allclose(run.net[-1] - COSTS.capital, run.profits.sum(), atol=1e-4)
    made = decide(Columns(BARS), strategy)
    cut = decide(Columns(BARS.take(150)), strategy)
    # Whether a session ends with the last bar is known from the schedule, so the signals before are the same.
    np.testing.assert_array_equal(cut.signals[:149] & 15, made.signals[:149] & 15)
    part = backtest(BARS.take(150), strategy, COSTS)
    closed = part.trades_i[:, k.T_EXIT_BAR] < 149
    np.testing.assert_array_equal(part.trades_i[closed], run.trades_i[:len(part)][closed])
    assert describe(strategy)
    assert not differences(strategy, strategy)
    assert all(x.words for x in lint_on(Columns(BARS), strategy))
    for tunable in tunables(strategy)[:6]:
        assert describe(with_values(strategy, {tunable.key: tunable.value})) == describe(strategy)


@pytest.mark.parametrize(("formula", "mirrored"), [
    ("close > bands(20, 2).upper", "close < bands(20, 2).lower"),
    ("crosses_above(low, ago(highest(20), 2))", "crosses_below(high, ago(lowest(20), 2))"),
    ("rsi(14) < 30", "rsi(14) > 70"), ("30 <= rsi(14) <= 40", "60 <= rsi(14) <= 70"),
    ("rsi(14) - 50 > 5", "rsi(14) - 50 < -5"), ("sma(rsi(5), 3) < 20", "sma(rsi(5), 3) > 80"),
    ("new_high(close, 20)", "new_low(close, 20)"), ("ranks_above(close, 90, 50)", "ranks_below(close, 10, 50)"),
    ("ranks_above(atr(14), 90, 50)", "ranks_above(atr(14), 90, 50)"), ("atr(5) > 1.3 * atr(50)", "atr(5) > 1.3 * atr(50)"),
    ("rises(sma(atr(14), 20))", "rises(sma(atr(14), 20))"), ("close > open + atr(14)", "close < open - atr(14)"),
    ("close - open > 2 * atr(14)", "close - open < -2 * atr(14)"), ("body() / atr(14) > 1", "body() / atr(14) < -1"),
    ("close / sma(50) > 1.02", "close / sma(50) < 0.98"), ("inside_band(close, keltner(20, 2))",) * 2,
    ("800 <= time_of_day() <= 1200",) * 2, ("weekday() == 1",) * 2, ("bars_held > 5",) * 2, ("close > 100", "close < 100"),
    ("candle_hammer() > 0", "candle_shootingstar() < 0"), ("candle_doji() > 0",) * 2,
    ("imbalance().up > 0.5 * atr(14)", "imbalance().down > 0.5 * atr(14)"), ("supertrend().trend > 0",
                                                                           "supertrend().trend < 0"),
    ("at_least(2, rises(close), gap() > 0, volume() > 5)", "at_least(2, falls(close), gap() < 0, volume() > 5)"),
    ("not (held(macd().line > 0, 3))", "not (held(macd().line < 0, 3))")])
def test_mirrored_rules_by_table(formula: str, mirrored: str) -> None:
    got = condition_text(Condition.model_validate(mirror_condition(parse_condition(formula)).model_dump()))
    assert got.replace("-0 ", "0 ").removesuffix("-0") == condition_text(parse_condition(mirrored)).removesuffix("0") or (
        got == condition_text(parse_condition(mirrored)))


@pytest.mark.parametrize(("formula", "words"), [
    ("held(ema(20) > ema(80), 6) and low < bands(20, 2).lower",
     "EMA(20) is above EMA(80) for 6 bars and low is below Band lower(20, 2)"),
    ("close > open and (rises(close) or rsi(14) > 50)", "close is above open and (close rises or RSI(14) is above 50)"),
    ("at_least(2, close > open, rises(close, 3), gap() > 0)",
     "at least 2 of (close is above open, close rises for 3 bars, Gap is above 0)"),
    ("not (close > open)", "not (close is above open)"),
    ("within(crosses_above(close, vwap()), 4)", "close crosses above Session VWAP within 4 bars"),
    ("ago(close < open, 2)", "close is below open, 2 bars ago"),
    ("new_high(close, 30)", "close makes a new high of 30 bars"),
    ("ranks_below(rsi(14), 10, 100)", "RSI(14) ranks below 10% of 100 bars"),
    ("inside_band(close, bands(20, 2))", "close is inside Bands(20, 2)"),
    ("close > open + 1.5 * atr(14)", "close is above open + 1.5 × ATR(14)"),
    ("sma(rsi(14), 5) > 50", "SMA(5) of RSI(14) is above 50"),
    ("close > series(sma(12), interval=60)", "close is above 60 min SMA(12)"),
    ("close > series(close, market=\"BBY\")", "close is above BBY close"),
    ("off(close > open) and entries_today < 2", "entries today is below 2"),
    ("close > ema(fast)", "close is above EMA(fast = 4)")])
def test_conditions_in_words(formula: str, words: str) -> None:
    assert condition_words(parse_condition(formula, Names({"fast": 4.0}))) == words


def test_named_numbers_are_arithmetic_and_nothing_else() -> None:
    known = {"a": 3.0, "b": 0.5}
    for text, value in (("a", 3.0), ("2 * a + b", 6.5), ("-(a - 1) / b", -4.0), ("round(a / 2)", 2.0), ("round(-0.5)", 0.0)):
        assert calculate(text, known) == value
    for text, words in (("c", 'no parameter "c"'), ("a / (a - 3)", "division by zero"), ("a ** 2", "only"), ("a.b", "only"),
                        ("open('x')", "only"), ("a if b else 1", "only"), ("(", "arithmetic"), ("1e308 * 10 * a", "finite"),
                        ("a" * 300, "longer"), ("True", "only")):
        with pytest.raises(ValueError, match=words):
            calculate(text, known)
    assert names_in("round(a * b) + c") == {"a", "b", "c"}
    assert formula_of(named(3, "a")) == "a"
    assert formula_of(3) is None
    assert (named(3, "a") + 1, float(named(2.5, "b"))) == (4, 2.5)
    chain = settled([Parameter(name="c", formula="2 * b"), Parameter(name="b", formula="a + 1"),
                     Parameter(name="a", value=4)])
    assert [p.value for p in chain] == [10.0, 5.0, 4.0]
    with pytest.raises(ValueError, match=r'"b".*no parameter "gone"'):
        settled([Parameter(name="b", formula="gone + 1")])
    with pytest.raises(ValueError, match="must lie between"):
        parse_strategy("n = parameter(3)\nlong_entry = close > ema(n)\n").model_copy().model_validate(
            parse_strategy("n = parameter(3)\nlong_entry = close > ema(n)\n").model_dump()
            | {"parameters": [{"name": "n", "value": 99_999}]})


def test_a_chain_is_the_indicator_of_the_series_it_names() -> None:
    """The average of an oscillator, of arithmetic and of a longer interval, against NumPy on the inner series."""
    columns = Columns(BARS)
    for inner in ("rsi(9)", "close - open", "series(ema(4), interval=60)", "ago(high, 3)", "2 * momentum(5)"):
        source = operand_column(columns, parse_operand(inner))
        want = np.full(len(BARS), np.nan)
        for i in range(len(BARS)):
            part = source[max(0, i - 4):i + 1]
            if len(part) == 5 and np.isfinite(part).all():
                want[i] = part.mean()
        np.testing.assert_allclose(operand_column(columns, parse_operand(f"sma({inner}, 5)")), want, atol=1e-9)
    never = operand_column(columns, parse_operand("ema(close / (close - close), 5)"))
    assert np.isnan(never).all()


def test_why_reads_every_row_of_nested_groups() -> None:
    strategy = parse_strategy("name = 'x'\nlong_entry = close > open and (rsi(5) > 60 or rises(close, 2))\n"
                              "stop = ticks(30)\nshort = 'off'\n")
    columns = Columns(BARS)
    bar = int(np.flatnonzero(decide(columns, strategy).signals & LONG_IN)[3])
    told = why(columns, strategy, 1, bar)
    assert [r.words for r in told] == ["close is above open", "RSI(5) is above 60", "close rises for 2 bars"]
    assert told[0].held
    assert told[0].left == BARS.close[bar]
    assert told[1].held or told[2].held
    assert told[1].held == (told[1].left > 60)


def test_what_rows_refuse() -> None:
    for data, words in (({"compare": "between"}, "upper bound"), ({"compare": "inside"}, "upper and a lower line"),
                        ({"right": {"kind": "position"}}, "stands on the left"),
                        ({"left": {"kind": "position"}, "compare": "rises"}, "compares with a number"),
                        ({"left": {"kind": "position"}, "back": 2}, "at this bar only")):
        with pytest.raises(ValueError, match=words):
            Row.model_validate(data)
    held = Row(left=PositionOperand())
    with pytest.raises(ValueError, match="cannot look back"):
        Condition(rows=(held,), when="held", for_bars=3)
    deep = Condition(rows=(Row(),))
    for _ in range(7):
        deep = Condition(rows=(deep,))
    with pytest.raises(ValueError, match="more than 8 deep"):
        Condition(rows=(deep,))
    with pytest.raises(UserError, match="needs a stop"):
        parse_strategy("long_exit = open_profit_r > 1\nlong_entry = close > open")
    many = " and ".join(f"bars_held > {i}" for i in range(9))
    with pytest.raises(UserError, match="at most 6"):
        parse_strategy(f"long_exit = {many}\nlong_entry = close > open")
