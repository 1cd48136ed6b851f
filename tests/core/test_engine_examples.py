"""Hand-worked cases: each is one sentence of docs/engine.md with numbers small enough to check by eye."""

from __future__ import annotations

import datetime as dt

import numpy as np
import pytest

from tests.build import instants, num, price, row, terms, walk_bars
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.ledger import LEDGER, ledger
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Bars, Span, make_bars
from wolbrin.core.market.costs import Costs
from wolbrin.core.rules.model import Condition, Distance, Side, Strategy


def bars_of(*ohlc: tuple[float, float, float, float], start: str = "2024-01-08T08:00", **more: object) -> Bars:
    """Hourly bars from Monday 09:00 in Oslo."""
    columns = np.array(ohlc, float).T
    time = instants(len(ohlc), 60, start)
    return make_bars(terms(**more), 60, time, (columns[0], columns[1], columns[2], columns[3]))


def strategy(when: tuple[str, float] = ("above", 100.0), **more: object) -> Strategy:
    """Long when the close compares with a level; no short side."""
    base: dict[str, object] = {
        "long": Side(entry=Condition(rows=(row(price(), when[0], num(when[1])),))), "short": Side(mode="off")}
    return Strategy(**(base | more))


def run(bars: Bars, what: Strategy, **brief: object) -> Run:
    return backtest(bars, what, Brief(**brief))


FLAT = (100.0, 100.0, 100.0, 100.0)
UP = (100.0, 101.0, 100.0, 101.0)


def test_decision_at_close_fill_at_next_open() -> None:
    made = run(bars_of(FLAT, UP, (102.0, 103.0, 101.5, 102.5), (102.5, 103.0, 102.0, 102.2)),
               strategy(flat_by_session_end=False))
    row_ = {name: column[0] for name, column in ledger(made).items()}
    assert (row_["entry_price"], row_["exit_price"], row_["exit_reason"]) == (102.0, 102.2, "end of data")
    assert row_["decision_time"] == row_["entry_time"] == np.datetime64("2024-01-08T10:00")
    assert row_["gross"] == pytest.approx(20.0)  # 0.20 at 100 a point
    assert list(ledger(made)) == [c.name for c in LEDGER]


def test_this_close_fills_at_the_deciding_close() -> None:
    made = run(bars_of(FLAT, UP, (102.0, 103.0, 101.5, 102.5)),
               strategy(fill="this close", flat_by_session_end=False))
    assert ledger(made)["entry_price"][0] == 101.0
    assert made.trades_i[0, k.T_HELD] == 1  # the entry bar does not count after an entry at its close


@pytest.mark.parametrize(("bar", "out", "reason", "unsure"), [
    ((102.0, 102.5, 100.5, 102.0), 101.0, "stop", False),  # stop reached: at its level
    ((102.0, 104.5, 101.5, 104.0), 104.0, "target", False),  # target reached: at its level
    ((102.0, 104.5, 100.5, 102.0), 101.0, "stop", True),  # both: the stop, marked
])
def test_protective_orders_inside_the_entry_bar(bar: tuple[float, ...], out: float, reason: str, unsure: bool) -> None:
    what = strategy(stop=Distance(unit="ticks", amount=100), target=Distance(unit="ticks", amount=200))
    book = ledger(run(bars_of(FLAT, UP, bar, FLAT), what))  # type: ignore[arg-type]
    assert (book["exit_price"][0], book["exit_reason"][0], bool(book["ambiguous"][0])) == (out, reason, unsure)


@pytest.mark.parametrize(("opens", "reason"), [(99.0, "stop"), (106.0, "target")])
def test_gap_over_a_protective_level_fills_at_the_open(opens: float, reason: str) -> None:
    what = strategy(stop=Distance(unit="ticks", amount=100), target=Distance(unit="ticks", amount=200))
    gap = (opens, opens, opens, opens)
    book = ledger(run(bars_of(FLAT, UP, (102.0, 102.2, 101.9, 102.0), gap), what))
    assert (book["exit_price"][0], book["exit_reason"][0]) == (opens, reason)


def test_costs_are_itemised_and_slippage_spares_targets() -> None:
    costs = Costs(spread_ticks=2, slippage_ticks=3, per_contract=2.5, minimum=6.0)
    target = strategy(target=Distance(unit="ticks", amount=100), quantity=2)
    book = ledger(run(bars_of(FLAT, UP, (102.0, 104.0, 101.9, 103.5)), target, costs=costs))
    assert book["gross"][0] == 200.0
    assert book["spread"][0] == 4.0  # half of two ticks at each fill, two contracts, 1.00 a tick
    assert book["slippage"][0] == 6.0  # market entry only
    assert book["commission"][0] == 12.0  # 5.00 a side is below the minimum of 6.00
    assert book["net"][0] == 178.0


def test_session_end_is_known_from_the_schedule() -> None:
    day = [FLAT, UP] + [(102.0, 102.0, 102.0, 102.0)] * 6
    assert ledger(run(bars_of(*day), strategy()))["exit_reason"][0] == "session"
    # The last bar (16:00) is missing: out at the open of the next bar that exists, on the next day.
    short = bars_of(*day[:7])
    columns = [np.append(x, 103.0) for x in (short.open, short.high, short.low, short.close)]
    time = np.append(short.time, int(np.datetime64("2024-01-09T08:00", "ns").astype(np.int64)))
    late = run(make_bars(terms(), 60, time, (columns[0], columns[1], columns[2], columns[3])), strategy())
    assert ledger(late)["exit_reason"][0] == "session (late)"
    assert ledger(late)["exit_price"][0] == 103.0
    assert late.counts["late"] == 1


