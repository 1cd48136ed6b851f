"""What a gate is: one screening test with one interface, giving one outcome with a number and a reason in words."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Protocol

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.market.bars import Span
from wolbrin.core.rules.model import Strategy


@dataclass(frozen=True)
class Case:
    """What a gate judges: a strategy on its training history, the training brief, the sealed span, and how many
    alternatives were tried to find it. seed drives whatever is random. opened: the history with its sealed bars, only while
    the holdout is open for this case; t_needed: what the holdout then asks of it."""

    strategy: Strategy
    history: Prepared
    brief: Brief
    holdout: Span
    tried: int
    seed: int = 20260101
    opened: Prepared | None = None
    t_needed: float = 0.0


@dataclass(frozen=True)
class Outcome:
    """figures: the numbers behind the verdict. headline: the one number to show, in words. settings: of the gate; a verdict
    holds for them only."""

    gate: str
    passed: bool
    reason: str
    headline: str
    inputs: dict[str, Any]
    figures: dict[str, float]
    settings: dict[str, Any] = field(default_factory=dict)


class Gate(Protocol):
    """key and title name the gate; `opens_holdout` says that running it spends the holdout."""

    @property
    def key(self) -> str: ...

    @property
    def title(self) -> str: ...

    @property
    def opens_holdout(self) -> bool: ...

    @property
    def settings(self) -> dict[str, Any]:
        """What is set on it, by name."""
        ...

    def describe(self) -> str:
        """The threshold in a few words."""
        ...

    def judge(self, case: Case) -> Outcome:
        """Run the test. Pure: the same case gives the same outcome."""
        ...
