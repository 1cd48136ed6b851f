"""Cost and fill stress: dearer, one tick worse on every fill, one bar late, and on finer bars."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from pydantic import Field

from wolbrin.core.batch.genomes import runs_alone
from wolbrin.core.batch.shifted import Shifting
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.run import backtest
from wolbrin.core.figures.figure import Figure
from wolbrin.core.market.costs import Costs
from wolbrin.core.measures.costs import waterfall
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, GateTable, Outcome, Shown

MULTIPLES = (1.0, 1.5, 2.0, 3.0)
ROUND_TRIP = 2.0  # ticks of spread that make every fill one tick worse


class CostsSettings(Model):
    """least_multiple: of today's trading costs, at which something must be left. tick_worse, bar_late: whether something must
    be left with every fill a tick worse, and with entries a bar late; both are told always. Where a tick is dear beside the
    costs, or an edge lasts a few bars, what is real need not bear them."""

    least_multiple: float = Field(1.5, ge=1, le=10, title="must earn at, \u00d7 costs")
    tick_worse: bool = Field(False, title="must bear a tick worse")
    bar_late: bool = Field(False, title="must bear a bar late")


@dataclass(frozen=True)
class CostsGate(Gate):
    """Common practice, no source: what does not bear dearer and slower trading was found in the fills."""

    options: CostsSettings = CostsSettings()
    key = "costs"
    title = "Costs"
    shown = (Shown("break_even", "breaks even at, \u00d7 costs", "ratio", "multiple of the costs of today at which nothing "
                   "is "
                   "left: gross / (spread + slippage + commission)", digits=1, better=1),
             Shown("net_tick_worse", "net, a tick worse", "money", "net profit with every fill a tick worse", digits=0,
                   better=1))
    more = (Figure("net_late", "net, a bar late", "money", "net profit with every entry one bar late", better=1),
            Figure("net_fine", "net, fine fills", "money", "net profit with the market's own bars walked inside each bar",
                   better=1),
            Figure("net_*", "net at dearer costs", "money", "net profit at so many times the costs of today", better=1),
            Figure("round_trip", "round trip", "money", "spread, slippage and commission of one contract, in and out",
                   better=-1))
    tables = (GateTable("costs", "At dearer costs", (
        Figure("multiple", "multiple", "ratio", "of the costs of today"),
        Figure("net", "net", "money", "net profit at so many times the costs", better=1))),)
    figure = "break_even"
    picture = ("costs", "net", "")
    setting = "least_multiple"

    def describe(self) -> str:
        o = self.options
        more = [w for on, w in ((o.tick_worse, "a tick worse"), (o.bar_late, "a bar late")) if on]
        return f"earns at {o.least_multiple:g} \u00d7" + "".join(f", {w}" for w in more)

    def clause(self, figures: dict[str, float]) -> str:
        level = figures["break_even"]
        paid = f"earns {number(figures['net_1'])} at {number(figures['round_trip'], 2)} a round trip"
        return f"{paid}, breaks even at {number(level, 1)} times costs" if math.isfinite(level) else paid

    def judge(self, case: Case) -> Outcome:
        o, run, costs = self.options, case.run, case.costs
        if not len(run):
            return self.unsure(case, "There is no trade to stress.", {"break_even": math.nan})

        def net(brief: Brief) -> float:
            return float(backtest(case.history, case.strategy, brief, detail=False).profits.sum())

        def at(dearer: Costs) -> float:
            return net(replace(case.brief, costs=dearer))

        several = sorted({*MULTIPLES, o.least_multiple})
        nets = {m: float(run.profits.sum()) if m == 1.0 else at(costs.scaled(m)) for m in several}
        figures = {f"net_{m:g}": v for m, v in nets.items()}
        paid, contracts = waterfall(run), float(np.abs(run.trades_f[:, k.F_QUANTITY]).sum())
        figures["break_even"] = paid.level
        figures["round_trip"] = (paid.spread + paid.slippage + paid.commission) / contracts
        figures["net_tick_worse"] = at(costs.model_copy(update={"spread_ticks": costs.spread_ticks + ROUND_TRIP}))
        figures["net_late"] = self._late(case)
        figures["net_fine"] = (net(replace(case.brief, fine=True)) if not case.brief.fine and case.history.fine is not None
                               else math.nan)
        table = {"costs": {"multiple": np.array(several), "net": np.array([nets[m] for m in several])}}
        return self._decide(case, figures, nets[1.0], table)

    def _decide(self, case: Case, f: dict[str, float], net: float, tables: dict[str, dict[str, np.ndarray]]) -> Outcome:
        o, free = self.options, case.costs.scaled(0.0) == case.costs
        free = free or not math.isfinite(f["break_even"])
        level = "" if free else f"; breaks even at {number(f['break_even'], 1)} times costs"
        trip = f["round_trip"]
        words = f"Earns {number(net)} at {number(trip, 2)} a round trip"
        if f[f"net_{o.least_multiple:g}"] <= 0:
            dear = f[f"net_{o.least_multiple:g}"]
            return self.falls(case, f"{words}, {number(dear) if dear else 'nothing'} at {number(trip * o.least_multiple, 2)} "
                              f"({o.least_multiple:g} times){level}.", f, tables)
        if o.tick_worse and f["net_tick_worse"] <= 0:
            left = number(f["net_tick_worse"])
            return self.falls(case, f"{words}, and {left} with every fill a tick worse{level}.", f, tables)
        if o.bar_late and math.isfinite(f["net_late"]) and f["net_late"] <= 0:
            return self.falls(case, f"{words}, and {number(f['net_late'])} with entries one bar late.", f, tables)
        late = f", {number(f['net_late'])} a bar late" if math.isfinite(f["net_late"]) else ""
        words += f"; {number(f['net_tick_worse'])} with every fill a tick worse{late}{level}"
        return self.passes(case, f"{words}.", f, tables)

    def _late(self, case: Case) -> float:
        if runs_alone(case.strategy):
            return math.nan  # it has no bits of its own that could be moved
        return Shifting(case.many, case.genome, case.many.pool).late(1)
