"""Rules: what exactly is traded, as rows and as text, with its signals drawn beside it while it is edited."""

from __future__ import annotations

import re
import tempfile
from contextlib import suppress
from functools import cached_property
from pathlib import Path
from typing import Any

from PySide6.QtCore import QMimeData, QPoint, Qt, QUrl
from PySide6.QtGui import QDrag, QDragEnterEvent, QDropEvent, QGuiApplication, QMouseEvent
from PySide6.QtWidgets import (
    QFileDialog,
    QLabel,
    QLineEdit,
    QMenu,
    QPlainTextEdit,
    QSplitter,
    QStackedWidget,
    QWidget,
)

from wolbrin.app.parts import Choice, button, column, label, row, set_role
from wolbrin.app.places.place import Place
from wolbrin.app.places.rules.family import FamilyPage
from wolbrin.app.places.rules.formula_page import FormulaPage
from wolbrin.app.places.rules.library_page import LibraryPage
from wolbrin.app.places.rules.naming import Naming
from wolbrin.app.places.rules.operand import Context, Own
from wolbrin.app.places.rules.own_page import OwnPage
from wolbrin.app.places.rules.rows_page import RowsPage
from wolbrin.app.places.rules.signals import Seen, SignalsView, look
from wolbrin.app.session import Session
from wolbrin.app.shell.actions import Action
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.faults import words_of
from wolbrin.core.models import parse_json
from wolbrin.core.rules.mirror import effective_short, mirror_condition
from wolbrin.core.rules.model import Condition, Distance, Parameter, Side, Strategy, load_strategy, read_strategy
from wolbrin.core.rules.named import names_in
from wolbrin.core.rules.script import parse_strategy, strategy_text
from wolbrin.core.rules.templates import templates
from wolbrin.core.rules.words import describe
from wolbrin.core.written import safe_name, write_text

PAGES = (("Rows", "rows"), ("Formula", "formula"), ("Library", "library"), ("Family", "family"), ("Own indicators", "own"),
         ("Notes", "notes"))


class DragOut(QLabel):
    """A handle that is dragged out as the strategy's file."""

    def __init__(self, place: RulesPlace) -> None:
        super().__init__("\u2197 drag")
        self._place = place
        self._from = QPoint()
        self.setProperty("role", "muted")
        self.setToolTip("Drag this to a folder or another program: the strategy as a file and as text")
        self.setCursor(Qt.CursorShape.OpenHandCursor)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self._from = event.position().toPoint()

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        if (event.position().toPoint() - self._from).manhattanLength() > 8:
            drag = QDrag(self)
            drag.setMimeData(self._place.carried())
            drag.exec(Qt.DropAction.CopyAction)


