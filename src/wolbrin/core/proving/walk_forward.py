"""Walk-forward: the candidate's numbers fitted on a stretch and traded on the next, again and again (Pardo 2008)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from pydantic import Field

from wolbrin.core.figures.figure import Figure
from wolbrin.core.figures.searches import WALKED, WALKS
from wolbrin.core.measures.catalogue import MEASURES
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, GateTable, Outcome, Shown
from wolbrin.core.search.folds import Unit
from wolbrin.core.search.walked import WalkAsk


class WalkForwardSettings(Model):
    """training, test: lengths, with their units. numbers: how many of the candidate's numbers each fold fits, those ticked
    first; values: of each, spread over its range. A candidate with dated numbers is walked as it says itself. Rules of 0
    (drift of 100) are not asked."""

    training: int = Field(24, ge=1, le=100_000, title="trained on")
    training_unit: Unit = Field("months", title="training in")
    test: int = Field(6, ge=1, le=100_000, title="tested on")
    test_unit: Unit = Field("months", title="tests in")
    anchored: bool = Field(False, title="training from the beginning")
    choice: Literal["center", "best"] = Field("center", title="each fit takes")
    numbers: int = Field(3, ge=1, le=6, title="numbers fitted, at most")
    values: int = Field(5, ge=2, le=50, title="values of each")
    least_efficiency: float = Field(30.0, ge=0, le=1000, title="% efficiency, at least")
    least_profitable: float = Field(50.0, ge=0, le=100, title="% profitable folds, at least")
    least_return_drawdown: float = Field(1.0, ge=0, le=1000, title="return over drawdown, at least")
    least_t: float = Field(1.0, ge=0, le=100, title="t of daily results, at least")
    most_drift: float = Field(100.0, gt=0, le=100, title="% drift, at most")


@dataclass(frozen=True)
class WalkForwardGate(Gate):
    """Tests the tuning itself: what was fitted before must trade what comes after. Thresholds are common practice, no
    source."""

    options: WalkForwardSettings = WalkForwardSettings()
    key = "walk_forward"
    title = "Walk-forward"
    shown = (Shown("efficiency", "walk efficiency", "ratio", WALKED["efficiency"].definition, digits=2, better=1,
                   source=WALKED["efficiency"].source),
             Shown("profitable", "profitable folds", "percent", WALKED["profitable"].definition, digits=0, better=1),
             Shown("t_daily", "t of the tests", "ratio", "t of the daily results of all tests, autocorrelation allowed for",
                   digits=2, better=1, source="Newey & West 1987"),
             Shown("drift", "drift of numbers", "percent", WALKED["drift"].definition, digits=0, better=-1))
    more = (WALKED["folds"], *(m for m in MEASURES if m.key not in ("t_daily",)))
    tables = (GateTable("folds", "Folds", (
        Figure("tested", "tested", "date", "first date of the test"), WALKS["walk.net"].as_key("net"),
        WALKS["walk.promised"].as_key("promised"), WALKS["walk.trades"].as_key("trades"))),)
    figure = "profitable"
    setting = "least_profitable"
    picture = ("folds", "net", "")

    def describe(self) -> str:
        o = self.options
        return f"efficiency \u2265 {o.least_efficiency:g}%, {o.least_profitable:g}% of folds earn"

    def clause(self, figures: dict[str, float]) -> str:
        return f"fitted anew, {number(figures['profitable'])}% of its tests earn"

    def judge(self, case: Case) -> Outcome:
        o = self.options
        told = case.walk(WalkAsk(f"{o.training}{o.training_unit[0]}", f"{o.test}{o.test_unit[0]}", o.anchored, o.choice,
                                 o.numbers, o.values)) if case.walk is not None else None
        if told is None or told.fault:
            why = told.fault if told is not None else "There is nothing to walk on."
            return self.unsure(case, why, dict.fromkeys(("efficiency", "profitable", "t_daily", "drift"), math.nan))
        f, tested = told.figures, told.tested
        table = {"folds": {"tested": np.array([t.fold.test_first.isoformat() for t in tested]),
                           "net": np.array([t.net for t in tested]), "promised": np.array([t.promised for t in tested]),
                           "trades": np.array([t.trades for t in tested])}}
        if not any(t.trades for t in tested):
            return self.unsure(case, "No test of its walk has an entry.", f, table)
        words = told.sentence.rstrip(".")
        asked = ((f["efficiency"] * 100, o.least_efficiency, "efficiency", f"{number(f['efficiency'], 2)}"),
                 (f["profitable"], o.least_profitable, "profitable folds", f"{number(f['profitable'])}%"),
                 (f["return_drawdown"], o.least_return_drawdown, "return over drawdown of the tests",
                  number(f["return_drawdown"], 2)), (f["t_daily"], o.least_t, "t of the tests", number(f["t_daily"], 2)))
        for value, least, name, shown in asked:
            if least > 0 and not value >= least:
                needed = number(least / 100, 2) if name == "efficiency" else number(least, 2) + (
                    "%" if "folds" in name else "")
                return self.falls(case, f"{words}; {name} {shown}, {needed} is needed.", f, table)
        if f["drift"] > o.most_drift:
            return self.falls(case, f"{words}; its numbers drift by {number(f['drift'])}% of their range from fit to fit, "
                              f"{number(o.most_drift)}% at most.", f, table)
        return self.passes(case, f"{words}; efficiency {number(f['efficiency'], 2)}, t of the tests "
                           f"{number(f['t_daily'], 2)}.", f, table)
