"""Portfolios: traded, taken apart, weighed, found, kept and taken elsewhere."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from openpyxl import load_workbook
from pydantic import ValidationError

from tests.build import cross, walk_bars
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.account import Resize, Seat, run_account
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.export.portfolio_report import report_steps
from wolbrin.core.export.steps import do_all
from wolbrin.core.jobs import Engine
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.terms import Margin
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.portfolio.chances import LOSSES, chances
from wolbrin.core.portfolio.choosing import Choice
from wolbrin.core.portfolio.contributions import Change, change_with, change_without, contributions
from wolbrin.core.portfolio.file import file_of, read_portfolio_file
from wolbrin.core.portfolio.over_time import held_throughout, month_grid, use_of
from wolbrin.core.portfolio.plan import LossLimit, Member, Plan
from wolbrin.core.portfolio.played import Part, Played, play, trouble_of
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Distance, Sizing, Strategy
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.portfolios import Portfolios
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.work.portfolio_files import read_portfolio, write_portfolio
from wolbrin.core.work.portfolio_find import Found, ask, chosen_plan, find_job
from wolbrin.core.work.portfolio_pieces import changes_job, others_of, told_of
from wolbrin.core.work.portfolios import cautions_of, desk_of, kept_of, plan_of, weight_table, weights_of
from wolbrin.core.work.whole import dearer

COSTS = Costs(slippage_ticks=1, per_contract=1.0)
HISTORIES = [Prepared.of(walk_bars(2600, seed=s, code=c, margin=Margin(per_contract=m)))
             for s, c, m in ((4, "AAA", 400.0), (5, "BBB", 900.0), (6, "CCC", 50.0))]


def strategy(n: float, **more: object) -> Strategy:
    return cross(name=f"S{n}", stop=Distance(unit="atr", amount=n), flat_by_session_end=False, **more)


def parts(*more: Strategy) -> list[Part]:
    found = [Part(f"P{i}", HISTORIES[i % 3], strategy(1.0 + i / 2), Brief(costs=COSTS)) for i in range(4)]
    return [*found, *(Part(w.name, HISTORIES[0], w, Brief(costs=COSTS)) for w in more)]


def plan_for(some: list[Part], **settings: object) -> Plan:
    members = tuple(Member(name=p.name, hash=f"{p.name}", market=p.history.bars.terms.code, interval=15) for p in some)
    return Plan(members=members, **settings)  # type: ignore[arg-type]


def same(a: Played, b: Played) -> None:
    assert len(a.runs) == len(b.runs)
    for one, two in zip(a.runs, b.runs):
        np.testing.assert_array_equal(one.trades_i, two.trades_i)
        np.testing.assert_array_equal(one.trades_f[:, k.F_NET], two.trades_f[:, k.F_NET])
    np.testing.assert_allclose(a.equity - a.capital, b.equity - b.capital, atol=1e-6)


def test_one_account_with_ample_capital_equals_an_account_for_each_to_the_cent() -> None:
    some = parts()
    one, each = (play(plan_for(some, one_account=o), some, 1e9) for o in (True, False))
    same(one, each)
    alone = [backtest(p.history, p.strategy, replace(p.brief, capital=1e9)) for p in some]
    total = sum(r.profits.sum() for r in alone)
    assert one.facts.net == pytest.approx(total)
    assert one.equity[-1] - 1e9 == pytest.approx(total)
    assert one.daily[1].sum() == pytest.approx(total)
    np.testing.assert_allclose(one.each[-1], [r.profits.sum() for r in alone])
    assert one.entries[-1].purse == pytest.approx(1e9 + total)
    assert [e.at for e in each.entries] == sorted(e.at for e in each.entries)
    single, itself = measure(play(plan_for(some[:1]), some[:1], 1e9).facts), measure(Facts.of(alone[0]))
    for key in ("net", "trades", "max_drawdown", "sharpe", "t", "t_daily", "under_water", "exposure", "profit_factor"):
        assert single[key] == pytest.approx(itself[key], nan_ok=True), key


@pytest.mark.parametrize("sizing", [Sizing(kind="risk", amount=2.0), Sizing(kind="percent", amount=300.0)])
def test_a_portfolio_that_compounds_is_measured_by_returns(sizing: Sizing) -> None:
    """As its only member alone, whose Sharpe and Sortino ratios are of daily returns."""
    part = parts()[0]
    part = replace(part, strategy=part.strategy.model_copy(update={"sizing": sizing}))
    made = play(plan_for([part]), [part], 50_000.0)
    alone = measure(Facts.of(backtest(part.history, part.strategy, replace(part.brief, capital=50_000.0))))
    for key in ("net", "sharpe", "sortino", "calmar", "t_daily"):
        assert measure(made.facts)[key] == pytest.approx(alone[key], nan_ok=True), key
    assert made.compounds
    fixed = play(plan_for(parts()[:1]), parts()[:1], 50_000.0)
    assert not fixed.compounds


@pytest.mark.parametrize("capital", [1e7, 2_000.0])
def test_without_and_with_a_member_is_a_portfolio_really_built_so(capital: float) -> None:
    some = parts()
    made = play(plan_for(some, limit=LossLimit(amount=300)), some, capital)
    for at in range(4):
        left = [p for i, p in enumerate(some) if i != at]
        want = measure(play(plan_for(left, limit=LossLimit(amount=300)), left, capital).facts)
        got = change_without(made.plan, some, capital, at)
        assert {key: want[key] for key in got.figures} == pytest.approx(got.figures, nan_ok=True)
    three = plan_for(some[:3], limit=LossLimit(amount=300))
    more = Member(name="P3", hash="P3", market="AAA", interval=15)
    got = change_with(three, some[:3], capital, more, some[3], 0)
    assert got.figures == pytest.approx({key: made.facts and measure(made.facts)[key] for key in got.figures}, nan_ok=True)
    twice = made.plan.without(0).without(1)
    np.testing.assert_allclose(twice.scales([some[1].strategy, some[3].strategy]), [1.0, 1.0])


def test_shares_contracts_and_size_say_how_much_each_trades() -> None:
    some = parts()
    plan = plan_for(some)
    np.testing.assert_allclose(plan.scales([p.strategy for p in some]), 1.0)
    shares = plan.with_shares([0.5, 0.25, 0.25, 0.0], "own").model_copy(update={"size": 8.0})
    np.testing.assert_allclose(shares.scales([p.strategy for p in some]), [4, 2, 2, 0])
    made = play(shares, some, 1e9)
    assert [set(r.trades_f[:, k.F_QUANTITY]) or {0.0} for r in made.runs] == [{4.0}, {2.0}, {2.0}, {0.0}]
    members = list(shares.members)
    members[1] = members[1].model_copy(update={"contracts": 3.0})
    fixed = play(shares.model_copy(update={"members": tuple(members)}), some, 1e9)
    assert set(fixed.runs[1].trades_f[:, k.F_QUANTITY]) == {3.0}
    risky = Part("R", HISTORIES[0], strategy(2.0, sizing=Sizing(kind="risk", amount=1.0)), Brief())
    with pytest.raises(UserError, match="R sizes its trades by risk, so that it has no fixed number"):
        play(Plan(members=(Member(name="R", hash="R", market="AAA", interval=15, contracts=2.0),)), [risky], 1e5)
    with pytest.raises(UserError, match="at least one strategy"):
        play(Plan(members=()), [], 1e5)
    with pytest.raises(UserError, match="no member has a share above zero"):
        play(plan.with_shares([0, 0, 0, 0], "own"), some, 1e5)
    with pytest.raises(ValidationError, match="in it twice"):
        Plan(members=(members[0], members[0]))


def test_what_rounding_loses_and_from_which_size_all_trade() -> None:
    some = parts()
    half = plan_for(some).with_shares([0.4, 0.3, 0.2, 0.1], "own")
    made = play(half, some, 1e9)
    np.testing.assert_allclose(made.rounding.asked, [1.6, 1.2, 0.8, 0.4])
    np.testing.assert_allclose(made.rounding.whole, [1, 1, 0, 0])
    assert made.rounding.lost == pytest.approx(0.5)
    assert "P2, P3 trade nothing" in " ".join(trouble_of(made))
    assert made.least_size == pytest.approx(10.0)
    grown = play(half.model_copy(update={"size": made.least_size}), some, 1e9)
    assert (grown.rounding.whole >= 1).all()
    assert all(len(r) for r in grown.runs)


def test_little_capital_refuses_by_priority_and_says_so() -> None:
    some = parts()
    members = plan_for(some).members
    tight = play(Plan(members=members), some, 1_000.0)
    turned = play(Plan(members=tuple(m.model_copy(update={"priority": 4 - i}) for i, m in enumerate(members))), some, 1_000.0)
    assert "account" in {r.reason for r in tight.refused}
    assert len(turned.runs[0]) < len(tight.runs[0])
    assert len(turned.runs[1]) >= len(tight.runs[1])
    assert "entries refused" in " ".join(trouble_of(tight))
    none = play(Plan(members=members[1:2]), some[1:2], 500.0)
    assert {r.reason for r in none.refused} == {"margin above equity"}
    assert "It never traded" in " ".join(trouble_of(none))
    use = use_of(tight)
    assert max(t.share for t in use.tightest) == pytest.approx((tight.margin / tight.equity).max())
    assert np.nanmax(use.margin) == pytest.approx(use.tightest[0].share)


def test_sizes_follow_the_account_by_month_and_in_steps() -> None:
    part = parts()[0]
    seat = Seat("one", part.history, part.strategy.model_copy(update={"quantity": 10.0}), part.brief)
    plain = run_account([seat], 20_000.0)
    never = run_account([seat], 20_000.0, resize=Resize(step=1e9))
    np.testing.assert_array_equal(plain.mark, never.mark)
    for resize in (Resize(monthly=True), Resize(step=0.05)):
        made = run_account([seat], 20_000.0, resize=resize)
        dates = (made.instants - 1) // (86_400 * 10**9)
        unit = dates.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64) if resize.monthly else dates
        run = made.runs[0]
        last, sizes = 20_000.0, np.full(len(made.instants), 10.0)
        for t in range(1, len(unit)):
            if unit[t] != unit[t - 1] and (resize.monthly or abs(made.mark[t - 1] - last) >= 0.05 * last):
                last = made.mark[t - 1]
            sizes[t] = np.floor(10.0 * last / 20_000.0 + 1e-9)
        decided = run.trades_i[:, k.T_DECISION] - run.first
        np.testing.assert_array_equal(run.trades_f[:, k.F_QUANTITY], sizes[decided])
        assert len(set(run.trades_f[:, k.F_QUANTITY])) > 1


def test_what_each_adds_sums_to_the_whole() -> None:
    some = parts()
    made = play(plan_for(some), some, 20_000.0)
    c = contributions(made)
    assert c.net.sum() == pytest.approx(made.facts.net)
    assert c.risk.sum() == pytest.approx(1.0)
    sigma = np.cov(made.table[1], rowvar=False)
    np.testing.assert_allclose(c.risk, sigma.sum(axis=0) / sigma.sum())
    for fall in c.falls:
        assert fall.each.sum() == pytest.approx(-fall.depth)
    assert c.falls[0].depth == pytest.approx(measure(made.facts)["max_drawdown"])
    years, grid = month_grid(*made.daily)
    assert np.nansum(grid) == pytest.approx(made.daily[1].sum())
    assert grid.shape == (len(years), 12)
    holding = held_throughout(made, ["AAA"])
    bars = HISTORIES[0].bars
    contracts = 20_000.0 / (bars.o[made.runs[0].first] * bars.terms.tick_value)
    assert holding[-1] == pytest.approx(measure(Facts.of(made.runs[0]))["buy_and_hold"] * contracts)


def test_chances_draw_whole_days() -> None:
    """A day's results of all members stay together: two that cancel each other out never lose."""
    rng = np.random.default_rng(1)
    x = rng.normal(0, 100, 500)
    calm = chances(x - x + 1.0, 10_000)
    assert calm.ruin.tolist() == [0.0] * len(LOSSES)
    wild = chances(x + 5, 10_000, 2_000)
    assert (np.diff(wild.ruin) <= 0).all()
    assert wild.size_for(2 * wild.drawdown[1]) == pytest.approx(2.0)
    assert wild.drawdown[0] < wild.drawdown[1]
    assert wild.capital[0] > wild.capital[-1]


