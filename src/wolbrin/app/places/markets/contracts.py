"""The contract months page: joining months into one continuous future, with its rolls kept and shown."""

from __future__ import annotations

import datetime as dt

from PySide6.QtWidgets import QSplitter, QStackedWidget, QWidget

from wolbrin.app.parts import Empty, button, column, label, spin, stretch
from wolbrin.app.places.markets.page import Form, Looked, Page, combo, short
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.figures.markets import MARKETS
from wolbrin.core.market.contracts import Rule
from wolbrin.core.market.quality import stamp
from wolbrin.core.measures.wording import number
from wolbrin.core.store.sources import CONTINUOUS, MONTH, Source
from wolbrin.core.work.markets import join_contracts


class ContractsPage(Page):
    key, title = "contracts", "Contract months"

    def __init__(self, looked: Looked) -> None:
        super().__init__(looked)
        s = self.session
        self._ticked: set[str] = set()
        self.months = Table([
            Column("", lambda m: m.name in self._ticked, kind="tick", width=28),
            Column("month", lambda m: m.name, width=110, bold=True),
            Column("until", lambda m: m.last[:10], width=92),
            Column("bars", lambda m: m.rows, lambda m: number(m.rows), "right", 58, figure=MARKETS["market.bars"]),
        ], s.theme, "Contract months", stretch=1)
        self.months.model.tick = self._tick
        self.by = combo([("days before the last", "days before the last"), ("the next month's volume", "volume"),
                         ("its open interest", "open interest"), ("given dates", "dates")], "Roll by", 164,
                        self._changed)
        self.days = spin(3, 0, 60, 0)
        self.days.setFixedWidth(50)
        self.dates = short("", 164, "Roll dates", "first trading date of each later month, such as 2024-03-12, 2024-06-11")
        self.dates.setPlaceholderText("2024-03-12, 2024-06-11")
        self.adjust = combo([("by the difference", "difference"), ("by the ratio", "ratio"),
                             ("not: prices jump", "unadjusted")], "Earlier prices adjusted", 164)
        self.name = short("continuous", 104, "Name of the source")
        self.fault = label("", "error", wrap=True)
        self.join_button = button("Join", self.join, main=True)
        form = Form()
        form.box.setContentsMargins(12, 0, 8, 0)
        form.add("roll by", self.by, width=76)
        self.days_line = form.add("", self.days, "trading dates before", width=76)
        self.dates_line = form.add("", self.dates, width=76)
        form.add("adjust", self.adjust, width=76)
        form.add("into source", self.name, self.join_button, width=76)
        form.box.addWidget(self.fault)
        hint = label("What a roll costs is part of a cost set: Terms and costs, roll.", "small", wrap=True)
        form.box.addWidget(hint)
        form.box.addStretch(1)
        self.rolls = Table([
            Column("roll", lambda r: r[0], lambda r: stamp(r[0])[:10], width=90),
            Column("into", lambda r: r[2], width=92),
            Column("difference", lambda r: r[3], lambda r: number(r[3], 4).rstrip("0").rstrip("."), "right", 78,
                   figure=MARKETS["month.difference"]),
        ], s.theme, "Rolls", stretch=1)
        self.rolls.chosen.connect(lambda r: looked.jump.emit(r[0], f"{r[1]} to {r[2]}"))
        self.rolls_title = label("", "heading")
        right = QWidget()
        right.setLayout(column(self.rolls_title, self.rolls, spacing=4, margins=(12, 0, 0, 0)))
        stretch(right, 1, 1)
        split = QSplitter()
        for part, width in ((self.months, 2), (form, 0), (right, 2)):
            split.addWidget(part)
            split.setStretchFactor(split.count() - 1, width)
        split.setSizes([256, 262, 300])
        split.setChildrenCollapsible(False)
        self.empty = Empty("No contract month is here yet. Import their files together and say that each is a month; "
                           "then they can be joined.", "Import", lambda: looked.page_wanted.emit("import"))
        self.pages = QStackedWidget()
        self.pages.addWidget(self.empty)
        self.pages.addWidget(split)
        self.setLayout(column(self.pages))
        self._changed()

    def activate(self) -> None:
        source = self.looked.source
        if source is None:
            return
        every = self.session.project.sources.of(source.market)
        months = sorted((m for m in every if m.kind == MONTH), key=lambda m: m.last)
        key = tuple((m.name, m.file) for m in months)
        if key != self._told:
            self._told = key
            self._ticked = {m.name for m in months}
            self.months.set_records(months)
        joined = source if source.kind == CONTINUOUS else next((m for m in every if m.kind == CONTINUOUS), None)
        self.pages.setCurrentIndex(1 if months or joined else 0)
        self.rolls_title.setText(f"Rolls of {joined.name}" if joined else "Rolls")
        self.rolls.set_records(joined.rolls if joined else [])
        self.looked.mark_times([])
        self._enable()

    def _tick(self, month: Source, on: bool) -> None:
        (self._ticked.add if on else self._ticked.discard)(month.name)
        self._enable()

    def _enable(self) -> None:
        self.join_button.setEnabled(len(self._ticked) >= 2)
        self.join_button.setToolTip("" if len(self._ticked) >= 2 else "Tick at least two months")

    def _changed(self) -> None:
        by = self.by.currentData()
        self.days_line.setVisible(by == "days before the last")
        self.dates_line.setVisible(by == "dates")

    def rule(self) -> Rule:
        """The rule as it stands in the form. Raises UserError."""
        dates = []
        for text in self.dates.text().replace(";", ",").split(","):
            if text.strip() and self.by.currentData() == "dates":
                try:
                    dates.append(dt.date.fromisoformat(text.strip()))
                except ValueError:
                    raise UserError(f'"{text.strip()}" is not a date', "roll dates",
                                    "Write dates such as 2024-03-12.") from None
        return Rule(self.by.currentData(), self.adjust.currentData(), int(self.days.value()), tuple(dates))

    def join(self) -> None:
        """Build the continuous future in the background and look at it."""
        source, s = self.looked.source, self.session
        if source is None:
            return
        try:
            rule = self.rule()
        except UserError as err:
            self.fault.setText(err.sentence())
            return
        months = [m.name for m in self.months.model.records if m.name in self._ticked]
        name, market, project = self.name.text().strip(), source.market, s.project
        taken = [o for o in project.sources.of(market) if o.name == name and o.kind != CONTINUOUS]
        if taken:
            self.fault.setText(f'{market} has a source "{name}" that is no continuous future; write another name.')
            return
        self.fault.setText("")
        self.join_button.setEnabled(False)

        def refused(why: WolbrinError) -> None:
            self.join_button.setEnabled(True)
            self.fault.setText(why.sentence())

        def done(joined: tuple[Source, tuple[str, ...]]) -> None:
            made, notes = joined
            self.join_button.setEnabled(True)
            s.reload_markets()
            self.looked.look_at(made)
            s.note(" ".join([f"{market}, {name}: {len(months)} months joined, {len(made.rolls)} rolls.",
                             *(f"{n[0].upper()}{n[1:]}." for n in notes)]), "caution" if notes else "note")

        s.compute(f"Join months of {market}", lambda: join_contracts(project, market, months, rule, name), done,
                  refused=refused)
