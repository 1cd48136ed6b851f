"""Indicator values of one history, each computed once and shared by everything that asks."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from threading import Lock
from typing import Protocol

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.indicators.catalogue import find, price_field
from wolbrin.core.indicators.kernels import wilder_atr
from wolbrin.core.indicators.model import Floats
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.intervals import interval_words, to_interval

Key = tuple[object, ...]
Elsewhere = Callable[[str, int], Bars]


class Asked(Protocol):
    """What an operand says of its series: an indicator with settings, or a price field; where from."""

    @property
    def kind(self) -> str: ...
    @property
    def interval(self) -> int | None: ...
    @property
    def market(self) -> str | None: ...


def no_other(market: str, interval: int) -> Bars:
    """Bars of other markets where there are none."""
    raise UserError(f"this history knows no other market {market}", market, "Run it in a project that holds that market.")


class Columns:
    """Cache of float64[n] columns over one `Bars`; safe to share between threads.

    Values are pure functions of the bars, so two threads that compute the same column get the same bits. The least
    recently used columns go first once `budget` bytes are exceeded.
    """

    def __init__(self, bars: Bars, budget: int = 512 * 1024**2, elsewhere: Elsewhere = no_other) -> None:
        self.bars = bars
        self._budget = budget
        self._elsewhere = elsewhere
        self._others: dict[tuple[str, int], tuple[Columns, np.ndarray]] = {}
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

    def values(self, asked: Asked) -> Floats:
        """The series an operand asks for, float64[n] at the close of each of these bars, its shift in time left out.

        A bar of a longer interval or of another market is known from the first bar here that closes at or after its end.
        Raises:
            UserError: the interval cannot be had, or there is no such market.
        """
        if asked.interval is None and asked.market in (None, self.bars.terms.code):
            return self._own(asked)
        other, at = self._other(asked.market or self.bars.terms.code, asked.interval or self.bars.interval)
        plain = asked.model_copy(update={"interval": None, "market": None})  # type: ignore[attr-defined]

        def aligned() -> tuple[Floats, ...]:
            values = np.append(other._own(plain), np.nan)
            return (values[at],)

        key = asked.model_copy(update={"times": 1.0, "ago": 0}).model_dump_json()  # type: ignore[attr-defined]
        return self._get(("elsewhere", key), aligned)[0]

    def _own(self, asked: Asked) -> Floats:
        if asked.kind == "field":
            return self.field(asked.field)  # type: ignore[attr-defined]
        i = asked
        return self.indicator(i.indicator, i.settings, i.output, i.source)  # type: ignore[attr-defined]

    def _other(self, market: str, interval: int) -> tuple[Columns, np.ndarray]:
        """Columns of another series, and for each bar here the index of its last closed bar (-1 before the first)."""
        key = market, interval
        with self._lock:
            if key in self._others:
                return self._others[key]
        own = self.bars.interval
        if market == self.bars.terms.code:
            if interval < own:
                raise UserError(f"{interval_words(interval)} is shorter than the {interval_words(own)} bars traded on",
                                market, "Read a longer interval, or trade on shorter bars.")
            bars = to_interval(self.bars, interval)
        else:
            bars = self._elsewhere(market, interval)
        at = np.searchsorted(bars.end, self.bars.end, "right") - 1
        made = Columns(bars, self._budget // 4), at
        with self._lock:
            return self._others.setdefault(key, made)

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
