"""One measured value of the benchmark."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any, Literal

from wolbrin.core.figures.figure import Figure


@dataclass(frozen=True)
class Measured(Figure):
    """A figure with what was measured. reach: what we want, None where nothing is promised. Its definition says what it
    stands beside in the same run."""

    value: float
    reach: float | None

    @property
    def name(self) -> str:
        return self.title

    @property
    def reference(self) -> str:
        return self.definition

    @property
    def reached(self) -> bool | None:
        if self.reach is None:
            return None
        return self.value >= self.reach if self.better > 0 else self.value <= self.reach

    @property
    def wanted(self) -> str:
        """Which way is good, in a word."""
        return "higher" if self.better > 0 else "lower"

    def as_json(self) -> dict[str, Any]:
        return {"name": self.name, "value": self.value, "unit": self.unit, "better": self.wanted, "reach": self.reach,
                "reference": self.reference}

    def line(self) -> str:
        word = {None: "", True: "  reached", False: "  NOT REACHED"}[self.reached]
        goal = f"  (reach {self.reach:g})" if self.reach is not None else ""
        return f"{self.name}: {self.value:.3g} {self.unit}{goal}{word}; {self.reference}"


def measured(name: str, value: float, unit: str, better: Literal["lower", "higher"], reach: float | None,
             reference: str) -> Measured:
    """A value under its name, beside its reference."""
    return Measured(re.sub(r"[^a-z0-9]+", "_", name.casefold()).strip("_"), name, unit, reference, value, reach,
                    better=1 if better == "higher" else -1)
