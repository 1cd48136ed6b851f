"""Several runs beside each other and on one account."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Any

import numpy as np
import pandas as pd

from wolbrin.core.errors import UserError
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.portfolio.overlap import Overlap as CoreOverlap
from wolbrin.core.portfolio.plan import Member, Plan
from wolbrin.core.portfolio.played import Part, play
from wolbrin.core.portfolio.sampling import Sampling, Series, Table
from wolbrin.core.portfolio.told import Told as CoreTold
from wolbrin.core.portfolio.told import tell
from wolbrin.core.portfolio.weights import fitted
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.face.runs import Run
from wolbrin.face.shown import Told, dated, frame

SHOWN = ("net", "max_drawdown", "return_drawdown", "sharpe", "t_daily")


def _names(runs: Sequence[Run], names: Sequence[str]) -> list[str]:
    if names and len(names) != len(runs):
        raise UserError(f"{len(names)} names for {len(runs)} runs", "names", "Give each run one.")
    made, seen = [], dict[str, int]()
    for i, run in enumerate(runs):
        name = names[i] if names else f"{run.strategy.name} {run.core.bars.terms.code}"
        seen[name] = seen.get(name, 0) + 1
        made.append(name if seen[name] == 1 else f"{name} {seen[name]}")
    return made


class Overlap(Told):
    """How alike several runs are. `correlation`, `p` (DataFrames, n x n), `average` (Series), `bets` (how many different bets
    they are worth), `clusters(limit)`."""

    def __init__(self, core: CoreOverlap, names: list[str]) -> None:
        self.core, self.names = core, names

    def _square(self, values: Any) -> pd.DataFrame:
        return pd.DataFrame(values, index=self.names, columns=self.names)

    @cached_property
    def correlation(self) -> pd.DataFrame:
        """Of daily results on the dates that both have; NaN for one that never moves."""
        return self._square(self.core.matrix)

    @cached_property
    def p(self) -> pd.DataFrame:
        """Chance of a correlation as far from zero where there is none, autocorrelation allowed for."""
        return self._square(self.core.p)

    @property
    def average(self) -> pd.Series:
        return pd.Series(self.core.average, self.names, name="mean correlation")

    @property
    def bets(self) -> float:
        return self.core.bets

    def _title(self) -> str:
        return f"{len(self.names)} runs worth {number(self.bets, 1)} bets"

    def _rows(self) -> list[tuple[str, str]]:
        return [(n, f"mean correlation {number(float(v), 2)}") for n, v in zip(self.names, self.core.average)]


def overlap(runs: Sequence[Run], *, names: Sequence[str] = (), **how: Any) -> Overlap:
    """How alike runs are, by their daily results.

    Args:
        names: one a run; the strategies' and markets' where left out. how: fields of `Sampling`, such as `by="week"`,
            `rank=True`.
    Raises:
        UserError: fewer than two runs, or no span to compare them over.
    """
    if len(runs) < 2:
        raise UserError("two runs are needed", "overlap", "Give it a list of runs.")
    series = [Series(*r.core.daily, r.core.daily_share) for r in runs]
    return Overlap(CoreOverlap.of(series, Sampling(**how)), _names(runs, names))


class Portfolio(Told):
    """Runs traded together. `equity` (DataFrame by instant: equity, margin, positions), `daily`, `measures` (Series),
    `members` (DataFrame: shares and what each adds), `trades` (the account's ledger), `bets`."""

    def __init__(self, told: CoreTold, names: list[str], currency: str) -> None:
        self.told, self.names, self.currency = told, names, currency

    @cached_property
    def equity(self) -> pd.DataFrame:
        """By instant (UTC, ends of bars of any member): equity and margin in use (money), positions open."""
        p = self.told.played
        return frame({"time": p.instants.view("datetime64[ns]"), "equity": p.equity, "margin": p.margin, "positions": p.held},
                     "time")

    @cached_property
    def daily(self) -> pd.Series:
        """Change of equity by trading date, money."""
        days, profit = self.told.played.daily
        return pd.Series(profit, dated(days), name="net")

    @cached_property
    def measures(self) -> pd.Series:
        return pd.Series(self.told.figures, name="value")

    @cached_property
    def members(self) -> pd.DataFrame:
        """A row a member: share, net (money), its share of profit and of risk, mean correlation with the others."""
        t, parts = self.told, self.told.parts
        return pd.DataFrame({"share": t.played.plan.split, "net": parts.net, "profit": parts.share, "risk": parts.risk,
                             "correlation": parts.average, "trades": [len(r) for r in t.played.runs]}, index=self.names)

    @cached_property
    def trades(self) -> pd.DataFrame:
        """Trades in the order in which the account came to know them: member, time (UTC), net, cash after it (money)."""
        entries = self.told.played.entries
        return frame({"member": [self.names[e.member] for e in entries],
                      "time": np.array([e.at for e in entries], np.int64).view("datetime64[ns]"),
                      "net": [e.net for e in entries], "account": [e.purse for e in entries]})

    @property
    def bets(self) -> float:
        """How many different bets they are worth."""
        return self.told.bets

    def _title(self) -> str:
        f = self.told.figures
        return (f"{len(self.names)} members: net {worded('net', f['net'], True)} {self.currency}, return over drawdown "
                f"{worded('return_drawdown', f['return_drawdown'])}, worth {number(self.bets, 1)} bets")

    def _rows(self) -> list[tuple[str, str]]:
        return [(BY_KEY[k].title, worded(k, self.told.figures[k])) for k in SHOWN]


def portfolio(runs: Sequence[Run], *, weights: str = "equal", capital: float | None = None, names: Sequence[str] = (),
              **plan: Any) -> Portfolio:
    """Trade runs together on one account.

    Args:
        weights: "equal", "volatility", "variance", "erc" (equal risk), "hrp" or "drawdown". capital: of the account, money;
            that of the first run. names: one a run. plan: fields of `Plan`, such as `one_account=False`, `size=2.0`,
            `resize="monthly"`.
    Raises:
        UserError: no run, weights that cannot be found, or nothing of it can be traded at this capital.
    """
    if not runs:
        raise UserError("a portfolio needs at least one run", "portfolio", "Give it a list of runs.")
    called, money = _names(runs, names), runs[0].core.brief.capital if capital is None else capital
    parts = []
    for name, run in zip(called, runs):
        ready = run.core.ready
        assert ready is not None
        parts.append(Part(name, ready, run.strategy, run.core.brief))
    members = tuple(Member(name=n, hash=strategy_hash(p.strategy), market=p.history.bars.terms.code,
                           interval=p.history.bars.interval) for n, p in zip(called, parts))
    made = Plan(members=members, capital=money, **plan)
    if weights != "equal":
        table = Table.of([Series(*play(Plan(members=(m,)), [p], money).runs[0].daily) for m, p in zip(members, parts)])
        shares = fitted(weights, np.ascontiguousarray(table.profit.T), [p.label for p in parts], made.limits, called)
        made = made.with_shares(shares.tolist(), weights)
    told = tell(play(made, parts, money), (), [r.core.record() for r in runs])
    return Portfolio(told, called, runs[0].currency)