# On a project


@pytest.fixture(scope="module")
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    made = Project.create(tmp_path / "p", Settings(training_first="2024-01-01", holdout_first="2024-03-01",
                                                   last="2024-12-31"))
    for history in HISTORIES:
        made.add_market(history.bars.terms, history.bars, "test")
    yield made
    made.close()


@pytest.fixture
def ids(project: Project) -> list[int]:
    found = []
    for i in range(6):
        history, what = project.prepared(("AAA", "BBB", "CCC")[i % 3], 15), strategy(1.0 + i / 2)
        run = backtest(history, what, project.settings.brief(history.bars.terms))
        id = Dossiers(project).keep(candidate_of(run, f"C{i}", "rules", 3))
        assert id is not None
        found.append(id)
    return found


def test_a_portfolio_is_kept_found_again_and_compared(project: Project, ids: list[int], tmp_path: Path) -> None:
    shelf, store = Shelf(project), Portfolios(project)
    plan = plan_of(shelf.bodies(ids[:3]), "Three").model_copy(update={"capital": 70_000.0, "one_account": False})
    told = told_of(desk_of(project, plan))
    assert told.records[0].capital == 70_000.0
    assert store.keep(plan, told.figures, told.records) == "Three"
    assert store.keep(plan, told.figures, told.records) == "Three (2)"
    saved = store.named("three")
    assert saved.plan == plan
    assert saved.figures["net"] == told.figures["net"]
    assert [r.key for r in saved.records] == [r.key for r in told.records]
    again = told_of(desk_of(project, saved.plan))
    assert again.played.equity.tobytes() == told.played.equity.tobytes(), "the same record, the same bits"
    store.remove(saved.id)
    with pytest.raises(UserError, match='there is no portfolio "nobody"'):
        store.named("nobody")
    mixed = plan_of(shelf.bodies(ids[1:4]), old=plan)
    assert (mixed.capital, mixed.one_account, [m.name for m in mixed.members]) == (70_000.0, False, ["C1", "C2", "C3"])
    shelf.remove([ids[0]])
    with pytest.raises(UserError, match="C0 on AAA is on the Shelf no more"):
        kept_of(project, plan)


