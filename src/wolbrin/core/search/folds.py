"""Folds of a walk-forward analysis (Pardo 2008): training and test spans that follow each other, by calendar or by trades.

A span of months or years is counted from the day it starts to the same day of another month, the month's last day where there
is none such; spans of a walk are all counted from one anchor, so that short months do not move the later ones.
"""

from __future__ import annotations

import calendar
import datetime as dt
import re
from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import count
from typing import Literal

from wolbrin.core.errors import UserError

Unit = Literal["days", "months", "years", "trades"]
UNITS: dict[str, Unit] = {"d": "days", "m": "months", "y": "years", "t": "trades"}
ONE = dt.timedelta(days=1)
MOST_FOLDS = 1000


@dataclass(frozen=True)
class Length:
    """How long a span is: so many calendar days, months, years, or trades of the strategy as it stands."""

    number: int
    unit: Unit

    @classmethod
    def parse(cls, text: str, where: str = "length") -> Length:
        """Read "24m", "2y", "90d", "40t". Raises UserError."""
        found = re.fullmatch(r"\s*(\d{1,6})\s*([dmyt])\w*\s*", text.lower())
        if found is None or not int(found[1]):
            raise UserError(f'"{text[:20]}" is no length', where, "Write days, months, years or trades: 90d, 24m, 2y, 40t.")
        return cls(int(found[1]), UNITS[found[2]])

    @property
    def short(self) -> str:
        """As it is written."""
        return f"{self.number}{self.unit[0]}"

    def words(self) -> str:
        return f"{self.number} {self.unit[:-1] if self.number == 1 else self.unit}"


@dataclass(frozen=True)
class Lengths:
    """How a walk is laid. gap: days, months or years between training and test, None for none. anchored: training always
    begins with the history. backward: laid from the end, so that the last test span is whole; else from the beginning."""

    training: Length
    test: Length
    gap: Length | None = None
    anchored: bool = False
    backward: bool = True

    def words(self) -> str:
        between = f", {self.gap.words()} apart" if self.gap is not None else ""
        how = "from the beginning" if self.anchored else "before it"
        return f"fitted on {self.training.words()} {how}, tested on {self.test.words()}{between}"


@dataclass(frozen=True)
class Fold:
    """One step of a walk: trading dates of training and of the test after it, first and last ones included."""

    training_first: dt.date
    training_last: dt.date
    test_first: dt.date
    test_last: dt.date


def moved(day: dt.date, months: int) -> dt.date:
    """The same day so many months later or earlier; the month's last where it has none such."""
    at = day.year * 12 + day.month - 1 + months
    year, month = divmod(at, 12)
    return dt.date(year, month + 1, min(day.day, calendar.monthrange(year, month + 1)[1]))


class Steps:
    """Moves along the calendar, or along trades. entries: trading dates of the trades' entries, sorted."""

    def __init__(self, entries: Sequence[dt.date] = ()) -> None:
        self._entries = list(entries)

    def later(self, day: dt.date, length: Length, times: int = 1) -> dt.date | None:
        """The day so many lengths after another; of trades, the day after the one on which the last of them is entered. None
        where there are not so many."""
        n = length.number * times
        if length.unit == "trades":
            at = bisect_left(self._entries, day) + n - 1
            return self._entries[at] + ONE if n and at < len(self._entries) else None
        return self._by_calendar(day, length, n)

    def earlier(self, day: dt.date, length: Length, times: int = 1) -> dt.date | None:
        """The day so many lengths before another; of trades, the one on which the first of them is entered. None where there
        are not so many."""
        n = length.number * times
        if length.unit == "trades":
            at = bisect_left(self._entries, day) - n
            return self._entries[at] if n and at >= 0 else None
        return self._by_calendar(day, length, -n)

    @staticmethod
    def _by_calendar(day: dt.date, length: Length, n: int) -> dt.date | None:
        try:
            if length.unit == "days":
                return day + dt.timedelta(days=n)
            return moved(day, n * (12 if length.unit == "years" else 1))
        except (OverflowError, ValueError):
            return None


