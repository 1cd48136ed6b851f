"""Treatment: rules that turn a source's rows into bars fit to test on. The rows themselves are never changed.

Rules work in a fixed order: trim, sessions, repeated stamps, contradictions, bars without a range, spikes. Nothing is
ever filled in.
"""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from wolbrin.core.errors import Door, UserError
from wolbrin.core.market.bars import Bars, day_number, make_bars
from wolbrin.core.market.intervals import DAILY
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.schedule import placed_daily
from wolbrin.core.market.sessions import session_table
from wolbrin.core.market.spikes import SPIKE_DEVIATIONS, Usual, find_spikes, learn_usual, spike_limits
from wolbrin.core.market.terms import WEEKDAYS, Terms, Weekday
from wolbrin.core.market.zones import to_local
from wolbrin.core.models import Model

Flags = NDArray[np.bool_]
NS_A_DAY = 86_400 * 10**9


class Treatment(Model):
    """What is done to a source before it is tested on. The defaults do no more than make the rows readable."""

    repeated: Literal["keep first", "keep last"] = "keep first"
    contradictions: Literal["leave out", "widen"] = Field(
        "leave out", description="bars whose high is not the highest or low not the lowest price")
    no_range: Literal["keep", "leave out", "leave out without volume"] = "keep"
    spikes: Literal["keep", "leave out", "cap"] = "keep"
    deviations: float = Field(SPIKE_DEVIATIONS, ge=3, le=1000, description="robust deviations that make a spike")
    first: dt.date | None = None
    last: dt.date | None = None
    without_sessions: tuple[int, ...] = Field((), description="sessions of the weekly schedule left out, from 0")
    without_days: tuple[Weekday, ...] = Field((), description="trading weekdays left out")

    @model_validator(mode="after")
    def _ordered(self) -> Treatment:
        if self.first and self.last and self.first > self.last:
            raise ValueError("the first day lies after the last")
        return self

    def words(self) -> str:
        """The rules in a sentence."""
        said = []
        if self.first or self.last:
            said.append(f"from {self.first or 'the start'} to {self.last or 'the end'}")
        if self.without_sessions or self.without_days:
            said.append("without " + ", ".join([*(f"session {i + 1}" for i in self.without_sessions), *self.without_days]))
        if self.no_range != "keep":
            said.append("no-range bars left out" + (" where no volume" if "volume" in self.no_range else ""))
        if self.spikes != "keep":
            said.append(f"spikes beyond {self.deviations:g} deviations {'capped' if self.spikes == 'cap' else 'left out'}")
        return ", ".join(said) or "as it came"


@dataclass(frozen=True)
class Change:
    """What one rule does: its name, bars left out or changed, and where (int64 rows of the source)."""

    rule: str
    effect: Literal["left out", "changed"]
    rows: NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.rows)


@dataclass(frozen=True)
class Treated:
    """A source after treatment. rows: int64[n], the source's row of each bar. usual: what spikes were judged by."""

    bars: Bars
    changes: tuple[Change, ...]
    rows: NDArray[np.int64]
    usual: Usual | None = None


def contradicting(raw: Raw) -> Flags:
    """bool[n]: high not the highest or low not the lowest of the four prices."""
    return (raw.high < np.maximum(raw.open, raw.close)) | (raw.low > np.minimum(raw.open, raw.close))


def session_rule_of(raw: Raw, terms: Terms) -> NDArray[np.int64]:
    """int64[n]: number of the weekly session that each row falls into, -1 for none or where a calendar rules."""
    out = np.full(len(raw), -1, np.int64)
    if terms.calendar or not len(raw):
        return out
    for number, rule in enumerate(terms.sessions):
        table = session_table(terms.model_copy(update={"sessions": (rule,), "closed": ()}), int(raw.time[0]),
                              int(raw.time[-1]))
        out[table.place(raw.time)[1]] = number
    return out


