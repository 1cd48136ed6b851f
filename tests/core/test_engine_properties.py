"""Whole strategies with every option drawn at random, on a walk with lost bars and nights: what must always hold."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pandas as pd
import pytest
from arch.data import nasdaq, sp500
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.build import WORKDAYS, ind, num, price, row, terms, walk_bars
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.ledger import ledger, order_log
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.intervals import to_interval
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE
from wolbrin.core.market.terms import SessionRule
from wolbrin.core.market.zones import to_local
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import (
    BreakEven,
    Condition,
    Distance,
    EntryOrder,
    Filters,
    Level,
    Oversized,
    Side,
    Sizing,
    Strategy,
    Trail,
    Window,
)
from wolbrin.core.rules.words import describe


def holed(seed: int, minutes: int = 5, count: int = 2400, **more: object) -> Bars:
    """A walk from which bars are missing, the last of some sessions too."""
    whole = walk_bars(count, seed=seed, minutes=minutes, sigma=5.0, **more)
    keep = np.random.default_rng(seed).random(len(whole)) > 0.03
    return make_bars(whole.terms, minutes, whole.time[keep], (whole.open[keep], whole.high[keep], whole.low[keep],
                                                              whole.close[keep]), whole.volume[keep])


FINE = holed(5, financing={"long": -0.4, "short": 0.2}, lot_step=0.1, minimum_lot=0.1, margin={"per_contract": 40.0})
WIDE = to_interval(FINE, 15)
RATES = walk_bars(900, seed=8, minutes=15, sigma=2.0, code="RATE")
CONVERTED = to_interval(holed(5, conversion_market="RATE"), 15)
HISTORIES = {"plain": Prepared.of(WIDE, finer=lambda: FINE),
             "converted": Prepared.of(CONVERTED, rates=lambda: RATES)}
COSTS = Costs(spread_ticks=1, slippage_ticks=0.5, per_contract=1.2, percent=0.001, minimum=1.5)


@st.composite
def distances(draw: st.DrawFn, units: tuple[str, ...]) -> Distance:
    unit = draw(st.sampled_from(units))
    amounts = {"ticks": (3.0, 12.5, 40.0), "atr": (0.5, 1.5, 3.0), "money": (10.0, 35.0), "percent": (0.05, 0.3),
               "stop": (0.5, 1.0, 2.0), "level": (1.0,)}[unit]
    level = Level(operand=ind(draw(st.sampled_from(["lowest", "sma"])), length=8), offset=-draw(st.integers(0, 6)))
    return Distance(unit=unit, amount=draw(st.sampled_from(amounts)), length=draw(st.sampled_from([3, 14])),
                    level=level if unit == "level" else None)


@st.composite
def strategies(draw: st.DrawFn) -> Strategy:
    plain = ("ticks", "atr", "money", "percent")
    stop = draw(st.none() | distances((*plain, "level")))
    follow = (*plain, "stop") if stop else plain
    kind = draw(st.sampled_from(["market", "market", "stop", "limit"]))
    order = EntryOrder() if kind == "market" else EntryOrder(
        kind=kind, level=Level(operand=price(draw(st.sampled_from(["high", "low", "close"]))), unit="atr",
                               offset=draw(st.sampled_from([-0.5, 0.0, 0.5]))),
        bars=draw(st.integers(1, 5)), touch_ticks=draw(st.integers(0, 2)))
    wanted = draw(st.sampled_from([row(price(), "crosses above", ind("sma", length=10)),
                                   row(ind("rsi", length=5), "below", num(35)), row(price(), "rises")]))
    trail = draw(st.none() | distances(follow))
    start = draw(st.none() | distances(follow))
    even = draw(st.none() | distances(follow))
    sizing = draw(st.sampled_from(["fixed", "percent", "notional", *(["risk"] if stop else [])]))
    amount = {"fixed": 1.0, "percent": 20.0, "notional": 20_000.0, "risk": 0.5}[sizing]
    windows = draw(st.sampled_from([(), (Window(first="10:00", last="15:30"),), (Window(first="15:00", last="10:00"),)]))
    filters = Filters(windows=windows, weekdays=draw(st.sampled_from([(), WORKDAYS[:3]])),
                      most_entries=draw(st.none() | st.integers(1, 3)), last_minutes=draw(st.none() | st.just(60)),
                      oversized=draw(st.none() | st.just(Oversized(multiple=1.5, length=10))))
    return Strategy(
        long=Side(entry=Condition(rows=(wanted,)), order=order), stop=stop, target=draw(st.none() | distances(follow)),
        trail=Trail(distance=trail, start_after=start, step_ticks=draw(st.sampled_from([0, 4]))) if trail else None,
        break_even=BreakEven(after=even, plus_ticks=draw(st.sampled_from([0, 2]))) if even else None,
        time_exit=draw(st.none() | st.integers(1, 12)), flat_by_session_end=draw(st.booleans()),
        fill=draw(st.sampled_from(["next open", "this close"])),
        on_opposite=draw(st.sampled_from(["reverse", "close", "ignore"])),
        sizing=Sizing(kind=sizing, amount=amount), filters=filters)


briefs = st.builds(Brief, costs=st.sampled_from([Costs(), COSTS]), capital=st.sampled_from([3_000.0, 50_000.0]),
                   fine=st.booleans())
QUICK = {"deadline": None, "suppress_health_check": list(HealthCheck)}


@given(strategies(), briefs, st.sampled_from(list(HISTORIES)))
@settings(max_examples=100, **QUICK)
def test_money_adds_up_and_every_fill_lies_in_its_bar(what: Strategy, brief: Brief, where: str) -> None:
    run = backtest(HISTORIES[where], what, brief)
    bars, t, f = run.bars, run.trades_i, run.trades_f
    if not len(run):
        return
    assert run.net[-1] == pytest.approx(brief.capital + run.profits.sum(), abs=1e-6)
    assert run.gross[-1] == pytest.approx(brief.capital + f[:, k.F_GROSS].sum(), abs=1e-6)
    assert run.daily[1].sum() == pytest.approx(run.profits.sum(), abs=1e-6)
    assert np.isfinite(run.net).all()
    assert np.isfinite(np.delete(f, k.F_RISK, axis=1)).all()
    for bar, fill in ((k.T_ENTRY_BAR, k.T_ENTRY), (k.T_EXIT_BAR, k.T_EXIT)):
        assert (t[:, fill] >= bars.l[t[:, bar]]).all()
        assert (t[:, fill] <= bars.h[t[:, bar]]).all()
    assert (run.entry_time <= run.exit_time).all()
    assert (run.exit_time[:-1] <= run.entry_time[1:]).all(), "one position at a time"
    assert (t[:, k.T_WORST] <= 0).all()
    assert (t[:, k.T_BEST] >= 0).all()
    assert run.counts["ambiguous"] == t[:, k.T_AMBIGUOUS].sum()
    steps = f[:, k.F_QUANTITY] / bars.terms.lot_step
    np.testing.assert_allclose(steps, np.round(steps), atol=1e-6)
    costs = run.brief.costs
    np.testing.assert_allclose(f[:, k.F_SPREAD], costs.spread_ticks * run.unit)
    limited = (t[:, k.T_KIND] == k.BY_LIMIT).astype(int) + (t[:, k.T_REASON] == k.TARGET).astype(int)
    np.testing.assert_allclose(f[:, k.F_SLIPPAGE], (2 - limited) * costs.slippage_ticks * run.unit)


@given(strategies(), briefs)
@settings(max_examples=100, **QUICK)
def test_filters_and_session_ends_are_kept(what: Strategy, brief: Brief) -> None:
    run = backtest(HISTORIES["plain"], what, brief)
    bars, t = run.bars, run.trades_i
    decided = t[:, k.T_DECISION]
    clock = to_local(bars.end[decided], bars.terms.time_zone) % NS_A_DAY // NS_A_MINUTE
    for window in what.filters.windows:
        first, last = (int(x[:2]) * 60 + int(x[3:]) for x in (window.first, window.last))
        inside = (clock >= first) & (clock <= last) if first <= last else (clock >= first) | (clock <= last)
        assert inside.all()
    if what.filters.weekdays:
        assert set(((bars.trading_date[decided].astype(np.int64) + 3) % 7).tolist()) <= {0, 1, 2}
    if what.filters.last_minutes:
        left = bars.sessions.close[bars.session[decided]] - bars.end[decided]
        assert (left > 60 * NS_A_MINUTE).all()
    if what.filters.most_entries:
        _, counts = np.unique(bars.trading_date[t[:, k.T_ENTRY_BAR]], return_counts=True)
        assert counts.max(initial=0) <= what.filters.most_entries
    if what.flat_by_session_end:
        late = t[:, k.T_REASON] == k.SESSION_LATE
        outlived = bars.session[t[:, k.T_ENTRY_BAR]] != bars.session[t[:, k.T_EXIT_BAR]]
        at_open = t[:, k.T_EXIT_AT] == k.AT_OPEN
        assert (late | ~outlived | at_open).all(), "only a missing last bar lets a position see the next session's open"
        assert run.counts["late"] == late.sum()


@given(strategies(), briefs)
@settings(max_examples=100, **QUICK)
def test_every_entry_order_ends_once(what: Strategy, brief: Brief) -> None:
    run = backtest(HISTORIES["plain"], what, brief)
    log = pd.DataFrame(order_log(run))
    entries = log[log.order.str.endswith("entry")]
    placed = set(entries[entries.event == "placed"].number)
    ended = entries[entries.event.isin(["filled", "cancelled", "expired"])]
    refused = entries[entries.event.isin(["skipped", "rejected"])]
    assert set(ended.number) | (placed & set(refused.number)) == placed
    assert ended.number.is_unique
    assert len(refused) == run.counts["skipped"] + run.counts["rejected"]
    assert (entries.event == "expired").sum() == run.counts["expired"]
    assert (entries.event == "filled").sum() == len(run)
    assert log.time.is_monotonic_increasing or run.fine is not None or not len(log)


@given(strategies(), briefs, st.floats(0.2, 0.95), st.sampled_from(list(HISTORIES)))
@settings(max_examples=80, **QUICK)
def test_cutting_the_history_changes_nothing_before_the_cut(what: Strategy, brief: Brief, share: float, where: str) -> None:
    ready = HISTORIES[where]
    whole = backtest(ready, what, brief)
    cut = max(60, int(len(ready.bars) * share))
    until = int(ready.bars.end[cut - 1])
    finer = FINE.take(int(np.searchsorted(FINE.end, until, "right"))) if ready.finer() else None
    part = Prepared.of(ready.bars.take(cut), finer=lambda: finer,
                       rates=lambda: RATES.take(int(np.searchsorted(RATES.end, until, "right"))))
    short = backtest(part, what, brief)
    done = whole.trades_i[whole.trades_i[:, k.T_EXIT_BAR] < cut - 1]
    np.testing.assert_array_equal(short.trades_i[: len(done)], done)
    np.testing.assert_array_equal(short.net[: max(0, len(short.net) - 1)], whole.net[: max(0, len(short.net) - 1)])


def test_any_number_of_threads_gives_the_same_bits() -> None:
    ready = HISTORIES["plain"]
    made = [Strategy(long=Side(entry=Condition(rows=(row(price(), "crosses above", ind("sma", length=n)),))),
                     stop=Distance(), trail=Trail(), sizing=Sizing(kind="risk", amount=0.5)) for n in range(5, 25)]
    alone = [backtest(ready, m, Brief(costs=COSTS, fine=True)).fingerprint for m in made]
    with ThreadPoolExecutor(4) as pool:
        together = list(pool.map(lambda m: backtest(Prepared.of(WIDE, finer=lambda: FINE), m,
                                                    Brief(costs=COSTS, fine=True)).fingerprint, made * 2))
    assert together == alone * 2


@given(strategies())
@settings(max_examples=60, **QUICK)
def test_strategies_survive_json_and_are_told_in_words(what: Strategy) -> None:
    back = Strategy.model_validate_json(what.model_dump_json())
    assert back == what
    assert strategy_hash(back) == strategy_hash(what)
    words = describe(what).casefold()
    for part, there in (("trail", what.trail), ("break even", what.break_even), ("out after", what.time_exit),
                        (f"by a {what.long.order.kind} order", what.long.order.kind != "market")):
        assert (part in words) == bool(there)


@pytest.mark.parametrize("load", [nasdaq.load, sp500.load], ids=["NASDAQ", "S&P 500"])
def test_buy_and_hold_against_arithmetic_on_open_data(load: object) -> None:
    """Daily series shipped with the package arch: buying the first open and holding to the last close."""
    frame = load().dropna()  # type: ignore[operator]
    grid = {c: frame[c].round(2).to_numpy() for c in ("Open", "High", "Low", "Close")}
    high = np.maximum.reduce(list(grid.values()))
    low = np.minimum.reduce(list(grid.values()))
    what = terms(time_zone="America/New_York", sessions=(SessionRule(days=WORKDAYS, open="09:00", close="17:00"),),
                 point_value=2.0)
    stamps = pd.DatetimeIndex(frame.index).tz_localize("America/New_York") + pd.Timedelta(hours=9)
    bars = make_bars(what, 480, stamps.tz_convert("UTC").as_unit("ns").asi8, (grid["Open"], high, low, grid["Close"]))
    always = Strategy(long=Side(entry=Condition(rows=(row(price(), "above", num(0)),))), short=Side(mode="off"),
                      flat_by_session_end=False)
    run = backtest(bars, always, Brief(costs=Costs(per_contract=3.0)))
    want = 2.0 * (grid["Close"][-1] - grid["Open"][0]) - 6.0
    assert measure(Facts.of(run), ("buy_and_hold",))["buy_and_hold"] == pytest.approx(want)
    # Deciding at the first close and filling at the next open, the simulator holds one bar less of it.
    held = {name: column[0] for name, column in ledger(run).items()}
    assert held["net"] == pytest.approx(2.0 * (grid["Close"][-1] - grid["Open"][1]) - 6.0)
    assert held["bars_held"] == len(bars) - 1


def test_statistics_only_runs_have_the_same_trades() -> None:
    strategy = Strategy(long=Side(entry=Condition(rows=(row(price(), "rises"),))), stop=Distance(), trail=Trail())
    runs: list[Run] = [backtest(WIDE, strategy, Brief(costs=COSTS), detail=d) for d in (True, False)]
    assert runs[0].fingerprint == runs[1].fingerprint
    assert (len(runs[1].log), len(runs[1].gross)) == (0, 0)
