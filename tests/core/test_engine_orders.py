"""Hand-worked cases of orders, stops that move, sizing, filters, finer bars and conversion; docs/engine.md tells them in
words under the same numbers. Prices in the comments are in money, one tick is 0.01 and worth 1.00."""

from __future__ import annotations

import datetime as dt

import numpy as np
import pytest

from tests.build import instants, num, price, row, terms
from tests.core.test_engine_examples import FLAT, UP, bars_of, run, strategy
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.ledger import ORDER_COLUMNS, ledger, order_log
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Bars, Span, make_bars
from wolbrin.core.market.costs import Costs
from wolbrin.core.rules.model import (
    BreakEven,
    Condition,
    Distance,
    EntryOrder,
    FieldOperand,
    Filters,
    IndicatorOperand,
    Level,
    Oversized,
    Row,
    Side,
    Sizing,
    Strategy,
    Trail,
    Window,
)

Bar = tuple[float, float, float, float]


def at(value: float) -> Level:
    return Level(operand=num(value))


def resting(kind: str, level: float, **more: object) -> Strategy:
    """Long by a resting order when the close is above 100."""
    order = {name: more.pop(name) for name in ("bars", "touch_ticks") if name in more}
    what = strategy(flat_by_session_end=False, **more)
    return what.model_copy(update={"long": what.long.model_copy(update={
        "order": EntryOrder(kind=kind, level=at(level), **order)})})


def first(bars: Bars, what: Strategy, **brief: object) -> dict[str, object]:
    made = run(bars, what, **brief)
    return {name: column[0] for name, column in ledger(made).items()} if len(made) else {}


def ticks(amount: float) -> Distance:
    return Distance(unit="ticks", amount=amount)


@pytest.mark.parametrize(("kind", "level", "bar", "price_in"), [
    ("stop", 102.0, (101.5, 103.0, 101.0, 102.5), 102.0),  # inside: at the level
    ("stop", 102.0, (102.5, 103.0, 101.0, 102.5), 102.5),  # a gap over it: at the open
    ("stop", 104.0, (102.5, 103.0, 101.0, 102.5), None),  # not reached: expired
    ("limit", 100.5, (101.5, 102.0, 100.0, 101.0), 100.5),
    ("limit", 100.5, (100.2, 102.0, 100.0, 101.0), 100.2),  # better at the open
    ("limit", 99.0, (101.5, 102.0, 100.0, 101.0), None),
])
def test_resting_orders_fill_at_the_level_or_the_open(kind: str, level: float, bar: Bar, price_in: float | None) -> None:
    bars = bars_of(FLAT, UP, bar, (100.0, 100.0, 99.5, 99.5))
    made = run(bars, resting(kind, level))
    assert (ledger(made)["entry_price"][0] if len(made) else None) == price_in
    assert made.counts["expired"] == (0 if price_in else 2)  # the bar's own close above 100 places another


def test_slippage_spares_limit_entries() -> None:
    costs = Costs(slippage_ticks=2)
    bars = bars_of(FLAT, UP, (101.5, 102.0, 100.0, 100.0), FLAT)
    assert first(bars, resting("limit", 100.5), costs=costs)["slippage"] == 2.0  # the exit only
    assert first(bars, resting("stop", 102.0), costs=costs)["slippage"] == 4.0


def test_choice_16_touch_ticks_ask_for_a_trade_through() -> None:
    bar = (101.5, 102.0, 100.49, 101.0)  # the limit of 100.50 is traded through by one tick
    assert first(bars_of(FLAT, UP, bar, FLAT), resting("limit", 100.5, touch_ticks=1))
    assert not first(bars_of(FLAT, UP, bar, (101.0, 101.2, 100.9, 101.0)), resting("limit", 100.5, touch_ticks=2))


def test_an_order_rests_for_so_many_existing_bars() -> None:
    calm = (99.0, 99.5, 98.5, 99.0)
    bars = bars_of(FLAT, UP, calm, calm, (99.0, 102.5, 99.0, 102.0))
    assert not first(bars, resting("stop", 102.0, bars=2))
    assert first(bars, resting("stop", 102.0, bars=3))["entry_price"] == 102.0


def both_ways(long_level: float, short_level: float) -> Strategy:
    rule = Condition(rows=(row(price(), "above", num(100.0)),))
    return Strategy(flat_by_session_end=False, long=Side(entry=rule, order=EntryOrder(kind="stop", level=at(long_level))),
                    short=Side(entry=rule, order=EntryOrder(kind="stop", level=at(short_level))))


