"""The chart beside the rules: operands in their panes, pennants, and a strip for every row, so that one sees what blocks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QRectF
from PySide6.QtWidgets import QWidget

from wolbrin.app.charts.axes import BarAxis, Plot
from wolbrin.app.charts.price import LineItem, Mark, PriceChart
from wolbrin.app.charts.strips import StripsChart
from wolbrin.app.parts import Choice, column, label, link, row
from wolbrin.app.theme.theme import Theme
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.market.bars import day_of
from wolbrin.core.measures.wording import number
from wolbrin.core.rules.decide import LONG_IN, SHORT_IN, decide
from wolbrin.core.rules.evaluate import operand_column, truth
from wolbrin.core.rules.lint import Finding, lint_on
from wolbrin.core.rules.mirror import effective_long, effective_short, facing
from wolbrin.core.rules.model import Condition, FieldOperand, NumberOperand, PositionOperand, Row, Strategy
from wolbrin.core.rules.times import clock_text, on_clock
from wolbrin.core.rules.words import node_words, operand_words

TOKENS = ("accent", "gain", "caution", "loss", "muted")
PANES = 2
HOURS = [[(hour * 100.0, clock_text(hour * 100.0)) for hour in range(0, 25, 3)]]
PANE_HEIGHT = 84


@dataclass(frozen=True)
class Pane:
    """Lines of one row that do not stand on the price scale. timed: they are times of day, HHMM."""

    lines: dict[str, NDArray[np.float64]]
    levels: tuple[float, ...]
    timed: bool = False


@dataclass
class Seen:
    """What a strategy looks like on a history: computed off the interface thread."""

    history: Prepared
    decisions: Any
    findings: list[Finding]
    on_price: dict[str, NDArray[np.float64]] = field(default_factory=dict)
    panes: list[Pane] = field(default_factory=list)
    strips: list[tuple[str, NDArray[np.uint8], bool]] = field(default_factory=list)
    left_out: int = 0
    span: slice = field(default_factory=lambda: slice(0, 0))

    def typical_atr(self, length: int) -> float:
        """Median of ATR(length) in ticks on the training span; NaN where it has no value."""
        return self.history.columns.typical_atr(length, self.span)


def look(history: Prepared, strategy: Strategy, settings: Any, side: int) -> Seen:
    """Everything the chart shows of one side (+1 long, -1 short). Raises UserError where the rules cannot be read here."""
    columns = history.columns
    first, stop = history.bars.range_of(settings.training)
    seen = Seen(history, decide(columns, strategy), lint_on(columns, strategy, first, stop))
    seen.span = slice(first, stop)
    rules = effective_long(strategy) if side > 0 else effective_short(strategy)
    for one in (*rules.entry.leaves, *rules.exit.leaves):
        values = {operand_words(o): operand_column(columns, o) for o in one.asked
                  if not isinstance(o, NumberOperand | PositionOperand)}
        priced = {operand_words(o) for o in one.asked if facing(o).nature == "price"}
        bare = {operand_words(o) for o in one.asked if isinstance(o, FieldOperand) and o.interval is None
                and o.market is None}
        seen.on_price |= {name: x for name, x in values.items() if name in priced and name not in bare}
        lines = {name: x for name, x in values.items() if name not in priced}
        if lines and not any(set(lines) <= set(p.lines) for p in seen.panes):
            levels = tuple(float(o.value) for o in one.asked if isinstance(o, NumberOperand))
            seen.panes.append(Pane(lines, levels, any(on_clock(o) for o in one.asked)))
    seen.left_out = max(0, len(seen.panes) - PANES)
    seen.panes = seen.panes[:PANES]
    for part, condition in (("entry", rules.entry), ("exit", rules.exit)):
        nodes = [n for n in condition.active if not _asks(n)]
        if condition.active and len(nodes) == len(condition.active):
            seen.strips.append((f"{'long' if side > 0 else 'short'} {part}", truth(columns, condition), True))
        if len(nodes) > 1 or len(nodes) != len(condition.active):
            seen.strips += [(node_words(n), truth(columns, n), False) for n in nodes]
    return seen


def _asks(node: Row | Condition) -> bool:
    rows = (node,) if isinstance(node, Row) else node.leaves
    return any(isinstance(r.left, PositionOperand) for r in rows)


class PaneChart(Plot):
    """Lines off the price scale, moving with the price chart."""

    def __init__(self, theme: Theme, name: str) -> None:
        self.shown_pane: Pane | None = None
        super().__init__(theme, name, BarAxis())
        self.hideAxis("bottom")
        self.setFixedHeight(PANE_HEIGHT)
        self.words = label("", "small")
        self.words.setParent(self)
        self.words.move(4, 2)
        self.plotItem.vb.sigXRangeChanged.connect(lambda *_: self._fit())

    def show_pane(self, pane: Pane | None) -> None:
        self.shown_pane = pane
        self.setVisible(pane is not None)
        self.draw()

    def draw(self) -> None:
        self.plotItem.clear()
        if getattr(self, "shown_pane", None) is None:
            return
        assert self.shown_pane is not None
        for i, values in enumerate(self.shown_pane.lines.values()):
            known = values[np.isfinite(values)]
            if not len(known):
                continue
            low, high = float(known.min()), float(known.max())
            bounds = QRectF(-1, low, len(values) + 2, max(high - low, 1e-9))
            self.addItem(LineItem(values, self.theme.pen(TOKENS[i % len(TOKENS)], 1.2), bounds), ignoreBounds=True)
        self.getAxis("right").setTicks(HOURS if self.shown_pane.timed else None)
        for level in self.shown_pane.levels:
            self.plotItem.addLine(y=level, pen=self.theme.pen("hairline", 1.2))
        self.words.setText(", ".join(self.shown_pane.lines))
        self.words.adjustSize()
        self._fit()

    def _fit(self) -> None:
        if self.shown_pane is None:
            return
        (left, right), _ = self.plotItem.vb.viewRange()
        seen = [v[max(0, int(left)):max(0, int(right)) + 1] for v in self.shown_pane.lines.values()]
        flat = np.concatenate([s[np.isfinite(s)] for s in seen] or [np.zeros(0)])
        if len(flat):
            low, high = min([float(flat.min()), *self.shown_pane.levels]), max([float(flat.max()), *self.shown_pane.levels])
            pad = (high - low) * 0.08 or 1.0
            self.setYRange(low - pad, high + pad * 2.2, padding=0)


class SignalsView(QWidget):
    """Price with pennants and lines, panes, strips, counts a year, and jumps from firing to firing."""

    def __init__(self, theme: Theme, side_changed: Callable[[int], None]) -> None:
        super().__init__()
        self.chart = PriceChart(theme, "Signals on the price chart")
        self.count = label("", "heading")
        self.legend = label("", "small", wrap=True)
        self.years = label("", "small", wrap=True)
        self.side = Choice([("long", 1), ("short", -1)], 1, "Strips of the side")
        self.side.chosen.connect(side_changed)
        self.panes = [PaneChart(theme, f"Pane {i + 1}") for i in range(PANES)]
        self.strips = StripsChart(theme, "Bars on which each row is true")
        for part in (*self.panes, self.strips):
            part.setXLink(self.chart.plotItem)
            part.hide()
        self.signals = np.zeros(0, np.int64)
        self._key: object = None
        self.setLayout(column(
            row(self.count, None, self.side, 6,
                link("\u2039 previous", lambda: self.jump(-1), tip="Jump to the previous signal"),
                link("next \u203a", lambda: self.jump(1), tip="Jump to the next signal")),
            self.legend, self.chart, *self.panes, self.strips, self.years, margins=(12, 8, 4, 4), spacing=3))

    def show_seen(self, seen: Seen, settings: Any) -> None:
        bars = seen.history.bars
        first, stop = bars.range_of(settings.training)
        sealed = bars.range_of(settings.holdout)[0]
        key = (bars.terms.code, bars.interval, sealed)
        if key != self._key:
            self.chart.show_bars(bars, sealed)
            self._key = key
        first = max(first, seen.decisions.warm)
        wanted = seen.decisions.signals[first:stop]
        longs = np.flatnonzero((wanted & 3) == LONG_IN) + first
        shorts = np.flatnonzero((wanted & 3) == SHORT_IN) + first
        marks = [Mark(int(i), float(bars.low[i]), 1) for i in longs]
        marks += [Mark(int(i), float(bars.high[i]), -1) for i in shorts]
        self.signals = np.sort(np.concatenate([longs, shorts]))
        self.chart.set_lines({name: (v, TOKENS[i % len(TOKENS)]) for i, (name, v) in enumerate(seen.on_price.items())})
        self.chart.set_marks(marks)
        for chart, pane in zip(self.panes, [*seen.panes, None, None]):
            chart.show_pane(pane)
        # What lies in the holdout stays sealed: no strip is drawn there.
        self.strips.show_rows([(name, np.where(np.arange(len(flags)) < stop, flags, 0), strong)
                               for name, flags, strong in seen.strips[:8]], len(bars))
        years = max(1, (bars.trading_date[stop - 1] - bars.trading_date[first]) / 365.25) if stop > first else 1
        self.count.setText(f"{number(len(longs))} long and {number(len(shorts))} short signals, "
                           f"{number(len(self.signals) / years)} a year")
        words = [", ".join(seen.on_price) or "no line on the price scale"]
        conflicts = int(np.count_nonzero((wanted & 3) == 3))
        if conflicts:
            words.append(f"{number(conflicts)} bars say both sides: nothing is entered there")
        if seen.left_out:
            words.append(f"{seen.left_out} more not drawn")
        if seen.decisions.asked:
            words.append("rows on the position are taken for true where they may be")
        self.legend.setText("; ".join(words) + ". Signals are shown on the training span only.")
        year = np.array([day_of(int(d)).year for d in bars.trading_date[self.signals]], np.int64)
        counted = zip(*np.unique(year, return_counts=True)) if len(year) else ()
        self.years.setText("Signals a year: " + ", ".join(f"{y}: {number(int(n))}" for y, n in counted) if len(year) else "")

    def jump(self, step: int) -> None:
        """Move the chart to the next or previous signal."""
        if not len(self.signals):
            return
        (left, right), _ = self.chart.plotItem.vb.viewRange()
        middle = (left + right) / 2
        found = self.signals[self.signals > middle + 1] if step > 0 else self.signals[self.signals < middle - 1]
        if len(found):
            self.chart.look_at(int(found[0] if step > 0 else found[-1]))
