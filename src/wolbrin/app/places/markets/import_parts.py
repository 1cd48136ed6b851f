"""The widgets of the import page and where they stand; what they do is the page's."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QLabel, QLineEdit, QPushButton, QSplitter, QWidget

from wolbrin.app.parts import Empty, button, column, label, row
from wolbrin.app.places.markets.first_terms import FirstTerms
from wolbrin.app.places.markets.found import FoundList, FoundPanel
from wolbrin.app.places.markets.layout_form import LayoutForm
from wolbrin.app.places.markets.page import Page, combo, short
from wolbrin.app.places.markets.preview import PreviewTable
from wolbrin.app.places.markets.read_line import ReadLine
from wolbrin.app.places.markets.rows_view import RowsView
from wolbrin.app.places.markets.target import TargetRow

ABOUT = ("Files of bars or ticks as you have them: CSV, TXT, JSON, XLSX, Parquet, packed or not, one market or several, a "
         "year a file or all "
         "in one. Layout, time zone, interval, tick, sessions and holidays are found in them, and shown with the reason for "
         "each before anything is kept. Then the first strategy is tested on them, with costs.")
INVITE = "Drop files or a folder here, or choose them. Nothing is kept before you take it in."



class ImportParts(Page):
    choose: QPushButton
    files: QLabel
    layouts: QComboBox
    layout_name: QLineEdit
    form: LayoutForm
    rows: RowsView
    preview: PreviewTable
    read_line: ReadLine
    fault: QLabel
    target: TargetRow
    which: QComboBox
    market: QComboBox
    code: QLineEdit
    source: QLineEdit
    months: QCheckBox
    keep: QComboBox
    read_button: QPushButton
    take_button: QPushButton
    discard_button: QPushButton
    result: QLabel
    side: FoundPanel
    questions: FoundList
    findings: FoundList
    terms: FirstTerms
    how: QWidget
    split: QSplitter
    invite: Empty

    def _make(self: Any) -> None:
        s = self.session
        self.choose = button("Choose files \u2026", self.choose_files, main=True)
        self.files = label(INVITE, wrap=True)
        self.layouts = combo([("as guessed", None)], "Layout", 110, self._layout_chosen)
        self.layout_name = short("", 110, "Name of the layout")
        self.layout_name.setPlaceholderText("name it \u2026")
        self.form = LayoutForm()
        self.form.edited.connect(self.edited)
        self.form.clock_edited.connect(self._clock_edited)
        self.rows = RowsView(s)
        self.preview = self.rows.preview
        self.preview.roles_changed.connect(self.edited)
        self.read_line = ReadLine(s.theme)
        self.read_line.wanted.connect(self._open_door)
        self.fault = label("", "error", wrap=True)
        self.target = TargetRow(self._which_changed, self.target_changed, self.start, self.take, self.discard)
        self.which, self.market, self.code = self.target.which, self.target.market, self.target.code
        self.source, self.months, self.keep = self.target.source, self.target.months, self.target.keep
        self.read_button, self.take_button, self.discard_button = self.target.read, self.target.take, self.target.discard
        self.code.textChanged.connect(lambda _: self._code_changed())
        self.source.textEdited.connect(lambda _: self._weigh())
        self.months.toggled.connect(lambda _: self.months_changed())
        self.result = label("", wrap=True)
        self.side = FoundPanel(s)
        self.questions, self.findings, self.terms = self.side.questions, self.side.findings, self.side.terms
        self.side.answered.connect(self._answered)
        self.terms.changed.connect(self._terms_edited)
        self.terms.asked.connect(self._said)

    def _arrange(self: Any) -> None:
        m = lambda text: label(text, "muted")  # noqa: E731
        first = row(self.choose, button("Choose a folder \u2026", self.choose_folder), 6)
        first.addWidget(self.files, 1)
        self.how = QWidget()
        self.how.setLayout(column(
            self.form, row(m("layout"), self.layouts, self.layout_name, button("Remember", self.remember), None, spacing=5),
            spacing=4))
        left = QWidget()
        made = column(self.how, self.read_line, self.rows, spacing=6)
        made.setStretch(2, 1)
        left.setLayout(made)
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(left)
        split.addWidget(self.side)
        split.setSizes([430, 390])
        split.setStretchFactor(0, 1)
        split.setChildrenCollapsible(False)
        self.split = split
        self.invite = Empty(ABOUT, "Choose files \u2026", self.choose_files)
        whole = column(first, split, self.invite, self.fault, self.result, self.target, spacing=6)
        whole.setStretch(1, 1)
        whole.setStretch(2, 1)
        self.setLayout(whole)
        self.setAcceptDrops(True)
