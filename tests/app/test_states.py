"""States of places, without a widget: they start work, take what comes, and speak through signals."""

from __future__ import annotations

import gc
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QCoreApplication, QEvent
from pytestqt.qtbot import QtBot

from tests.app.conftest import come_to_rest
from tests.build import WAIT, discover_request
from wolbrin.app.candidates import Candidates
from wolbrin.app.places.discover.state import DiscoverState
from wolbrin.app.places.overlap.state import OverlapState
from wolbrin.app.places.portfolio.state import PortfolioState
from wolbrin.app.places.proving.state import ProvingState
from wolbrin.app.places.rehearsal.state import RehearsalState
from wolbrin.app.places.sweep.state import SweepState
from wolbrin.app.session import Session
from wolbrin.app.telling import tell_opening
from wolbrin.app.theme.theme import Theme
from wolbrin.core.engine.run import backtest
from wolbrin.core.jobs import Engine, State
from wolbrin.core.portfolio.combine import correlation, daily_matrix
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.search.objective import Floor
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import INTERRUPTED, Searches
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.combining import training_run
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.sweep_request import SweepRequest

Rest = Callable[[], None]
AXES = (Axis("stop.amount", "stop", (1.0, 1.5, 2.0)), Axis("stop.length", "length", (10.0, 14.0)))


@pytest.fixture
def session(qtbot: QtBot, demo: Path, engine: Engine) -> Iterator[Session]:
    project = Project(demo)
    made = Session(project, engine, Theme())
    yield made
    made.stop_all()
    qtbot.wait(30)
    project.close()
    made.deleteLater()
    QCoreApplication.sendPostedEvents(made, QEvent.Type.DeferredDelete)
    del made
    gc.collect()  # here, not on whatever thread comes first: states hold timers


@pytest.fixture
def rest(qtbot: QtBot, session: Session) -> Rest:
    return lambda: come_to_rest(qtbot, session)


def keep(session: Session, count: int) -> list[int]:
    history = session.project.prepared(session.market, session.interval)
    brief = session.settings.brief(history.bars.terms)
    found = []
    for i in range(count):
        stop = session.strategy.stop
        assert stop is not None
        one = session.strategy.model_copy(update={"stop": stop.model_copy(update={"amount": 1.0 + i / 2})})
        id = session.shelf.keep(candidate_of(backtest(history, one, brief), f"Kept {i}", "rules", 1))
        assert id is not None
        found.append(id)
    return found


def test_a_sweep_is_started_read_applied_kept_and_comes_back(session: Session, rest: Rest, tmp_path: Path) -> None:
    state = SweepState(session)
    request = SweepRequest(session.strategy, session.market, session.interval, AXES)
    assert state.start(request)
    rest()
    result, reading, seen = state.result, state.reading, state.seen
    assert result is not None
    assert reading is not None
    assert seen is not None
    assert (result.count, result.unfinished, state.unfinished) == (6, False, False)
    assert seen.chosen == reading.center, "what is recommended is looked at first"
    assert state.luck is not None
    assert state.luck.of().shuffles == 20, "luck is compared without being asked for"
    assert state.statistics is not None
    assert state.statistics.tried == 6
    row = next(i for i in range(6) if reading.values(i) == (1.5, 14.0))
    state.choose(row)
    state.pin((row,))
    state.apply()
    assert session.strategy.stop is not None
    assert session.strategy.stop.amount == 1.5
    session.undo.undo()
    state.save_set(tmp_path / "one.json")
    state.load_set(tmp_path / "one.json")
    assert session.strategy.stop.amount == 1.5
    session.undo.undo()
    state.keep()
    state.export(tmp_path / "all.parquet")
    rest()
    assert session.shelf.count() == 1
    assert (tmp_path / "all.parquet").exists()
    state.zoom({0: (1.0, 2.0)})
    rest()
    assert state.result is not None
    assert [len(a.values) for a in state.result.request.axes] == [5, 2]
    assert (state.result.count, session.project.rows("SELECT tried FROM searches WHERE id = ?",
                                                     state.result.search)[0]["tried"]) == (10, 4)
    again = SweepState(session)
    again.restore()
    rest()
    assert again.result is not None
    np.testing.assert_array_equal(np.sort(again.result.table()[1][:, 0]), np.sort(state.result.table()[1][:, 0]))
    assert again.reading is not None
    assert len(again.reading) == 10