class RulesPlace(Place):
    key = "rules"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        s = session
        self.naming = Naming(lambda: s.strategy, lambda p, text: self.edit({"parameters": p}, text))
        self.context = Context(self.naming, pip_ticks=lambda: s.entry.terms.pip_ticks if s.market else 0)
        self.name = QLineEdit()
        self.name.setAccessibleName("Strategy name")
        self.name.setMaxLength(80)
        self.name.editingFinished.connect(self._rename)
        self.words = label("", wrap=True)
        self.remarks = label("", "caution", wrap=True)
        self.rows = RowsPage(self)
        self.notes = QPlainTextEdit()
        self.notes.setPlaceholderText("What the idea is, where it comes from, what was tried \u2026")
        self.notes.setAccessibleName("notes of the strategy")
        notes = QWidget()
        notes.setLayout(column(self.notes, row(button("Keep notes", self.keep_notes), None)))
        self.page = Choice(list(PAGES), "rows", "Rules page")
        self.page.chosen.connect(lambda key: self.show_page(str(key)))
        self._notes_page = notes
        self.stack = QStackedWidget()
        self.stack.addWidget(self.rows)
        more = button("Templates", lambda: self._templates(more), tip="Begin with a template")
        bar = row(button("New", self.new, tip="An empty strategy"), more,
                  button("Variant", self.variant, tip="Duplicate as a variant of this strategy"),
                  button("Delete", s.delete_strategy), button("Open", self.open_file, tip="Open a strategy file"),
                  button("Save", self.save_file, tip="Save the strategy as a file"), None, DragOut(self), spacing=5)
        left = QWidget()
        left.setLayout(column(bar, self.name, self.words, self.remarks, self.page, self.stack, margins=(20, 8, 0, 4),
                              spacing=5))
        left.setMinimumWidth(452)
        self.signals = SignalsView(s.theme, lambda _: self._redraw())
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(left)
        split.addWidget(self.signals)
        split.setSizes([520, 500])
        split.setStretchFactor(1, 1)
        split.setChildrenCollapsible(False)
        self.setLayout(column(split))
        self.setAcceptDrops(True)
        self._loading = False
        self._request = 0
        self._own_changed()
        s.strategy_changed.connect(self.refresh)
        s.strategies_changed.connect(self._family_moved)
        s.brief_changed.connect(self._redraw)
        self.refresh()

    # Pages beside the rows are made when first shown, so that the window opens sooner.

    @cached_property
    def formula(self) -> FormulaPage:
        return FormulaPage(self.session.theme, lambda made: self._replace(made, "formula"), self.context.names)

    @cached_property
    def library(self) -> LibraryPage:
        return LibraryPage(self.session, self.add_condition, self.part)

    @cached_property
    def family(self) -> FamilyPage:
        made = FamilyPage(self.session)
        made.variant_wanted.connect(self.variant)
        return made

    @cached_property
    def own(self) -> OwnPage:
        return OwnPage(self.session, self._own_changed)

    @property
    def chart(self) -> Any:
        """The price chart of the signals."""
        return self.signals.chart

    def actions_offered(self) -> list[Action]:
        s = self.session
        found = [Action("rules.new", "New strategy", self.new, "Ctrl+N", "rules"),
                 Action("rules.duplicate", "Duplicate the strategy as a variant", self.variant, "Ctrl+Shift+N", "rules"),
                 Action("rules.delete", "Delete the strategy", s.delete_strategy, "", "rules"),
                 Action("rules.open", "Open a strategy file", self.open_file, "Ctrl+O", "rules"),
                 Action("rules.save", "Save the strategy as a file", self.save_file, "Ctrl+S", "rules"),
                 Action("rules.paste", "Paste a strategy", self.paste, "Ctrl+Shift+V", "rules"),
                 Action("rules.copy", "Copy the strategy", self.copy, "Ctrl+Shift+C", "rules"),
                 Action("rules.next", "Jump to the next signal", lambda: self.signals.jump(1), "Ctrl+Right", "rules"),
                 Action("rules.previous", "Jump to the previous signal", lambda: self.signals.jump(-1), "Ctrl+Left", "rules")]
        return found + [Action(f"rules.{key}", f"Rules: {text}", lambda key=key: self.show_page(key), f"Ctrl+{i}", "rules")
                        for i, (text, key) in enumerate(PAGES, 1)]

    def activate(self) -> None:
        self._redraw()

    def show_page(self, key: str) -> None:
        """Show one of the pages."""
        self.page.set(key)
        shown = self._notes_page if key == "notes" else getattr(self, key)
        if self.stack.indexOf(shown) < 0:
            self.stack.addWidget(shown)
        self.stack.setCurrentWidget(shown)
        if key == "family":
            self.family.refresh()
        elif key == "formula":
            self.formula.show_strategy(self.session.strategy)
            self.formula.edit.setFocus()

    # Editing

    def edit(self, changes: dict[str, Any], text: str) -> None:
        """Change fields of the strategy, undoably; what cannot be is told and dropped."""
        if self._loading:
            return
        waiting = self.naming.taken()
        if waiting:
            known = changes.get("parameters", self.session.strategy.parameters)
            changes = changes | {"parameters": (*known, *waiting)}
        try:
            after = Strategy.model_validate(self.session.strategy.model_dump() | changes)
        except ValueError as err:
            self.session.note(f"That cannot be set: {words_of(err)}.", "error")
            self.refresh()
            return
        self._replace(after, text)

    def _replace(self, after: Strategy, text: str) -> None:
        if not self._loading:
            self.session.edit(after, text)

    def set_field(self, field: str, value: Any, text: str) -> None:
        self.edit({field: value.model_dump() if isinstance(value, Distance) else value}, text)

    def set_side(self, side: str, changes: dict[str, Any], text: str) -> None:
        """Change a part of one side."""
        now: Side = getattr(self.session.strategy, side)
        change: dict[str, Any] = now.model_dump() | changes
        if side == "short" and changes.get("mode") == "own" and not now.entry.rows and not now.exit.rows:
            # Own begins as a copy of the mirrored side, ready to be edited.
            mirrored = effective_short(self.session.strategy)
            change |= {"entry": mirrored.entry.model_dump(), "exit": mirrored.exit.model_dump(),
                       "order": mirrored.order.model_dump()}
        self.edit({side: change}, text)

    def set_parameters(self, parameters: tuple[Parameter, ...], renamed: dict[str, str], text: str) -> None:
        """Change the parameters; a renamed one keeps its numbers."""
        data = self.session.strategy.model_dump() | {"parameters": [p.model_dump() for p in parameters]}
        if renamed:
            data = _renamed(data, renamed)
        self.edit({k: v for k, v in data.items() if k not in ("name", "schedule")}, text)

    def part(self, name: str) -> Condition:
        """What a part such as "long entry" holds."""
        side, which = name.split()
        strategy = self.session.strategy
        found = effective_short(strategy) if side == "short" else strategy.long
        return getattr(found, which)

    def add_condition(self, part: str, name: str, condition: Condition) -> None:
        """Add a library condition to a part; mirrored on the short side, which becomes one of its own."""
        side, which = part.split()
        if side == "short":
            condition = mirror_condition(condition)
        now = self.part(part)
        rows = now.rows
        plain = condition.match == "all" and condition.when == "now" and not condition.back
        added = condition.rows if plain and (now.match == "all" or not rows) else (condition,)
        after = now.model_copy(update={"rows": (*rows, *added)})
        changes: dict[str, Any] = {which: after.model_dump()}
        if side == "short" and self.session.strategy.short.mode == "mirrored":
            mirrored = effective_short(self.session.strategy)
            changes = {"mode": "own", "entry": mirrored.entry.model_dump(), "exit": mirrored.exit.model_dump(),
                       "order": mirrored.order.model_dump()} | changes
        self.set_side(side, changes, f"add {name}")
        self.session.note(f'"{name}" added to the {part}.')

    def _rename(self) -> None:
        name = self.name.text().strip()
        if name and name != self.session.strategy.name:
            self.edit({"name": name}, "name")

    def keep_notes(self) -> None:
        self.edit({"notes": self.notes.toPlainText()[:20_000]}, "notes")

    def _own_changed(self) -> None:
        project = self.session.project
        found = {}
        for path_name, (digest, turns) in project.own.known().items():
            file = project.own.load(path_name, digest)
            found[path_name] = Own(digest, turns, dict(file.settings))
        self.context.own = found

    # Strategies and files

    def new(self) -> None:
        """Start an empty strategy."""
        self.session.add_strategy(Strategy(stop=Distance(unit="atr", amount=2.0, length=20)))
        self.name.setFocus()
        self.name.selectAll()

    def _templates(self, anchor: QWidget) -> None:
        menu = QMenu(self)
        for one in templates():
            menu.addAction(f"{one.name}: {one.about}", lambda one=one: self.session.add_strategy(one.strategy()))
        menu.exec(anchor.mapToGlobal(QPoint(0, anchor.height())))

    def variant(self) -> None:
        """Duplicate the strategy as a variant of it."""
        s = self.session
        s.add_strategy(s.strategy, parent=s.strategy_id)

    def open_file(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open a strategy file", "", "Strategy files (*.json)")
        if name:
            self.load(Path(name))

    def load(self, path: Path) -> None:
        """Add a strategy from a file; a bad file is one sentence in the work strip."""
        strategy = self.session.attempt(lambda: load_strategy(path))
        if strategy is not None:
            self.session.add_strategy(strategy)
            self.session.note(f"{path.name} added as {self.session.strategy.name}.")

    def save_file(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save the strategy as a file", f"{self.session.strategy.name}.json",
                                              "Strategy files (*.json)")
        if name:
            self.write(Path(name))

    def write(self, path: Path) -> None:
        """Write the strategy to a file."""
        def act() -> None:
            write_text(path, self.session.strategy.model_dump_json(indent=2) + "\n")
            self.session.note(f"Saved to {path}.")

        self.session.attempt(act)

    def carried(self) -> QMimeData:
        """The strategy as a file and as text, for dragging out and copying."""
        strategy = self.session.strategy
        text = strategy.model_dump_json(indent=2) + "\n"
        mime = QMimeData()
        with suppress(OSError, WolbrinError):  # without room for a file it travels as text
            file = Path(tempfile.mkdtemp(prefix="wolbrin-drag-")) / f"{safe_name(strategy.name, 'strategy')}.json"
            write_text(file, text)
            mime.setUrls([QUrl.fromLocalFile(str(file))])
        mime.setText(text)
        return mime

    def copy(self) -> None:
        QGuiApplication.clipboard().setMimeData(self.carried())
        self.session.note("The strategy is on the clipboard, as a file and as text.")

    def paste(self) -> None:
        """Add the strategy on the clipboard: a file, its JSON or its formula text."""
        self.take(QGuiApplication.clipboard().mimeData())

    def take(self, mime: QMimeData) -> bool:
        """Add what was pasted or dropped."""
        files = [Path(u.toLocalFile()) for u in mime.urls() if u.isLocalFile()]
        if files:
            for path in files:
                self.load(path)
            return True
        text = mime.text().strip()
        if not text:
            self.session.note("There is no strategy on the clipboard.", "caution")
            return False
        try:
            if text.startswith("{"):
                made = read_strategy(parse_json(text, "strategy", "pasted text"), "pasted text")
            else:
                made = parse_strategy(text, dict(self.context.names().own))
        except UserError as err:
            self.session.note(f"The pasted text is not a strategy. {err.sentence()}", "error")
            return False
        self.session.add_strategy(made)
        self.session.note(f"Pasted as {self.session.strategy.name}.")
        return True

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls() or event.mimeData().hasText():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        if self.take(event.mimeData()):
            event.acceptProposedAction()

    # Showing

    def _family_moved(self) -> None:
        if self.page.value == "family":
            self.family.refresh()

    def refresh(self) -> None:
        """Show the session's strategy everywhere."""
        strategy = self.session.strategy
        self._loading = True
        if self.name.text() != strategy.name:
            self.name.setText(strategy.name)
        self.words.setText(describe(strategy))
        self.rows.show_strategy(strategy)
        if not self.notes.hasFocus() or self.notes.toPlainText() == "":
            self.notes.setPlainText(strategy.notes)
        self._loading = False
        if self.page.value == "formula":
            self.formula.show_strategy(strategy)
        self._family_moved()
        self._redraw()

    def _redraw(self) -> None:
        s = self.session
        if not self.isVisible() or not s.market:
            return
        self._request += 1
        request, strategy, market, interval = self._request, s.strategy, s.market, s.interval
        project, settings, side = s.project, s.settings, int(self.signals.side.value)  # type: ignore[call-overload]

        def refused(why: WolbrinError) -> None:
            if request == self._request:
                self._remark(why.sentence(), "error")

        def done(result: Seen) -> None:
            if request != self._request:
                return
            self.signals.show_seen(result, settings)
            self.context.atr_ticks = result.typical_atr
            self.rows.say_beside()
            found = [f"{f.where}: {f.words}" for f in result.findings]
            worst = "error" if any(f.severity == "error" for f in result.findings) else "caution"
            self._remark("\n".join(f"\u25b2 {t}" for t in found[:3])
                         + (f"\n{len(found) - 3} more" if len(found) > 3 else ""), worst)

        s.compute("Signals", lambda: look(project.prepared(market, interval), strategy, settings, side), done,
                  refused=refused)

    def _remark(self, text: str, role: str) -> None:
        set_role(self.remarks, role)
        self.remarks.setText(text)
        self.remarks.setVisible(bool(text))

    def jump(self, step: int) -> None:
        """Move the chart to the next or previous signal."""
        self.signals.jump(step)

    def text(self) -> str:
        """The strategy as text."""
        return strategy_text(self.session.strategy)


def _renamed(node: Any, names: dict[str, str]) -> Any:
    """Plain data with parameters renamed wherever a formula reads them."""
    if isinstance(node, dict):
        if set(node) == {"is", "value"}:
            return node | {"is": _in_formula(node["is"], names)}
        return {k: _in_formula(v, names) if k == "formula" else _renamed(v, names) for k, v in node.items()}
    return [_renamed(v, names) for v in node] if isinstance(node, list | tuple) else node


def _in_formula(formula: str, names: dict[str, str]) -> str:
    for old, new in names.items():
        if old in names_in(formula):
            formula = re.sub(rf"\b{re.escape(old)}\b", new, formula)
    return formula

