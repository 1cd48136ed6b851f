"""The sealed holdout: opened last, counted every time."""

from __future__ import annotations

from dataclasses import dataclass, replace

from wolbrin.core.engine.run import backtest
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number
from wolbrin.core.proving.gate import Case, Outcome

KEYS = ("net", "trades", "profit_factor", "win_rate", "average", "t", "max_drawdown", "return_drawdown", "sharpe")


@dataclass(frozen=True)
class HoldoutGate:
    """Runs the strategy on the span that no search has seen."""

    least_trades: int = 30
    least_profit_factor: float = 1.1
    key: str = "holdout"
    title: str = "Holdout"
    opens_holdout: bool = True

    def describe(self) -> str:
        return f"profit factor \u2265 {self.least_profit_factor:g}, {self.least_trades} trades"

    def judge(self, case: Case) -> Outcome:
        run = backtest(case.history, case.strategy, replace(case.brief, span=case.holdout), detail=False)
        figures = measure(Facts.of(run), KEYS)
        inputs = {"first": str(case.holdout.first), "last": str(case.holdout.last),
                  "least_trades": self.least_trades, "least_profit_factor": self.least_profit_factor}
        trades, factor = len(run), figures["profit_factor"]
        # A ledger without a losing trade has no profit factor; it is judged by its sign.
        good = factor >= self.least_profit_factor or (factor != factor and figures["net"] > 0)
        if trades < self.least_trades:
            return Outcome(self.key, False, f"Only {trades} trades in the holdout, needs {self.least_trades}.",
                           f"{trades} trades", inputs, figures)
        words = f"Profit factor {number(factor, 2)} over {trades} unseen trades, net {number(figures['net'])}"
        if not good:
            return Outcome(self.key, False, f"{words}; needs {self.least_profit_factor:g}.",
                           f"profit factor {number(factor, 2)}", inputs, figures)
        return Outcome(self.key, True, f"{words}.", f"profit factor {number(factor, 2)}", inputs, figures)