def test_an_interrupted_search_is_told_of_and_goes_on(session: Session, rest: Rest) -> None:
    state, told, wanted = DiscoverState(session), [], []
    session.noted.connect(lambda text, kind, door: told.append((text, door)))
    session.place_wanted.connect(wanted.append)
    floors = (Floor(key="trades", value=100), Floor(key="profit_factor", value=1.0))
    state.start(discover_request(session.market, session.interval, 256, floors=floors, seed=3))
    rest()
    whole = state.result
    assert whole is not None
    with session.project.transaction() as db:
        db.execute("UPDATE searches SET state = ?, request = json_set(request, '$.count', 512) WHERE id = ?",
                   (INTERRUPTED, whole.search))
    other = DiscoverState(session)
    other.restore()
    tell_opening(session)
    assert "was interrupted" in told[-1][0]
    assert told[-1][1].at == "go on"
    rest()
    assert other.unfinished
    other.go_on()
    assert wanted == ["discover"]
    rest()
    assert other.result is not None
    assert (other.result.tried, other.unfinished) == (512, False)
    assert Searches(session.project).get(whole.search).state == "done"
    assert len(other.finds.found.ids) == session.shelf.count(Wanted(representatives=True))
    other.show_variants(True)
    rest()
    assert len(other.finds.found.ids) == session.shelf.count()


def test_candidates_are_listed_ticked_removed_and_brought_back(session: Session, rest: Rest) -> None:
    ids = keep(session, 4)
    state, moves = Candidates(session, "Shelf"), []
    state.moved.connect(moves.append)
    state.ask("net", True, {})
    rest()
    nets = [line.figures["net"] for line in state.lines(moves[-1].ids.tolist())]
    assert nets == sorted(nets, reverse=True)
    state.ask("", False, {"name": "kept 2"})
    rest()
    assert moves[-1].ids.tolist() == [ids[2]]
    assert moves[-1].total == 4
    state.tick_shown()
    assert session.selection == [ids[2]]
    state.remove([ids[2], ids[0]])
    assert session.shelf.count() == 2
    session.undo.undo()
    assert session.shelf.count() == 4
    assert session.selection == [ids[2]], "what comes back is ticked as it was"
    before = len(session.project.strategies())
    wanted: list[str] = []
    session.place_wanted.connect(wanted.append)
    for place in ("rules", "sweep"):
        state.open(ids[3], place)
        assert len(session.project.strategies()) <= before + 1, "the same rules are opened, not added again"
        assert strategy_hash(session.strategy) == session.shelf.bodies([ids[3]])[0].hash
    assert wanted == ["rules", "sweep"]
    state.star([ids[0], ids[2]], True)
    state.tag([ids[0]], ["late", "own idea"])
    state.note(ids[0], "Look at Mondays.")
    state.rename(ids[2], "kept 3")
    line, other = session.shelf.lines([ids[0], ids[2]])
    assert (line.tags, line.marks.star, line.marks.notes, other.name) == ("late own-idea", True, "Look at Mondays.",
                                                                          "kept 3 (2)")
    for _ in range(4):
        session.undo.undo()
    line, other = session.shelf.lines([ids[0], ids[2]])
    assert (line.tags, line.marks.star, line.marks.notes, other.name) == ("", False, "", "Kept 2")


def test_the_line_overlap_portfolio_follow_the_ticks(session: Session, rest: Rest) -> None:
    ids = keep(session, 3)
    session.select(ids)
    proving, overlap, portfolio = ProvingState(session), OverlapState(session), PortfolioState(session)
    proving.start()
    rest()
    assert proving.line is not None
    assert {r.line.id for r in proving.line.records if "monte_carlo" in r.evidence} == set(ids)
    assert proving.line.bands[0].entered == 3
    overlap.look()
    rest()
    assert overlap.overlap is not None
    kept = session.shelf.bodies([line.id for line in overlap.lines])
    runs = [training_run(Footing.of(session.project), k) for k in kept]
    np.testing.assert_allclose(overlap.overlap.matrix, correlation(daily_matrix(runs)[1]), atol=1e-12)
    assert [s.record.key for s in overlap.known] == [k.candidate.record.key for k in kept], "read, not run again"
    overlap.pick(1.01)
    assert overlap.distinct == set(ids)
    portfolio.look()
    rest()
    assert portfolio.told is not None
    assert portfolio.save("Three")
    assert [s.name for s in portfolio.saved_ones()] == ["Three"]


def test_a_rehearsal_plays_pauses_and_stops(session: Session, rest: Rest, qtbot: QtBot) -> None:
    state, played = RehearsalState(session), []
    state.played.connect(played.append)
    state.pace = 500
    state.start()
    qtbot.waitUntil(lambda: len(played) > 1, timeout=WAIT)
    state.toggle_pause()
    assert state.paused
    state.toggle_pause()
    state.stop()
    rest()
    assert state.job is not None
    assert state.job.state is State.STOPPED
    assert state.rehearsal is not None
    assert 0 < state.rehearsal.shown < state.rehearsal.total
    assert session.project.openings() == 1


def test_a_newer_question_replaces_the_one_that_waits(session: Session, rest: Rest) -> None:
    got: list[int] = []
    for i in range(20):
        session.compute("Question", lambda i=i: (time.sleep(0.01), i)[1], got.append, "question")
    rest()
    assert got[-1] == 19
    assert len(got) < 20
