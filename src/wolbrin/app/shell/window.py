"""The main window: one frame (rail, brief, ruler, work area, drawer, strip) around every place."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable

from PySide6.QtCore import QPoint, QSize, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QKeySequence, QShowEvent
from PySide6.QtWidgets import QHBoxLayout, QMainWindow, QMenu, QSplitter, QStackedWidget, QVBoxLayout, QWidget

from wolbrin.app.parts import Empty, hairline, label
from wolbrin.app.places.place import Place
from wolbrin.app.places.registry import PLACES, Places
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.app.shell.aside_sheet import AsideSheet
from wolbrin.app.shell.border import BorderPopup
from wolbrin.app.shell.brief_line import BriefLine
from wolbrin.app.shell.doors import open_door
from wolbrin.app.shell.drawer import Drawer
from wolbrin.app.shell.not_saved import NotSaved
from wolbrin.app.shell.palette import HelpSheet, Palette
from wolbrin.app.shell.projects import new_project, open_project
from wolbrin.app.shell.rail import Rail
from wolbrin.app.shell.ruler import Ruler
from wolbrin.app.shell.strip import WorkStrip
from wolbrin.app.telling import tell_opening
from wolbrin.core.errors import WolbrinError
from wolbrin.core.work.funnel import funnel
from wolbrin.core.work.readying import Readying


class PlaceStack(QStackedWidget):
    """As small as the place that is shown allows, not as the widest of all."""

    def minimumSizeHint(self) -> QSize:
        current = self.currentWidget()
        return current.minimumSizeHint() if current is not None else QSize(400, 300)

    def sizeHint(self) -> QSize:
        return self.minimumSizeHint()


class MainWindow(QMainWindow):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session: Session = session
        read = " (read only)" if session.project.only_read else ""
        self.setWindowTitle(f"Wolbrin \u2013 {session.settings.desk}{read}[*]")
        self.resize(1280, 800)
        self.stack = PlaceStack()
        self.places = Places(session, self._place_made)
        self.nothing = Empty("This project holds no history yet. Choose files of a market: bars or ticks, as you have them. "
                             "Layout, time zone, sessions and tick are found in them and shown with their reasons before "
                             "anything is kept.", "Choose files", lambda: open_door(self, "import"))
        self.stack.addWidget(self.nothing)
        self.rail = Rail(session.theme, session.settings.desk)
        self.brief: BriefLine = BriefLine(session)
        self.ruler = Ruler(session)
        self.drawer = Drawer(session)
        self.strip = WorkStrip(session)
        self.work = QSplitter(Qt.Orientation.Horizontal)
        self.work.addWidget(self.stack)
        self.work.addWidget(self.drawer)
        self.work.setStretchFactor(0, 1)
        self.work.setChildrenCollapsible(False)
        self.drawer.setMinimumWidth(344)
        self.work.setSizes([776, 356])
        right = QVBoxLayout()
        right.setContentsMargins(0, 0, 0, 0)
        right.setSpacing(0)
        self.waits = label("This waits for code that is being compiled for this processor, once; it opens by itself.",
                           "accent")
        self.waits.setContentsMargins(20, 4, 0, 2)
        self.waits.hide()
        for part in (self.brief, self.ruler, hairline(), self.waits):
            right.addWidget(part)
        right.addWidget(self.work, 1)
        right.addWidget(hairline())
        right.addWidget(self.strip)
        frame = QWidget()
        frame.setObjectName("frame")
        line = QHBoxLayout(frame)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(0)
        line.addWidget(self.rail)
        line.addWidget(hairline(vertical=True))
        line.addLayout(right, 1)
        self.setCentralWidget(frame)
        self._drawer_wanted: dict[str, bool] = {e.key: e.drawer for e in PLACES} | session.project.get_value("drawer", {})
        self.actions_all: list[Action] = []
        self._bound: dict[str, list[Action]] = {}
        self._declare(self._own_actions())
        self.rail.wanted.connect(self.go)
        self.rail.menu_wanted.connect(lambda anchor: self.menu().popup(anchor.mapToGlobal(QPoint(0, anchor.height()))))
        session.place_wanted.connect(self.go)
        session.border_asked.connect(self.ask_border)
        session.door_wanted.connect(lambda at: open_door(self, at))
        session.markets_changed.connect(self._history_came)
        session.unsaved.changed.connect(self._mark_unsaved)
        session.counts_changed.connect(self._count_soon)
        session.evidence_changed.connect(self._count_soon)
        session.shelf_changed.connect(self._count_soon)
        self._closing = False
        self._count = QTimer(self, singleShot=True, interval=150)
        self._count.timeout.connect(self.count)
        self.place = self._before = ""
        sizes = session.project.get_value("splitter")
        if sizes:
            self.work.setSizes(sizes)
        self.count()
        self.go(session.project.get_value("place", "markets"))
        session.brief_changed.emit()
        tell_opening(session)

    # Counts

    def _count_soon(self) -> None:
        if not self._closing and not self._count.isActive():
            self._count.start()

    def count(self) -> None:
        counts = self.session.attempt(lambda: funnel(self.session.project))
        if counts is None:
            return
        counts["rehearsing"] = int("rehearsal" in self.places and self.places["rehearsal"].running())
        self.rail.show_counts(counts)

    # Places and drawer

    def go(self, key: str) -> None:
        """Show a place."""
        if key not in [e.key for e in PLACES]:
            key = "markets"
        if self.place and self.place != key:
            self._before = self.place
        self.place = key
        self.rail.show_place(key)
        # Without history only Markets has something to show.
        bare = not self.session.markets and key != "markets"
        try:
            place = None if bare else self.places[key]
        except WolbrinError as err:  # something it needs cannot be read; the others work
            self.nothing.say(err.sentence(), "Try again", lambda: self.go(key))
            place, bare = None, True
        self.stack.setCurrentWidget(self.nothing if place is None else place)
        self.drawer.setVisible(self._drawer_wanted.get(key, False) and not bare)
        self.session.remember("place", key)
        if place is None:
            self.nothing.setFocus()
            return
        self.session.attempt(place.activate)
        place.setFocus()

    def _history_came(self) -> None:
        """Turn from the sheet that asks for history to the place, once there is some."""
        if (self.stack.currentWidget() is self.nothing) == bool(self.session.markets):
            self.go(self.place)

    def toggle_drawer(self) -> None:
        shown = not self.drawer.isVisible()
        self._drawer_wanted[self.place] = shown
        self.drawer.setVisible(shown)
        self.session.remember("drawer", dict(self._drawer_wanted))

    def toggle_theme(self) -> None:
        name = "dusk" if self.session.settings.theme == "paper" else "paper"
        self.session.set_theme(name)
        self.session.evidence_changed.emit()

    # Actions

    def _place_made(self, place: Place) -> None:
        self.stack.addWidget(place)
        self._declare(place.actions_offered())

    def _own_actions(self) -> list[Action]:
        s = self.session
        found = [Action(f"go.{e.key}", f"Go to {e.title}", lambda key=e.key: self.go(key), f"Alt+{e.shortcut}")
                 for e in PLACES]
        found += [
            Action("go.back", "Back to the place before", lambda: self.go(self._before), "Alt+Left", "",
                   lambda: bool(self._before)),
            Action("palette", "Command palette", self.open_palette, "Ctrl+Space"),
            Action("menu", "Menu", lambda: self.rail.title.click(), "F10"),
            Action("drawer", "Show or hide the dossier", self.toggle_drawer, "F4"),
            Action("theme", "Paper or Dusk", self.toggle_theme, "F9"),
            Action("undo", "Undo", s.undo.undo, "Ctrl+Z", "", s.undo.canUndo),
            Action("redo", "Redo", s.undo.redo, "Ctrl+Shift+Z", "", s.undo.canRedo),
            Action("span", "Edit the training span", lambda: self.brief.span.click(), "Ctrl+E"),
            Action("ruler", "Go to the span ruler", self.ruler.setFocus, "Ctrl+U"),
            Action("search.go_on", "Go on with the interrupted search", s.go_on_newest),
            *(Action(f"share.{percent}", f"Long work takes {percent}% of the processor",
                     lambda share=percent / 100: s.set_share(share)) for percent in (25, 50, 75, 100)),
            Action("not_saved", "What is not saved", self.show_not_saved, "", "", lambda: bool(s.unsaved.asking())),
            Action("aside", "What was left aside", self.show_aside, "", "", lambda: s.project.anything_left),
            Action("project.new", "New project \u2026", lambda: new_project(s, self)),
            Action("project.open", "Open a project \u2026", lambda: open_project(s, self)),
            Action("help", "Keys", self.open_help, "F1"),
            Action("quit", "Quit", self.close, "Ctrl+Q"),
        ]
        return found

    def _declare(self, actions: list[Action]) -> None:
        """Take actions in. One QAction a shortcut: places may share a key, the one that is shown answers."""
        self.actions_all += actions
        for action in actions:
            if not action.shortcut:
                continue
            if action.shortcut in self._bound:
                self._bound[action.shortcut].append(action)
                continue
            several = self._bound[action.shortcut] = [action]
            bound = QAction(self)
            bound.setShortcut(QKeySequence(action.shortcut))
            bound.setShortcutContext(Qt.ShortcutContext.WindowShortcut)
            bound.triggered.connect(self._caller(several))
            self.addAction(bound)

    def _caller(self, several: list[Action]) -> Callable[[], None]:
        def call() -> None:
            for action in several:
                if action.place in ("", self.place) and action.enabled():
                    action.act()
                    return
        return call

    def menu(self) -> QMenu:
        """All actions, by place."""
        self.places.all()
        made = QMenu(self)
        made.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        groups: dict[str, QMenu] = {}
        for action in self.actions_all:
            if action.id == "menu":
                continue
            group = action.place.capitalize() if action.place else "Go" if action.id.startswith("go.") else ""
            if group and group not in groups:
                groups[group] = made.addMenu(group)
            entry = (groups[group] if group else made).addAction(action.title)
            entry.setShortcut(QKeySequence(action.shortcut))
            entry.setShortcutVisibleInContextMenu(True)
            entry.setEnabled(action.enabled() and action.place in ("", self.place))
            entry.triggered.connect(lambda _=False, a=action: a.act())
        return made

    def open_palette(self) -> None:
        offered = [a for a in self.actions_all if a.place in ("", self.place) and a.id != "palette"]
        palette = Palette(offered, self)
        palette.move(self.mapToGlobal(QPoint((self.width() - palette.width()) // 2, 110)))
        palette.show()
        palette.search.setFocus()

    def ask_border(self, border: dt.date) -> None:
        """Say what moving the border costs, under the ruler, and let the user decide."""
        popup = BorderPopup(self.session, border, self)
        popup.open_under(self.ruler)
        popup.why.setFocus()

    def open_help(self) -> None:
        self.places.all()
        HelpSheet(self.actions_all, self).show()

    def show_not_saved(self, leave: Callable[[], None] | None = None) -> None:
        """List what is not saved, with every way out."""
        sheet = NotSaved(self.session, self, leave)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.open()

    def show_aside(self) -> None:
        """List what of the project cannot be read."""
        sheet = AsideSheet(self.session.project, self)
        sheet.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        sheet.open()

    def _leave(self) -> None:
        self._closing = True
        self.close()

    def _mark_unsaved(self) -> None:
        self.setWindowModified(bool(self.session.unsaved.asking()))

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        # Places fill themselves only while they can be seen; the first one has to be told that it can be now.
        place = self.places.get(self.place)
        if place is not None:
            QTimer.singleShot(0, self, lambda: place.activate() if place.isVisible() else None)

    def follow(self, ready: Readying) -> None:
        """Say, as long as kernels are compiled beside the window, how far that is, and that a place waits for one."""
        self.strip.follow(ready)
        timer = QTimer(self, interval=250)

        def look() -> None:
            over = ready.over.is_set()
            self.waits.setVisible(not over and ready.awaited)
            if over:
                timer.stop()
                timer.deleteLater()

        timer.timeout.connect(look)
        timer.start()
        look()

    def closeEvent(self, event: QCloseEvent) -> None:
        if self.drawer.isVisible():
            self.session.remember("splitter", self.work.sizes())
        if not self._closing and not self.session.unsaved.try_again():
            event.ignore()
            self.show_not_saved(self._leave)
            return
        self.session.stop_all()
        # Nothing is counted any more: the project may be closed before the timer would fire.
        self._closing = True
        self._count.stop()
        super().closeEvent(event)
