"""What must hold before sealed bars may be opened for rules: said before anything is opened, and counted by nobody."""

from __future__ import annotations

import datetime as dt

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import Door, UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.proving.dates import DatesGate
from wolbrin.core.proving.gate import Case
from wolbrin.core.rules.identity import shape_of
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.holdout import HoldoutBook
from wolbrin.core.store.project import Project
from wolbrin.core.work.fits_checked import check_fits
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.leads import asked_of, leads_of

ONE = dt.timedelta(days=1)


def check_openable(project: Project, footing: Footing, case: Case, name: str) -> None:
    """Make sure that rules may meet the holdout: they know neither dates nor the future, how many were tried for them is
    known, and dated numbers are what their procedure chooses. (`check_answered` is asked once for all.)

    Raises:
        UserError: they may not, and why.
    """
    check_dates(case, name)
    if words := unanswered_of(Footing.of(project), case.strategy, case.history):
        raise UserError(words[:1].lower() + words[1:], name, "", Door("Go to Proving", "proving"))
    check_fits(project, footing, case)


def unanswered_of(footing: Footing, strategy: Strategy, history: Prepared) -> str:
    """What somebody must answer for before rules may be ready, in words, "" for nothing."""
    if shape_of(strategy) in footing.brought:
        return (f"How many alternatives were tried for {strategy.name} before it came here is not known. Say it: `wolbrin "
                "strategy tried NAME NUMBER`, or in Rules; until then it can be studied, and cannot stand")
    answers = {o: said for o, traded, said in footing.ground.answers if traded == history.bars.terms.code}
    return next((asked_of(led) for led in leads_of(footing, strategy, history, answers) if led.open), "")


def check_answered(project: Project) -> None:
    """Raises UserError where the same bars were opened in another project, and nobody said yet whose openings these were."""
    open_ = project.journal.unanswered()
    if open_:
        raise UserError(open_[0].words, "holdout", "Say whether that was you: `wolbrin holdout --mine` or `--not-mine` (in "
                        "the window: Proving). The answer stays in the dossier.", Door("Go to Proving", "proving"))


def check_dates(case: Case, name: str) -> None:
    """Make sure that rules know neither dates nor where their history began, whatever the line in use asks: what does may
    know what came. Raises UserError otherwise."""
    told = DatesGate().judge(case)
    if not told.passed:
        raise UserError(f"its signals depend on more than prices and the clock: {told.reason[:1].lower()}{told.reason[1:-1]}",
                        name, "Take that out of the rules; what is left is another strategy, and may be proved.")


def unseen_by(project: Project, market: str, since: str, span: Span) -> Span:
    """The sealed days, as far as there are bars, that somebody who kept rules then cannot know by figures of what fell.
    since: when they were kept, "" for now.

    Raises:
        UserError: there are none.
    """
    first, there = span.first, dt.date.fromisoformat(project.market(market).last[:10])
    span = Span(span.first, there if span.last is None else min(span.last, there))
    if first is not None and first > there:
        raise UserError(f"there are no sealed bars of {market}: its history ends on {there}", market,
                        "Append newer history, or move the border.")
    for one in HoldoutBook(project).shown(market):
        if one.last and (not since or since >= one.created):
            after = dt.date.fromisoformat(one.last) + ONE
            first = max(first, after) if first is not None else after
            if span.last is not None and first > span.last:
                raise UserError(f"figures of what fell on {market} were looked at on {one.created[:10]}, before this was "
                                f"kept: it can be ready, and meets no holdout until there are bars after {one.last}", market,
                                "Append newer history when it is there, or open what was kept before.")
    return Span(first, span.last)
