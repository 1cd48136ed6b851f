"""Whether rules know dates, or where their history began: what depends on either may know what came."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from wolbrin.core.bits import unpack
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.market.bars import Bars
from wolbrin.core.market.moved import YEARS, begun_later, years_on
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, Outcome, Shown
from wolbrin.core.rules.dated import undated
from wolbrin.core.rules.decide import BLOCKED, LONG_IN, LONG_OUT, SHORT_IN, SHORT_OUT, Decisions, decide
from wolbrin.core.rules.evaluate import operand_column, operands
from wolbrin.core.rules.mirror import effective_long, effective_short
from wolbrin.core.rules.model import PositionOperand, Strategy
from wolbrin.core.rules.operands import NumberOperand, Operand, leaves
from wolbrin.core.rules.words import operand_words

Flags = NDArray[np.bool_]
ROOM = 48 * 1024**2  # bytes of columns at hand
DAYS_A_MONTH = 30.44
FADING = 1_000  # bars after the later begin, in which averages forget
LEVELS = 5  # the first of the columns that orders need which is a level, not an ATR
FEWEST = 20  # bars that differ, below which no share is told
ROUNDING = 1e-9  # of the largest value of a series, within which two are alike
SEEN = 0.001  # of the bars that must differ for a series to be named
STUDY = "It can be traded and studied, and cannot stand."
NEAR = 1.001  # ticks, within which levels are alike; and by as much ATRs


class DatesSettings(Model):
    """later_months: how much later the history begins. most_different: share of the bars on which the rules say anything that
    may then say otherwise, since averages forget slowly; after the move of the calendar nothing may."""

    later_months: int = Field(7, ge=1, le=60, title="months later")
    most_different: float = Field(0.02, ge=0, le=0.5, title="share of signals that differ, at most")


@dataclass(frozen=True)
class Knows:
    """What rules know beyond prices and the clock: of how many bars on which they say anything they say otherwise when the
    calendar is moved, and when the history begins later (share of those compared), whether they say anything at all, and what
    depends on it, in words."""

    by_date: float
    by_begin: float
    says: bool = True
    dated: tuple[str, ...] = ()
    begun: tuple[str, ...] = ()


@dataclass(frozen=True)
class DatesGate(Gate):
    """Signals must come out the same 28 years on, when weekdays, dates of the year and clock changes recur, and when history
    begins some months later.

    Rules that know either may know what came: they may be traded and studied, and cannot stand. Common practice, no source.
    """

    options: DatesSettings = DatesSettings()
    key = "dates"
    title = "Dates"
    shown = (Shown("by_date", "differ by date", "percent", "share of signals that differ on the same bars 28 years on",
                   digits=1,
                   scale=100.0, better=-1),
             Shown("by_begin", "differ by begin", "percent", "share of signals that differ where the history begins some "
                   "months "
                   "later", digits=1, scale=100.0, better=-1))
    figure = "by_begin"
    setting = "most_different"

    def describe(self) -> str:
        return f"same signals {YEARS} years on"

    def asks_again(self, case: Case, figures: Mapping[str, float]) -> bool:
        return not case.unanswered()

    def judge(self, case: Case) -> Outcome:
        o = self.options
        found = what_it_knows(case, o.later_months)
        figures = {"by_date": found.by_date, "by_begin": found.by_begin}
        if not found.says:
            return self.unsure(case, "It never says anything.", figures)
        if found.by_date > 0:
            differ = f"{number(100 * found.by_date, 1)}% of its signals differ{_named(found.dated)}"
            return self.falls(case, f"Knows dates: moved by {YEARS} years, which keeps weekdays, dates of the year and the "
                              f"clock, {differ}. {STUDY}", figures)
        differ = f"{number(100 * found.by_begin, 1)}% of its signals differ"
        if found.by_begin > o.most_different:
            return self.falls(case, f"Knows where its history began: where that is {o.later_months} months later, {differ}"
                              f"{_named(found.begun)}. {STUDY}", figures)
        if words := case.unanswered():
            return self.unsure(case, f"{words}.", figures)
        return self.passes(case, f"Says the same when the calendar is moved by {YEARS} years; where the history begins "
                           f"{o.later_months} months later, {differ}.", figures)


def _named(parts: tuple[str, ...]) -> str:
    return f", by {', '.join(parts[:3])}" if parts else ""


def what_it_knows(case: Case, later_months: int) -> Knows:
    """Compare what a case's rules say on its history, on the same 28 years on, and on one that begins later."""
    strategy, bars = undated(case.strategy), case.history.bars
    columns = case.history.columns.over(bars, ROOM)
    said = decide(columns, strategy)
    asked, says = _operands(strategy), bool((said.words[:, :4] != 0).any() or (said.tables != 0).any())
    moved = columns.moved(years_on(bars), years_on)
    by_date = _differs(said, decide(moved, strategy), 0, 0, exactly=True)
    dated = _culprits(asked, columns, moved, 0, 0) if by_date > 0 else ()
    first = _later(bars, later_months)
    after = first + FADING
    if after >= len(bars):
        return Knows(by_date, 0.0, says, dated)
    later = columns.over(begun_later(bars, first), ROOM)
    again = decide(later, strategy)
    after = max(after, first + again.warm + FADING)
    by_begin = _differs(said, again, first, after, exactly=False)
    begun = _culprits(asked, columns, later, first, after) if by_begin > 0 else ()
    if not begun and not said.asked:  # values that are equal but for rounding say nothing of the begin
        by_begin = _differs(said, again, first, after, exactly=False, levels=True)
    return Knows(by_date, by_begin, says, dated, begun)


