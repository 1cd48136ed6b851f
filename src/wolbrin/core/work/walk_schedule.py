"""Dated numbers carried on: every fit that has come due is made as the frozen procedure says, and appended."""

from __future__ import annotations

import datetime as dt
import math
from dataclasses import dataclass, replace
from typing import Any

from wolbrin.core.batch.many import Many
from wolbrin.core.batch.variants import Variants
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run, backtest, need_bars, record_of
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import State, check_stopped
from wolbrin.core.market.bars import Span, day_of
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.rules.axes import numbers_at
from wolbrin.core.rules.dated import undated, with_schedule
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.schedule import MOST_SPELLS, Spell
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.search.folds import Steps, ahead
from wolbrin.core.search.walked import Fit
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.procedure import Procedure
from wolbrin.core.work.walk_fits import fit_span, work_on
from wolbrin.core.work.walk_reading import Walked, seen_by

ONE = dt.timedelta(days=1)


@dataclass(frozen=True)
class Carried:
    """A strategy with the fits that had come due. added: how many; tried: sets they looked at."""

    strategy: Strategy
    added: int
    tried: int


def carries_on(strategy: Strategy) -> bool:
    """Whether a strategy says how its numbers are fitted on. Raises UserError where what it says cannot be read."""
    if strategy.schedule is None or not strategy.schedule.procedure:
        return False
    Procedure.of(strategy)
    return True


def carried_on(footing: Footing, strategy: Strategy, brief: Brief, until: dt.date,
               history: Prepared | None = None) -> Carried:
    """Append every fit whose numbers would be in force by the day `until`. No fit reads a bar after its training span.

    history: of the strategy's market; where None that of the footing, which must be the one that the old fits saw.
    Raises:
        UserError: the procedure cannot be read, or the history behind the old fits has changed.
    """
    procedure = Procedure.of(strategy)
    schedule = strategy.schedule
    assert schedule is not None
    ready = history or footing.prepared(schedule.market, schedule.interval)
    old = schedule.procedure.get("history", "")
    if old and history is None and seen_by(ready, schedule.spells) != old:
        raise UserError(f"the history up to {schedule.now.fitted_last:%d %b %Y}, or the market's terms, have changed since "
                        "these numbers were fitted", strategy.name,
                        "The old numbers are kept; walk the strategy again.")
    lengths = procedure.lengths
    entries: list[dt.date] = []
    if "trades" in (lengths.training.unit, lengths.test.unit):
        asked = replace(brief, span=Span(procedure.first, until), most_bars=None)
        run = backtest(ready, undated(strategy), asked, detail=False)
        entries = [day_of(d) for d in run.bars.trading_date[run.trades_i[:, k.T_ENTRY_BAR]].tolist()]
    sets = _sets(procedure, ready, brief)
    until = min(until, day_of(ready.bars.trading_date[-1]) + ONE)  # no fit is due where there are no days yet
    spells, due, n, tried = list(schedule.spells), schedule.due, procedure.n, 0
    while len(spells) < MOST_SPELLS:
        begin = due or Steps(sorted(entries)).later(spells[-1].first, lengths.test)
        if begin is None or begin > until or begin <= spells[-1].first:
            break
        n += 1
        step = ahead(begin, procedure.first, lengths, entries, procedure.anchor, n)
        if step is None:
            break
        fit = _fitted(footing, procedure, (step.training_first, step.training_last), sets, ready)
        spells.append(Spell(first=begin, values=_numbers(procedure, fit), fitted_first=step.training_first,
                            fitted_last=step.training_last))
        tried += fit.tried
        due = step.due
    added = len(spells) - len(schedule.spells)
    if not added:
        return Carried(strategy, 0, 0)
    told: dict[str, Any] = schedule.procedure | {"n": n, "history": seen_by(ready, spells)}
    made = schedule.model_copy(update={"spells": tuple(spells), "due": due, "procedure": told})
    return Carried(with_schedule(strategy, made), added, tried)


def spells_of(strategy: Strategy) -> int:
    """How many fits a strategy's dated numbers are; 0 where it has none.

    Raises:
        UserError: they come without the procedure that fits them.
    """
    if strategy.schedule is None:
        return 0
    if not carries_on(strategy):
        raise UserError("its dated numbers come without the procedure that fits them, so that nobody can fit them again and "
                        "see that each knows only what came before it", strategy.name,
                        "Walk the strategy and keep what comes of that, or take its dates off.")
    return len(strategy.schedule.spells)


