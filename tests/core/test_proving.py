"""The line of gates: how it is composed, what its gates see, and how it is measured."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest
from arch.bootstrap import StationaryBootstrap
from scipy.stats import binomtest

from tests.build import SHORT, cross, ind, num, row, walk_bars
from wolbrin.core.batch.genomes import genome_of
from wolbrin.core.batch.many import Many
from wolbrin.core.batch.shifted import Shifting
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Engine
from wolbrin.core.market.bars import Span
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.intervals import to_interval
from wolbrin.core.measures.drawdown import episodes
from wolbrin.core.proving.costs import CostsGate
from wolbrin.core.proving.elsewhere import ElsewhereGate, ElsewhereSettings, rescaled
from wolbrin.core.proving.evidence import EvidenceGate, EvidenceSettings
from wolbrin.core.proving.gate import Case, Gate, Origin, Outcome
from wolbrin.core.proving.line import GATES, Line, Step, usual_line, walk_line
from wolbrin.core.proving.luck import LuckGate, LuckSettings, _strength
from wolbrin.core.proving.monte_carlo import block_length, capital_for, fan_of, risk_of_ruin, simulate_paths
from wolbrin.core.proving.run_again import RunAgainGate, RunAgainSettings
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.model import Condition, Distance, Side, Strategy
from wolbrin.core.search.luck import luck_of
from wolbrin.core.search.strength import strength_of
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import Settings
from wolbrin.core.study.perturb import Noise, planted, redrawn
from wolbrin.core.work.discovering import KIND
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.lines import find_line, gates_of, line_of, save_line, saved_lines, use_line
from wolbrin.core.work.origins import Origins
from wolbrin.core.work.proving import Proved, case_of, prove_job
from wolbrin.core.work.rates import Rates, RatesRequest, rates_job, read_rates, wilson
from wolbrin.core.work.standing import Standings
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_sets import candidate_from_sweep
from wolbrin.core.work.sweeping import sweep_job

BARS = walk_bars(3_000, seed=8)
READY = Prepared.of(BARS)
STOPPED = cross(stop=Distance(unit="atr", amount=1.5))


@pytest.fixture
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    made = Project.create(tmp_path / "p", Settings(training_first=dt.date(2024, 1, 1), holdout_first=dt.date(2024, 4, 1),
                                                   last=dt.date(2024, 12, 31)))
    bars = walk_bars(2_600, seed=4, code="AAA")
    made.add_market(bars.terms, bars, "test")
    yield made
    made.close()


def case(**more: Any) -> Case:
    return Case(STOPPED, READY, Brief(), Span(), 10, **more)


# Lines


def test_a_line_is_composed_kept_and_refused(project: Project) -> None:
    assert [g.key for g in gates_of(project)] == [s.gate for s in usual_line().steps if s.on]
    own = Line(name="mine", steps=(Step(gate="holdout", on=False), Step(gate="blocks", settings={"blocks": 6}),
                                   Step(gate="costs", on=False), Step(gate="evidence")))
    assert [g.key for g in own.gates()] == ["blocks", "evidence", "holdout"], "the holdout is last, and always there"
    assert own.gates()[0].settings["blocks"] == 6
    assert Line.model_validate_json(own.model_dump_json()) == own
    save_line(project, own)
    use_line(project, find_line(project, "mine"))
    assert (line_of(project), list(saved_lines(project))) == (own, ["usual", "mine"])
    for steps, words in (((Step(gate="nonsense"),), "no gate"), ((Step(gate="blocks", settings={"blocks": 1}),), "blocks"),
                         ((Step(gate="blocks", settings={"colour": 1}),), "colour")):
        with pytest.raises(UserError, match=words):
            use_line(project, Line(name="bad", steps=steps))
    assert line_of(project) == own, "what is refused changes nothing"
    for broken in ({"steps": [{"gate": "gone"}]}, ["x"], {"steps": [{"gate": "blocks", "settings": {"blocks": "many"}}]}):
        project.set_value("line in use", broken)
        assert line_of(project) == usual_line(), "a project opens whatever it holds"
    with pytest.raises(UserError, match="cannot be saved"):
        save_line(project, usual_line())


def test_verdicts_that_hold_are_not_asked_again_and_a_fall_ends_the_line(project: Project, engine: Engine) -> None:
    subject = Subject(STOPPED, "AAA", 15)
    for all_gates in (False, False, True):
        engine.start(prove_job(project, [subject], open_holdout=False, all_gates=all_gates), "threads").wait()
        told = [e.gate for e in Dossiers(project).evidence(*subject.key)]
        assert len(told) == len(set(told))
    assert set(told) == {g.key for g in gates_of(project) if not g.opens_holdout}
    asked: list[str] = []

    class Asked(EvidenceGate):
        def judge(self, case: Case) -> Outcome:
            asked.append(self.key)
            return self.falls(case, "No.", {})

    def never(case: Case, gate: Gate) -> Outcome:
        raise AssertionError("a fallen candidate does not open the holdout")

    gates = (Asked(), *SHORT.gates())
    assert [o.gate for o in walk_line(case(), gates, open_holdout=never, all_gates=True)] == ["evidence", "monte_carlo"]
    assert walk_line(case(), gates, open_holdout=never, known={"evidence": False}) == []
    assert asked == ["evidence"]


# Gates


def test_too_little_is_no_pass(project: Project) -> None:
    few = EvidenceGate(EvidenceSettings(least_trades=10_000)).judge(case())
    assert (few.passed, few.verdict) == (False, "not enough")
    dossiers = Dossiers(project)
    subject = Subject(STOPPED, "AAA", 15)
    history = project.prepared("AAA", 15)
    record = backtest(history, STOPPED, project.settings.brief(history.bars.terms)).record()
    use_line(project, Line(name="one", steps=(Step(gate="evidence"),)))
    outcome = replace(few, settings=gates_of(project)[0].settings)
    dossiers.testify(*subject.key, outcome, record)
    assert Standings(project).at(subject.key[0], "AAA", record).stands == "not enough"


def test_finds_are_not_judged_while_their_search_runs(project: Project) -> None:
    """What luck brings beside it is not known before it ends, and a verdict stays."""
    search = Searches(project).begin(now(), KIND, "Discover AAA", {})
    with pytest.raises(UserError, match="still runs"):
        Origins(project).of(search, "AAA", 15, 3)
    assert Origins(project).of(None, "AAA", 15, None) is None


def test_luck_is_judged_by_controls_or_by_all_that_was_tried() -> None:
    def judge(origin: Origin | None, tried: int = 10, **settings: Any) -> Outcome:
        return LuckGate(LuckSettings(**settings)).judge(replace(case(origin=origin), tried=tried))

    def came(strength: float, controls: int, best: float, finds: int = 40, kept: int = 2, tried: int = 10) -> Origin:
        """A search with so many finds around t 4 and controls that kept a few around t 2.5, the best of each at `best`."""
        rng = np.random.default_rng(1)
        found = np.append(rng.normal(4.0, 0.5, finds - 1), 4.0)
        lucky = [np.append(rng.normal(2.5, 0.1, kept - 1), min(best, 2.6)) for _ in range(controls)]
        return Origin(1, tried, strength, luck_of(finds, [kept] * controls),
                      strength_of(found, lucky, (), [best] * controls))

    passed = judge(came(4.0, 5, 2.8))
    assert passed.passed, passed.reason
    assert judge(came(2.5, 5, 2.8)).figures["share"] >= passed.figures["share"]
    assert judge(came(4.0, 5, 3.9, kept=45)).verdict == "falls", "its search found no more than its controls"
    assert judge(came(math.nan, 5, 2.8)).figures["strength"] == pytest.approx(_strength(case())), "a near-twin by its own"
    # Whoever tried as much again in other searches had as many chances again.
    other = judge(came(4.0, 5, 2.8), tried=1_000)
    assert other.figures["share"] == pytest.approx(min(1.0, 100 * passed.figures["share"]))
    assert "100 times as much" in other.reason
    assert judge(came(4.0, 19, 3.9), judge_by="strongest").passed
    assert judge(came(4.0, 19, 4.1), judge_by="strongest").verdict == "falls"
    few = judge(came(4.0, 5, 1.0), judge_by="strongest")
    assert (few.verdict, few.figures["controls_needed"]) == ("not enough", 9)
    # A single find that three controls of an evolution cannot tell from luck, and more can: never refused, but told.
    single = Origin(1, 10, 3.6, luck_of(1, [0] * 3), strength_of(np.array([3.6]), [np.zeros(0)] * 3, (), [2.6, 2.7, 2.5]))
    lacking = judge(single)
    assert lacking.verdict == "not enough"
    needed = int(lacking.figures["controls_needed"])
    assert 3 < needed <= 100
    assert f"{needed} controls could show" in lacking.reason
    more = replace(single, luck=luck_of(1, [0] * needed), curve=strength_of(
        np.array([3.6]), [np.zeros(0)] * needed, (), [2.6, 2.7, 2.5] * (needed // 3) + [2.6] * (needed % 3)))
    assert judge(more).passed
    alone = judge(None)
    assert "No control" in alone.reason
    assert judge(None, 1_000_000).figures["t_needed"] > alone.figures["t_needed"] > 2.3


def test_costs_break_even_where_they_say() -> None:
    brief = Brief(costs=Costs(spread_ticks=1.0, slippage_ticks=0.5, per_contract=0.2))
    made = CostsGate().judge(replace(case(), brief=brief))
    level = made.figures["break_even"]
    gross = backtest(READY, STOPPED, brief).trades_f[:, 1].sum()
    if gross > 0:
        there = backtest(READY, STOPPED, replace(brief, costs=brief.costs.scaled(level))).profits.sum()
        assert there == pytest.approx(0.0, abs=1e-6 * abs(gross))
    worse = backtest(READY, STOPPED, replace(brief, costs=brief.costs.model_copy(update={"spread_ticks": 3.0})))
    assert made.figures["net_tick_worse"] == pytest.approx(worse.profits.sum())


def test_entries_a_bar_late_are_entries_of_the_bar_before() -> None:
    """Where no signal stands on a session's last bar, which would be lost."""
    early = row(ind("bars_in_session"), "below", num(20))
    entry = Condition(rows=(*STOPPED.long.entry.rows, early))
    now = STOPPED.model_copy(update={"long": Side(entry=entry), "short": Side(mode="off")})
    then = now.model_copy(update={"long": Side(entry=entry.model_copy(update={"back": 1}))})
    many = Many(READY, Brief())
    late = Shifting(many, genome_of(now, many.pool, many.brief)).late(1)
    assert late == pytest.approx(backtest(READY, then, Brief()).profits.sum())
    assert late != pytest.approx(backtest(READY, now, Brief()).profits.sum())


