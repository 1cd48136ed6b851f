"""Verdicts that hold already: the rules' own, or the fall of a near-twin."""

from __future__ import annotations

from dataclasses import replace

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.proving.gate import FALLS, PASSES, Case, Gate, Outcome
from wolbrin.core.rules.dated import undated
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.holdout import NEAR_TWIN, HoldoutBook, Judged, nearest
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.series import Daily
from wolbrin.core.work.footing import Footing

AMPLE = 1e9  # account money that no margin and no rounding of sizes comes near


def training_daily(history: Prepared, strategy: Strategy) -> Daily:
    """Daily results over all bars before the border, before costs and on ample capital: what near-twins are told by. No span,
    limit, cost or capital of anybody's choice takes part, so that none can make two alike look different; nor do dated
    numbers of the past: those in force now are what meets the holdout."""
    return backtest(history, undated(strategy), Brief(capital=AMPLE), detail=False).daily


def _fallen(project: Project, footing: Footing, market: str) -> list[Judged]:
    """Verdicts on a market that are falls, each with its daily results where they can be had."""
    book, found = HoldoutBook(project), []
    for one in book.judged(market):
        if one.verdict != FALLS:
            continue
        if one.daily is None:
            bodies = project.rows("SELECT body, interval FROM candidates JOIN bodies ON candidate = id WHERE hash = ? AND "
                                  "market = ? UNION ALL SELECT body, interval FROM strategies WHERE hash = ?", one.hash,
                                  one.market, one.hash)
            if bodies:
                history = footing.histories.prepared(market, bodies[0]["interval"])
                daily = training_daily(history, Strategy.model_validate_json(bodies[0]["body"]))
                book.remember(one, daily)
                one = replace(one, daily=daily)
        found.append(one)
    return found


def without_look(gate: Gate, passed: bool, reason: str, headline: str, tried: int, of: str = "") -> Outcome:
    """A verdict that tells nothing of sealed bars but itself."""
    return Outcome(gate.key, passed, reason, headline, gate.settings | {"tried": tried}, {}, gate.settings, of=of)


def known_verdict(project: Project, footing: Footing, case: Case, gate: Gate, *, name: str,
                  daily: Daily | None = None) -> Outcome | None:
    """The verdict that holds already: the rules' own, or the fall of a near-twin; None where a new one is needed. A
    near-twin's fall is written down as the rules' own."""
    market, hash = case.history.bars.terms.code, strategy_hash(case.strategy)
    book = HoldoutBook(project)
    final = book.final(market, hash)
    if final is not None:
        of = final.verdict if final.verdict not in (PASSES, FALLS) else ""
        words = f"Judged on {final.created[:10]}, for good: {final.reason}"
        return without_look(gate, final.verdict == PASSES, words, "final", case.tried, of)
    daily = daily or training_daily(case.history, case.strategy)
    twin = nearest(daily, _fallen(project, footing, market))
    if twin is None or twin[1] < NEAR_TWIN:
        return None
    reason = (f"Earns like {twin[0].name}, which fell on {twin[0].created[:10]} (correlation of training days {twin[1]:.2f}; "
              f"from {NEAR_TWIN:g} on it is the same bet).")
    book.judge(now(), market, hash, name, FALLS, reason, daily)
    return without_look(gate, False, reason, "near-twin fell", case.tried)
