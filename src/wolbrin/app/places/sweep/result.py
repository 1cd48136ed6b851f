"""A sweep's result: evidence above, pictures, the table beneath; all of one selection."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QFileDialog, QMenu, QSplitter, QStackedWidget, QWidget

from wolbrin.app.parts import Choice, button, column, label, link, row
from wolbrin.app.places.sweep.columns import UNITS, Layout, Unit, per_money, row_number, unit_name
from wolbrin.app.places.sweep.evidence import Evidence
from wolbrin.app.places.sweep.kept import KeptSweeps
from wolbrin.app.places.sweep.pictures.base import LOOKED, PLATEAU, Picture, title_of
from wolbrin.app.places.sweep.pictures.equity import Equity
from wolbrin.app.places.sweep.pictures.maps import ByPlace, ByYear, MapOfFour, MapOfTwo
from wolbrin.app.places.sweep.pictures.parallel import Parallel
from wolbrin.app.places.sweep.pictures.profile import Profile
from wolbrin.app.places.sweep.pictures.surface import Surface
from wolbrin.app.places.sweep.pictures.tradeoff import TradeOff
from wolbrin.app.places.sweep.state import Seen, SweepState
from wolbrin.app.tables.matrix import Arrangement, MatrixModel
from wolbrin.app.tables.view import Table
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import BY_KEY

PICTURES: tuple[type[Picture], ...] = (MapOfTwo, MapOfFour, Profile, Surface, ByYear, ByPlace, Parallel, TradeOff, Equity)
FILES = "Parquet (*.parquet);;CSV (*.csv);;XLSX (*.xlsx)"


class ResultPage(QWidget):
    """What came of the sweep that is shown."""

    def __init__(self, state: SweepState) -> None:
        super().__init__()
        self.state = state
        s = state.session
        self.title = label("", "heading")
        self.evidence = Evidence(state)
        self.pictures = [make(s) for make in PICTURES]
        self.by_key = {p.key: p for p in self.pictures}
        self.choice = Choice([(p.title, p.key) for p in self.pictures], "map", "Picture")
        self.choice.chosen.connect(lambda key: self.show_picture(str(key)))
        self.measure = QComboBox()
        self.measure.setAccessibleName("Measure shown")
        self.measure.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.measure.setMinimumContentsLength(13)
        self.measure.currentIndexChanged.connect(lambda *_: self.draw())
        self.stack = QStackedWidget()
        for one in self.pictures:
            self.stack.addWidget(one)
            one.picked.connect(self._picked)
            one.marked.connect(state.zoom)
            one.wanted.connect(self._wanted)
        self._layout: Layout | None = None
        self.rows = MatrixModel([], s.theme, lambda line: line, pins=0)
        self.table = Table([], s.theme, "Sweep results", filters=True, multi=True, model=self.rows)
        self.table.chosen.connect(lambda line: self._chosen())
        self.table.grid.selectionModel().selectionChanged.connect(lambda *_: self._chosen())
        self.unit = QComboBox()
        self.unit.setAccessibleName("Unit of money")
        self.unit.currentIndexChanged.connect(lambda *_: self._other_unit())
        self.unit.setMinimumWidth(100)
        self.more = button("Go on", state.go_on, tip="Go on with this sweep where it was")
        self.more.hide()
        self.market = QComboBox()
        self.market.setAccessibleName("Market judged")
        self.market.currentTextChanged.connect(lambda text: state.look_at(text) if text and text != state.market else None)
        self.top = row(self.title, self.market, self.more, 8,
                       link("Sweeps \u2026", self.open_kept, tip="All sweeps of the project (Ctrl+Shift+L)"),
                       button("Apply to the strategy", state.apply, tip="Use the chosen set's numbers (Ctrl+Shift+A)"),
                       button("Keep on Shelf", self.keep, tip="Ctrl+K"), margins=(0, 0, 8, 0))
        picture = QWidget()
        picture.setLayout(column(row(self.choice, self.measure), self.stack, spacing=4))
        lower = QWidget()
        self.shown = label("", "small")
        line = row(self.shown, None, label("money in", "muted"), self.unit,
                   link("Pin", self.pin, tip="Keep the chosen sets on top (P)"),
                   link("Files \u2026", self.files, tip="Pictures, export, numbers as files"))
        lower.setLayout(column(line, self.table, spacing=2))
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(picture)
        split.addWidget(lower)
        split.setSizes([330, 240])
        split.setChildrenCollapsible(False)
        whole = QSplitter(Qt.Orientation.Horizontal)
        whole.addWidget(split)
        whole.addWidget(self.evidence)
        whole.setSizes([800, 310])
        whole.setStretchFactor(0, 1)
        whole.setStretchFactor(1, 0)
        whole.setChildrenCollapsible(False)
        self.evidence.setMinimumWidth(240)
        self.setLayout(column(whole))
        state.taken.connect(self._take)
        state.grown.connect(self._grown)
        state.was_read.connect(self._was_read)
        state.seen_changed.connect(self._seen)
        self.rows.modelReset.connect(self._filtered)
        self.rows.layoutChanged.connect(self._filtered)
        self._quiet = False

    # Taking a sweep

    def _take(self) -> None:
        result = self.state.result
        assert result is not None
        r = result.request
        s = self.state.session
        for p in self.pictures:
            if isinstance(p, ByYear | Equity):
                p.result = result
            p.seen = None
        self.unit.blockSignals(True)
        self.unit.clear()
        currency = s.project_settings.currency
        for unit in UNITS:
            if np.isfinite(self._factor(unit)):
                self.unit.addItem(unit_name(unit, currency), unit)
        self.unit.blockSignals(False)
        self.market.blockSignals(True)
        self.market.clear()
        self.market.addItems(list(r.markets))
        self.market.setVisible(len(r.markets) > 1)
        self.market.blockSignals(False)
        self.measure.blockSignals(True)
        self.measure.clear()
        self.measure.addItem("what is looked for", LOOKED)
        self.measure.addItem("plateau score", PLATEAU)
        for key in r.measures:
            self.measure.addItem(BY_KEY[key].title, key)
        self.measure.blockSignals(False)
        self._columns()

    def _factor(self, unit: Unit) -> float:
        result, s = self.state.result, self.state.session
        assert result is not None
        capital = result.record.capital if result.record is not None else s.project_settings.capital
        entry = next((m for m in s.markets if m.code == result.request.markets[0]), None)
        if entry is None:
            return 1.0 if unit == "money" else float("nan")
        return per_money(unit, result.request, entry.terms, capital)

    def _columns(self) -> None:
        result = self.state.result
        assert result is not None
        unit: Unit = self.unit.currentData() or "money"
        self._layout = Layout(result.request, unit, self._factor(unit), self.state.session.project_settings.currency)
        self.table.set_columns(self._layout.columns, self._layout.objective_column, self._layout.better_down)

    def _other_unit(self) -> None:
        if self.state.result is not None:
            self._columns()
            self._fill()

    def _grown(self) -> None:
        result = self.state.result
        if result is None:
            return
        r = result.request
        several = len(r.places) > 1
        first = r.places[0]
        where = f"{len(r.markets)} markets" if len(r.markets) > 1 else first.market if several else (
            f"{first.market} {interval_words(first.interval)}")
        self.title.setText(f"{r.title} on {where}")
        self.more.setVisible(self.state.unfinished)

    def _was_read(self) -> None:
        self._fill()
        seen = self.state.seen
        if seen is not None:
            for i, p in enumerate(self.pictures):
                self.choice.group.button(i).setVisible(p.offered(seen))

    def _fill(self) -> None:
        """Fill the table beside the window."""
        seen, layout = self.state.seen, self._layout
        if seen is None or layout is None:
            return
        how = self.rows.arrangement()

        def work() -> tuple[np.ndarray, np.ndarray]:
            values = layout.array(seen)
            return values, how.of(values)

        def done(made: tuple[np.ndarray, np.ndarray]) -> None:
            if layout is self._layout and self.state.seen is not None and self.state.seen.reading is seen.reading:
                self._arranged(*made, how)

        self.state.session.compute("Sweep table", work, done, "sweep table")

    def _arranged(self, values: np.ndarray, order: np.ndarray, how: Arrangement) -> None:
        chosen = self.state.seen.chosen if self.state.seen is not None else -1

        def change() -> int | None:
            self._quiet = True
            self.rows.set_values(values, order, how)
            self._quiet = False
            return self._line_of(chosen)

        self.table.keep_place(change)
        self._filtered()

    def _line_of(self, chosen: int) -> int | None:
        if chosen < 0 or not len(self.rows.values):
            return None
        numbers = self.rows.values[np.asarray(self.rows.shown, int), -1] if len(self.rows.shown) else np.zeros(0)
        found = np.flatnonzero(numbers == chosen)
        return int(found[0]) if len(found) else None

    # One selection

    def _filtered(self) -> None:
        if self._quiet or not len(self.rows.values):
            return
        shown = np.asarray(self.rows.shown, int)
        rows = self.rows.values[shown, -1].astype(np.int64) if len(shown) else np.zeros(0, np.int64)
        self.state.filtered(rows)

    def _chosen(self) -> None:
        lines = self.table.marked()
        current = self.table.current()
        if current is not None:
            self.state.choose(row_number(current), tuple(row_number(line) for line in lines))

    def _picked(self, chosen: int) -> None:
        line = self._line_of(chosen)
        if line is None:  # it is filtered away; the pictures show it all the same
            self.state.choose(chosen)
            return
        self.table.choose(line)

    def _wanted(self, axis: int, text: str) -> None:
        """A filter that was drawn on a picture."""
        layout = self._layout
        if layout is not None:
            self.table.set_filter(1 + axis if axis >= 0 else layout.objective_column, text)

    def _seen(self) -> None:
        seen = self.state.seen
        if seen is None:
            return
        of = len(seen.reading)
        self.shown.setText(f"{len(seen.rows):,} of {of:,} sets" + (f", {len(seen.pinned)} pinned" if seen.pinned else ""))
        self.draw()

    # Pictures

    @property
    def picture(self) -> Picture:
        """The picture that is shown."""
        found = self.stack.currentWidget()
        assert isinstance(found, Picture)
        return found

    def show_picture(self, key: str) -> None:
        """Show another picture of the same sets."""
        self.choice.set(key)
        self.stack.setCurrentWidget(self.by_key[key])
        self.draw()

    def draw(self) -> None:
        """Draw the picture that is shown."""
        seen = self.state.seen
        if seen is not None and len(seen.reading):
            if not self.picture.offered(seen):
                self.show_picture("profile" if len(seen.reading.request.axes) == 1 else "map")
                return
            self.picture.show_seen(seen, self.measure.currentData() or LOOKED)

    def copy_picture(self) -> None:
        self.picture.copy()
        self.state.session.note("The picture is on the clipboard.")

    def save_picture(self) -> None:
        seen = self.state.seen
        if seen is not None:
            name = f"{self.picture.title} of {title_of(seen, self.measure.currentData())}.png"
            path, _ = QFileDialog.getSaveFileName(self, "Save the picture", name, "PNG (*.png)")
            if path:
                self.picture.write(Path(path))

    # Sets

    def marked_rows(self) -> tuple[int, ...]:
        """Rows that are marked in the table, else the chosen one."""
        seen: Seen | None = self.state.seen
        found = tuple(row_number(line) for line in self.table.marked())
        return found or ((seen.chosen,) if seen is not None and seen.chosen >= 0 else ())

    def pin(self) -> None:
        """Keep the marked sets on top, or let them go."""
        self.state.pin(self.marked_rows())
        self._fill()

    def keep(self) -> None:
        """Put the marked sets on the Shelf."""
        self.state.keep(self.marked_rows())

    def open_kept(self) -> None:
        """List the sweeps of the project."""
        KeptSweeps(self, self.state).open_under(self.title)

    def files(self) -> None:
        """Export, and sets of numbers as files."""
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.addAction("Copy the picture", self.copy_picture)
        menu.addAction("Save the picture \u2026", self.save_picture)
        menu.addSeparator()
        menu.addAction("Export all sets \u2026", self.export)
        menu.addAction("Save the chosen numbers \u2026", self.save_set)
        menu.addAction("Load numbers from a file \u2026", self.load_set)
        menu.popup(self.cursor().pos())

    def export(self) -> None:
        path, chosen = QFileDialog.getSaveFileName(self, "Export the sweep", f"{self.title.text()}.parquet", FILES)
        if path:
            target = Path(path)
            if not target.suffix:
                target = target.with_suffix({"P": ".parquet", "C": ".csv", "X": ".xlsx"}[chosen[:1]])
            self.state.export(target)

    def save_set(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Save the numbers", "numbers.json", "Numbers (*.json)")
        if path:
            self.state.save_set(Path(path))

    def load_set(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Load numbers", "", "Numbers (*.json)")
        if path:
            self.state.load_set(Path(path))
