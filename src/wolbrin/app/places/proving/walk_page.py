"""Walk-forward under Proving: what is asked, and what came of it."""

from __future__ import annotations

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMenu, QSizePolicy, QSplitter, QStackedWidget, QWidget

from wolbrin.app.parts import Choice, Empty, button, column, label, link, row, stretch, tips
from wolbrin.app.places.proving.walk_kept import KeptWalks
from wolbrin.app.places.proving.walk_pictures import DriftPicture, EquityPicture, LengthsPicture
from wolbrin.app.places.proving.walk_setup import WalkSetup
from wolbrin.app.places.proving.walk_state import USUAL_SHUFFLES, WalkState
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine.run import Run
from wolbrin.core.figures.searches import WALKED, WALKS
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import number
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.dated import due_words, shown_values
from wolbrin.core.search.walked import FoldResult
from wolbrin.core.work.walk_grid import shown, title_of
from wolbrin.core.work.walk_reading import Walked
from wolbrin.core.work.walk_request import WalkRequest

ASK, RESULT = "ask", "result"
FILES = "Parquet (*.parquet);;CSV (*.csv);;XLSX (*.xlsx)"
TOLD = ("net", "t_daily", "return_drawdown", *WALKED)


def _sign(value: float) -> str | None:
    return "gain" if value > 0 else "loss" if value < 0 else None


def _columns(axes: tuple[Axis, ...]) -> list[Column]:
    """Columns of the table of folds."""
    def value_of(at: int) -> Column:
        axis = axes[at]
        return Column(axis.short, lambda t: t.fit.values[at] if t.fit.values is not None else float("nan"),
                      lambda t: axis.shown(t.fit.values[at]) if t.fit.values is not None else "none", "right",
                      min(150, 22 + 7 * len(axis.short)), tip=axis.title, figure=WALKS["walk.number"])

    def tested(t: FoldResult) -> str:
        return f"{t.fold.test_first:%d %b %y} \u2013 {t.fold.test_last:%d %b %y}"

    return [Column("tested", lambda t: t.fold.test_first, tested, width=166),
            Column("promised", lambda t: t.promised, lambda t: number(t.promised), "right", 78,
                   figure=WALKS["walk.promised"]),
            Column("test net", lambda t: t.net, lambda t: number(t.net), "right", 76, tint=lambda t: _sign(t.net), bold=True,
                   figure=WALKS["walk.net"]),
            Column("efficiency", lambda t: t.efficiency, lambda t: number(t.efficiency, 2), "right", 78,
                   figure=WALKS["walk.efficiency"]),
            Column("trades", lambda t: t.trades, lambda t: number(t.trades), "right", 58, figure=WALKS["walk.trades"]),
            *(value_of(i) for i in range(len(axes))),
            Column("trained from", lambda t: t.fold.training_first, lambda t: f"{t.fold.training_first:%d %b %Y}", width=96),
            Column("training net", lambda t: t.fit.net, lambda t: number(t.fit.net), "right", 92,
                   figure=WALKS["walk.training"])]


