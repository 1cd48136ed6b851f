"""Single places and parts of the frame: edge cases, empty states, keyboard, what stays after a restart."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable
from operator import attrgetter
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QObject, QPointF, Qt
from PySide6.QtGui import QImage, QKeyEvent, QPainter
from PySide6.QtWidgets import QApplication, QLabel, QListWidget, QPushButton, QWidget
from pytestqt.qtbot import QtBot

from tests.app.conftest import put_away
from tests.build import WAIT
from wolbrin.app.charts.grids import Grid
from wolbrin.app.charts.price import draw_pennant
from wolbrin.app.parts import Choice, Empty, Popup
from wolbrin.app.places.backtest.columns import measure_rows, trades_of
from wolbrin.app.places.proving.funnel import Band, Funnel
from wolbrin.app.places.registry import PLACES
from wolbrin.app.places.rules.operand import OperandPopup, choices
from wolbrin.app.session import Session
from wolbrin.app.shell.drawer import SHOWN, GateMark
from wolbrin.app.shell.window import MainWindow
from wolbrin.app.theme.theme import Theme
from wolbrin.core.engine.ledger import ledger
from wolbrin.core.jobs import Chunk, Engine, Job
from wolbrin.core.measures.catalogue import MEASURES
from wolbrin.core.rules.model import Distance, FieldOperand, IndicatorOperand, NumberOperand, Strategy
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.search.objective import Floor
from wolbrin.core.store.portfolios import Portfolios
from wolbrin.core.store.project import Project
from wolbrin.core.work.portfolios import plan_of

Settle = Callable[[], None]


def texts(widget: object) -> str:
    """All label texts inside a widget."""
    return " | ".join(x.text() for x in widget.findChildren(QLabel))  # type: ignore[attr-defined]


def put_on_shelf(session: Session, count: int) -> list[int]:
    """Keep the current run with slightly different stops; returns the ids."""
    ids = []
    from wolbrin.core.engine.run import backtest

    history = session.project.prepared(session.market, session.interval)
    for i in range(count):
        what = session.strategy.model_copy(update={"stop": Distance(unit="atr", amount=2.0 + i / 4, length=20)})
        run = backtest(history, what, session.settings.brief(history.bars.terms))
        id = session.dossiers.keep(candidate_of(run, f"Kept {i}", "rules", 1))
        assert id is not None
        ids.append(id)
    return ids


# Frame


def test_empty_places_say_what_to_do_and_the_button_does_it(window: MainWindow, settle: Settle, qtbot: QtBot) -> None:
    for key, leads in (("shelf", "discover"), ("overlap", "proving"), ("portfolio", "proving")):
        window.go(key)
        settle()
        empty = window.places[key].findChild(Empty)
        assert empty.isVisible(), key
        assert len(texts(empty)) > 40
        qtbot.mouseClick(empty.findChild(QPushButton), Qt.MouseButton.LeftButton)
        assert window.place == leads, key
    window.go("proving")
    empty = window.places["proving"].findChild(Empty)
    qtbot.mouseClick(empty.findChild(QPushButton), Qt.MouseButton.LeftButton)
    assert window.place == "discover"
    assert "Shelf is empty" in window.strip.message.text()


class _Windows(QObject):
    """Notes whatever shows as a window of its own."""

    def __init__(self) -> None:
        super().__init__()
        self.seen: list[str] = []

    def eventFilter(self, target: QObject, event: QEvent) -> bool:  # noqa: N802 - Qt calls it so
        if event.type() is QEvent.Type.Show and isinstance(target, QWidget) and target.isWindow():
            self.seen.append(f"{type(target).__name__} {target.accessibleName()}")
        return False


def test_places_are_made_when_first_shown_and_nothing_flashes(window: MainWindow, settle: Settle) -> None:
    settle()
    assert len(window.places) == 1, "only the place that is shown"
    app, seen = QApplication.instance(), _Windows()
    assert app is not None
    app.installEventFilter(seen)
    for entry in PLACES:
        window.go(entry.key)
        settle()
        assert window.stack.currentWidget() is window.places[entry.key]
    app.removeEventFilter(seen)
    assert seen.seen == []


def test_actions_without_anything_to_act_on_speak_up(window: MainWindow, settle: Settle) -> None:
    settle()
    say = window.strip.message
    for key, act in (("sweep", "apply_chosen"), ("sweep", "keep_chosen"), ("discover", "open_chosen"), ("shelf", "remove"),
                     ("shelf", "open_chosen"), ("proving", "state.start"), ("proving", "state.open_holdout"),
                     ("portfolio", "save")):
        say.setText("")
        attrgetter(act)(window.places[key])()
        settle()
        assert say.text(), f"{key}.{act} is a silent no"
    while len(window.session.project.strategies()) > 1:
        window.session.delete_strategy()
    window.session.delete_strategy()
    assert "last strategy stays" in say.text()


def test_the_rail_counts_what_the_project_holds(window: MainWindow, settle: Settle) -> None:
    settle()
    ids = put_on_shelf(window.session, 3)
    project = window.session.project
    Portfolios(project).keep(plan_of(window.session.shelf.bodies(ids[:2]), "P"), {}, [])
    window.session.counts_changed.emit()
    window.count()
    counts = {key: item.count for key, item in window.rail.items.items()}
    assert counts["shelf"] == "3 kept"
    assert counts["portfolio"] == "1 saved"
    assert counts["strategies" if "strategies" in counts else "rules"] == "3 strategies"
    assert window.rail.attrition.steps[1] == (3, "kept")
    assert window.rail.attrition.steps[-1] == (2, "in portfolio")


def test_the_drawer_follows_the_selection(window: MainWindow, settle: Settle) -> None:
    settle()
    put_on_shelf(window.session, 2)
    window.go("shelf")
    settle()
    window.places["shelf"].table.choose(1)
    settle()
    words = texts(window.drawer)
    assert "Kept 1" in words
    assert "sealed" in words
    assert "not run yet" in words
    window.go("backtest")
    settle()
    assert "Tern breakout" in texts(window.drawer)
    assert window.session.subject is None
    assert all(key in {m.key for m in MEASURES} for key in SHOWN)


def test_errors_of_ours_are_logged_and_told(window: MainWindow, settle: Settle, caplog: pytest.LogCaptureFixture) -> None:
    def crash(_: None) -> None:
        raise ZeroDivisionError("never mind")

    with caplog.at_level("ERROR", "wolbrin"):
        window.session.start(Job("Odd work", "steps", [Chunk(None)], crash, lambda _: None), "threads")
        settle()
    assert "Odd work failed" in window.strip.message.text()
    assert "What was saved is unharmed" in window.strip.message.text()
    assert any("Odd work" in r.message for r in caplog.records)


def test_a_superseded_backtest_is_dropped(window: MainWindow, settle: Settle) -> None:
    settle()
    s = window.session
    seen: list[float] = []
    s.run_changed.connect(lambda: seen.append(s.run.brief.capital))
    for amount in (60_000.0, 70_000.0, 90_000.0):
        s.project_settings = s.project_settings.model_copy(update={"capital": amount})
        s.current.renew()
    settle()
    assert seen == [90_000.0]


def test_popups_close_by_escape_and_lists_take_the_keyboard(window: MainWindow, settle: Settle, qtbot: QtBot) -> None:
    settle()
    window.brief.market.click()
    popup = window.brief.findChild(Popup)
    names = popup.findChild(QListWidget)
    assert [names.item(i).text().split()[0] for i in range(names.count())] == [m.code for m in window.session.markets]
    QApplication.sendEvent(popup, QKeyEvent(QEvent.Type.KeyPress, Qt.Key.Key_Escape, Qt.KeyboardModifier.NoModifier))
    qtbot.wait(20)
    assert not [p for p in window.brief.findChildren(Popup) if p.isVisible()]
    window.brief.fill.click()
    names = next(p for p in window.brief.findChildren(Popup) if p.isVisible()).findChild(QListWidget)
    names.setCurrentRow(1)
    names.itemActivated.emit(names.currentItem())
    assert window.session.strategy.fill == "this close"
    window.session.undo.undo()
    assert window.session.strategy.fill == "next open"
    window.brief.flat.click()
    names = next(p for p in window.brief.findChildren(Popup) if p.isVisible()).findChild(QListWidget)
    names.setCurrentRow(1)
    names.itemActivated.emit(names.currentItem())
    settle()
    assert window.brief.flat.text() == "held overnight"
    assert not window.session.run.strategy.flat_by_session_end


def test_the_ruler_knows_its_dates(window: MainWindow, settle: Settle) -> None:
    settle()
    ruler = window.ruler
    for date in (dt.date(2016, 6, 1), dt.date(2020, 2, 29), dt.date(2025, 6, 30)):
        assert abs((ruler.date_at(ruler.x_of(date)) - date).days) <= 4
    assert ruler.near(ruler.x_of(window.session.settings.holdout_first) + 3) == "holdout_first"
    assert ruler.near(ruler.x_of(dt.date(2019, 1, 1))) is None


def test_a_narrow_and_a_wide_window_hold(window: MainWindow, settle: Settle) -> None:
    for width, height in ((1280, 800), (1600, 900), (2560, 1440)):
        window.resize(width, height)
        for key in ("backtest", "rules", "proving", "sweep"):
            window.go(key)
            settle()
            assert (window.width(), window.height()) == (width, height), key
            assert window.stack.width() >= window.stack.minimumSizeHint().width()


# Places


def test_operands_of_every_kind_can_be_chosen(qtbot: QtBot, window: MainWindow) -> None:
    context = window.places["rules"].context
    assert len(choices(context)) > 200
    got: list[object] = []
    popup = OperandPopup(NumberOperand(value=3), context, window)
    popup.changed.connect(got.append)
    for text, want in (("typical", FieldOperand(field="typical")), ("Band lower", IndicatorOperand(
                           indicator="bands", output="lower", params={"length": 20, "width": 2})),
                       ("a number", NumberOperand(value=0)), ("Weekday", IndicatorOperand(indicator="weekday"))):
        popup.search.setText(text)
        popup.take(popup.names.currentItem())
        assert got[-1] == want
    popup.renew(times=2.0, ago=3)
    assert (got[-1].times, got[-1].ago) == (2.0, 3)  # type: ignore[attr-defined]
    popup.search.setText("nothing like it")
    popup.take(popup.names.currentItem())
    assert got[-1].times == 2.0  # type: ignore[attr-defined]
    popup.close()


def test_ledger_rows_equal_the_core(window: MainWindow, settle: Settle) -> None:
    settle()
    run = window.session.run
    rows, book = trades_of(run), ledger(run)
    assert len(rows) == len(run)
    for i in (0, len(rows) // 2, len(rows) - 1):
        one = rows[i]
        assert (one.side, one.reason, one.held) == (book["side"][i], book["exit_reason"][i], book["bars_held"][i])
        assert one.net == book["net"][i]
        assert one.costs == pytest.approx(book["gross"][i] - book["net"][i])
        assert one.entry_time.astimezone(dt.UTC).replace(tzinfo=None) == book["entry_time"][i].astype("datetime64[s]").item()
    named = {m.title: m.value for m in measure_rows(run)}
    assert named["trades"] == f"{len(run):,}"
    assert "left out" in named


def test_grids_are_walked_by_keys_and_tell_their_cell(qtbot: QtBot) -> None:
    grid = Grid(Theme(), "G")
    qtbot.addWidget(grid)
    grid.resize(400, 300)
    grid.show_grid(np.array([[1.0, -2.0], [np.nan, 0.5]]), ["r0", "r1"], ["c0", "c1"], ("t", "x"), numbers=True)
    grid.show()
    picked: list[tuple[int, int]] = []
    grid.picked.connect(lambda r, c: picked.append((r, c)))
    for key in (Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Up, Qt.Key.Key_Left, Qt.Key.Key_Down):
        qtbot.keyClick(grid, key)
    assert picked == [(0, 1), (1, 1), (1, 1), (1, 0), (0, 0)]
    qtbot.mouseClick(grid, Qt.MouseButton.LeftButton, pos=grid.cell(1, 1).center().toPoint())
    assert picked[-1] == (1, 1)
    high, low, zero = (grid.tint(v) for v in (2.0, -2.0, 0.0))
    assert high != low
    assert zero.lightness() > high.lightness()
    assert not grid.grab().isNull()


def test_marks_differ_by_shape_not_only_by_color(qtbot: QtBot) -> None:
    """Gate marks and pennants drawn in one ink must still be told apart."""
    theme = Theme()
    images = []
    for state in ("passes", "falls", "sealed", "not enough", "not run yet"):
        mark = GateMark(theme, state)
        qtbot.addWidget(mark)
        mark.resize(12, 12)
        gray = mark.grab().toImage().convertToFormat(QImage.Format.Format_Grayscale8)
        images.append(bytes(gray.constBits()))
    assert len(set(images)) == 5
    pennants = []
    for side in (1, -1):
        image = QImage(60, 60, QImage.Format.Format_Grayscale8)
        image.fill(255)
        painter = QPainter(image)
        draw_pennant(painter, QPointF(30, 30), side, theme)
        painter.end()
        pennants.append(bytes(image.constBits()))
    assert pennants[0] != pennants[1]


def test_the_funnel_draws_every_stage(qtbot: QtBot) -> None:
    funnel = Funnel(Theme())
    qtbot.addWidget(funnel)
    funnel.resize(700, 196)
    empty = funnel.grab().toImage()
    funnel.show_bands([Band("mc", "Monte Carlo", "t", 10, 6, 3, 1, False), Band("h", "Holdout", "t", 6, 0, 0, 0, True)], 10)
    assert funnel.grab().toImage() != empty
    assert "Monte Carlo: 6 pass, 3 fall" in funnel.accessibleDescription()


def test_choices_keep_one_value(qtbot: QtBot) -> None:
    choice = Choice([("a", 1), ("b", 2)], 2, "Pick")
    qtbot.addWidget(choice)
    got: list[object] = []
    choice.chosen.connect(got.append)
    assert choice.value == 2
    choice.findChildren(type(choice.group.button(0)))[0].click()
    assert (choice.value, got) == (1, [1])
    choice.set(2)
    assert choice.value == 2


def test_discover_on_noise_says_that_nothing_is_the_right_answer(window: MainWindow, settle: Settle) -> None:
    window.session.set_market("ASL")
    settle()
    window.go("discover")
    place = window.places["discover"]
    setup = place.setup
    setup.method.setCurrentIndex(setup.method.findData("random"))
    setup.count.setValue(40)
    setup.controls.setValue(0)
    setup.pool.setValue(100)
    setup.show_floors((Floor(key="profit_factor", value=2.5), Floor(key="trades", value=300)))
    place.start()
    settle()
    assert place.result.kept.text() == "0"
    assert "right answer" in place.result.luck.text()
    assert window.session.dossiers.searches.tried_on("ASL") == 40


def test_the_shelf_ticks_filters_and_opens(window: MainWindow, settle: Settle) -> None:
    settle()
    s = window.session
    ids = put_on_shelf(s, 4)
    window.go("shelf")
    settle()
    shelf = window.places["shelf"]
    shelf.table.model.set_filter(2, "Kept 2")
    settle()
    shelf.state.tick_shown()
    assert s.selection == [ids[2]]
    shelf.table.model.set_filter(2, "")
    settle()
    index = shelf.table.model.index(0, 0)
    assert shelf.table.model.setData(index, Qt.CheckState.Checked.value, Qt.ItemDataRole.CheckStateRole)
    assert set(s.selection) == {ids[0], ids[2]}
    before = len(s.project.strategies())
    shelf.table.choose(3)
    shelf.open_chosen()
    settle()
    assert window.place == "rules"
    assert len(s.project.strategies()) == before + 1
    assert s.strategy.name == "Kept 3"


def test_everything_comes_back_after_a_restart(window: MainWindow, settle: Settle, demo: Path, engine: Engine,
                                               qtbot: QtBot) -> None:
    settle()
    s = window.session
    s.select(put_on_shelf(s, 2))
    s.edit(s.strategy.model_copy(update={"quantity": 3.0}), "quantity")
    s.set_market("BBY")
    s.set_interval(30)
    window.go("sweep")
    for _ in range(2):
        next(line for line in window.places["sweep"].lines if not line.on.isChecked()).on.click()
    window.places["sweep"].start()
    settle()
    rows = window.places["sweep"].table.model.rowCount()
    window.close()
    project = Project(demo)
    again = MainWindow(Session(project, engine, Theme()))
    again.show()
    assert (again.session.market, again.session.interval) == ("BBY", 30)
    assert again.session.strategy.quantity == 3.0
    assert again.session.selection == s.selection
    assert again.place == "sweep"
    qtbot.waitUntil(lambda: again.places["sweep"].table.model.rowCount() == rows > 10, timeout=WAIT)
    assert len(again.session.dossiers.shelf()) == 2
    put_away(again)
    project.close()


def test_an_empty_project_opens_and_leads_on(engine: Engine, qtbot: QtBot, tmp_path: Path) -> None:
    """A folder with no market yet: the window opens, says so, and nothing breaks in any place."""
    project = Project.create(tmp_path / "new")
    window = MainWindow(Session(project, engine, Theme()))
    window.show()
    for entry in PLACES:
        window.go(entry.key)
        qtbot.wait(20)
    assert json.loads(window.session.strategy.model_dump_json())["name"] == Strategy().name
    put_away(window)
    project.close()
