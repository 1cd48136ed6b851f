"""The ordered line of gates. To add a gate: implement `gate.Gate`, list it here;
the window, the command line, dossiers and exports take it from this list."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from types import MappingProxyType
from typing import Annotated, Any

from pydantic import AfterValidator

from wolbrin.core.errors import UserError
from wolbrin.core.faults import validated
from wolbrin.core.models import Model, Name
from wolbrin.core.proving.blocks import BlocksGate
from wolbrin.core.proving.costs import CostsGate
from wolbrin.core.proving.dates import DatesGate
from wolbrin.core.proving.elsewhere import ElsewhereGate
from wolbrin.core.proving.evidence import EvidenceGate
from wolbrin.core.proving.gate import Case, Gate, Outcome
from wolbrin.core.proving.gate_names import present_key
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.proving.luck import LuckGate
from wolbrin.core.proving.monte_carlo import MonteCarloGate
from wolbrin.core.proving.neighbors import NeighborsGate
from wolbrin.core.proving.run_again import RunAgainGate
from wolbrin.core.proving.timing import TimingGate
from wolbrin.core.proving.walk_forward import WalkForwardGate

# Cheap ones first, the holdout last.
GATES: list[Gate] = [DatesGate(), EvidenceGate(), LuckGate(), BlocksGate(), CostsGate(), TimingGate(), NeighborsGate(),
                     MonteCarloGate(), RunAgainGate(), WalkForwardGate(), ElsewhereGate(), HoldoutGate()]
OFF = ("walk_forward", "elsewhere")  # gates that the usual line leaves out
Opener = Callable[[Case, Gate], Outcome | None]


class Step(Model):
    """A gate of a line: whether it is on, and what is set on it where that is not as usual."""

    gate: Annotated[str, AfterValidator(present_key)]
    on: bool = True
    settings: dict[str, Any] = {}


class Line(Model):
    """A line under its name, first gate first."""

    name: Name = "usual"
    steps: tuple[Step, ...] = ()

    def gates(self) -> tuple[Gate, ...]:
        """The gates that are on; those that open the holdout come last, and one is always there.

        Raises:
            UserError: a gate is unknown, or a setting without sense.
        """
        made = [self._made(s) for s in self.steps if s.on or _known(s.gate, self.name).opens_holdout]
        last = [g for g in made if g.opens_holdout] or [g for g in GATES if g.opens_holdout]
        return (*(g for g in made if not g.opens_holdout), *last)

    def _made(self, step: Step) -> Gate:
        gate = _known(step.gate, self.name)
        where = f"the line {self.name}, {gate.title}"
        return replace(gate, options=validated(type(gate.options), gate.options.model_dump() | step.settings, where))


def _known(key: str, line: str) -> Gate:
    for gate in GATES:
        if gate.key == present_key(key):
            return gate
    raise UserError(f'there is no gate "{key}"', f"the line {line}", f"There are {', '.join(g.key for g in GATES)}.")


def usual_line() -> Line:
    """All gates in their order, as they are usually set."""
    return Line(steps=tuple(Step(gate=g.key, on=g.key not in OFF) for g in GATES))


def walk_line(case: Case, gates: Sequence[Gate], *, open_holdout: Opener | None = None, all_gates: bool = False,
              known: Mapping[str, bool] = MappingProxyType({})) -> list[Outcome]:
    """Judge a case gate by gate, stopping where it does not pass; with `all_gates` all are asked, but the holdout only where
    every other one was passed.

    open_holdout: opens the seal for a gate that needs it, counts that, and judges; without it the holdout stays sealed.
    known: gates whose verdict holds already, by key, and whether it passes; they are not asked again.
    Returns what was judged now.
    """
    outcomes: list[Outcome] = []
    sound = True
    for gate in gates:
        if gate.opens_holdout:
            if open_holdout is None or not sound:
                break
            opened = open_holdout(case, gate)
            outcomes += [opened] if opened is not None else []  # it may have to wait for others
            break
        if gate.key in known:
            passed = known[gate.key]
        else:
            outcomes.append(gate.judge(case))
            passed = outcomes[-1].passed
        sound = sound and passed
        if not passed and not all_gates:
            break
    return outcomes
