"""What comes of a search: counts beside luck, what each floor rejected, the best so far, and the finds."""

from __future__ import annotations

import time
from typing import Any

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QCheckBox, QLabel, QScrollArea, QWidget

from wolbrin.app.candidates import Found
from wolbrin.app.charts.lines import Curve, CurveChart
from wolbrin.app.parts import button, column, label, row
from wolbrin.app.places.discover.rejections import Rejections
from wolbrin.app.places.discover.state import DiscoverState
from wolbrin.app.tables.kept import family_column, figure, figures, naming, tried_column, words_column
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.paged import PagedModel
from wolbrin.app.tables.view import Table
from wolbrin.core.figures.searches import FINDS
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.wording import number
from wolbrin.core.store.shelf import Line
from wolbrin.core.work.controls import percent_note

WIDTH = 346
HOW = {"informed": "by what a scan shows", "random": "drawn at random", "evolve": "by evolution"}
STRIP = 136  # pixels of what stands under the finds
IMPROVEMENTS = 6
TICK = 500  # milliseconds between two looks at the rate


def figure_over(value: QLabel, word: str) -> QWidget:
    """A large figure over its word."""
    made = QWidget()
    made.setLayout(column(value, label(word, "small"), spacing=0))
    return made


class ResultPage(QWidget):
    def __init__(self, state: DiscoverState) -> None:
        super().__init__()
        self.state = state
        s = state.session
        self.where = label("", wrap=True)
        self.where.setMinimumHeight(36)  # two lines: a word more must not push what is below
        self.tried, self.rate, self.kept = (label("0", "figure") for _ in range(3))
        self.seen = label("", wrap=True)
        self.seen.setAccessibleName("what was seen first")
        self.luck = label("", wrap=True)
        self.luck.setAccessibleName("what luck keeps")
        self.twins = label("", "small", wrap=True)
        self.more = button("Go on", state.go_on, tip="Go on with this search where it was")
        self.more.hide()
        self._best_shown: tuple[object, ...] = ()
        self.rejections = Rejections(s.theme)
        self.rejections.moved.connect(state.move_floors)
        self.best_name = label("", wrap=True)
        self.best_chart = CurveChart(s.theme, "equity of the best so far", time=False, zoom=False)
        self.best_chart.setFixedHeight(72)
        self.best_chart.few_ticks()
        self.best_chart.getAxis("bottom").setStyle(showValues=False)
        self.best_chart.setToolTip("Net equity over the training span, in account money")
        self.steps = label("", "small", wrap=True)
        self.curve_words = label("", "small", wrap=True)
        self.curve = CurveChart(s.theme, "share of finds that luck brings, by strength", time=False, zoom=False)
        self.curve.setFixedHeight(108)
        self._curve_title = label("Share by luck, %, of finds with t of at least", "heading")
        self.curve.setToolTip("Across: t of daily results at least. Up: of so many finds in 100 luck brings as many.")
        self._speed = figure_over(self.rate, "a second")
        self._counts = [figure_over(self.tried, "tried"), figure_over(self.kept, "kept")]
        self._fell_title, self._where = label("Fell first at", "heading"), ""
        inner = QWidget()
        inner.setLayout(column(
            self.where, row(*self._counts, self._speed, None, self.more, spacing=18),
            self.seen, self.luck, self.twins, 4, self._fell_title, self.rejections, 6, self._curve_title, self.curve,
            self.curve_words, None, spacing=4, margins=(0, 0, 8, 0)))
        left = QScrollArea()
        left.setWidgetResizable(True)
        left.setWidget(inner)
        left.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        left.setFixedWidth(WIDTH)
        self.title = label("Found in this search", "heading")
        self.all = QCheckBox("variants too")
        self.all.setToolTip("V: show every find, not only the one that represents each family")
        self.all.toggled.connect(state.show_variants)
        columns = [Column("", lambda r: r.ticked, width=26, kind="tick", key="ticked", tip="tick for Proving"),
                   *naming(name_width=250), family_column(), figure("t_daily"), self._luck_column(),
                   *(figure(key) for key in figures()[:3]), figure("return_drawdown"), tried_column(), words_column()]
        self.found = PagedModel(columns, s.theme, state.finds.lines)
        self.found.tick = self._tick
        self.table = Table(columns, s.theme, "Found candidates", filters=True, multi=True, model=self.found)
        self.said = label("", "small", wrap=True)
        self.said.setAccessibleName("what the scan had said of the chosen find")
        self._said_title = label("What the scan had said of the chosen find", "heading")
        best, steps, said = QWidget(), QWidget(), QWidget()
        said.setLayout(column(self._said_title, self.said, None, spacing=2))
        best.setLayout(column(label("Best so far", "heading"), self.best_name, self.best_chart, None, spacing=2))
        steps.setLayout(column(label("Improvements, newest first", "heading"), self.steps, None, spacing=2))
        strip = row(best, said, steps, spacing=18)
        for at, share in ((0, 3), (1, 4), (2, 3)):
            strip.setStretch(at, share)
        self._below = below = QWidget()
        below.setFixedHeight(STRIP)
        below.setLayout(strip)
        right = QWidget()
        right.setLayout(column(
            row(self.title, self.all, None, button("Sweep it", self.sweep, tip="S"),
                button("Exits", lambda: self.around("entry"), tip="E: keep its entry, find other exits"),
                button("Entry", lambda: self.around("exits"), tip="Keep its exits, find another entry"),
                button("Filter", lambda: self.around("both"), tip="F: keep both, find a filter"),
                button("Prove them", self.prove, main=True, tip="R: tick what represents each family, and run the line"),
                margins=(0, 0, 8, 0), spacing=5),
            self.table, below, spacing=4))
        line = row(left, right, spacing=14)
        line.setStretch(1, 1)
        self.setLayout(column(line))
        self.table.chosen.connect(self._choose)
        state.said.connect(self._tell)
        self.table.opened.connect(lambda _: self.open_chosen())
        self.found.asked.connect(lambda: state.finds.ask(*self.found.wanted()))
        state.finds.moved.connect(self._moved)
        state.grown.connect(self._grown)
        state.taken.connect(self._taken)
        state.curved.connect(self._curved)
        self._marks: list[tuple[float, int]] = []
        self._timer = QTimer(self, interval=TICK)
        self._timer.timeout.connect(self._rate_now)

    def _luck_column(self) -> Column:
        def share(record: Line) -> float:
            curve = self.state.curve
            name = record.market, record.interval, record.marks.number
            return 100.0 * curve.share_of(name) if curve is not None else float("nan")

        return Column("by luck %", share, lambda r: number(share(r)), "right", 66, figure=FINDS["find.by_luck"])

    # What is shown

    def _choose(self, line: Line) -> None:
        self.state.finds.show(line.id)
        self.state.tell_of(line)

    def _tell(self) -> None:
        self.said.setText("\n".join(self.state.told))

    def _taken(self) -> None:
        self._marks = []
        self.curve.show_curves([])
        self.curve_words.setText("")
        self.said.setText("")
        result = self.state.result
        self._said_title.setVisible(result is not None and result.request.method == "informed")

    def _rate_now(self) -> None:
        """Candidates a second over the last few seconds, on the real histories."""
        result = self.state.result
        if result is None or not self.state.running:
            self._timer.stop()
            return
        self._prepared()
        now = time.monotonic()
        self._marks = [m for m in self._marks if now - m[0] < 6.0] + [(now, result.tried)]
        spent = self._marks[-1][0] - self._marks[0][0]
        if spent > 0:
            self.rate.setText(number((self._marks[-1][1] - self._marks[0][1]) / spent))

    def _prepared(self) -> None:
        """What is done before anything is tried."""
        result, job = self.state.result, self.state.job
        words = job.doing() if job is not None and result is not None and not result.tried else ""
        self.where.setText(f"{self._where} {words}." if words else self._where)

    def _grown(self) -> None:
        result, state = self.state.result, self.state
        if result is None:
            return
        r = result.request
        on = ", ".join(f"{m} {interval_words(i)}" for m, i in r.places)
        if state.running and not self._timer.isActive():
            self._timer.start()
        if state.running:
            self._where = f"{on}: {HOW[r.method]}, seed {r.seed}, running."
            self._prepared()
        else:
            words = "Finished" if not result.unfinished else "Not finished"
            self.where.setText(f"{words} on {on}: {number(result.tried)} of {number(r.count * len(r.searched))} tried, from "
                               f"{number(result.rows)} conditions at first." + (f" {result.ended}." if result.ended else ""))
        begun = bool(result.tried) or not state.running
        for one in (*self._counts, self.rejections, self._fell_title, self._below):
            one.setVisible(begun)
        for one in (self._curve_title, self.curve, self.curve_words):
            one.setVisible(bool(begun and r.controls and result.kept))
        self.seen.setText(" ".join(f"{r.places[at][0]}: {s.words}." for at, s in sorted(result.scans.items())))
        self.seen.setVisible(bool(self.seen.text()))
        self._speed.setVisible(state.running and begun)
        self.more.setVisible(state.unfinished)
        self.tried.setText(number(result.tried))
        self.kept.setText(number(result.kept))
        self.luck.setText(self._luck_words())
        told = [f"{number(result.twins)} traded the same as another, {number(result.alike)} nearly so: the simpler was kept."
                ] if result.twins or result.alike else []
        if result.idle:
            told.append(f"{number(result.idle)} had parts that add nothing, which were left out.")
        self.twins.setText(" ".join(told))
        self.rejections.show_floors(result.floors)
        self.rejections.show_counts(result.few, result.rejected, result.met, result.tried)
        self._best()

    def _luck_words(self) -> str:
        result = self.state.result
        assert result is not None
        if not result.tried:
            return ""
        if result.request.controls and not all(c.tried for c in result.counts):
            return "The controls begin."
        if result.nothing:
            return f"{result.nothing}." if not self.state.running else "Nothing passed the floors yet."
        r = result.request
        percent = percent_note(self.state.session.project, r.places[0][0], r.limits, r.limits.flat, result.record)
        return result.luck.words + "." + (f" {percent}." if percent and r.controls else "")

    def _best(self) -> None:
        result = self.state.result
        assert result is not None
        best = result.best
        shown = result.search, best["name"] if best else "", best["spark"] if best else None, bool(result.tried)
        if shown == self._best_shown:
            return  # a chart costs the window more than all the counts together
        self._best_shown = shown
        if best is None:
            yet = " yet" if self.state.running else ""
            self.best_name.setText(f"Nothing came near the floors{yet}." if result.tried else "")
            self.best_chart.hide()
            self.steps.setText("")
            return
        say = result.request.objective
        short = "" if best["passed"] else " (came near, fell at a floor)"
        self.best_name.setText(f"{best['name']}: {say.words().partition(' (')[0]} {say.value_words(best['score'])}{short}")
        spark = np.array(best["spark"], np.float64)
        self.best_chart.show()
        self.best_chart.show_curves([Curve(np.arange(len(spark), dtype=np.float64), spark)])
        lines = []
        for one in list(result.improvements)[::-1][:IMPROVEMENTS]:
            gain = f", {number(one['by'], 2, sign=True)} over {one['over']}" if "over" in one else ""
            lines.append(f"After {number(one['tried'])}: {say.value_words(one['score'])}{gain}")
        self.steps.setText("\n".join(lines))

    def _curved(self) -> None:
        self._say(self.state.finds.found)
        curve = self.state.curve
        if curve is None or not curve.controls or not len(curve.found):
            self.curve.show_curves([])
            return
        level, count, share = curve.levels
        self.curve.show_curves([Curve(level, 100.0 * share, "accent", 1.8)])
        strong = np.flatnonzero(share <= 0.1)
        if len(strong):
            at = int(strong[0])
            text = (f"Of {number(count[at])} finds with t of at least {number(level[at], 1)}, luck brings one in "
                    "ten or fewer.")
        else:
            text = "However strong, luck brings more than one in ten of these finds."
        self.curve_words.setText(f"{curve.words}. {text}" if curve.words else text)
        self.table.grid.viewport().update()

    def _moved(self, found: Found) -> None:
        if found.same and self.found.add_beyond(found.ids, *self.table.in_view()):
            self._say(found)
            return

        def change() -> int | None:
            chosen = self.table.current()
            self.found.set_order(found.ids)
            return self.found.row_of(chosen.id) if chosen is not None else None

        self.table.keep_place(change)
        self._say(found)

    def _say(self, found: Found) -> None:
        shown = f"{number(len(found.ids))} of " if len(found.ids) < found.total else ""
        result = self.state.result
        known = result.kept * (len(result.request.places) if result.request.hold else 1) - found.total if result else 0
        before = f", {number(known)} on the Shelf before" if known > 0 and not self.state.running else ""
        families = self.state.families
        words = families.short if families is not None else ""
        of = f"{shown}{number(found.total)} found in this search{before}" if not words or self.state.variants else words
        self.title.setText(of)
        self.title.setToolTip(families.words if families is not None else "")

    # What is done

    def _tick(self, record: Line, on: bool) -> None:
        self.state.finds.tick(record.id, on)
        self.found.again()

    def _chosen(self) -> Any:
        chosen: Line | None = self.table.current()
        if chosen is None:
            self.state.session.note("Choose a candidate in the table first.", "caution")
        return chosen

    def open_chosen(self) -> None:
        """Make the chosen candidate the current strategy."""
        if (chosen := self._chosen()) is not None:
            self.state.finds.open(chosen.id)

    def sweep(self) -> None:
        """Take the chosen candidate to Sweep."""
        if (chosen := self._chosen()) is not None:
            self.state.finds.open(chosen.id, "sweep")

    def prove(self) -> None:
        """Tick the representatives of the families that were found, beside what is ticked, and let the line try to break each
        of them."""
        state, s = self.state, self.state.session
        if state.running:
            s.note("The search still runs: a verdict is for good, wait until it ends.", "caution")
            return
        families = state.families
        if families is None or not families.families:
            s.note("Nothing was found here that could be tried." if state.result is not None else "Run a search first.",
                   "caution")
            return
        s.tick([f.leads for f in families.families])
        s.laid.prove = True
        s.place_wanted.emit("proving")

    def around(self, keep: str) -> None:
        """Lay a search around the chosen candidate."""
        if (chosen := self._chosen()) is not None:
            self.state.finds.around(chosen.id, keep)
