"""The sweep's table: one row a set, in one array of numbers."""

from __future__ import annotations

import math
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from wolbrin.app.places.sweep.state import Seen
from wolbrin.app.tables.model import Column
from wolbrin.core.figures.figure import Figure
from wolbrin.core.figures.searches import SWEEPS
from wolbrin.core.market.terms import Terms
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.rules.axes import Axis
from wolbrin.core.work.sweep_answer import order_of
from wolbrin.core.work.sweep_request import SweepRequest

Floats = NDArray[np.float64]
Unit = Literal["money", "percent", "points", "ticks"]
UNITS: tuple[Unit, ...] = ("money", "percent", "points", "ticks")
PIN = "\u25c6"


def per_money(unit: Unit, request: SweepRequest, terms: Terms, capital: float) -> float:
    """What one unit of account money is in a unit: percent of the capital; points or ticks of the quantity that the rules
    trade. NaN where it has no such value: the size varies, or another market's price converts it."""
    if unit == "money":
        return 1.0
    if unit == "percent":
        return 100.0 / capital
    if request.strategy.sizing.kind != "fixed" or terms.conversion_market or len(request.markets) > 1:
        return math.nan
    point = terms.point_value * terms.conversion_rate * float(request.strategy.quantity)
    return 1.0 / point if unit == "points" else 1.0 / (point * terms.tick_size)


def unit_name(unit: Unit, currency: str) -> str:
    """As it stands in a header."""
    return {"money": currency, "percent": "% of capital", "points": "points", "ticks": "ticks"}[unit]


def wide(title: str) -> int:
    """Pixels that a column of this title needs."""
    return max(84, 30 + 7 * len(title))


def _of_axis(i: int, axis: Axis) -> Column:
    return Column(axis.short, lambda r: float(r[i]), lambda r: axis.shown(float(r[i])), "right", wide(axis.short),
                  tip=axis.title, number=lambda v: axis.shown(v), figure=SWEEPS["sweep.axis"])


def _of_measure(i: int, key: str, factor: float, name: str, plain: bool) -> Column:
    m = BY_KEY[key]
    money = m.unit == "money"
    title = f"{m.title}, {name}" if money else f"{m.title}, %" if m.unit == "percent" else m.title

    def shown(v: float) -> str:
        if money and not plain:
            return number(v, 2 if factor < 0.1 else 1)
        return worded(key, v).removesuffix("%")

    tint = (lambda r: "gain" if r[i] > 0 else "loss") if key == "net" else None
    return Column(title, lambda r: float(r[i]), lambda r: shown(float(r[i])), "right", wide(title), tint,
                  number=shown, losses=m.better < 0, figure=m)


class Layout:
    """Columns of a sweep and the array they show. Column 0 is the pin; the last, which is not shown, the row's number."""

    def __init__(self, request: SweepRequest, unit: Unit, factor: float, currency: str) -> None:
        self.request, self.factor = request, factor
        say = request.objective.value_words
        columns: list[Column] = [Column("", lambda r: float(r[0]), lambda r: PIN if r[0] else "", "left", 26,
                                        lambda r: "accent", tip="pinned", number=lambda v: PIN if v else "")]
        columns += [_of_axis(1 + i, a) for i, a in enumerate(request.axes)]
        at = len(columns)
        name = unit_name(unit, currency)
        columns += [_of_measure(at + i, key, factor, name, unit == "money") for i, key in enumerate(request.measures)]
        self.plateau = len(columns) + (1 if request.objective.blended else 0)
        if request.objective.blended:
            columns.append(self._plain(self.plateau - 1, SWEEPS["sweep.score"], request.objective.words(), say))
        looked = request.objective.words()
        for key in ("sweep.half", "sweep.worst"):
            columns.append(self._plain(len(columns), SWEEPS[key], looked, say))
        self.columns = columns
        self.objective_column = (self.plateau - 1 if request.objective.blended
                                 else at + request.measures.index(request.objective.terms[0].key))
        self._money = [at + i for i, key in enumerate(request.measures) if BY_KEY[key].unit == "money"]
        self.better_down = BY_KEY[request.objective.terms[0].key].better >= 0 or request.objective.blended

    @staticmethod
    def _plain(i: int, figure: Figure, tip: str, say: Any) -> Column:
        return Column(figure.title, lambda r: float(r[i]), lambda r: "n/a" if math.isnan(r[i]) else say(float(r[i])), "right",
                      wide(figure.title), tip=tip, number=lambda v: "n/a" if math.isnan(v) else say(v), figure=figure)

    def array(self, seen: Seen) -> Floats:
        """float64[n, columns + 1]; only the best that the request keeps, and the pinned ones."""
        r = seen.reading
        pins = np.zeros(len(r))
        pins[list(seen.pinned)] = 1.0
        parts = [pins[:, None], r.settings, r.figures, *([r.score[:, None]] if self.request.objective.blended else []),
                 r.median[:, None], r.worst[:, None], np.arange(len(r), dtype=np.float64)[:, None]]
        made = np.hstack(parts)
        if self.factor != 1.0:
            made[:, self._money] *= self.factor
        if self.request.keep:
            rows = np.union1d(order_of(r), np.array(seen.pinned, np.int64))
            made = made[rows]
        return made


def row_number(row: Floats) -> int:
    """Which row of the reading a line of the table is."""
    return int(row[-1])