def _later(bars: Bars, months: int) -> int:
    """The first bar of a session so many months on, and no later than a third of the way."""
    dates = bars.trading_date
    if not len(bars):
        return 0
    at = min(int(np.searchsorted(dates, dates[0] + round(months * DAYS_A_MONTH))), len(bars) // 3)
    starts = np.flatnonzero(np.diff(bars.session, prepend=-1) != 0)
    return int(starts[np.searchsorted(starts, at, "right") - 1]) if len(starts) else 0


def _differs(said: Decisions, again: Decisions, first: int, after: int, exactly: bool, levels: bool = False) -> float:
    """Of the bars from `after` on, on which rules say anything one way or the other, the share on which they say otherwise;
    `again` begins at bar `first`. A few bars are no share, unless nothing may differ. levels: look only at what orders
    need."""
    one, two = unpack(said.words, said.size)[after:], unpack(again.words, again.size)[after - first:]
    signals = np.uint8(LONG_IN | SHORT_IN | LONG_OUT | SHORT_OUT)
    # An entry that a filter forbids is not said.
    one, two = (np.where(x & BLOCKED != 0, x & ~np.uint8(LONG_IN | SHORT_IN), x) & signals for x in (one, two))
    says, other = (one | two) != 0, one != two
    if len(said.tables):
        held, then = said.tables[:, after:], again.tables[:, after - first:]
        says = says | (held != 0).any(axis=0) | (then != 0).any(axis=0)
        other = other | (held != then).any(axis=0)
    if levels:
        other = np.zeros(len(one), bool)
    for column, (a, b) in enumerate(zip(said.needed, again.needed)):
        if a is not None and b is not None:
            other = other | says & _apart(a[after:], b[after - first:], column < LEVELS, exactly)
    count = int(other.sum())
    return count / max(1, int(says.sum())) if count >= (1 if exactly else FEWEST) else 0.0


def _apart(a: NDArray[np.float64], b: NDArray[np.float64], relative: bool, exactly: bool) -> Flags:
    """Where two columns differ; beyond what averages have not forgotten yet, unless exactly."""
    unknown = np.isnan(a) != np.isnan(b)
    with np.errstate(invalid="ignore"):
        room = 0.0 if exactly else np.abs(a) * (NEAR - 1.0) * 20 if relative else NEAR
        return unknown | (np.abs(a - b) > room)


def _operands(strategy: Strategy) -> list[Operand]:
    found: list[Operand] = []
    for side in (effective_long(strategy), effective_short(strategy)):
        for condition in (side.entry, side.exit):
            found += [part for o in operands(condition) for part in (o, *leaves(o))
                      if not isinstance(part, NumberOperand | PositionOperand)]
    return list({o.model_dump_json(): o for o in found}.values())


def _culprits(asked: Iterable[Operand], columns: Columns, others: Columns, first: int, after: int) -> tuple[str, ...]:
    """What is read that differs by more than rounding, in words."""
    out = []
    for operand in asked:
        a, b = operand_column(columns, operand)[after:], operand_column(others, operand)[after - first:]
        known = np.abs(a[np.isfinite(a)])
        with np.errstate(invalid="ignore"):
            apart = (np.isnan(a) != np.isnan(b)) | (np.abs(a - b) > ROUNDING * (known.max() if len(known) else 1.0))
        if len(a) and apart.mean() > (0.0 if not after else SEEN):
            out.append(operand_words(operand))
    return tuple(dict.fromkeys(out))
