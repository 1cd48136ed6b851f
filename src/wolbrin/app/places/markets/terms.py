"""The terms page: what a tick is worth, when the market trades, what trading it costs, and its cost sets."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pydantic import ValidationError
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QScrollArea,
    QWidget,
)

from wolbrin.app.parts import button, column, label, line_of, row
from wolbrin.app.places.markets.layout_form import zone_box
from wolbrin.app.places.markets.page import Form, Looked, choose, combo, plain, short
from wolbrin.app.places.markets.terms_acts import TermsActs, dumped, with_set
from wolbrin.app.places.markets.week import WeekPicture
from wolbrin.core.engine.record import assumed_words
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.faults import first_fault
from wolbrin.core.market.costs import Costs, cost_facts
from wolbrin.core.market.declared import Declared
from wolbrin.core.market.exchanges import exchange_codes
from wolbrin.core.market.likely.week import Week
from wolbrin.core.market.terms import ASSUMABLE, WEEKDAYS, Terms, term_facts, terms_told
from wolbrin.core.market.words import read_sessions, worth_lines, write_sessions
from wolbrin.core.store.settings import CONTRACT_COSTS
from wolbrin.core.store.sources import Source
from wolbrin.core.work.markets import week_of
from wolbrin.core.work.terms_change import Changed, downstream, rests_on

SESSION_FACTS = ("time_zone", "calendar", "sessions", "closed")
NIGHT_FACTS = ("financing.time", "financing.triple")
WIDE = {"financing.time": 64, "quote_currency": 50, "price_digits": 44, "margin.leverage": 50}


class TermsPage(TermsActs):
    key, title, with_chart = "terms", "Terms and costs", False

    def __init__(self, looked: Looked) -> None:
        super().__init__(looked)
        self._filling = False
        self._before: Terms | None = None
        self.fields: dict[str, QLineEdit] = {}
        charged = {d.fact.of_terms for d in cost_facts()}  # shown with the cost set
        self._facts = [d for d in term_facts() if d.key not in charged and d.key != "code"]
        self.name = self._field("name", 180)
        self.inverse = QCheckBox("inverse")
        self.inverse.setAccessibleName("conversion market quotes the inverse")
        self.inverse.toggled.connect(lambda _: self.edited())
        self.kind = combo([(k, k) for k in ("future", "currency pair", "index", "other")], "Kind", 120, self.edited)
        self.zone = zone_box(180, "Time zone")
        self.zone.currentTextChanged.connect(lambda _: self.edited())
        self.calendar = QComboBox()
        self.calendar.setEditable(True)
        self.calendar.setFixedWidth(118)
        self.calendar.setAccessibleName("Sessions of a listed exchange")
        self.calendar.addItem("")
        self.calendar.currentTextChanged.connect(lambda _: self.edited())
        line_of(self.calendar).setPlaceholderText("as below")
        self.sessions = QPlainTextEdit()
        self.sessions.setFixedSize(180, 44)
        self.sessions.setAccessibleName("Weekly sessions")
        self.sessions.setToolTip("One line a session, such as Mon-Fri 09:00-17:00; days are those of the open, and a close "
                                 "at or before the open crosses midnight")
        self.sessions.textChanged.connect(self.edited)
        self.week = WeekPicture(self.session.theme)
        self.week.changed.connect(lambda rules: self.sessions.setPlainText(write_sessions(rules)))
        self.from_bars = button("From the bars", self.take_week, tip="the schedule that the bars before the border show")
        self._week: Week | None = None
        self.closed = self._field("closed", 180, "days without trading: 12-25 every year, 2024-03-29 once")
        self.triple = combo([(d, d) for d in WEEKDAYS], "Triple night", 64, self.edited)
        self.which = combo([("contract terms", CONTRACT_COSTS)], "Cost set", 132, self._set_chosen)
        self.in_use = label("", "small")
        self.use = button("Use in the brief", self.use_set)
        self.new_name = short("", 110, "Name of a new cost set")
        self.new_name.setPlaceholderText("new set \u2026")
        self.add_set = button("Add", self.add)
        self.drop = button("Remove", self.remove_set)
        self._editors: dict[str, QWidget] = {"name": self.name, "kind": self.kind, "conversion_inverse": self.inverse,
                                             "financing.triple": self.triple}
        self.worth = [label("", "heading" if i == 2 else "") for i in range(3)]
        self.assumed = label("", "caution", wrap=True)
        self.confirm = button("These are right", self.confirm_terms, tip="they are no longer told as assumed")
        self._sure: Terms | None = None  # terms whose consequences were told
        self.fault = label("", "error", wrap=True)
        self.save_button = button("Save", self.save, main=True)
        self.revert_button = button("Revert", self.revert)
        self.setLayout(self._arranged())

    def _field(self, key: str, width: int = 90, tip: str = "") -> QLineEdit:
        fact = next((d.fact for d in (*term_facts(), *cost_facts()) if d.key == key), None)
        made = short("", width, fact.title if fact else key.replace("_", " "), tip or (fact.help if fact else ""))
        made.textChanged.connect(lambda _: self.edited())
        self.fields[key] = made
        return made

    def _lines(self, form: Form, facts: list[Declared], width: int, wide: int = 80) -> dict[str, QWidget]:
        """A line for each fact, or two that share one, with an editor of its own where it is not just typed."""
        lines: list[list[Declared]] = []
        for d in facts:
            if d.fact.beside and lines:
                lines[-1].append(d)
            else:
                lines.append([d])
        made = {}
        for line in lines:
            editors: list[QWidget | str] = []
            for d in line:
                room = WIDE.get(d.key, (wide - 14) if len(line) > 1 else wide)
                editors += [self._editors.get(d.key) or self._field(d.key, room), *([d.fact.hint] if d.fact.hint else [])]
            about = "; ".join(f"{d.fact.title}: {d.fact.help}" for d in line if d.fact.help)
            title = line[0].fact.title if "% of" not in line[0].fact.title else ""
            made[line[0].key] = form.add(title, *editors, tip=about, width=width)
        return made

    def _arranged(self) -> Any:
        left, right = Form(), Form()
        left.heading("Contract")
        lines = self._lines(left, [d for d in self._facts if d.key not in (*SESSION_FACTS, *NIGHT_FACTS)], 108)
        self.point_line = lines["point_value"]
        left.heading("Sessions")
        left.add("time zone", self.zone, width=108)
        left.add("of an exchange", self.calendar, self.from_bars, width=108,
                 tip="opens, closes and holidays of a listed exchange (ISO 10383 code)")
        left.add("weekly", self.sessions, width=108)
        left.box.addWidget(self.week)
        left.add("closed days", self.closed, width=108)
        right.heading("What it is worth")
        for line in self.worth:
            right.box.addWidget(line)
        right.box.addWidget(self.assumed)
        right.box.addWidget(self.confirm)
        right.heading("Costs")
        right.add("cost set", self.which, self.drop, width=96)
        right.add("", self.new_name, self.add_set, width=96)
        right.add("", self.use, self.in_use, width=96)
        self._lines(right, list(cost_facts()), 96, 70)
        self.night = self._lines(right, [d for d in self._facts if d.key in NIGHT_FACTS], 96, 56)["financing.time"]
        for form in (left, right):
            form.box.addStretch(1)
        both = QWidget()
        grid = QGridLayout(both)
        grid.setContentsMargins(0, 0, 8, 0)
        grid.setHorizontalSpacing(20)
        grid.addWidget(left, 0, 0, Qt.AlignmentFlag.AlignTop)
        grid.addWidget(right, 0, 1, Qt.AlignmentFlag.AlignTop)
        grid.setColumnStretch(2, 1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(both)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        foot = row(self.save_button, self.revert_button, 10, self.fault, None, button("Load terms \u2026", self.load),
                   button("Save terms as \u2026", self.export))
        made = column(area, foot, spacing=6)
        made.setStretch(0, 1)
        return made

    def focus_on(self, field: str) -> None:
        """Put the cursor into a field."""
        widget = self.sessions if field == "sessions" else self.fields.get(field)
        if widget is not None:
            widget.setFocus()

    # Showing

    def activate(self) -> None:
        source = self.looked.source
        if source is None:
            return
        if self.calendar.count() == 1:
            blocked = self.calendar.blockSignals(True)
            self.session.compute("Exchanges", exchange_codes, self._calendars)
            self.calendar.blockSignals(blocked)
        terms = self.session.project.market(source.market).terms
        if terms != self._before:
            self.fill(terms)
        self._tell_assumed()
        self._look_at_week(source)

    def _look_at_week(self, source: Source) -> None:
        """Find the schedule that the bars show, in the background, for the picture."""
        key = (source.key, source.file)
        if key == self._told:
            return
        self._told, self._week = key, None
        project = self.session.project

        def work() -> Week | None:
            try:
                return week_of(project, source)
            except WolbrinError:
                return None

        def done(week: Week | None) -> None:
            if self._told == key:
                self._week = week
                self._show_week()

        self.session.compute("Sessions in the bars", work, done)

    def _show_week(self) -> None:
        found = self._week
        self.from_bars.setEnabled(found is not None and bool(found.rules))
        same = found is not None and found.zone == self.zone.currentText().strip()
        try:
            rules = read_sessions(self.sessions.toPlainText())
        except UserError:
            return
        self.week.show_week(found.share if same and found is not None else None, rules)

    def take_week(self) -> None:
        if self._week is not None:
            self.calendar.setEditText("")
            self.zone.setEditText(self._week.zone)
            self.sessions.setPlainText(write_sessions(self._week.rules))

    def _calendars(self, codes: tuple[str, ...]) -> None:
        blocked = self.calendar.blockSignals(True)
        text = self.calendar.currentText()
        self.calendar.addItems(codes)
        self.calendar.setEditText(text)
        self.calendar.blockSignals(blocked)

    def fill(self, t: Terms) -> None:
        """Show a market's terms and its chosen cost set."""
        self._filling, self._before = True, t
        for d in self._typed():
            self.fields[d.key].setText(plain(d.of(t)) if d.number else str(d.of(t)))
        self.closed.setText(", ".join(t.closed))
        self.inverse.setChecked(t.conversion_inverse)
        choose(self.kind, t.kind)
        self.zone.setEditText(t.time_zone)
        self.calendar.setEditText(t.calendar)
        self.sessions.setPlainText(write_sessions(t.sessions))
        choose(self.triple, t.financing.triple)
        settings = self.session.settings
        self._sets(settings.cost_set.get(t.code, CONTRACT_COSTS))
        self._filling = False
        self._fill_costs()
        self.edited()

    def _typed(self) -> list[Declared]:
        """Facts that are typed as they stand."""
        return [d for d in self._facts if d.key in self.fields and d.key != "closed"]

    def _sets(self, chosen: str) -> None:
        assert self._before is not None
        blocked = self.which.blockSignals(True)
        self.which.clear()
        for name in self.session.settings.sets_of(self._before):
            self.which.addItem(name or "contract terms", name)
        self.which.blockSignals(blocked)
        choose(self.which, chosen)

    def _set_chosen(self) -> None:
        if not self._filling:
            self._fill_costs()
            self.edited()

    def _fill_costs(self) -> None:
        assert self._before is not None
        t, name = self._before, self.which.currentData() or CONTRACT_COSTS
        own = name == CONTRACT_COSTS
        costs = self.session.settings.costs_of(t, name)
        self._filling = True
        terms = {d.key: d for d in term_facts()}
        for d in cost_facts():
            value = d.of(costs)
            if own and d.optional:
                value = terms[d.fact.of_terms].of(t)
            self.fields[d.key].setText(plain(value, 6))
            if d.optional:
                self.fields[d.key].setPlaceholderText("" if own else "as terms")
            elif not d.fact.of_terms:
                self.fields[d.key].setEnabled(not own)  # contract terms have no such cost: it belongs to a set
        self.night.setEnabled(own)
        self._filling = False
        used = self.session.settings.cost_set.get(t.code, CONTRACT_COSTS)
        self.in_use.setText("in use in the brief" if used == name else f"the brief uses {used or 'contract terms'}")
        self.use.setEnabled(used != name)
        self.drop.setEnabled(not own)

    # Reading

    def _number(self, key: str, empty: float | None = None) -> float | None:
        text = self.fields[key].text().strip().replace(",", "").replace("\u2212", "-")
        if not text:
            return empty
        try:
            return float(text)
        except ValueError:
            raise UserError(f'"{text}" is not a number', self.fields[key].accessibleName(),
                            "Write a number such as 0.25.") from None

    def read_costs(self) -> Costs:
        """The cost set as it stands in the form. Raises UserError."""
        own = self.which.currentData() == CONTRACT_COSTS
        values = {d.key: None if own and d.optional else self._number(d.key, None if d.optional else 0.0)
                  for d in cost_facts()}
        try:
            return Costs.model_validate(values)
        except ValueError as err:
            raise _said(err) from None

    def read_terms(self) -> Terms:
        """The terms as they stand in the form. Raises UserError naming the field."""
        before = self._before
        assert before is not None
        values: dict[str, Any] = before.model_dump()
        for d in self._typed():
            text = self.fields[d.key].text().strip()
            value = self._number(d.key, None if d.optional else 0.0) if d.number else text
            d.put(values, d.kind(value) if d.number and value is not None else value)
        closed = [day.strip() for day in self.closed.text().replace(";", ",").split(",") if day.strip()]
        values["financing"] = values["financing"] | {"triple": self.triple.currentData()}
        values |= {"kind": self.kind.currentData(), "quote_currency": values["quote_currency"].upper(),
                   "conversion_inverse": self.inverse.isChecked(), "closed": tuple(closed),
                   "time_zone": self.zone.currentText().strip(), "calendar": self.calendar.currentText().strip(),
                   "sessions": tuple(r.model_dump() for r in read_sessions(self.sessions.toPlainText()))}
        if values["calendar"] and self.calendar.count() > 1 and self.calendar.findText(values["calendar"]) < 0:
            raise UserError(f'there is no exchange "{values["calendar"]}" in the list', "of an exchange", "Choose one of it.")
        if self.which.currentData() == CONTRACT_COSTS:
            terms = {d.key: d for d in term_facts()}
            for d in cost_facts():
                if d.fact.of_terms:
                    terms[d.fact.of_terms].put(values, self._number(d.key, 0.0))
        try:
            return Terms.model_validate(values)
        except ValueError as err:
            raise _said(err) from None

    def edited(self) -> None:
        """Judge what stands in the form, and say what it is worth."""
        if self._filling or self._before is None:
            return
        self._show_week()
        pair = self.kind.currentData() == "currency pair"
        title = self.point_line.findChild(QLabel)
        assert title is not None
        title.setText("lot size" if pair else "point value")
        try:
            terms, costs = self.read_terms(), self.read_costs()
        except UserError as err:
            where = err.where.replace("_", " ")
            self.fault.setText(f"{where}: {err.what}." if where else f"{err.what}.")
            self.save_button.setEnabled(False)
            self._mark_wrong(err.where)
            return
        self.fault.setText("")
        self._mark_wrong("")
        for line, text in zip(self.worth, worth_lines(terms, self.session.settings.currency)):
            line.setText(text)
        name = self.which.currentData() or CONTRACT_COSTS
        changed = terms != self._before or (name and costs != self.session.settings.costs_of(self._before, name))
        self.save_button.setEnabled(bool(changed))
        self.revert_button.setEnabled(bool(changed))

    def _mark_wrong(self, where: str) -> None:
        for key, edit in self.fields.items():
            named = where and where in (key, key.split(".")[-1], edit.accessibleName())
            edit.setProperty("state", "wrong" if named else "")
            edit.style().unpolish(edit)
            edit.style().polish(edit)

    def _tell_assumed(self) -> None:
        source = self.looked.source
        words = assumed_words(self.session.settings.assumed_of(source.market)) if source else ""
        self.assumed.setText(f"{words[0].upper()}{words[1:]}. Common starting values: check them with your broker." if words
                             else "")
        self.assumed.setVisible(bool(words))
        self.confirm.setVisible(bool(words))

    # Acting

    def confirm_terms(self) -> None:
        """The terms that are assumed are right as they stand."""
        if self._before is not None:
            self.session.terms_are_told(self._before.code, *ASSUMABLE)
            self._tell_assumed()

    def save(self) -> None:
        """Keep terms and cost set, undoably."""
        before, s = self._before, self.session
        assert before is not None
        after, costs, name = self.read_terms(), self.read_costs(), self.which.currentData() or CONTRACT_COSTS
        if self._sure != after and rests_on(s.project, before.code):
            s.compute(f"What other terms of {before.code} change", lambda: downstream(s.project, after), self._warn(after),
                      refused=lambda why: self.fault.setText(why.sentence()))
            return
        self._sure = None
        self.save_button.setText("Save")
        sets_before = s.settings.cost_sets
        sets_after = with_set(sets_before, before.code, name, costs) if name else sets_before

        s.terms_are_told(before.code, *terms_told(before, after), *(
            s.settings.costs_of(before, name).told(costs) if name else ()))

        def put(terms: Terms, sets: dict[str, dict[str, Costs]]) -> None:
            if sets != s.settings.cost_sets:
                s.change_settings(cost_sets=dumped(sets))
            if terms == s.project.market(terms.code).terms:
                self._forget()
                self.activate()
                return
            self.save_button.setEnabled(False)
            s.alter(f"Terms of {terms.code}", lambda: s.project.sources.change_terms(terms), lambda _: self._forget())

        s.do(f"terms of {before.code}", lambda: put(after, sets_after), lambda: put(before, sets_before))

    def _warn(self, after: Terms) -> Callable[[Changed], None]:
        """Save where nothing is changed that work rests on; else say what it means first, and save when asked again."""
        def done(found: Changed) -> None:
            self._sure = after
            if found.changes:
                self.fault.setText(f"{found.rests} rest on the old terms and would prove nothing under these. "
                                   + "; ".join(found.changes) + ".")
                self.save_button.setText("Save all the same")
            else:
                self.save()
        return done

    def _forget(self) -> None:
        """What the form shows is read anew when the page is next shown or told."""
        self._before = None

    def revert(self) -> None:
        self._sure = None
        self.save_button.setText("Save")
        if self._before is not None:
            self.fill(self._before)


def _said(err: ValueError) -> UserError:
    """The first fault of a validation, short, with the field it belongs to."""
    field, text = first_fault(err) if isinstance(err, ValidationError) else ("", str(err))
    return UserError(text, field)
