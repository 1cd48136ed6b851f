"""The measure as a surface over two numbers: the mouse turns it, pans with the middle button, zooms with the wheel."""

from __future__ import annotations

from importlib import resources
from typing import Any

import numpy as np
from PySide6.QtWidgets import QVBoxLayout, QWidget

from wolbrin.app.parts import column, label, row
from wolbrin.app.places.sweep.pictures.base import Picture, center_of, title_of, values_of
from wolbrin.app.places.sweep.pictures.maps import Chooser
from wolbrin.app.places.sweep.state import Seen
from wolbrin.app.session import Session
from wolbrin.app.theme.theme import FONT_FILES, SANS
from wolbrin.core.search.maps import MapSide, binned, map_of

MOST = 60  # values of an axis that are told apart


class Surface(Picture):
    """Drawn by matplotlib, which is read when it is first shown."""

    key, title = "surface", "Surface"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.boxes = [Chooser("Surface across"), Chooser("Surface up")]
        for box in self.boxes:
            box.currentIndexChanged.connect(lambda *_: self.draw(True))
        self._room = QWidget()
        self._room.setLayout(QVBoxLayout())
        room = self._room.layout()
        assert room is not None
        room.setContentsMargins(0, 0, 0, 0)
        self.setLayout(column(row(label("across", "muted"), self.boxes[0], label("up", "muted"), self.boxes[1],
                                  label("drag turns, the middle button pans, the wheel zooms", "small"), None),
                              self._room, spacing=2))
        self.canvas: Any = None
        self._axes: Any = None
        self._view = (32.0, -60.0)
        session.theme.changed.connect(lambda: self.draw(True))

    def offered(self, seen: Seen) -> bool:
        axes = seen.reading.request.axes
        return sum(len(a.values) > 1 for a in axes) > 1

    def _make(self) -> None:
        import matplotlib  # late
        from matplotlib.backends.backend_qtagg import FigureCanvasQTAgg  # late
        from matplotlib.figure import Figure  # late
        from matplotlib.font_manager import fontManager  # late

        for name in FONT_FILES:
            fontManager.addfont(str(resources.files("wolbrin.app.theme") / "fonts" / name))
        matplotlib.rcParams["font.family"] = SANS
        matplotlib.rcParams["text.parse_math"] = False  # names are shown as they are
        figure = Figure()
        self.canvas = FigureCanvasQTAgg(figure)
        self.canvas.setAccessibleName("Surface")
        self._axes = figure.add_subplot(projection="3d")
        self.canvas.mpl_connect("scroll_event", self._wheel)
        self.canvas.mpl_connect("button_release_event", self._turned)
        room = self._room.layout()
        assert room is not None
        room.addWidget(self.canvas)

    def _turned(self, event: Any) -> None:
        self._view = (self._axes.elev, self._axes.azim)

    def _wheel(self, event: Any) -> None:
        """Nearer or further."""
        factor = 0.9 if event.step > 0 else 1 / 0.9
        for get, put in ((self._axes.get_xlim3d, self._axes.set_xlim3d), (self._axes.get_ylim3d, self._axes.set_ylim3d),
                         (self._axes.get_zlim3d, self._axes.set_zlim3d)):
            low, high = get()
            middle, half = (low + high) / 2, (high - low) / 2 * factor
            put(middle - half, middle + half)
        self.canvas.draw_idle()

    def draw(self, fresh: bool) -> None:
        seen = self.seen
        if seen is None or not self.isVisible():
            return
        if self.canvas is None:
            self._make()
        from matplotlib.colors import LinearSegmentedColormap, TwoSlopeNorm  # late

        r, theme = seen.reading, self.session.theme
        axes = list(r.request.axes)
        order = np.argsort(-np.nan_to_num(np.array(r.importance.total)), kind="stable").tolist()
        for k, box in enumerate(self.boxes):
            box.fill(axes, order[k % len(axes)])
        x, y = (box.currentIndex() for box in self.boxes)
        if x == y:
            y = next((i for i in order if i != x), y)
        values = values_of(seen, self.measure)
        rows = seen.rows[r.at[seen.rows] >= 0]
        settings = r.settings[rows].copy()
        (settings[:, x], lx), (settings[:, y], ly) = (binned(settings[:, i], axes[i].values, MOST) for i in (x, y))
        across, up = MapSide(x, lx), MapSide(y, ly)
        table = map_of(settings, values[rows], across, up)
        t, plot = theme.tokens, self._axes
        plot.clear()
        plot.figure.set_facecolor(t.background)
        plot.set_facecolor(t.background)
        gx, gy = np.meshgrid(np.arange(across.size), np.arange(up.size))
        known = table[np.isfinite(table)]
        if known.size and min(table.shape) > 1:
            center = center_of(seen, self.measure, known)
            low, high = min(float(known.min()), center - 1e-9), max(float(known.max()), center + 1e-9)
            ramp = LinearSegmentedColormap.from_list("ramp", [t.loss, t.surface, t.gain])
            filled = np.where(np.isfinite(table), table, float(known.min()))
            plot.plot_surface(gx, gy, filled, facecolors=ramp(TwoSlopeNorm(center, low, high)(filled)), rstride=1, cstride=1,
                              shade=False, edgecolor=t.hairline, linewidth=0.4)
        if seen.chosen >= 0 and np.isfinite(values[seen.chosen]):
            at = [float(np.interp(r.settings[seen.chosen, i], levels, np.arange(len(levels))))
                  for i, levels in ((x, lx), (y, ly))]
            plot.scatter([at[0]], [at[1]], [values[seen.chosen]], color=t.accent, s=46, depthshade=False)
        for put, put_names, axis, levels in ((plot.set_xticks, plot.set_xticklabels, axes[x], lx),
                                             (plot.set_yticks, plot.set_yticklabels, axes[y], ly)):
            ticks = np.unique(np.linspace(0, len(levels) - 1, min(len(levels), 6)).astype(int))
            put(ticks.tolist())
            put_names([axis.shown(levels[i]) for i in ticks])
        plot.set_xlabel(axes[x].short, color=t.muted, fontsize=8)
        plot.set_ylabel(axes[y].short, color=t.muted, fontsize=8)
        plot.set_zlabel(title_of(seen, self.measure), color=t.muted, fontsize=8)
        plot.tick_params(colors=t.muted, labelsize=7)
        for side in (plot.xaxis, plot.yaxis, plot.zaxis):
            side.set_pane_color(t.surface)
            side.line.set_color(t.hairline)
        plot.view_init(*self._view)
        plot.set_box_aspect((1.7, 1.7, 0.9), zoom=1.15)
        plot.figure.subplots_adjust(left=0.0, right=1.0, bottom=0.06, top=1.0)
        self.canvas.draw_idle()

    def showEvent(self, event: Any) -> None:
        super().showEvent(event)
        self.draw(True)
