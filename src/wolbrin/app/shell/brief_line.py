"""The current question as one sentence whose underlined parts open their editors in place."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QToolButton,
    QWidget,
)

from wolbrin.app.facts import fact_spin, show, title_of, value_of
from wolbrin.app.parts import Popup, button, day_in, label, link, pick_date, row, spin
from wolbrin.app.session import Session
from wolbrin.core.errors import UserError
from wolbrin.core.faults import words_of
from wolbrin.core.market.costs import Costs, cost_facts
from wolbrin.core.market.intervals import Interval, interval_words
from wolbrin.core.market.terms import COST_TERMS
from wolbrin.core.measures.wording import number
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.words import sizing_words
from wolbrin.core.store.settings import CONTRACT_COSTS, OWN_COSTS, Settings


def day(date: dt.date) -> str:
    return f"{date:%b %Y}"


def span_words(settings: Settings) -> str:
    """The training span in a few words, with the limit that shortens it."""
    span = settings.training
    assert span.first is not None
    assert span.last is not None
    limit = f", last {number(settings.most_bars)} bars" if settings.most_bars else ""
    return f"{day(span.first)} \u2013 {day(span.last)}{limit}"


def cost_words(costs: Costs) -> str:
    """Costs in a few words, such as "2.40 + 1 tick"."""
    short = {"per_contract": number(costs.per_contract, 2), "slippage_ticks": "", "spread_ticks": "", "minimum": ""}
    parts = [short.get(d.key, d.fact.word.format(d.of(costs))) for d in cost_facts() if d.of(costs)]
    ticks = costs.slippage_ticks + costs.spread_ticks / 2
    if ticks:
        parts.append(f"{ticks:g} tick{'s' if ticks != 1 else ''}")
    return " + ".join(p for p in parts if p) or "none"


class BriefLine(QWidget):
    """Reads the session and writes it; computes nothing."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        part = self._part
        self.strategy = part("Strategy", self._choose_strategy)
        self.market = part("Market", self._choose_market)
        self.interval = part("Bar interval", self._choose_interval)
        self.span = part("Training span and holdout", self._edit_span)
        self.costs = part("Costs", self._edit_costs)
        self.capital = part("Starting capital", self._edit_capital)
        self.fill = part("Fill timing", self._choose_fill)
        self.flat = part("Session flatness", self._toggle_flat)
        self.trade_size = part("Size of a trade", self._edit_size)
        self.fine = part("Fine fills", self._choose_fine)
        line = row(self.strategy, self._word(" on "), self.market, self._word(" "), self.interval, self._word(", "),
                   self.span, self._word(", costs "), self.costs, self._word(", capital "), self.capital,
                   self._word(", "), self.fill, self._word(", "), self.flat, self._word(", "), self.trade_size,
                   self._word(", "), self.fine, None, spacing=0,
                   margins=(20, 14, 12, 4))
        self.nothing = label("No history yet: the question to ask of a market will stand here.", "lead")
        line.insertWidget(0, self.nothing)
        self._parts = [line.itemAt(i).widget() for i in range(1, line.count()) if line.itemAt(i).widget() is not None]
        self.setLayout(line)
        self.setMinimumWidth(640)  # narrower than the sentence: it shortens itself
        for signal in (session.strategy_changed, session.brief_changed, session.strategies_changed):
            signal.connect(self.refresh)
        self.refresh()

    def _part(self, name: str, act: Callable[[QToolButton], None]) -> QToolButton:
        made = link("", role="brief", tip=name)
        made.clicked.connect(lambda: act(made))
        return made

    def _word(self, text: str) -> QLabel:
        made = label(text, "lead")
        made.setStyleSheet("white-space: pre;")
        return made

    def refresh(self) -> None:
        s = self._session
        self.nothing.setVisible(not s.market)
        for part in self._parts:
            part.setVisible(bool(s.market))
        if not s.market:
            return
        # Whole words where there is room, else the shorter ones: the sentence never cuts a part off.
        for length, flat, fine in ((26, "flat by session end", "coarse fills"), (18, "flat at end", "coarse fills"),
                                   (12, "flat", "coarse")):
            self._say(length, flat, fine)
            layout = self.layout()
            if layout is None or layout.sizeHint().width() <= max(self.width(), 640):
                break

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        if event.oldSize().width() != event.size().width():
            self.refresh()

    def _say(self, length: int, flat: str, coarse: str) -> None:
        """Fill the sentence: the strategy's name in so many letters, and the words for two long parts."""
        s = self._session
        strategy = s.strategy
        name = strategy.name if len(strategy.name) <= length else strategy.name[:length - 1] + "\u2026"
        for widget, text in ((self.strategy, name), (self.market, s.market), (self.interval, interval_words(s.interval)),
                             (self.span, span_words(s.settings)),
                             (self.costs, cost_words(s.settings.costs_of(s.entry.terms))
                              + (f" ({chosen})" if (chosen := s.settings.cost_set.get(s.market)) else "")
                              + (" (assumed)" if set(s.settings.assumed_of(s.market)) & set(COST_TERMS) else "")),
                             (self.capital, f"{number(s.settings.capital)} {s.settings.currency}"),
                             (self.fill, strategy.fill),
                             (self.flat, flat if strategy.flat_by_session_end else "held overnight"),
                             (self.trade_size, sizing_words(strategy)),
                             (self.fine, "fine fills" if s.settings.fine_fills else coarse)):
            widget.setText(text)
            widget.setAccessibleName(f"{widget.toolTip()}: {text}")

    def _list(self, anchor: QToolButton, options: list[tuple[str, Callable[[], object]]], current: int) -> None:
        popup = Popup(self)
        names = QListWidget()
        names.addItems([text for text, _ in options])
        names.setCurrentRow(current)
        names.setFixedSize(230, min(300, 24 * len(options) + 10))
        names.setAccessibleName(anchor.toolTip())

        def take(item: object) -> None:
            index = names.currentRow()
            popup.close()
            options[index][1]()

        names.itemClicked.connect(take)
        names.itemActivated.connect(take)
        popup.body.addWidget(names)
        popup.open_under(anchor)
        names.setFocus()

    def _choose_strategy(self, anchor: QToolButton) -> None:
        s = self._session
        entries = s.project.strategies()
        self._list(anchor, [(e.strategy.name, lambda id=e.id: s.open_strategy(id)) for e in entries],
                   next((i for i, e in enumerate(entries) if e.id == s.strategy_id), 0))

    def _choose_market(self, anchor: QToolButton) -> None:
        s = self._session
        self._list(anchor, [(f"{m.code}  {m.terms.name}", lambda code=m.code: s.set_market(code)) for m in s.markets],
                   [m.code for m in s.markets].index(s.market))

    def _choose_interval(self, anchor: QToolButton) -> None:
        s = self._session
        steps = s.intervals()
        options: list[tuple[str, Callable[[], object]]] = [
            (interval_words(i), lambda i=i: s.set_interval(i)) for i in steps]
        options.append(("another \u2026", lambda: self.other_interval(anchor)))
        self._list(anchor, options, steps.index(s.interval) if s.interval in steps else 0)

    def other_interval(self, anchor: QToolButton) -> None:
        s = self._session
        text = QLineEdit(interval_words(s.interval))
        text.selectAll()
        wrong = label("", "error", wrap=True)
        wrong.setMaximumWidth(290)

        def take() -> bool:
            try:
                wanted = Interval.parse(text.text())
                if wanted.kind == "minutes" and wanted.code % s.entry.minutes:
                    raise UserError(f"{wanted.words} bars cannot be built from {interval_words(s.entry.minutes)} bars", "",
                                    f"Choose a multiple of {s.entry.minutes}.")
            except UserError as err:
                wrong.setText(err.sentence())
                return False
            s.set_interval(wanted.code)
            return True

        popup = self._form(anchor, "Bar interval", [("interval", text)], take,
                           "Minutes such as 45, daily, 500 ticks, 2000 volume, or range 8 (in ticks).")
        popup.body.insertWidget(2, wrong)

    def _choose_fill(self, anchor: QToolButton) -> None:
        s = self._session
        values = ("next open", "this close")
        self._list(anchor, [(v, lambda v=v: s.edit(s.strategy.model_copy(update={"fill": v}), "fill timing"))
                            for v in values], values.index(s.strategy.fill))

    def _toggle_flat(self, anchor: QToolButton) -> None:
        s = self._session
        values = (("flat by session end", True), ("held overnight", False))
        self._list(anchor, [(t, lambda v=v: s.edit(s.strategy.model_copy(update={"flat_by_session_end": v}),
                                                   "session flatness")) for t, v in values],
                   0 if s.strategy.flat_by_session_end else 1)

    def _choose_fine(self, anchor: QToolButton) -> None:
        s = self._session
        values = (("coarse fills: the bars traded on decide", False), ("fine fills: walk the market's own bars", True))
        self._list(anchor, [(t, lambda v=v: s.change_settings(fine_fills=v)) for t, v in values],
                   1 if s.settings.fine_fills else 0)

    def _edit_size(self, anchor: QToolButton) -> None:
        s = self._session
        kinds = ("fixed", "risk", "percent", "notional")
        which = QComboBox()
        which.addItems(["contracts", "% of equity at risk to the stop", "% of equity as notional", "fixed notional"])
        now = s.strategy
        which.setCurrentIndex(kinds.index(now.sizing.kind))
        amount = spin(now.quantity if now.sizing.kind == "fixed" else now.sizing.amount, 0.0001, 1e12, 2)
        wrong = label("", "error", wrap=True)
        wrong.setMaximumWidth(290)

        def take() -> bool:
            kind = kinds[which.currentIndex()]
            change = {"quantity": min(amount.value(), 1e9), "sizing": {}} if kind == "fixed" else {
                "sizing": {"kind": kind, "amount": amount.value()}}
            try:
                after = Strategy.model_validate(s.strategy.model_dump() | change)
            except ValueError as err:
                wrong.setText(words_of(err).capitalize() + ".")
                return False
            s.edit(after, "size")
            return True

        popup = self._form(anchor, "Size of a trade", [("in", which), ("amount", amount)], take,
                           "Rounded down to the market's lot step; below its smallest lot an entry is skipped and logged.")
        popup.body.insertWidget(2, wrong)

    def _form(self, anchor: QToolButton, title: str, fields: list[tuple[str, QWidget]], take: Callable[[], bool],
              hint: str = "") -> Popup:
        popup = Popup(self)
        popup.body.addWidget(label(title, "heading"))
        form = QFormLayout()
        form.setLabelAlignment(Qt.AlignmentFlag.AlignLeft)
        for name, widget in fields:
            widget.setAccessibleName(name)
            form.addRow(label(name, "muted"), widget)
        popup.body.addLayout(form)
        if hint:
            words = label(hint, "small", wrap=True)
            words.setMaximumWidth(290)
            popup.body.addWidget(words)

        def done() -> None:
            if take():
                popup.close()

        popup.body.addLayout(row(None, button("Set", done, main=True)))
        popup.open_under(anchor)
        fields[0][1].setFocus()
        return popup

    def _edit_span(self, anchor: QToolButton) -> None:
        s = self._session
        project = s.project_settings
        first, border, last = (pick_date(d) for d in (s.settings.training_first, project.holdout_first, project.last))
        until = pick_date(s.settings.training_last_day)
        own = QCheckBox(f"{s.strategy.name} trains on less")
        own.setChecked(s.own_span)
        until.setEnabled(s.own_span)
        own.toggled.connect(until.setEnabled)
        months = spin(s.settings.most_months or 0, 0, 1200, 0)
        months.setSpecialValueText("all")
        bars = spin(s.settings.most_bars or 0, 0, 1e8, 0, 1000)
        bars.setSpecialValueText("all")

        def take() -> bool:
            a, u, b, c = (day_in(e) for e in (first, until, border, last))
            return s.keep_spans(a, u if own.isChecked() else None, b, c, int(months.value()), int(bars.value()))

        self._form(anchor, "Training span and holdout",
                   [("training from", first), ("", own), ("until", until), ("holdout from, all markets", border),
                    ("data until", last), ("only the last months", months), ("only the last bars", bars)], take,
                   "The border is one day for all markets and strategies. Once work was done with it, moving it spends the "
                   "holdout for everything found so far. A limit is for quick tests: it shortens the training span from its "
                   "begin.")

    def _edit_costs(self, anchor: QToolButton) -> None:
        """Choose a cost set; changed figures become the set of one's own, or change the chosen one."""
        s = self._session
        terms = s.entry.terms
        names = list(s.settings.sets_of(terms))
        chosen = s.settings.cost_set.get(s.market, CONTRACT_COSTS)
        which = QComboBox()
        which.addItems([n or "contract terms" for n in names])
        which.setCurrentIndex(names.index(chosen) if chosen in names else 0)
        rows = [(d, fact_spin(d)) for d in cost_facts()]

        def fill() -> None:
            now = s.settings.costs_of(terms, names[which.currentIndex()])
            for d, box in rows:
                show(d, box, d.of(now))

        which.currentIndexChanged.connect(fill)
        fill()

        def take() -> bool:
            name = names[which.currentIndex()]
            now = s.settings.costs_of(terms, name)
            costs = now.model_copy(update={d.key: value_of(d, box) for d, box in rows})
            every = {code: dict(sets) for code, sets in s.settings.cost_sets.items()}
            if costs != now:
                name = name or OWN_COSTS
                every.setdefault(s.market, {})[name] = costs
                s.terms_are_told(s.market, *now.told(costs))
            picked = {k: v for k, v in s.settings.cost_set.items() if k != s.market} | ({s.market: name} if name else {})
            return s.change_settings(cost_sets={c: {n: v.model_dump() for n, v in sets.items()} for c, sets in every.items()},
                                     cost_set=picked)

        self._form(anchor, f"Costs of {s.market}, {s.settings.currency}",
                   [("cost set", which), *((title_of(d), box) for d, box in rows)], take,
                   f"One tick on one contract is worth {number(terms.tick_value * terms.conversion_rate, 2)} "
                   f"{s.settings.currency}. Half the spread is paid at each fill. More sets are in Markets, Terms.")

    def _edit_capital(self, anchor: QToolButton) -> None:
        s = self._session
        amount = spin(s.settings.capital, 1, 1e12, 0, 1000)
        self._form(anchor, "Starting capital", [(s.settings.currency, amount)],
                   lambda: s.change_settings(capital=amount.value()))
