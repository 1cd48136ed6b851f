"""From gross to net, and the level of costs at which nothing is left."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run


@dataclass(frozen=True)
class Waterfall:
    """Money in account currency; costs positive = paid. level: the multiple of today's trading costs (financing left as
    it is) at which net profit would be zero, NaN where there are no trading costs or the gross is not positive."""

    gross: float
    spread: float
    slippage: float
    commission: float
    financing: float
    net: float
    level: float
    ticks: float

    def steps(self) -> list[tuple[str, float]]:
        """Name and signed amount of every step from gross to net."""
        return [("gross", self.gross), ("spread", -self.spread), ("slippage", -self.slippage),
                ("commission", -self.commission), ("financing", -self.financing), ("net", self.net)]


def waterfall(run: Run) -> Waterfall:
    """Costs of a run laid open. ticks: the average trade in ticks on one contract after costs."""
    f = run.trades_f
    gross, spread, slippage, commission, financing, net = (
        float(f[:, c].sum()) for c in (k.F_GROSS, k.F_SPREAD, k.F_SLIPPAGE, k.F_COMMISSION, k.F_FINANCING, k.F_NET))
    trading = spread + slippage + commission
    left = gross - financing
    unit = run.unit
    ticks = float((f[:, k.F_NET] / unit).mean()) if len(f) and (unit > 0).all() else math.nan
    return Waterfall(gross, spread, slippage, commission, financing, net,
                     left / trading if trading > 0 and left > 0 else math.nan, ticks)