def test_distances_are_rescaled_wherever_they_stand() -> None:
    what = Strategy(stop=Distance(unit="ticks", amount=10), target=Distance(unit="money", amount=50.0))
    made = rescaled(what, {"ticks": 2.0, "money": 0.5})
    assert made.stop is not None
    assert made.target is not None
    assert (made.stop.amount, made.target.amount) == (20, 25.0)
    assert rescaled(STOPPED, {"ticks": 2.0}) == STOPPED


def test_blocks_are_drawn_as_long_as_asked() -> None:
    """Against the stationary bootstrap of `arch`: the spread of a sum of results that go together."""
    rng = np.random.default_rng(3)
    x = np.empty(400)
    x[0] = rng.normal()
    for i in range(1, len(x)):
        x[i] = 0.6 * x[i - 1] + rng.normal()
    block = block_length(x)
    assert 3 < block < 40
    ours = simulate_paths(x, 0.0, 4_000, replace=True, block=block, seed=5).end
    theirs = StationaryBootstrap(block, x, seed=7).apply(lambda y: np.array([y.sum()]), 4_000).ravel()
    assert ours.mean() == pytest.approx(theirs.mean(), abs=5 * theirs.std() / math.sqrt(2_000))
    assert ours.std() == pytest.approx(theirs.std(), rel=0.08)
    single = simulate_paths(x, 0.0, 4_000, replace=True, seed=5).end
    assert single.std() < 0.75 * ours.std(), "single draws lose what goes together"
    out = simulate_paths(np.ones(200), 0.0, 2_000, left_out=0.3, seed=1)
    assert out.end.mean() == pytest.approx(140, rel=0.02)
    assert simulate_paths(np.array([-1.0] * 50), 0.0, 5).under_water.tolist() == [50.0] * 5


