"""The dossier drawer: the evidence of whatever strategy is selected anywhere."""

from __future__ import annotations

import math
from collections.abc import Callable

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QPainter
from PySide6.QtWidgets import QGridLayout, QScrollArea, QVBoxLayout, QWidget

from wolbrin.app.parts import button, clear, hairline, label, link, row, tips
from wolbrin.app.session import Session
from wolbrin.app.shell.gate_picture import picture_of
from wolbrin.app.shell.gate_tables import GateTables
from wolbrin.app.theme.theme import Theme
from wolbrin.core.measures.catalogue import BY_KEY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.proving.gate import Gate
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.words import describe
from wolbrin.core.store.dossier import Evidence
from wolbrin.core.work.lines import gates_of
from wolbrin.core.work.standing import Standings
from wolbrin.core.work.subject import Subject

SHOWN = ("net", "trades", "profit_factor", "win_rate", "average", "t_daily", "max_drawdown", "return_drawdown", "under_water",
         "sharpe")


class GateMark(QWidget):
    """A small square: filled for passed, crossed for fallen, empty for not run. Shape first, color second."""

    def __init__(self, theme: Theme, state: str) -> None:
        super().__init__()
        self._theme, self._state = theme, state
        self.setFixedSize(12, 12)
        self.setAccessibleName(state)

    def paintEvent(self, event: object) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(1.5, 1.5, 9, 9)
        token = {"passes": "gain", "falls": "loss", "sealed": "accent", "not enough": "caution"}.get(self._state, "muted")
        painter.setPen(self._theme.pen(token, 1.4))
        if self._state in ("passes", "sealed"):
            painter.setBrush(self._theme.color(token) if self._state == "passes" else self._theme.hatch())
        painter.drawRect(box)
        if self._state == "not enough":
            painter.drawLine(QPointF(3.5, 6), QPointF(8.5, 6))
        if self._state == "falls":
            painter.drawLine(QPointF(1.5, 1.5), QPointF(10.5, 10.5))
            painter.drawLine(QPointF(10.5, 1.5), QPointF(1.5, 10.5))


