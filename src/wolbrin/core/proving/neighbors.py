"""Neighbors: the same rules with every number a step aside. What works only at one setting was fitted."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from pydantic import Field, ValidationError

from wolbrin.core.batch.neighbors import neighbors
from wolbrin.core.figures.figure import Figure
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, GateTable, Outcome, Shown
from wolbrin.core.rules.dated import varied
from wolbrin.core.rules.numbers import tunables


class NeighborsSettings(Model):
    """least_share: of the neighbors that must earn, percent. least_median: of the median of their profits over its own,
    percent. most: neighbors that are run, drawn evenly where there are more. plateau: sets in which every number moves at
    most a step, drawn at random, whose median is told as the plateau score; 0 for none. least_plateau: of that score over its
    own profit, percent."""

    least_share: float = Field(80.0, ge=0, le=100, title="% that earn, at least")
    least_median: float = Field(40.0, ge=0, le=100, title="% median of its own, at least")
    most: int = Field(60, ge=4, le=2_000, title="neighbors, at most")
    plateau: int = Field(30, ge=0, le=2_000, title="sets for the plateau score")
    least_plateau: float = Field(0.0, ge=0, le=100, title="% plateau of its own, at least")


@dataclass(frozen=True)
class NeighborsGate(Gate):
    """Common practice, no source: a plateau is believed, a peak is not."""

    options: NeighborsSettings = NeighborsSettings()
    key = "neighbors"
    title = "Neighbors"
    shown = (Shown("share", "neighbors that earn", "percent", "neighbors, one number moved by a step, whose net is above "
                   "zero",
                   digits=0, better=1),
             Shown("median_share", "median to its own", "percent", "median net of the neighbors / its own", digits=0,
                   better=1),
             Shown("plateau_share", "plateau to its own", "percent", "mean net of the sweep's sets around it / its own",
                   digits=0,
                   better=1))
    more = (Figure("neighbors", "neighbors", "count", "rules with one number moved by a step"),
            Figure("median", "median net", "money", "median net of the neighbors", better=1),
            Figure("worst", "worst net", "money", "net of the worst neighbor", better=1),
            Figure("plateau", "plateau", "money", "mean net of the sweep's sets around it", better=1))
    tables = (GateTable("neighbors", "Neighbors", (
        Figure("number", "number", "", "which number is moved"),
        Figure("value", "value", "as set", "what it is moved to"),
        Figure("net", "net", "money", "net profit there", better=1))),)
    figure = "share"
    picture = ("neighbors", "net", "")
    setting = "least_share"

    def describe(self) -> str:
        o = self.options
        return f"{o.least_share:g}% earn, median {o.least_median:g}%"

    def clause(self, figures: dict[str, float]) -> str:
        return f"{number(figures['share'])}% of its neighbors earn"

    def judge(self, case: Case) -> Outcome:
        o = self.options
        every = neighbors(case.strategy)
        if len(every) > o.most:
            every = [every[i] for i in np.linspace(0, len(every) - 1, o.most).round().astype(int)]
        own = float(case.run.profits.sum())
        if not every:
            return self.unsure(case, "It has no number that could be moved.", {"neighbors": 0.0, "share": math.nan})
        out = case.many.evaluate([n.strategy for n in every])
        able = [i for i in range(len(every)) if i not in out.faults]  # some settings cannot be computed at all
        every, net = [every[i] for i in able], np.nan_to_num(out.figures[able, SUMMARY.index("net")])
        if not every:
            return self.unsure(case, "None of its neighbors can be run.", {"neighbors": 0.0, "share": math.nan})
        worst = int(net.argmin())
        share, median = 100.0 * float((net > 0).mean()), float(np.median(net))
        figures = {"neighbors": float(len(every)), "share": share, "median": median, "worst": float(net[worst]),
                   "median_share": 100.0 * median / own if own > 0 else math.nan}
        table = {"neighbors": {"number": np.array([n.title for n in every]), "value": np.array([n.value for n in every]),
                               "net": net}}
        low = f"{number(float(net[worst]))} ({every[worst].title} {every[worst].value:g})"
        words = f"{number(share)}% of {len(every)} neighbors earn; the median {number(median)} against its own {number(own)}"
        words += f", the worst {low}"
        score = self._plateau(case, own)
        if math.isfinite(score):
            figures |= {"plateau": score, "plateau_share": 100.0 * score / own if own > 0 else math.nan}
            words += f"; plateau score {number(score)}"
        if share < o.least_share:
            return self.falls(case, f"{words}; {o.least_share:g}% are needed.", figures, table)
        if not figures["median_share"] >= o.least_median:
            return self.falls(case, f"{words}: it stands on a peak.", figures, table)
        if o.plateau and o.least_plateau and not figures.get("plateau_share", math.nan) >= o.least_plateau:
            return self.falls(case, f"{words}; {o.least_plateau:g}% of its own are needed.", figures, table)
        return self.passes(case, f"{words}.", figures, table)

    def _plateau(self, case: Case, own: float) -> float:
        """Median over sets within a step on every number at once, itself included, as sweeps tell it; what cannot be run
        counts as the worst. NaN where it is not asked."""
        every, rng = tunables(case.strategy), np.random.default_rng((case.seed, 7))
        if not self.options.plateau or not every:
            return math.nan
        made, refused = [], 0
        for _ in range(self.options.plateau):
            steps = rng.integers(-1, 2, len(every))
            try:
                made.append(varied(case.strategy, {t.key: round(t.value + int(s) * t.step, 10)
                                                        for t, s in zip(every, steps)}))
            except ValidationError:
                refused += 1
        out = case.many.evaluate(made)
        net = np.nan_to_num(out.figures[:len(made), SUMMARY.index("net")])
        good = np.append(net[[i for i in range(len(made)) if i not in out.faults]], own)
        return float(np.median(np.append(good, np.full(len(made) + 1 - len(good) + refused, good.min()))))