def test_time_under_water_of_paths_is_that_of_their_equity() -> None:
    """Trades from the last one at a peak to the one that recovers it, that one counted; a return exactly to the peak is a
    recovery. Whole numbers make many ties; by the drawdown episodes of the measures."""
    trades = np.array([1.0, -1.0, 2.0, -2.0, 1.0, -1.0, 1.0, 0.0, -1.0, 1.0])
    made = simulate_paths(trades, 10.0, 500, seed=3)
    ties = 0
    for path, told in zip(made.fan, made.under_water):
        found = episodes(path, 10.0)
        spells = np.minimum(found.recovery, len(path) - 1) - found.peak
        assert told == (spells.max() if len(spells) else 0)
        ties += any(path[r] == path[p] for p, r in zip(found.peak, found.recovery) if r < len(path) and p >= 0)
    assert ties > 100


def test_slippage_is_drawn_anew_and_taken_from_each_trade() -> None:
    """An exponential draw for each trade, of the mean that is asked; the fan ends where the paths do."""
    dear = np.linspace(0.0, 3.0, 200)
    made = simulate_paths(np.zeros(200), 100.0, 4_000, dear=dear, seed=3)
    assert made.end.mean() == pytest.approx(100.0 - dear.sum(), abs=5 * math.sqrt((dear**2).sum() / 4_000))
    assert made.end.std() == pytest.approx(math.sqrt((dear**2).sum()), rel=0.06)
    assert made.fan.shape == (1_000, 100)
    np.testing.assert_allclose(made.fan[:, -1], made.end[:1_000])
    short = fan_of(simulate_paths(np.array([1.0, -2.0, 4.0]), 0.0, 50), np.array([1.0, -2.0, 4.0]), 0.0)
    assert short["trade"].tolist() == [1.0, 2.0, 3.0]
    assert (short["actual"][-1], short["p5"][-1], short["p95"][-1]) == (3.0, 3.0, 3.0)


