"""The families of ingredients that Discover knows."""

from __future__ import annotations

from collections.abc import Iterable

from wolbrin.core.rules.model import Comparison, Condition, FieldOperand, IndicatorOperand, NumberOperand, Row
from wolbrin.core.rules.operands import CustomOperand
from wolbrin.core.search.catalogue_rows import (
    FOUR,
    MOVES,
    OVERS,
    RANKED,
    TIMES,
    lasting,
    of_group,
    of_series,
    places_of,
)
from wolbrin.core.search.ingredients import Digits, Family, Ingredient, Level, Node, Sources

LONGER = (5, 10, 15, 30, 60, 120, 240)  # minutes
HALF_HOURS = 48
LONGEST = 10  # half hours of a time of day
WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday")
MONTHS = 12
LATEST = 60  # bars into a session
BACK = (1, 2, 3, 5, 10, 20)
FIELDS = ("open", "high", "low", "close")


def longer_than(interval: int) -> tuple[int, ...]:
    """Longer intervals that a whole number of bars make."""
    return tuple(m for m in LONGER if interval > 0 and m > interval and m % interval == 0)


def _clock(half_hours: int) -> NumberOperand:
    m = min(half_hours * 30, 23 * 60 + 59)
    return NumberOperand(value=float(m // 60 * 100 + m % 60))


def _time_of_day(sources: Sources) -> Iterable[Ingredient]:
    clock, count = IndicatorOperand(indicator="time_of_day"), IndicatorOperand(indicator="bars_in_session")
    sides: tuple[Comparison, ...] = ("at or above", "at or below")

    def from_on(digits: Digits, level: Level) -> Node | None:
        return Row(left=clock, compare=sides[digits[0]], right=_clock(digits[1]))

    def between(digits: Digits, level: Level) -> Node | None:
        first, length = digits[0], digits[1] + 1
        return Row(left=clock, compare="between", right=_clock(first), upper=_clock(min(HALF_HOURS, first + length)))

    bars: tuple[Comparison, ...] = ("equals", "above", "at or below")

    def into(digits: Digits, level: Level) -> Node | None:
        return Row(left=count, compare=bars[digits[0]], right=NumberOperand(value=float(digits[1] + 1)))

    return [Ingredient("clock:from", "Before or after a time of day", (2, HALF_HOURS), from_on),
            Ingredient("clock:between", "Between two times of day", (HALF_HOURS, LONGEST), between),
            Ingredient("clock:bars", "Bars since the session's open", (3, LATEST), into)]


def _calendar(key: str, indicator: str, count: int, title: str) -> Iterable[Ingredient]:
    series = IndicatorOperand(indicator=indicator)

    def equals(digits: Digits, level: Level) -> Node | None:
        return Row(left=series, compare="equals", right=NumberOperand(value=float(digits[0] + 1)))

    def but(digits: Digits, level: Level) -> Node | None:
        row = Row(left=series, compare="equals", right=NumberOperand(value=float(digits[0] + 1)))
        return Condition(match="none", rows=(row,))

    pairs = [(first, last) for first in range(count) for last in range(first + 1, count)]

    def between(digits: Digits, level: Level) -> Node | None:
        first, last = pairs[digits[0]]
        return Row(left=series, compare="between", right=NumberOperand(value=float(first + 1)),
                   upper=NumberOperand(value=float(last + 1)))

    return [Ingredient(f"{key}:equals", title, (count,), equals),
            Ingredient(f"{key}:but", f"{title}, left out", (count,), but),
            Ingredient(f"{key}:between", f"{title}, from one to another", (len(pairs),), between)]


def _prices(sources: Sources) -> Iterable[Ingredient]:
    places: tuple[tuple[int | None, str | None], ...] = (
        (None, None), *((m, None) for m in sources.longer), *((None, m) for m in sources.others))

    def field(at: int, place: int, ago: int = 0) -> FieldOperand:
        interval, market = places[place]
        return FieldOperand(field=FIELDS[at], interval=interval, market=market, ago=ago)

    def against(digits: Digits, level: Level) -> Node | None:
        place, time, left, compare, right, back = digits
        return lasting(Row(left=field(left, place), compare=FOUR[compare], right=field(right, place, BACK[back])), time)

    groups = (MOVES[:2], MOVES[2:], RANKED)
    forms = tuple(f for group in groups for f in group)

    def alone(digits: Digits, level: Level) -> Node | None:
        place, time, at, form = digits
        row = forms[form](field(at, place), level)
        return lasting(row, time) if row is not None else None

    return [Ingredient("price:before", "A price against an earlier one",
                       (len(places), len(TIMES), len(FIELDS), len(FOUR), len(FIELDS), len(BACK)), against, 2,
                       places=places_of(len(places), sources)),
            Ingredient("price:move", f"A price's moves and extremes of {OVERS[0]} to {OVERS[-1]} bars",
                       (len(places), len(TIMES), len(FIELDS), len(forms)), alone, 2,
                       tuple(len(group) for group in groups), places_of(len(places), sources)),
            *of_group("price")(sources)]


def _library(sources: Sources) -> Iterable[Ingredient]:
    tags: dict[str, list[Node]] = {}
    for _, node, marks in sources.library:
        for tag in marks:
            tags.setdefault(tag.replace(" ", "-"), []).append(node)

    def of(nodes: tuple[Node, ...]) -> Ingredient:
        return Ingredient("", "", (len(nodes),), lambda digits, level: nodes[digits[0]])

    return [Ingredient(f"library:{tag}", f"Conditions tagged {tag}" if tag != "mine" else "My own conditions",
                       of(tuple(nodes)).shape, of(tuple(nodes)).make) for tag, nodes in tags.items()]


def _own(sources: Sources) -> Iterable[Ingredient]:
    return [of_series(f"own:{s.name}", f"{s.name}, my own", s) for s in sources.own if isinstance(s, CustomOperand)]


# To add a family: an entry here.
FAMILIES: list[Family] = [
    Family("average", "Averages", 0.10, of_group("average")),
    Family("channel", "Bands and channels", 0.08, of_group("channel")),
    Family("extreme", "Highest and lowest", 0.06, of_group("extreme")),
    Family("oscillator", "Oscillators", 0.14, of_group("oscillator")),
    Family("trend", "Trend strength and direction", 0.07, of_group("trend")),
    Family("volatility", "Volatility", 0.06, of_group("volatility")),
    Family("bar", "The bar itself", 0.06, of_group("bar")),
    Family("price", "Prices", 0.07, _prices),
    Family("session", "Session structure", 0.10, of_group("session")),
    Family("clock", "Time of day", 0.08, _time_of_day),
    Family("weekday", "Weekday", 0.03, lambda s: _calendar("weekday", "weekday", 5, "Weekday")),
    Family("month", "Month", 0.02, lambda s: _calendar("month", "month", MONTHS, "Month")),
    Family("structure", "Swings, sweeps and imbalances", 0.04, of_group("structure")),
    Family("volume", "Volume", 0.04, of_group("volume")),
    Family("candlestick", "Candlesticks", 0.03, of_group("candlestick")),
    Family("statistics", "Statistics", 0.02, of_group("statistics")),
    Family("cycle", "Cycles", 0.01, of_group("cycle")),
    Family("arithmetic", "Arithmetic of prices", 0.0, of_group("arithmetic")),
    Family("library", "The condition library", 0.10, _library),
    Family("own", "My own indicators", 0.04, _own),
]
