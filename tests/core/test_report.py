"""A run taken apart: groups, drawdowns, costs, excursions, cautions, reasons, kept runs, exports; against plain pandas
and arithmetic."""

from __future__ import annotations

import datetime as dt
import json
import math
from pathlib import Path

import numpy as np
import openpyxl
import pandas as pd
import pytest

from tests.build import cross, entry, ind, num, price, row, walk_bars
from tests.core.test_engine_examples import FLAT, UP, bars_of, strategy
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.ledger import ledger, order_log
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.export.report import html_steps, pdf_steps
from wolbrin.core.export.steps import do_all, export_job
from wolbrin.core.export.tables import ledger_steps, measure_steps, measures_data, order_steps, table_steps
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.bars import Span
from wolbrin.core.market.costs import Costs
from wolbrin.core.measures.breakdown import WAYS, drawdown_list, groups, month_grid, side_facts
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.cautions import cautions, concentration
from wolbrin.core.measures.costs import waterfall
from wolbrin.core.measures.excursion import open_profit, what_if
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.fine import fine_effect
from wolbrin.core.measures.units import per_money
from wolbrin.core.rules.explain import why
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Distance, Sizing, Strategy, Trail
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.work.retesting import retest, run_again

COSTS = Costs(slippage_ticks=1, spread_ticks=1, per_contract=2.4)
STOPPED = cross(stop=Distance(unit="atr", amount=2.0), target=Distance(unit="stop", amount=2.0))
BARS = walk_bars(6000, seed=21)
RUN = backtest(BARS, STOPPED, Brief(costs=COSTS))
BOOK = pd.DataFrame(ledger(RUN))


@pytest.mark.parametrize("way", WAYS)
def test_groups_add_up_to_the_run(way: str) -> None:
    found = groups(RUN, way)
    assert sum(g.trades for g in found) == len(RUN)
    assert sum(g.net for g in found) == pytest.approx(RUN.profits.sum())


def test_groups_equal_pandas() -> None:
    by_reason = BOOK.groupby("exit_reason").net.agg(["count", "sum", "mean"])
    for g in groups(RUN, "exit reason"):
        assert [g.trades, g.net, g.average] == pytest.approx(by_reason.loc[g.label].tolist())
    oslo = BOOK.entry_time.dt.tz_localize("UTC").dt.tz_convert("Europe/Oslo")
    hours = BOOK.groupby(oslo.dt.strftime("%H:00")).net.sum()
    assert {g.label: round(g.net, 6) for g in groups(RUN, "hour")} == {h: round(v, 6) for h, v in hours.items()}
    years, grid = month_grid(RUN)
    months = BOOK.groupby([BOOK.exit_time.dt.year, BOOK.exit_time.dt.month]).net.sum()
    for (year, month), net in months.items():
        assert grid[years.index(year), month - 1] == pytest.approx(net)


def test_sides_split_the_trades_and_their_own_drawdown() -> None:
    for side, word in ((1, "long"), (-1, "short")):
        values = measure(side_facts(RUN, side))
        nets = BOOK[BOOK.side == word].net.to_numpy()
        assert values["net"] == pytest.approx(nets.sum())
        assert values["win_rate"] == pytest.approx(100 * (nets > 0).mean())
        curve = np.append(0.0, np.cumsum(nets))
        assert values["max_drawdown"] == pytest.approx((np.maximum.accumulate(curve) - curve).max())


def test_drawdown_list_is_the_measure_taken_apart() -> None:
    found = drawdown_list(RUN)
    values = measure(Facts.of(RUN), ("max_drawdown", "under_water"))
    assert found[0].depth == pytest.approx(values["max_drawdown"])
    assert max(d.days for d in found) == pytest.approx(values["under_water"])
    assert all(d.start < d.trough and (d.recovery is None or d.trough < d.recovery) for d in found)


