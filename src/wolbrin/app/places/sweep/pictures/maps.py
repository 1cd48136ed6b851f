"""Maps of a sweep: two numbers, four (two inside two), by year, by market."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtWidgets import QComboBox

from wolbrin.app.charts.cells import EMPTY, CellChart, Cells
from wolbrin.app.parts import button, column, label, row
from wolbrin.app.places.sweep.pictures.base import Picture, center_of, digits_of, title_of, values_of
from wolbrin.app.places.sweep.state import Seen
from wolbrin.app.session import Session
from wolbrin.core.errors import WolbrinError
from wolbrin.core.rules.axes import Axis
from wolbrin.core.search.maps import MapSide, binned, cells_of, edges_of, map_of
from wolbrin.core.work.sweep_results import SweepResult
from wolbrin.core.work.sweep_statistics import years_of

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
MOST_LEVELS, MOST_INSIDE = 80, 14  # values of an axis that are told apart on a map of two, and inside another number


def grid_of(columns: int, rows: int) -> Floats:
    """float64[rows * columns, 4]: cells of a plain grid on the unit square, row by row from below."""
    column_, row_ = np.meshgrid(np.arange(columns), np.arange(rows))
    x, y = column_.ravel() / columns, row_.ravel() / rows
    return np.stack([x, x + 1 / columns, y, y + 1 / rows], axis=1)


def _middles(names: list[str]) -> list[tuple[float, str]]:
    """Ticks in the middle of evenly spaced cells."""
    return [((i + 0.5) / len(names), text) for i, text in enumerate(names)]


def names_of(axis: Axis, levels: tuple[float, ...]) -> list[tuple[float, str]]:
    """Ticks of an axis in the middle of evenly spaced cells."""
    return _middles([axis.shown(v) for v in levels])


class Chooser(QComboBox):
    """A box of the sweep's axes."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.setMinimumContentsLength(12)
        self._by_hand = False
        self.activated.connect(lambda _: self._chosen_by_hand())

    def _chosen_by_hand(self) -> None:
        self._by_hand = True

    def fill(self, axes: list[Axis], at: int) -> None:
        """List axes and choose one, without telling; one that was chosen by hand stays."""
        names = [a.short for a in axes]
        self.blockSignals(True)
        if [self.itemText(i) for i in range(self.count())] != names:
            self._by_hand = False
            self.clear()
            self.addItems(names)
        if not self._by_hand:
            self.setCurrentIndex(min(at, len(names) - 1))
        self.blockSignals(False)


