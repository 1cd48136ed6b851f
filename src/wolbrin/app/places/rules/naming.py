"""Numbers with names: the tick beside a number that makes it a parameter to be swept."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QCheckBox, QDoubleSpinBox, QSpinBox

from wolbrin.core.rules.model import Parameter, Strategy
from wolbrin.core.rules.named import formula_of, named
from wolbrin.core.rules.ticking import free_name

Box = QSpinBox | QDoubleSpinBox


class Naming(QObject):
    """The parameters of the strategy being edited. New ones wait until the edit that uses them is made."""

    def __init__(self, strategy: Callable[[], Strategy], changed: Callable[[tuple[Parameter, ...], str], None]) -> None:
        super().__init__()
        self._strategy, self._changed = strategy, changed
        self._waiting: list[Parameter] = []

    def names(self) -> dict[str, Parameter]:
        return {p.name: p for p in (*self._strategy().parameters, *self._waiting)}

    def free(self, wanted: str) -> str:
        """A name near the wanted one that nothing else has."""
        return free_name(wanted, self.names())

    def add(self, wanted: str, value: float, low: float, high: float, step: float) -> str:
        """A new parameter to be swept, with a range around its value; it is kept with the next edit."""
        step = step or 1.0
        reach = max(5 * step, abs(value) / 2)
        bottom, top = max(low, value - reach), min(high, value + reach)
        made = Parameter(name=self.free(wanted), value=value, low=round(bottom, 6), high=round(top, 6), step=step, sweep=True)
        self._waiting.append(made)
        return made.name

    def taken(self) -> list[Parameter]:
        """Parameters that wait for an edit; they wait no longer."""
        waiting, self._waiting = self._waiting, []
        return waiting

    def change(self, name: str, **changes: Any) -> None:
        """Change one parameter of the strategy."""
        found = tuple(p.model_copy(update=changes) if p.name == name else p for p in self._strategy().parameters)
        if found != self._strategy().parameters:
            self._changed(found, f"parameter {name}")


class Tick(QCheckBox):
    """Beside a number's box: ticked, the number is a parameter and takes part in a sweep. Moving the box of a number that
    is a parameter moves the parameter; a number that follows a formula is not moved by hand."""

    def __init__(self, box: Box, wanted: str, naming: Naming, told: Callable[[], None]) -> None:
        super().__init__()
        self.box, self._wanted, self._naming, self._told = box, wanted, naming, told
        self.formula: str | None = None
        self._quiet = False
        self.setAccessibleName(f"sweep {wanted}")
        self.setFocusProxy(None)  # type: ignore[arg-type] # none is how Qt takes it back
        self.toggled.connect(self._toggled)
        box.valueChanged.connect(self._moved)
        self.show_value(box.value())

    def show_value(self, value: float) -> None:
        """Show the number, and whether it has a name; nothing is told."""
        self._quiet = True
        self.formula = formula_of(value)
        known = self._naming.names()
        plain = self.formula is None or self.formula in known
        follows = self.formula in known and bool(known[self.formula].formula)
        self.box.setValue(value)  # type: ignore[arg-type]
        self.box.setEnabled(plain and not follows)
        self.setChecked(self.formula is not None and self.formula in known and known[self.formula].sweep)
        self.setEnabled(plain and not follows)
        self.setToolTip("Vary this number in a sweep" if self.formula is None else
                        f"{self.formula}: see Parameters" if plain else f"{self.formula}, from the parameters")
        self._quiet = False

    def value(self) -> float:
        """The box's number with its name, if it has one."""
        return self.box.value() if self.formula is None else named(self.box.value(), self.formula)

    def _moved(self, *_: object) -> None:
        if self._quiet:
            return
        if self.formula is not None:
            self._naming.change(self.formula, value=float(self.box.value()))
        else:
            self._told()

    def _toggled(self, on: bool) -> None:
        if self._quiet:
            return
        if self.formula is not None:
            self._naming.change(self.formula, sweep=on)
        elif on:
            box = self.box
            self.formula = self._naming.add(self._wanted, float(box.value()), float(box.minimum()), float(box.maximum()),
                                            float(box.singleStep()))
            self.setToolTip(f"{self.formula}: see Parameters")
            self._told()
