"""Entries moved: does it matter when it enters, or would as many entries on other days have earned as much?"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from pydantic import Field

from wolbrin.core.batch.genomes import runs_alone
from wolbrin.core.batch.shifted import Shifting
from wolbrin.core.figures.figure import Figure
from wolbrin.core.measures.catalogue import BY_KEY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.inference import p_above
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, GateTable, Outcome, Shown

FEW = 100


class TimingSettings(Model):
    """runs: how often entries are moved. least_percentile: of the moved ones that must earn less."""

    runs: int = Field(1_000, ge=100, le=100_000, title="times moved")
    least_percentile: float = Field(95.0, gt=50, lt=100, title="% that earn less, at least")


@dataclass(frozen=True)
class TimingGate(Gate):
    """Entry signals moved by whole sessions at random, exits kept; p as (1 + as good) / (1 + runs) (Phipson & Smyth 2010).

    First of all it must beat what the market's mean moves earn on the bars held: in a market that merely rises, a rule that
    is long at the right times of day, or on quiet days, beats its own moved entries and knows nothing. A rule of the clock
    alone comes to the same wherever it is moved; there beating the drift at half the chance of error will do.
    """

    options: TimingSettings = TimingSettings()
    key = "timing"
    title = "Timing"
    shown = (Shown("percentile", "above moved entries", "percent", "100 (1 - p), where p is the smaller of twice p of the t "
                   "above "
                   "drift, and the larger of it and of the moved entries", digits=1, better=1, source="Phipson & Smyth 2010"),
             Shown("above_drift", "t above drift", "ratio", BY_KEY["above_drift"].definition, digits=1, better=1))
    more = (Figure("p_drift", "p above drift", "chance", "chance of as large a t above drift by luck", better=-1),
            Figure("p_moved", "p among moved entries", "chance", "(1 + runs as good or better) / (runs + 1)", better=-1,
                   source="Phipson & Smyth 2010"),
            Figure("p", "p", "chance", "by which it judges, from both", better=-1),
            Figure("actual", "its own result", "ranges of the day", "sum of daily results over the mean range of a bar on "
                   "that "
                   "date", better=1),
            Figure("median", "median of moved entries", "ranges of the day", "median of the same with entries moved"))
    tables = (GateTable("moved", "Entries moved", (
        Figure("result", "result, in ranges of the day", "ranges of the day", "sum of daily results over the mean range of "
               "a bar "
               "on that date, entries moved by whole sessions"),)),)
    figure = "percentile"
    picture = ("moved", "result", "actual")
    setting = "least_percentile"

    def describe(self) -> str:
        return f"above {self.options.least_percentile:g}% of moved"

    def clause(self, figures: dict[str, float]) -> str:
        return f"better than {number(min(figures['percentile'], 99.9), 1)}% of entries at other times"

    def judge(self, case: Case) -> Outcome:
        o = self.options
        drift = float(measure(Facts.of(case.run), ("above_drift",))["above_drift"])
        p_drift = p_above(drift)
        figures = {"above_drift": drift, "p_drift": p_drift, "p_moved": math.nan}
        tables, runs = {}, 0
        if not len(case.run):
            return self.unsure(case, "There is no entry to move.", figures | {"percentile": math.nan})
        if not runs_alone(case.strategy):
            lost = 100.0 * (1.0 - p_drift) < o.least_percentile  # whatever moved entries earn; some are run for their picture
            runs = min(FEW, o.runs) if lost else o.runs
            made = Shifting(case.many, case.genome, case.many.pool).run(case.seed, 0, runs)
            figures["p_moved"] = made.p
            figures["actual"], figures["median"] = made.actual, float(np.median(made.chance))
            tables = {"moved": {"result": np.sort(made.chance)}}
        if not math.isfinite(p_drift):
            return self.unsure(case, "It has no result beside the market's drift.", figures | {"percentile": math.nan},
                               tables)
        # Both ways ask p_drift, so that the error is no larger than its own.
        ways = [2.0 * p_drift] if math.isfinite(figures["p_moved"]) else [p_drift]
        ways += [max(p_drift, figures["p_moved"])] if math.isfinite(figures["p_moved"]) else []
        p = min(1.0, *ways)
        figures["p"], figures["percentile"] = p, 100.0 * (1.0 - p)
        if math.isfinite(figures["p_moved"]):
            better = f"Earns more than {number(100 * (1 - figures['p_moved']), 1)}% of {number(runs)} with entries moved"
        else:
            better = ("With dated numbers its entries cannot be moved" if case.strategy.schedule is not None else
                      "Its rows on the position cannot be moved")
        words = f"{better}; t above the market's drift {number(drift, 1)}"
        if figures["percentile"] < o.least_percentile:
            return self.falls(case, f"{words}. That is what entries at any time earn.", figures, tables)
        return self.passes(case, f"{words}.", figures, tables)
