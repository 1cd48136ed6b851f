"""Studies as answers for machines."""

from __future__ import annotations

import math

from wolbrin.core.engine.record import Record
from wolbrin.core.models import Model
from wolbrin.core.study.forward import Study

Value = float | None  # null where there is none


def value(x: float) -> Value:
    """A number, or nothing where it is none."""
    return float(x) if math.isfinite(x) else None


class StudyRow(Model):
    """Moves after a condition fired. Lists have one entry for each bar after it, the first being one bar after; low and high
    are the bootstrap band of the mean (`confidence`)."""

    name: str
    side: str
    unit: str
    firings: int
    bars: int
    counted: tuple[int, ...]
    left_out: int
    overlapping: int
    mean: tuple[Value, ...]
    median: tuple[Value, ...]
    lower_quartile: tuple[Value, ...]
    upper_quartile: tuple[Value, ...]
    low: tuple[Value, ...]
    high: tuple[Value, ...]
    baseline: tuple[Value, ...]
    same_times: tuple[Value, ...]
    confidence: float
    best_bar: int

    @classmethod
    def of(cls, s: Study) -> StudyRow:
        def row(x: object) -> tuple[Value, ...]:
            return tuple(value(v) for v in x.tolist())  # type: ignore[attr-defined]

        return cls(name=s.name, side="long" if s.side > 0 else "short", unit=s.unit, firings=s.firings, bars=s.bars,
                   counted=tuple(s.counted.tolist()), left_out=s.left_out, overlapping=s.overlapping, mean=row(s.mean),
                   median=row(s.median), lower_quartile=row(s.lower), upper_quartile=row(s.upper), low=row(s.low),
                   high=row(s.high), baseline=row(s.baseline), same_times=row(s.clock), confidence=s.confidence,
                   best_bar=s.best)


class StudyAnswer(Model):
    """What `wolbrin study --json` gives."""

    record: Record
    studies: tuple[StudyRow, ...]


class TrialCell(Model):
    """One rule on one market at one interval; measures are null where it could not be run."""

    row: int
    rule: str
    market: str
    interval: int
    passes: bool
    measures: dict[str, Value]


class TrialLuck(Model):
    """How many pass, beside shuffled histories."""

    passed: int
    tests: int
    shuffles: int
    expected: Value
    least: int
    most: int
    p: Value


class TrialAnswer(Model):
    """What `wolbrin trial --json` gives."""

    search: int
    title: str
    kind: str
    state: str
    tried: int
    tried_on_market: dict[str, int]
    threshold: float
    least_trades: int
    luck: TrialLuck | None
    faults: tuple[str, ...]
    records: dict[str, Record]
    cells: tuple[TrialCell, ...]