class _Map(Picture):
    """A chart of cells with boxes that say which number lies along which side."""

    sides: tuple[tuple[str, int], ...] = (("across", 0), ("up", 1))

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.chart = CellChart(session.theme, self.title)
        self.boxes = [Chooser(f"{self.title} {name}") for name, _ in self.sides]
        parts: list[Any] = []
        for box, (name, _) in zip(self.boxes, self.sides):
            box.currentIndexChanged.connect(lambda *_: self.draw(True))
            parts += [label(name, "muted"), box]
        self.setLayout(column(row(*parts, *self.more(), None), self.chart, spacing=4))
        self._cell_of: Ints = np.zeros(0, np.int64)
        self._rows: Ints = np.zeros(0, np.int64)
        self._drawn: tuple[Any, ...] = ()
        self.chart.picked.connect(self._picked)

    def draw(self, fresh: bool) -> None:
        """Draw the map; where only the choice has moved, only its ring."""
        seen = self.seen
        if seen is None:
            return
        self._fill(seen)
        state = seen.reading, seen.rows, self.measure, self.axes()
        if self._drawn and all(a is b for a, b in zip(state[:2], self._drawn)) and state[2:] == self._drawn[2:]:
            self.chart.choose(self._ring(seen))
            return
        self._drawn = state
        self.draw_map(seen, fresh)

    def draw_map(self, seen: Seen, fresh: bool) -> None:
        """Fill the chart."""
        raise NotImplementedError

    def settings(self, seen: Seen, rows: Ints, sides: list[tuple[int, int]]) -> tuple[Floats, dict[int, tuple[float, ...]]]:
        """Settings of some rows and the values along each axis, long axes in groups. sides: axis and how many groups."""
        axes, out, levels = seen.reading.request.axes, seen.reading.settings[rows].copy(), {}
        for i, most in sides:
            out[:, i], levels[i] = binned(out[:, i], axes[i].values, most)
        return out, levels

    def more(self) -> list[Any]:
        """Further controls."""
        return []

    @property
    def values(self) -> Floats:
        """What is shown, a value a cell."""
        return self.chart.cells.values

    def axes(self) -> list[int]:
        """Which axes the boxes choose."""
        return [box.currentIndex() for box in self.boxes]

    def _fill(self, seen: Seen) -> None:
        axes = list(seen.reading.request.axes)
        order = list(range(len(axes)))
        if seen.reading.importance is not None and len(axes) > len(self.boxes):
            total = np.nan_to_num(np.array(seen.reading.importance.total))
            order = np.argsort(-total, kind="stable").tolist()  # what decides most is shown first
        for box, (_, at) in zip(self.boxes, self.sides):
            box.fill(axes, order[at % len(axes)])

    def _picked(self, cell: int) -> None:
        """The best set of a cell, of those that are looked at."""
        seen = self.seen
        if seen is None:
            return
        rows = self._rows[self._cell_of == cell]
        if len(rows):
            score = np.where(np.isfinite(seen.reading.score[rows]), seen.reading.score[rows], -np.inf)
            self.picked.emit(int(rows[np.argmax(score)]))

    def _ring(self, seen: Seen) -> int:
        at = np.flatnonzero(self._rows == seen.chosen)
        return int(self._cell_of[at[0]]) if len(at) else -1


