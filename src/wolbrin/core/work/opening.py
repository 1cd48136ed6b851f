"""Runs that reach beyond the border, for whoever wants to see them: opened through the one door, judged, counted."""

from __future__ import annotations

from dataclasses import dataclass, replace

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.market.bars import Span
from wolbrin.core.proving.gate import Case, Outcome
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.holdout import HoldoutBook
from wolbrin.core.store.project import Project
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.judging import look_beyond, through
from wolbrin.core.work.lines import gates_of
from wolbrin.core.work.proving import unseen_span
from wolbrin.core.work.spending import check_opening


@dataclass(frozen=True)
class Opened:
    """A history with its sealed bars, the verdict that the opening brought or that held already, and the strategy as it
    trades them: dated numbers are fitted on where they come due."""

    history: Prepared
    verdict: Outcome
    strategy: Strategy


def holdout_gate(project: Project) -> HoldoutGate:
    """The gate of the line in use that judges the sealed span."""
    return next(g for g in gates_of(project) if isinstance(g, HoldoutGate))


def reaches_sealed(footing: Footing, span: Span) -> bool:
    """Whether a span holds days from the border on."""
    return span.last is None or span.last >= footing.settings.holdout_first


def open_for(project: Project, footing: Footing, strategy: Strategy, market: str, interval: int, brief: Brief, span: Span,
             why: str) -> Opened:
    """Open the holdout for one strategy, to look at `span` under `brief`. The opening is counted, and it judges. What is
    shown of rules that fell is written down too: it stands in the way of whatever is kept on that market from then on.

    Raises:
        UserError: the holdout is kept for a portfolio, the strategy cannot be run, or the span holds no sealed bars; nothing
            was counted then.
    """
    check_opening(project, 1)
    dossiers = Dossiers(project)
    history = footing.histories.prepared(market, interval)
    training = replace(brief, span=footing.settings.training, role="training")
    case = Case(strategy, history, training, unseen_span(HoldoutBook(project), footing),
                max(1, dossiers.searches.tried_on(market)))
    verdict, whole = look_beyond(project, footing, case, holdout_gate(project), span, name=strategy.name, why=why)
    last = min(span.last or footing.settings.last, footing.settings.last)
    carried = through(footing, whole, replace(case, holdout=Span(case.holdout.first, last)))
    return Opened(whole.prepared(market, interval), verdict, carried)


def beyond(opened: Opened, brief: Brief, span: Span, border_first: Span) -> Run:
    """A run over opened bars. border_first: the sealed span, by which the run's role is told."""
    inside = span.first is not None and border_first.first is not None and span.first >= border_first.first
    asked = replace(brief, span=span, most_bars=None, role="holdout" if inside else "whole")
    return backtest(opened.history, opened.strategy, asked)