def test_capital_for_a_risk_is_the_capital_at_which_that_risk_is_run() -> None:
    profits = np.random.default_rng(2).normal(20, 400, 500)
    for risk in (0.01, 0.1, 0.3):
        need = capital_for(simulate_paths(profits, 50_000.0, 5_000, replace=True, seed=3), 50_000.0, 0.5, risk)
        again = simulate_paths(profits, need, 5_000, replace=True, seed=3)
        assert risk_of_ruin(again, need / 2) == pytest.approx(risk, abs=0.002)


# Histories that might as well have been


def test_other_histories_are_histories() -> None:
    several = [Noise(BARS, 3, 0.1).bars(1), redrawn(BARS, 4, 5, 0, len(BARS)), planted(BARS, 5, 3.0)]
    for made in several:
        assert (made.h >= np.maximum(made.o, made.c)).all()
        assert (made.l <= np.minimum(made.o, made.c)).all()
        assert made.l.min() > 0
        np.testing.assert_array_equal(made.time, BARS.time)
        assert not np.array_equal(made.c, BARS.c)
    body = np.sort(redrawn(BARS, 4, 5, 0, len(BARS)).c - redrawn(BARS, 4, 5, 0, len(BARS)).o)
    assert set(body.tolist()) <= set((BARS.c - BARS.o).tolist()), "moves are those of real bars"
    other = Noise(BARS, 3, 0.1)
    np.testing.assert_array_equal(other.bars(1).c, several[0].c)
    assert not np.array_equal(other.bars(2).c, several[0].c)


