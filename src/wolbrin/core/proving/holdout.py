"""The sealed holdout: opened last, counted every time, judged once."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pydantic import Field

from wolbrin.core.engine.run import backtest
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, Outcome, Shown

KEYS = ("net", "trades", "profit_factor", "win_rate", "average", "t", "t_daily", "max_drawdown", "return_drawdown", "sharpe")
HOLDOUT = "holdout"


class HoldoutSettings(Model):
    """What is asked of the sealed span, beside a t of daily results that rises with every opening of the project."""

    least_trades: int = Field(30, ge=1)
    least_profit_factor: float = Field(1.1, ge=0)


@dataclass(frozen=True)
class HoldoutGate(Gate):
    """Runs the strategy on the span that no search has seen. Beside trades and profit factor it asks a t of the daily
    results that rises with every opening of the project, so that luck is not found by opening often."""

    options: HoldoutSettings = HoldoutSettings()
    key = HOLDOUT
    title = "Holdout"
    opens_holdout = True
    shown = (Shown("profit_factor", "holdout PF", 2), Shown("t_daily", "holdout t", 2), Shown("net", "holdout net", 0))

    def describe(self) -> str:
        return f"PF \u2265 {self.options.least_profit_factor:g}, t above luck"

    def judge(self, case: Case) -> Outcome:
        if case.opened is None:
            raise ValueError("the holdout is not open for this case")
        run = backtest(case.opened, case.strategy, replace(case.brief, span=case.holdout, most_bars=None, role="holdout"),
                       detail=False)
        figures = measure(Facts.of(run), KEYS) | {"t_needed": case.t_needed}
        inputs = self.settings | {"first": str(case.holdout.first), "last": str(case.holdout.last), "tried": case.tried}
        trades, factor, t = len(run), figures["profit_factor"], figures["t_daily"]

        def say(passed: bool, reason: str, headline: str) -> Outcome:
            return Outcome(self.key, passed, reason, headline, inputs, figures, self.settings)

        if trades < self.options.least_trades:
            return say(False, f"Only {trades} trades in the holdout, needs {self.options.least_trades}.", f"{trades} trades")
        words = f"Profit factor {number(factor, 2)} over {trades} unseen trades, net {number(figures['net'])}"
        # A ledger without a losing trade has no profit factor; it is judged by its sign.
        if not (factor >= self.options.least_profit_factor or (factor != factor and figures["net"] > 0)):
            return say(False, f"{words}; needs {self.options.least_profit_factor:g}.", f"profit factor {number(factor, 2)}")
        words = f"{words}; t of daily results {number(t, 2)}"
        if not t >= case.t_needed:
            return say(False, f"{words}, needs {number(case.t_needed, 2)} at this opening.", f"t {number(t, 2)}")
        return say(True, f"{words}, {number(case.t_needed, 2)} were needed.", f"t {number(t, 2)}")