class Drawer(QWidget):
    """Rebuilds itself when the strategy, the run or the evidence changes."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("frame")
        self._session = session
        self.setAccessibleName("Dossier")
        self._inside = QWidget()
        self._box = QVBoxLayout(self._inside)
        self._box.setContentsMargins(18, 12, 18, 12)
        self._box.setSpacing(6)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(self._inside)
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.addWidget(area)
        for signal in (session.run_changed, session.subject_changed, session.evidence_changed):
            signal.connect(self.refresh)
        self.refresh()

    def _opener(self, gate: Gate, found: Evidence, name: str) -> Callable[[], None]:
        def show() -> None:
            GateTables(self._session, gate, found, name, self.window()).open()
        return show

    def refresh(self) -> None:
        s = self._session
        clear(self._box)
        if not s.market:
            self._box.addWidget(label("Dossier", "heading"))
            self._box.addWidget(label("Every test of a strategy is kept here, with its outcome and how many were tried. "
                                      "There is no history to test on yet.", "muted", wrap=True))
            self._box.addStretch(1)
            return
        tried = max(1, s.dossiers.searches.tried_on(s.market))
        record = s.run.record(tried=tried) if s.run is not None else None
        subject = s.subject or Subject(s.strategy, s.market, s.interval, record=record, own=s.own)
        summary = self._training_figures(subject)
        evidence = s.dossiers.evidence(*subject.key) if s.market else []
        place = Standings(s.project).of_subject(subject)
        latest = place.evidence
        self._box.addLayout(row(label("Dossier", "heading"), None, label(f"{subject.market} {subject.interval}", "small")))
        self._box.addWidget(label(subject.strategy.name, "small", wrap=True))  # names that say what is done are long
        words = label(describe(subject.strategy), wrap=True)
        self._box.addWidget(words)
        self._box.addWidget(hairline())
        if s.subject is None and s.run_error:
            self._box.addWidget(label(s.run_error, "error", wrap=True))
            if (door := s.run_door) is not None:
                self._box.addLayout(row(button(door.words, lambda: s.door_wanted.emit(door.at)), None))
        grid = QGridLayout()
        grid.setVerticalSpacing(3)
        grid.setHorizontalSpacing(10)
        grid.setColumnStretch(0, 1)
        for c, text in ((1, "training"), (2, "holdout")):
            head = label(text, "small")
            head.setAlignment(Qt.AlignmentFlag.AlignRight)
            grid.addWidget(head, 0, c)
        opened = latest.get("holdout")
        known = [key for key in SHOWN if key in summary or (opened and key in opened.outcome)]
        for r, key in enumerate(known or SHOWN, 1):
            m = BY_KEY[key]
            name = label(m.title, "muted")
            value = label(worded(key, summary.get(key, math.nan)), "heading")
            if key == "win_rate" and "break_even_rate" in summary:
                value.setText(f"{worded(key, summary[key])} ({worded('break_even_rate', summary['break_even_rate'])})")
                name.setText("win rate (break-even)")
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            other = label(worded(key, opened.outcome.get(key, math.nan)) if opened else "sealed",
                          "" if opened else "accent")
            other.setAlignment(Qt.AlignmentFlag.AlignRight)
            for c, widget in enumerate((name, value, other)):
                widget.setToolTip(tips(m))
                grid.addWidget(widget, r, c)
        self._box.addLayout(grid)
        self._box.addWidget(hairline())
        self._box.addWidget(label("Gates", "heading"))
        gates = gates_of(s.project)
        if latest:
            self._box.addWidget(label(place.words(gates), wrap=True))
        for gate in gates:
            found = latest.get(gate.key)
            state = found.verdict if found else ("sealed" if gate.opens_holdout else "not run yet")
            verdict = label(found.verdict if found else state,
                         {"passes": "accent", "falls": "error", "not enough": "caution"}.get(state, "muted"))
            self._box.addLayout(row(GateMark(s.theme, state), label(gate.title), None, verdict))
            if found:
                self._box.addWidget(label(found.reason, "small", wrap=True))
                picture = picture_of(s, gate, found)
                if picture is not None:
                    self._box.addWidget(picture)
                if found.id and s.dossiers.tables(found.id):
                    self._box.addLayout(row(link("in full", self._opener(gate, found, subject.strategy.name),
                                                 tip=f"All that {gate.title} saw: pictures and tables"), None))
        self._box.addWidget(hairline())
        self._box.addWidget(label("Found from", "heading"))
        self._box.addWidget(label(self._origin(subject, len(evidence)), "small", wrap=True))
        if subject.record is not None:
            self._box.addWidget(label("Made by", "heading"))
            self._box.addWidget(label(subject.record.words(), "small", wrap=True))
        opened_lines = self._openings(subject)
        if opened_lines:
            self._box.addWidget(label("Holdout opened", "heading"))
            for line in opened_lines:
                self._box.addWidget(label(line, "small", wrap=True))
        self._box.addStretch(1)

    def _training_figures(self, subject: Subject) -> dict[str, float]:
        s = self._session
        if s.subject is None:
            return measure(Facts.of(s.run), (*SHOWN, "break_even_rate")) if s.run is not None else {}
        key = strategy_hash(subject.strategy)
        found = s.shelf.of_rules(key, subject.market, subject.interval)
        return found.figures if found is not None else {}

    def _origin(self, subject: Subject, tests: int) -> str:
        s = self._session
        if not s.market:
            return ""
        tried, where = s.dossiers.searches.tried_on(subject.market), subject.market
        alternatives = (f"{number(tried)} alternatives have been tried on {where} in this project." if tried
                        else f"No search has run on {where} yet.")
        ran = f"{tests} test{'s' if tests != 1 else ''} on record." if tests else "No gate has judged it yet."
        others = [e for e in s.dossiers.evidence(*subject.key)
                  if e.record is None or subject.record is None or e.record.key != subject.record.key]
        older = f" {len(others)} of them belong to another brief or history." if others else ""
        return f"{alternatives} {ran}{older}"

    def _openings(self, subject: Subject) -> list[str]:
        """When and for what the holdout was opened for these rules, the last few; and on the same bars elsewhere."""
        project = self._session.project
        found = project.book.of(strategy_hash(subject.strategy), subject.market)
        more = [f"and {len(found) - 3} times before"] if len(found) > 3 else []
        elsewhere = [o.words for o in project.journal.known_elsewhere if subject.market in o.markets]
        return [f"{o.created[:16].replace('T', ' ')}, {o.what}" for o in found[-3:]] + more + elsewhere
