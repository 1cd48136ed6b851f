"""Indicators of market structure worked by hand, a second opinion on TA-Lib's from pandas, and series read from longer
intervals and other markets."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import instants, num, price, row, terms, walk_bars
from wolbrin.core.errors import UserError
from wolbrin.core.indicators import structure
from wolbrin.core.indicators.catalogue import CATALOGUE
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.intervals import to_interval
from wolbrin.core.rules.decide import decide
from wolbrin.core.rules.evaluate import operand_column
from wolbrin.core.rules.mirror import mirror_row
from wolbrin.core.rules.model import Condition, FieldOperand, IndicatorOperand, Side, Strategy

BARS = walk_bars(900, seed=12)
NAN = np.nan


def a(*values: float) -> np.ndarray:
    return np.array(values, float)


def column(key: str, output: str = "value", bars: Bars = BARS, **params: float) -> np.ndarray:
    return operand_column(Columns(bars), IndicatorOperand(indicator=key, output=output, params=params))


def test_catalogue_holds_what_practitioners_ask_for() -> None:
    assert sum(i.group == "candlestick" for i in CATALOGUE) == 61
    assert len(CATALOGUE) > 200
    assert len({i.key for i in CATALOGUE}) == len(CATALOGUE)


def test_the_page_of_indicators_is_the_catalogues() -> None:
    """docs/indicators.md is written by tools/indicator_page.py; here only that each entry stands there as it is."""
    text = (Path(__file__).parents[2] / "docs/indicators.md").read_text(encoding="utf-8")
    lines = {line.split("`")[1]: line for line in text.splitlines() if line.startswith("| `")}
    assert set(lines) == {i.key for i in CATALOGUE}
    for i in CATALOGUE:
        assert i.formula.replace("|", "\\|") in lines[i.key]
        assert i.reference in lines[i.key]
        if i.warm_up is not None:
            assert f"| {i.warm_up(i.defaults())} |" in lines[i.key]


def test_imbalance() -> None:
    up, down = structure.imbalance(a(10, 13, 15, 14), a(9, 10, 12, 11))
    np.testing.assert_array_equal(up, a(NAN, NAN, 2, 0))  # low 12 less high 10
    np.testing.assert_array_equal(down, a(NAN, NAN, 0, 0))
    assert structure.imbalance(a(15, 14, 10), a(14, 11, 9))[1][2] == 4.0


def test_swings_are_known_only_after_the_bars_that_confirm_them() -> None:
    high = a(1, 3, 2, 2, 4, 3, 3, 5)
    low = a(0, 2, 1, 1, 3, 2, 0.5, 4)
    top, bottom, broke = structure.swings(high, low, a(1, 3, 1, 2, 4, 2, 1, 5), 1)
    np.testing.assert_array_equal(top, a(NAN, NAN, 3, 3, 3, 4, 4, 4))
    np.testing.assert_array_equal(bottom, a(NAN, NAN, NAN, 1, 1, 1, 1, 0.5))
    np.testing.assert_array_equal(broke, a(NAN, NAN, NAN, 0, 1, 0, 0, 1))


def test_sweep_needs_the_close_back_inside() -> None:
    high, low = a(5, 5, 5, 6), a(3, 3, 2, 4)
    np.testing.assert_array_equal(structure.sweep(high, low, a(4, 4, 3.5, 4.5), 2), a(NAN, NAN, 1, -1))
    np.testing.assert_array_equal(structure.sweep(high, low, a(4, 4, 2.5, 5.5), 2), a(NAN, NAN, 0, 0))


def test_origin_zone_and_the_return_to_it() -> None:
    o, c = a(10, 10, 13, 13, 11.5), a(10, 13, 13, 13, 11)
    h, lo = a(10.5, 13, 13.5, 13, 11.5), a(9.5, 10, 12.5, 12, 10.4)
    upper, lower, back = structure.origin(o, h, lo, c, a(1, 1, 1, 1, 1), 2.0)
    np.testing.assert_array_equal(upper, a(NAN, 10.5, 10.5, 10.5, 10.5))
    np.testing.assert_array_equal(lower, a(NAN, 9.5, 9.5, 9.5, 9.5))
    np.testing.assert_array_equal(back, a(NAN, 0, 0, 0, 1))


def test_runs_and_ranks() -> None:
    np.testing.assert_array_equal(structure.close_run(a(1, 2, 3, 3, 2, 1)), a(NAN, 1, 2, 0, -1, -2))
    np.testing.assert_array_equal(structure.inside_run(a(5, 4, 4, 6), a(1, 2, 2, 0)), a(NAN, 1, 2, 0))
    np.testing.assert_array_equal(structure.rank_of(a(1, 2, 3, 2.5), 2), a(NAN, NAN, 100, 50))


def test_pivots_from_the_prior_session() -> None:
    """Prior session high 110, low 100, close 105: P 105, R1 110, S1 100, R2 115, S2 95, R3 120, S3 90 (common practice)."""
    rows = np.array([[104.0, 110.0, 100.0, 105.0]] * 8 + [[105.0] * 4] * 2).T
    time = np.concatenate([instants(8, 60), instants(2, 60, "2024-01-09T08:00")])
    bars = make_bars(terms(), 60, time, (rows[0], rows[1], rows[2], rows[3]))
    got = [column("pivots", o, bars)[-1] for o in ("pivot", "r1", "s1", "r2", "s2", "r3", "s3")]
    assert got == [105.0, 110.0, 100.0, 115.0, 95.0, 120.0, 90.0]


def test_talib_against_pandas() -> None:
    """A second opinion, from pandas, on some of the functions that come from TA-Lib."""
    c = pd.Series(BARS.close)
    h, lo = pd.Series(BARS.high), pd.Series(BARS.low)
    pairs = [(column("donchian", "upper", length=20), h.rolling(20).max()),
             (column("roc", length=10), 100 * (c / c.shift(10) - 1)),
             (column("williams_r", length=14),
              -100 * (h.rolling(14).max() - c) / (h.rolling(14).max() - lo.rolling(14).min())),
             (column("variance", length=8), c.rolling(8).var(ddof=0)),
             (column("midpoint", length=9), (c.rolling(9).max() + c.rolling(9).min()) / 2),
             (column("day_range", length=14), (h - lo).rolling(14).mean()),
             (column("efficiency", length=10), (c - c.shift(10)).abs() / c.diff().abs().rolling(10).sum()),
             (column("typical_price"), (h + lo + c) / 3)]
    for got, want in pairs:
        np.testing.assert_allclose(got, want.to_numpy(), rtol=1e-9, atol=1e-7)


def test_supertrend_turns_where_the_close_crosses_it() -> None:
    line, trend = column("supertrend", "line"), column("supertrend", "trend")
    known = np.isfinite(line) & (np.abs(BARS.close - line) > 1e-9)
    np.testing.assert_array_equal(np.sign(BARS.close - line)[known], trend[known])


OTHER = walk_bars(700, seed=77, minutes=30, code="OTH")


@given(st.integers(60, 890), st.sampled_from([30, 60, 120, 1440]), st.booleans())
@settings(max_examples=60, deadline=None)
def test_longer_intervals_and_other_markets_never_look_ahead(cut: int, interval: int, elsewhere: bool) -> None:
    """Cutting both markets at the same moment changes nothing before it."""
    def columns(bars: Bars) -> Columns:
        until = int(bars.end[-1])

        def other(code: str, minutes: int) -> Bars:
            assert code == "OTH"
            seen = int(np.searchsorted(OTHER.end, until, "right"))
            return to_interval(OTHER.take(max(1, seen)), minutes)

        return Columns(bars, elsewhere=other)

    operand = IndicatorOperand(indicator="sma", params={"length": 3}, interval=interval,
                               market="OTH" if elsewhere else None)
    whole = operand_column(columns(BARS), operand)
    part = operand_column(columns(BARS.take(cut)), operand)
    np.testing.assert_array_equal(part, whole[:cut])


def test_a_longer_interval_equals_the_same_computed_there() -> None:
    wide = to_interval(BARS, 60)
    means = pd.Series(wide.close).rolling(4).mean().to_numpy()
    got = operand_column(Columns(BARS), IndicatorOperand(indicator="sma", params={"length": 4}, interval=60))
    for i in (100, 333, 899):
        closed = np.flatnonzero(wide.end <= BARS.end[i])[-1]
        assert got[i] == pytest.approx(means[closed])


def test_another_market_must_be_at_hand_and_mirrors_like_its_own() -> None:
    rule = Strategy(long=Side(entry=Condition(rows=(row(FieldOperand(market="OTH"), "above", num(1)),))))
    with pytest.raises(UserError, match="no other market OTH"):
        decide(Columns(BARS), rule)
    mirrored = mirror_row(row(FieldOperand(field="high", interval=60), "above", price()))
    assert isinstance(mirrored.left, FieldOperand)
    assert (mirrored.left.field, mirrored.left.interval, mirrored.compare) == ("low", 60, "below")
