"""What rows of a search or scan may read beside their own bars: other markets, longer intervals, the condition library and
what is the user's own."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from functools import lru_cache
from pathlib import Path

from wolbrin.core.indicators.own import OwnIndicators
from wolbrin.core.rules.conditions import ConditionFile, NamedCondition, shipped
from wolbrin.core.rules.formula import FormulaError
from wolbrin.core.rules.model import Condition
from wolbrin.core.rules.operands import CustomOperand
from wolbrin.core.search.families import longer_than
from wolbrin.core.search.ingredients import Node, Sources
from wolbrin.core.store.project import Project

MINE = "mine"  # the tag that the user's own conditions carry


def own_operands(folder: Path) -> tuple[CustomOperand, ...]:
    """The user's confirmed indicators as series at their usual settings."""
    return tuple(CustomOperand(name=name, digest=digest, turns=turns)
                 for name, (digest, turns) in sorted(OwnIndicators(folder).known().items()))


def own_conditions(project: Project) -> tuple[NamedCondition, ...]:
    """The user's own named conditions."""
    kept = project.get_value("conditions")
    return ConditionFile.model_validate_json(kept).conditions if kept else ()


@lru_cache(maxsize=1)
def _ours() -> tuple[tuple[NamedCondition, Condition], ...]:
    """The conditions that come with the program, read once: that takes a moment."""
    return tuple((c, c.condition()) for c in shipped())


def readable(interval: int, others: Sequence[str], own: Sequence[CustomOperand],
             conditions: Sequence[NamedCondition]) -> Sources:
    """What rows may read at an interval. Own conditions that cannot be read are left out: they may wait for an indicator."""
    library: list[tuple[str, Node, tuple[str, ...]]] = []
    known = {o.name: (o.digest, o.turns) for o in own}
    names = {c.name for c in conditions}
    read: list[tuple[NamedCondition, Condition]] = []
    for one in conditions:
        with suppress(FormulaError):
            read.append((one, one.condition(known)))
    for one, condition in (*read, *(pair for pair in _ours() if pair[0].name not in names)):
        if any(getattr(r.left, "kind", "") == "position" for r in condition.leaves):
            continue  # a search has no word for the state of the position
        mine = one in conditions
        nodes = condition.active
        node = nodes[0] if len(nodes) == 1 and condition.match == "all" else condition
        library.append((one.name, node, (MINE, *one.tags) if mine else one.tags))
    return Sources(interval, tuple(others), tuple(own), tuple(library), longer_than(interval), tuple(others))
