"""The ordered line of gates. To add a gate: implement `gate.Gate`, list it here."""

from __future__ import annotations

from collections.abc import Callable

from wolbrin.core.proving.gate import Case, Gate, Outcome
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.proving.monte_carlo import MonteCarloGate

GATES: tuple[Gate, ...] = (MonteCarloGate(), HoldoutGate())
TITLES = {g.key: g.title for g in GATES}
Opener = Callable[[Case, Gate], Outcome]


def walk_line(case: Case, gates: tuple[Gate, ...] = GATES, *, open_holdout: Opener | None = None) -> list[Outcome]:
    """Judge a case gate by gate, stopping where it falls.

    open_holdout: opens the seal for a gate that needs it, counts that, and judges; without it the holdout stays sealed.
    """
    outcomes: list[Outcome] = []
    for gate in gates:
        if gate.opens_holdout:
            if open_holdout is None:
                break
            outcomes.append(open_holdout(case, gate))
        else:
            outcomes.append(gate.judge(case))
        if not outcomes[-1].passed:
            break
    return outcomes
