"""Terms of a new market beside the preview: what was found, changeable before it is taken in, with what it is worth."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox, QLineEdit, QPlainTextEdit, QWidget

from wolbrin.app.parts import button, column, label, line_of, row
from wolbrin.app.places.markets.layout_form import zone_box
from wolbrin.app.places.markets.page import choose, combo, plain, short
from wolbrin.app.places.markets.week import WeekPicture
from wolbrin.app.session import Session
from wolbrin.core.errors import UserError
from wolbrin.core.faults import words_of
from wolbrin.core.market.exchanges import exchange_codes
from wolbrin.core.market.likely.terms_of import AROUND_THE_CLOCK
from wolbrin.core.market.likely.week import Week
from wolbrin.core.market.terms import SessionRule, Terms
from wolbrin.core.market.words import read_sessions, worth_lines, write_sessions

NUMBERS = ("tick_size", "point_value", "spread_ticks", "slippage_ticks")


class FirstTerms(QWidget):
    """`changed` tells that terms were edited; `asked(what, value)` that kind or exchange is another, from which the other
    values follow anew."""

    changed = Signal()
    asked = Signal(str, str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._filling = False
        self._terms: Terms | None = None
        self._found: Week | None = None
        self.touched: dict[str, str] = {}  # what was typed stays when the files are judged again
        self.kind = combo([(k, k) for k in ("future", "currency pair", "index", "other")], "Kind", 116, self._kind)
        self.fields: dict[str, QLineEdit] = {}
        for key, width in (("tick_size", 82), ("point_value", 82), ("quote_currency", 46), ("spread_ticks", 50),
                           ("slippage_ticks", 50), ("commission", 56)):
            self.fields[key] = short("", width, key.replace("_", " "))
            self.fields[key].textEdited.connect(lambda text, key=key: self._typed(key, text))
        self.exchange = QComboBox()
        self.exchange.setEditable(True)
        self.exchange.addItem("")
        self.exchange.setFixedWidth(94)
        self.exchange.setAccessibleName("Sessions of a listed exchange")
        self.exchange.setToolTip("opens, closes and holidays of a listed exchange (ISO 10383 code) instead of the schedule")
        line_of(self.exchange).setPlaceholderText("as found")
        self.exchange.activated.connect(lambda _: self._exchange())
        line_of(self.exchange).editingFinished.connect(self._exchange)
        self.zone = zone_box(156, "Time zone of the sessions")
        self.zone.currentTextChanged.connect(lambda _: self._edited())
        self.sessions = QPlainTextEdit()
        self.sessions.setFixedHeight(44)
        self.sessions.setAccessibleName("Weekly sessions")
        self.sessions.setToolTip("One line a session, such as Mon-Fri 09:00-17:00; days are those of the open")
        self.sessions.textChanged.connect(self._edited)
        self.week = WeekPicture(session.theme)
        self.week.changed.connect(self._dragged)
        self.worth = label("", wrap=True)
        m = lambda text: label(text, "muted")  # noqa: E731
        f = self.fields
        self.setLayout(column(
            label("Terms", "heading"),
            row(m("kind"), self.kind, m("tick"), f["tick_size"], None, spacing=6),
            row(m("point value"), f["point_value"], m("in"), f["quote_currency"], None, spacing=6),
            row(m("costs: spread"), f["spread_ticks"], m("slippage"), f["slippage_ticks"], m("ticks, fee"), f["commission"],
                None, spacing=5),
            self.worth,
            row(label("Sessions", "heading"), None, button("As found", self.as_found),
                button("Around the clock", self._always), button("None", self.leave_out), spacing=4),
            self.week,
            row(m("in"), self.zone, m("or of"), self.exchange, None, spacing=6),
            self.sessions, spacing=5))

    def load_exchanges(self) -> None:
        """Fill the list of exchanges, in the background: the package is slow to load."""
        if self.exchange.count() == 1:
            self.exchange.addItem("\u2026")
            self.session.compute("Exchanges", exchange_codes, self._exchanges)

    def _exchanges(self, codes: tuple[str, ...]) -> None:
        text = self.exchange.currentText()
        self.exchange.clear()
        self.exchange.addItems(["", *codes])
        self.exchange.setEditText(text)

    def show_terms(self, terms: Terms, week: Week | None, worth_known: bool = True) -> None:
        """Fill the form with what was found. worth_known: whether the point value is more than a place holder."""
        self._filling, self._terms, self._found = True, terms, week
        choose(self.kind, terms.kind)
        for key in NUMBERS:
            self.fields[key].setText(plain(getattr(terms, key)))
        self.fields["quote_currency"].setText(terms.quote_currency)
        per = terms.commission.per_contract
        self.fields["commission"].setText(plain(per) if per or not terms.commission.percent else
                                          f"{plain(terms.commission.percent)}%")
        self.fields["commission"].setToolTip("a contract and side, in account money; with % of notional")
        if not worth_known:
            self.fields["point_value"].setText("")
        for key, text in self.touched.items():
            self.fields[key].setText(text)
        self.zone.setEditText(terms.time_zone)
        self.exchange.setEditText(terms.calendar)
        self.sessions.setPlainText(write_sessions(terms.sessions))
        self._filling = False
        self._picture()
        self.worth.setText(" \u00b7 ".join(worth_lines(terms, self.session.settings.currency)[:2])
                           + ". Common starting values; check with your broker." if worth_known else
                           "Say what a move of 1.00 is worth on one contract: it stands in the contract's specification.")

    def _picture(self) -> None:
        try:
            rules = read_sessions(self.sessions.toPlainText())
        except UserError:
            return
        shown = self._found is not None and self._found.zone == self.zone.currentText()
        self.week.show_week(self._found.share if shown and self._found is not None else None, rules)

    def terms(self) -> Terms:
        """The terms as they stand in the form. Raises UserError naming the field."""
        assert self._terms is not None
        values: dict[str, Any] = self._terms.model_dump()
        for key in NUMBERS:
            text = self.fields[key].text().strip().replace(",", "")
            if not text and key == "point_value" and key not in self.touched:
                continue  # not said yet: the question about it stands
            try:
                values[key] = float(text)
            except ValueError:
                raise UserError(f'"{text}" is not a number', key.replace("_", " "), "Write a number such as 0.25.") from None
        fee = self.fields["commission"].text().strip().replace(",", "") or "0"
        try:
            share = float(fee.rstrip("%"))
        except ValueError:
            raise UserError(f'"{fee}" is not a fee', "fee", "Write money such as 2.40, or a share such as 0.05%.") from None
        values["commission"] = values["commission"] | ({"percent": share, "per_contract": 0.0} if fee.endswith("%") else
                                                       {"per_contract": share, "percent": 0.0})
        values |= {"quote_currency": self.fields["quote_currency"].text().strip().upper(),
                   "time_zone": self.zone.currentText().strip(), "calendar": self.exchange.currentText().strip(),
                   "sessions": [r.model_dump() for r in read_sessions(self.sessions.toPlainText())]}
        try:
            return Terms.model_validate(values)
        except ValueError as err:
            raise UserError(words_of(err), "terms", "Correct it beside the preview.") from None

    def _typed(self, key: str, text: str) -> None:
        self.touched[key] = text
        self._edited()

    def _edited(self) -> None:
        if self._filling or self._terms is None:
            return
        self._picture()
        try:
            self.worth.setText(" \u00b7 ".join(worth_lines(self.terms(), self.session.settings.currency)[:2]))
        except UserError:
            self.worth.setText("")
        self.changed.emit()

    def _set_sessions(self, rules: tuple[SessionRule, ...], zone: str = "") -> None:
        self._filling = True
        self.exchange.setEditText("")
        if zone:
            self.zone.setEditText(zone)
        self.sessions.setPlainText(write_sessions(rules))
        self._filling = False
        self._edited()

    def _dragged(self, rules: tuple[SessionRule, ...]) -> None:
        self._set_sessions(rules)

    def as_found(self) -> None:
        if self._found is not None:
            self._set_sessions(self._found.rules, self._found.zone)

    def _always(self) -> None:
        self._set_sessions(AROUND_THE_CLOCK, "America/New_York")

    def leave_out(self) -> None:
        self._set_sessions(())

    def _kind(self) -> None:
        if not self._filling and self._terms is not None and self.kind.currentData() != self._terms.kind:
            self.touched.clear()
            self.asked.emit("kind", str(self.kind.currentData()))

    def _exchange(self) -> None:
        text = self.exchange.currentText().strip()
        if not self._filling and self._terms is not None and text != self._terms.calendar and text != "\u2026":
            self.asked.emit("exchange", text)
