"""Contract months joined into one continuous future.

A month is left for the next one at the start of a trading date: given dates, a number of trading dates before it expires, or
the day after the next month's volume first exceeds it; by open interest two days after, since that of a day is published on
the next. Where no expiry is given, days count from a month's last bar, and that is told. The series may stay
unadjusted (it jumps at every roll), or earlier months are moved so that it does not: by the difference of the two
closes on the last common trading date before the roll, or by their ratio. Differences keep profits in points exact and
may drive old prices below zero; ratios keep percentages. Back-adjustment as in R. Schwager, "A Complete Guide to the
Futures Market" (chapter on continuous futures); from memory.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import day_number, day_of
from wolbrin.core.market.raw import Raw, concatenated
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.treatment import trading_dates

RollBy = Literal["days before the last", "volume", "open interest", "dates"]
Adjust = Literal["unadjusted", "difference", "ratio"]


@dataclass(frozen=True)
class Month:
    """One contract month: its name, such as "2024-03", and its bars in order of time."""

    name: str
    raw: Raw


@dataclass(frozen=True)
class Rule:
    """days: trading dates before the month expires, for that rule. expiries: last day of each month by name; a month without
    one is counted from its last bar. dates: first trading date of each later month."""

    by: RollBy = "days before the last"
    adjust: Adjust = "difference"
    days: int = 3
    dates: tuple[dt.date, ...] = ()
    expiries: tuple[tuple[str, dt.date], ...] = ()


@dataclass(frozen=True)
class Roll:
    """One change of month. time: UTC ns of the first bar of the new month. difference: close of the new month less that
    of the old one on the last common trading date before; ratio: the same as a quotient."""

    time: int
    date: dt.date
    left: str
    entered: str
    difference: float
    ratio: float


@dataclass(frozen=True)
class Continuous:
    """The joined bars as they were traded, the rolls, the month of each bar as a number (int32[n]), and what is to be known
    of it, in sentences."""

    raw: Raw
    rolls: tuple[Roll, ...]
    month: NDArray[np.int32]
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class _Days:
    """A month by trading date: dates int64[d], last close, summed volume, last open interest, float64[d] each."""

    dates: NDArray[np.int64]
    close: NDArray[np.float64]
    volume: NDArray[np.float64]
    interest: NDArray[np.float64] | None


def _days(month: Month, terms: Terms) -> tuple[_Days, NDArray[np.int64]]:
    of_row = trading_dates(month.raw, terms)
    first = np.flatnonzero(np.append(True, of_row[1:] != of_row[:-1]))
    final = np.append(first[1:], len(of_row)) - 1
    interest = month.raw.open_interest
    return _Days(of_row[first], month.raw.close[final], np.add.reduceat(month.raw.volume, first),
                 None if interest is None else interest[final]), of_row


def _roll_date(old: _Days, new: _Days, rule: Rule, number: int, names: tuple[str, str]) -> int:
    """First trading date (days since 1970) on which the new month is used."""
    later = new.dates[new.dates > old.dates[0]]
    if rule.by == "dates":
        if number >= len(rule.dates):
            raise UserError(f"no date is given for the roll from {names[0]} to {names[1]}", "roll dates",
                            "Give one date for every change of month.")
        wanted = day_number(rule.dates[number])
    elif rule.by == "days before the last":
        expiry = dict(rule.expiries).get(names[0])
        last = len(old.dates) if expiry is None else int(np.searchsorted(old.dates, day_number(expiry), "right"))
        if not last:
            raise UserError(f"{names[0]} has no bar up to its expiry, {expiry}", "expiries", "Correct that date.")
        wanted = int(old.dates[max(0, last - 1 - max(0, rule.days))])
    else:
        a, b = (old.interest, new.interest) if rule.by == "open interest" else (old.volume, new.volume)
        if a is None or b is None:
            raise UserError(f"the months {names[0]} and {names[1]} have no open interest", "roll",
                            "Roll by volume or by date.")
        common, i, j = np.intersect1d(old.dates, new.dates, return_indices=True)
        above = np.flatnonzero(b[j] > a[i])
        # Volume is known at the day's end, so the next date is the first that can follow it; open interest a day later.
        dates = np.union1d(old.dates, new.dates)
        after = np.searchsorted(dates, common[above[0]], "right") + (rule.by == "open interest") if len(above) else len(dates)
        wanted = int(dates[after]) if after < len(dates) else int(old.dates[-1]) + 1
    usable = later[later >= wanted]
    if not len(usable):
        raise UserError(f"{names[1]} has no bar on or after the roll from {names[0]}", "roll",
                        "Choose another rule, or import more of that month.")
    return int(usable[0])


def _joint(old: _Days, new: _Days, date: int, names: tuple[str, str]) -> tuple[float, float]:
    common, i, j = np.intersect1d(old.dates, new.dates, return_indices=True)
    before = np.flatnonzero(common < date)
    if not len(before):
        raise UserError(f"{names[0]} and {names[1]} have no common trading date before the roll", "roll",
                        "Roll later, use unadjusted prices, or import more of the later month.")
    k = before[-1]
    return float(old.close[i[k]]), float(new.close[j[k]])


def join_months(months: list[Month], terms: Terms, rule: Rule, until: int | None = None) -> Continuous:
    """Join months, given in any order, into one series. Prices stay as they were traded; `adjusted` moves them.

    Args:
        until: UTC ns; no note is made of what comes after.
    Raises:
        UserError: fewer than two months, months that do not meet, a rule that lacks what it needs.
    """
    if len(months) < 2:
        raise UserError("a continuous future needs at least two contract months", terms.code, "Import more months.")
    if len({m.raw.interval for m in months}) > 1:
        raise UserError("the contract months have different bar intervals", terms.code, "Import them at one interval.")
    months = sorted(months, key=lambda m: int(m.raw.time[-1]))
    days = [_days(m, terms) for m in months]
    rolls: list[Roll] = []
    dates: list[int] = []
    for number, (a, b) in enumerate(pairwise(months)):
        names = a.name, b.name
        old, new = days[number][0], days[number + 1][0]
        date = _roll_date(old, new, rule, number, names)
        if dates and date <= dates[-1]:
            raise UserError(f"{a.name} would be left before it is entered", "roll", "Choose another rule.")
        if rule.adjust == "unadjusted":
            common = np.intersect1d(old.dates, new.dates)
            left, entered = _joint(old, new, date, names) if (common < date).any() else (np.nan, np.nan)
        else:
            left, entered = _joint(old, new, date, names)
        if rule.adjust == "ratio" and (left <= 0 or entered <= 0):
            raise UserError("prices at or below zero cannot be adjusted by ratio", f"{a.name}, {b.name}",
                            "Adjust by difference.")
        at = int(np.searchsorted(days[number + 1][1], date))
        rolls.append(Roll(int(b.raw.time[at]), day_of(date), a.name, b.name,
                          entered - left, entered / left if left else np.nan))
        dates.append(date)
    parts, month = [], []
    for number, one in enumerate(months):
        raw, of_row = one.raw, days[number][1]
        first = np.searchsorted(of_row, dates[number - 1]) if number else 0
        stop = np.searchsorted(of_row, dates[number]) if number < len(dates) else len(raw)
        parts.append(raw.take(slice(int(first), int(stop))))
        month.append(np.full(len(parts[-1]), number, np.int32))
    joined = concatenated(parts)
    return Continuous(_on_grid(joined, terms), tuple(rolls), np.concatenate(month),
                      _notes(months, joined, rolls, terms, rule, int(joined.time[-1]) + 1 if until is None else until))


def _notes(months: list[Month], joined: Raw, rolls: list[Roll], terms: Terms, rule: Rule,
           until: int) -> tuple[str, ...]:
    """What is to be known of a joined future, in sentences: how its rolls were set, and which prices are no traded ones."""
    notes = []
    if rule.by == "days before the last":
        untold = [m.name for m in months[:-1] if m.name not in dict(rule.expiries)]
        if untold:
            notes.append(f"{rule.days} trading dates are counted from the last bar of {', '.join(untold[:4])}"
                         f"{' ...' if len(untold) > 4 else ''}, since no expiry is given")
    joined = joined.take(joined.time < until)
    seams = [(r.time, r.difference, r.ratio) for r in rolls if r.time < until]
    if rule.adjust != "unadjusted" and seams and len(joined):
        moved = _moved(joined, seams, rule.adjust, until)
        prices = np.concatenate(moved.prices)
        ticks = prices / terms.tick_size
        off = int(np.count_nonzero(np.abs(ticks - np.round(ticks)) > 1e-6))
        if rule.adjust == "ratio" and off:
            notes.append(f"{off:,} of {len(prices):,} prices adjusted by ratio fall between ticks and are rounded to the "
                         f"grid")
        below = int(np.count_nonzero(moved.low <= 0))
        if below:
            notes.append(f"{below:,} of {len(joined):,} bars adjusted by {rule.adjust} have prices at or below zero: "
                         f"differences "
                         "between them are right, percentages of them are not")
    return tuple(notes)


def adjusted(raw: Raw, terms: Terms, rolls: Sequence[tuple[int, float, float]], adjust: Adjust, still: int) -> Raw:
    """Joined rows moved so that they do not jump at rolls.

    rolls: (UTC ns, difference, ratio), in order. still: UTC ns; prices of the month traded just before that instant stay,
    earlier months are moved toward it by the rolls between, and later months too. What comes after `still` therefore never
    moves what came before it.
    """
    return raw if adjust == "unadjusted" or not rolls else _on_grid(_moved(raw, rolls, adjust, still), terms)


def _moved(raw: Raw, rolls: Sequence[tuple[int, float, float]], adjust: Adjust, still: int) -> Raw:
    """Rows moved as `adjusted` does, before they are rounded to the grid."""
    moments = np.array([r[0] for r in rolls], np.int64)
    here = np.searchsorted(moments, raw.time, "right")  # rolls behind each row
    there = int(np.searchsorted(moments, still, "left"))
    if adjust == "ratio":
        level = np.concatenate(([1.0], np.cumprod([r[2] for r in rolls])))
        factor = (level[there] / level)[here]
        o, h, lo, c = (p * factor for p in raw.prices)
    else:
        level = np.concatenate(([0.0], np.cumsum([r[1] for r in rolls])))
        shift = (level[there] - level)[here]
        o, h, lo, c = (p + shift for p in raw.prices)
    return Raw(raw.interval, raw.time, o, h, lo, c, raw.volume, raw.end, raw.open_interest)


def _on_grid(raw: Raw, terms: Terms) -> Raw:
    """Prices rounded to the tick grid, since ratios leave it and sums gather the noise of floating point."""
    fraction = terms.tick_fraction
    up, down = float(fraction.denominator), float(fraction.numerator)
    o, h, lo, c = (np.round(p * up / down) * down / up for p in raw.prices)
    return Raw(raw.interval, raw.time, o, h, lo, c, raw.volume, raw.end, raw.open_interest)
