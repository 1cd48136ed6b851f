"""The comparison page: two sources of one market, their prices and the same strategy on both."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtWidgets import QSplitter, QStackedWidget, QWidget

from wolbrin.app.parts import Choice, Empty, button, column, label, row, stretch
from wolbrin.app.places.markets.page import Looked, Page, choose, combo
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.errors import WolbrinError
from wolbrin.core.figures.markets import MARKETS
from wolbrin.core.market.costs import cost_facts
from wolbrin.core.market.quality import stamp
from wolbrin.core.measures.two_runs import Pair
from wolbrin.core.measures.wording import number
from wolbrin.core.store.settings import CONTRACT_COSTS
from wolbrin.core.work.markets import Comparison, compare

KINDS = [("closes apart", "apart"), ("bars in one only", "only"), ("spikes in one only", "spikes"), ("trades", "trades")]


class ComparePage(Page):
    key, title = "compare", "Two sources"

    def __init__(self, looked: Looked) -> None:
        super().__init__(looked)
        s = self.session
        self.made: Comparison | None = None
        self.other = combo([], "Second source", 140, self._other_chosen)
        self.first_costs = combo([], "Costs of the first source", 118, self._costs_chosen)
        self.second_costs = combo([], "Costs of the second source", 118, self._costs_chosen)
        self.with_words = label("against", "muted")
        self.go = button("Compare", self.start, main=True)
        self.figures = Table([
            Column("", lambda f: f[0], width=178, bold=True),
            Column("first", lambda f: f[1], align="right", width=74, figure=MARKETS["compare.first"]),
            Column("second", lambda f: f[2], align="right", width=74, figure=MARKETS["compare.second"]),
        ], s.theme, "Figures of the comparison", stretch=0)
        self.kinds = Choice(KINDS, "apart", "List")
        self.kinds.chosen.connect(lambda _: self.fill_list())
        self.moments = Table([
            Column("when (UTC)", lambda m: m[0], lambda m: stamp(m[0]), width=146),
            Column("first", lambda m: m[1], align="right", width=70, figure=MARKETS["compare.first"]),
            Column("second", lambda m: m[2], align="right", width=70, figure=MARKETS["compare.second"]),
            Column("difference", lambda m: m[3], align="right", width=84, figure=MARKETS["compare.difference"]),
        ], s.theme, "Moments of the comparison", stretch=0)
        self.trades = Table([
            Column("entry (UTC)", lambda p: p.entry_time, lambda p: stamp(p.entry_time), width=132),
            Column("side", lambda p: "long" if p.side > 0 else "short", width=54),
            Column("in", lambda p: p.standing, width=82),
            Column("first", lambda p: p.first_net, lambda p: _money(p.first_net), "right", 62,
                   figure=MARKETS["compare.first"]),
            Column("second", lambda p: p.second_net, lambda p: _money(p.second_net), "right", 66,
                   figure=MARKETS["compare.second"]),
            Column("difference", lambda p: _difference(p), lambda p: _money(_difference(p)), "right", 80,
                   figure=MARKETS["compare.difference"]),
        ], s.theme, "Trades on both sources")
        self.moments.chosen.connect(lambda m: looked.jump.emit(m[0], str(m[3])))
        self.trades.chosen.connect(lambda p: looked.jump.emit(p.entry_time, f"entry, {p.standing}"))
        self.lists = QStackedWidget()
        self.lists.addWidget(self.moments)
        self.lists.addWidget(self.trades)
        self.said = label("", "small", wrap=True)
        self.said.setMinimumHeight(32)
        self.problem = label("", "error", wrap=True)
        self.problem.hide()
        right = QWidget()
        right.setLayout(column(self.kinds, self.lists, spacing=4, margins=(12, 0, 0, 0)))
        stretch(right, 1, 1)
        split = QSplitter()
        split.addWidget(self.figures)
        split.addWidget(right)
        split.setSizes([312, 450])
        split.setChildrenCollapsible(False)
        work = QWidget()
        head = row(self.with_words, self.other, label("costs", "muted"), self.first_costs, label("against", "muted"),
                   self.second_costs, None, self.go, spacing=6)
        work.setLayout(column(head, self.problem, split, self.said, spacing=4))
        stretch(work, 2, 1)
        self.empty = Empty("This market has one source. Import a second one, under another source name, to compare the two.",
                           "Import", lambda: looked.page_wanted.emit("import"))
        self.pages = QStackedWidget()
        self.pages.addWidget(self.empty)
        self.pages.addWidget(work)
        self.setLayout(column(self.pages))

    def activate(self) -> None:
        source, s = self.looked.source, self.session
        if source is None:
            return
        others = [o for o in s.project.sources.of(source.market) if o.name != source.name and o.kind != "contract month"]
        self.pages.setCurrentIndex(1 if others else 0)
        if not others:
            return
        kept = self.other.currentData()
        blocked = self.other.blockSignals(True)
        self.other.clear()
        for o in others:
            self.other.addItem(o.name, o.name)
        self.other.blockSignals(blocked)
        choose(self.other, kept)
        self.with_words.setText(f"{source.name} against")
        terms = s.project.market(source.market).terms
        for box in (self.first_costs, self.second_costs):
            blocked = box.blockSignals(True)
            box.clear()
            for name in s.settings.sets_of(terms):
                box.addItem(name or "contract terms", name)
            box.blockSignals(blocked)
        self._other_chosen(quiet=True)
        key = self._key()
        if key != self._told:
            self._told = key
            self.made = None
            self.figures.set_records([])
            self.moments.set_records([])
            self.trades.set_records([])
            self.said.setText("Compare prices bar by bar, and the current strategy's trades on both.")
        self.looked.mark_times([])

    def _key(self) -> object:
        return self.wanted_key(), self.other.currentData(), self.session.strategy, self.session.interval

    def _other_chosen(self, quiet: bool = False) -> None:
        source, name = self.looked.source, self.other.currentData()
        if source is None or name is None:
            return
        choose(self.first_costs, source.cost_set or CONTRACT_COSTS)
        choose(self.second_costs, self.session.project.sources.get(source.market, name).cost_set or CONTRACT_COSTS)

    def _costs_chosen(self) -> None:
        """Costs belong to a source's provider, and are remembered with it."""
        source, name = self.looked.source, self.other.currentData()
        if source is None or name is None:
            return
        sources = self.session.project.sources
        sources.set_cost_set(source.market, source.name, self.first_costs.currentData() or "")
        sources.set_cost_set(source.market, name, self.second_costs.currentData() or "")

    def start(self) -> None:
        """Compare, in the background."""
        source, name, s = self.looked.source, self.other.currentData(), self.session
        if source is None or name is None:
            return
        key = self._told = self._key()
        strategy, interval, project = s.strategy, s.interval, s.project
        self.go.setEnabled(False)
        self.said.setText("Comparing \u2026")

        def refused(why: WolbrinError) -> None:
            self.go.setEnabled(True)
            if key == self._told:
                self.made = None
                self.said.setText("")
                self._problem(why.sentence())

        def done(made: Comparison) -> None:
            self.go.setEnabled(True)
            if key == self._told:
                self._show(made, (source.name, name))

        s.compute(f"Compare sources of {source.market}",
                  lambda: compare(project, source.market, source.name, name, strategy, interval), done, refused=refused)

    def _problem(self, text: str) -> None:
        self.problem.setText(text)
        self.problem.setVisible(bool(text))

    def _show(self, made: Comparison, names: tuple[str, str]) -> None:
        self._problem(made.problem)
        self.made = made
        p, r = made.prices, made.runs
        both = number(p.both)
        rows: list[tuple[str, str, str]] = [
            ("bars in common span", number(p.both + p.only_first), number(p.both + p.only_second)),
            ("bars in both", both, both),
            ("bars in one only", number(p.only_first), number(p.only_second)),
            ("spikes in one only", number(len(p.spikes_first)), number(len(p.spikes_second))),
            ("same close", f"{p.alike:.1%}", ""),
            ("95% of closes within", _ticks(p.spread(0.95)), ""),
            ("largest difference", _ticks(int(np.abs(p.ticks).max(initial=0))), "")]
        one, two = made.costs
        rows += [_cost_row(d.fact.title, d.fact.unit, d.of(one) or 0.0, d.of(two) or 0.0) for d in cost_facts()
                 if d.of(one) or d.of(two)]
        if r is not None:
            rows += [("trades", number(sum(x.first is not None for x in r.pairs)),
                      number(sum(x.second is not None for x in r.pairs))),
                     ("trades matched", number(r.count("both")), number(r.count("both"))),
                     ("trades in one only", number(r.count("first only")), number(r.count("second only"))),
                     ("net profit", number(r.first_net), number(r.second_net)),
                     ("difference by data", "", number(r.data, sign=True)),
                     ("difference by costs", "", number(r.costs, sign=True))]
        self.figures.set_records(rows)
        currency = self.session.settings.currency
        span = f"{stamp(p.begin)[:10]} to {stamp(p.end)[:10]}"
        self.said.setText(f"{names[0]} is the first, {names[1]} the second; {span}. " + (
            f"{self.session.strategy.name} on the training span: {number(r.difference, sign=True)} {currency}, of which "
            f"{number(r.data, sign=True)} come from the prices and {number(r.costs, sign=True)} from costs." if r else ""))
        self.fill_list()

    def fill_list(self) -> None:
        made, kind = self.made, self.kinds.value
        self.lists.setCurrentIndex(1 if kind == "trades" else 0)
        if made is None:
            return
        p = made.prices
        records: list[tuple[Any, ...]] = []
        if kind == "apart":
            records = [(a.time, f"{a.first:g}", f"{a.second:g}", _ticks(a.ticks, sign=True)) for a in p.apart]
        elif kind == "only":
            records = sorted([(int(t), "there", "missing", "first only") for t in p.only_first_times[:5000]]
                             + [(int(t), "missing", "there", "second only") for t in p.only_second_times[:5000]])
        elif kind == "spikes":
            records = sorted([(int(t), "spike", "", "first only") for t in p.spikes_first]
                             + [(int(t), "", "spike", "second only") for t in p.spikes_second])
        self.trades.set_records(made.runs.pairs if made.runs is not None else [])
        self.moments.set_records(records)
        self.looked.mark_times([r[0] for r in records] if kind != "trades" else [x.entry_time for x in self._lone()])

    def _lone(self) -> list[Pair]:
        return [x for x in self.made.runs.pairs if x.standing != "both"] if self.made and self.made.runs else []


def _ticks(value: float, sign: bool = False) -> str:
    return f"{number(value, 0 if float(value).is_integer() else 1, sign=sign)} tick{'s' if abs(value) != 1 else ''}"


def _money(value: float) -> str:
    return "\u2013" if np.isnan(value) else number(value, 0)


def _difference(pair: Pair) -> float:
    return float(np.nan_to_num(pair.second_net) - np.nan_to_num(pair.first_net))


def _cost_row(title: str, unit: str, first: float, second: float) -> tuple[str, str, str]:
    if unit == "ticks":
        return title, _ticks(first), _ticks(second)
    return title, f"{first:g}{unit}", f"{second:g}{unit}"