def test_weights_on_a_project_and_what_they_recommend(project: Project, ids: list[int]) -> None:
    desk = desk_of(project, plan_of(Shelf(project).bodies(ids[:4])))
    made = weights_of(desk, "erc")
    assert made.weights == "erc"
    assert made.shares.sum() == pytest.approx(1.0)
    assert not np.allclose(made.shares, 0.25)
    table = weight_table(desk)
    assert table.recommended in [r.key for r in table.rows]
    np.testing.assert_allclose(table.of("erc").weights, made.shares)
    with pytest.raises(UserError, match="at most 20% in one member"):
        weights_of(desk_of(project, desk.plan.model_copy(update={"limits": desk.plan.limits.model_copy(
            update={"member": 0.2})})), "variance")


def test_near_twins_and_a_changed_history_are_told(project: Project, ids: list[int]) -> None:
    history, what = project.prepared("AAA", 15), strategy(1.0).model_copy(update={"time_exit": 999})
    run = backtest(history, what, project.settings.brief(history.bars.terms))
    twin = Dossiers(project).keep(candidate_of(run, "Twin", "rules", 3))
    assert twin is not None
    kept = Shelf(project).bodies([ids[0], ids[1], twin])
    desk = desk_of(project, plan_of(kept))
    said = " ".join(cautions_of(desk, desk.played()))
    assert "C0 and Twin are nearly the same bet" in said
    assert "has changed" not in said
    record = kept[0].candidate.record.model_copy(update={"history": "other"})
    bodies = (replace(desk.bodies[0], record=record), *desk.bodies[1:])
    changed = replace(desk, bodies=bodies)
    assert "The history of C0 has changed since it was kept" in " ".join(cautions_of(changed, changed.played()))


