"""The strategy model: files, mirror, words, numbers, decisions without look-ahead."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from tests.build import cross, draw_strategy, entry, ind, num, price, row, terms, walk_bars
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.rules.decide import LONG_IN, SHORT_IN, decide
from wolbrin.core.rules.evaluate import condition_flags, row_flags
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.mirror import effective_short, mirror_row
from wolbrin.core.rules.model import PLAIN, Condition, Distance, Side, Strategy, load_strategy
from wolbrin.core.rules.numbers import tunables, with_values
from wolbrin.core.rules.words import describe, row_words

BARS = walk_bars(1200, seed=2)


def random_strategy(seed: int, sides: str = "mirrored") -> Strategy:
    return draw_strategy(np.random.default_rng(seed), f"Drawn {seed}", sides)


@given(st.integers(0, 10**6))
@settings(max_examples=60, deadline=None)
def test_strategy_files_round_trip(tmp_path_factory: pytest.TempPathFactory, seed: int) -> None:
    made = random_strategy(seed)
    path = tmp_path_factory.mktemp("s") / "strategy.json"
    path.write_text(made.model_dump_json(indent=1))
    assert load_strategy(path) == made
    assert describe(made).startswith(("Buy", "Sell"))


@pytest.mark.parametrize(("change", "word"), [
    ({"version": 5}, "newer"), ({"long": {"entry": {"rows": [{"left": {"kind": "field", "field": "vwap"}}]}}}, "vwap"),
    ({"long": {"entry": {"rows": [{"left": {"kind": "indicator", "indicator": "hocus"}}]}}}, "hocus"),
    ({"long": {"entry": {"rows": [{"left": {"kind": "indicator", "indicator": "ema", "params": {"length": 2.5}}}]}}},
     "whole"),
    ({"long": {"entry": {"rows": [{"left": {"kind": "indicator", "indicator": "ema", "params": {"len": 2}}}]}}}, "len"),
    ({"stop": {"unit": "stop"}}, "itself"), ({"target": {"unit": "stop"}, "stop": None}, "needs a stop"),
    ({"quantity": -1}, "quantity"), ({"extra": 1}, "extra"), ({"name": ""}, "name")])
def test_bad_strategy_files_name_the_field(tmp_path: Path, change: dict[str, object], word: str) -> None:
    path = tmp_path / "s.json"
    path.write_text(json.dumps(cross().model_dump(mode="json") | change))
    with pytest.raises(UserError, match=word) as caught:
        load_strategy(path)
    assert "s.json" in str(caught.value)


@given(st.recursive(st.none() | st.booleans() | st.floats() | st.text(max_size=8),
                    lambda x: st.lists(x, max_size=4) | st.dictionaries(st.text(max_size=8), x, max_size=4), max_leaves=20))
@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_any_json_is_read_or_refused_in_a_sentence(tmp_path: Path, data: object) -> None:
    path = tmp_path / "any.json"
    path.write_text(json.dumps(data))
    try:
        load_strategy(path)
    except UserError as err:
        assert "any.json" in str(err)


def test_deeply_nested_json_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "deep.json"
    path.write_text("[" * 100_000 + "]" * 100_000)
    with pytest.raises(UserError, match=r"nested|JSON"):
        load_strategy(path)


@pytest.mark.parametrize("compare", PLAIN)
def test_comparisons_equal_their_definition(compare: str) -> None:
    columns = Columns(BARS)
    one = row(price(), compare, ind("sma", length=10))
    x, y = BARS.close, columns.indicator("sma", {"length": 10}, "value", "close")
    before_x, before_y = np.roll(x, 1), np.roll(y, 1)
    before_x[0] = np.nan
    want = {"above": x > y, "below": x < y, "at or above": x >= y, "at or below": x <= y,
            "crosses above": (x > y) & (before_x <= before_y), "crosses below": (x < y) & (before_x >= before_y),
            "rises": x > before_x, "falls": x < before_x}[compare]
    np.testing.assert_array_equal(row_flags(columns, one).astype(bool), want)


@pytest.mark.parametrize("compare", ["crosses above", "crosses below"])
@pytest.mark.parametrize("swapped", [False, True])
def test_crossing_a_number_from_either_side(compare: str, swapped: bool) -> None:
    """A line and a number, in both orders; touching the level first counts as not beyond it."""
    columns, level = Columns(BARS), float(np.median(BARS.close))
    one = row(num(level), compare, price()) if swapped else row(price(), compare, num(level))
    x, y = (np.full(len(BARS), level), BARS.close) if swapped else (BARS.close, np.full(len(BARS), level))
    if compare == "crosses below":
        x, y = y, x
    want = np.zeros(len(BARS), bool)
    want[1:] = (x[1:] > y[1:]) & (x[:-1] <= y[:-1])
    np.testing.assert_array_equal(row_flags(columns, one).astype(bool), want)
    assert want.sum() > 3
    assert not row_flags(columns, row(num(1), compare, num(2))).any()


def test_all_any_off_and_empty() -> None:
    columns = Columns(BARS)
    a, b = row(price(), "above", ind("sma", length=5)), row(price(), "above", ind("sma", length=60))
    fa, fb = (row_flags(columns, r).astype(bool) for r in (a, b))
    flags = lambda **c: condition_flags(columns, Condition(**c)).astype(bool)  # noqa: E731
    np.testing.assert_array_equal(flags(rows=(a, b)), fa & fb)
    np.testing.assert_array_equal(flags(rows=(a, b), match="any"), fa | fb)
    off = b.model_copy(update={"on": False})
    np.testing.assert_array_equal(flags(rows=(a, off)), fa)
    assert not flags().any()
    assert not flags(rows=(off,)).any()


def test_shift_and_factor() -> None:
    columns = Columns(BARS)
    flags = row_flags(columns, row(price(), "above", price(ago=3, times=1.001))).astype(bool)
    np.testing.assert_array_equal(flags[3:], BARS.close[3:] > BARS.close[:-3] * 1.001)
    assert not flags[:3].any()


def mirrored_bars(bars: Bars) -> Bars:
    """The same history upside down, around twice its highest price to stay positive."""
    top = 2 * int(bars.h.max())
    flip = lambda ticks: (top - ticks.astype(np.int64)) / 100  # noqa: E731
    return make_bars(terms(), bars.interval, bars.time, (flip(bars.o), flip(bars.l), flip(bars.h), flip(bars.c)), bars.volume)


def finely(bars: Bars, by: int = 1_000) -> Bars:
    """The same on a grid so fine that no two prices, and no two averages of them, are equal by chance."""
    rng = np.random.default_rng(5)
    o, h, low, c = (x.astype(np.int64) * by + rng.integers(0, by, len(bars)) for x in (bars.o, bars.h, bars.l, bars.c))
    top, bottom = np.maximum.reduce([o, h, c]), np.minimum.reduce([o, low, c])
    return make_bars(terms(), bars.interval, bars.time, (o / 100, top / 100, bottom / 100, c / 100), bars.volume)


FINE = finely(BARS)


@given(st.integers(0, 10**6))
@settings(max_examples=80, deadline=None)
def test_a_mirrored_side_trades_the_mirrored_history(seed: int) -> None:
    """Turning prices upside down must exchange long and short, trade by trade."""
    what = random_strategy(seed).model_copy(update={"long": random_strategy(seed, sides="long").long})
    # The Hilbert transform begins at a price of zero, so that its averages know the level; a gap is the same all session
    # long, so that its rank is all ties; a regression of two bars is the close itself.
    text = what.long.model_dump_json()
    assume(not any(word in text for word in ('"mama"', '"trendline"', '"gap"', '"regression"')))
    up = backtest(FINE, what, Brief())
    down = backtest(mirrored_bars(FINE), what, Brief())
    sides = (k.T_ENTRY_BAR, k.T_EXIT_BAR, k.T_REASON, k.T_AMBIGUOUS, k.T_HELD)
    if len(up) != len(down) or not np.array_equal(up.trades_i[:, sides], down.trades_i[:, sides]):
        # Averages of turned prices differ in the last bit, so that what is level may fall either way: nearly all must agree.
        common = set(map(tuple, up.trades_i[:, sides].tolist())) & set(map(tuple, down.trades_i[:, sides].tolist()))
        assert len(common) >= 0.97 * max(len(up), len(down)) - 2
        return
    np.testing.assert_array_equal(up.trades_i[:, k.T_SIDE], -down.trades_i[:, k.T_SIDE])


def test_mirror_rules() -> None:
    """Bands swap, oscillators reflect, unsigned rows stay, a body against ATR changes the sign of the factor."""
    cases = [
        (row(price("high"), "crosses above", ind("bands", "upper")), "low crosses below Band lower(20, 2)"),
        (row(ind("rsi"), "crosses below", num(25)), "RSI(14) crosses above 75"),
        (row(ind("cci"), "above", num(100)), "CCI(20) is below \u2212100"),
        (row(ind("time_of_day"), "at or below", num(1300)), "Time of day is at or below 13:00"),
        (row(ind("directional", "plus"), "above", ind("directional", "minus")), "\u2212DI(14) is above +DI(14)"),
        (row(ind("body"), "above", ind("atr", times=1.5)), "Bar body is below \u22121.5 \u00d7 ATR(14)"),
        (row(price(), "above", ind("highest")), "close is below Lowest(20)"),
        (row(ind("place"), "above", num(0.8)), "Close in range is below 0.2"),
        (row(ind("ema"), "rises"), "EMA(20) falls")]
    for one, words in cases:
        assert row_words(mirror_row(one)) == words
        assert row_words(mirror_row(mirror_row(one))) == row_words(one)


def test_description_says_what_is_traded() -> None:
    what = cross(stop=Distance(unit="atr", amount=1.5, length=20), target=Distance(unit="stop", amount=2.0))
    assert describe(what) == ("Buy at the next open when EMA(5) crosses above EMA(15). Sell short mirrored. "
                              "Stop 1.5 ATR(20), target 2 \u00d7 stop, flat by session end.")
    assert "No entry" in describe(Strategy())
    assert effective_short(cross(short=Side(mode="off"))).entry.rows == ()


def test_hash_ignores_name_and_notes_only() -> None:
    assert strategy_hash(cross(name="A", notes="x")) == strategy_hash(cross(name="B"))
    assert strategy_hash(cross()) != strategy_hash(cross(quantity=2))


@given(st.integers(0, 10**6))
@settings(max_examples=60, deadline=None)
def test_every_number_can_be_varied(seed: int) -> None:
    made = random_strategy(seed)
    for t in tunables(made):
        assert t.low <= t.value <= t.high
        assert t.step > 0
        moved = with_values(made, {t.key: t.high})
        assert next(x.value for x in tunables(moved) if x.key == t.key) == t.high
        assert with_values(moved, {t.key: t.value}).model_dump() != moved.model_dump() or t.high == t.value


@given(st.integers(0, 10**6), st.integers(300, 1100))
@settings(max_examples=60, deadline=None)
def test_decisions_never_look_ahead(seed: int, cut: int) -> None:
    made = random_strategy(seed)
    whole, part = decide(Columns(BARS), made), decide(Columns(BARS.take(cut)), made)
    np.testing.assert_array_equal(part.signals, whole.signals[:cut])
    assert part.warm == min(whole.warm, cut)


def test_signals_and_warm_up() -> None:
    made = decide(Columns(BARS), Strategy(long=entry(row(price(), "above", ind("sma", length=50))),
                                          stop=Distance(unit="atr", length=80)))
    assert made.warm == 79
    assert set(np.unique(made.signals & 15)) <= {0, LONG_IN, SHORT_IN}