class MapOfTwo(_Map):
    """A measure over two numbers, the median over all others; coarse sets under fine ones."""

    key, title = "map", "Map of two"

    def __init__(self, session: Session) -> None:
        self.zoom = button("Zoom into the region", self._zoom, tip="Sweep the marked region with finer steps (Ctrl+Shift+Z)")
        super().__init__(session)
        self._region: dict[int, tuple[float, float]] = {}
        self.zoom.setEnabled(False)
        self.chart.marked.connect(self._marked)

    def more(self) -> list[Any]:
        return [self.zoom, label("drag over a region to mark it", "small")]

    def draw_map(self, seen: Seen, fresh: bool) -> None:
        x, y = self.axes()
        r, values = seen.reading, values_of(seen, self.measure)
        axes = r.request.axes
        if fresh:
            self._region = {}
        self.zoom.setEnabled(bool(self._region))
        fine = seen.rows[r.at[seen.rows] >= 0]
        coarse = seen.rows[r.at[seen.rows] < 0]
        layers = []
        if len(coarse):
            found = [tuple(np.unique(r.settings[coarse, i]).tolist()) for i in (x, y)]
            layers.append((coarse, found[0], found[1]))
        grouped, along = self.settings(seen, np.arange(len(r), dtype=np.int64), [(x, MOST_LEVELS), (y, MOST_LEVELS)])
        layers.append((fine, along[x], along[y]))
        low_x, high_x = min(edges_of(lx)[0] for _, lx, _ in layers), max(edges_of(lx)[-1] for _, lx, _ in layers)
        low_y, high_y = min(edges_of(ly)[0] for _, _, ly in layers), max(edges_of(ly)[-1] for _, _, ly in layers)
        plain = len(layers) == 1 and not all(self._even(v) for v in (along[x], along[y]))
        boxes, shown, names, outlined = [], [], [], []
        self._cell_of, self._rows, first = np.zeros(0, np.int64), np.zeros(0, np.int64), 0
        for rows, lx, ly in layers:
            across, up = MapSide(x, lx), MapSide(y, ly) if x != y else MapSide()
            shown_at = (grouped if rows is fine else r.settings)[rows]
            table = map_of(shown_at, values[rows], across, up).ravel()
            if plain:
                box = grid_of(across.size, up.size)
            else:
                ex = (edges_of(lx) - low_x) / (high_x - low_x)
                ey = (edges_of(ly) - low_y) / (high_y - low_y) if x != y else np.array([0.0, 1.0])
                gx, gy = np.meshgrid(np.arange(across.size), np.arange(up.size))
                box = np.stack([ex[gx.ravel()], ex[gx.ravel() + 1], ey[gy.ravel()], ey[gy.ravel() + 1]], axis=1)
            keep = np.isfinite(table) if rows is not fine else np.ones(len(table), bool)
            number = np.full(len(table), -1, np.int64)
            number[keep] = first + np.arange(int(keep.sum()))
            cells = cells_of(shown_at, across, up)
            self._cell_of = np.concatenate([self._cell_of, np.where(cells >= 0, number[np.maximum(cells, 0)], -1)])
            self._rows = np.concatenate([self._rows, rows])
            boxes.append(box[keep])
            shown.append(table[keep])
            label_y = [axes[y].shown(v) for v in ly] if x != y else [""]
            every = [f"{axes[x].shown(a)} \u00b7 {b}" if b else axes[x].shown(a) for b in label_y for a in
                     [*lx]]
            names += [n for n, k in zip(every, keep) if k]
            outlined.append(self._plateau(seen, rows, across, up)[keep] if rows is fine else np.zeros(int(keep.sum()), bool))
            first += int(keep.sum())
        whole = np.concatenate(shown)
        others = " (median over the other numbers)" if len(axes) > 2 else ""
        self._scale = None if plain else (low_x, high_x, low_y, high_y)
        lx, ly = layers[-1][1], layers[-1][2]
        ticks = (names_of(axes[x], lx), names_of(axes[y], ly) if x != y else []) if plain else (
            [((v - low_x) / (high_x - low_x), axes[x].shown(v)) for v in lx],
            [((v - low_y) / (high_y - low_y), axes[y].shown(v)) for v in ly] if x != y else [])
        title = f"{title_of(seen, self.measure)}{others}" + (f"; up: {axes[y].short}" if x != y else "")
        self.chart.show_cells(Cells(np.concatenate(boxes), whole, names, ticks[0], ticks[1], x_title=axes[x].short,
                                    y_title=title, outlined=np.concatenate(outlined), digits=digits_of(seen, self.measure),
                                    center=center_of(seen, self.measure, whole)), self._ring(seen), bool(self._region))

    @staticmethod
    def _even(values: tuple[float, ...]) -> bool:
        steps = np.diff(values)
        return len(steps) < 2 or bool(np.ptp(steps) <= 1e-6 * abs(steps).max())

    def _plateau(self, seen: Seen, rows: Ints, across: MapSide, up: MapSide) -> NDArray[np.bool_]:
        """Cells of the plateau around what is recommended: its neighbors."""
        r = seen.reading
        out = np.zeros(across.size * up.size, bool)
        if r.center >= 0 and r.at[r.center] >= 0:
            near = r.request.space.neighbors(r.at[r.center:r.center + 1])[0]
            cells = cells_of(r.request.space.values(near[near >= 0]), across, up)
            out[cells[cells >= 0]] = True
        return out

    def _marked(self, left: float, right: float, bottom: float, top: float) -> None:
        seen = self.seen
        if seen is None:
            return
        x, y = self.axes()
        axes = seen.reading.request.axes
        self._region = {}
        for i, low, high, at in ((x, left, right, 0), (y, bottom, top, 2)):
            levels = axes[i].values
            if self._scale is None:
                inside = [v for k, v in enumerate(levels) if low <= (k + 0.5) / len(levels) <= high]
            else:
                base, end = self._scale[at], self._scale[at + 1]
                inside = [v for v in levels if low <= (v - base) / (end - base) <= high]
            if inside and i not in self._region:
                self._region[i] = (inside[0], inside[-1])
        self.zoom.setEnabled(bool(self._region))

    def _zoom(self) -> None:
        if self._region:
            self.marked.emit(dict(self._region))


