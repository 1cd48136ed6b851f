"""What finer bars change: how many trades were ambiguous without them, how many with, and the difference in net profit."""

from __future__ import annotations

from dataclasses import dataclass, replace

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.rules.model import Strategy


@dataclass(frozen=True)
class FineEffect:
    """before, after: ambiguous trades; difference: net with finer bars less net without; whole: bars they did not fit."""

    before: int
    after: int
    difference: float
    whole: int


def fine_effect(history: Prepared, strategy: Strategy, brief: Brief) -> FineEffect | None:
    """Run with and without finer bars; None where the history has none."""
    if history.fine is None:
        return None
    rough, exact = (_run(history, strategy, brief, fine) for fine in (False, True))
    return FineEffect(rough.counts["ambiguous"], exact.counts["ambiguous"],
                      float(exact.profits.sum() - rough.profits.sum()), exact.counts["walked whole"])


def _run(history: Prepared, strategy: Strategy, brief: Brief, fine: bool) -> Run:
    return backtest(history, strategy, replace(brief, fine=fine), detail=False)
