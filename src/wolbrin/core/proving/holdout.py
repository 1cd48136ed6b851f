"""The sealed holdout: opened last, counted every time, judged once."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from pydantic import Field

from wolbrin.core.engine.run import backtest
from wolbrin.core.figures.figure import Figure
from wolbrin.core.measures.catalogue import BY_KEY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.compare import Daily, decline_of, joined_equity, side_by_side
from wolbrin.core.proving.gate import Case, Gate, GateTable, Outcome, Shown, Tables
from wolbrin.core.proving.luck import LuckGate
from wolbrin.core.proving.power import expected_t

KEYS = ("net", "trades", "profit_factor", "win_rate", "average", "t", "t_daily", "max_drawdown", "return_drawdown", "sharpe")
HOLDOUT = "holdout"


class HoldoutSettings(Model):
    """What is asked of the sealed span, beside a t of daily results that rises with every opening of the project."""

    least_trades: int = Field(30, ge=1, title="trades, at least")
    least_profit_factor: float = Field(1.1, ge=0, title="profit factor, at least")


@dataclass(frozen=True)
class Looked:
    """What the sealed span showed. figures: there, training: in training; days: of both, training first."""

    trades: int
    figures: dict[str, float]
    training: dict[str, float]
    days: tuple[int, int]
    tables: Tables


def looked_at(training: Facts, before: Daily, holdout: Facts, sealed: Daily) -> Looked:
    """What there is to judge by; each with its trading dates and daily P/L."""
    tables = {"compare": side_by_side(training, holdout), "equity": joined_equity(before, sealed)}
    return Looked(len(holdout.profits), measure(holdout, KEYS), measure(training, KEYS), (len(before[0]), len(sealed[0])),
                  tables)


@dataclass(frozen=True)
class HoldoutGate(Gate):
    """Runs the strategy on the span that no search has seen. Beside trades and profit factor it asks a t of the daily
    results that rises with every opening of the project, so that luck is not found by opening often."""

    options: HoldoutSettings = HoldoutSettings()
    key = HOLDOUT
    title = "Holdout"
    opens_holdout = True
    shown = (Shown("profit_factor", "holdout PF", "ratio", "gross profit / |gross loss| in the holdout", digits=2, better=1),
             Shown("t_daily", "holdout t", "ratio", "t of daily results in the holdout, autocorrelation allowed for",
                   digits=2,
                   better=1, source="Newey & West 1987"),
             Shown("net", "holdout net", "money", "net profit in the holdout", digits=0, better=1),
             Shown("decline", "decline of Sharpe", "percent", "1 - Sharpe ratio in the holdout / in training", digits=0,
                   better=-1))
    more = (Figure("t_needed", "t needed", "ratio", "t of daily results that this opening asks; it rises with every opening"),
            Figure("selection", "explained by selection", "percent", "decline that keeping the best of many explains by "
                   "itself"),
            Figure("decline_most", "decline that chance allows", "percent", "selection and chance together, in 97.5 of 100"),
            Figure("power", "chance to show it", "chance", "that the holdout shows what selection leaves of training",
                   better=1),
            *(BY_KEY[key] for key in KEYS if key not in ("profit_factor", "t_daily", "net")),
            Figure("training_*", "in training", "as named", "the same measure of training"))
    tables = (
        GateTable("compare", "Measure by measure", (
            Figure("measure", "measure", "", "see `wolbrin figure`"),
            Figure("training", "training", "as the row", "the row's measure of training"),
            Figure("holdout", "holdout", "as the row", "the row's measure of the holdout"),
            Figure("decline", "decline", "percent", "1 - holdout / training, where the length of the span does not matter",
                   better=-1)), "compare"),
        GateTable("equity", "Training and holdout", (
            Figure("day", "date", "date", "trading date"),
            Figure("net", "net", "money", "daily results added up, through training and on through the holdout", better=1),
            Figure("sealed", "sealed", "flag", "1 where the date lies in the holdout")), "equity"))
    picture = ("equity", "net", "")

    def describe(self) -> str:
        return f"PF \u2265 {self.options.least_profit_factor:g}, t above luck"

    def clause(self, figures: dict[str, float]) -> str:
        if "profit_factor" not in figures:
            return ""  # such as a pass whose figures lie elsewhere
        return (f"unseen: profit factor {number(figures['profit_factor'], 2)} over {number(figures['trades'])} trades, net "
                f"{number(figures['net'])}")

    def judge(self, case: Case) -> Outcome:
        return self.verdict(case, self.looked(case), case.t_needed)

    def looked(self, case: Case) -> Looked:
        """What the sealed span shows, before a bar is set to it."""
        return self.looked_daily(case)[0]

    def looked_daily(self, case: Case) -> tuple[Looked, Daily]:
        """As `looked`, with the daily results of the sealed span."""
        if case.opened is None:
            raise ValueError("the holdout is not open for this case")
        run = backtest(case.opened, case.carried or case.strategy,
                       replace(case.brief, span=case.holdout, most_bars=None, role="holdout"), detail=False)
        return looked_at(Facts.of(case.run), case.run.daily, Facts.of(run), run.daily), run.daily

    def sound(self, looked: Looked) -> bool:
        """Whether all is well but its t, which depends on how many are opened."""
        factor, net = looked.figures["profit_factor"], looked.figures["net"]
        # A ledger without a losing trade has no profit factor; it is judged by its sign.
        good = factor >= self.options.least_profit_factor or (factor != factor and net > 0)
        return looked.trades >= self.options.least_trades and good

    def verdict(self, case: Case, looked: Looked, t_needed: float) -> Outcome:
        """What comes of it where a t of t_needed is asked."""
        asked, share = LuckGate().passed_at(case)
        expected = expected_t(looked.training["t_daily"], asked, share if math.isfinite(share) else 0.0)
        decline = decline_of(expected, looked.training, looked.figures, looked.days, t_needed)
        told = {"decline": decline.decline, "selection": decline.selection, "decline_most": decline.most,
                "power": decline.power} | {f"training_{key}": v for key, v in looked.training.items()}
        figures = looked.figures | {"t_needed": t_needed} | told
        inputs = self.settings | {"first": str(case.holdout.first), "last": str(case.holdout.last), "tried": case.tried}
        trades, factor, t = looked.trades, figures["profit_factor"], figures["t_daily"]

        def say(passed: bool, reason: str, headline: str) -> Outcome:
            more = f" {decline.words}." if decline.words else ""
            return Outcome(self.key, passed, reason + more, headline, inputs, figures, self.settings, looked.tables)

        if trades < self.options.least_trades:
            return say(False, f"Only {trades} trades in the holdout, needs {self.options.least_trades}.", f"{trades} trades")
        words = f"Profit factor {number(factor, 2)} over {trades} unseen trades, net {number(figures['net'])}"
        if not self.sound(looked):
            return say(False, f"{words}; needs {self.options.least_profit_factor:g}.", f"profit factor {number(factor, 2)}")
        words = f"{words}; t of daily results {number(t, 2)}"
        if not t >= t_needed:
            return say(False, f"{words}, needs {number(t_needed, 2)} at this opening.", f"t {number(t, 2)}")
        return say(True, f"{words}, {number(t_needed, 2)} were needed.", f"t {number(t, 2)}")
