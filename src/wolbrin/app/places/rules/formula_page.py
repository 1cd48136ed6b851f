"""The strategy as text: the same model as the rows, with completion, help while typing, and faults under their character."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QStringListModel, Qt, QTimer
from PySide6.QtGui import QKeyEvent, QTextCharFormat, QTextCursor
from PySide6.QtWidgets import QCompleter, QPlainTextEdit, QTextEdit, QWidget

from wolbrin.app.parts import button, column, label, row, set_role
from wolbrin.app.theme.theme import Theme
from wolbrin.core.errors import UserError
from wolbrin.core.rules.formula import FormulaError
from wolbrin.core.rules.language import Names, called_at, completions
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.script import parse_strategy, strategy_text

SOON = 450

BESIDE = ("name", "notes", "schedule")  # what a text need not speak of


class FormulaEdit(QPlainTextEdit):
    """A text with completion. Ctrl+Return applies; Tab or Return takes a completion while one is offered."""

    def __init__(self, names: Callable[[], Names], apply: Callable[[], object]) -> None:
        super().__init__()
        self._names, self._apply = names, apply
        self._start = 0
        self._words = QStringListModel(self)
        self.found = QCompleter(self._words, self)
        self.found.setWidget(self)
        self.found.setCompletionMode(QCompleter.CompletionMode.UnfilteredPopupCompletion)
        self.found.activated.connect(self.take)
        self.setAccessibleName("strategy as text")
        self.setTabChangesFocus(True)
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.WidgetWidth)

    def offer(self) -> None:
        """Offer what the word before the cursor may become."""
        cursor = self.textCursor()
        self._start, words = completions(self.toPlainText(), cursor.position(), self._names())
        if not words or (len(words) == 1 and words[0].name == self.toPlainText()[self._start:cursor.position()]):
            self.found.popup().hide()
            return
        self._words.setStringList([w.name for w in words])
        box = self.cursorRect()
        box.setWidth(220)
        self.found.complete(box)
        self.found.popup().setCurrentIndex(self.found.completionModel().index(0, 0))

    def take(self, word: str) -> None:
        """Put a completion in the place of the word before the cursor."""
        cursor = self.textCursor()
        end = cursor.position()
        cursor.setPosition(self._start)
        cursor.setPosition(end, QTextCursor.MoveMode.KeepAnchor)
        cursor.insertText(word)
        self.setTextCursor(cursor)
        self.found.popup().hide()

    def event(self, event: QEvent) -> bool:
        # Ctrl+Return runs things elsewhere; in the text it applies the text.
        if event.type() == QEvent.Type.ShortcutOverride and isinstance(event, QKeyEvent) and _applies(event):
            event.accept()
            return True
        return super().event(event)

    def focusNextPrevChild(self, following: bool) -> bool:
        """Tab takes a completion while one is offered; else it moves on, as everywhere."""
        if following and self.found.popup().isVisible():
            index = self.found.popup().currentIndex()
            if index.isValid():
                self.take(str(index.data()))
                return True
        return super().focusNextPrevChild(following)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        open_ = self.found.popup().isVisible()
        enter = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if _applies(event):
            self._apply()
            return
        if open_ and enter:
            index = self.found.popup().currentIndex()
            if index.isValid():
                self.take(str(index.data()))
                return
        if open_ and event.key() == Qt.Key.Key_Escape:
            self.found.popup().hide()
            return
        super().keyPressEvent(event)
        if event.text() and (event.text().isalnum() or event.text() in "_."):
            self.offer()
        elif open_:
            self.found.popup().hide()


def _applies(event: QKeyEvent) -> bool:
    return (event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            and bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))


class FormulaPage(QWidget):
    """The text, its fault or help, and a button that applies it. Valid text applies itself after a short pause."""

    def __init__(self, theme: Theme, changed: Callable[[Strategy], None], names: Callable[[], Names]) -> None:
        super().__init__()
        self._theme, self._changed, self._names = theme, changed, names
        self._strategy = Strategy()
        self._quiet = False
        self.edit = FormulaEdit(self._all_names, self.apply)
        self.edit.setProperty("role", "mono")
        self.fault = label("", "small", wrap=True)
        self.fault.setMinimumHeight(34)
        self.help = label("", "small", wrap=True)
        self.help.setMinimumHeight(34)
        self._soon = QTimer(self, singleShot=True, interval=SOON)
        self._soon.timeout.connect(self.apply)
        self.edit.textChanged.connect(self._typed)
        self.edit.cursorPositionChanged.connect(self._helped)
        self.setLayout(column(self.edit, self.fault, self.help, row(
            button("Apply", self.apply, tip="Ctrl+Return"), button("As it is", self.reset, tip="Drop what is not applied"),
            None), spacing=5))

    def _all_names(self) -> Names:
        return self._names()

    def show_strategy(self, strategy: Strategy) -> None:
        """Show a strategy, unless the text says the same already or is being worked on."""
        self._strategy = strategy
        try:
            read = parse_strategy(self.edit.toPlainText(), dict(self._names().own))
            same = read.model_copy(update={k: getattr(strategy, k) for k in BESIDE}) == strategy
        except UserError:
            same = self.edit.hasFocus()  # a text in the making is not taken away
        if not same:
            self.reset()

    def reset(self) -> None:
        """Write the strategy anew."""
        self._quiet = True
        self.edit.setPlainText(strategy_text(self._strategy))
        self._quiet = False
        self._tell(None)

    def _typed(self) -> None:
        if not self._quiet:
            self._soon.start()

    def _tell(self, err: FormulaError | None) -> None:
        marks = []
        if err is not None:
            cursor = QTextCursor(self.edit.document().findBlockByNumber(err.line - 1))
            cursor.movePosition(QTextCursor.MoveOperation.Right, QTextCursor.MoveMode.MoveAnchor, err.column)
            cursor.movePosition(QTextCursor.MoveOperation.Right, QTextCursor.MoveMode.KeepAnchor, err.length)
            mark = QTextEdit.ExtraSelection()
            mark.cursor = cursor  # type: ignore[attr-defined]
            style = QTextCharFormat()
            style.setUnderlineStyle(QTextCharFormat.UnderlineStyle.WaveUnderline)
            style.setUnderlineColor(self._theme.color("loss"))
            style.setBackground(self._theme.color("loss", 45))
            mark.format = style  # type: ignore[attr-defined]
            marks.append(mark)
        self.edit.setExtraSelections(marks)
        set_role(self.fault, "error" if err else "small")
        self.fault.setText(f"Line {err.line}, character {err.column + 1}: {err.what}." if err else
                           "Every line is an assignment. This text and the rows are one strategy.")

    def _helped(self) -> None:
        word = called_at(self.edit.toPlainText(), self.edit.textCursor().position(), self._names())
        self.help.setText(f"{word.signature}: {word.meaning}." if word else "")

    def apply(self) -> None:
        """Read the text; a fault is told under its character, and nothing changes."""
        self._soon.stop()
        try:
            made = parse_strategy(self.edit.toPlainText(), dict(self._names().own))
        except FormulaError as err:
            self._tell(err)
            return
        self._tell(None)
        # A text that does not speak of name or notes leaves them as they are; of dated numbers it never speaks.
        kept = {k: getattr(self._strategy, k) for k in BESIDE
                if not any(line.partition("=")[0].strip() == k for line in self.edit.toPlainText().splitlines())}
        made = made.model_copy(update=kept)
        if made != self._strategy:
            self._strategy = made
            self._changed(made)
