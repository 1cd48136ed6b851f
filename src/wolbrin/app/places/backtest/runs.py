"""Kept runs: reopen, run again, retest on grown history, and compare up to six."""

from __future__ import annotations

from typing import Any

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QLineEdit, QSplitter, QWidget

from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.parts import Choice, Popup, button, column, label, row
from wolbrin.app.places.backtest.columns import signed, tint
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine.run import Run
from wolbrin.core.errors import WolbrinError
from wolbrin.core.figures.runs import GROUPS, KEPT
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import BY_KEY, MEASURES, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.two_runs import match_runs
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.store.dossier import Dossiers, KeptRun
from wolbrin.core.work.retesting import Again, Retest, retest, run_again

MOST = 6
TOKENS = ("ink", "accent", "gain", "loss", "caution", "muted")


def kept(key: str, run: KeptRun) -> float:
    """A figure kept with a run."""
    return run.summary.get(key, float("nan"))


class RunsPage(QWidget):
    """The kept runs and what one does with them."""

    reopened = Signal(object, str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        s = session
        self.table = Table([
            Column("no.", lambda r: r.id, lambda r: number(r.id), "left", 40),
            Column("name", lambda r: r.name, width=170),
            Column("kept", lambda r: r.created, lambda r: r.created[2:16].replace("T", " "), width=100),
            Column("net", lambda r: kept("net", r), lambda r: signed(kept("net", r)), "right", 84,
                   lambda r: tint(kept("net", r)), figure=KEPT["run.net"]),
            Column("trades", lambda r: kept("trades", r), lambda r: number(kept("trades", r)), "right", 52,
                   figure=KEPT["run.trades"]),
            Column("until", lambda r: str(r.record.last or ""), width=84)], s.theme, "Kept runs", multi=True, stretch=1)
        self.open = button("Reopen", self.reopen, tip="Run the record again and show it above")
        self.again = button("Retest", self.retest, tip="The same record on the training span as it reaches now")
        self.compare = button("Compare", self.compare_marked, tip="Compare the marked runs, up to six")
        self.naming = button("Name \u2026", self.rename, tip="Give the marked run another name")
        self.words = label("Mark runs with Ctrl or Shift; up to six can be compared.", "small", wrap=True)
        self.view = Choice([("equity", 0), ("measures", 1), ("trades that differ", 2)], 0, "Comparison")
        self.view.chosen.connect(lambda _: self._show_comparison())
        self.chart = CurveChart(s.theme, "Runs compared")
        self.figures = Table([Column("measure", lambda m: m["title"], width=180)], s.theme, "Measures compared", stretch=0)
        self.trades = Table([
            Column("entry", lambda p: p["time"], lambda p: str(p["time"])[:16].replace("T", " "), width=130),
            Column("side", lambda p: p["side"], width=54), Column("in", lambda p: p["where"], width=150),
            *(Column(f"{title} net", lambda p, key=key: p[key], lambda p, key=key: signed(p[key]), "right", 92,
                     lambda p, key=key: tint(p[key]), figure=GROUPS["period.net"]) for title, key in (("first", "first"),
                                                                                                      ("other", "second")))],
            s.theme, "Trades that differ", stretch=2)
        for one in (self.figures, self.trades):
            one.hide()
        left, right = QWidget(), QWidget()
        buttons = row(self.open, self.again, self.compare, self.naming, None, spacing=5)
        left.setLayout(column(buttons, self.table, self.words, spacing=3))
        right.setLayout(column(self.view, self.chart, self.figures, self.trades, spacing=2))
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(left)
        split.addWidget(right)
        split.setSizes([540, 470])
        self.setLayout(column(split))
        self.compared: list[tuple[str, Run]] = []
        self._border = 0

    def show_run(self, run: Run | None = None) -> None:
        self.table.set_records(Dossiers(self.session.project).runs())

    def _marked(self) -> list[KeptRun]:
        found = self.table.marked() or ([self.table.current()] if self.table.current() else [])
        if not found:
            self.session.note("Keep a run first, then mark it in the list.", "caution")
        return found

    def _later(self, title: str, work: Any, then: Any) -> None:
        """Work in the background; a user's error is a sentence below the list."""
        def guarded() -> Any:
            try:
                return work()
            except WolbrinError as err:
                return err

        def done(result: Any) -> None:
            if isinstance(result, WolbrinError):
                self.words.setText(result.sentence())
                self.session.note(result.sentence(), "error")
            else:
                then(result)

        self.session.compute(title, guarded, done)

    def rename(self) -> None:
        """Ask for another name of the marked run."""
        found = self._marked()
        if not found:
            return
        name = QLineEdit(found[0].name)
        name.setMaxLength(80)
        name.setAccessibleName("Name of the run")
        popup = Popup(self)

        def take() -> None:
            if name.text().strip():
                Dossiers(self.session.project).rename_run(found[0].id, name.text().strip())
                self.show_run()
            popup.close()

        name.returnPressed.connect(take)
        popup.body.addWidget(label(f"Name of run {found[0].id}", "heading"))
        popup.body.addWidget(name)
        popup.body.addLayout(row(None, button("Set", take, main=True)))
        popup.open_under(self.naming)
        name.setFocus()
        name.selectAll()

    def reopen(self) -> None:
        """Run the marked record again and show it."""
        found = self._marked()
        if not found:
            return
        one, project = found[0], self.session.project

        def then(again: Again) -> None:
            said = ("gave the same bits again" if again.same else "gave other bits: " + (
                ", ".join(again.changed) + " changed since" if again.changed else "nothing in its record explains it"))
            self.words.setText(f"Run {one.id} {said}.")
            self.reopened.emit(again.run, f"kept run {one.id}, {one.name}: {said}")

        self._later("Run again", lambda: run_again(project, one), then)

    def retest(self) -> None:
        """Run the marked record on the training span as it reaches now."""
        found = self._marked()
        if not found:
            return
        one, project = found[0], self.session.project

        def then(made: Retest) -> None:
            self._border = made.border
            self._compare([("before", made.before), ("with newer history", made.after)])
            self.words.setText(f"Run {one.id} retested; the dotted line marks where its data ended.")

        self._later("Retest", lambda: retest(project, one), then)

    def compare_marked(self) -> None:
        """Overlay the marked runs and set their measures and trades side by side."""
        found = self._marked()[:MOST]
        project = self.session.project
        if len(found) < 2:
            self.words.setText("Mark at least two runs with Ctrl or Shift to compare them.")
            return

        def then(runs: list[tuple[str, Run]]) -> None:
            self._border = 0
            self._compare(runs)
            self.words.setText(f"{len(runs)} runs compared; differences are to the first, {runs[0][0]}.")

        self._later("Compare runs", lambda: [(f"run {r.id}", run_again(project, r).run) for r in found], then)

    def _compare(self, runs: list[tuple[str, Run]]) -> None:
        self.compared = runs
        self._show_comparison()

    def _show_comparison(self) -> None:
        at = self.view.value
        parts: tuple[QWidget, ...] = (self.chart, self.figures, self.trades)
        for i, part in enumerate(parts):
            part.setVisible(i == at)
        if not self.compared:
            return
        curves = [Curve(r.bars.end[r.first:r.last] / 1e9, r.net - r.brief.capital, TOKENS[i], 1.8 if i == 0 else 1.2, name)
                  for i, (name, r) in enumerate(self.compared)]
        self.chart.show_curves(curves, marks=[(self._border / 1e9, "data ended here")] if self._border else None)
        values = [measure(Facts.of(r)) for _, r in self.compared]
        columns = [Column("measure", lambda m: m["title"], width=180, hover=lambda m: BY_KEY[m["key"]].tip)]
        for i, (name, r) in enumerate(self.compared):
            columns.append(Column(name, lambda m, i=i: m["values"][i], lambda m, i=i: worded(m["key"], m["values"][i]),
                                  "right", 104, tip=f"{r.strategy.name}, {interval_words(r.bars.interval)}, {r.brief.span}",
                                  figure=KEPT["run.measure"], hover=lambda m: BY_KEY[m["key"]].tip))
            if i:
                columns.append(Column("difference", lambda m, i=i: m["values"][i] - m["values"][0],
                                      lambda m, i=i: worded(m["key"], m["values"][i] - m["values"][0], sign=True),
                                      "right", 92, figure=KEPT["run.difference"], hover=lambda m: BY_KEY[m["key"]].tip))
        self.figures.model.columns = columns
        for i, one in enumerate(columns):
            if i:
                self.figures.grid.horizontalHeader().resizeSection(i, one.width)
        self.figures.set_records([{"key": m.key, "title": m.title + (" (%)" if m.key == "max_drawdown_percent" else ""),
                                   "values": [v[m.key] for v in values]} for m in MEASURES])
        self.trades.set_records(self._differing())

    def _differing(self) -> list[dict[str, Any]]:
        first_name, first = self.compared[0]
        found: list[dict[str, Any]] = []
        for name, other in self.compared[1:]:
            for pair in match_runs(first, other, other).pairs:
                both = pair.standing == "both"
                if both and abs(pair.first_net - pair.second_net) < 0.005:
                    continue
                where = f"{first_name} and {name}" if both else f"{first_name if pair.first is not None else name} only"
                found.append({"time": np.datetime64(pair.entry_time, "ns"), "side": "long" if pair.side > 0 else "short",
                              "where": where, "first": pair.first_net, "second": pair.second_net})
        return found