def _fold(first: dt.date, begin: dt.date | None, end: dt.date | None, lengths: Lengths, steps: Steps) -> Fold | None:
    """The fold whose test span begins and ends (exclusive) on these days; None where its training does not fit."""
    if begin is None or end is None:
        return None
    fitted = begin if lengths.gap is None else steps.earlier(begin, lengths.gap)
    start = steps.earlier(fitted, lengths.training) if fitted is not None else None
    if start is not None and not lengths.backward:
        start = max(first, start)  # there is room by the way it is laid; a short month may count back a day too far
    if fitted is None or start is None or start < first:
        return None
    return Fold(first if lengths.anchored else start, fitted - ONE, begin, end - ONE)


def lay(first: dt.date, last: dt.date, lengths: Lengths, entries: Sequence[dt.date] = ()) -> list[Fold]:
    """Folds of a walk over trading dates first .. last, oldest first; their test spans follow each other without a hole.

    Args:
        entries: trading dates of the entries of the strategy as it stands, where lengths are of trades.
    Raises:
        UserError: not even one fold fits, or there would be more than MOST_FOLDS.
    """
    if lengths.gap is not None and lengths.gap.unit == "trades":
        raise UserError("a gap is of days, months or years", "gap", "Write it as 5d or 1m.")
    steps, found = Steps(sorted(entries)), list[Fold]()
    if lengths.backward:
        end: dt.date | None = last + ONE
        for k in count():
            begin = _edge(steps, last + ONE, end, lengths.test, k + 1)
            if (fold := _fold(first, begin, end, lengths, steps)) is None or _many(found):
                break
            found.append(fold)
            end = begin
        found.reverse()
    else:
        begin = steps.later(first, lengths.training)
        begin = steps.later(begin, lengths.gap) if begin is not None and lengths.gap is not None else begin
        anchor = begin
        for k in count():
            end = None if anchor is None or begin is None else (
                steps.later(begin, lengths.test) if lengths.test.unit == "trades" else
                steps.later(anchor, lengths.test, k + 1))
            fold = _fold(first, begin, end, lengths, steps)
            if fold is None or fold.test_last > last or _many(found):
                break
            found.append(fold)
            begin = end
    if not found:
        raise UserError(f"no fold fits: {lengths.words()} is more than the training span from {first} to {last} holds"
                        + (f" ({len(entries)} trades)" if "trades" in (lengths.training.unit, lengths.test.unit) else ""),
                        "walk-forward", "Shorten training or test.")
    return found


@dataclass(frozen=True)
class Ahead:
    """The fit after the last fold: its training, the first day of its numbers, and the day on which they are due to be fitted
    again; None where that is so many trades away."""

    training_first: dt.date
    training_last: dt.date
    first: dt.date
    due: dt.date | None


def ahead(begin: dt.date, first: dt.date, lengths: Lengths, entries: Sequence[dt.date] = (), anchor: dt.date | None = None,
          n: int = 1) -> Ahead | None:
    """The fit whose numbers are in force from `begin` on; None where its training does not fit behind the day `first`.

    anchor, n: the due day is so many test lengths after the anchor (`begin` where there is none).
    """
    steps = Steps(sorted(entries))
    due = None if lengths.test.unit == "trades" else steps.later(anchor or begin, lengths.test, n)
    fold = _fold(first, begin, due or begin + ONE, lengths, steps)
    return None if fold is None else Ahead(fold.training_first, fold.training_last, begin, due)


def _edge(steps: Steps, anchor: dt.date, end: dt.date | None, test: Length, k: int) -> dt.date | None:
    """Where the k-th test span from the end begins."""
    if end is None:
        return None
    return steps.earlier(end, test) if test.unit == "trades" else steps.earlier(anchor, test, k)


def _many(found: Sequence[Fold]) -> bool:
    if len(found) >= MOST_FOLDS:
        raise UserError(f"a walk has at most {MOST_FOLDS:,} folds", "walk-forward", "Test on longer spans.")
    return False