@pytest.mark.parametrize(("long_level", "short_level", "side", "unsure"), [
    (102.0, 100.5, "short", True),  # 1.00 above the open against 0.50 below it: the nearer fills
    (101.5, 100.5, "long", True),  # equally near: the long
    (101.0, 100.5, "long", False),  # exactly one fills at the open: nothing is unsure
])
def test_two_resting_orders_that_both_could_fill(long_level: float, short_level: float, side: str, unsure: bool) -> None:
    got = first(bars_of(FLAT, UP, (101.0, 103.0, 100.0, 101.0)), both_ways(long_level, short_level))
    assert (got["side"], bool(got["ambiguous"])) == (side, unsure)


def test_two_resting_orders_are_no_conflict() -> None:
    assert run(bars_of(FLAT, UP, UP), both_ways(110.0, 90.0)).counts["conflicts"] == 0


@pytest.mark.parametrize(("kind", "level", "bar", "reason", "unsure"), [
    # A stop entry at 102: the low of 100.5 may have come first, so the stop at 101 counts as hit, unsure ...
    ("stop", 102.0, (101.5, 102.5, 100.5, 102.2), "stop", True),
    ("stop", 102.0, (101.5, 102.5, 100.5, 100.8), "stop", False),  # ... unless the close itself lies beyond it.
    # A limit entry at 100.5: the high of 103 may have come first, so the target at 102.5 needs the close.
    ("limit", 100.5, (101.5, 103.0, 100.2, 101.0), "end of data", False),
    ("limit", 100.5, (101.5, 103.0, 100.2, 102.6), "target", False),
])
def test_after_an_entry_inside_a_bar_only_what_is_certain_counts(kind: str, level: float, bar: Bar, reason: str,
                                                                 unsure: bool) -> None:
    got = first(bars_of(FLAT, UP, bar), resting(kind, level, stop=ticks(100), target=ticks(200)))
    assert (got["exit_reason"], bool(got["ambiguous"])) == (reason, unsure)


def test_choice_17_excursions_inside_the_entry_bar() -> None:
    """Stop entry at 102.00, high 103, low 101, close 101.5: best +1.00, worst to the close, -0.50."""
    got = first(bars_of(FLAT, UP, (101.5, 103.0, 101.0, 101.5)), resting("stop", 102.0))
    assert (got["mfe"], got["mae"]) == (100.0, -50.0)


def test_trail_follows_closed_bars_and_works_from_the_next() -> None:
    trail = Trail(distance=ticks(100))
    # In at 102.00; the entry bar's high of 103.00 puts the trail to 102.00 for the next bar.
    bars = bars_of(FLAT, UP, (102.0, 103.0, 101.5, 102.8), (102.8, 104.0, 102.5, 103.5), (103.5, 103.6, 102.9, 103.0))
    got = first(bars, strategy(trail=trail, flat_by_session_end=False))
    assert (got["exit_price"], got["exit_reason"]) == (103.0, "trail")
    assert np.isnan(got["r_multiple"])  # no initial stop, hence no R


def test_trail_waits_for_its_start_and_moves_in_steps() -> None:
    late = Trail(distance=ticks(100), start_after=ticks(150))
    bars = bars_of(FLAT, UP, (102.0, 103.0, 101.5, 102.8), (102.8, 103.2, 101.0, 101.5))
    assert first(bars, strategy(trail=late, flat_by_session_end=False))["exit_reason"] == "end of data"
    steps = Trail(distance=ticks(100), step_ticks=50)
    more = bars_of(FLAT, UP, (102.0, 103.0, 101.9, 102.8), (102.8, 103.4, 102.5, 103.2), (103.2, 103.2, 102.1, 102.2))
    # 0.40 is less than a step of 0.50: the trail stays at 102.00, and 102.10 does not reach it.
    assert first(more, strategy(trail=steps, flat_by_session_end=False))["exit_reason"] == "end of data"


def test_break_even_moves_the_stop_once_a_closed_bar_has_shown_the_profit() -> None:
    what = strategy(stop=ticks(200), break_even=BreakEven(after=ticks(100), plus_ticks=10), flat_by_session_end=False)
    bars = bars_of(FLAT, UP, (102.0, 103.0, 101.0, 102.8), (102.8, 102.9, 101.5, 101.8))
    got = first(bars, what)
    assert (got["exit_price"], got["exit_reason"], got["initial_stop"]) == (102.1, "break even", 100.0)