class MapOfFour(_Map):
    """Two numbers inside two others."""

    key, title = "four", "Map of four"
    sides = (("across", 0), ("inside", 1), ("up", 2), ("inside", 3))

    def offered(self, seen: Seen) -> bool:
        return len(seen.reading.request.axes) > 2

    def draw_map(self, seen: Seen, fresh: bool) -> None:
        outer_x, x, outer_y, y = self.axes()
        r, values = seen.reading, values_of(seen, self.measure)
        axes = r.request.axes
        rows = seen.rows[r.at[seen.rows] >= 0]
        if len({outer_x, x, outer_y, y}) < 4:  # three numbers, or one chosen twice
            y = y if y not in (outer_x, x) else next((i for i in range(len(axes)) if i not in (outer_x, x)), y)
            outer_y = -1
        settings, along = self.settings(seen, rows, [(i, MOST_INSIDE) for i in {outer_x, x, outer_y, y} if i >= 0])
        across = MapSide(x, along[x], outer_x, along[outer_x]) if outer_x != x else MapSide(x, along[x])
        up = MapSide(y, along[y], outer_y, along[outer_y]) if outer_y >= 0 else MapSide(y, along[y])
        table = map_of(settings, values[rows], across, up).ravel()
        self._rows, self._cell_of = rows, cells_of(settings, across, up)
        self.chart.show_cells(_nested(seen, self.measure, table, across, up), self._ring(seen))


def _nested(seen: Seen, measure: str, table: Floats, across: MapSide, up: MapSide, outer_names: list[str] | None = None,
            outer_title: str = "") -> Cells:
    """Cells of sides that have an inner and an outer number. outer_names: of the columns around, where they are no number."""
    axes = seen.reading.request.axes
    nx, ny = len(across.levels), len(up.levels)
    ox = outer_names or ([axes[across.outer].shown(v) for v in across.outer_levels] if across.outer >= 0 else [])
    oy = [axes[up.outer].shown(v) for v in up.outer_levels] if up.outer >= 0 else []
    inner_x = [axes[across.axis].shown(v) for v in across.levels]
    inner_y = [axes[up.axis].shown(v) for v in up.levels]
    columns, rows = [*inner_x] * max(1, len(ox)), [*inner_y] * max(1, len(oy))
    around_x = [o for o in ox for _ in inner_x] if ox else [""] * len(columns)
    around_y = [o for o in oy for _ in inner_y] if oy else [""] * len(rows)
    names = [" \u00b7 ".join(t for t in (cx, a, cy, b) if t) for cy, b in zip(around_y, rows)
             for cx, a in zip(around_x, columns)]
    titles = [axes[across.axis].short, *([outer_title or axes[across.outer].short] if ox else [])]
    up_titles = [axes[up.axis].short, *([axes[up.outer].short] if oy else [])]
    gaps = ([i * nx / len(columns) for i in range(1, len(ox))], [i * ny / len(rows) for i in range(1, len(oy))])
    return Cells(grid_of(len(columns), len(rows)), table, names, _middles(columns), _middles(rows), _middles(ox),
                 _middles(oy), " inside ".join(titles), f"{title_of(seen, measure)}; up: {' inside '.join(up_titles)}", None,
                 center_of(seen, measure, table), digits_of(seen, measure), gaps)


