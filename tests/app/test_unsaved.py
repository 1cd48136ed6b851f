"""Nothing that is edited is lost: full disks, other programs, damaged rows."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest
from PySide6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot

from tests.app.conftest import put_away
from tests.build import WAIT
from wolbrin.app.session import Session
from wolbrin.app.shell.aside_sheet import AsideSheet
from wolbrin.app.shell.not_saved import NotSaved
from wolbrin.app.shell.window import MainWindow
from wolbrin.app.start import open_window
from wolbrin.app.theme.theme import Theme
from wolbrin.core.jobs import Engine
from wolbrin.core.rules.model import Strategy
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.store.database import DATABASE
from wolbrin.core.store.project import Project

Settle = Callable[[], None]


def named(session: Session, name: str) -> None:
    session.edit(session.strategy.model_copy(update={"name": name}), f"rename to {name}")


def stored(window: MainWindow) -> list[str]:
    with closing(sqlite3.connect(window.session.project.path)) as db:
        return [Strategy.model_validate_json(b).name for b, in db.execute("SELECT body FROM strategies ORDER BY id")]


def full(window: MainWindow, on: bool) -> None:
    """No page can be added, as on a full disk; what is there can be read."""
    session = window.session
    pages = int(session.project.rows("PRAGMA page_count")[0][0])
    with session.project.transaction() as db:
        if on:  # the free pages go first
            db.execute("CREATE TABLE filler (data BLOB)")
            db.execute("INSERT INTO filler VALUES (zeroblob(4096 * 40))")
    session.project.rows(f"PRAGMA max_page_count = {1 if on else 10**9}")
    assert pages


def test_on_a_full_disk_edits_stay_and_are_saved_later(window: MainWindow, settle: Settle, tmp_path: Path,
                                                       qtbot: QtBot) -> None:
    settle()
    s, told = window.session, []
    s.noted.connect(lambda text, kind, door: told.append((text, kind, door)))
    full(window, True)
    long = s.strategy.model_copy(update={"name": "Kept on a full disk", "notes": "word " * 3000})
    s.edit(long, "write")
    assert "Not saved, and kept in this window" in told[-1][0]
    assert "The disk is full." in told[-1][0]
    assert told[-1][1] == "error"
    assert s.strategy == long
    assert window.isWindowModified()
    assert window.strip.not_saved.text() == "Not saved: 1"
    window.strip.not_saved.click()
    next(w for w in window.children() if isinstance(w, NotSaved)).close()
    qtbot.wait(10)
    mine = s.strategy_id
    other = next(e.id for e in s.project.strategies() if e.id != mine)
    s.open_strategy(other)
    s.open_strategy(mine)
    assert s.strategy == long, "what waits is what is shown"
    s.undo.undo()
    s.undo.redo()
    assert s.strategy == long
    window.close()
    assert window.isVisible(), "it asks before it closes"
    sheet = next(w for w in window.children() if isinstance(w, NotSaved))
    sheet.try_again()
    assert sheet.said.text() == "It still cannot be saved."
    sheet.put_into(tmp_path)
    assert Strategy.model_validate_json((tmp_path / "Kept on a full disk.json").read_text()) == long
    sheet.put_into(tmp_path / "nowhere")
    assert "cannot be written" in sheet.said.text()
    sheet.close()
    full(window, False)
    assert s.unsaved.try_again()
    assert told[-1][0] == 'Saved now: the strategy "Kept on a full disk".'
    assert "Kept on a full disk" in stored(window)
    assert not window.isWindowModified()
    assert not window.strip.not_saved.isVisible()


def test_a_locked_project_never_holds_the_window(window: MainWindow, settle: Settle, qtbot: QtBot,
                                                 monkeypatch: pytest.MonkeyPatch) -> None:
    settle()
    monkeypatch.setattr("wolbrin.core.store.database.PATIENCE", 3600.0)  # who waits so long does not come back
    s = window.session
    with closing(sqlite3.connect(s.project.path, isolation_level=None)) as other:
        other.execute("BEGIN IMMEDIATE")
        named(s, "While locked")
        s.set_theme("dusk")
        window.go("shelf")
        assert s.change_settings(capital=77_777.0)
        assert len(s.unsaved.asking()) == 2
        assert s.settings.capital == 77_777.0
        assert not s.change_settings(holdout_first=s.settings.holdout_first.replace(day=2))
        other.execute("ROLLBACK")
    qtbot.waitUntil(lambda: not s.unsaved.waiting, timeout=WAIT)
    assert "While locked" in stored(window)
    assert (s.project.settings.theme, s.project.settings.capital) == ("dusk", 77_777.0)


def test_a_change_of_a_market_is_tried_again_and_notes_wait_too(window: MainWindow, settle: Settle, qtbot: QtBot,
                                                               monkeypatch: pytest.MonkeyPatch) -> None:
    settle()
    monkeypatch.setattr("wolbrin.core.store.database.PATIENCE", 0.2)
    s, told = window.session, []
    s.noted.connect(lambda text, kind, door: told.append((text, door)))
    run = s.run
    assert run is not None
    id = s.shelf.keep(candidate_of(run, "found", "rules", 1))
    assert id is not None
    terms = s.entry.terms.model_copy(update={"spread_ticks": 7.0})
    with closing(sqlite3.connect(s.project.path, isolation_level=None)) as other:
        other.execute("BEGIN IMMEDIATE")
        s.alter("Terms", lambda: s.project.sources.change_terms(terms))
        settle()
        assert "kept in this window: Terms." in told[-1][0]
        state = window.places["shelf"].state
        state.note(id, "written while locked")
        assert {c.title for c in s.unsaved.asking()} == {"Terms", "note, found"}
        other.execute("ROLLBACK")
    qtbot.waitUntil(lambda: not s.unsaved.waiting, timeout=WAIT)
    settle()
    assert s.project.market(terms.code).terms.spread_ticks == 7.0
    assert s.shelf.lines([id])[0].marks.notes == "written while locked"
    s.shelf.remove([id])
    state.note(id, "too late")
    assert "not on the Shelf any more" in told[-1][0]
    assert "too late" in told[-1][0]


def test_what_another_program_changed_is_not_overwritten(window: MainWindow, settle: Settle) -> None:
    settle()
    s = window.session
    with closing(Project(s.project.folder)) as other:
        mine = s.strategy_id
        entry = other.strategy(mine)
        other.save_strategy(entry.strategy.model_copy(update={"name": "Theirs"}), entry.market, entry.interval, mine)
        named(s, "Mine")
        assert "Theirs" in stored(window)
        assert "Mine" not in stored(window)
        assert len(s.unsaved.asking()) == 1
        change = s.unsaved.asking()[0]
        assert change.overtaken
        assert change.as_new is not None
        change.as_new()
        assert {"Mine", "Theirs"} <= set(stored(window))
        assert s.strategy.name == "Mine"
        named(s, "Mine too")
        other.delete_strategy(s.strategy_id)
        named(s, "Mine again")
        change = s.unsaved.asking()[0]
        assert "deleted by another program" in change.error.sentence()
        assert change.theirs is not None
        change.theirs()
        assert not s.unsaved.asking()
        assert s.strategy.name in stored(window)
        other.update_settings(other.settings.model_copy(update={"capital": 12_345.0}))
        assert s.change_settings(theme="dusk")
        assert other.settings.capital == 12_345.0, "only what was changed is changed"
        assert s.settings.capital == 12_345.0


@pytest.mark.parametrize("harm", [
    "UPDATE strategies SET body = '{' WHERE id = (SELECT min(id) FROM strategies)",
    "UPDATE strategies SET name = CAST(x'ff00fe' AS TEXT), body = CAST(x'ff' AS TEXT) WHERE id = (SELECT max(id) FROM "
    "strategies)",
    "UPDATE markets SET terms = '[]' WHERE position = 0", "UPDATE sources SET rolls = '{' WHERE rowid = 1",
    "UPDATE settings SET value = '{\"capital\": \"much\"}' WHERE key = 'project'", "DROP TABLE portfolios",
    "DROP TABLE openings", "DROP TABLE settings", "DROP TABLE bodies",
    "INSERT OR REPLACE INTO settings VALUES ('value:drawer', 'not json')",
    "INSERT INTO searches (created, kind, title, request, tried, kept, state) VALUES ('x', 'sweep', 'b', '{', 1, 0, 'done')"])
def test_a_damaged_project_opens_and_names_what_it_leaves_aside(demo: Path, engine: Engine, qtbot: QtBot,
                                                                harm: str) -> None:
    with closing(Project(demo)) as project:
        border = project.settings.holdout_first
        strategies, markets = len(project.strategies()), len(project.markets())
    with closing(sqlite3.connect(demo / DATABASE)) as db:
        db.execute(harm)
        db.commit()
    project = Project(demo)
    window = MainWindow(Session(project, engine, Theme()))
    told: list[str] = []
    window.session.noted.connect(lambda text, kind, door: told.append(text))
    window.show()
    for key in ("markets", "rules", "backtest", "study", "sweep", "discover", "shelf", "proving", "overlap", "portfolio"):
        window.go(key)
        qtbot.wait(20)
    qtbot.waitUntil(lambda: not window.session.busy, timeout=WAIT)
    window.session.dossiers.searches.all(["sweep"])  # what the list of searches asks
    assert project.aside.found, "it is named"
    window.show_aside()
    sheet = next(w for w in window.children() if isinstance(w, AsideSheet))
    texts = [w.text().lower() for w in sheet.findChildren(QLabel)]
    assert all(what.lower() in texts for what in project.aside.found)
    sheet.close()
    assert project.settings.holdout_first <= border, "no seal is opened"
    assert len(project.strategies()) >= strategies - 1
    assert len(project.markets()) >= markets - 1
    named(window.session, "Edited beside it")
    assert any("Edited beside it" in e.strategy.name for e in project.strategies())
    put_away(window)
    project.close()


def test_no_start_ends_with_an_empty_screen(demo: Path, capsys: pytest.CaptureFixture[str],
                                            monkeypatch: pytest.MonkeyPatch) -> None:
    (demo / DATABASE).write_bytes(b"no database" * 1000)
    assert open_window(demo, []) == 1
    assert "is damaged" in capsys.readouterr().err
    monkeypatch.setattr("wolbrin.app.start.Session", lambda *_: 1 / 0)
    with closing(Project.create(demo / "new")):
        pass
    assert open_window(demo / "new", []) == 1
    assert "Something went wrong" in capsys.readouterr().err
