"""Trials: many rules on many markets, each run with one common exit, and how many pass by luck alone."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass
from itertools import product
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from wolbrin.core.errors import UserError
from wolbrin.core.models import Model
from wolbrin.core.rules.mirror import mirror_condition
from wolbrin.core.rules.model import Condition, Distance, PositionOperand, Side, Strategy

FIGURES = ("net", "return_drawdown", "profit_factor", "trades", "win_rate", "max_drawdown", "sharpe_daily")
LARGEST_TRIAL = 100_000
MOST_VARIANTS = 2_000  # of one strategy
Sides = Literal["long", "short", "both"]


class CommonExit(Model):
    """The one simple exit that every rule of a field trial is given: a stop and target in ATR(14) or in money a contract,
    or so many bars."""

    unit: Literal["atr", "money", "bars"] = "atr"
    stop: float = Field(2.0, gt=0, le=1e9)
    target: float = Field(3.0, gt=0, le=1e9)
    bars: int = Field(12, ge=1, le=10_000)
    flat_by_session_end: bool = True

    def words(self) -> str:
        out = f"out after {self.bars} bars" if self.unit == "bars" else (
            f"stop {self.stop:g} and target {self.target:g} " + ("ATR(14)" if self.unit == "atr" else "a contract"))
        return out + (", flat by session end" if self.flat_by_session_end else ", held overnight")


class TrialRow(Model):
    """One line of the matrix: what it is called and what it trades."""

    name: str
    strategy: Strategy


def field_rows(conditions: Iterable[tuple[str, Condition]], sides: Iterable[Sides], exit: CommonExit) -> list[TrialRow]:
    """A strategy for every condition and side: the condition as entry, the common exit. The short side is mirrored; a
    condition on the state of the position has no place here and is left out."""
    off = Side(mode="off")
    distance = {"stop": None, "target": None, "time_exit": exit.bars} if exit.unit == "bars" else {
        "stop": Distance(unit=exit.unit, amount=exit.stop), "target": Distance(unit=exit.unit, amount=exit.target)}
    rows = []
    for (name, condition), side in product(conditions, sides):
        if any(isinstance(r.left, PositionOperand) for r in condition.leaves):
            continue
        title = f"{name}, {side}" if side != "both" else name
        if side == "short":
            pair = off, Side(mode="own", entry=mirror_condition(condition))
        else:
            pair = Side(entry=condition), off if side == "long" else Side(mode="mirrored")
        rows.append(TrialRow(name=title, strategy=Strategy(
            name=title[:80], long=pair[0], short=pair[1], flat_by_session_end=exit.flat_by_session_end,
            **distance)))
    return rows


def passes(figures: NDArray[np.float64], threshold: float, least_trades: int = 1) -> NDArray[np.bool_]:
    """Which tests pass: return over drawdown above the threshold, with so many trades or more. A net profit without any
    drawdown passes. figures: float64[..., len(FIGURES)]."""
    net, ratio, trades = figures[..., 0], figures[..., 1], figures[..., 3]
    with np.errstate(invalid="ignore"):
        return (trades >= least_trades) & ((ratio > threshold) | (np.isnan(ratio) & (net > 0)))


@dataclass(frozen=True)
class Luck:
    """How many tests pass on shuffled histories: the mean over the shuffles, their least and most, and how many passed on
    the real ones. p: chance of as many or more where there is nothing to find, (1 + shuffles at or above) / (shuffles + 1)
    (Phipson & Smyth 2010)."""

    expected: float
    least: int
    most: int
    actual: int
    tests: int
    shuffles: int
    p: float = math.nan


def permutation_p(actual: float, dealt: Iterable[float]) -> float:
    """(1 + number at or above) / (m + 1), never zero (Phipson & Smyth 2010). Values without a number count as at or above."""
    values = list(dealt)
    return (1 + sum(not value < actual for value in values)) / (len(values) + 1)


def luck(real: NDArray[np.float64], dealt: list[NDArray[np.float64]], threshold: float, least_trades: int = 1) -> Luck | None:
    """Compare passes with those on shuffled histories. real: float64[tests, FIGURES]; dealt: the same for each shuffle,
    with as many tests. None without a shuffle."""
    if not dealt:
        return None
    counts = [int(passes(d, threshold, least_trades).sum()) for d in dealt]
    actual = int(passes(real, threshold, least_trades).sum())
    p = permutation_p(actual, counts)
    return Luck(float(np.mean(counts)), min(counts), max(counts), actual, len(real), len(dealt), p)


def check_size(rows: int, columns: int, shuffles: int) -> int:
    """Number of tests of a trial. Raises UserError where there are none, or more than one takes."""
    if not rows or not columns:
        raise UserError("there is nothing to try", "trial", "Choose at least one rule and one market.")
    tests = rows * columns * (1 + shuffles)
    if tests > LARGEST_TRIAL:
        raise UserError(f"{tests:,} tests are more than a trial takes ({LARGEST_TRIAL:,})", "trial",
                        "Choose fewer rules, markets or shuffles.")
    return tests