def test_equal_levels_are_named_stop_then_break_even_then_trail() -> None:
    what = strategy(break_even=BreakEven(after=ticks(100)), trail=Trail(distance=ticks(100)), flat_by_session_end=False)
    got = first(bars_of(FLAT, UP, (102.0, 103.0, 101.9, 102.8), (102.8, 102.9, 101.5, 101.8)), what)
    assert (got["exit_price"], got["exit_reason"]) == (102.0, "break even")


@pytest.mark.parametrize(("distance", "stop"), [
    (Distance(unit="money", amount=150.0), 100.5),  # 150 a contract at 1.00 a tick: 150 ticks
    (Distance(unit="percent", amount=1.0), 100.98),  # 1% of 102.00
    (Distance(unit="level", level=at(99.0)), 99.0),
    (Distance(unit="ticks", amount=0.2), 101.99),  # rounds to nothing: one tick
])
def test_distances(distance: Distance, stop: float) -> None:
    got = first(bars_of(FLAT, UP, (102.0, 102.5, 101.995, 102.2)), strategy(stop=distance, flat_by_session_end=False))
    assert got["initial_stop"] == stop


def test_choice_18_a_level_at_or_beyond_the_fill_skips_the_entry() -> None:
    above = run(bars_of(FLAT, UP, UP), strategy(stop=Distance(unit="level", level=at(105.0))))
    assert (len(above), above.counts["skipped"]) == (0, 2)  # refused at each decision
    # At the decision's close of 101 a stop at 100.90 is right; at the open of 100.50 it is not.
    gap = run(bars_of(FLAT, UP, (100.5, 100.6, 100.0, 100.0)), strategy(stop=Distance(unit="level", level=at(100.9))))
    assert (len(gap), gap.counts["skipped"]) == (0, 1)
    events = order_log(gap)
    assert events["event"].tolist() == ["placed", "skipped"]
    assert events["reason"][1] == "level beyond entry"
    assert list(events) == list(ORDER_COLUMNS)


@pytest.mark.parametrize(("sizing", "quantity"), [
    (Sizing(kind="risk", amount=2.0), 4.0),  # 1,000 at risk over 2.50 a contract of 100 a point: 4
    (Sizing(kind="percent", amount=100.0), 4.0),  # 50,000 over 10,100
    (Sizing(kind="notional", amount=25_000.0), 2.0),
])
def test_sizing_rounds_down(sizing: Sizing, quantity: float) -> None:
    what = strategy(stop=ticks(250), sizing=sizing)
    assert first(bars_of(FLAT, UP, (102.0, 102.5, 101.5, 102.0)), what)["quantity"] == quantity


def test_too_small_a_size_is_skipped_and_logged() -> None:
    made = run(bars_of(FLAT, UP, UP), strategy(stop=ticks(250), sizing=Sizing(kind="risk", amount=0.1)))
    assert (len(made), made.counts["skipped"]) == (0, 2)
    assert order_log(made)["reason"].tolist() == ["below the smallest lot"] * 2


def test_risk_sizing_without_a_stop_is_refused() -> None:
    with pytest.raises(ValueError, match="needs a stop"):
        strategy(sizing=Sizing(kind="risk", amount=1.0))


@pytest.mark.parametrize(("filters", "enters"), [
    (Filters(windows=(Window(first="11:00", last="12:00"),)), True),  # the bar from 10:00 closes at 11:00: included
    (Filters(windows=(Window(first="11:01", last="12:00"),)), False),
    (Filters(windows=(Window(first="22:00", last="11:00"),)), True),  # across midnight
    (Filters(weekdays=("Mon",)), True),
    (Filters(weekdays=("Tue",)), False),
    (Filters(last_minutes=359), True),  # 360 minutes before the end at 17:00
    (Filters(last_minutes=360), False),  # exactly m minutes before the end is blocked
    (Filters(oversized=Oversized(multiple=2.5, length=1)), True),
    (Filters(oversized=Oversized(multiple=0.5, length=1)), False),
])
def test_entry_filters_are_read_at_the_decision_bar(filters: Filters, enters: bool) -> None:
    made = run(bars_of(FLAT, UP, (102.0, 102.0, 99.0, 99.0), FLAT), strategy(filters=filters))
    assert (len(made) == 1, made.counts["skipped"]) == (enters, 0)


