"""The import page: files, how they are read, what came of it, and taking it in. Nothing is kept before that."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from zoneinfo import available_timezones

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QCompleter, QFileDialog, QStackedWidget, QWidget

from wolbrin.app.parts import Choice, button, column, label, row, spin
from wolbrin.app.places.markets.page import Looked, Page, choose, combo, short
from wolbrin.app.places.markets.preview import PreviewTable
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.jobs import Job, State
from wolbrin.core.market.importing.append import Joined
from wolbrin.core.market.importing.files import ENDINGS, Piece, pieces
from wolbrin.core.market.importing.fit import fit_to_sessions, with_fit
from wolbrin.core.market.importing.guess import guess
from wolbrin.core.market.importing.layout import EPOCHS, Layout, make_layout
from wolbrin.core.market.importing.preview import Preview, preview
from wolbrin.core.market.importing.read import Imported, write_bad_rows
from wolbrin.core.market.importing.times import FORMATS
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.market.quality import stamp
from wolbrin.core.market.terms import Terms
from wolbrin.core.measures.wording import number
from wolbrin.core.work.importing import likely_terms, read_job, take_in_all, weigh

NEW = "\0new"
DELIMITERS = [("comma", ","), ("semicolon", ";"), ("tab", "\t"), ("bar |", "|"), ("blanks", " ")]


class ImportPage(Page):
    key, title, with_chart = "import", "Import", False

    def __init__(self, looked: Looked) -> None:
        super().__init__(looked)
        s = self.session
        self.found: list[Piece] = []
        self.layout_now: Layout | None = None
        self.shown: Preview | None = None
        self.read: list[tuple[str, Imported]] = []
        self.job: Job | None = None
        self._filling = False
        self._roles: dict[int, list[str]] = {}
        self.files = label("Drop files or a folder here, or choose them. Nothing is kept before you take it in.", wrap=True)
        self.layouts = combo([("as guessed", None)], "Layout", 150, self._layout_chosen)
        self.layout_name = short("", 120, "Name of the layout")
        self.layout_name.setPlaceholderText("name of the layout")
        self.delimiter = combo(DELIMITERS, "Delimiter", 92, self.edited)
        self.delimiter.setEditable(True)
        self.delimiter.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.delimiter.setToolTip("one of the list, or any one character written here")
        self.delimiter.lineEdit().editingFinished.connect(self.edited)
        self.decimal = combo([("point", "."), ("comma", ",")], "Decimal sign", 76, self.edited)
        self.header = QCheckBox("header")
        self.header.toggled.connect(lambda _: self.edited())
        self.skip = spin(0, 0, 10_000, 0)
        self.skip.setFixedWidth(44)
        self.skip.setAccessibleName("Lines to skip")
        self.skip.valueChanged.connect(lambda _: self.edited())
        self.time_format = QComboBox()
        self.time_format.setEditable(True)
        self.time_format.addItems(["iso", *EPOCHS, *FORMATS])
        self.time_format.setFixedWidth(150)
        self.time_format.setAccessibleName("Format of the time")
        self.time_format.currentTextChanged.connect(lambda _: self.edited())
        self.zone = QComboBox()
        self.zone.setEditable(True)
        self.zone.addItems(sorted(z for z in available_timezones() if "/" in z or z == "UTC"))
        self.zone.completer().setCompletionMode(QCompleter.CompletionMode.PopupCompletion)
        self.zone.completer().setFilterMode(Qt.MatchFlag.MatchContains)
        self.zone.setFixedWidth(150)
        self.zone.setAccessibleName("Time zone of the file")
        self.zone.currentTextChanged.connect(lambda _: self.edited())
        self.stamp = combo([("the open", "open"), ("the close", "close")], "Bars are stamped at", 92, self.edited)
        self.minutes = short("", 44, "Minutes a bar", "empty: the most common step; for ticks the minutes of the bars built")
        self.minutes.textChanged.connect(lambda _: self.edited())
        self.preview = PreviewTable(s.theme)
        self.preview.roles_changed.connect(self.edited)
        self.bad = Table([
            Column("file", lambda b: b.file, width=120), Column("row", lambda b: b.row, lambda b: number(b.row), "right", 62),
            Column("why it was not taken", lambda b: b.reason, width=330), Column("the row", lambda b: b.text, width=190),
        ], s.theme, "Rows that were not taken", stretch=2)
        self.differ = Table([
            Column("when (UTC)", lambda d: d.time, lambda d: stamp(d.time), width=130),
            Column("in the project", lambda d: " ".join(f"{p:g}" for p in d.old), width=220),
            Column("in the file", lambda d: " ".join(f"{p:g}" for p in d.new), width=220),
        ], s.theme, "Stamps that disagree", stretch=2)
        self.tables = QStackedWidget()
        for table in (self.preview, self.bad, self.differ):
            self.tables.addWidget(table)
        self.show_as = Choice([("first rows", 0), ("bad rows", 1), ("disagreements", 2)], 0, "Show")
        self.show_as.chosen.connect(lambda i: self.tables.setCurrentIndex(i))
        self.save_bad = button("Save bad rows \u2026", self.export_bad)
        self.doubts = label("", "caution", wrap=True)
        self.fault = label("", "error", wrap=True)
        self.market = combo([], "Market", 120, self._target_changed)
        self.code = short("", 80, "Code of the new market")
        self.code.setPlaceholderText("code")
        self.code.textChanged.connect(lambda _: self._target_changed())
        self.source = short("", 110, "Source")
        self.source.textEdited.connect(lambda _: self._target_changed())
        self.months = QCheckBox("each file is a contract month")
        self.months.toggled.connect(lambda _: self._target_changed())
        self.keep = combo([("keep what is there", "old"), ("take the file's", "new")], "Where they disagree", 150)
        self.keep_label = label("where they disagree", "muted")
        self.read_button = button("Read", self.start, main=True)
        self.take_button = button("Take in", self.take, main=True)
        self.discard_button = button("Discard", self.discard)
        self.result = label("", wrap=True)
        self._arrange()
        self._enable()

    def _arrange(self) -> None:
        m = lambda text: label(text, "muted")  # noqa: E731
        first = row(button("Choose files \u2026", self.choose_files), button("Choose a folder \u2026", self.choose_folder), 6)
        first.addWidget(self.files, 1)
        self.how = QWidget()
        lines = column(
            row(m("read"), self.layouts, m("delimiter"), self.delimiter, m("decimal"), self.decimal, self.header, m("skip"),
                self.skip, m("lines"), None, spacing=6),
            row(m("time written"), self.time_format, m("in"), self.zone, m("bars stamped at"), self.stamp, m("minutes"),
                self.minutes, None, spacing=6), spacing=5)
        self.how.setLayout(lines)
        self.target = QWidget()
        self.target.setLayout(column(
            row(m("into market"), self.market, self.code, m("source"), self.source, self.months, None, spacing=6),
            row(self.read_button, self.take_button, self.discard_button, self.keep_label, self.keep, None, self.layout_name,
                button("Remember layout", self.remember), spacing=6), spacing=5))
        head = row(self.show_as, None, self.save_bad)
        made = column(first, self.how, self.doubts, self.fault, head, self.tables, self.result, self.target, spacing=6)
        made.setStretch(5, 1)
        self.setLayout(made)
        self.setAcceptDrops(True)

    # Files

    def activate(self) -> None:
        blocked = self.market.blockSignals(True)
        kept = self.market.currentData()
        self.market.clear()
        for m in self.session.markets:
            self.market.addItem(m.code, m.code)
        self.market.addItem("new market", NEW)
        self.market.blockSignals(blocked)
        source = self.looked.source
        choose(self.market, kept or (source.market if source else NEW))
        blocked = self.layouts.blockSignals(True)
        chosen = self.layouts.currentText()
        self.layouts.clear()
        self.layouts.addItem("as guessed", None)
        for layout in self.session.project.sources.layouts():
            self.layouts.addItem(layout.name, layout)
        self.layouts.setCurrentText(chosen)
        self.layouts.blockSignals(blocked)
        self._enable()

    def choose_files(self) -> None:
        kinds = " ".join(f"*{e}" for e in ENDINGS)
        paths, _ = QFileDialog.getOpenFileNames(self, "History files", "", f"History ({kinds});;All files (*)")
        if paths:
            self.open([Path(p) for p in paths])

    def choose_folder(self) -> None:
        path = QFileDialog.getExistingDirectory(self, "Folder of history files")
        if path:
            self.open([Path(path)])

    def open(self, paths: list[Path]) -> None:
        """Look into files: guess the layout, fit it to the market's sessions and show the first rows."""
        self.discard()
        try:
            self.found = pieces(paths)
            guessed = guess(self.found[0])
        except WolbrinError as err:
            self.found, self.layout_now, self.shown = [], None, None
            self._filling = True
            self.preview.show_preview(None, None)
            self._filling = False
            self.files.setText(", ".join(p.name for p in paths)[:120])
            self.doubts.setText("")
            self._say(err.sentence())
            self._enable()
            return
        size = sum(p.size for p in self.found) / 1e6
        names = self.found[0].name if len(self.found) == 1 else f"{len(self.found)} files, first {self.found[0].name}"
        self.files.setText(f"{names}, {size:,.1f} MB")
        self.months.setChecked(len(self.found) > 1 and any(c.isdigit() for c in Path(self.found[0].member or
                                                                                     self.found[0].path.name).stem))
        likely = next((c for c in (m.code for m in self.session.markets) if c.lower() in names.lower()), None)
        if likely:
            choose(self.market, likely)
        choose(self.layouts, None)
        first = self.found[0]
        self.source.setText(Path(first.path.name.removesuffix(".gz")).stem[:40])
        self._use(guessed.layout, list(guessed.doubts), fit=True)

    def _layout_chosen(self) -> None:
        layout = self.layouts.currentData()
        if self.found and not self._filling:
            if layout is None:
                self.open([p.path for p in self.found])
            else:
                self.layout_name.setText(layout.name)
                self._use(layout, [])

    def _terms(self) -> Terms | None:
        code = self.market.currentData()
        return next((m.terms for m in self.session.markets if m.code == code), None)

    def _use(self, layout: Layout, doubts: list[str], fit: bool = False) -> None:
        terms = self._terms()
        if fit and terms is not None:
            try:
                sample = preview(self.found[0], layout)
                if sample.sample is not None:
                    found = fit_to_sessions(sample.sample, layout, terms, sample.told_zone)
                    layout = with_fit(layout, found)
                    doubts = [d for d in doubts if not d.startswith("The file does not say")]
                    doubts.append(f"Times are read as {found.zone}, bars stamped at the {found.stamp}: so "
                                  f"{found.inside:.1%} of the first rows lie in {terms.code}'s sessions.")
            except WolbrinError:
                pass
        self._fill(layout)
        self.doubts.setText(" ".join(doubts))
        self.edited()

    def _fill(self, layout: Layout) -> None:
        """Show a layout's settings and roles."""
        self._filling = True
        self._roles = {}
        choose(self.delimiter, layout.delimiter)
        if self._delimiter() != layout.delimiter:
            self.delimiter.setEditText(layout.delimiter)
        choose(self.decimal, layout.decimal)
        self.header.setChecked(layout.header)
        self.skip.setValue(layout.skip)
        self.time_format.setEditText(layout.time_format)
        self.zone.setEditText(layout.zone)
        choose(self.stamp, layout.stamp)
        self.minutes.setText(str(layout.minutes or (layout.build if layout.ticks else "")))
        self.preview.set_roles(list(layout.columns))
        self._filling = False

    def wanted(self) -> Layout:
        """The layout as it stands in the form. Raises UserError."""
        text = self.minutes.text().strip()
        if text and not (text.isdigit() and 1 <= int(text) <= 1440):
            raise UserError(f'"{text}" is not a number of minutes', "minutes", "Write 1 to 1440, or nothing.")
        roles = tuple(self.preview.roles())
        ticks = bool({"price", "bid", "ask"} & set(roles))
        values = {"name": self.layout_name.text().strip(), "delimiter": self._delimiter(),
                  "decimal": self.decimal.currentData(), "header": self.header.isChecked(), "skip": int(self.skip.value()),
                  "columns": roles, "time_format": self.time_format.currentText().strip(), "zone":
                  self.zone.currentText().strip(), "stamp": self.stamp.currentData(),
                  "minutes": int(text) if text and not ticks else None, "build": int(text) if text and ticks else 1}
        return make_layout(values)

    def edited(self) -> None:
        """Read the first rows again under the layout as it stands."""
        if self._filling or not self.found:
            return
        self.read = []
        try:
            width = self._width()
            if len(self.preview.roles()) != width:
                # Another delimiter, another table; coming back to the first one finds its roles again.
                self._filling = True
                self.preview.set_roles(self._roles.get(width, ["skip"] * width))
                self._filling = False
            self._roles[width] = self.preview.roles()
            layout = self.wanted()
            self.shown = preview(self.found[0], layout)
        except WolbrinError as err:
            self.layout_now = None
            self._say(err.sentence())
            self._enable()
            return
        self.layout_now = layout
        self.preview.show_preview(self.shown, layout)
        self.tables.setCurrentIndex(0)
        self.show_as.set(0)
        faulty = [r for r in self.shown.rows if r.fault]
        self._say("" if not faulty else f"{len(faulty)} of the first {len(self.shown.rows)} rows cannot be read; the first: "
                  f"row {faulty[0].number}, {faulty[0].fault}.")
        self._enable()

    def _width(self) -> int:
        if self.found[0].parquet:
            return len(self.preview.roles())
        return self.preview.columns_of(self.found[0], self._delimiter(), int(self.skip.value()))

    def _delimiter(self) -> str:
        """The delimiter chosen by name, or the character written in."""
        text = self.delimiter.currentText()
        known = dict(DELIMITERS)
        return known.get(text, text.strip() or ",")

    def _say(self, text: str) -> None:
        self.fault.setText(text)
        self.fault.setVisible(bool(text))

    def remember(self) -> None:
        """Keep the layout under its name."""
        if self.layout_now is None:
            return
        made = self.session.attempt(lambda: self.session.project.sources.keep_layout(self.wanted()) or True)
        if made:
            self.session.note(f"Layout {self.layout_name.text().strip()} is remembered.")
            self.activate()

    # Reading and taking in

    def _target_changed(self) -> None:
        self.code.setVisible(self.market.currentData() == NEW)
        self.source.setEnabled(not self.months.isChecked())
        if self.read:
            self._weigh()
        self._enable()

    def _enable(self) -> None:
        busy = self.job is not None and not self.job.state.over
        for widget in (self.how, self.preview):
            widget.setVisible(bool(self.found) or widget is self.preview)
            widget.setEnabled(not busy)
        self.target.setVisible(bool(self.found))
        self.doubts.setVisible(bool(self.doubts.text()))
        self._say(self.fault.text())
        self.code.setVisible(self.market.currentData() == NEW)
        self.months.setVisible(len(self.found) > 1)
        self.read_button.setVisible(not self.read)
        self.read_button.setEnabled(self.layout_now is not None and not busy)
        for widget in (self.take_button, self.discard_button):
            widget.setVisible(bool(self.read))
            widget.setEnabled(True)
        for widget in (self.keep, self.keep_label):
            widget.setVisible(bool(self.read) and self.differ.model.rowCount() > 0)
        self.save_bad.setVisible(self.bad.model.rowCount() > 0)
        self.result.setVisible(bool(self.result.text()))

    def start(self) -> None:
        """Read everything, in the background."""
        if self.layout_now is None:
            return
        layout = self.layout_now
        outcome: list[list[tuple[str, Imported]]] = []
        job = self.session.attempt(lambda: read_job(self.found, layout, outcome.append, self.months.isChecked()))
        if job is None:
            return
        self.job = job
        self.result.setText("Reading \u2026")
        self._enable()

        def over(done: Job) -> None:
            if done is not self.job:
                return
            self.job = None
            if done.state is State.DONE and outcome:
                self.read = outcome[0]
                self._weigh()
            else:
                error = done.error
                self.result.setText("Stopped; nothing was kept." if error is None else
                                    error.sentence() if isinstance(error, WolbrinError) else str(error))
            self._enable()

        self.session.start(job, "threads", over)

    def _weigh(self) -> None:
        """Say what came of the reading and what taking it in would do."""
        first = self.read[0][1]
        rows = sum(i.rows for _, i in self.read)
        bad = [b for _, i in self.read for b in i.bad]
        count = sum(i.bad_count for _, i in self.read)
        kind = interval_words(first.raw.interval) + " bars" if first.raw.interval else "ticks"
        words = [f"{number(rows)} rows: {number(sum(len(i.raw) for _, i in self.read))} {kind}, "
                 f"{stamp(int(min(i.raw.time[0] for _, i in self.read)))} to "
                 f"{stamp(int(max(i.raw.time[-1] for _, i in self.read)))} UTC; {number(count)} rows could not be read."]
        words += [n[0].upper() + n[1:] + "." for n in first.notes]
        self.bad.set_records(bad)
        self._show_result(words, None)
        code = self.market.currentData()
        if code == NEW or self.months.isChecked():
            return
        project, source, raw, read = self.session.project, self.source.text().strip(), first.raw, self.read

        def work() -> Joined | WolbrinError:
            try:
                return weigh(project, code, source, raw)
            except WolbrinError as err:
                return err

        def done(joined: Joined | WolbrinError) -> None:
            if read is not self.read or (code, source) != (self.market.currentData(), self.source.text().strip()):
                return
            if isinstance(joined, WolbrinError):
                self._say(joined.sentence())
            elif joined.same or joined.differ:
                words.append(f"{number(joined.added)} are new in this source, {number(joined.same)} are there alike, "
                             f"{number(joined.differ)} are there with other prices.")
                self._show_result(words, joined)

        self.session.compute("Compare with the source", work, done)

    def _show_result(self, words: list[str], joined: Joined | None) -> None:
        listed = joined.listed if joined is not None else ()
        self.differ.set_records(listed)
        self.result.setText(" ".join(words))
        index = 2 if listed else 1 if self.bad.model.rowCount() else 0
        self.show_as.set(index)
        self.tables.setCurrentIndex(index)
        self._enable()

    def discard(self) -> None:
        """Forget what was read."""
        if self.job is not None:
            self.job.stop()
            self.job = None
        self.read = []
        self.bad.set_records([])
        self.differ.set_records([])
        self.result.setText("")
        self.tables.setCurrentIndex(0)
        self.show_as.set(0)
        self._enable()

    def take(self) -> None:
        """Keep what was read: all of it, or nothing."""
        s = self.session
        if not self.read or self.layout_now is None:
            return
        new = self.market.currentData() == NEW
        terms = self._terms()
        if new or terms is None:
            terms = s.attempt(lambda: likely_terms(self.code.text(), self.read[0][1].raw, self.layout_now.zone, s.settings))
            if terms is None:
                self.code.setFocus()
                return
        name, months, keep = self.source.text().strip(), self.months.isChecked(), str(self.keep.currentData())
        layout, read, chosen = self.layout_now, self.read, terms
        origin = ", ".join(p.name for p in self.found[:20])

        def work() -> Any:
            try:
                return take_in_all(s.project, chosen, [(stem if months else name, i.raw) for stem, i in read], keep=keep,
                                   origin=origin, layout=layout, months=months)
            except WolbrinError as err:
                return err

        def done(made: Any) -> None:
            if isinstance(made, WolbrinError):
                self._say(made.sentence())
                self.take_button.setEnabled(True)
                return
            rows = sum(len(i.raw) for _, i in read)
            if new:  # nobody has said yet what trading there costs
                s.change_settings(assumed_costs=(*s.project_settings.assumed_costs, made.market))
            self.discard()
            self.found, self.layout_now = [], None
            self.preview.show_preview(None, None)
            self.files.setText("Taken in. Drop or choose the next files.")
            self.doubts.setText("")
            s.reload_markets()
            self.looked.look_at(s.project.sources.get(*made.key))
            s.note(f"{made.market}, {made.name}: {number(rows)} rows are in the project.")
            self.looked.page_wanted.emit("terms" if new else "contracts" if months else "quality")

        self.take_button.setEnabled(False)
        s.compute("Take in", work, done)

    def export_bad(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Save bad rows", "bad-rows.csv", "CSV (*.csv)")
        if path:
            self.write_bad(Path(path))

    def write_bad(self, path: Path) -> None:
        """Write the listed bad rows as CSV."""
        self.session.attempt(lambda: write_bad_rows(path, self.bad.model.records))

    def dragEnterEvent(self, event: Any) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: Any) -> None:
        paths = [Path(u.toLocalFile()) for u in event.mimeData().urls() if u.isLocalFile()]
        if paths:
            self.open(paths)
