"""The import page: files, what was found in them, terms of a new market, and taking it in. Nothing is kept before that."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QComboBox, QFileDialog, QWidget

from wolbrin.app.places.markets.import_parts import INVITE
from wolbrin.app.places.markets.import_taking import ImportTaking
from wolbrin.app.places.markets.looking import ANSWERS, Looking
from wolbrin.app.places.markets.page import Looked, choose
from wolbrin.app.places.markets.rows_view import FIRST, read_words
from wolbrin.app.places.markets.target import NEW
from wolbrin.core.errors import WolbrinError
from wolbrin.core.market.importing.append import Joined
from wolbrin.core.market.importing.files import ENDINGS, Piece
from wolbrin.core.market.importing.grouping import clean_code, stem_of
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.importing.preview import Preview, preview
from wolbrin.core.market.importing.tables import BadRow
from wolbrin.core.market.terms import Terms, terms_told
from wolbrin.core.measures.wording import number
from wolbrin.core.work.looking import Judged


class ImportPage(ImportTaking):
    key, title, with_chart = "import", "Import", False

    def __init__(self, looked: Looked) -> None:
        super().__init__(looked)
        s = self.session
        self.look = Looking(s)
        self.look.opened_all.connect(self._opened)
        self.look.refused.connect(self._refused)
        self.look.read_over.connect(self._read_over)
        self.look.judged_over.connect(self._judged)
        self.look.month_judged.connect(self._month_judged)
        self.look.taken.connect(self._taken)
        self.look.not_taken.connect(self._not_taken)
        self.layout_now: Layout | None = None
        self.shown: Preview | None = None
        self._filling = False
        self._taking = False  # asked to take in while what was said was still being judged
        self._roles: dict[int, list[str]] = {}
        self._bad: list[BadRow] = []
        self._make()
        self._soon = QTimer(self, singleShot=True, interval=300)
        self._soon.timeout.connect(self._judge)
        self._arrange()
        self._enable()

    def focus_on(self, field: str) -> None:
        """Put the cursor where files are chosen."""
        self.choose.setFocus()

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
        """Look into files in the background: layout first, then everything else out of all rows."""
        self.discard()
        self.files.setText(f"Looking into {', '.join(p.name for p in paths)[:120]} \u2026")
        self.look.open(paths)

    def _refused(self, sentence: str) -> None:
        self._taking = False
        if not self.look.found:
            self.layout_now = self.shown = None
            self._filling = True
            self.preview.show_preview(None, None)
            self._filling = False
        self.result.setText("")
        self._say(sentence)
        self._enable()

    def _opened(self) -> None:
        """Show the layout that was guessed, and read everything under it."""
        opened, found = self.look.opened, self.look.found
        names = found[0].name if len(found) == 1 else f"{len(found)} files, first {found[0].name}"
        self.files.setText(f"{names}, {sum(p.size for p in found) / 1e6:,.1f} MB")
        self.source.setText(stem_of(found[0])[:40])
        blocked = self.months.blockSignals(True)
        self.months.setChecked(opened[0].months)
        self.months.blockSignals(blocked)
        codes = [m.code for m in self.session.markets]
        name = found[0].name.lower()
        code = opened[0].code
        likely = code if code in codes else next((c for c in codes if c.lower() in name), None)
        one = len({o.code for o in opened}) == 1
        choose(self.market, likely if likely and one else NEW)
        if not one:
            self.source.setText("file")
        self._filling = True
        self.code.setText(code)
        self._filling = False
        blocked = self.which.blockSignals(True)
        self.which.clear()
        for o in opened:
            self.which.addItem((o.code or "?") + (f", {o.aside}" if o.aside else ""), o.code)
        self.which.blockSignals(blocked)
        choose(self.layouts, None)
        self._fill(opened[0].reader.layout)
        self.edited()
        if self.layout_now is None:
            return
        if self.months.isChecked():
            self.look.judge_month(self._target())
        else:
            self.start()

    def _month_judged(self) -> None:
        """The contract months have shown how each is read and what the market is like."""
        month = self.look.month
        if month is not None:
            self._fill(month.layout)
            self._preview(month.layout)
            self._show_found(month)
            if self.look.months and self.look.read_under == month.layout:
                self._weigh()
                self._enable()
                if self._taking:
                    self.take()
            else:
                self.start()

    def _layout_chosen(self) -> None:
        layout = self.layouts.currentData()
        if self.look.found and not self._filling:
            if layout is None:
                self.open([p.path for p in self.look.found])
            else:
                self.layout_name.setText(layout.name)
                self._clock_said(layout)
                self._fill(layout)
                self.edited()

    @property
    def _at(self) -> int:
        """The market shown, of those that the files hold."""
        return max(0, min(self.which.currentIndex(), len(self.look.opened) - 1))

    @property
    def _piece(self) -> Piece:
        """The file whose first rows are shown."""
        return self.look.opened[self._at].pieces[0] if self.look.opened else self.look.found[0]

    def _target(self) -> Terms | None:
        code = self.market.currentData()
        return next((m.terms for m in self.session.markets if m.code == code), None)

    def _fill(self, layout: Layout) -> None:
        """Show a layout's settings and roles."""
        self._filling = True
        self._roles = {}
        self.form.fill(layout)
        self.preview.set_roles(list(layout.columns))
        self._filling = False

    def wanted(self) -> Layout:
        """The layout as it stands in the form. Raises UserError."""
        market = self.look.opened[self._at].reader.layout.market if self.look.opened else ""
        return self.form.wanted(self.preview.roles(), self.layout_name.text().strip(), market)

    def edited(self) -> None:
        """Read the first rows again under the layout as it stands; all rows have to be read again."""
        if self._filling or not self.look.found:
            return
        self.look.stale()
        try:
            width = self._width()
            if len(self.preview.roles()) != width:
                # Another delimiter, another table; coming back to the first one finds its roles again.
                self._filling = True
                self.preview.set_roles(self._roles.get(width, ["skip"] * width))
                self._filling = False
            self._roles[width] = self.preview.roles()
            self._preview(self.wanted())
        except WolbrinError as err:
            self.layout_now = None
            self._say(err.sentence())
            self._enable()
            return
        rows = self.shown.rows if self.shown else []
        faulty = [r for r in rows if r.fault]
        self._say("" if not faulty else f"{len(faulty)} of the first {len(rows)} rows cannot be read; the first: "
                  f"row {faulty[0].number}, {faulty[0].fault}.")
        self._enable()

    def _preview(self, layout: Layout) -> None:
        self.shown = preview(self._piece, layout)
        self.layout_now = layout
        self._filling = True
        self.preview.show_preview(self.shown, layout)
        self._filling = False
        self.rows.turn_to(FIRST)

    def _width(self) -> int:
        if self._piece.table:
            return len(self.preview.roles())
        return self.preview.columns_of(self._piece, self.form.delimiter_now(), int(self.form.skip.value()))

    def _say(self, text: str) -> None:
        self.fault.setText(text)
        self.fault.setVisible(bool(text))

    def remember(self) -> None:
        """Keep the layout under its name."""
        if self.layout_now is None:
            return
        made = self.session.attempt(lambda: self.session.project.sources.keep_layout(self.wanted()))
        if made:
            self.session.note(f"Layout {self.layout_name.text().strip()} is remembered.")
            self.activate()

    # What the user says

    def _clock_edited(self) -> None:
        """Zone or end of the bar were said: the rows stay, they are judged again."""
        if self._filling or not self.look.found:
            return
        try:
            self._preview(self.wanted())
        except WolbrinError as err:
            self._say(err.sentence())
            return
        self._say("")
        assert self.layout_now is not None
        self._clock_said(self.layout_now)
        self._soon.start()

    def _clock_said(self, layout: Layout) -> None:
        self.look.answer(self._code, "--zone", layout.zone)
        self.look.answer(self._code, "--stamp", layout.stamp)

    def _answered(self, option: str, value: str) -> None:
        if option in ANSWERS:
            self.look.answer(self._code, option, value)
        elif option == "--date-order":
            self.look.settle(option, value)
            self.form.time_format.setEditText(value)
            self.start()
            return
        elif option == "--decimal":
            self.look.settle(option, value)
            choose(self.form.decimal, value)
            self.edited()
            self.start()
            return
        self._judge()

    def _said(self, what: str, value: str) -> None:
        self.look.answer(self._code, what, value)
        self._judge()

    @property
    def _code(self) -> str:
        """The market shown, as its files call it."""
        return self.look.opened[self._at].code if self.look.opened else ""

    def _open_door(self, door: str) -> None:
        """Put the cursor into the setting of a part of how the files were read."""
        terms = self.terms.fields.get(door)
        widget: QWidget = terms if terms is not None and self.terms.isVisible() else getattr(self.form, door, self.preview)
        widget.setFocus()
        if isinstance(widget, QComboBox) and not widget.isEditable():
            widget.showPopup()

    def _code_changed(self) -> None:
        if not self._filling and len(self.look.opened) == 1:
            code = clean_code(self.code.text())
            self.look.answers[code] = self.look.answers.pop(self.look.opened[0].code, {})
            self.look.opened[0].code = self.look.code_said = code
            self._soon.start()

    def _terms_edited(self) -> None:
        try:
            terms = self.terms.terms()
        except WolbrinError as err:
            self._say(err.sentence())
            return
        self._say("")
        at = self._at
        if at < len(self.look.judged):
            found = self.look.judged[at]
            told = terms_told(found.terms, terms)
            if "point_value" in self.terms.touched and terms.point_value != self.look.said(self._code, "--point-value"):
                self.look.answer(self._code, "--point-value", str(terms.point_value))
                self._soon.start()  # fees and margins follow from it
            self.look.judged[at] = replace(found, terms=terms, assumed=tuple(t for t in found.assumed if t not in told))

    def _which_changed(self) -> None:
        self.terms.touched.clear()
        self._show_current()

    def months_changed(self) -> None:
        """Each file is a month of its own, or all are one history: they are read again so."""
        self.look.stale()
        if self.months.isChecked():
            self.look.judge_month(self._target())
        else:
            self.look.month = None
            self.start()
        self._enable()

    def target_changed(self) -> None:
        if self._filling:
            return
        self._judge()
        self._enable()

    # Reading and judging

    def _enable(self) -> None:
        look = self.look
        have = bool(look.found)
        self.split.setVisible(have)
        self.invite.setVisible(not have)
        self.how.setEnabled(not look.busy)
        self.preview.setEnabled(not look.busy)
        self._say(self.fault.text())
        self.terms.setVisible(self.target.is_new and bool(look.judged or look.month))
        ready = bool(look.judged or (self.months.isChecked() and look.months))
        codes = {o.code for o in look.opened}
        self.target.show_state(len(look.found), len(codes), ready, self.rows.differ.model.rowCount() > 0, len(look.opened))
        self.read_button.setEnabled(self.layout_now is not None and not look.busy)
        self.result.setVisible(bool(self.result.text()))

    def start(self) -> None:
        """Read everything, in the background."""
        if self.layout_now is not None:
            self.look.read(self.layout_now, self.months.isChecked(), self._at)
            self.result.setText("Reading \u2026")
            self._enable()

    def _read_over(self, sentence: str) -> None:
        if sentence:
            self.result.setText(sentence)
        elif self.look.months:
            self._weigh()
        else:
            self._judge()
        self._enable()

    def _judge(self) -> None:
        if self.months.isChecked() and self.look.month is not None:
            self.look.judge_month(self._target())
            return
        self.look.judge(self._target(), self.source.text().strip())

    def _judged(self) -> None:
        self._say("")
        self._show_current()
        self._enable()
        if self._taking:
            self.take()

    def _show_current(self) -> None:
        """Show what was judged of the market that is chosen."""
        at = self._at
        if at >= len(self.look.judged):
            return
        j = self.look.judged[at]
        self._fill(j.layout)
        try:
            self._preview(j.layout)
        except WolbrinError as err:
            self._say(err.sentence())
        self._show_found(j)
        self._weigh()

    def _show_found(self, j: Judged) -> None:
        """What was found, the questions, and the terms of a new market."""
        self.read_line.show_judged(j)
        self.side.show_judged(j, self.target.is_new)
        if self.target.is_new and self.terms.touched:
            self._terms_edited()

    def _weigh(self) -> None:
        """Say what came of the reading and what taking it in would do."""
        months, at = self.look.months, self._at
        read = [i for _, i in months] if months else [j.imported for j in self.look.judged[at:at + 1]]
        if not read:
            return
        first = read[0]
        words = read_words(read, self.look.spans)
        for j in self.look.judged:
            if j.aside and j.code == self.look.judged[at].code:
                words.append(f"{number(len(j.imported.raw))} {j.aside} rows, of {j.pieces[0].name}"
                             f"{' and others' if len(j.pieces) > 1 else ''}, become a source of their own.")
        self._bad = [b for i in read for b in i.bad]
        self._show_result(words, None)
        code, source = self.market.currentData(), self.source.text().strip()
        if code == NEW or months or len(self.look.opened) > 1:
            return

        def done(joined: Joined | WolbrinError) -> None:
            if (code, source) != (self.market.currentData(), self.source.text().strip()) or not self.look.judged:
                return
            if isinstance(joined, WolbrinError):
                self._say(joined.sentence())
            elif joined.same or joined.differ:
                words.append(f"{number(joined.added)} are new in this source, {number(joined.same)} are there alike, "
                             f"{number(joined.differ)} are there with other prices.")
                self._show_result(words, joined)

        self.look.weigh(code, source, first, done)

    def _show_result(self, words: list[str], joined: Joined | None) -> None:
        self.rows.show_result(self._bad, joined.listed if joined is not None else ())
        self.result.setText(" ".join(words))
        self._enable()

    def discard(self) -> None:
        """Forget what was read."""
        self.look.forget()
        self.layout_now = None
        self.files.setText(INVITE)
        self.rows.show_result((), ())
        self.side.clear()
        self.read_line.show_judged(None)
        self.result.setText("")
        self._say("")
        self._enable()

    def dragEnterEvent(self, event: Any) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: Any) -> None:
        paths = [Path(u.toLocalFile()) for u in event.mimeData().urls() if u.isLocalFile()]
        if paths:
            self.open(paths)
