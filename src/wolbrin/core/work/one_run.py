"""One run on a project: what assembles it from settings, seal and costs, for window, command line and Python alike."""

from __future__ import annotations

from dataclasses import dataclass, replace

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run, backtest, need_bars
from wolbrin.core.errors import Door, UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.market.costs import Costs
from wolbrin.core.proving.gate import Outcome
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import OwnSpan, Settings
from wolbrin.core.work.footing import Footing, Request
from wolbrin.core.work.opening import open_for, reaches_sealed


@dataclass(frozen=True)
class Opened:
    """A run that saw the holdout, and the verdict that the opening brought."""

    run: Run
    verdict: Outcome


@dataclass(frozen=True)
class OneRun(Request):
    """A strategy on a market of a project. own: its own training span. span: other days than training's; an end that is left
    out is training's, or the data's where the other one is sealed. costs, capital: other ones than the project's.
    fine: walk the market's own bars inside each bar; the project's setting where None."""

    footing: Footing
    strategy: Strategy
    market: str
    interval: int
    own: OwnSpan | None = None
    span: Span | None = None
    costs: Costs | None = None
    capital: float | None = None
    fine: bool | None = None

    @property
    def settings(self) -> Settings:
        """The project's, with the strategy's own training span."""
        return self.footing.settings.of(self.own)

    @property
    def days(self) -> Span:
        """The span whose bars decide."""
        training, asked = self.settings.training, self.span
        if asked is None:
            return training
        if asked.first and asked.last and asked.first > asked.last:
            raise UserError(f"the span ends on {asked.last}, before it begins on {asked.first}", "--from, --to",
                            "Exchange the two dates.")
        sealed = asked.first is not None and asked.first >= self.settings.holdout_first
        return Span(asked.first or training.first, asked.last or (self.settings.last if sealed else training.last))

    @property
    def sealed(self) -> bool:
        """Whether it asks for days from the border on."""
        return reaches_sealed(self.footing, self.days)

    def history(self) -> Prepared:
        """The market's bars up to the border. Raises UserError."""
        return self.footing.prepared(self.market, self.interval)

    def brief(self, history: Prepared) -> Brief:
        """What is asked beside strategy and bars."""
        settings, terms = self.settings, history.bars.terms
        made = settings.brief(terms) if self.span is None else settings.brief(terms, self.days)
        changes = {k: v for k, v in (("costs", self.costs), ("capital", self.capital), ("fine", self.fine)) if v is not None}
        return replace(made, **changes) if changes else made  # type: ignore[arg-type]

    def run(self, detail: bool = True) -> Run:
        """Run it on what may be seen.

        Raises:
            UserError: it cannot be run, holds no bar, or asks for sealed days, which have to be opened.
        """
        if self.sealed:
            raise UserError(f"the days from {self.settings.holdout_first} on are sealed", self.market,
                            "Ask for days before, or open the holdout: it is counted, and the verdict is final.",
                            Door("Change the span", "span"))
        history = self.history()
        brief = self.brief(history)
        if self.span is not None:
            need_bars(history, brief.span)
        return backtest(history, self.strategy, brief, detail=detail)

    def open(self, project: Project, why: str) -> Opened:
        """Open the holdout for it, and run it over its days. The opening is counted, and it judges.

        Raises:
            UserError: see `opening.open_for`.
        """
        brief = self.brief(self.history())
        opened = open_for(project, self.footing, self.strategy, self.market, self.interval, brief, self.days, why)
        inside = self.days.first is not None and self.days.first >= self.settings.holdout_first
        brief = replace(brief, span=self.days, most_bars=None, role="holdout" if inside else "whole")
        need_bars(opened.history, brief.span)
        return Opened(backtest(opened.history, opened.strategy, brief), opened.verdict)


def tried_on(project: Project, market: str) -> int:
    """Alternatives among which a run on a market could be chosen."""
    return max(1, Searches(project).tried_on(market))
