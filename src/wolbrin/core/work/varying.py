"""Reading what is varied and how long spans are, as people write it on the command line and in Python."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace

from wolbrin.core.errors import UserError
from wolbrin.core.market.intervals import Interval
from wolbrin.core.market.terms import minutes_of
from wolbrin.core.rules.axes import MOST_VALUES, Axis
from wolbrin.core.rules.mirror import SIDES
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import Tunable, tunables
from wolbrin.core.search.folds import Length
from wolbrin.core.search.space import Constraint, key_of, parse_link

_TIME = r"\d{1,2}:\d{2}|\d{3,4}"
_TIMES = re.compile(rf"\s*({_TIME})\s*:\s*({_TIME})\s*:\s*([^:]+)")


def _number(text: str, clocked: bool) -> float:
    """A number as written; of a time of day 09:30 or 0930."""
    text = text.strip().replace("\u2212", "-")
    if not clocked:
        return float(text)
    return float(minutes_of(text if ":" in text else f"{text.zfill(4)[:2]}:{text.zfill(4)[2:]}"))


def _range_of(values: str, clocked: bool) -> list[str] | None:
    """From, to and step as written; None for a list of values. Raises ValueError."""
    if not clocked:
        return values.split(":") if ":" in values else None
    found = _TIMES.fullmatch(values)
    return None if found is None else list(found.groups())


def axis_of(text: str, known: dict[str, Tunable]) -> Axis:
    """Read KEY=FROM:TO:STEP or KEY=VALUE,VALUE; KEY is a key or a title. Times of day are written 09:30 or 0930, the
    step in minutes: 09:30:15:00:30.

    Raises:
        UserError: it cannot be read, or names no number.
    """
    name, _, values = text.partition("=")
    key = key_of(name, {k: t.title for k, t in known.items()}, "--vary")
    number = known[key]
    where = f"--vary {key}"
    example = "09:30:15:00:30 or 10:00,10:30" if number.clock else "10:50:5 or 10,20,30"
    try:
        spread = _range_of(values, number.clock)
        if spread is None:
            listed = sorted({_number(v, number.clock) for v in values.split(",") if v.strip()})
            if not listed:
                raise UserError("there is no value", where, f"Write for example {example}.")
            if any(v != v or abs(v) == float("inf") for v in listed):
                raise UserError("a range needs numbers", where, f"Write for example {example}.")
            if len(listed) > MOST_VALUES:
                raise UserError(f"{len(listed):,} values are too many for one number", where, "List fewer.")
            return Axis(key, number.title, tuple(listed), "clock" if number.clock else "number")
        low, high, step = spread
        return Axis.spread(key, number.title, _number(low, number.clock), _number(high, number.clock), float(step),
                           number.clock)
    except ValueError:
        raise UserError(f'"{values}" is not FROM:TO:STEP', where, f"Write for example {example}.") from None


def axes_of(strategy: Strategy, vary: Sequence[str], link: Sequence[str], markets: str, intervals: str,
            sides: str) -> tuple[Axis, ...]:
    """All axes that were asked for."""
    known = {t.key: t for t in tunables(strategy)}
    titles = {k: t.title for k, t in known.items()}
    axes = [axis_of(text, known) for text in vary]
    for text in link:
        key, found = parse_link(text, titles)
        at = next((i for i, a in enumerate(axes) if a.key == key), None)
        if at is None:
            raise UserError(f'"{titles[key]}" is not varied, so nothing can move with it', f"--link {text}",
                            "Vary it too, or link another number.")
        axes[at] = replace(axes[at], links=(*axes[at].links, found))
    if markets:
        codes = [c.strip() for c in markets.split(",") if c.strip()]
        axes.append(Axis.markets(list(dict.fromkeys(codes))))
    if intervals:
        axes.append(Axis.intervals([Interval.parse(i).code for i in intervals.split(",") if i.strip()]))
    if sides:
        wanted = [s.strip() for s in sides.split(",") if s.strip()]
        wrong = [s for s in wanted if s not in SIDES]
        if wrong:
            raise UserError(f'"{wrong[0]}" is no choice of sides', "--sides", f"There are {', '.join(SIDES)}.")
        axes.append(Axis.sides([s for s in SIDES if s in wanted]))
    return tuple(axes)


def constraints_of(strategy: Strategy, texts: Sequence[str]) -> tuple[Constraint, ...]:
    """All constraints that were asked for."""
    titles = {t.key: t.title for t in tunables(strategy)}
    return tuple(Constraint.parse(text, titles) for text in texts)


def lengths_of(text: str, where: str) -> tuple[Length, ...]:
    """Read "12m,24m". Raises UserError."""
    found = tuple(dict.fromkeys(Length.parse(part, where) for part in text.split(",") if part.strip()))
    if not found:
        raise UserError("no length is given", where, "Write for example 24m, or 12m,24m.")
    return found