def test_entries_per_trading_date_count_fills() -> None:
    what = strategy(target=ticks(10), filters=Filters(most_entries=2))
    day = [FLAT, *([(101.0, 101.5, 100.9, 101.2)] * 7)] * 2
    dates = ledger(run(bars_of(*day), what))["entry_time"].astype("datetime64[D]").tolist()
    assert [dates.count(d) for d in sorted(set(dates))] == [2]


def test_reverse_with_a_resting_order_leaves_at_market_and_rests() -> None:
    both = Strategy(flat_by_session_end=False, long=Side(entry=Condition(rows=(row(price(), "above", num(100.0)),))),
                    short=Side(entry=Condition(rows=(row(price(), "below", num(99.0)),)),
                               order=EntryOrder(kind="stop", level=at(97.0), bars=2)))
    bars = bars_of(FLAT, UP, (101.0, 101.0, 98.0, 98.5), (98.4, 98.6, 97.5, 98.0), (98.0, 99.6, 96.5, 99.5))
    book = ledger(run(bars, both))
    assert book["exit_reason"].tolist() == ["reverse", "end of data"]
    assert book["exit_price"][0] == 98.4
    assert book["entry_price"][1] == 97.0


def halves(rows: list[Bar]) -> tuple[Bars, Bars]:
    """Half-hour bars, and the hourly bars they make."""
    columns = np.array(rows, float).T
    fine = make_bars(terms(), 30, instants(len(rows), 30), (columns[0], columns[1], columns[2], columns[3]))
    wide = [(a[0], max(a[1], b[1]), min(a[2], b[2]), b[3]) for a, b in zip(rows[::2], rows[1::2])]
    return fine, bars_of(*wide)


def test_finer_bars_settle_what_came_first() -> None:
    """Inside the third hour the target of 104 is met in its first half, the stop of 101 in its second."""
    fine, bars = halves([FLAT, FLAT, (100.0, 101.0, 100.0, 101.0), (101.0, 101.0, 101.0, 101.0),
                         (102.0, 104.5, 101.5, 103.0), (103.0, 103.0, 100.5, 102.0), FLAT, FLAT])
    what = strategy(stop=ticks(100), target=ticks(200), flat_by_session_end=False)
    ready = Prepared.of(bars, finer=lambda: fine)
    rough, exact = (ledger(backtest(ready, what, Brief(fine=f))) for f in (False, True))
    assert (rough["exit_reason"][0], bool(rough["ambiguous"][0])) == ("stop", True)
    assert (exact["exit_reason"][0], bool(exact["ambiguous"][0])) == ("target", False)
    assert exact["exit_time"][0] == np.datetime64("2024-01-08T10:00")


def test_choice_19_finer_bars_that_do_not_add_up_are_not_used() -> None:
    fine, bars = halves([FLAT, FLAT, (100.0, 101.0, 100.0, 101.0), (101.0, 101.0, 101.0, 101.0),
                         (102.0, 104.5, 101.5, 103.0), (103.0, 103.0, 100.5, 102.0), FLAT, FLAT])
    gap = make_bars(terms(), 30, np.delete(fine.time, 5), tuple(np.delete(x, 5) for x in (fine.open, fine.high, fine.low,
                                                                                      fine.close)))  # type: ignore[arg-type]
    what = strategy(stop=ticks(100), target=ticks(200), flat_by_session_end=False)
    made = backtest(Prepared.of(bars, finer=lambda: gap), what, Brief(fine=True))
    assert ledger(made)["exit_reason"][0] == "stop"
    assert made.counts["walked whole"] == 1


def converted(rate_bars: Bars | None, inverse: bool = False, **more: object) -> Prepared:
    bars = bars_of(FLAT, UP, (102.0, 102.0, 102.0, 102.0), (103.0, 103.0, 103.0, 103.0),
                   conversion_market="RATE", conversion_inverse=inverse, **more)
    return Prepared.of(bars, rates=lambda: rate_bars)


def rate_bars(*closes: float) -> Bars:
    flat = np.array(closes)
    return make_bars(terms(code="RATE"), 60, instants(len(closes), 60), (flat, flat, flat, flat))


