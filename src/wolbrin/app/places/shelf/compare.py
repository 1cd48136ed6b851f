"""Two to six candidates side by side: rules with what differs, measures, equity, correlation."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from html import escape

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QGridLayout, QLabel, QScrollArea, QWidget

from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.parts import button, clear, column, label, row
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.app.theme.tokens import text_token
from wolbrin.core.figures.searches import FINDS
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import BY_KEY, SUMMARY
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.store.series import unpack
from wolbrin.core.work.grouping import Beside, changes

TOKENS = ("ink", "accent", "gain", "loss", "caution", "muted")
SECONDS_A_DAY = 86_400.0


@dataclass(frozen=True)
class _Row:
    """One line of the table of figures: a measure, or the correlation with one of them."""

    title: str
    values: tuple[str, ...]
    tip: str = ""


class Compare(QWidget):
    def __init__(self, session: Session, back: Callable[[], object]) -> None:
        super().__init__()
        self.session = session
        self.made: Beside | None = None
        self.title = label("", "heading")
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(16)
        self._grid.setVerticalSpacing(4)
        rules = QWidget()
        rules.setLayout(self._grid)
        self._area = QScrollArea()
        self._area.setWidgetResizable(True)
        self._area.setWidget(rules)
        self.chart = CurveChart(session.theme, "equity of the compared candidates")
        self.table = Table([Column("", lambda r: r.title, width=150)], session.theme, "compared figures")
        below = row(self.chart, self.table, spacing=14)
        below.setStretch(0, 3)
        below.setStretch(1, 4)
        lower = QWidget()
        lower.setLayout(below)
        whole = column(row(button("Back to the Shelf", back, tip="Esc"), 10, self.title, None, margins=(0, 0, 8, 0)),
                       self._area, lower, spacing=8)
        whole.setStretch(1, 3)
        whole.setStretch(2, 4)
        self.setLayout(whole)
        session.theme.changed.connect(lambda: self.show_beside(self.made) if self.made is not None else None)

    def show_beside(self, made: Beside) -> None:
        """Show a comparison."""
        self.made = made
        self.title.setText(f"{len(made.kept)} candidates side by side")
        clear(self._grid)
        for at, (k, words, differs) in enumerate(zip(made.kept, made.words, made.differs)):
            c = k.candidate
            color = self.session.theme.color(text_token(TOKENS[at % len(TOKENS)])).name()
            head = QLabel(f'<span style="color:{color}">\u25a0</span> <b>{at + 1}  {escape(c.name)}</b><br>'
                          f"{escape(c.market)} {escape(interval_words(c.interval))}, {number(c.tried)} tried")
            head.setWordWrap(True)
            head.setTextFormat(Qt.TextFormat.RichText)
            head.setAlignment(Qt.AlignmentFlag.AlignTop)
            body = QLabel("<br>".join(self._line(made, at, line, own) for line, own in zip(words, differs)))
            body.setWordWrap(True)
            body.setTextFormat(Qt.TextFormat.RichText)
            body.setAlignment(Qt.AlignmentFlag.AlignTop)
            body.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            body.setAccessibleName(f"rules of {c.name}")
            self._grid.addWidget(head, 0, at)
            self._grid.addWidget(body, 1, at)
            self._grid.setColumnStretch(at, 1)
        self._grid.setRowStretch(1, 1)
        self._figures(made)
        curves = []
        for at, k in enumerate(made.kept):
            if k.packed is None:
                continue
            days, profit = unpack(k.packed)
            curves.append(Curve(days.astype(np.float64) * SECONDS_A_DAY, np.cumsum(profit), TOKENS[at % len(TOKENS)], 1.4,
                                dashed=at >= len(TOKENS)))
        self.chart.show_curves(curves)

    def _line(self, made: Beside, at: int, line: str, own: bool) -> str:
        """A line of the rules; what the line most like it, in the first of the others that has one, does not say stands
        out."""
        if not own:
            return f'<span style="color:{self.session.theme.color("muted").name()}">{escape(line)}</span>'
        others = [w for i, w in enumerate(made.words) if i != at]
        head = line.split(" ")[0]
        like = next((o for words in others for o in words if o.split(" ")[0] == head), "")
        return " ".join(f"<b>{escape(word)}</b>" if new else escape(word) for word, new in changes(line, like))

    def _figures(self, made: Beside) -> None:
        names = [k.candidate.name for k in made.kept]
        rows = [_Row(BY_KEY[key].title, tuple(worded(key, k.candidate.summary.get(key, float("nan"))) for k in made.kept),
                     BY_KEY[key].tip) for key in SUMMARY]
        rows += [_Row(f"correlation with {i + 1}", tuple(number(made.correlation[i, j], 2) for j in range(len(names))),
                      "of daily results on the dates that both have") for i in range(len(names))]
        columns = [Column("", lambda r: r.title, width=150, hover=lambda r: r.tip)]
        columns += [Column(f"{i + 1}", lambda r, i=i: r.values[i], align="right", width=76, tip=name,
                           figure=FINDS["beside.value"], hover=lambda r: r.tip)
                    for i, name in enumerate(names)]
        self.table.set_columns(columns)
        self.table.set_records(rows)