def test_no_entry_is_decided_on_the_last_bar_of_a_session() -> None:
    day = [FLAT] * 7 + [UP]
    assert len(run(bars_of(*day), strategy())) == 0


def test_opposite_signal_reverses_at_one_open() -> None:
    both = Strategy(long=Side(entry=Condition(rows=(row(price(), "crosses above", num(100.0)),))),
                    short=Side(entry=Condition(rows=(row(price(), "crosses below", num(100.0)),))))
    bars = bars_of((100.0, 100.0, 99.0, 99.5), UP, (101.0, 101.0, 99.0, 99.0), (98.5, 98.5, 98.0, 98.2), FLAT)
    book = ledger(run(bars, both))
    assert book["exit_reason"].tolist() == ["reverse", "end of data"]
    assert book["exit_price"][0] == book["entry_price"][1] == 98.5
    assert book["exit_time"][0] == book["entry_time"][1]
    ignoring = run(bars, both.model_copy(update={"on_opposite": "ignore"}))
    assert ledger(ignoring)["exit_reason"].tolist() == ["end of data"]


def test_conflict_enters_nothing_and_is_counted() -> None:
    always = Condition(rows=(row(price(), "above", num(0.0)),))
    made = run(bars_of(FLAT, FLAT, FLAT), Strategy(long=Side(entry=always), short=Side(entry=always)))
    assert len(made) == 0
    assert made.counts["conflicts"] == 3


def test_financing_counts_the_nights_between_fills() -> None:
    """Held from Monday 10:00 to Thursday: rollovers Monday, Tuesday 1 each, Wednesday 3."""
    bars = bars_of(*([FLAT, UP] + [UP] * 80), financing={"long": -2.0, "time": "17:00", "triple": "Wed"})
    what = strategy(flat_by_session_end=False)
    book = run(bars, what, span=Span(None, dt.date(2024, 1, 11)))
    assert book.trades_i[0, k.T_NIGHTS] == 5
    assert ledger(book)["financing"][0] == pytest.approx(5 * 2.0 * 1.0)


def test_risk_is_the_distance_to_the_rounded_stop() -> None:
    what = strategy(stop=Distance(unit="ticks", amount=2.5))
    book = ledger(run(bars_of(FLAT, UP, (102.0, 102.0, 101.0, 101.0)), what))
    assert book["initial_stop"][0] == 101.98  # 101.975 is a half and goes up, away from zero
    assert book["r_multiple"][0] == pytest.approx(-1.0)


def test_ruin_closes_everything() -> None:
    made = run(bars_of(FLAT, UP, (102.0, 102.0, 50.0, 50.0), UP, UP), strategy(quantity=10), capital=1000.0)
    assert ledger(made)["exit_reason"].tolist() == ["ruin"]
    assert made.counts["ruined"] == 1
    assert (made.net[2:] == made.net[2]).all()


def test_margin_rejects_and_quantity_rounds_down() -> None:
    bars = bars_of(FLAT, UP, UP, margin={"per_contract": 900.0}, lot_step=2.0, minimum_lot=2.0)
    assert run(bars, strategy(quantity=3), capital=1700.0).counts["rejected"] > 0
    assert run(bars, strategy(quantity=3), capital=1800.0).trades_f[0, k.F_QUANTITY] == 2.0


def test_impossible_requests_are_refused_before_the_run() -> None:
    bars = bars_of(FLAT, UP, minimum_lot=2.0)
    for what, brief, word in ((strategy(quantity=1), Brief(), "smallest lot"),
                              (strategy(quantity=2), Brief(capital=0.0), "capital")):
        with pytest.raises(UserError, match=word):
            backtest(bars, what, brief)
    free = bars_of(FLAT, UP, sessions=())
    with pytest.raises(UserError, match="session schedule"):
        backtest(free, strategy(), Brief())
    assert len(backtest(free, strategy(flat_by_session_end=False), Brief())) >= 0


def test_warm_up_is_not_in_the_equity_and_the_span_selects_decisions() -> None:
    bars = walk_bars(600)
    average = Strategy(long=Side(entry=Condition(rows=(row(price(), "above", num(0.0)),))),
                       stop=Distance(unit="atr", amount=2.0, length=50))
    whole = backtest(bars, average, Brief())
    assert whole.first == 49
    assert len(whole.net) == 600 - 49
    late = backtest(bars, average, Brief(Span(dt.date(2024, 1, 15), dt.date(2024, 1, 19))))
    assert bars.trading_date[late.first] == (dt.date(2024, 1, 15) - dt.date(1970, 1, 1)).days
    assert bars.trading_date[late.last - 1] == (dt.date(2024, 1, 19) - dt.date(1970, 1, 1)).days
    assert backtest(bars, average, Brief(Span(dt.date(2030, 1, 1), None))).net.size == 0


def test_equity_adds_up_and_the_same_inputs_give_the_same_bits() -> None:
    bars = walk_bars(3000, seed=5)
    what = strategy(("crosses above", 99.0), stop=Distance(unit="atr", amount=1.0, length=10))
    costs = Costs(slippage_ticks=1, per_contract=2.0)
    a, b = (backtest(bars, what, Brief(costs=costs)) for _ in range(2))
    assert a.fingerprint == b.fingerprint
    assert a.net[-1] == pytest.approx(a.brief.capital + a.profits.sum())
    assert a.gross[-1] == pytest.approx(a.brief.capital + ledger(a)["gross"].sum())
    assert a.daily[1].sum() == pytest.approx(a.profits.sum())
