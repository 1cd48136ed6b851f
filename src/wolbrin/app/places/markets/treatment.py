"""The treatment page: rules that make a source fit to test on, previewed, recorded, undoable; the rows stay."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QSplitter, QVBoxLayout, QWidget

from wolbrin.app.parts import button, column, label, pick_date, row, spin, stretch
from wolbrin.app.places.markets.page import Form, Looked, Page, choose, combo, short
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.errors import WolbrinError
from wolbrin.core.faults import words_of
from wolbrin.core.figures.markets import MARKETS
from wolbrin.core.market.quality import stamp
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.terms import WEEKDAYS
from wolbrin.core.market.treatment import Change, Treated, Treatment
from wolbrin.core.measures.wording import number
from wolbrin.core.work.markets import preview_treatment

NAMES = 118


class TreatmentPage(Page):
    key, title = "treatment", "Treatment"

    def __init__(self, looked: Looked) -> None:
        super().__init__(looked)
        s = self.session
        self.treated: Treated | None = None
        self.raw: Raw | None = None
        self._filling = False
        flat = [("kept", "keep"), ("left out", "leave out"), ("left out where no volume", "leave out without volume")]
        spikes = [("kept", "keep"), ("left out", "leave out"), ("capped to the usual range", "cap")]
        self.flat = combo(flat, "Bars without a range", 170, self.edited)
        self.spikes = combo(spikes, "Spikes", 170, self.edited)
        self.deviations = spin(10, 3, 1000, 0)
        self.deviations.valueChanged.connect(lambda _: self.edited())
        self.deviations.setFixedWidth(56)
        self.deviations.setAccessibleName("Deviations that make a spike")
        self.repeated = combo([("first row counts", "keep first"), ("last row counts", "keep last")], "Repeated stamps", 170,
                              self.edited)
        self.wrong = combo([("left out", "leave out"), ("high and low widened", "widen")], "Contradicting prices", 170,
                           self.edited)
        self.trim = QCheckBox("from")
        self.trim.toggled.connect(lambda _: self.edited())
        self.first, self.last = (pick_date(s.settings.training_first), pick_date(s.settings.last))
        for edit, name in ((self.first, "First day"), (self.last, "Last day")):
            edit.setAccessibleName(name)
            edit.setFixedWidth(98)
            edit.dateChanged.connect(lambda _: self.edited())
        self.sessions = short("", 60, "Sessions left out", "numbers of the weekly sessions to leave out, such as 2 or 1, 3")
        self.days = short("", 92, "Weekdays left out", "trading weekdays to leave out, such as Fri or Mon, Fri")
        for text in (self.sessions, self.days):
            text.textChanged.connect(lambda _: self.edited())
        form = Form()
        form.add("bars without range", self.flat, width=NAMES)
        form.add("spikes", self.spikes, width=NAMES)
        form.add("", "beyond", self.deviations, "robust deviations", width=NAMES)
        form.add("repeated stamps", self.repeated, width=NAMES)
        form.add("contradicting prices", self.wrong, width=NAMES)
        form.add("only a span", self.trim, self.first, width=NAMES)
        form.add("", "to", self.last, width=NAMES)
        form.add("without sessions", self.sessions, width=NAMES)
        form.add("without weekdays", self.days, width=NAMES)
        self.fault = label("", "error", wrap=True)
        self.apply_button = button("Apply", self.apply, main=True)
        self.plain_button = button("As it came", self.plain, tip="Take every rule back")
        left = QWidget()
        box = QVBoxLayout(left)
        box.setContentsMargins(0, 0, 8, 0)
        box.setSpacing(4)
        box.addWidget(form)
        box.addWidget(self.fault)
        box.addLayout(row(self.apply_button, self.plain_button, None))
        box.addStretch(1)
        self.said = label("", wrap=True)
        self.recorded = label("", "small", wrap=True)
        self.changes = Table([
            Column("rule", lambda c: c.rule, width=150, bold=True),
            Column("effect", lambda c: c.effect, width=70),
            Column("bars", lambda c: len(c), lambda c: number(len(c)), "right", 60, figure=MARKETS["market.bars"]),
        ], s.theme, "What the treatment changes", stretch=0)
        self.bars = Table([
            Column("when (UTC)", lambda t: t[0], lambda t: stamp(t[0]), width=134),
            Column("as it came", lambda t: t[1], width=170),
            Column("afterwards", lambda t: t[2], width=170),
        ], s.theme, "Bars that change")
        self.changes.chosen.connect(self._chosen)
        self.bars.chosen.connect(lambda t: self.looked.jump.emit(t[0], t[2]))
        tables = QSplitter(Qt.Orientation.Vertical)
        tables.addWidget(self.changes)
        tables.addWidget(self.bars)
        tables.setSizes([104, 130])
        right = QWidget()
        right.setLayout(column(self.said, tables, self.recorded, spacing=4, margins=(12, 0, 0, 0)))
        stretch(right, 1, 1)
        split = QSplitter()
        split.addWidget(left)
        split.addWidget(right)
        split.setSizes([306, 480])
        split.setChildrenCollapsible(False)
        self.setLayout(column(split))

    def activate(self) -> None:
        source = self.looked.source
        if source is None:
            return
        if self._told != self.wanted_key():
            self._told = self.wanted_key()
            self.fill(source.treatment)
        self.edited()

    def fill(self, t: Treatment) -> None:
        """Show a treatment's rules."""
        self._filling = True
        for box, value in ((self.flat, t.no_range), (self.spikes, t.spikes), (self.repeated, t.repeated),
                           (self.wrong, t.contradictions)):
            choose(box, value)
        self.deviations.setValue(t.deviations)
        self.trim.setChecked(bool(t.first or t.last))
        source = self.looked.source
        assert source is not None
        for edit, day, other in ((self.first, t.first, source.first), (self.last, t.last, source.last)):
            edit.setDate(pick_date(day or np.datetime64(other[:10]).astype(object)).date())
        self.sessions.setText(", ".join(str(i + 1) for i in t.without_sessions))
        self.days.setText(", ".join(t.without_days))
        self._filling = False

    def wanted(self) -> Treatment:
        """The rules as they stand in the form. Raises ValueError in words."""
        try:
            sessions = tuple(int(p) - 1 for p in self.sessions.text().replace(";", ",").split(",") if p.strip())
        except ValueError:
            raise ValueError("write session numbers such as 2 or 1, 3") from None
        count = len(self.session.project.market(self.looked.source.market).terms.sessions)  # type: ignore[union-attr]
        if any(not 0 <= i < count for i in sessions):
            raise ValueError(f"this market has {count} weekly session{'s' if count != 1 else ''}")
        days = tuple(p.strip().capitalize()[:3] for p in self.days.text().split(",") if p.strip())
        if any(d not in WEEKDAYS for d in days):
            raise ValueError("write weekdays such as Fri or Mon, Fri")
        values = {"no_range": self.flat.currentData(), "spikes": self.spikes.currentData(),
                  "deviations": self.deviations.value(), "repeated": self.repeated.currentData(),
                  "contradictions": self.wrong.currentData(), "without_sessions": sessions, "without_days": days}
        if self.trim.isChecked():
            values |= {"first": self.first.date().toPython(), "last": self.last.date().toPython()}
        return Treatment.model_validate(values)

    def edited(self) -> None:
        """Preview what the form would do."""
        source = self.looked.source
        if self._filling or source is None:
            return
        self.first.setEnabled(self.trim.isChecked())
        self.last.setEnabled(self.trim.isChecked())
        try:
            wanted = self.wanted()
        except ValueError as err:
            self.fault.setText(words_of(err))
            self.apply_button.setEnabled(False)
            return
        self.fault.setText("")
        self.apply_button.setEnabled(wanted != source.treatment)
        self.plain_button.setEnabled(source.treatment != Treatment())
        self._asked = wanted
        project = self.session.project

        def work() -> tuple[Treated, Raw]:
            made = preview_treatment(project, source, wanted)
            assert made.bars.hash  # worked out here, since it takes a while on a long history
            return made, project.sources.training_raw(source)

        def still() -> bool:
            return wanted == self._asked and source is self.looked.source

        def refused(why: WolbrinError) -> None:
            if still():
                self.fault.setText(why.sentence())
                self.apply_button.setEnabled(False)

        def done(made: tuple[Treated, Raw]) -> None:
            if still():
                self._show(made, wanted)

        self.session.compute(f"Preview of {source.market}", work, done, refused=refused)

    def _show(self, made: tuple[Treated, Raw], wanted: Treatment) -> None:
        source = self.looked.source
        assert source is not None
        self.treated, self.raw = made
        bars = self.treated.bars
        now = "In force" if wanted == source.treatment else "Preview"
        self.said.setText(f"{now}: {number(len(self.raw))} rows become {number(len(bars))} bars, {wanted.words()}. "
                          f"{number(bars.left_out)} out of session are left out, {number(bars.off_grid)} prices moved to "
                          "the tick grid.")
        past = self.session.project.sources.treatments(*source.key)
        self.recorded.setText("The rows as they came stay in the project. " + (
            f"Applied {len(past)} time{'s' if len(past) != 1 else ''}, last {past[0]['created'][:16].replace('T', ' ')}; "
            f"results on it carry history {bars.hash}." if past else f"History {bars.hash}."))
        self.changes.set_records(self.treated.changes)
        self.bars.set_records([])
        if self.treated.changes:
            self.changes.choose(0)
            self._chosen(self.treated.changes[0])
        else:
            self.looked.mark_times([])

    def _chosen(self, change: Change) -> None:
        if self.treated is None or self.raw is None:
            return
        raw, bars = self.raw, self.treated.bars
        shown = change.rows[:5000]
        place = np.searchsorted(self.treated.rows, shown)

        def text(prices: list[float]) -> str:
            return " ".join(f"{p:g}" for p in prices)

        records = []
        for row_, at in zip(shown.tolist(), place.tolist()):
            after = "left out"
            if change.effect == "changed" and at < len(bars) and self.treated.rows[at] == row_:
                after = text([float(x[at]) for x in (bars.open, bars.high, bars.low, bars.close)])
            records.append((int(raw.time[row_]), text([float(p[row_]) for p in raw.prices]), after))
        self.bars.set_records(records)
        self.looked.mark_times(raw.time[change.rows])

    def apply(self) -> None:
        """Put the previewed rules into force, undoably."""
        source = self.looked.source
        if source is not None:
            self._change(source.treatment, self.wanted(), f"treat {source.market} {source.name}")

    def plain(self) -> None:
        source = self.looked.source
        if source is not None:
            self._change(source.treatment, Treatment(), f"take the treatment of {source.market} {source.name} back")

    def _change(self, before: Treatment, after: Treatment, words: str) -> None:
        source, s = self.looked.source, self.session
        assert source is not None
        if before == after:
            return

        def put(treatment: Treatment) -> None:
            def told(_: object) -> None:
                self._told = None
                s.note(f"{source.market}, {source.name}: {treatment.words()}.")

            self.apply_button.setEnabled(False)
            s.alter(f"Treat {source.market}", lambda: s.project.sources.treat(*source.key, treatment), told)

        s.do(words, lambda: put(after), lambda: put(before))
