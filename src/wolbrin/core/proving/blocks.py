"""Blocks and regimes: unchanged rules over consecutive parts of training, and by how lively and directed the days were."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run
from wolbrin.core.figures.figure import Figure
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.drawdown import largest_fall
from wolbrin.core.measures.sums import gains_and_losses
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, GateTable, Outcome, Shown

Floats = NDArray[np.float64]
TREND = 20  # trading dates over which a trend is told
QUARTERS = 4


class BlocksSettings(Model):
    """blocks: parts of equally many trading dates. least_positive: of them that must earn; the newest among them where
    `newest`, since what is traded next resembles it most."""

    blocks: int = Field(4, ge=3, le=20, title="parts")
    least_positive: int = Field(3, ge=1, le=20, title="parts that earn, at least")
    newest: bool = Field(True, title="the newest must earn")


def part_figures(run: Run, day_of_trade: NDArray[np.int64], part: NDArray[np.bool_], daily: Floats) -> dict[str, float]:
    """Figures of the trades that closed on some dates. part: bool[d]; day_of_trade: int64[m] places in the dates."""
    profits = np.ascontiguousarray(run.profits[part[day_of_trade]]) if len(run) else np.zeros(0)
    gains, losses, won, _ = gains_and_losses(profits)
    path = np.cumsum(daily[part])
    n = len(profits)
    return {"net": float(profits.sum()), "trades": float(n), "profit_factor": gains / -losses if losses else math.nan,
            "win_rate": 100.0 * won / n if n else math.nan, "average": float(profits.mean()) if n else math.nan,
            "drawdown": float(largest_fall(path, 0.0))}


def liveliness(run: Run, days: NDArray[np.int32]) -> Floats:
    """Mean range of a bar on each date, ticks, float64[d]."""
    part = slice(run.first, run.last)
    spans = (run.bars.h.astype(np.float64) - run.bars.l)[part]
    dates = run.bars.trading_date[part]
    firsts = np.searchsorted(dates, days)
    return np.add.reduceat(spans, firsts) / np.diff(np.append(firsts, len(dates)))


def trends(run: Run, days: NDArray[np.int32]) -> NDArray[np.int64]:
    """int64[days]: 1 where the market had risen over the TREND dates before each date (days since 1970), -1 where fallen, 0
    before that is known."""
    dates = run.bars.trading_date[run.first:run.last]
    close = run.bars.c[run.first:run.last][np.searchsorted(dates, days, "right") - 1].astype(np.float64)
    out = np.zeros(len(days), np.int64)
    out[TREND + 1:] = np.sign(close[TREND:-1] - close[:-TREND - 1])
    return out


@dataclass(frozen=True)
class BlocksGate(Gate):
    """Common practice, no source: rules that work should work in most years, and lately."""

    options: BlocksSettings = BlocksSettings()
    key = "blocks"
    title = "Blocks"
    shown = (Shown("positive", "blocks that earn", "count", "parts of equally many trading dates whose trades sum to a "
                   "profit",
                   digits=0, better=1),
             Shown("newest_net", "newest block", "money", "net result of the newest part", digits=0, better=1))
    more = (Figure("blocks", "blocks", "count", "parts that training is divided into"),
            Figure("worst_net", "worst block", "money", "net result of the worst part", better=1),
            Figure("liveliest_share", "profit from the liveliest quarter", "ratio", "net of the quarter of dates with the "
                   "widest bars / net of all"))
    tables = (GateTable("parts", "Parts", (
        Figure("part", "part", "", "a block of dates, a quarter of dates by how lively they were, or a trend"),
        Figure("first", "first", "date", "first date of the part"), Figure("last", "last", "date", "last date of the part"),
        *(BY_KEY[key] for key in ("net", "trades", "profit_factor", "win_rate", "average")),
        Figure("drawdown", "drawdown", "money", "largest fall of the part's daily results from their running peak",
               better=-1))),)
    figure = "positive"
    picture = ("parts", "net", "")
    setting = "least_positive"

    def describe(self) -> str:
        o = self.options
        return f"{min(o.least_positive, o.blocks)} of {o.blocks} earn" + (", newest too" if o.newest else "")

    def clause(self, figures: dict[str, float]) -> str:
        return f"{number(figures['positive'])} of {number(figures['blocks'])} parts earn"

    def judge(self, case: Case) -> Outcome:
        o, run = self.options, case.run
        days, daily = run.daily
        if len(days) < 2 * o.blocks or not len(run):
            return self.unsure(case, f"{len(days)} trading dates and {len(run)} trades are too few for {o.blocks} parts.",
                               {"positive": math.nan})
        at = np.searchsorted(days, run.bars.trading_date[run.trades_i[:, k.T_EXIT_BAR]])
        block = np.arange(len(days)) * o.blocks // len(days)
        lively, trend = liveliness(run, days), trends(run, days)
        quarter = np.searchsorted(np.quantile(lively, (0.25, 0.5, 0.75)), lively, "left")
        parts = [(f"part {i + 1}", block == i) for i in range(o.blocks)]
        parts += [(f"liveliness, quarter {i + 1}", quarter == i) for i in range(QUARTERS)]
        parts += [("after a rise", trend > 0), ("after a fall", trend < 0)]
        told = [part_figures(run, at, part, daily) for _, part in parts]
        first = np.datetime64(0, "D")
        table: dict[str, NDArray] = {"part": np.array([name for name, _ in parts])}
        table["first"] = np.array([str(first + int(days[part][0])) if part.any() else "" for _, part in parts])
        table["last"] = np.array([str(first + int(days[part][-1])) if part.any() else "" for _, part in parts])
        for key in told[0]:
            table[key] = np.array([f[key] for f in told])
        nets = [f["net"] for f in told[:o.blocks]]
        positive, newest = sum(n > 0 for n in nets), nets[-1]
        figures = {"positive": float(positive), "newest_net": newest, "worst_net": min(nets), "blocks": float(o.blocks),
                   "liveliest_share": told[o.blocks + QUARTERS - 1]["net"] / sum(nets) if sum(nets) > 0 else math.nan}
        words = f"{positive} of {o.blocks} consecutive parts earn ({', '.join(number(n) for n in nets)})"
        if positive < min(o.least_positive, o.blocks):
            return self.falls(case, f"{words}; {o.least_positive} are needed.", figures, {"parts": table})
        if o.newest and newest <= 0:
            return self.falls(case, f"{words}, and the newest does not: the edge may have died.", figures, {"parts": table})
        return self.passes(case, f"{words}.", figures, {"parts": table})
