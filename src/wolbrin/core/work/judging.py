"""Judging on the holdout: once, for good, for the rules and their near-twins. Every way to sealed bars leads through here."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.portfolio.played import Part, Played
from wolbrin.core.proving.dates import DatesGate
from wolbrin.core.proving.gate import FALLS, PASSES, Case, Gate, Outcome
from wolbrin.core.proving.holdout import HoldoutGate, Looked, looked_at
from wolbrin.core.rules.dated import undated
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.ground import Histories
from wolbrin.core.store.holdout import NEAR_TWIN, HoldoutBook, Judged, holm, nearest, t_for
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.sealed import open_sealed
from wolbrin.core.store.series import Daily
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.walk_schedule import carried_on, carries_on, check_fitted

AMPLE = 1e9  # account money that no margin and no rounding of sizes comes near


@dataclass(frozen=True)
class Waiting:
    """A case whose sealed span was looked at, and that waits for the others of its opening. hash: of its rules."""

    case: Case
    looked: Looked
    name: str
    hash: str
    daily: Daily


@dataclass
class Batch:
    """Candidates whose holdout opens together, and how many they are. number: of the opening in the project; taken when the
    first of them really opens it, so that a line on which nothing comes so far does not raise the next bar. waiting: those
    that were looked at and are not judged yet; nobody is told of them before they are."""

    size: int = 1
    number: int = 0
    waiting: list[Waiting] = field(default_factory=list)

    def take(self, book: HoldoutBook) -> int:
        """The number of this opening."""
        if not self.number:
            self.number = book.reserve()
        return self.number


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


def decide(project: Project, gate: HoldoutGate, batch: Batch) -> list[tuple[Waiting, Outcome]]:
    """Judge all that wait together (see `store.holdout.holm`), and write it down before anybody is told."""
    book, waiting = HoldoutBook(project), batch.waiting
    t = [w.looked.figures["t_daily"] if gate.sound(w.looked) else math.nan for w in waiting]
    judged = [(w, gate.verdict(w.case, w.looked, needed)) for w, needed in zip(waiting, holm(t, batch.number, batch.size))]
    with project.transaction():
        for w, outcome in judged:
            book.judge(now(), w.case.history.bars.terms.code, w.hash, w.name, PASSES if outcome.passed else FALLS,
                       outcome.reason, w.daily)
    batch.waiting = []
    return judged


def through(footing: Footing, whole: Histories, case: Case) -> Strategy:
    """The strategy as it trades the opened span: dated numbers are fitted on where they come due, by the procedure that was
    frozen with the strategy; each fit sees no bar after its training."""
    if not carries_on(case.strategy):
        return case.strategy
    last = case.holdout.last
    assert last is not None
    history = whole.prepared(case.history.bars.terms.code, case.history.bars.interval)
    return carried_on(footing, case.strategy, case.brief, last, history).strategy


def _look(project: Project, footing: Footing, case: Case, gate: HoldoutGate, whole: Histories, name: str, batch: Batch,
          daily: Daily) -> Outcome | None:
    """Look at opened bars; what cannot be judged on them falls at once, the rest waits for the others of the batch."""
    market, hash = case.history.bars.terms.code, strategy_hash(case.strategy)
    opened = whole.prepared(market, case.history.bars.interval)
    try:
        looked = gate.looked(replace(case, opened=opened, carried=through(footing, whole, case)))
    except UserError as err:  # sealed bars were looked at, and there are none to judge on
        reason = f"Looked at, and not to be judged: {err.sentence()}"
        HoldoutBook(project).judge(now(), market, hash, name, FALLS, reason, daily)
        return _verdict(gate, False, reason, "not enough to judge", case.tried)
    batch.waiting.append(Waiting(case, looked, name, hash, daily))
    return None


def check_dates(case: Case, name: str) -> None:
    """Make sure that rules know neither dates nor where their history began, whatever the line in use asks: what does may
    know what came. Raises UserError otherwise."""
    told = DatesGate().judge(case)
    if not told.passed:
        raise UserError(f"its signals depend on more than prices and the clock: {told.reason[:1].lower()}{told.reason[1:-1]}",
                        name, "Take that out of the rules; what is left is another strategy, and may be proved.")


def judge(project: Project, footing: Footing, case: Case, gate: HoldoutGate, *, name: str, batch: Batch,
          why: str) -> Outcome | None:
    """The verdict of the holdout on a case: the one that holds already, or a near-twin's fall; else None after opening it,
    since it waits for the others of its batch (see `decide`).

    why: what the opening is for, in words.
    Raises:
        UserError: there are no sealed bars; nothing was counted then.
    """
    daily = training_daily(case.history, case.strategy)
    known = known_verdict(project, footing, case, gate, name=name, daily=daily)
    if known is not None:
        return known
    market, interval = case.history.bars.terms.code, case.history.bars.interval
    check_dates(case, name)  # said before anything is opened
    check_fitted(footing, case.strategy, case.brief, case.history)
    whole = open_sealed(project, footing.ground, market, interval, case.holdout, f"{why}: {name} on {market}",
                        strategy_hash(case.strategy), lambda: batch.take(HoldoutBook(project)), batch.size)
    return _look(project, footing, case, gate, whole, name, batch, daily)


def judge_whole(project: Project, footing: Footing, cases: Sequence[tuple[Case, str]], gate: HoldoutGate, *,
                name: str, together: Callable[[Sequence[Part]], Played], keep: Callable[[Outcome], None],
                tried: int = 1) -> Outcome:
    """The verdict of the holdout on several candidates as one portfolio: one opening, judged once. Its members were seen
    then, and none of them can get a verdict of its own any more; that is written down with it, in one transaction.

    cases: each with the name of its candidate. together: trades them. keep: writes the verdict down. tried: combinations it
    was chosen from.
    Raises:
        UserError: one of them has no sealed bars; those that were opened before it are seen.
    """
    book, batch = HoldoutBook(project), Batch()
    training, sealed, outcome = list[Part](), list[Part](), None
    for case, who in cases:
        check_dates(case, who)
        check_fitted(footing, case.strategy, case.brief, case.history)
    seen: list[tuple[Case, str]] = []
    try:
        for case, who in cases:
            market, interval = case.history.bars.terms.code, case.history.bars.interval
            whole = open_sealed(project, footing.ground, market, interval, case.holdout,
                                f"portfolio {name}: {who} on {market}", strategy_hash(case.strategy),
                                lambda: batch.take(book))
            seen.append((case, who))
            brief = replace(case.brief, span=case.holdout, most_bars=None, role="holdout")
            sealed.append(Part(who, whole.prepared(market, interval), through(footing, whole, case), brief))
            training.append(Part(who, case.history, case.strategy, case.brief))
        before, after = together(training), together(sealed)
        looked = looked_at(before.facts, before.daily, after.facts, after.daily)
        first = replace(cases[0][0], tried=max(tried, *(c.tried for c, _ in cases)), origin=None)
        outcome = gate.verdict(first, looked, t_for(batch.number, 1))
        return outcome
    finally:
        told = "could not be judged" if outcome is None else "stands" if outcome.passed else "fell"
        with project.transaction():
            if outcome is not None:
                keep(outcome)
            for case, who in seen:
                reason = (f"Seen on {now()[:10]} as a member of {name}, which {told}: of itself nothing can be told any "
                          "more.")
                book.judge(now(), case.history.bars.terms.code, strategy_hash(case.strategy), who, FALLS, reason,
                           training_daily(case.history, case.strategy))


def look_beyond(project: Project, footing: Footing, case: Case, gate: HoldoutGate, span: Span, *, name: str,
                why: str) -> tuple[Outcome, Histories]:
    """Open sealed bars for somebody who wants to see a run there. Looking is judging: rules without a verdict get theirs now,
    on the whole unseen span, before anything is shown; a later look stands beside it and changes nothing.

    Returns the verdict and the histories with their sealed bars.
    Raises:
        UserError: there are no sealed bars in the span; nothing was counted then.
    """
    market, interval = case.history.bars.terms.code, case.history.bars.interval
    batch = Batch()
    if HoldoutBook(project).final(market, strategy_hash(case.strategy)) is None:
        check_dates(case, name)
    check_fitted(footing, case.strategy, case.brief, case.history)
    daily = training_daily(case.history, case.strategy)
    whole = open_sealed(project, footing.ground, market, interval, span, f"{why}: {name} on {market}",
                        strategy_hash(case.strategy), lambda: batch.take(HoldoutBook(project)))
    made = known_verdict(project, footing, case, gate, name=name, daily=daily) or _look(project, footing, case, gate,
                                                                                       whole, name, batch, daily)
    return made or decide(project, gate, batch)[0][1], whole
