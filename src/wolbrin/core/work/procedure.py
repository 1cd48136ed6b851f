"""The procedure that a schedule carries, read strictly: it comes with strategy files, which may be anybody's."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError

from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.models import Model
from wolbrin.core.rules.axes import MOST_VALUES, Axis, Link
from wolbrin.core.rules.model import Strategy
from wolbrin.core.search.folds import Length, Lengths
from wolbrin.core.search.objective import Floor, Objective
from wolbrin.core.search.space import Constraint
from wolbrin.core.search.walked import Choice
from wolbrin.core.work.sweep_estimate import LARGEST_SWEEP
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.walk_request import WalkRequest

Key = Annotated[str, Field(min_length=1, max_length=200)]
Written = Annotated[str, Field(max_length=12)]


class LinkForm(Model):
    key: Key
    factor: float = 1.0
    offset: float = 0.0


class AxisForm(Model):
    key: Key
    title: Annotated[str, Field(max_length=200)] = ""
    values: Annotated[tuple[float, ...], Field(min_length=1, max_length=MOST_VALUES)]
    kind: Literal["number", "clock"] = "number"
    links: Annotated[tuple[LinkForm, ...], Field(max_length=60)] = ()

    def axis(self) -> Axis:
        return Axis(self.key, self.title, self.values, self.kind, tuple(Link(x.key, x.factor, x.offset) for x in self.links))


class ConstraintForm(Model):
    left: Key
    compare: Literal["<", ">", "<=", ">=", "=", "!="]
    right: Annotated[str, Field(max_length=200)] = ""
    factor: float = 1.0
    offset: float = 0.0

    def constraint(self) -> Constraint:
        return Constraint(self.left, self.compare, self.right, self.factor, self.offset)


class SweepForm(Model):
    axes: Annotated[tuple[AxisForm, ...], Field(min_length=1, max_length=60)]
    constraints: Annotated[tuple[ConstraintForm, ...], Field(max_length=200)] = ()
    method: Literal["every", "sample", "evolve"] = "every"
    count: int = Field(0, ge=0, le=LARGEST_SWEEP)
    seed: int = Field(1, ge=0)
    objective: Objective = Objective()
    floors: Annotated[tuple[Floor, ...], Field(max_length=60)] = ()


class ProcedureForm(Model):
    """What stands in a schedule; see `WalkRequest.procedure`."""

    sweep: SweepForm
    trainings: Annotated[tuple[Written, ...], Field(min_length=1, max_length=1)]
    tests: Annotated[tuple[Written, ...], Field(min_length=1, max_length=1)]
    gap: Written = ""
    anchored: bool = False
    backward: bool = True
    choice: Choice = "center"
    first: dt.date
    anchor: dt.date
    n: int = Field(ge=0, le=1_000_000)
    history: Annotated[str, Field(max_length=64)] = ""


@dataclass(frozen=True)
class Procedure:
    """A schedule's procedure. first: of the training view then; anchor, n: see `WalkRequest.procedure`."""

    request: WalkRequest
    first: dt.date
    anchor: dt.date
    n: int

    @classmethod
    def of(cls, strategy: Strategy) -> Procedure:
        """The procedure of a strategy with dated numbers.

        Raises:
            UserError: it has none, or one that cannot be read.
        """
        schedule = strategy.schedule
        if schedule is None:
            raise UserError("this strategy has no dated numbers", strategy.name, "Walk it first.")
        where = f"{strategy.name}, how its numbers are fitted"
        data: Any = schedule.procedure
        try:
            form = ProcedureForm.model_validate(data)
        except ValidationError as err:
            raise explain(err, where) from None
        s = form.sweep
        sweep = SweepRequest(strategy, schedule.market, schedule.interval, tuple(a.axis() for a in s.axes), None,
                             tuple(c.constraint() for c in s.constraints), s.method, s.count, s.seed, s.objective, s.floors)
        lengths = [tuple(Length.parse(x, where) for x in some) for some in (form.trainings, form.tests)]
        request = WalkRequest(sweep, lengths[0], lengths[1], Length.parse(form.gap, where) if form.gap else None,
                              form.anchored, form.backward, form.choice)
        request.check()
        _ = sweep.space  # numbers that are named twice, or too many sets
        keys = tuple(key for a in sweep.axes for key in (a.key, *(link.key for link in a.links)))
        if keys != schedule.keys:
            raise UserError("how these numbers are fitted is said of other numbers", where, "Walk the strategy again.")
        return cls(request, form.first, form.anchor, form.n)

    @property
    def lengths(self) -> Lengths:
        return self.request.cells[0]
