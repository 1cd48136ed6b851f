"""Rows on every indicator of the catalogue: settings on ladders, and every comparison that its lines allow."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import cache

import numpy as np

from wolbrin.core.indicators.catalogue import CATALOGUE, CUMULATIVE
from wolbrin.core.indicators.model import Indicator, Output, Param
from wolbrin.core.rules.model import Comparison, FieldOperand, IndicatorOperand, NumberOperand, Operand, Row, When
from wolbrin.core.search.ingredients import Digits, Ingredient, Level, Node, Sources

LENGTHS = (2, 3, 5, 8, 10, 14, 20, 30, 50, 75, 100, 150, 200)
LADDER = 5  # values of a setting that is no length
OVERS = (5, 10, 20, 50, 100)
RANKS = tuple(range(10, 100, 10))
SHARES = tuple(round(0.05 * i, 2) for i in range(1, 20))
BAND = 0.2  # share of values between the two levels of a row that asks for both
TIMES: tuple[tuple[When, int, int], ...] = (
    ("now", 1, 0), ("held", 2, 0), ("held", 3, 0), ("held", 5, 0), ("within", 3, 0), ("within", 5, 0), ("within", 10, 0),
    ("now", 1, 1), ("now", 1, 2))
FOUR: tuple[Comparison, ...] = ("above", "below", "crosses above", "crosses below")
SIX: tuple[Comparison, ...] = (*FOUR, "at or above", "at or below")
HALF_GRID = 1e-9
# A form says what becomes of a series: a row, or None where there is no level.
Form = Callable[[Operand, Level], Row | None]


def rounded(value: float) -> float:
    """Three digits that count."""
    return float(f"{value:.3g}")


@cache
def ladder(param: Param) -> tuple[float, ...]:
    """Values of a setting: lengths of one ladder, so that conditions share columns; other numbers on a few of their steps."""
    low, high = max(param.low, param.step), param.high
    if param.whole and param.step == 1:
        return tuple(float(x) for x in LENGTHS if low <= x <= high) or (float(param.default),)
    steps = round((high - low) / param.step)
    if steps < 1:
        return (float(param.default),)
    at = sorted({round(steps * i / (LADDER - 1)) for i in range(LADDER)})
    return tuple(float(round(low + param.step * i, 6)) for i in at)


def lasting(row: Row, time: int) -> Row:
    """The row with a way to last in time."""
    when, bars, back = TIMES[time]
    return row if not time else row.model_copy(update={"when": when, "for_bars": bars, "back": back})


def _move(compare: Comparison) -> Form:
    return lambda series, level: Row(left=series, compare=compare)


def _extreme(compare: Comparison, over: int) -> Form:
    return lambda series, level: Row(left=series, compare=compare, over=over)


def _rank(compare: Comparison, over: int, rank: int) -> Form:
    return lambda series, level: Row(left=series, compare=compare, over=over, right=NumberOperand(value=float(rank)))


def _zero(compare: Comparison) -> Form:
    return lambda series, level: Row(left=series, compare=compare, right=NumberOperand(value=0.0))


def _level(compare: Comparison, share: float) -> Form:
    def made(series: Operand, level: Level) -> Row | None:
        value = level(series, share)
        if not np.isfinite(value):
            return None
        return Row(left=series, compare=compare, right=NumberOperand(value=rounded(value)))
    return made


def _between(share: float) -> Form:
    def made(series: Operand, level: Level) -> Row | None:
        low, high = level(series, share), level(series, share + BAND)
        if not np.isfinite(low) or not low < high:
            return None
        return Row(left=series, compare="between", right=NumberOperand(value=rounded(low)),
                   upper=NumberOperand(value=rounded(high)))
    return made


MOVES: tuple[Form, ...] = (*(_move(c) for c in ("rises", "falls")),
                           *(_extreme(c, n) for c in ("makes a new high", "makes a new low") for n in OVERS))
RANKED: tuple[Form, ...] = tuple(_rank(c, n, r) for c in ("ranks above", "ranks below") for n in (20, 50, 100, 200)
                                 for r in RANKS)
LEVELS: tuple[Form, ...] = (*(_level(c, s) for c in SIX for s in SHARES),
                            *(_between(s) for s in SHARES if s + BAND < 1.0))
ZERO: tuple[Form, ...] = tuple(_zero(c) for c in FOUR)
ABSOLUTE = frozenset((*LEVELS, *ZERO))
SIGNED = ("candle_",)  # values that say yes, no, or which way


Groups = tuple[tuple[Form, ...], ...]


def series_forms(nature: str) -> Groups:
    """Forms of a series that is no price, in groups that are asked alike."""
    split = len(SIX) * len(SHARES)
    return ((ZERO,) if nature == "centered" else ()) + (MOVES[:2], MOVES[2:], RANKED, LEVELS[:split], LEVELS[split:])


# Prices


def _field_like(series: IndicatorOperand, field: str) -> FieldOperand:
    return FieldOperand(field=field, market=series.market)


def _against(field: str, compare: Comparison) -> Form:
    def made(series: Operand, level: Level) -> Row | None:
        assert isinstance(series, IndicatorOperand)
        return Row(left=_field_like(series, field), compare=compare, right=series)
    return made


def _banded(compare: Comparison) -> Form:
    return lambda series, level: Row(left=_field_like(series, "close"), compare=compare, right=series)  # type: ignore[arg-type]


def price_forms(entry: Indicator, output: Output) -> Groups:
    """Forms of a line that is drawn on the price."""
    found: Groups = (tuple(_against("close", c) for c in FOUR),
                     (_against("high", "crosses above"), _against("low", "crosses below"), _against("open", "above"),
                      _against("open", "below")), (_move("rises"), _move("falls")))
    if {"upper", "lower"} <= {o.key for o in entry.outputs} and output.key == "upper":
        found += ((_banded("inside"), _banded("outside")),)
    return found


def _forms(entry: Indicator, output: Output) -> Groups:
    if entry.key.startswith(SIGNED):
        return (tuple(_zero(c) for c in ("above", "below")),)
    if output.nature == "price" and entry.on_price:
        return price_forms(entry, output)
    return series_forms(output.nature)


def _places(entry: Indicator, sources: Sources) -> tuple[tuple[int | None, str | None], ...]:
    """Interval and market at which an indicator is read, its own first."""
    own: tuple[tuple[int | None, str | None], ...] = ((None, None),)
    if entry.group in ("session", "time"):
        return own
    return own + tuple((m, None) for m in sources.longer) + tuple((None, m) for m in sources.others)


def places_of(count: int, sources: Sources) -> tuple[int, int]:
    """How many longer intervals and other markets a series of so many places has."""
    return (len(sources.longer), len(sources.others)) if count > 1 else (0, 0)


def _named(entry: Indicator, output: Output) -> tuple[str, str]:
    if len(entry.outputs) == 1:
        return f"{entry.group}:{entry.key}", entry.title
    return f"{entry.group}:{entry.key}.{output.key}", f"{entry.title}, {output.title}"


def of_indicator(entry: Indicator, output: Output, sources: Sources) -> Ingredient:
    """The rows on one line of an indicator."""
    groups = _forms(entry, output)
    forms = tuple(f for group in groups for f in group)
    places, ladders = _places(entry, sources), tuple(ladder(p) for p in entry.params)

    def make(digits: Digits, level: Level) -> Node | None:
        place, time, *settings, form = digits
        interval, market = places[place]
        params = {p.key: values[at] for p, values, at in zip(entry.params, ladders, settings)}
        if entry.key in CUMULATIVE and forms[form] in ABSOLUTE:
            return None  # where such a sum stands says where the history began
        series = IndicatorOperand(indicator=entry.key, output=output.key, params=params, interval=interval, market=market)
        row = forms[form](series, level)
        return lasting(row, time) if row is not None else None

    key, title = _named(entry, output)
    return Ingredient(key, title, (len(places), len(TIMES), *(len(v) for v in ladders), len(forms)), make, 2,
                      tuple(len(group) for group in groups), places_of(len(places), sources))


def of_pairs(entry: Indicator, output: Output, sources: Sources) -> Ingredient | None:
    """A line on the price against the same indicator of a longer length; None where it has none."""
    length = next((p for p in entry.params if p.key == "length"), None)
    if length is None or not (output.nature == "price" and entry.on_price):
        return None
    lengths = ladder(length)
    pairs = [(a, b) for i, a in enumerate(lengths) for b in lengths[i + 1:]]
    others = tuple(p for p in entry.params if p is not length)
    places, ladders = _places(entry, sources), tuple(ladder(p) for p in others)

    def make(digits: Digits, level: Level) -> Node | None:
        place, time, *settings, pair, compare = digits
        interval, market = places[place]
        params = {p.key: values[at] for p, values, at in zip(others, ladders, settings)}
        fast, slow = (IndicatorOperand(indicator=entry.key, output=output.key, params=params | {length.key: n},
                                       interval=interval, market=market) for n in pairs[pair])
        return lasting(Row(left=fast, compare=FOUR[compare], right=slow), time)

    key, title = _named(entry, output)
    return Ingredient(f"{key}.two", f"{title}, two of them",
                      (len(places), len(TIMES), *(len(v) for v in ladders), len(pairs), len(FOUR)), make, 2,
                      places=places_of(len(places), sources))


def of_group(group: str) -> Callable[[Sources], Iterable[Ingredient]]:
    """The rows on all indicators of a group."""
    def made(sources: Sources) -> Iterable[Ingredient]:
        for entry in CATALOGUE:
            for output in entry.outputs if entry.group == group else ():
                yield of_indicator(entry, output, sources)
                if (two := of_pairs(entry, output, sources)) is not None:
                    yield two
    return made


def of_series(key: str, title: str, series: Operand) -> Ingredient:
    """The rows on a series that is given, such as an indicator of the user's own."""
    groups = series_forms("unsigned")
    forms = tuple(f for group in groups for f in group)

    def make(digits: Digits, level: Level) -> Node | None:
        row = forms[digits[1]](series, level)
        return lasting(row, digits[0]) if row is not None else None
    return Ingredient(key, title, (len(TIMES), len(forms)), make, 1, tuple(len(group) for group in groups))
