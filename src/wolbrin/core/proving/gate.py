"""What a gate is: one screening test with one interface, giving one outcome with a number and a reason in words."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, field
from typing import Any, ClassVar

from numpy.typing import NDArray

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.market.bars import Span
from wolbrin.core.models import Model
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
    holds for them only. tables: larger results (paths, distributions), named columns by name, kept with the verdict."""

    gate: str
    passed: bool
    reason: str
    headline: str
    inputs: dict[str, Any]
    figures: dict[str, float]
    settings: dict[str, Any] = field(default_factory=dict)
    tables: dict[str, dict[str, NDArray[Any]]] = field(default_factory=dict, compare=False, repr=False)


@dataclass(frozen=True)
class Shown:
    """A figure of a gate's outcome that tables show. scale: what it is multiplied by; end: what follows it."""

    key: str
    title: str
    digits: int
    scale: float = 1.0
    end: str = ""


class NoSettings(Model):
    """For a gate on which nothing can be set."""


@dataclass(frozen=True)
class Gate(ABC):
    """One screening test. options: what is set on it, a model with defaults and bounds; a verdict holds for them only.

    key and title name the gate, in dossiers, tables and on the command line. opens_holdout: running it spends the holdout.
    shown: figures of its outcome that tables show.
    """

    options: Model = NoSettings()
    key: ClassVar[str]
    title: ClassVar[str]
    opens_holdout: ClassVar[bool] = False
    shown: ClassVar[tuple[Shown, ...]] = ()

    @property
    def settings(self) -> dict[str, Any]:
        """What is set on it, by name, as JSON."""
        return self.options.model_dump(mode="json")

    @abstractmethod
    def describe(self) -> str:
        """The threshold in a few words."""

    @abstractmethod
    def judge(self, case: Case) -> Outcome:
        """Run the test. Pure: the same case gives the same outcome."""
