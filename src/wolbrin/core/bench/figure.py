"""One measured value of the benchmark."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any, Literal


@dataclass(frozen=True)
class Figure:
    """One measured value. reach: what we want, None where nothing is promised. reference: what it stands beside."""

    name: str
    value: float
    unit: str
    better: Literal["lower", "higher"]
    reach: float | None
    reference: str

    @property
    def reached(self) -> bool | None:
        if self.reach is None:
            return None
        return self.value <= self.reach if self.better == "lower" else self.value >= self.reach

    def as_json(self) -> dict[str, Any]:
        return asdict(self)

    def line(self) -> str:
        word = {None: "", True: "  reached", False: "  NOT REACHED"}[self.reached]
        goal = f"  (reach {self.reach:g})" if self.reach is not None else ""
        return f"{self.name}: {self.value:.3g} {self.unit}{goal}{word}; {self.reference}"
