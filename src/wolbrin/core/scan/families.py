"""Families of rows that only a scan reads, beside Discover's own: the clock of the week, and what other markets just did."""

from __future__ import annotations

from collections.abc import Iterable

from wolbrin.core.rules.model import Comparison, Condition, FieldOperand, IndicatorOperand, NumberOperand, Row
from wolbrin.core.search.catalogue_rows import rounded
from wolbrin.core.search.families import FAMILIES, WEEKDAYS
from wolbrin.core.search.ingredients import Digits, Family, Ingredient, Level, Node, Sources

HOURS = 24
BACK = (1, 2, 3, 5, 10, 20)
OVER = (5, 10, 20, 50, 100)
SHARES = (0.1, 0.25, 0.75, 0.9)
WEEK, LED = "week", "led"
CLOCK = frozenset({"clock", "weekday", "month", "session", WEEK})  # families that are one question of their own


def _week(sources: Sources) -> Iterable[Ingredient]:
    clock, weekday = IndicatorOperand(indicator="time_of_day"), IndicatorOperand(indicator="weekday")

    def of(digits: Digits, level: Level) -> Node | None:
        day, hour = digits
        from_on = Row(left=clock, compare="at or above", right=NumberOperand(value=float(hour * 100)))
        until = Row(left=clock, compare="below", right=NumberOperand(value=float((hour + 1) * 100)))
        on = Row(left=weekday, compare="equals", right=NumberOperand(value=float(day + 1)))
        return Condition(rows=(on, from_on, until))

    return [Ingredient("week:hour", "An hour of a weekday", (len(WEEKDAYS), HOURS), of)]


def _led(sources: Sources) -> Iterable[Ingredient]:
    def of_market(code: str) -> list[Ingredient]:
        close = FieldOperand(field="close", market=code)
        sides: tuple[Comparison, ...] = ("above", "below")

        def before(digits: Digits, level: Level) -> Node | None:
            return Row(left=close, compare=sides[digits[0]],
                       right=FieldOperand(field="close", market=code, ago=BACK[digits[1]]))

        extremes: tuple[Comparison, ...] = ("makes a new high", "makes a new low")

        def extreme(digits: Digits, level: Level) -> Node | None:
            return Row(left=close, compare=extremes[digits[0]], over=OVER[digits[1]])

        def moved(digits: Digits, level: Level) -> Node | None:
            series = IndicatorOperand(indicator="momentum", params={"length": float(BACK[digits[0]])}, market=code)
            value = level(series, SHARES[digits[1]])
            if value != value:
                return None
            return Row(left=series, compare="below" if SHARES[digits[1]] < 0.5 else "above",
                       right=NumberOperand(value=rounded(value)))

        return [Ingredient(f"led:{code}.before", f"{code} against its earlier price", (2, len(BACK)), before),
                Ingredient(f"led:{code}.extreme", f"New highs and lows of {code}", (2, len(OVER)), extreme),
                Ingredient(f"led:{code}.moved", f"Large moves of {code}", (len(BACK), len(SHARES)), moved)]

    return [one for code in sources.named for one in of_market(code)]


SCANNED: list[Family] = [*FAMILIES, Family(WEEK, "Hours of the week", 0.03, _week),
                         Family(LED, "What another market just did", 0.05, _led)]
TITLES = {f.key: f.title for f in SCANNED}


def searched_as(key: str) -> tuple[str, ...]:
    """The ingredients of a search that hold the rows of a scan's ingredient."""
    family = key.partition(":")[0]
    if family == WEEK:
        return ("weekday", "clock")
    return ("price", "markets") if family == LED else (key.casefold(),)