def test_costs_fall_from_gross_to_net_and_break_even_where_the_simulator_does() -> None:
    w = waterfall(RUN)
    assert w.gross - w.spread - w.slippage - w.commission - w.financing == pytest.approx(w.net)
    free = backtest(BARS, STOPPED.model_copy(update={"on_opposite": "ignore"}), Brief(costs=COSTS))
    level = waterfall(free).level
    if not math.isnan(level):  # fixed size: the same trades at any cost
        there = backtest(BARS, free.strategy, Brief(costs=COSTS.scaled(level)))
        assert there.profits.sum() == pytest.approx(0.0, abs=1e-6 * abs(w.gross) + 1e-6)


def test_another_stop_is_what_the_simulator_makes_of_it() -> None:
    """Without reversals and session exits a tighter stop changes each trade alone; later entries are its own."""
    lone = strategy(("above", 100.0), flat_by_session_end=False, time_exit=6)
    bars = bars_of(FLAT, UP, (101.0, 101.2, 100.0, 100.9), *[(100.9, 103.0, 100.8, 102.5)] * 3, *[FLAT] * 4)
    wide = backtest(bars, lone, Brief(costs=COSTS))
    assert len(wide) == 1
    w = what_if(wide)
    for ticks in (50, 90):
        tight = backtest(bars, lone.model_copy(update={"stop": Distance(unit="ticks", amount=ticks)}), Brief(costs=COSTS))
        first = int(np.searchsorted(w.ticks, ticks))
        if w.ticks[first] == ticks:
            assert w.stop[first] == pytest.approx(tight.profits[0])


def test_open_profit_ends_at_the_trade_and_stays_inside_its_excursions() -> None:
    for index in range(0, len(RUN), 7):
        path = open_profit(RUN, index)
        row_ = BOOK.iloc[index]
        assert path.close[-1] == pytest.approx(row_.gross)
        assert path.best.max() == pytest.approx(max(row_.mfe, row_.gross))
        assert path.worst.min() == pytest.approx(min(row_.mae, row_.gross))
        assert len(path.bar) == max(1, row_.bars_held)


def test_cautions_name_their_number() -> None:
    def keys(run: Run) -> set[str]:
        return {c.key for c in cautions(run)}

    assert "few" not in keys(RUN)
    assert "few" in keys(backtest(BARS, STOPPED, Brief(most_bars=500)))
    stopless = backtest(BARS, cross(flat_by_session_end=False), Brief())
    assert {"no stop", "financing"} <= keys(stopless)
    assert "no stop" not in keys(backtest(BARS, cross(trail=Trail(distance=Distance())), Brief()))
    tight = cross(stop=Distance(unit="ticks", amount=6), target=Distance(unit="ticks", amount=6))
    rough = backtest(BARS, tight, Brief())
    told = next(c for c in cautions(rough) if c.key == "ambiguous")
    assert str(rough.counts["ambiguous"]) in told.text
    assert "Finer bars" in told.text
    tiny = bars_of(FLAT, FLAT, UP, UP, point_value=1e-12)
    ended = backtest(tiny, strategy(sizing=Sizing(kind="notional", amount=1e12)), Brief())
    assert cautions(ended)[0].key == "fault"


def test_money_in_other_units() -> None:
    """One contract of 100 a point: 100 of money is a point; R by the mean initial risk; percent of 50,000."""
    assert per_money(RUN, "points") == pytest.approx(0.01)
    assert per_money(RUN, "percent") == pytest.approx(0.002)
    assert per_money(RUN, "R") == pytest.approx(1 / (BOOK.net / BOOK.r_multiple).mean())
    assert math.isnan(per_money(backtest(BARS, cross(), Brief()), "R"))


def test_concentration_by_hand() -> None:
    """Net 100 of +60, +30, +20, -10: the best trade alone brings more than half of it."""
    made = backtest(BARS, STOPPED, Brief())
    made.trades_f[:4, k.F_NET] = (60, 30, 20, -10)
    made.trades_f[4:, k.F_NET] = 0.0
    assert concentration(made) == (1, pytest.approx(60.0))


