"""Rows of a choice as conditions: their levels are those of the span that is scanned."""

from __future__ import annotations

import numpy as np

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.rules.evaluate import operand_column
from wolbrin.core.rules.operands import Operand
from wolbrin.core.scan.rows import at_bar
from wolbrin.core.search.ingredients import Node, Pantry

COLUMN_BYTES = 96 * 1024**2
SEEN = 4_000  # values that tell which levels a series takes


class RowReader:
    """Threads share it. first, stop: bars of the span."""

    def __init__(self, history: Prepared, pantry: Pantry, first: int, stop: int, budget: int = COLUMN_BYTES) -> None:
        self.columns: Columns = history.columns.over(history.bars, budget)
        self.pantry, self.first, self.stop = pantry, first, stop

    def level(self, operand: Operand, share: float) -> float:
        """The value that this share of an operand's values lie below; NaN where there is none."""
        try:
            values = operand_column(self.columns, operand)[self.first:self.stop]
        except UserError:
            return float("nan")
        values = values[::max(1, len(values) // SEEN)]
        known = values[np.isfinite(values)]
        return float(np.quantile(known, share)) if len(known) else float("nan")

    def plain(self, code: int) -> Node | None:
        """A row at any bar of the session; None where it has no level."""
        return self.pantry.node(code, self.level)

    def node(self, code: int, at: int) -> Node | None:
        """A row as a condition. at: its bar of the session, 0 for any."""
        made = self.plain(code)
        return None if made is None else at_bar(made, at)