def check_fitted(footing: Footing, strategy: Strategy, brief: Brief, history: Prepared, begin: int = 0,
                 count: int | None = None) -> None:
    """Make sure that dated numbers are what their procedure chooses on the history before each of them, since it is the
    procedure that is judged where it fits on. Numbers that somebody wrote beside dates may know what came. begin, count: of
    the fits that are looked at.

    Raises:
        UserError: they are not, there is no procedure, or it cannot be read.
    """
    if not spells_of(strategy):
        return
    schedule, procedure = strategy.schedule, Procedure.of(strategy)
    assert schedule is not None
    sets = _sets(procedure, history, brief)
    for spell in schedule.spells[begin:None if count is None else begin + count]:
        check_stopped()
        fit = _fitted(footing, procedure, (spell.fitted_first, spell.fitted_last), sets, history)
        if spell.values != _numbers(procedure, fit):
            raise UserError(f"the dated numbers from {spell.first:%d %b %Y} on are not what their procedure chooses: they "
                            "were changed by hand, or history, terms or costs were changed since", strategy.name,
                            "Walk the strategy again.")


def _sets(procedure: Procedure, history: Prepared, brief: Brief) -> Variants:
    """What the fits of a procedure vary, on a history."""
    sweep = procedure.request.sweep
    return Variants(sweep.strategy, sweep.space.numbers, Many(history, brief), "", sweep.measures[len(SUMMARY):])


def _numbers(procedure: Procedure, fit: Fit) -> tuple[float, ...]:
    """What a fit chose, in the order of a schedule's keys."""
    return tuple(numbers_at(procedure.request.sweep.axes, fit.values).values()) if fit.values is not None else ()


def _fitted(footing: Footing, procedure: Procedure, span: tuple[dt.date, dt.date], sets: Variants, ready: Prepared) -> Fit:
    """One fit; a training span without bars chooses nothing."""
    try:
        return fit_span(work_on(footing, procedure.request.sweep, *span, sets, ready), procedure.request.choice)
    except UserError as err:
        return Fit(*span, None, {}, math.nan, 0, err.sentence())


def fit_due(project: Project, strategy: Strategy, own: OwnSpan | None = None) -> tuple[Carried, str]:
    """Append the fits that have come due in the training view to a strategy; what they looked at is charged. Returns what
    came of it, not kept yet, and a sentence. own: the strategy's own training span.

    Raises:
        UserError: it has no dated numbers, or they cannot be carried on; the old ones are kept.
    """
    footing = Footing.of(project)
    schedule = strategy.schedule
    if schedule is None:
        raise UserError("this strategy has no dated numbers", strategy.name, "Walk it first.")
    history = footing.prepared(schedule.market, schedule.interval)
    brief = footing.brief(history.bars.terms, own)
    need_bars(history, brief.span)
    last = day_of(history.bars.trading_date[history.bars.range_of(brief.span)[1] - 1])
    made = carried_on(footing, strategy, brief, last + ONE)
    due = made.strategy.schedule.due if made.strategy.schedule else None
    when = f"{due.day} {due:%b %Y}" if due else "some trades from now"
    if not made.added:
        return made, f"Nothing is due: the training view ends on {last.day} {last:%b %Y}, the next fit is due {when}."
    record = record_of(history, made.strategy, brief, tried=made.tried)
    searches = Searches(project)
    with project.transaction():
        search = searches.begin(now(), "fits", f"Fits of {strategy.name}", {}, record=record, market=schedule.market,
                                interval=schedule.interval)
        searches.advance(search, made.tried, 0)
    searches.end(search, State.DONE)
    many = f"{made.added} fit{'s were' if made.added > 1 else ' was'} appended"
    return made, f"{many}; the next is due {when}."


def named_walk(walked: Walked, name: str = "") -> Strategy:
    """The dated strategy of a walk under a name of its own."""
    lengths = walked.request.cells[walked.cell]
    usual = f"{walked.strategy.name}, walked {lengths.training.short} / {lengths.test.short}"
    return walked.strategy.model_copy(update={"name": (name or usual)[:80]})


def keep_strategy(project: Project, walked: Walked, name: str = "") -> int:
    """Keep the dated strategy of a walk among the strategies of the project. Returns its id."""
    made = named_walk(walked, name)
    made = made.model_copy(update={"name": project.free_name(made.name)})
    return project.save_strategy(made, walked.request.sweep.market, walked.request.sweep.interval)


def candidate_from_walk(project: Project, walked: Walked, name: str = "") -> Candidate:
    """A candidate of a walk: its dated strategy on the training view."""
    run: Run = walked.run
    tried = max(1, Searches(project).tried_on(walked.request.sweep.market))
    sweep = walked.request.sweep
    return candidate_of(run, named_walk(walked, name).name, "walk", tried, () if sweep.method == "every" else (sweep.seed,))
