"""Fields of forms that are made from declared costs and contract facts."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QDoubleSpinBox

from wolbrin.app.parts import spin
from wolbrin.core.market.costs import cost_facts
from wolbrin.core.market.declared import Declared


def title_of(d: Declared) -> str:
    """What stands before its field: title and unit, where the title does not say it."""
    fact = d.fact
    said = not fact.unit or fact.unit in fact.title or fact.unit.endswith("money")
    return fact.title if said else f"{fact.title}, {fact.unit}"


def fact_spin(d: Declared) -> QDoubleSpinBox:
    """A field for a number. One that may be absent (the contract terms' own) is so at its lowest value, and says it."""
    low = -d.fact.most if d.optional else 0.0
    made = spin(0.0, low, d.fact.most, d.fact.digits, d.fact.step)
    if d.optional:
        made.setSpecialValueText("as the terms")
    made.setAccessibleName(title_of(d))
    made.setToolTip(f"{d.fact.title}: {d.fact.help}")
    return made


def show(d: Declared, box: QDoubleSpinBox, value: float | None) -> None:
    box.setValue(box.minimum() if value is None else value)


def value_of(d: Declared, box: QDoubleSpinBox) -> Any:
    return None if d.optional and box.value() == box.minimum() else box.value()


def dear_facts() -> tuple[Declared, ...]:
    """Costs that a member of a portfolio may have of its own: those that are multiplied when costs are."""
    return tuple(d for d in cost_facts() if d.fact.scaled)