def test_finding_counts_what_it_tries_and_trades_the_best(project: Project, ids: list[int], engine: Engine) -> None:
    got: list[Found] = []
    asked = ask(project, ids, Choice(3, "sharpe", 5, per_market=2), Plan(members=(), capital=1e7))
    engine.start(find_job(project, ids, asked, got.append, 4), "threads").wait()
    found = got[0]
    assert (found.chosen.whole, found.chosen.tried) == (20, 20)
    assert found.tried == 20
    assert Searches(project).tried().get("AAA", 0) == 0, "combinations are no rules of a market"
    again: list[Found] = []
    engine.start(find_job(project, ids, asked, again.append, 4), "threads").wait()
    assert again[0].tried == 40, "trying again counts again"
    assert again[0].controls == found.controls
    best = chosen_plan(found.plan, found.chosen.members[0].tolist(), found.tried)
    assert best.tried == 20
    told = told_of(desk_of(project, best))
    assert told.figures["sharpe"] == pytest.approx(found.chosen.score[0], rel=1e-6)
    assert told.figures["net"] == pytest.approx(found.exact[0]["net"])
    assert "20 combinations tried" in found.words()
    with pytest.raises(UserError, match="fewer than two"):
        ask(project, ids[:1], Choice(1), Plan(members=()))
    nothing: list[Found] = []
    strict = ask(project, ids, Choice(3, drawdown=1e-6), Plan(members=()))
    engine.start(find_job(project, ids, strict, nothing.append, 0), "threads").wait()
    assert "None of the 20 combinations keeps the limits" in nothing[0].words()


