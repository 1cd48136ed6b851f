"""Openings that can tell: families, gatekeeping, power before; and what may not be opened."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from tests.build import any_rng, cross, terms, walk_bars
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.bars import make_bars
from wolbrin.core.market.date_numbers import date_of
from wolbrin.core.market.leads import lead_of
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.shifted import shift_between
from wolbrin.core.measures.inference import t_needed
from wolbrin.core.proving.dates import DatesGate
from wolbrin.core.proving.families import Bet, families_of
from wolbrin.core.proving.gate import Gate
from wolbrin.core.proving.gatekeeping import FELL, OF_FAMILY, OF_WHOLE, STANDS, gatekeep
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.proving.opening_plan import Plan, ways
from wolbrin.core.proving.power import Reach, expected_t
from wolbrin.core.rules.lint import lint
from wolbrin.core.rules.model import Distance, Strategy
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.store.brought import bring, unknown_tried
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.holdout import ERROR, level_of
from wolbrin.core.store.plans import Plans
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.judging import figures_of
from wolbrin.core.work.leads import answer_lead, leads_of
from wolbrin.core.work.opening import open_for
from wolbrin.core.work.proving import prove_job
from wolbrin.core.work.standing import Standings
from wolbrin.core.work.subject import Subject

SETTINGS = Settings(training_first=dt.date(2024, 1, 1), holdout_first=dt.date(2024, 8, 1), last=dt.date(2024, 12, 31))
ALONE: tuple[Gate, ...] = (HoldoutGate(),)


@pytest.fixture
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


# By hand, and against scipy


def test_gatekeeping_by_hand() -> None:
    level = level_of(1)
    one, two, three = (t_needed(level / n) for n in (1, 2, 3))
    # The whole falls: all fall, whatever they are.
    made = gatekeep([[9.0, 9.0], [9.0]], level, one - 0.01)
    assert made.verdicts == ((FELL, FELL), (FELL,))
    # The whole stands; one family does, of its members one; the other family is of a whole that stands.
    made = gatekeep([[two, two, 1.0], [one - 0.01, 9.0]], level, one)
    assert made.verdicts == ((STANDS, STANDS, OF_FAMILY), (OF_WHOLE, OF_WHOLE))
    assert made.needed[0][1] == two, "its two others by Holm"
    # Families at once: Holm over three, the second needs what two ask.
    made = gatekeep([[three], [two], [one - 0.01]], level)
    assert made.verdicts == ((STANDS,), (STANDS,), (FELL,))
    assert gatekeep([[np.nan, 9.0]], level).verdicts == ((FELL, FELL),), "a representative without a t does not stand"


@settings(max_examples=100, deadline=None)
@given(st.floats(0.05, 9.0), st.floats(-2.0, 6.0))
def test_what_selection_leaves_is_the_mean_whose_kept_values_look_like_that(t: float, c: float) -> None:
    """The mean of a normal above c (scipy.stats.truncnorm) at the estimate is the t that was seen."""
    mu = expected_t(t, c)
    assert 0.0 <= mu <= t + 1e-9
    kept = stats.truncnorm.mean(c - mu, np.inf, loc=mu)
    assert kept == pytest.approx(t, abs=1e-6) if mu > 1e-9 else kept >= t - 1e-6
    assert expected_t(t, c, 0.25) == pytest.approx(0.75 * mu)


def bet(daily: np.ndarray, name: str, expected: float, parts: int = 1, market: str = "AAA") -> Bet:
    return Bet(name, name, market, (np.arange(len(daily), dtype=np.int32), daily), expected, expected, parts)


def test_near_twins_are_one_family_and_the_simplest_of_the_strongest_represents_it() -> None:
    rng = any_rng()
    base = rng.normal(size=(2, 600))
    bets = [bet(base[g] + 0.4 * rng.normal(size=600), f"{g}{i}", 4.0 + g + 0.1 * i, 3 - i) for g in (0, 1)
            for i in range(3)]
    want = [["12", "11", "10"], ["02", "01", "00"]]
    for _ in range(3):
        order = rng.permutation(len(bets))
        shuffled = [bets[i] for i in order]
        made = families_of(shuffled)
        assert [shuffled[f.representative].name for f in made] == ["12", "02"], "the strongest family first"
        assert [sorted(shuffled[i].name for i in f.members) for f in made] == [sorted(w) for w in want]
    strongest = bet(base[0], "strong", 9.0, 9)
    simple = bet(base[0] + 0.01, "simple", 8.5, 1)
    assert [[strongest, simple][f.representative].name for f in families_of([strongest, simple])] == ["simple"]


def test_chances_are_those_of_the_normal_law() -> None:
    level, training, sealed = level_of(2), 1_500, 500
    one = ways(np.array([4.0]), np.ones((1, 1)), training, sealed, level)
    assert [c.key for c in one] == ["families-1"]
    exact = Reach.of(4.0, training, sealed).chance(t_needed(level))
    assert one[0].chance == pytest.approx(exact, abs=0.02)
    matrix = np.full((3, 3), 0.3) + 0.7 * np.eye(3)
    made = {c.key: c for c in ways(np.array([4.0, 3.0, 2.0]), matrix, training, sealed, level)}
    whole = 9.0 / np.sqrt(matrix.sum())
    assert made["whole-3"].chance == pytest.approx(Reach.of(whole, training, sealed).chance(t_needed(level)), abs=0.02)
    assert made["whole-3"].family <= made["families-3"].family <= made["families-3"].chance
    assert max(c.chance for c in made.values()) - next(iter(made.values())).chance <= 0.02, "the most powerful is proposed"
    # More sealed days, more chance; nothing to find, none beyond the level.
    assert made["whole-3"].chance < ways(np.array([4.0, 3.0, 2.0]), matrix, training, 1_500, level)[0].chance
    assert Reach.of(0.0, training, sealed).chance(t_needed(level)) < 0.05


# What trying again and again brings


def test_noise_stands_in_at_most_one_project_of_twenty_over_all_openings() -> None:
    """2,000 projects without any edge open families of near-twins up to ten times, whichever way has more power or is
    liked: in at most 5% of them anything ever stands, a whole, a family or a member (within three standard errors)."""
    rng = any_rng()
    fooled, projects = 0, 2_000
    for _ in range(projects):
        stood = False
        for b in range(1, 11):
            k = int(rng.integers(1, 7))
            rho = rng.uniform(0.0, 0.5)
            matrix = np.full((k, k), rho) + (1 - rho) * np.eye(k)
            reps = np.linalg.cholesky(matrix) @ rng.normal(size=k)
            twins = [[t, *(0.9 * t + np.sqrt(0.19) * rng.normal(size=rng.integers(0, 5)))] for t in reps]
            whole = float(reps.sum() / np.sqrt(matrix.sum())) if k > 1 and rng.random() < 0.5 else None
            made = gatekeep(twins, level_of(b), whole)
            stood = stood or any(v != FELL for f in made.verdicts for v in f)
        fooled += stood
    assert fooled / projects <= ERROR + 3 * np.sqrt(ERROR * (1 - ERROR) / projects)


def test_what_is_told_before_is_not_more_than_what_comes() -> None:
    """Among many kept because their t passed a bar, as many stand as was told, or more: near the bar it is careful."""
    rng = any_rng()
    n, training, sealed, c, needed = 60_000, 1_260, 504, 3.0, t_needed(level_of(1))
    true = np.where(rng.random(n) < 0.3, rng.uniform(0.0, 8.0, n), 0.0)
    t = true + rng.normal(size=n)
    luck = float(stats.norm.sf(c)) * 0.7 / max(1e-9, float((t > c).mean()))
    there = np.flatnonzero(t > c)
    told = np.array([Reach.of(expected_t(float(t[i]), c, luck), training, sealed).chance(needed) for i in there])
    stands = true[there] * np.sqrt(sealed / training) + rng.normal(size=len(there)) >= needed
    for low in (0.2, 0.4, 0.6, 0.8):
        part = (told >= low) & (told < low + 0.2)
        off = 4 * np.sqrt(0.25 / max(1, part.sum()))
        assert stands[part].mean() >= told[part].mean() - off - 0.02, low
        assert stands[part].mean() <= told[part].mean() + off + 0.25, low


# On projects


def drifting(count: int, seed: int, edge: float, code: str = "AAA") -> Any:
    """A market that goes on for a while after it began to move, by `edge`; a random walk for 0."""
    rng = np.random.default_rng(seed)
    base = walk_bars(count, seed=seed, code=code)
    way = np.repeat(rng.choice([-1.0, 1.0], count // 32 + 1), 32)[:count]
    steps = (rng.normal(0, 12, count) + edge * way).round()
    close = 20_000 + np.cumsum(steps)
    opens = np.concatenate(([20_000.0], close[:-1]))
    prices = (opens / 100, (np.maximum(opens, close) + 2) / 100, (np.minimum(opens, close) - 2) / 100, close / 100)
    return make_bars(base.terms, 15, base.time, prices, np.ones(count))


def project_of(folder: Path, bars: Any) -> Project:
    made = Project.create(folder, SETTINGS)
    made.add_market(bars.terms, bars, "test")
    return made


FREE = {"per_contract": 0.0, "slippage_ticks": 0.0, "spread_ticks": 0.0}


def keep(project: Project, several: list[Strategy], market: str = "AAA") -> list[int]:
    ids = []
    for one in several:
        run = backtest(project.prepared(market, 15), one, project.settings.brief(project.market(market).terms))
        id = Dossiers(project).keep(candidate_of(run, one.name, "rules", 1))
        assert id is not None
        ids.append(id)
    return ids


def prove(project: Project, engine: Engine, ids: list[int], **more: Any) -> dict[int, str]:
    kept = [k for k in Dossiers(project).shelf() if k.id in ids]
    job = prove_job(project, [Subject.of(k) for k in kept], open_holdout=True, gates=ALONE, **more)
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    return {k.id: Standings(project, ALONE).of(k).stands for k in kept}


def trend(length: int) -> Strategy:
    return parse_strategy(f"name = 'trend {length}'\nlong_entry = crosses_above(close, ema({length}))\nlong_exit = "
                          f"crosses_below(close, ema({length}))\nstop = 3 * atr(14)\n")


def test_a_market_with_an_edge_leads_to_a_family_that_stands_and_noise_falls_without_a_figure(tmp_path: Path,
                                                                                             engine: Engine) -> None:
    plans: list[Plan] = []
    told = lambda plan, _: plans.append(plan)  # noqa: E731
    true = project_of(tmp_path / "true", drifting(7_000, 1, 4.0))
    ids = keep(true, [trend(n) for n in (12, 13, 14, 16)])
    stands = prove(true, engine, ids, planned_as=told)
    assert len(plans[0].families) == 1, "near-twins are one bet"
    assert "stands" in stands.values()
    assert set(stands.values()) <= {"stands", "of a family that stands"}
    passed = next(e for k in Dossiers(true).shelf() for e in Dossiers(true).all_evidence(k.hash, "AAA")
                  if e.gate == "holdout" and e.verdict == "passes")
    assert passed.outcome["t_daily"] >= t_needed(level_of(1))
    assert "t of daily results" in passed.reason
    true.close()
    noise = project_of(tmp_path / "noise", drifting(7_000, 3, 0.0))
    first, other = keep(noise, [trend(12), cross(name="other", stop=Distance(unit="atr", amount=2.0))])
    assert prove(noise, engine, [first])[first] == "falls: Holdout"
    evidence = [e for e in Dossiers(noise).all_evidence(Dossiers(noise).shelf()[0].hash, "AAA") if e.gate == "holdout"]
    assert [e.outcome for e in evidence] == [{}]
    assert "Profit factor" not in evidence[0].reason
    assert Plans(noise).before("AAA") == (1, 0)
    # Its figures on demand: what is kept from then on is ready at most, until there are newer bars.
    assert evidence[0].record is not None
    shown = figures_of(noise, Footing.of(noise), HoldoutGate(), "AAA", evidence[0].record.strategy)
    assert np.isfinite(shown.figures["net"])
    assert shown.tables
    late = replace(Subject.of(next(k for k in Dossiers(noise).shelf() if k.id == other)), since="2999-01-01T00:00:00")
    seen: list[Any] = []
    engine.start(prove_job(noise, [late], open_holdout=True, gates=ALONE, notify=seen.append), "threads").wait()
    assert "figures of what fell on AAA were looked at" in seen[0].fault
    assert noise.openings() == 1
    with noise.transaction() as db:  # times are kept by the second
        db.execute("UPDATE candidates SET created = '2020-01-01T00:00:00'")
    assert prove(noise, engine, [other])[other] == "falls: Holdout", "what was kept before may be opened"
    noise.close()


def test_stopped_before_the_plan_nothing_is_opened_and_a_weak_plan_is_refused(tmp_path: Path, engine: Engine) -> None:
    project = project_of(tmp_path / "p", drifting(7_000, 5, 0.0))
    keep(project, [trend(12), cross(name="other", stop=Distance(unit="atr", amount=2.0))])
    subjects = [Subject.of(k) for k in Dossiers(project).shelf()]
    job = prove_job(project, subjects, open_holdout=True, gates=ALONE, notify=lambda _: job.stop())
    assert engine.start(job, "threads").wait() is State.STOPPED
    job = prove_job(project, subjects[:1], open_holdout=True, gates=ALONE, anyway=False)
    assert engine.start(job, "threads").wait() is State.FAILED
    assert "chance that anything stands" in str(job.error)
    assert (project.openings(), Plans(project).all()) == (0, [])
    project.close()


# What knows the calendar, the future, or not how many were tried


def test_a_file_that_is_another_market_at_other_times_is_none(tmp_path: Path) -> None:
    bars = walk_bars(2_600, seed=4, code="AAA")
    project = project_of(tmp_path / "p", bars)
    project.update_settings(SETTINGS.model_copy(update={"holdout_first": dt.date(2024, 4, 1)}))
    mine = Raw.of(bars)
    for by, words in ((15, "15 minutes earlier"), (-60, "1 hour later"), (1440, "1 day earlier")):
        moved = replace(mine, time=mine.time - by * 60 * 10**9, end=None)
        found = shift_between(moved, mine)
        assert found is not None
        assert found.words == words
        with pytest.raises(UserError, match=f"these are the bars of AAA, {words}"):
            project.sources.put(terms(code="BBB"), "b", replace(moved, close=moved.close))
    early = mine.take(slice(32, None))  # a session early, stamp by stamp
    with pytest.raises(UserError, match="no market of its own"):
        project.sources.put(terms(code="BBB"), "b", replace(early, time=mine.time[:-32], end=None))
    assert [m.code for m in project.markets()] == ["AAA"]
    other = Raw.of(walk_bars(2_600, seed=5, code="BBB"))
    assert shift_between(other, mine) is None
    assert shift_between(mine, mine) is None
    # The same bars under another code are one market to the book.
    project.sources.put(terms(code="CCC"), "c", mine)
    project.sources.put(terms(code="BBB"), "b", other)
    strategy = trend(12)
    bring(project, strategy, "AAA", 15, 40)
    searches = Dossiers(project).searches
    assert (searches.tried_on("AAA"), searches.tried_on("CCC"), searches.tried_on("BBB")) == (40, 40, 0)
    assert searches.tried()["CCC"] == 40
    open_for(project, Footing.of(project), strategy, "AAA", 15, project.settings.brief(bars.terms),
             project.settings.holdout, "test")
    assert (project.openings("CCC"), project.openings("BBB")) == (1, 0)
    again = open_for(project, Footing.of(project), strategy, "CCC", 15, project.settings.brief(bars.terms),
                     project.settings.holdout, "test")
    assert "for good" in again.verdict.reason
    assert project.openings("AAA") == 1
    project.close()


def test_what_leads_more_than_any_market_must_be_answered_for(tmp_path: Path, engine: Engine) -> None:
    bars = drifting(7_000, 7, 0.0)
    project = project_of(tmp_path / "p", bars)
    rng = np.random.default_rng(1)
    ahead = np.concatenate([bars.close[1:], bars.close[-1:]]) + rng.normal(0, 0.05, len(bars)).round(2)
    prices = (ahead, ahead + 0.2, ahead - 0.2, ahead)
    project.add_market(terms(code="SEE"), make_bars(terms(code="SEE"), 15, bars.time, prices, np.ones(len(bars))), "test")
    noise = drifting(7_000, 8, 0.0, "OTH")
    project.add_market(noise.terms, noise, "test")
    led = lead_of(project.prepared("SEE", 15).bars, project.prepared("AAA", 15).bars)
    assert led is not None
    assert led.beyond
    assert (led.lag, led.sessions) == (1, False)
    innocent = lead_of(project.prepared("OTH", 15).bars, project.prepared("AAA", 15).bars)
    assert innocent is not None
    assert not innocent.beyond
    text = "name = 'see'\nlong_entry = series(close, market='{}') > close\nstop = 3 * atr(14)\nlong_exit = close > ema(5)\n"
    knows, plain = parse_strategy(text.format("SEE")), parse_strategy(text.format("OTH"))
    footing = Footing.of(project)
    assert [x.open for x in leads_of(footing, plain, project.prepared("AAA", 15), {})] == [False]
    id = keep(project, [knows])[0]
    gates: tuple[Gate, ...] = (DatesGate(), HoldoutGate())

    def ready() -> tuple[str, str]:
        kept = [k for k in Dossiers(project).shelf() if k.id == id]
        engine.start(prove_job(project, [Subject.of(kept[0])], open_holdout=False, gates=gates), "threads").wait()
        place = Standings(project, gates).of(Dossiers(project).shelf()[0])
        return place.stands, place.evidence["dates"].reason

    assert ready()[0] == "not enough"
    assert "moves of SEE go before those of AAA by 1 bar" in ready()[1]
    with pytest.raises(UserError, match="go before those of AAA"):
        open_for(project, footing, knows, "AAA", 15, project.settings.brief(bars.terms), SETTINGS.holdout, "test")
    assert project.openings() == 0
    with pytest.raises(UserError, match="says why"):
        answer_lead(project, "SEE", "AAA", " ")
    answer_lead(project, "SEE", "AAA", "made for a test")
    assert ready()[0] == "ready"
    record = Dossiers(project).shelf()[0].candidate.record
    assert record.answers == {"SEE": "made for a test"}, "it stands in every record"
    assert "SEE leads: made for a test" in record.words()
    project.close()


def test_rules_without_a_word_of_how_many_were_tried_are_not_ready(tmp_path: Path, engine: Engine) -> None:
    project = project_of(tmp_path / "p", drifting(7_000, 9, 0.0))
    bring(project, trend(12), "AAA", 15, None)
    id = keep(project, [trend(13)])[0]  # the same rules with another number
    assert unknown_tried(project, trend(13))
    assert not unknown_tried(project, cross())
    subject = Subject.of(Dossiers(project).shelf()[0])
    gates: tuple[Gate, ...] = (DatesGate(), HoldoutGate())
    engine.start(prove_job(project, [subject], open_holdout=False, gates=gates), "threads").wait()
    assert Standings(project, gates).of(Dossiers(project).shelf()[0]).stands == "not enough"
    seen: list[Any] = []
    engine.start(prove_job(project, [subject], open_holdout=True, gates=ALONE, notify=seen.append), "threads").wait()
    assert "is not known" in seen[0].fault
    assert project.openings() == 0
    bring(project, trend(12), "AAA", 15, 1_000)
    assert Dossiers(project).searches.tried_on("AAA") == 1_000
    engine.start(prove_job(project, [subject], open_holdout=False, gates=gates), "threads").wait()
    assert Standings(project, gates).of(next(k for k in Dossiers(project).shelf() if k.id == id)).stands == "ready"
    project.close()


def test_constants_that_are_dates_are_named() -> None:
    for value, day in ((20200315.0, "2020-03-15"), ("x 2020-03-15", "2020-03-15"), (1584230400, "2020-03-15"),
                       (1584230400 * 10**9, "2020-03-15"), (20201315, None), (12_345_678, None), (100.5, None),
                       (1_000_000, None), ("20.5", None)):
        found = date_of(value)
        assert (str(found) if found else None) == day, value
    rules = parse_strategy("name = 'd'\nlong_entry = close > 20200315\nstop = 2 * atr(14)\n")
    assert any("reads like 15 Mar 2020" in f.words for f in lint(rules))
