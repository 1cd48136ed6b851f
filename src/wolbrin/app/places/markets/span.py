"""The span page: bars available per interval, limits for quick tests, training and holdout."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QCheckBox, QSplitter, QWidget

from wolbrin.app.parts import button, column, day_in, label, pick_date, row, spin, stretch
from wolbrin.app.places.markets.page import Form, Looked, Page, short
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.figures.markets import MARKETS
from wolbrin.core.market.intervals import Interval, interval_words
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.power import chance_of_sharpe
from wolbrin.core.store.holdout import t_for
from wolbrin.core.store.sources import intervals_for
from wolbrin.core.work.markets import count_bars


class SpanPage(Page):
    key, title = "span", "Bars and span"

    def __init__(self, looked: Looked) -> None:
        super().__init__(looked)
        s = self.session
        self.extra: list[int] = []
        self.table = Table([
            Column("interval", lambda r: r[0], lambda r: interval_words(r[0]), width=110, bold=True),
            Column("bars", lambda r: r[1], lambda r: "\u2026" if r[1] < 0 else number(r[1]), "right", 84,
                   figure=MARKETS["market.bars"]),
            Column("", lambda r: "in the brief" if r[0] == s.interval else "", width=90),
        ], s.theme, "Bars by interval", stretch=0)
        self.table.opened.connect(lambda r: self.use(r[0]))
        self.other = short("", 110, "Another interval", "45 min, daily, 500 ticks, 2000 volume, range 8")
        self.other.setPlaceholderText("500 ticks, range 8 \u2026")
        self.other.returnPressed.connect(self.count_other)
        self.fault = label("", "error", wrap=True)
        left = QWidget()
        left.setLayout(column(self.table, row(self.other, button("Count", self.count_other),
                                              button("Use in the brief", self._use_current), None), self.fault, spacing=4))
        stretch(left, 0, 1)
        self.first, self.border, self.last = (pick_date(d) for d in (s.settings.training_first, s.settings.holdout_first,
                                                                     s.settings.last))
        for edit, name in ((self.first, "Training from"), (self.border, "Holdout from"), (self.last, "Data until")):
            edit.setAccessibleName(name)
            edit.setFixedWidth(110)
        self.own = QCheckBox("the current strategy trains on less")
        self.until = pick_date(s.settings.training_last_day)
        self.until.setAccessibleName("Training until")
        self.until.setFixedWidth(110)
        self.own.toggled.connect(self.until.setEnabled)
        self.months = spin(0, 0, 1200, 0)
        self.bars = spin(0, 0, 1e8, 0, 1000)
        for box in (self.months, self.bars):
            box.setSpecialValueText("all")
            box.setFixedWidth(90)
        form = Form()
        form.box.setContentsMargins(12, 0, 0, 0)
        form.heading("Training and holdout")
        form.add("training from", self.first)
        form.add("", self.own)
        form.add("until", self.until, "before the holdout; its variants inherit that")
        form.add("holdout from", self.border, "one day for all markets")
        form.add("data until", self.last)
        form.heading("Limit for quick tests")
        form.add("the last", self.months, "months of the training span")
        form.add("or the last", self.bars, "bars of it")
        self.said = label("", "small", wrap=True)
        self.power = label("", "small", wrap=True)
        self.border.dateChanged.connect(lambda _: self._say_power())
        self.last.dateChanged.connect(lambda _: self._say_power())
        form.box.addLayout(row(button("Set", self.set, main=True), None))
        form.box.addWidget(self.said)
        form.box.addWidget(self.power)
        form.box.addStretch(1)
        split = QSplitter()
        split.addWidget(left)
        split.addWidget(form)
        split.setSizes([350, 400])
        split.setChildrenCollapsible(False)
        self.setLayout(column(split))
        s.brief_changed.connect(lambda: self.activate() if self.isVisible() else None)

    def activate(self) -> None:
        source, s = self.looked.source, self.session
        if source is None:
            return
        now = s.settings
        for edit, value in ((self.first, now.training_first), (self.border, now.holdout_first), (self.last, now.last)):
            edit.setDate(pick_date(value).date())
        self.until.setDate(pick_date(now.training_last_day).date())
        self.own.setText(f"{s.strategy.name} trains on less")
        self.own.setChecked(s.own_span)
        self.until.setEnabled(s.own_span)
        self.months.setValue(now.most_months or 0)
        self.bars.setValue(now.most_bars or 0)
        span = now.training
        self._say_power()
        self.said.setText(f"{s.strategy.name} is tested on {span}; sealed from {now.holdout_first:%d %b %Y}.")
        key = (self.wanted_key(), tuple(self.extra), s.interval)
        self.looked.mark_times([])
        if key != self._told:
            self._told = key
            offered = [*intervals_for(source), *self.extra]
            if Interval.of(s.interval).by_activity and s.interval not in offered:
                offered.append(s.interval)
            known = {r[0]: r[1] for r in self.table.model.records} if self._counted == self.wanted_key() else {}
            self.table.set_records([(i, known.get(i, -1)) for i in offered])
            self._count([i for i in offered if known.get(i, -1) < 0], key)

    def _say_power(self) -> None:
        """With what chance so long a holdout would show one candidate of a true Sharpe ratio."""
        years = (day_in(self.last) - day_in(self.border)).days / 365.25
        needed, days = t_for(self.session.project.book.next_batch(), 1), max(0, round(252 * years))
        each = [f"{x:g}: {100 * chance_of_sharpe(x, days, needed):.0f}%" for x in (1.0, 1.5, 2.0, 3.0)]
        self.power.setText(f"{years:.1f} years sealed. Chance that one candidate stands at the next opening, by its true "
                           f"yearly Sharpe ratio: {', '.join(each)}; families and wholes have more." if years > 0 else "")

    _counted: object = None

    def _count(self, wanted: list[int], key: object) -> None:
        source, project = self.looked.source, self.session.project
        assert source is not None

        def work() -> dict[int, Any]:
            made: dict[int, Any] = {}
            for interval in wanted:
                try:
                    made[interval] = count_bars(project, source, interval)
                except WolbrinError as err:
                    made[interval] = err
            return made

        def done(made: dict[int, Any]) -> None:
            if key != self._told:
                return
            self._counted = self.wanted_key()
            failed = [e for e in made.values() if isinstance(e, WolbrinError)]
            self.fault.setText(failed[0].sentence() if failed else "")
            self.extra = [i for i in self.extra if not isinstance(made.get(i), WolbrinError)]
            self.table.set_records([(i, made.get(i, n)) for i, n in self.table.model.records
                                    if not isinstance(made.get(i), WolbrinError)])

        if wanted:
            self.session.compute(f"Count bars of {source.market}", work, done)

    def count_other(self) -> None:
        """Count the bars of an interval that is written in."""
        try:
            wanted = Interval.parse(self.other.text())
        except UserError as err:
            self.fault.setText(err.sentence())
            return
        self.fault.setText("")
        if wanted.code not in [r[0] for r in self.table.model.records]:
            self.extra.append(wanted.code)
            self.activate()

    def _use_current(self) -> None:
        record = self.table.current()
        if record is not None:
            self.use(record[0])

    def use(self, interval: int) -> None:
        source, s = self.looked.source, self.session
        assert source is not None
        if s.market != source.market:
            s.set_market(source.market)
        s.set_interval(interval)

    def set(self) -> None:
        """Keep spans and limit."""
        s = self.session
        a, u, b, c = (day_in(e) for e in (self.first, self.until, self.border, self.last))
        if self.months.value() and self.bars.value():
            self.said.setText("Limit by months or by bars, not both.")
            return
        s.keep_spans(a, u if self.own.isChecked() else None, b, c, int(self.months.value()), int(self.bars.value()))
        self.activate()
