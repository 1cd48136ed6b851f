"""Plain warnings where practice says so, each with its number and the place to look closer.

Thresholds are common practice (no source) unless a definition names one; they are hints, never verdicts.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run
from wolbrin.core.market.bars import day_of
from wolbrin.core.market.terms import MONEY_TERMS
from wolbrin.core.measures.breakdown import groups
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.costs import waterfall
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number

FEW_TRADES = 300
GOOD_TO_BE_TRUE = 3.5
MANY_AMBIGUOUS = 0.05
TICKS_OF_COST = 2.0
ONE_YEAR = 60.0
FEW_MAKE_MOST = 50.0


@dataclass(frozen=True)
class Caution:
    """text: one sentence with the number in it. look: the page of the report that shows more."""

    key: str
    text: str
    look: str


def concentration(run: Run) -> tuple[int, float]:
    """How many of the best trades bring half of the net profit and more, and their share in percent."""
    net = float(run.profits.sum())
    if net <= 0 or not len(run):
        return 0, math.nan
    best = np.sort(run.profits)[::-1]
    count = int(np.searchsorted(np.cumsum(best), 0.5 * net) + 1)
    return count, 100.0 * float(best[:count].sum()) / net


def cautions(run: Run) -> list[Caution]:
    """Every warning that applies to a run, gravest first."""
    found: list[Caution] = []
    n = len(run)

    def say(key: str, text: str, look: str) -> None:
        found.append(Caution(key, text, look))

    if run.fault:
        say("fault", run.fault, "orders")
    if run.counts["ruined"]:
        say("ruined", "Equity fell to zero; everything was closed there and nothing more was entered.", "ledger")
    if run.counts["rejected"]:
        say("margin", f"{number(run.counts['rejected'])} entries were rejected because their margin exceeded the equity.",
            "orders")
    if not n:
        return found
    guessed = [name for name in MONEY_TERMS if name in run.brief.assumed]
    if guessed:
        say("assumed", f"All money rests on an assumed {' and '.join(guessed)} of {run.bars.terms.code}; set it in its "
                       f"terms.",
            "costs")
    values = measure(Facts.of(run), ("profit_factor", "win_rate", "average"))
    strategy = run.strategy
    stopless = strategy.stop is None and strategy.trail is None
    if n < FEW_TRADES:
        say("few", f"{number(n)} trades are too few for conclusions on an intraday strategy; {FEW_TRADES} are a usual "
            "least.", "measures")
    if stopless:
        say("no stop", f"No protective stop: the worst open loss of a trade was {number(_worst(run))}.", "excursions")
    if stopless and values["win_rate"] >= 90.0:
        say("wins", f"{number(values['win_rate'], 1)}% wins without a stop: losses may only have been put off.", "excursions")
    if values["profit_factor"] > GOOD_TO_BE_TRUE:
        say("too good", f"A profit factor of {number(values['profit_factor'], 2)} is above {GOOD_TO_BE_TRUE:g}; results that "
            "good are more often a mistake or luck than an edge.", "measures")
    due = strategy.schedule.due if strategy.schedule is not None else None
    if due is not None and due <= day_of(run.bars.trading_date[run.last - 1]):
        say("overdue", f"The next fit of its dated numbers was due on {due:%d %b %Y}; the old ones trade on.", "measures")
    unsure = run.counts["ambiguous"]
    if unsure > MANY_AMBIGUOUS * n:
        advice = "" if run.fine else " Finer bars (fine fills) can settle them."
        say("ambiguous", f"{number(unsure)} of {number(n)} trades met stop and target, or entry and stop, inside one bar; "
            f"the worse is assumed.{advice}", "ledger")
    costs = waterfall(run)
    if not math.isnan(costs.ticks) and 0 < costs.ticks < TICKS_OF_COST:
        say("thin", f"The average trade keeps {number(costs.ticks, 2)} ticks after costs; two ticks more cost would take it.",
            "costs")
    if costs.gross > 0 > costs.net:
        say("eaten", f"Before costs it earned {number(costs.gross)}, after costs {number(costs.net)}.", "costs")
    years = groups(run, "year")
    if costs.net > 0 and len(years) > 1:
        best = max(years, key=lambda g: g.net)
        share = 100.0 * best.net / costs.net
        if share > ONE_YEAR:
            say("year", f"{number(share)}% of the profit comes from {best.label}.", "breakdown")
    count, share = concentration(run)
    if count and n >= 20 and count <= max(1, 0.05 * n) and share >= FEW_MAKE_MOST:
        say("few trades", f"{number(share)}% of the profit comes from {number(count)} of {number(n)} trades.", "breakdown")
    if _overnight(run) and not any(run.brief.paid.financing(run.bars.terms)):
        say("financing", f"{number(_overnight(run))} trades were held over the end of a session, and no financing is set.",
            "costs")
    if run.counts["late"]:
        say("late", f"{number(run.counts['late'])} sessions had no last bar; the exit was made at the next open.", "ledger")
    return found


def _worst(run: Run) -> float:
    return float((run.trades_i[:, k.T_WORST] * run.unit).min())


def _overnight(run: Run) -> int:
    t, session = run.trades_i, run.bars.session
    return int(np.count_nonzero(session[t[:, k.T_ENTRY_BAR]] != session[t[:, k.T_EXIT_BAR]]))
