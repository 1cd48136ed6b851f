"""Indicator values of one history, each computed once and shared by everything that asks."""

from __future__ import annotations

from collections import OrderedDict
from threading import Lock

import numpy as np

from wolbrin.core.indicators.catalogue import find, price_field
from wolbrin.core.indicators.kernels import wilder_atr
from wolbrin.core.indicators.model import Floats
from wolbrin.core.market.bars import Bars

Key = tuple[object, ...]


class Columns:
    """Cache of float64[n] columns over one `Bars`; safe to share between threads.

    Values are pure functions of the bars, so two threads that compute the same column get the same bits. The least
    recently used columns go first once `budget` bytes are exceeded.
    """

    def __init__(self, bars: Bars, budget: int = 512 * 1024**2) -> None:
        self.bars = bars
        self._budget = budget
        self._held: OrderedDict[Key, tuple[Floats, ...]] = OrderedDict()
        self._size = 0
        self._lock = Lock()

    def _get(self, key: Key, make: object) -> tuple[Floats, ...]:
        with self._lock:
            found = self._held.get(key)
            if found is not None:
                self._held.move_to_end(key)
                return found
        made: tuple[Floats, ...] = make()  # type: ignore[operator]
        with self._lock:
            if key not in self._held:
                self._held[key] = made
                self._size += sum(a.nbytes for a in made)
                while self._size > self._budget and len(self._held) > 1:
                    _, old = self._held.popitem(last=False)
                    self._size -= sum(a.nbytes for a in old)
        return made

    def field(self, name: str) -> Floats:
        """A price field, float64[n]."""
        if name in ("typical", "median"):
            return self._get(("field", name), lambda: (price_field(self.bars, name),))[0]
        return price_field(self.bars, name)

    def indicator(self, key: str, values: dict[str, float], output: str, field: str) -> Floats:
        """One output of a catalogue indicator, float64[n], NaN in warm-up."""
        entry = find(key)
        settings = entry.defaults() | values
        names = tuple(o.key for o in entry.outputs)
        source = field if entry.takes_field else "close"
        cached = self._get((key, tuple(sorted(settings.items())), source),
                           lambda: entry.compute(self.bars, self.field(source), settings))
        return cached[names.index(output)]

    def shifted(self, column: Floats, ago: int) -> Floats:
        """The column as it stood `ago` bars earlier, NaN before that."""
        if ago <= 0:
            return column
        out = np.full(len(column), np.nan)
        out[ago:] = column[:-ago] if ago < len(column) else out[ago:]
        return out

    def atr_ticks(self, length: int) -> Floats:
        """Wilder's ATR in ticks, float64[n], as the order distances use it."""
        return self._get(("atr ticks", length),
                         lambda: (wilder_atr(self.bars.h, self.bars.l, self.bars.c, length),))[0]
