"""Judging on the holdout: once, for good, for the rules and their near-twins. Every way to sealed bars leads through here."""

from __future__ import annotations

from dataclasses import dataclass, replace

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.proving.gate import FALLS, PASSES, Case, Gate, Outcome
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.ground import Histories
from wolbrin.core.store.holdout import NEAR_TWIN, HoldoutBook, Judged, nearest, t_for
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.sealed import open_sealed
from wolbrin.core.store.series import Daily
from wolbrin.core.work.footing import Footing

AMPLE = 1e9  # account money that no margin and no rounding of sizes comes near


@dataclass
class Batch:
    """Candidates whose holdout opens together, and how many they are. number: of the opening in the project; taken when the
    first of them really opens it, so that a line on which nothing comes so far does not raise the next bar."""

    size: int = 1
    number: int = 0

    def take(self, book: HoldoutBook) -> int:
        """The number of this opening."""
        if not self.number:
            self.number = book.reserve()
        return self.number

    @property
    def t_needed(self) -> float:
        return t_for(self.number, self.size)


def training_daily(history: Prepared, strategy: Strategy) -> Daily:
    """Daily results over all bars before the border, before costs and on ample capital: what near-twins are told by. No span,
    limit, cost or capital of anybody's choice takes part, so that none can make two alike look different."""
    return backtest(history, strategy, Brief(capital=AMPLE), detail=False).daily


def _fallen(project: Project, footing: Footing, market: str) -> list[Judged]:
    """Verdicts on a market that are falls, each with its daily results where they can be had."""
    book, found = HoldoutBook(project), []
    for one in book.judged(market):
        if one.verdict != FALLS:
            continue
        if one.daily is None:
            bodies = project.rows("SELECT body, interval FROM candidates JOIN bodies ON candidate = id WHERE hash = ? AND "
                                  "market = ? UNION ALL SELECT body, interval FROM strategies WHERE hash = ?", one.hash,
                                  market, one.hash)
            if bodies:
                history = footing.histories.prepared(market, bodies[0]["interval"])
                daily = training_daily(history, Strategy.model_validate_json(bodies[0]["body"]))
                book.remember(one, daily)
                one = replace(one, daily=daily)
        found.append(one)
    return found


def _verdict(gate: Gate, passed: bool, reason: str, headline: str, tried: int) -> Outcome:
    """A verdict that needs no look at sealed bars."""
    return Outcome(gate.key, passed, reason, headline, gate.settings | {"tried": tried}, {}, gate.settings)


def known_verdict(project: Project, footing: Footing, case: Case, gate: Gate, *, name: str,
                  daily: Daily | None = None) -> Outcome | None:
    """The verdict that holds already: the rules' own, or the fall of a near-twin; None where a new one is needed. A
    near-twin's fall is written down as the rules' own."""
    market, hash = case.history.bars.terms.code, strategy_hash(case.strategy)
    book = HoldoutBook(project)
    final = book.final(market, hash)
    if final is not None:
        return _verdict(gate, final.verdict == PASSES, f"Judged on {final.created[:10]}, for good: {final.reason}", "final",
                        case.tried)
    daily = daily or training_daily(case.history, case.strategy)
    twin = nearest(daily, _fallen(project, footing, market))
    if twin is None or twin[1] < NEAR_TWIN:
        return None
    reason = (f"Earns like {twin[0].name}, which fell on {twin[0].created[:10]} (correlation of training days {twin[1]:.2f}; "
              f"from {NEAR_TWIN:g} on it is the same bet).")
    book.judge(now(), market, hash, name, FALLS, reason, daily)
    return _verdict(gate, False, reason, "near-twin fell", case.tried)


def _new_verdict(project: Project, case: Case, gate: Gate, whole: Histories, name: str, batch: Batch,
                 daily: Daily) -> Outcome:
    """Judge on opened bars and write it down before anybody is told, so that a killed program has judged too."""
    market = case.history.bars.terms.code
    opened = whole.prepared(market, case.history.bars.interval)
    try:
        outcome = gate.judge(replace(case, opened=opened, t_needed=batch.t_needed))
    except UserError as err:  # sealed bars were looked at, and there are none to judge on
        reason = f"Looked at, and not to be judged: {err.sentence()}"
        outcome = _verdict(gate, False, reason, "not enough to judge", case.tried)
    HoldoutBook(project).judge(now(), market, strategy_hash(case.strategy), name, PASSES if outcome.passed else FALLS,
                               outcome.reason, daily)
    return outcome


def judge(project: Project, footing: Footing, case: Case, gate: Gate, *, name: str, batch: Batch, why: str) -> Outcome:
    """The verdict of the holdout on a case: the one that holds already, a near-twin's fall, or a new one after opening.

    why: what the opening is for, in words.
    Raises:
        UserError: there are no sealed bars; nothing was counted then.
    """
    daily = training_daily(case.history, case.strategy)
    known = known_verdict(project, footing, case, gate, name=name, daily=daily)
    if known is not None:
        return known
    market, interval = case.history.bars.terms.code, case.history.bars.interval
    whole = open_sealed(project, footing.ground, market, interval, case.holdout, f"{why}: {name} on {market}",
                        strategy_hash(case.strategy), lambda: batch.take(HoldoutBook(project)), batch.size)
    return _new_verdict(project, case, gate, whole, name, batch, daily)


def look_beyond(project: Project, footing: Footing, case: Case, gate: Gate, span: Span, *, name: str,
                why: str) -> tuple[Outcome, Histories]:
    """Open sealed bars for somebody who wants to see a run there. Looking is judging: rules without a verdict get theirs now,
    on the whole unseen span, before anything is shown; a later look stands beside it and changes nothing.

    Returns the verdict and the histories with their sealed bars.
    Raises:
        UserError: there are no sealed bars in the span; nothing was counted then.
    """
    market, interval = case.history.bars.terms.code, case.history.bars.interval
    batch = Batch()
    daily = training_daily(case.history, case.strategy)
    whole = open_sealed(project, footing.ground, market, interval, span, f"{why}: {name} on {market}",
                        strategy_hash(case.strategy), lambda: batch.take(HoldoutBook(project)))
    known = known_verdict(project, footing, case, gate, name=name, daily=daily)
    return known or _new_verdict(project, case, gate, whole, name, batch, daily), whole
