"""Variants of strategies, their family on disk, trials stopped half-way, rehearsals that read other sources."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import numpy as np
import pytest

from tests.build import cross, walk_bars
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.bars import Span
from wolbrin.core.rehearsal.session import Rehearsal, same_ledger
from wolbrin.core.rules.axes import Axis, named_variants
from wolbrin.core.rules.conditions import NamedCondition, project_conditions, shipped, write_conditions
from wolbrin.core.rules.numbers import tunables
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.store.family import tree
from wolbrin.core.store.project import Project
from wolbrin.core.store.schema import MIGRATIONS
from wolbrin.core.store.settings import Settings
from wolbrin.core.study.trial import CommonExit, TrialRow, field_rows
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.opening import open_for
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.trialing import TrialRequest, last_trial, trial_job

SETTINGS = Settings(training_first="2024-01-01", holdout_first="2024-02-15", last="2024-12-31")  # type: ignore[arg-type]


@pytest.fixture
def project(tmp_path: Path) -> Project:
    made = Project.create(tmp_path / "p", SETTINGS)
    for seed, code in enumerate(("AAA", "BBB")):
        bars = walk_bars(1500, seed=seed, code=code)
        made.add_market(bars.terms, bars, "test")
    return made


def test_a_family_is_a_tree_and_survives_deletion_and_undo(project: Project) -> None:
    first = project.save_strategy(cross(name="root"), "AAA", 15)
    second = project.save_strategy(cross(name="child"), "AAA", 15, parent=first)
    third = project.save_strategy(cross(name="grandchild"), "AAA", 15, parent=second)
    other = project.save_strategy(cross(name="stranger"), "AAA", 15)
    found = tree(project.strategies(), third)
    assert [(d, e.strategy.name) for d, e in found] == [(0, "root"), (1, "child"), (2, "grandchild")]
    assert [e.id for _, e in tree(project.strategies(), other)] == [other]
    entry = project.strategy(second)
    project.delete_strategy(second)
    assert [e.strategy.name for _, e in tree(project.strategies(), third)] == ["grandchild"], "its parent is gone"
    project.put_back_strategy(entry)
    assert project.strategy(second) == entry
    assert len(tree(project.strategies(), first)) == 3
    assert tree(project.strategies(), 999) == []


def test_a_project_of_the_schema_before_opens_with_its_strategies(project: Project, tmp_path: Path) -> None:
    id = project.save_strategy(cross(name="old"), "AAA", 15)
    folder = project.folder
    project.close()
    with sqlite3.connect(folder / "project.sqlite") as db:
        assert db.execute("PRAGMA user_version").fetchone()[0] == len(MIGRATIONS)
    db.close()
    again = Project(folder)
    assert again.strategy(id).strategy.name == "old"
    assert again.strategy(id).parent is None
    again.close()


def test_variants_stand_on_the_steps_of_their_numbers() -> None:
    strategy = parse_strategy("name = 'v'\nfast = parameter(10, low=4, high=20, step=4, sweep=True)\n"
                              "long_entry = crosses_above(ema(fast), ema(30))\nstop = 2 * atr(14)\n")
    by_name = {t.title: t for t in tunables(strategy)}
    numbers = [Axis.over(by_name["fast"], 3), Axis.over(by_name["stop ATR multiple"], 2)]
    assert numbers[0].values == (4.0, 12.0, 20.0)
    made = named_variants(strategy, numbers, 2_000)
    assert len(made) == 6
    assert made[0][0].startswith("v: fast 4, stop ATR multiple")
    assert made[-1][1].long.entry.rows[0].left.params == {"length": 20.0}  # type: ignore[union-attr]
    assert named_variants(strategy, [], 2_000) == [("v", strategy)]
    with pytest.raises(UserError, match="more than are tried"):
        named_variants(strategy, [Axis(t.key, t.title, tuple(range(1, 40)))
                                  for t in list(by_name.values())[:3]], 2_000)


def test_a_trial_stopped_half_way_keeps_what_it_found(project: Project) -> None:
    rows = field_rows([(c.name, c.condition()) for c in shipped()[:120]], ["both"], CommonExit())
    engine = Engine(1)
    request = TrialRequest(rows=tuple(rows), columns=(("AAA", 15), ("BBB", 15)), shuffles=1)
    job, result = trial_job(project, request, lambda r: job.stop() if np.isfinite(r.figures[..., 3]).sum() >= 20 else None)
    assert engine.start(job, "threads").wait() is State.STOPPED
    done = int(np.isfinite(result.figures[..., 3]).sum())
    assert 20 <= done < 240
    again = last_trial(project, "field")
    assert again is not None
    np.testing.assert_array_equal(again.figures, result.figures)
    assert again.luck(2.0, 1) is not None
    assert again.luck(2.0, 1).tests == 0, "nothing was compared with luck yet"  # type: ignore[union-attr]
    engine.close()


def test_a_test_that_cannot_be_run_is_a_sentence_and_the_others_go_on(project: Project) -> None:
    far = parse_strategy("name = 'far'\nlong_entry = close > series(close, market='NOWHERE')\nstop = ticks(9)\n")
    rows = (TrialRow(name="far", strategy=far), TrialRow(name="near", strategy=cross()))
    engine = Engine(2)
    job, result = trial_job(project, TrialRequest(rows=rows, columns=(("AAA", 15),), shuffles=0))
    assert engine.start(job, "threads").wait() is State.DONE
    assert np.isnan(result.figures[0, 0, 3])
    assert result.figures[1, 0, 3] > 0
    assert "far on AAA" in result.faults[0]
    assert "NOWHERE" in result.faults[0]
    engine.close()


def test_a_rehearsal_reads_other_markets_like_the_batch(project: Project) -> None:
    strategy = parse_strategy("name = 'pair'\nlong_entry = rises(series(close, market='BBB')) and close > ema(5)\n"
                              "long_exit = bars_held >= 4\nstop = 2 * atr(14)\n")
    subject = Subject(strategy, "AAA", 15)
    footing = Footing.of(project)
    brief = project.settings.brief(project.market("AAA").terms)
    history = open_for(project, footing, subject.strategy, "AAA", 15, brief, SETTINGS.holdout, "test").history
    played = Rehearsal(history, strategy, project.settings.brief(history.bars.terms), SETTINGS.holdout)
    while not played.over:
        last = played.step(37)
    batch = played.batch()
    assert len(batch) > 10
    assert same_ledger(last.run, batch)
    with pytest.raises(UserError, match="no other market"):
        backtest(history.bars, strategy, Brief(span=Span()))
    assert len(backtest(Prepared.of(history.bars, elsewhere=project.histories.elsewhere), strategy, Brief())) > len(batch)


def test_own_conditions_hide_ours_of_the_same_name() -> None:
    mine = NamedCondition(name=shipped()[3].name, formula="close > 1", tags=("mine",))
    found = project_conditions(write_conditions([mine]))
    assert found[0] == mine
    assert len(found) == len(shipped())
    assert project_conditions(None) == shipped()
