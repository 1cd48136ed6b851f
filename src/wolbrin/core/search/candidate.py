"""A candidate: a strategy on a market that a search or a person found worth keeping."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import Run
from wolbrin.core.measures.catalogue import SUMMARY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.rules.model import Strategy

SPARK_POINTS = 64


@dataclass(frozen=True)
class Candidate:
    """summary: training measures (catalogue.SUMMARY). spark: float32[SPARK_POINTS] net equity less capital.
    tried: alternatives looked at on its market, itself included. daily: trading dates and P/L of training, share: of each
    date's bars in the market; None where they were not kept."""

    name: str
    strategy: Strategy
    market: str
    interval: int
    origin: str
    tried: int
    record: Record
    summary: dict[str, float]
    spark: NDArray[np.float32]
    daily: tuple[NDArray[np.int32], NDArray[np.float64]] | None = None
    share: NDArray[np.float32] | None = None


def spark_of(run: Run) -> NDArray[np.float32]:
    """The equity curve at SPARK_POINTS evenly spaced bars, starting capital subtracted."""
    if not len(run.net):
        return np.zeros(SPARK_POINTS, np.float32)
    at = np.linspace(0, len(run.net) - 1, SPARK_POINTS).astype(np.int64)
    return (run.net[at] - run.brief.capital).astype(np.float32)


def candidate_of(run: Run, name: str, origin: str, tried: int, seeds: tuple[int, ...] = ()) -> Candidate:
    """Make a candidate of a run on the training span."""
    return Candidate(name, run.strategy.model_copy(update={"name": name}), run.bars.terms.code, run.bars.interval, origin,
                     tried, run.record(tried=tried, seeds=seeds), measure(Facts.of(run), SUMMARY), spark_of(run), run.daily,
                     run.daily_share)