def treat(raw: Raw, terms: Terms, treatment: Treatment, source: str = "history", learned: Usual | None = None) -> Treated:
    """Apply the rules to a source's rows (in order of time) and make bars of what stays.

    learned: what is usual, where it was learned from other rows; learned from these when it is None.

    Raises:
        UserError: nothing is left, or a price is not a number.
    """
    if not len(raw):
        raise UserError("there are no bars in this history", source, "Choose another file.")
    if raw.interval == DAILY:
        raw = placed_daily(raw, terms)
    rows = np.arange(len(raw))
    keep = np.ones(len(raw), bool)
    changes: list[Change] = []

    def leave_out(rule: str, bad: Flags) -> None:
        hit = np.flatnonzero(bad & keep)
        if len(hit):
            keep[hit] = False
            changes.append(Change(rule, "left out", hit))

    if treatment.first or treatment.last:
        # Cut by trading date, as every span of the program is.
        local = trading_dates(raw, terms)
        outside = np.zeros(len(raw), bool)
        if treatment.first:
            outside |= local < day_number(treatment.first)
        if treatment.last:
            outside |= local > day_number(treatment.last)
        leave_out("trim to a span", outside)
    if treatment.without_sessions:
        leave_out("drop a session", np.isin(session_rule_of(raw, terms), treatment.without_sessions))
    if treatment.without_days:
        weekday = (trading_dates(raw, terms) + 3) % 7
        leave_out("drop weekdays", np.isin(weekday, [WEEKDAYS.index(d) for d in treatment.without_days]))
    again = np.append(False, raw.time[1:] == raw.time[:-1])
    if treatment.repeated == "keep last":
        again = np.append(raw.time[1:] == raw.time[:-1], False)
    leave_out("repeated stamps", again)
    high, low = raw.high, raw.low
    wrong = contradicting(raw)
    if treatment.contradictions == "widen" and wrong.any():
        high = np.maximum.reduce(raw.prices)
        low = np.minimum.reduce(raw.prices)
        changes.append(Change("contradicting prices", "changed", np.flatnonzero(wrong & keep)))
    else:
        leave_out("contradicting prices", wrong)
    if treatment.no_range != "keep":
        flat = high == low
        if treatment.no_range == "leave out without volume":
            flat &= raw.volume == 0
        leave_out("bars without a range", flat)
    part = Raw(raw.interval, raw.time, raw.open, high, low, raw.close, raw.volume, raw.end).take(keep)
    rows = rows[keep]
    usual = None
    if treatment.spikes != "keep" and len(part):
        usual = learned or learn_usual(part, terms)
        found = find_spikes(part, terms, treatment.deviations, usual)
        if treatment.spikes == "leave out":
            hit = np.zeros(len(part), bool)
            hit[found.rows] = True
            changes.append(Change("spikes", "left out", rows[hit]))
            part, rows = part.take(~hit), rows[~hit]
        else:
            floor, ceiling = spike_limits(part, terms, found)
            o, h, low_, c = (x.copy() for x in part.prices)
            for column in (o, h, low_, c):
                column[found.rows] = np.clip(column[found.rows], floor, ceiling)
            changes.append(Change("spikes", "changed", rows[found.rows]))
            part = Raw(part.interval, part.time, o, h, low_, c, part.volume, part.end)
    if not len(part):
        raise UserError("the treatment leaves no bar", source, "Take a rule back.",
                        Door(f"Change the treatment of {terms.code}", "treatment"))
    bars = make_bars(terms, part.interval, part.time, part.prices, part.volume, source, part.end)
    if len(bars) < len(part):
        rows = rows[np.searchsorted(part.time, bars.time)]
    return Treated(bars, tuple(c for c in changes if len(c)), rows, usual)


def trading_dates(raw: Raw, terms: Terms) -> NDArray[np.int64]:
    """int64[n]: trading date of each row (days since 1970), the local date where it lies outside every session."""
    table = session_table(terms, int(raw.time[0]), int(raw.time[-1]))
    at, inside = table.place(raw.time)
    dates = to_local(raw.time, terms.time_zone) // NS_A_DAY
    dates[inside] = table.trading_date[at[inside]]
    return dates
