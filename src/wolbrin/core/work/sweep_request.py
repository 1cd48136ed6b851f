"""What a sweep asks, as data that is stored and travels."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np

from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.rules.axes import PLACES, Axis, Link, Values
from wolbrin.core.rules.dated import undated
from wolbrin.core.rules.mirror import SIDES
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import tunables
from wolbrin.core.search.basket import MEDIAN_RANK
from wolbrin.core.search.objective import Floor, Objective, read_objective
from wolbrin.core.search.space import Constraint, Space
from wolbrin.core.store.settings import OwnSpan


@dataclass(frozen=True)
class Place:
    """Where sets are run: a market, an interval, and which sides ("" for the strategy's own)."""

    market: str
    interval: int
    sides: str = ""


@dataclass(frozen=True)
class SweepRequest:
    """What is swept. own: the strategy's own training span; sets that are kept inherit it.

    method: see planners.METHODS; count, seed: of a sample or an evolution. keep: how many of the best are listed and
    exported, 0 for all. base: number of the sweep that this one refines or extends, 0 for none. basket: by which rule one set
    is chosen for several markets. Axes that are no numbers of the rules come first.
    """

    strategy: Strategy
    market: str
    interval: int
    axes: tuple[Axis, ...]
    own: OwnSpan | None = None
    constraints: tuple[Constraint, ...] = ()
    method: str = "every"
    count: int = 0
    seed: int = 1
    objective: Objective = field(default_factory=Objective)
    floors: tuple[Floor, ...] = ()
    keep: int = 0
    base: int = 0
    name: str = ""
    basket: str = MEDIAN_RANK

    def __post_init__(self) -> None:
        order = tuple(sorted(self.axes, key=lambda a: PLACES.index(a.kind) if a.kind in PLACES else len(PLACES)))
        object.__setattr__(self, "axes", order)
        object.__setattr__(self, "strategy", undated(self.strategy))  # what is varied are the numbers that it shows

    @cached_property
    def space(self) -> Space:
        """The grid of sets."""
        return Space(self.axes, self.constraints, {t.key: t.value for t in tunables(self.strategy)})

    @property
    def title(self) -> str:
        return self.name or f"Sweep of {self.strategy.name}"

    @property
    def measures(self) -> tuple[str, ...]:
        """Measures that are kept of every set: SUMMARY, and what objective and floors ask beside it."""
        asked = (*self.objective.keys, *(f.key for f in self.floors))
        return tuple(dict.fromkeys((*SUMMARY, *asked)))

    @property
    def columns(self) -> tuple[str, ...]:
        """Names under which the axes' values are stored."""
        return tuple(f"set.{a.key}" for a in self.axes)

    @property
    def markets(self) -> tuple[str, ...]:
        """Every market that is swept."""
        return next((a.names for a in self.axes if a.kind == "market"), (self.market,))

    def place(self, values: Values) -> Place:
        """Where a set is run."""
        market, interval, sides = self.market, self.interval, ""
        for axis, value in zip(self.axes, values):
            if axis.kind == "market":
                market = axis.names[int(value)]
            elif axis.kind == "interval":
                interval = int(value)
            elif axis.kind == "sides":
                sides = SIDES[int(value)]
        return Place(market, interval, sides)

    @cached_property
    def places(self) -> tuple[Place, ...]:
        """Every place, in the order of the grid."""
        inner = self.space.inner
        first = self.space.values(np.arange(self.space.size // inner, dtype=np.int64) * inner)
        return tuple(self.place(tuple(v.tolist())) for v in first)

    def named(self, name: str) -> SweepRequest:
        """The same under another name."""
        return replace(self, name=name)

    def as_json(self) -> dict[str, Any]:
        return {"strategy": self.strategy.model_dump(mode="json"), "market": self.market, "interval": self.interval,
                "axes": [_axis_as_json(a) for a in self.axes],
                "own": self.own.model_dump(mode="json") if self.own else None,
                "constraints": [vars(c) for c in self.constraints], "method": self.method, "count": self.count,
                "seed": self.seed, "objective": self.objective.model_dump(mode="json"),
                "floors": [f.model_dump(mode="json") for f in self.floors], "keep": self.keep, "base": self.base,
                "name": self.name, "basket": self.basket}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> SweepRequest:
        """A stored request; one of an older program lacks what was not asked then."""
        own = OwnSpan.model_validate(data["own"]) if data.get("own") else None
        return cls(Strategy.model_validate(data["strategy"]), data["market"], data["interval"],
                   tuple(_axis_of(a) for a in data["axes"]), own,
                   tuple(Constraint(**c) for c in data.get("constraints", ())), data.get("method", "every"),
                   data.get("count", 0), data.get("seed", 1), read_objective(data.get("objective")),
                   tuple(Floor.model_validate(f) for f in data.get("floors", ())), data.get("keep", 0), data.get("base", 0),
                   data.get("name", ""), data.get("basket", MEDIAN_RANK))


def _axis_as_json(axis: Axis) -> dict[str, Any]:
    out: dict[str, Any] = {"key": axis.key, "title": axis.title, "values": list(axis.values)}
    if axis.kind != "number":
        out["kind"] = axis.kind
    if axis.links:
        out["links"] = [vars(link) for link in axis.links]
    if axis.names:
        out["names"] = list(axis.names)
    return out


def _axis_of(data: dict[str, Any]) -> Axis:
    return Axis(data["key"], data["title"], tuple(data["values"]), data.get("kind", "number"),
                tuple(Link(**link) for link in data.get("links", ())), tuple(data.get("names", ())))