def test_why_reads_what_the_decision_read() -> None:
    history = Prepared.of(BARS)
    for index in (0, len(RUN) // 2, len(RUN) - 1):
        t = RUN.trades_i[index]
        readings = why(history.columns, STOPPED, int(t[k.T_SIDE]), int(t[k.T_DECISION]))
        assert all(r.held for r in readings)
        left, right = (history.columns.indicator("ema", {"length": n}, "value", "close")[t[k.T_DECISION]] for n in (5, 15))
        assert (readings[0].left, readings[0].right) == (left, right)
    quiet = why(history.columns, STOPPED, 1, int(RUN.trades_i[0, k.T_DECISION]) + 1)
    assert not quiet[0].held, "a crossing holds on one bar only"
    missing = why(history.columns, Strategy(long=entry(row(ind("sma", length=50), "above", num(0)))), 1, 3)
    assert (math.isnan(missing[0].left), missing[0].held) == (True, False)


def test_fine_effect_compares_two_runs() -> None:
    assert fine_effect(Prepared.of(BARS), STOPPED, Brief()) is None


def test_exports_hold_the_ledger(tmp_path: Path) -> None:
    files = [tmp_path / f"book{ending}" for ending in (".csv", ".xlsx", ".parquet")]
    for file in files:
        do_all(ledger_steps(RUN, file))
    csv = pd.read_csv(files[0])
    np.testing.assert_allclose(csv.net, BOOK.net)
    assert csv.entry_time[0] == f"{BOOK.entry_time[0]:%Y-%m-%dT%H:%M:%SZ}"
    sheet = openpyxl.load_workbook(files[1])["ledger"]
    assert sheet.max_row == len(RUN) + 1
    assert "entry_time (UTC)" in [c.value for c in sheet[1]]
    parquet = pd.read_parquet(files[2])
    pd.testing.assert_series_equal(parquet.net, BOOK.net)
    assert str(parquet.entry_time.dtype).endswith("UTC]")
    do_all(order_steps(RUN, tmp_path / "orders.csv"))
    assert len(pd.read_csv(tmp_path / "orders.csv")) == len(RUN.log)
    do_all(measure_steps(RUN, tmp_path / "m.json"))
    data = json.loads((tmp_path / "m.json").read_text())
    assert data["all"]["net"] == pytest.approx(BOOK.net.sum())
    assert data == json.loads(json.dumps(measures_data(RUN)))
    with pytest.raises(UserError, match="not written"):
        do_all(table_steps(lambda: ledger(RUN), tmp_path / "book.doc"))
    with pytest.raises(EnvironmentTrouble, match="cannot be written"):
        do_all(ledger_steps(RUN, tmp_path / "missing" / "book.csv"))


def test_an_export_is_stopped_and_leaves_nothing(tmp_path: Path) -> None:
    path = tmp_path / "long.csv"
    path.write_text("what was there before")
    table = {"net": np.arange(200_000.0), "time": np.arange(200_000).astype("datetime64[s]").astype("datetime64[ns]")}
    for ending in (".csv", ".xlsx", ".parquet"):
        steps = table_steps(lambda: table, path.with_suffix(ending))
        for _ in range(2):
            next(steps)
        steps.close()
    assert [p.name for p in tmp_path.iterdir()] == ["long.csv"]
    assert path.read_text() == "what was there before"
    ended: list[State] = []
    job = export_job(path, table_steps(lambda: table, path), ended.append)
    engine = Engine(1)
    engine.start(job, "threads")
    job.wait()
    engine.close()
    assert (ended, job.progress().done, job.progress().total) == ([State.DONE], 100, 100)
    np.testing.assert_array_equal(pd.read_csv(path).net, table["net"])


def test_report_is_one_file_and_escapes_names(tmp_path: Path) -> None:
    name = "<script>alert(1)</script> $\\frac{$ {{ 7 * 7 }}"
    bad = backtest(BARS, STOPPED.model_copy(update={"name": name}), Brief(costs=COSTS))
    do_all(html_steps(bad, tmp_path / "r.html", "EUR"))
    do_all(pdf_steps(bad, tmp_path / "r.pdf", "EUR"))
    text = (tmp_path / "r.html").read_text()
    assert "49" not in text.split("<h1>")[1].split("</h1>")[0]
    assert "<script" not in text
    assert text.count("data:image/png;base64,") == 4
    assert "http" not in text.replace("http-equiv", "")
    assert bad.fingerprint in text
    assert (tmp_path / "r.pdf").read_bytes().startswith(b"%PDF")
    assert (tmp_path / "r.html").stat().st_size > 50_000


def test_order_log_and_ledger_tell_the_same_story() -> None:
    log = pd.DataFrame(order_log(RUN))
    filled = log[(log.event == "filled") & log.order.str.endswith("entry")]
    assert filled.trade.tolist() == list(range(1, len(RUN) + 1))
    np.testing.assert_array_equal(filled.time.to_numpy(), BOOK.entry_time.to_numpy())
    out = log[(log.event == "filled") & ~log.order.str.endswith("entry")]
    assert out.reason.tolist() == BOOK.exit_reason.tolist()
    np.testing.assert_allclose(out.price, BOOK.exit_price)


def test_kept_runs_run_again_bit_identically_and_retest_on_a_longer_span(tmp_path: Path) -> None:
    project = Project.create(tmp_path / "p")
    try:
        project.add_market(BARS.terms, BARS, "walk")
        days = BARS.trading_date
        border = dt.date(1970, 1, 1) + dt.timedelta(days=int(days[3000]))
        last = dt.date(1970, 1, 1) + dt.timedelta(days=int(days[-1]))
        settings = project.settings.model_copy(update={
            "training_first": dt.date(2024, 1, 1), "holdout_first": border, "last": last})
        project.update_settings(settings)
        history = project.prepared("TST", 15)
        made = backtest(history, STOPPED, project.settings.brief(history.bars.terms))
        dossiers = Dossiers(project)
        dossiers.keep_run(made, "first")
        kept = dossiers.runs()[0]
        again = run_again(project, kept)
        assert (again.same, again.changed) == (True, ())
        with pytest.raises(UserError, match="no bars beyond"):
            retest(project, kept)
        later = settings.model_copy(update={"holdout_first": last})
        project.update_settings(later, "history has grown")
        grown = retest(project, kept)
        assert len(grown.after.net) > len(grown.before.net)
        np.testing.assert_array_equal(grown.after.net[: len(grown.before.net) - 1], grown.before.net[:-1])
        assert grown.border == int(BARS.end[grown.before.last - 1])
    finally:
        project.close()


def test_old_strategies_keep_their_hash() -> None:
    """Evidence kept before later fields came stays with its strategy: this digest was made by the first version."""
    old = Strategy(long=entry(row(price(), "above", ind("sma", length=20))))
    assert strategy_hash(old) == strategy_hash(old.model_copy(update={"name": "other"}))
    assert strategy_hash(old) != strategy_hash(old.model_copy(update={"sizing": Sizing(kind="percent", amount=5)}))
    assert strategy_hash(old) == "c65a5f33340ac70a"


def test_compounding_sharpe_uses_daily_returns() -> None:
    """Against pandas: returns over the equity before, where the size compounds."""
    sized = cross(stop=Distance(unit="atr", amount=2.0), sizing=Sizing(kind="risk", amount=1.0))
    made = backtest(BARS, sized, Brief(capital=1e6))
    equity = pd.Series(1e6 + np.cumsum(made.daily[1]))
    returns = equity.pct_change()
    returns.iloc[0] = equity.iloc[0] / 1e6 - 1
    want = returns.mean() / returns.std() * math.sqrt(252)
    assert measure(Facts.of(made), ("sharpe",))["sharpe"] == pytest.approx(want)


def test_a_span_beyond_the_data_has_no_trades_and_no_faults() -> None:
    empty = backtest(BARS, STOPPED, Brief(Span(dt.date(2030, 1, 1), None)))
    assert (len(empty), len(empty.log), empty.fault) == (0, 0, "")
    assert cautions(empty) == []