class WalkPage(QWidget):
    """Two pages: what is asked, and what came of it."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session, self.state = session, WalkState(session)
        state = self.state
        self.setup = WalkSetup(session)
        self.empty = Empty("No walk yet. Each fold fits the ticked numbers on a training span and trades the next with them; "
                           "nothing here sees the holdout.", "Set it up", lambda: self.show_page(ASK))
        self.choice = Choice([("Set up", ASK), ("Result", RESULT)], ASK, "Walk-forward page")
        self.choice.chosen.connect(lambda page: self.show_page(str(page)))
        self.title = label("", "heading")
        self.title.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.title.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        self.more = button("Go on", state.go_on, tip="Go on with this walk where it was")
        self.more.hide()
        self.keep = button("Keep dated strategy", state.keep_dated, tip="A new strategy with its dated numbers (Ctrl+K)")
        self.shelf = button("Keep on Shelf", state.keep_on_shelf)
        self._top = QWidget()
        kept = link("Walks \u2026", self.open_kept, tip="All walks of the project")
        further = link("More \u2026", self._menu, tip="Fit what is due, shuffled histories, files")
        self._top.setLayout(row(self.title, self.more, kept, further, self.keep, self.shelf, margins=(0, 0, 8, 0)))
        stretch(self._top, 0, 1)
        self._top.hide()
        self.sentence = label("", "heading", wrap=True)
        self.now = label("", "accent", wrap=True)
        self.figures = label("", "", wrap=True)
        self.words = label("", "small", wrap=True)
        self.equity, self.drift, self.lengths = EquityPicture(session), DriftPicture(session), LengthsPicture(session)
        self.lengths.picked.connect(state.choose)
        self.lengths.figure_chosen.connect(state.compare_by)
        self.pictures = QStackedWidget()
        for one in (self.equity, self.drift, self.lengths):
            self.pictures.addWidget(one)
        self.picture = Choice([("Equity", 0), ("Drift of numbers", 1), ("Grid of lengths", 2)], 0, "Picture")
        self.picture.chosen.connect(lambda at: self.show_picture(int(str(at))))
        self.table = Table(_columns(()), session.theme, "Folds of the walk")
        self._axes: tuple[Axis, ...] = ()
        upper, lower = QWidget(), QWidget()
        upper.setLayout(column(row(self.picture, None), self.pictures, spacing=4))
        lower.setLayout(column(self.table))
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(upper)
        split.addWidget(lower)
        split.setSizes([280, 190])
        split.setChildrenCollapsible(False)
        full = QWidget()
        full.setLayout(column(self.sentence, self.now, self.figures, self.words, split, margins=(0, 0, 8, 0), spacing=3))
        self._results = QStackedWidget()
        self._results.addWidget(self.empty)
        self._results.addWidget(full)
        self.pages = QStackedWidget()
        self.pages.addWidget(self.setup)
        self.pages.addWidget(self._results)
        line = row(self.choice, 12, self._top)
        line.setStretch(2, 1)
        self.setLayout(column(line, self.pages, spacing=6))
        self.setup.asked.connect(self._run)
        state.taken.connect(self._take)
        state.grown.connect(self._grown)
        state.was_read.connect(self._was_read)
        state.fold_read.connect(self._fold_read)
        state.judged.connect(self._grown)
        self.table.chosen.connect(state.look_at)
        state.restore()

    # Pages

    def show_page(self, page: str) -> None:
        """Show what is asked, or what came of it."""
        self.choice.set(page)
        self.pages.setCurrentIndex(0 if page == ASK else 1)
        self._top.setVisible(page == RESULT and self.state.result is not None)
        self._mark_ruler()

    def show_picture(self, at: int) -> None:
        """Show one of the pictures."""
        self.picture.set(at)
        self.pictures.setCurrentIndex(at)

    def start(self) -> None:
        """Walk what stands on the first page."""
        self.setup.run()

    def hideEvent(self, event: object) -> None:
        self.session.laid.show_folds(())
        super().hideEvent(event)  # type: ignore[arg-type]

    def showEvent(self, event: object) -> None:
        self._mark_ruler()
        super().showEvent(event)  # type: ignore[arg-type]

    def _mark_ruler(self) -> None:
        if self.choice.value == RESULT:
            walked = self.state.walked
            self.session.laid.show_folds(walked.layout.folds if walked is not None else ())

    def _run(self, request: WalkRequest, shuffles: int) -> None:
        if self.state.start(request, shuffles):
            self.show_page(RESULT)

    # What came of it

    def _take(self) -> None:
        result = self.state.result
        assert result is not None
        self._results.setCurrentIndex(1)
        for one in (self.sentence, self.now, self.figures, self.words):
            one.setText("")
        self.table.set_records([])
        self.setup.show_request(result.request)
        self.show_page(RESULT)
        self.show_picture(2 if len(result.request.cells) > 1 else 0)

    def _grown(self) -> None:
        result, state = self.state.result, self.state
        if result is None:
            return
        fits, spans = len(result.fits), len(result.request.spans)
        luck = f", {number(len(result.luck))} of {number(result.shuffles)} shuffled histories" if result.shuffles else ""
        progress = f"{number(fits)} of {number(spans)} fits{luck}"
        self.title.setText(result.request.title)
        self.title.setToolTip(f"{result.request.title}: {progress}")
        self.more.setVisible(state.unfinished)
        if state.grid is not None:
            whole = len(result.cells) + len(result.faults) == len(result.request.cells)
            self.lengths.show_grid(state.grid, state.looked_at, state.luck, whole)
        if state.walked is None and not state.fault:
            self.sentence.setText(f"{'Fitting' if state.running else 'Stopped'}: {progress}.")

    def _was_read(self) -> None:
        state, walked = self.state, self.state.walked
        if walked is None:
            self.sentence.setText(state.fault)
            for one in (self.now, self.figures, self.words):
                one.setText("")
            self.table.set_records([])
            self._mark_ruler()
            return
        sentence, *words = walked.words()
        lengths = walked.request.cells[walked.cell]
        self.sentence.setText(sentence)
        self.now.setText(self._now(walked))
        told = "; ".join(f"{title_of(k)} {shown(k, walked.figures[k])}" for k in TOLD)
        self.figures.setText(f"{lengths.words()[:1].upper()}{lengths.words()[1:]}. {told[:1].upper()}{told[1:]}.")
        self.figures.setToolTip(tips(*(BY_KEY.get(k) or WALKED[k] for k in TOLD)))
        self.words.setText(" ".join(words))
        self.words.setVisible(bool(words))
        axes = walked.request.sweep.axes
        if axes != self._axes:
            self._axes = axes
            self.table.set_columns(_columns(axes))
        self.table.set_records(list(walked.tested))
        self.equity.show_walk(walked)
        self.drift.show_walk(walked)
        if state.grid is not None:
            self.lengths.show_grid(state.grid, walked.cell, state.luck)
        self._mark_ruler()

    def _fold_read(self, fold: FoldResult, run: Run) -> None:
        """Draw the training of a fold before its test."""
        self.equity.show_training(fold, run)
        self.show_picture(0)

    @staticmethod
    def _now(walked: Walked) -> str:
        """Numbers in force now, and when the next fit is due."""
        schedule = walked.strategy.schedule
        if schedule is None:
            return ""
        now = schedule.now
        said = shown_values(walked.strategy, schedule, now.values) if now.values else "nothing fitted, nothing is entered"
        due = due_words(schedule)
        return f"In force from {now.first.day} {now.first:%b %Y}: {said}" + (f"; {due}." if due else ".")

    # What is done with it

    def _menu(self) -> None:
        menu, state = QMenu(self), self.state
        menu.addAction("Make the fits that are due for this walk", state.extend)
        menu.addAction(f"Make the fits that are due for {self.session.strategy.name}", state.extend_strategy)
        menu.addAction(f"Walk {USUAL_SHUFFLES} more shuffled histories", state.more_luck)
        menu.addAction("Write the folds to a file \u2026", self.export)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(self.cursor().pos())

    def export(self) -> None:
        """Write the folds to a file."""
        name, _ = QFileDialog.getSaveFileName(self, "Write the folds", "folds.parquet", FILES)
        if name:
            self.state.export(Path(name))

    def open_kept(self) -> None:
        """List the walks of the project."""
        KeptWalks(self, self.state).open_under(self._top)