def test_profit_is_converted_at_the_last_known_close() -> None:
    rates = rate_bars(0.5, 0.6, 0.7, 0.8)
    got = {n: c[0] for n, c in ledger(backtest(converted(rates), strategy(flat_by_session_end=False), Brief())).items()}
    assert got["conversion_rate"] == 0.8  # out at the close of the fourth bar
    assert got["gross"] == pytest.approx(100 * 0.8)
    other = ledger(backtest(converted(rates, True), strategy(flat_by_session_end=False), Brief()))
    assert other["conversion_rate"][0] == pytest.approx(1 / 0.8)


def test_choice_20_without_a_rate_nothing_is_entered() -> None:
    late = rate_bars(0.5, 0.6, 0.7, 0.8)
    moved = make_bars(terms(code="RATE"), 60, late.time + 3 * 3_600_000_000_000,
                      (late.open, late.high, late.low, late.close))
    made = backtest(converted(moved), strategy(flat_by_session_end=False), Brief())
    assert (len(made), made.counts["skipped"]) == (0, 2)
    assert order_log(made)["reason"].tolist()[:2] == ["no conversion rate yet"] * 2
    with pytest.raises(UserError, match="RATE, which is not at hand"):
        backtest(converted(None), strategy(flat_by_session_end=False), Brief())


def test_absurd_orders_end_the_run_with_a_sentence_and_keep_what_is_known() -> None:
    bars = bars_of(FLAT, (100.0, 100.4, 100.0, 100.4), (100.4, 100.5, 100.4, 100.4), UP, UP)
    huge = strategy(("above", 100.5), sizing=Sizing(kind="notional", amount=1e12), stop=ticks(1))
    tiny = bars_of(FLAT, FLAT, FLAT, UP, UP, point_value=1e-12, tick_size=0.01)
    made = run(tiny, huge)
    assert made.fault.startswith("On 08 Jan 2024, bar 4 the order would be for more than")
    assert len(made.net) == 4
    far = run(bars, strategy(("above", 100.5), stop=Distance(unit="money", amount=1e9), flat_by_session_end=False),
              capital=1e6)
    assert far.fault == ""
    odd = run(bars_of(FLAT, UP, UP, point_value=1e-3), strategy(stop=Distance(unit="money", amount=1e9)))
    assert "the stop would stand more than 2 billion ticks away" in odd.fault
    assert np.isfinite(odd.net).all()


def test_an_operand_of_a_longer_interval_is_known_from_its_close_only() -> None:
    """Close of the two-hour bar above 100: the one from 09:00 ends at 11:00, so it is seen by the bar that closes then."""
    bars = bars_of(FLAT, UP, (102.0, 102.0, 102.0, 102.0), (103.0, 103.0, 103.0, 103.0))
    wide = Strategy(long=Side(entry=Condition(rows=(Row(left=FieldOperand(interval=120), compare="above",
                                                        right=num(100.0)),))), short=Side(mode="off"))
    assert ledger(run(bars, wide))["decision_time"][0] == np.datetime64("2024-01-08T10:00")
    short = Strategy(long=Side(entry=Condition(rows=(Row(left=IndicatorOperand(indicator="sma", interval=30,
                                                                               params={"length": 2}),
                                                         compare="above", right=num(0.0)),))))
    with pytest.raises(UserError, match="shorter than"):
        run(bars, short)


def test_the_order_log_tells_every_order() -> None:
    what = strategy(stop=ticks(100), target=ticks(300), trail=Trail(distance=ticks(150)), flat_by_session_end=False)
    log = order_log(run(bars_of(FLAT, UP, (102.0, 104.0, 101.5, 103.8), (103.8, 104.0, 102.0, 102.2)), what))
    told = list(zip(log["event"].tolist(), log["order"].tolist(), log["reason"].tolist()))
    assert told[:4] == [("placed", "market entry", "signal"), ("filled", "market entry", "signal"),
                        ("placed", "stop", "with the entry"), ("placed", "target", "with the entry")]
    assert ("placed", "trail", "trail") in told
    leaving = told.index(("cancelled", "stop", "trade over"))
    assert told[leaving:leaving + 3] == [("cancelled", "stop", "trade over"), ("filled", "trail", "trail"),
                         ("cancelled", "target", "trade over")]
    assert set(log["trade"][:4].tolist()) == {1}


def test_a_span_ends_the_data_at_its_end() -> None:
    bars = bars_of(*([FLAT, UP] + [UP] * 30))
    made = run(bars, strategy(flat_by_session_end=False), span=Span(None, dt.date(2024, 1, 9)))
    assert made.trades_i[-1, k.T_REASON] == k.END_OF_DATA