def test_bars_may_begin_at_other_minutes() -> None:
    """Against pandas, session by session; a shift of nothing is the bars themselves."""
    finer = walk_bars(2_000, seed=3, minutes=5)
    np.testing.assert_array_equal(to_interval(finer, 15, 0).c, to_interval(finer, 15).c)
    made = to_interval(finer, 15, 5)
    opened = finer.sessions.open[finer.session]
    frame = pd.DataFrame({"o": finer.o, "h": finer.h, "l": finer.l, "c": finer.c, "session": finer.session,
                          "slot": (finer.time - opened - 5 * 60 * 10**9) // (15 * 60 * 10**9)})
    want = frame.groupby(["session", "slot"]).agg(o=("o", "first"), h=("h", "max"), l=("l", "min"), c=("c", "last"))
    np.testing.assert_array_equal(np.stack([made.o, made.h, made.l, made.c], 1), want.to_numpy())
    assert (np.diff(made.time) > 0).all()
    assert (made.end > made.time).all()
    assert (made.end[:-1] <= made.time[1:]).all()
    history = Prepared.of(to_interval(finer, 15), finer=lambda: finer)
    again = RunAgainGate(RunAgainSettings(numbers=False, prices=False, boundaries=True))
    told = again.judge(Case(STOPPED, history, Brief(), Span(), 10))
    assert len(told.tables["boundaries"]["net"]) == 2, "5 and 10 minutes later"
    assert again.judge(case()).verdict == "not enough", "no finer bars"


# Rates


def test_the_line_is_measured_on_luck_and_on_what_was_planted(project: Project, engine: Engine) -> None:
    request = RatesRequest(market="AAA", interval=15, searches=2, best=3, controls=1, count=256, pool=80, sharpes=(6.0,),
                           planted=1)
    use_line(project, SHORT)
    seen: list[Rates] = []
    for _ in range(2):
        job = rates_job(project, request, seen.append)
        assert job.total == 3
        engine.start(job, "threads").wait()
        assert job.error is None
    made = read_rates(project, "AAA", 15)
    assert made is not None
    assert made.searches == 3
    assert made.entrants == seen[2].entrants, "the same seeds, the same finds"
    assert Rates.from_json(made.as_json()) == made
    assert made.words().startswith("Of ")
    assert project.rows("SELECT count(*) n FROM searches")[0]["n"] == 0, "nothing of it is tried"
    # A threshold that moves is applied to what was measured; the same as measuring again, where it asks more.
    moved = SHORT.model_copy(update={"steps": (Step(gate="monte_carlo", settings={"least_return_drawdown": 6.0}),)})
    told = made.under(moved)
    assert told is not None
    assert told[1], "it asks more"
    use_line(project, moved)
    engine.start(rates_job(project, request), "threads").wait()
    again = read_rates(project, "AAA", 15)
    assert again is not None
    assert again.entrants == told[0].entrants
    back = again.under(SHORT)
    assert back is not None
    assert not back[1]
    assert back[0].lucky()[1] >= made.lucky()[1]
    assert made.under(usual_line()) is None


def test_intervals_of_rates_equal_scipy() -> None:
    for passed, n in ((0, 50), (1, 100), (11, 2_000), (7, 9)):
        want = binomtest(passed, n).proportion_ci(0.95, "wilson")
        assert wilson(passed, n) == pytest.approx((want.low, want.high), abs=1e-4)
    assert wilson(0, 0) == (0.0, 1.0)


def test_every_gate_names_a_figure_that_it_gives() -> None:
    """What the window draws over all candidates."""
    for gate in GATES:
        if gate.opens_holdout or not gate.figure:
            continue
        made = gate.judge(case())
        assert gate.figure in made.figures
        assert hasattr(gate.options, gate.setting)
        assert any(s.key == gate.figure for s in gate.shown)
        if gate.picture is not None and made.tables:
            assert gate.picture[1] in made.tables[gate.picture[0]]


def test_a_find_of_a_sweep_is_judged_among_all_its_sets(project: Project, engine: Engine) -> None:
    """By the test over the whole universe, and not where most of what was tried lies elsewhere, or is not kept."""
    job, result = sweep_job(project, SweepRequest(STOPPED, "AAA", 15, (Axis.spread("stop.amount", "stop", 0.5, 3.0, 0.25),)))
    engine.start(job, "threads").wait()
    dossiers = Dossiers(project)
    dossiers.keep(candidate_from_sweep(project, result, (1.0,)), result.search)
    subject = Subject.of(dossiers.shelf()[0])
    made = case_of(Footing.of(project), subject, Span(), Origins(project))
    assert made.origin is not None
    assert made.origin.universe is not None
    assert made.origin.universe.tried == result.total == made.tried == 11
    told = LuckGate().judge(made)
    assert "all 11 sets of its sweep" in told.reason
    assert told.figures["share"] == told.figures["superior"] >= told.figures["superior_best"]
    twice = LuckGate().judge(replace(made, tried=22))
    assert twice.figures["share"] == pytest.approx(min(1.0, 2 * told.figures["share"]))
    assert "No control" in LuckGate().judge(replace(made, tried=11 * 21)).reason
    asked = LuckGate(LuckSettings(most_share=0.99, least_deflated=0.999)).judge(replace(made, tried=1))
    assert not asked.passed
    assert "its Sharpe ratio is above the best to expect by luck of 11 tries" in told.reason


def test_elsewhere_asks_the_second_source_too_and_a_market_that_is_gone_is_named(project: Project, engine: Engine) -> None:
    bars = walk_bars(2_600, seed=9, code="AAA")
    project.add_market(bars.terms, bars, "second")
    project.sources.activate("AAA", "test")
    made = case_of(Footing.of(project), Subject(STOPPED, "AAA", 15), Span())
    told = ElsewhereGate(ElsewhereSettings(least_trades=1)).judge(made)
    assert "AAA 15 min from second" in told.tables["elsewhere"]["where"].tolist()
    seen: list[Proved] = []
    gone = [Subject(STOPPED, "GONE", 15), Subject(STOPPED, "AAA", 15)]
    engine.start(prove_job(project, gone, open_holdout=False, notify=seen.append), "threads").wait()
    faults = {p.subject.market: p.fault for p in seen}
    assert 'there is no market "GONE"' in faults["GONE"]
    assert faults["AAA"] == "", "the others are judged"