def test_less_and_more_are_worked_out_piece_by_piece(project: Project, ids: list[int], engine: Engine) -> None:
    plan = plan_of(Shelf(project).bodies(ids[:4]))
    plan = plan.model_copy(update={"members": (*plan.members[:3], plan.members[3].model_copy(update={"on": False}))})
    desk, got = desk_of(project, plan), list[tuple[tuple[str, int], Change]]()
    engine.start(changes_job(others_of(project, desk), lambda *x: got.append(x)), "threads").wait()
    assert [u for u, _ in got][:4] == [("without", 0), ("without", 1), ("without", 2), ("with", 0)]
    assert got[3][1].name == "C3", "a member that is off comes first"
    four = desk_of(project, plan_of(Shelf(project).bodies(ids[:4]))).played()
    assert got[3][1].figures["net"] == pytest.approx(four.facts.net)


def test_a_portfolio_goes_elsewhere_and_comes_back(project: Project, ids: list[int], tmp_path: Path) -> None:
    shelf, path = Shelf(project), tmp_path / "mine.json"
    plan = plan_of(shelf.bodies(ids[:2]), "Mine").model_copy(update={"limit": LossLimit(amount=2, percent=True)})
    write_portfolio(project, plan, path)
    assert read_portfolio(project, path).plan == plan
    figures = told_of(desk_of(project, plan)).figures
    shelf.remove([ids[1]])
    back = read_portfolio(project, path)
    assert back.new == ("C1",)
    assert told_of(desk_of(project, back.plan)).figures == pytest.approx(figures, nan_ok=True)
    line = shelf.of_rules(plan.members[1].hash, plan.members[1].market, 15)
    assert line is not None
    assert line.origin == "portfolio file"
    good = json.loads(path.read_text())
    for change, said in (
            ({"format": "x"}, "no portfolio file"), ({"strategies": good["strategies"][:1]}, "2 members and 1 strategies"),
            ({"strategies": good["strategies"][::-1]}, "not the one that the portfolio was made of"),
            ({"plan": good["plan"] | {"zone": "../../etc"}}, "zone"), ({"plan": good["plan"] | {"more": 1}}, "more")):
        path.write_text(json.dumps(good | change))
        with pytest.raises(UserError, match=said):
            read_portfolio_file(path)
    far = [m | {"market": "ZZZ"} for m in good["plan"]["members"]]
    path.write_text(json.dumps(good | {"plan": good["plan"] | {"members": far}}))
    with pytest.raises(UserError, match="it trades ZZZ, which this project does not have"):
        read_portfolio(project, path)
    assert file_of(plan, [k.candidate.strategy for k in kept_of(project, back.plan)]).plan.members[0].candidate == 0
    assert strategy_hash(shelf.bodies(ids[:1])[0].candidate.strategy) == plan.members[0].hash


@pytest.mark.parametrize("kind", ["html", "pdf", "xlsx"])
def test_the_report_says_all(project: Project, ids: list[int], tmp_path: Path, kind: str) -> None:
    plan = plan_of(Shelf(project).bodies(ids[:3]), "=Mine & <others>")
    desk = desk_of(project, plan)
    told, path = told_of(desk), tmp_path / f"r.{kind}"
    gone = [change_without(plan, desk.parts(), desk.capital, 0)]
    do_all(report_steps(told, path, "EUR", gone, gone, weight_table(desk)))
    if kind == "html":
        text = path.read_text()
        assert "=Mine &amp; &lt;others&gt;" in text
        for word in ("Without each", "With one more", "Weights, walked forward", "Deepest drawdowns", "Risk of losing", "C2"):
            assert word in text
    elif kind == "pdf":
        assert path.read_bytes().startswith(b"%PDF")
    else:
        book = load_workbook(path)
        assert {"Measures", "Members", "Ledger", "Daily results", "What made this"} <= set(book.sheetnames)
        rows = list(book["Ledger"].values)
        assert len(rows) == 1 + len(told.played.entries)
        assert rows[-1][-1] == pytest.approx(told.played.entries[-1].purse)
        days = list(book["Daily results"].values)[1:]
        assert sum(r[1] for r in days) == pytest.approx(told.played.daily[1].sum())
    with pytest.raises(UserError, match="is not written"):
        do_all(report_steps(told, tmp_path / "r.doc", "EUR"))


def test_nobody_opens_the_holdout_at_costs_of_a_wish() -> None:
    project = Costs(per_contract=2.4, slippage_ticks=1, financing_long=-0.3)
    assert dearer(None, project) == project
    assert dearer(Costs(), project) == project
    made = dearer(Costs(per_contract=5, financing_long=9.0), project)
    assert (made.per_contract, made.slippage_ticks, made.financing_long) == (5, 1, -0.3)
