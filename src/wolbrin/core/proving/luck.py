"""Against luck: what share of finds this strong the search's own controls bring as well."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal

from pydantic import Field

from wolbrin.core.figures.figure import Figure
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.inference import p_above, t_needed
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, Origin, Outcome, Shown
from wolbrin.core.search.deflated import Deflated, deflated
from wolbrin.core.search.luck import Luck
from wolbrin.core.search.strength import MOST_CONTROLS, Strength

MOST_ELSE = 20  # times as much as its sweep that may have been tried on the market
FAR_T = 16.0  # beyond what any find has
SELDOM = 0.01  # of the searches on noise: how many may keep as many, and find as strong


class LuckSettings(Model):
    """judge_by: the share of finds this strong that luck brings (an empirical false discovery rate), at most `most_share`, by
    a search that as a whole found more than luck does, or for a find stronger than luck's (in 99 of 100 both); or by
    "strongest": stronger than the strongest find of so many of the controls (White 2000), at least 1 - `most_share`. Other
    searches on the market were chances too: what luck brings is multiplied by all that was tried there over what its own
    search tried; not by scans, where its controls scanned as much. A find of a sweep that kept the daily results of all its
    sets is judged among all of them (Hansen 2005, stepwise). Where neither is at hand, t of daily results must be so large
    that the best of all that was tried reaches it with this chance only. least_deflated: the probability that the Sharpe
    ratio is above luck's best must be at least this; 0 to only tell it, as is usual: it is a figure beside the others, and
    no test."""

    judge_by: Literal["share", "strongest"] = Field("share", title="judged by")
    most_share: float = Field(0.10, gt=0, lt=1, title="share luck brings, at most")
    least_deflated: float = Field(0.0, ge=0, lt=1, title="above luck's best Sharpe, at least")


def _strength(case: Case) -> float:
    """t of daily results, no more than that above drift; NaN where there is none."""
    told = measure(Facts.of(case.run), ("t_daily", "above_drift"))
    return min(told.values()) if all(map(math.isfinite, told.values())) else math.nan


def _others(case: Case, came: Origin) -> float:
    """How many times as much as its search tried was tried on the market, without the scans that its controls made too."""
    return max(1.0, (max(case.tried, case.tried_on) - came.scanned) / max(1, came.tried))


def _percent(share: float) -> str:
    return f"{number(100 * share, 1 if share < 0.01 else 0)}%"


def _deflated(case: Case) -> Deflated | None:
    """Against what luck came to in its search; None where that is not known."""
    hurdle = case.origin.hurdle if case.origin is not None else None
    if hurdle is None or not math.isfinite(hurdle.value) or not len(case.run):
        return None
    return deflated(case.run.daily[1], hurdle)


def _searches(others: float) -> str:
    """What else was tried on the market, in words."""
    return f", and {number(others, 0 if others >= 10 else 1)} times as much was tried on the market" if others >= 1.05 else ""


def controls_needed(curve: Strength, luck: Luck, strength: float, others: float, most_share: float) -> int:
    """How many controls would show that a find is more than luck, if the further ones kept alike: 0 where they would not,
    more than MOST_CONTROLS where more were needed than can be asked."""
    if curve.at(strength, False) * others > most_share or others * min(luck.chance, curve.chance(strength, False)) > SELDOM:
        return 0
    for m in range(curve.controls + 1, MOST_CONTROLS + 1):
        if (curve.at(strength, True, m) * others <= most_share
                and others * min(luck.chance, curve.chance(strength, True, m)) <= SELDOM):
            return m
    return MOST_CONTROLS + 1


@dataclass(frozen=True)
class LuckGate(Gate):
    """The controls of the very search a candidate came from (Storey & Tibshirani 2003; White 2000)."""

    options: LuckSettings = LuckSettings()
    key = "luck"
    title = "Luck"
    shown = (Shown("share", "luck brings", "percent", "of finds as strong, so many luck brings as well; or the chance that "
                   "luck "
                   "brings one as strong, where all sets of a sweep, the strongest find of each control or t alone judge",
                   digits=0, scale=100.0, better=-1, source="Storey & Tibshirani 2003; White 2000; Hansen 2005"),
             Shown("strength", "strength, t", "ratio", "t of daily results, autocorrelation allowed for, by which finds are "
                   "held "
                   "against those of the controls", digits=1, better=1, source="Newey & West 1987"),
             Shown("deflated", "above luck's best Sharpe", "percent", "probability that the true Sharpe ratio is above the "
                   "best "
                   "that as many tries bring by luck", digits=0, scale=100.0, better=1,
                   source="Bailey & Lopez de Prado 2014"))
    more = (Figure("controls", "controls", "count", "searches on shuffled histories, under the same settings"),
            Figure("controls_needed", "controls needed", "count", "so many controls could show what is asked", better=-1),
            Figure("best_by_luck", "best by luck", "ratio", "strength of the strongest find of any control"),
            Figure("others", "other searches", "count", "all that was tried on the market / tried by its own search"),
            Figure("reach", "passed by luck", "ratio", "t that luck alone passes in 10 of 100 draws of a search like it"),
            Figure("chance", "chance", "chance", "that luck brings any find as strong, in all that was tried", better=-1),
            Figure("superior", "p among its sweep", "chance", "chance that luck brings one as strong among all sets of its "
                   "sweep",
                   better=-1, source="Hansen 2005"),
            Figure("superior_best", "best of its sweep", "ratio", "strength of the strongest set of the sweep"),
            Figure("hurdle", "luck's best Sharpe", "ratio", "Sharpe ratio of a day that the best of as many tries has by "
                   "luck",
                   source="Bailey & Lopez de Prado 2014"),
            Figure("t_needed", "t needed", "ratio", "t that the best of as many independent tries passes by luck with the "
                   "chance "
                   "that is allowed"))
    figure = "share"
    setting = "most_share"

    def describe(self) -> str:
        o = self.options
        return f"luck brings \u2264 {o.most_share:.0%}" if o.judge_by == "share" else f"p of best \u2264 {o.most_share:g}"

    def clause(self, figures: dict[str, float]) -> str:
        return f"luck brings {_percent(figures['share'])} of what is as strong (t {number(figures['strength'], 1)})"

    def asks_again(self, case: Case, figures: Mapping[str, float]) -> bool:
        """More controls may be there now."""
        there = case.origin.curve.controls if case.origin is not None and case.origin.curve is not None else 0
        return there > figures.get("controls", 0)

    def judge(self, case: Case) -> Outcome:
        made = self._by_luck(case)
        found = _deflated(case)
        if found is None:
            return made
        chance = found.chance
        words = f"its Sharpe ratio is above {found.hurdle.words()} with {number(100 * chance)}% probability"
        made = replace(made, figures=made.figures | {"deflated": chance, "hurdle": found.hurdle.value},
                       reason=f"{made.reason[:-1]}; {words}." if math.isfinite(chance) else made.reason)
        asked = self.options.least_deflated
        if made.passed and asked and not chance >= asked:
            return self.falls(case, f"{made.reason[:-1]}, {100 * asked:g}% are asked.", made.figures)
        return made

    def passed_at(self, case: Case) -> tuple[float, float]:
        """The t of training from which a candidate passes here, and the share of finds as strong as this one that luck
        brings, 0 to 1: what selection did to its t (`power.expected_t`)."""
        told = self._by_luck(case).figures
        share = told.get("share", math.nan)
        came, tried = case.origin, max(1, case.tried, case.tried_on)
        if came is None or came.curve is None or came.luck is None or not came.curve.controls:
            return t_needed(self.options.most_share / tried), share
        curve, others = came.curve, _others(case, came)
        if self.options.judge_by == "strongest":
            beaten = int(self.options.most_share * (1 + curve.controls) / others) - 1
            ranked = sorted(curve.by_luck, reverse=True)
            return (ranked[min(max(beaten, 0), len(ranked) - 1)] if ranked else 0.0), share
        low, high = (came.reach if math.isfinite(came.reach) else 0.0), FAR_T
        for _ in range(24):  # what luck brings never rises with t
            t = 0.5 * (low + high)
            enough = (curve.at(t) * others <= self.options.most_share
                      and others * min(came.luck.chance, curve.chance(t)) <= SELDOM)
            low, high = (low, t) if enough else (t, high)
        return high, share

    def _by_luck(self, case: Case) -> Outcome:
        o, came = self.options, case.origin
        if came is None or came.curve is None or came.luck is None or not came.curve.controls:
            return self._among_all(case) or self._without(case)
        curve, luck, m = came.curve, came.luck, came.curve.controls
        # Such as a near-twin of a find: as strong as it is by itself.
        strength = came.strength if math.isfinite(came.strength) else _strength(case)
        others = _others(case, came)
        figures = {"strength": strength, "controls": float(m), "share": min(1.0, curve.at(strength) * others),
                   "best_by_luck": max(curve.by_luck, default=math.nan), "others": others}
        if math.isfinite(came.reach):
            figures["reach"] = came.reach
            if not strength >= came.reach:
                return self.falls(case, "What it was searched among was chosen after a scan was seen, whose strongest row by "
                                  f"luck alone passes t {number(came.reach, 1)} in 10 of 100 draws; its own is "
                                  f"{number(strength, 1)}.", figures)
        if o.judge_by == "strongest":
            return self._by_strongest(case, curve, others, figures)
        if not math.isfinite(figures["share"]):
            return self.unsure(case, "How strong it is among the finds of its search is not known.", figures)
        figures["chance"] = min(1.0, others * min(luck.chance, curve.chance(strength)))
        words = (f"Of finds as strong (t {number(strength, 1)}), luck brings {_percent(figures['share'])} by {m} "
                 f"control{'s' if m != 1 else ''}{_searches(others)}")
        seldom = figures["chance"] <= SELDOM
        if figures["share"] <= o.most_share and seldom:
            return self.passes(case, f"{words}.", figures)
        needed = controls_needed(curve, luck, strength, others, o.most_share)
        if needed:
            enough = needed <= MOST_CONTROLS
            figures["controls_needed"] = float(needed) if enough else math.nan
            told = f"{needed} controls could show, so few cannot" if enough else f"not even {MOST_CONTROLS} controls can show"
            return self.unsure(case, f"{words}; that this is at most {100 * o.most_share:g}%, and not the luck of one search "
                               f"in a hundred, {told}.", figures)
        if figures["share"] <= o.most_share:
            # So few controls that a lucky search may stand out among them: its shares are not believed.
            return self.falls(case, f"{words}; but its search found no more, and nothing stronger, than one lucky search in "
                              "a hundred does.", figures)
        return self.falls(case, f"{words}; at most {100 * o.most_share:g}% are allowed.", figures)

    def _by_strongest(self, case: Case, curve: Strength, others: float, figures: dict[str, float]) -> Outcome:
        """Against the strongest find of each control."""
        o, m, strength = self.options, curve.controls, figures["strength"]
        beaten = sum(not b < strength for b in curve.by_luck)
        figures["share"] = share = min(1.0, others * (1 + beaten) / (1 + m))
        words = (f"Strength {number(strength, 1)}; {beaten} of {m} controls found something as strong{_searches(others)}")
        if share <= o.most_share:
            return self.passes(case, f"{words}.", figures)
        if not beaten:
            needed = math.ceil(others / o.most_share) - 1
            figures["controls_needed"] = float(needed) if needed <= MOST_CONTROLS else math.nan
            return self.unsure(case, f"{words}, and so few cannot show {o.most_share:.0%}; {needed} are needed.", figures)
        return self.falls(case, f"{words}, p {number(share, 2)}; at most {o.most_share:g}.", figures)

    def _among_all(self, case: Case) -> Outcome | None:
        """Among the whole universe of its sweep; None where that is not at hand, or so much else was tried that draws cannot
        tell. Of all that was tried on the market the sweep is a part, by which its p is raised (weighted Bonferroni)."""
        universe = case.origin.universe if case.origin is not None else None
        if universe is None:
            return None
        else_tried = max(1.0, max(case.tried, case.tried_on) / universe.tried)
        strength, p = universe.of(case.run.daily[1])
        if else_tried > MOST_ELSE or not math.isfinite(p):
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
        tried = max(1, case.tried, case.tried_on)
        asked = t_needed(self.options.most_share / tried)
        figures = {"strength": strength, "share": min(1.0, tried * p_above(strength)), "controls": 0.0, "t_needed": asked}
        why = case.origin.note if case.origin is not None and case.origin.note else "No control ran beside what found it"
        words = (f"{why}: judged by t alone, as the best of {number(tried)} tried "
                 f"({number(strength, 1)}, {number(asked, 1)} needed)")
        if not math.isfinite(strength):
            return self.unsure(case, f"{words}; it has no t.", figures)
        if strength >= asked:
            return self.passes(case, f"{words}.", figures)
        return self.falls(case, f"{words}. A search with controls (such as five) asks less of what is real.", figures)
