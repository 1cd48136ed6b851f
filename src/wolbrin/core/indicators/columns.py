"""Indicator values of one history, each computed once and shared by everything that asks."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Iterable, Mapping
from threading import Lock

import numpy as np

from wolbrin.core.errors import Door, UserError
from wolbrin.core.indicators.catalogue import find, price_field
from wolbrin.core.indicators.fused import Wish, together
from wolbrin.core.indicators.model import Floats, Indicator
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.intervals import interval_words, to_interval

Key = tuple[object, ...]
Elsewhere = Callable[[str, int], Bars]


Own = Callable[[str, str, Mapping[str, float], Bars], Floats]


def no_other(market: str, interval: int) -> Bars:
    """Bars of other markets where there are none."""
    raise UserError(f"this history knows no other market {market}", market, "Run it in a project that holds that market.",
                    Door(f"Import {market}", "import"))


def no_own(name: str, digest: str, values: Mapping[str, float], bars: Bars) -> Floats:
    """Own indicators where there are none."""
    raise UserError(f'this history knows no own indicator "{name}"', name,
                    "Run it in a project that holds its file, confirmed.")


def _computed(entry: Indicator, bars: Bars, source: Floats, settings: dict[str, float]) -> tuple[Floats, ...]:
    """All outputs of an indicator. Raises UserError where the library that computes it refuses the settings."""
    try:
        return entry.compute(bars, source, settings)
    except Exception as err:
        if "TA_BAD_PARAM" not in str(err):  # TA-Lib has no exception of its own
            raise
        told = ", ".join(f"{p.title} {settings[p.key]:g}" for p in entry.params)
        raise UserError(f"{entry.title} cannot be computed with {told}", entry.title, "Choose others, such as " + ", ".join(
            f"{p.title} {p.low:g} to {p.high:g}" for p in entry.params) + ".") from None


class Columns:
    """Cache of float64[n] columns over one `Bars`; safe to share between threads.

    Values are pure functions of the bars, so two threads that compute the same column get the same bits. The least
    recently used columns go first once `budget` bytes are exceeded.
    """

    def __init__(self, bars: Bars, budget: int = 256 * 1024**2, elsewhere: Elsewhere = no_other,
                 own: Own = no_own) -> None:
        self.bars = bars
        self._budget = budget
        self._elsewhere = elsewhere
        self._own = own
        self._others: dict[tuple[str, int], tuple[Columns, np.ndarray]] = {}
        self._held: OrderedDict[Key, tuple[Floats, ...]] = OrderedDict()
        self.bytes_held = 0
        self._lock = Lock()

    def over(self, bars: Bars, budget: int | None = None) -> Columns:
        """Columns of other bars of this market, such as a beginning of these, with the same sources beside."""
        return Columns(bars, budget or self._budget, self._elsewhere, self._own)

    def moved(self, bars: Bars, move: Callable[[Bars], Bars]) -> Columns:
        """As `over`, with other markets moved in the same way."""
        return Columns(bars, self._budget, lambda market, interval: move(self._elsewhere(market, interval)), self._own)

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
                self.bytes_held += sum(a.nbytes for a in made)
                while self.bytes_held > self._budget and len(self._held) > 1:
                    _, old = self._held.popitem(last=False)
                    self.bytes_held -= sum(a.nbytes for a in old)
        return made

    def clear(self) -> int:
        """Let go of all columns, those of other series too; bytes that they took."""
        with self._lock:
            freed, others = self.bytes_held, [columns for columns, _ in self._others.values()]
            self._held.clear()
            self.bytes_held = 0
        return freed + sum(columns.clear() for columns in others)

    def weight(self) -> int:
        """Bytes of all columns at hand, those of other series too."""
        with self._lock:
            return self.bytes_held + sum(columns.weight() for columns, _ in self._others.values())

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
                           lambda: _computed(entry, self.bars, self.field(source), settings))
        return cached[names.index(output)]

    def together(self, wanted: Iterable[tuple[str, dict[str, float], str]], atr_lengths: Iterable[int]) -> None:
        """Compute what will be asked for in one pass a series, where that can be: averages and RSI (key, settings, price
        field) and ATR in ticks. What is at hand stays as it is."""
        wishes: dict[str, dict[Key, Wish]] = {"close": {}}
        for key, values, field in wanted:
            entry = find(key)
            settings = entry.defaults() | values
            source = field if entry.takes_field else "close"
            wishes.setdefault(source, {})[(key, tuple(sorted(settings.items())), source)] = Wish(
                key, int(settings["length"]))  # type: ignore[arg-type]
        for length in atr_lengths:
            wishes["close"]["atr ticks", length] = Wish("atr", length)
        for source, asked in wishes.items():
            with self._lock:
                missing = {key: wish for key, wish in asked.items() if key not in self._held}
            if len(missing) < 2:
                continue
            bars = self.bars
            series_of = np.ascontiguousarray(self.field(source), np.float64)
            made = together(series_of, list(missing.values()), (bars.h, bars.l, bars.c))
            for name, series in zip(missing, made):
                self._get(name, lambda series=series: (series,))

    def chained(self, key: str, values: dict[str, float], output: str, source: str, series: Callable[[], Floats]) -> Floats:
        """One output of a catalogue indicator over another series; `source` names that series in the cache."""
        entry = find(key)
        settings = entry.defaults() | values

        def make() -> tuple[Floats, ...]:
            x = series()
            if not np.isfinite(x).any():
                return tuple(np.full(len(x), np.nan) for _ in entry.outputs)
            return _computed(entry, self.bars, x, settings)

        cached = self._get((key, tuple(sorted(settings.items())), "of", source), make)
        return cached[[o.key for o in entry.outputs].index(output)]

    def own(self, name: str, digest: str, values: Mapping[str, float]) -> Floats:
        """An indicator of the user's own, float64[n]."""
        return self._get(("own", name, digest, tuple(sorted(values.items()))),
                         lambda: (self._own(name, digest, values, self.bars),))[0]

    def kept(self, key: Key, make: Callable[[], Floats]) -> Floats:
        """A column made by `make` once and kept under `key`."""
        return self._get(key, lambda: (make(),))[0]

    def other(self, market: str | None, interval: int | None) -> tuple[Columns, np.ndarray]:
        """Columns of another series, and for each bar here the index of its last closed bar (-1 before the first).

        A bar of a longer interval or of another market is known from the first bar here that closes at or after its end.
        Raises:
            UserError: the interval cannot be had, or there is no such market.
        """
        market, interval = market or self.bars.terms.code, interval or self.bars.interval
        key = market, interval
        with self._lock:
            if key in self._others:
                return self._others[key]
        own = self.bars.interval
        if market == self.bars.terms.code:
            if interval < own:
                raise UserError(f"{interval_words(interval)} is shorter than the {interval_words(own)} bars traded on",
                                market, "Read a longer interval, or trade on shorter bars.",
                                Door("Choose another interval", "interval"))
            bars = to_interval(self.bars, interval)
        else:
            bars = self._elsewhere(market, interval)
        at = np.searchsorted(bars.end, self.bars.end, "right") - 1
        made = Columns(bars, self._budget // 4, self._elsewhere, self._own), at
        with self._lock:
            return self._others.setdefault(key, made)

    def elsewhere_read(self) -> dict[str, str]:
        """Hashes of the other markets' bars that were read so far, by "market interval"."""
        with self._lock:
            others = [columns for (market, _), (columns, _) in self._others.items() if market != self.bars.terms.code]
        return {f"{c.bars.terms.code} {c.bars.interval}": c.bars.hash for c in others}

    def shifted(self, column: Floats, ago: int) -> Floats:
        """The column as it stood `ago` bars earlier, NaN before that."""
        if ago <= 0:
            return column
        out = np.full(len(column), np.nan)
        out[ago:] = column[:-ago] if ago < len(column) else out[ago:]
        return out

    def typical_atr(self, length: int, span: slice) -> float:
        """Median of ATR(length) in ticks over some bars; NaN where it has no value."""
        known = self.atr_ticks(length)[span]
        known = known[np.isfinite(known)]
        return float(np.median(known)) if len(known) else float("nan")

    def atr_ticks(self, length: int) -> Floats:
        """Wilder's ATR in ticks, float64[n], as the order distances use it."""
        bars = self.bars
        return self._get(("atr ticks", length),
                         lambda: (together(np.zeros(0), [Wish("atr", length)], (bars.h, bars.l, bars.c))[0],))[0]
