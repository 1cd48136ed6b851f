"""Against luck: what share of finds this strong the search's own controls bring as well."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Literal

from pydantic import Field

from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.inference import p_above, t_needed
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, Outcome, Shown
from wolbrin.core.search.deflated import Deflated, deflated
from wolbrin.core.search.superior import statistics_of

MOST_ELSE = 20  # times as much as its sweep that may have been tried on the market


class LuckSettings(Model):
    """judge_by: the share of finds this strong that luck brings (an empirical false discovery rate), at most `most_share`, by
    a search that as a whole found more than luck does, or for a find stronger than luck's (in 99 of 100 both); or by
    "strongest": stronger than the strongest find of so many of the controls (White 2000), at least 1 - `most_share`. A find
    of a sweep that kept the daily results of all its sets is judged among all of them (Hansen 2005, stepwise). Where neither
    is at hand, t of daily results must be so large that the best of all that was tried reaches it with this chance only.
    least_deflated: probability that the deflated Sharpe ratio must have, 0 to only tell it, since hopeless trials inflate the
    variance it asks by."""

    judge_by: Literal["share", "strongest"] = Field("share", title="judged by")
    most_share: float = Field(0.10, gt=0, lt=1, title="share luck brings, at most")
    least_deflated: float = Field(0.0, ge=0, lt=1, title="deflated Sharpe, at least")


def _strength(case: Case) -> float:
    """t of daily results, no more than that above drift; NaN where there is none."""
    told = measure(Facts.of(case.run), ("t_daily", "above_drift"))
    return min(told.values()) if all(map(math.isfinite, told.values())) else math.nan


def _percent(share: float) -> str:
    return f"{number(100 * share, 1 if share < 0.01 else 0)}%"


def _deflated(case: Case) -> Deflated | None:
    """Over everything its search tried; None where that is not known."""
    trials = case.origin.trials if case.origin is not None else None
    if trials is None or trials.groups < 1 or not len(case.run):
        return None
    return deflated(case.run.daily[1], trials)


@dataclass(frozen=True)
class LuckGate(Gate):
    """The controls of the very search a candidate came from (Storey & Tibshirani 2003; White 2000)."""

    options: LuckSettings = LuckSettings()
    key = "luck"
    title = "Luck"
    shown = (Shown("share", "luck brings", 0, 100.0, "%"), Shown("strength", "strength, t", 1),
             Shown("deflated", "deflated Sharpe", 0, 100.0, "%"))
    figure = "share"
    setting = "most_share"

    def describe(self) -> str:
        o = self.options
        return f"luck brings \u2264 {o.most_share:.0%}" if o.judge_by == "share" else f"p of best \u2264 {o.most_share:g}"

    def clause(self, figures: dict[str, float]) -> str:
        return f"luck brings {_percent(figures['share'])} of what is as strong (t {number(figures['strength'], 1)})"

    def judge(self, case: Case) -> Outcome:
        made = self._by_luck(case)
        found = _deflated(case)
        if found is None:
            return made
        chance, hurdle, groups = found.chance, found.hurdle, found.trials.groups
        words = f"deflated Sharpe ratio {number(100 * chance)}% over {number(groups)} different tries"
        made = replace(made, figures=made.figures | {"deflated": chance, "hurdle": hurdle},
                       reason=f"{made.reason[:-1]}; {words}." if math.isfinite(chance) else made.reason)
        asked = self.options.least_deflated
        if made.passed and asked and not chance >= asked:
            return self.falls(case, f"{made.reason[:-1]}, {100 * asked:g}% are asked.", made.figures)
        return made

    def _by_luck(self, case: Case) -> Outcome:
        o, came = self.options, case.origin
        if came is None or not came.controls:
            return self._among_all(case) or self._without(case)
        figures = {"strength": came.strength, "controls": float(came.controls), "share": came.share,
                   "best_by_luck": max(came.best, default=math.nan)}
        if o.judge_by == "strongest":
            beaten = sum(came.strength <= b for b in came.best)
            share = (1 + beaten) / (1 + came.controls)
            figures["share"] = share
            if 1 / (1 + came.controls) > o.most_share:
                return self.unsure(case, f"{came.controls} controls cannot show {o.most_share:.0%}; "
                                   f"{math.ceil(1 / o.most_share) - 1} are needed: run the search again with more.", figures)
            words = f"Strength {number(came.strength, 1)}; {beaten} of {came.controls} controls found something as strong"
            return self.passes(case, f"{words}.", figures) if share <= o.most_share else self.falls(
                case, f"{words}, p {number(share, 2)}; at most {o.most_share:g}.", figures)
        if not math.isfinite(came.share):
            # Such as a near-twin of a find: as strong as it is by itself.
            figures["strength"] = strength = _strength(case)
            figures["share"] = came.share_at(strength)
        if not math.isfinite(figures["share"]):
            return self.unsure(case, "How strong it is among the finds of its search is not known.", figures)
        words = (f"Of finds as strong (t {number(figures['strength'], 1)}), luck brings {_percent(figures['share'])} by "
                 f"{came.controls} control{'s' if came.controls != 1 else ''}")
        if figures["share"] <= o.most_share and not came.more and not figures["strength"] > came.sure:
            # So few controls that a lucky search may stand out among them: its shares are not believed.
            return self.falls(case, f"{words}; but its search found no more, and nothing stronger, than one lucky search in "
                              "a hundred does.", figures)
        return self.passes(case, f"{words}.", figures) if figures["share"] <= o.most_share else self.falls(
            case, f"{words}; at most {100 * o.most_share:g}% are allowed.", figures)

    def _among_all(self, case: Case) -> Outcome | None:
        """Among the whole universe of its sweep; None where that is not at hand, or so much else was tried that draws cannot
        tell. Of all that was tried on the market the sweep is a part, by which its p is raised (weighted Bonferroni)."""
        universe = case.origin.universe if case.origin is not None else None
        daily = case.run.daily[1]
        if universe is None or len(daily) != universe.days:
            return None
        else_tried = max(1.0, case.tried / universe.tried)
        if else_tried > MOST_ELSE:
            return None
        strength = float(statistics_of(daily[None, :], universe.block)[0])
        p = universe.at(strength)
        if not math.isfinite(p):
            return None
        share = min(1.0, p * else_tried)
        figures = {"strength": strength, "share": share, "controls": 0.0, "superior": p, "superior_best": universe.best}
        words = (f"Among all {number(universe.tried)} sets of its sweep luck brings one as strong "
                 f"(t {number(strength, 1)}) with a chance of {number(100 * p, 1)}%")
        if else_tried > 1.0:
            words += f", {number(100 * share, 1)}% with all else that was tried"
        return self.passes(case, f"{words}.", figures) if share <= self.options.most_share else self.falls(
            case, f"{words}; at most {100 * self.options.most_share:g}% are allowed.", figures)

    def _without(self, case: Case) -> Outcome:
        """No control: all that was tried as so many independent tries, which asks more than a control would."""
        strength = _strength(case)
        tried, asked = max(1, case.tried), t_needed(self.options.most_share / max(1, case.tried))
        figures = {"strength": strength, "share": min(1.0, tried * p_above(strength)), "controls": 0.0, "t_needed": asked}
        words = (f"No control ran beside what found it: judged by t alone, as the best of {number(tried)} tried "
                 f"({number(strength, 1)}, {number(asked, 1)} needed)")
        if not math.isfinite(strength):
            return self.unsure(case, f"{words}; it has no t.", figures)
        if strength >= asked:
            return self.passes(case, f"{words}.", figures)
        return self.falls(case, f"{words}. A search with controls (such as five) asks less of what is real.", figures)
