"""What came of a walk-forward analysis: folds with what they were fitted to and what the tests brought (Pardo 2008)."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from wolbrin.core.measures.wording import number
from wolbrin.core.rules.axes import Axis, Values
from wolbrin.core.search.folds import Fold

Choice = Literal["center", "best"]
YEAR = 365.25
FAR = 1.0 / 3.0  # of a range: what two draws at random are apart on average, and so no neighborhood
SMALL = ("no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven", "twelve")


@dataclass(frozen=True)
class Fit:
    """What a training span chose. values: of each axis, None where no set passed or had a value; why: in words then. figures:
    of the chosen set on its training span, by measure. tried: sets that were looked at. near: by axis, the least and largest
    value that may stand in the chosen set and still reach half of it; what a drift is measured against."""

    first: dt.date
    last: dt.date
    values: Values | None
    figures: dict[str, float]
    score: float
    tried: int
    why: str = ""
    near: tuple[tuple[float, float], ...] = ()

    @property
    def net(self) -> float:
        """Net profit in training; 0 where nothing was chosen."""
        return self.figures.get("net", 0.0) if self.values is not None else 0.0


def years(first: dt.date, last: dt.date) -> float:
    """Length of a span, both days included."""
    return ((last - first).days + 1) / YEAR


@dataclass(frozen=True)
class FoldResult:
    """A fold, its fit, and what its test span brought: net profit marked to market, entries."""

    fold: Fold
    fit: Fit
    net: float
    trades: int

    @property
    def training_pace(self) -> float:
        """Training profit a year."""
        return self.fit.net / years(self.fit.first, self.fit.last)

    @property
    def pace(self) -> float:
        """Test profit a year."""
        return self.net / years(self.fold.test_first, self.fold.test_last)

    @property
    def promised(self) -> float:
        """What the test span would have brought at the pace of training."""
        return self.training_pace * years(self.fold.test_first, self.fold.test_last)

    @property
    def efficiency(self) -> float:
        """Test pace over training pace; NaN where training did not earn or nothing was fitted."""
        return self.pace / self.training_pace if self.fit.values is not None and self.training_pace > 0 else math.nan


@dataclass(frozen=True)
class Jump:
    """A number that two fits in a row put in distant regions. at: the second of the two folds."""

    axis: int
    at: int
    before: float
    after: float


def efficiency(tested: Sequence[FoldResult]) -> float:
    """Annualized test profit, summed over folds, over annualized training profit (Pardo 2008); folds that fitted nothing are
    left out. NaN where training did not earn."""
    some = [t for t in tested if t.fit.values is not None]
    training = sum(t.fit.net for t in some)
    if not some or training <= 0:
        return math.nan
    tests = sum(t.net for t in some) / sum(years(t.fold.test_first, t.fold.test_last) for t in some)
    return tests / (training / sum(years(t.fit.first, t.fit.last) for t in some))


def profitable(tested: Sequence[FoldResult]) -> float:
    """Percent of the folds whose test span earned; NaN without folds."""
    return 100.0 * sum(t.net > 0 for t in tested) / len(tested) if tested else math.nan


def _place(axis: Axis, value: float) -> float:
    """Where a value stands in its range, 0 to 1."""
    last = len(axis.values) - 1
    return min(range(last + 1), key=lambda i: abs(axis.values[i] - value)) / last if last else 0.0


def drift_of(axes: Sequence[Axis], fits: Sequence[Fit]) -> list[float]:
    """By axis: how far a number moves from one fit to the next on average, in percent of its range. Numbers drawn at random
    move by 33. NaN with fewer than two fits."""
    chosen = [f.values for f in fits if f.values is not None]
    if len(chosen) < 2:
        return [math.nan] * len(axes)
    return [100.0 * float(np.mean(np.abs(np.diff([_place(axis, v[i]) for v in chosen])))) for i, axis in enumerate(axes)]


def jumps(axes: Sequence[Axis], fits: Sequence[Fit]) -> list[Jump]:
    """Where a number leaves what its fit before still held for good, and by more than a third of its range, so that the two
    fits stand in distant regions."""
    found, last = [], None
    for at, fit in enumerate(fits):
        if fit.values is None:
            continue
        if last is not None and last.values is not None:
            for i, axis in enumerate(axes):
                a, b = last.values[i], fit.values[i]
                (low, high), (low_b, high_b) = last.near[i], fit.near[i]
                apart = b < low or b > high
                apart &= a < low_b or a > high_b
                if apart and abs(_place(axis, b) - _place(axis, a)) > FAR:
                    found.append(Jump(i, at, a, b))
        last = fit
    return found


def counted(n: int) -> str:
    """A small count in words."""
    return SMALL[n] if n < len(SMALL) else number(n)


def _wandering(axes: Sequence[Axis], fits: Sequence[Fit]) -> str:
    """How far the number moves that moves most."""
    chosen = [f.values for f in fits if f.values is not None]
    if len(chosen) < 2:
        return ""
    drifts = drift_of(axes, fits)
    most = int(np.argmax(drifts))
    values = [v[most] for v in chosen]
    if min(values) == max(values):
        return "every fit chose the same numbers"
    axis = axes[most]
    return f"{axis.short} wanders from {axis.shown(min(values))} to {axis.shown(max(values))}"


def sentence(axes: Sequence[Axis], tested: Sequence[FoldResult], net: float) -> str:
    """A walk in one sentence: what it earned, what the fits promised, how many tests lost, how far the numbers wander."""
    if not tested:
        return "Nothing was tested."
    count = len(tested)
    promised = sum(t.promised for t in tested if t.fit.values is not None)
    lost, idle = sum(t.net < 0 for t in tested), sum(t.fit.values is None for t in tested)
    did = f"Earned {number(net)}" if net > 0 else f"Lost {number(-net)}" if net < 0 else "Earned nothing"
    text = f"{did} in {counted(count)} test{'s' if count != 1 else ''}, fitted to earn {number(promised)}"
    text += f"; {counted(lost) if lost else 'none'} of {counted(count)} lost"
    if idle:
        text += f"; in {counted(idle)} nothing could be fitted and nothing was traded"
    wandering = _wandering(axes, [t.fit for t in tested])
    return text + (f"; {wandering}." if wandering else ".")


def jump_words(axes: Sequence[Axis], tested: Sequence[FoldResult]) -> list[str]:
    """Jumps in words, a sentence a number."""
    fits, lines = [t.fit for t in tested], []
    found = jumps(axes, fits)
    pairs = sum(f.values is not None for f in fits) - 1
    for i, axis in enumerate(axes):
        mine = [j for j in found if j.axis == i]
        if mine:
            last, name = mine[-1], axis.short[:1].upper() + axis.short[1:]
            lines.append(f"{name} jumps between distant regions at {counted(len(mine))} of {counted(pairs)} fits, last from "
                         f"{axis.shown(last.before)} to {axis.shown(last.after)} on "
                         f"{tested[last.at].fold.test_first:%d %b %Y}: what one fit found, the next did not.")
    return lines


@dataclass(frozen=True)
class WalkAsk:
    """A walk that somebody asks of a strategy: lengths as they are written, how fits choose, how many of its numbers they
    vary and how many values of each."""

    training: str
    test: str
    anchored: bool
    choice: Choice
    numbers: int
    values: int


@dataclass(frozen=True)
class WalkTold:
    """What such a walk came to; or why there is none."""

    figures: dict[str, float]
    tested: tuple[FoldResult, ...] = ()
    sentence: str = ""
    fault: str = ""
