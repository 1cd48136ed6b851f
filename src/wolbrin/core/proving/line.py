"""The ordered line of gates. To add a gate: implement `gate.Gate`, list it here;
the window, the command line, dossiers and exports take it from this list."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from wolbrin.core.proving.gate import Case, Gate, Outcome
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.proving.monte_carlo import MonteCarloGate

GATES: list[Gate] = [MonteCarloGate(), HoldoutGate()]
Opener = Callable[[Case, Gate], Outcome]


def walk_line(case: Case, gates: Sequence[Gate] = GATES, *, open_holdout: Opener | None = None) -> list[Outcome]:
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
