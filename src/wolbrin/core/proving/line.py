"""The ordered line of gates. To add a gate: implement `gate.Gate`, list it here."""

from __future__ import annotations

from wolbrin.core.proving.gate import Case, Gate, Outcome
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.proving.monte_carlo import MonteCarloGate

GATES: tuple[Gate, ...] = (MonteCarloGate(), HoldoutGate())
TITLES = {g.key: g.title for g in GATES}


def walk_line(case: Case, gates: tuple[Gate, ...] = GATES, *, open_holdout: bool = True) -> list[Outcome]:
    """Judge a case gate by gate, stopping where it falls. The holdout stays sealed unless `open_holdout`."""
    outcomes: list[Outcome] = []
    for gate in gates:
        if gate.opens_holdout and not open_holdout:
            break
        outcomes.append(gate.judge(case))
        if not outcomes[-1].passed:
            break
    return outcomes