class ByYear(_Map):
    """Does the region stay where it is from year to year? Net profit of each year."""

    key, title = "years", "By year"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._known: tuple[SweepResult, list[int], Ints, Floats] | None = None
        self._asked: SweepResult | None = None
        self.result: SweepResult | None = None

    def offered(self, seen: Seen) -> bool:
        return len(seen.reading.request.space.numbers) > 0

    def draw_map(self, seen: Seen, fresh: bool) -> None:
        result = self.result
        if result is None:
            return
        if self._known is None or self._known[0] is not result or len(self._known[2]) < result.count * 0.9:
            self._ask(result)
        if self._known is None or self._known[0] is not result or not self._known[1]:
            self._drawn = ()
            self.chart.show_cells(EMPTY)
            return
        _, years, sets, table = self._known
        x, y = self.axes()
        axes = seen.reading.request.axes
        settings = seen.reading.request.space.values(sets)
        (settings[:, x], lx), (settings[:, y], ly) = (binned(settings[:, i], axes[i].values, MOST_INSIDE) for i in (x, y))
        across, up = MapSide(x, lx), MapSide(y, ly)
        parts = [map_of(settings, table[:, i], across, up) for i in range(len(years))]
        around = MapSide(x, across.levels, x, tuple(map(float, years)))
        cells = _nested(seen, "net", np.concatenate(parts, axis=1).ravel(), around, up, [str(v) for v in years], "year")
        at = seen.reading.at[seen.rows]
        rows = seen.rows[at >= 0]
        self._rows = rows
        inner = cells_of(self.settings(seen, rows, [(x, MOST_INSIDE), (y, MOST_INSIDE)])[0], across, up)
        wide = across.size * len(years)
        self._cell_of = np.where(inner >= 0, inner // across.size * wide + inner % across.size, -1)
        self.chart.show_cells(cells, self._ring(seen))

    def _picked(self, cell: int) -> None:
        seen, known = self.seen, self._known
        if seen is None or known is None:
            return
        x, _ = self.axes()
        inner = min(MOST_INSIDE, len(seen.reading.request.axes[x].values))
        wide = inner * len(known[1])
        super()._picked(cell // wide * wide + cell % wide % inner)

    def _ask(self, result: SweepResult) -> None:
        if self._asked is result or result.unfinished:
            return
        self._asked, project = result, self.session.project

        def work() -> Any:
            try:
                return years_of(project, result)
            except WolbrinError as err:
                return err

        def done(found: Any) -> None:
            self._asked = None
            if isinstance(found, WolbrinError):
                self.session.note(found.sentence(), "error")
            elif self.result is result:
                self._known = (result, *found)
                self._drawn = ()
                self.draw(True)

        self.session.compute("Results by year", work, done, "sweep years")


class ByPlace(_Map):
    """The same map for each market and interval."""

    key, title = "places", "By market"

    def offered(self, seen: Seen) -> bool:
        r = seen.reading.request
        return r.space.places > 0 and len(r.space.numbers) > 0

    def _fill(self, seen: Seen) -> None:
        axes = list(seen.reading.request.space.numbers)
        for box, (_, at) in zip(self.boxes, self.sides):
            box.fill(axes, at % len(axes))

    def draw_map(self, seen: Seen, fresh: bool) -> None:
        r, values = seen.reading, values_of(seen, self.measure)
        space = r.request.space
        x, y = (space.places + i for i in self.axes())
        axes = r.request.axes
        rows = seen.rows[r.at[seen.rows] >= 0]
        place = r.at[rows] // space.inner
        own, along = self.settings(seen, rows, [(x, MOST_INSIDE), (y, MOST_INSIDE)])
        settings = np.column_stack([own, place.astype(np.float64)])
        names = [" ".join(a.shown(v) for a, v in zip(axes, first)) for first in space.values(
            np.arange(len(r.request.places), dtype=np.int64) * space.inner)[:, :space.places].tolist()]
        across = MapSide(x, along[x], settings.shape[1] - 1, tuple(float(i) for i in range(len(names))))
        up = MapSide(y, along[y])
        self._rows, self._cell_of = rows, cells_of(settings, across, up)
        table = map_of(settings, values[rows], across, up).ravel()
        self.chart.show_cells(_nested(seen, self.measure, table, across, up, names, "market"), self._ring(seen))
