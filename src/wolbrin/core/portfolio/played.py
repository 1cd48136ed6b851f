"""A portfolio traded: on one purse, or on an account for each member; equity, results and margin on one time axis."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.account import AccountRun, Refused, Seat, run_account
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.measures.facts import FOLLOWS_EQUITY, Facts
from wolbrin.core.measures.wording import few, number
from wolbrin.core.portfolio.combine import daily_table
from wolbrin.core.portfolio.limits import Label
from wolbrin.core.portfolio.plan import Plan, Whole
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.naming import family_of

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@dataclass(frozen=True)
class Part:
    """A member as it is run: its history, rules, and brief with its own costs."""

    name: str
    history: Prepared
    strategy: Strategy
    brief: Brief

    @property
    def label(self) -> Label:
        """What it belongs to."""
        return Label(self.history.bars.terms.code, family_of(self.strategy) or "price", sides_of(self.strategy))


def sides_of(strategy: Strategy) -> str:
    """On which sides a strategy trades."""
    sides = [side.mode != "off" for side in (strategy.long, strategy.short)]
    return "both sides" if all(sides) else "long only" if sides[0] else "short only"


@dataclass(frozen=True)
class Entry:
    """A trade in the account's ledger: of which member, its row there, and what the purse held after it (money)."""

    member: int
    row: int
    at: int
    net: float
    purse: float


@dataclass(frozen=True)
class Played:
    """What came of a portfolio. accounts: one, or one for each part; runs: of each part, in order. scales: by what each one's
    own size was multiplied."""

    plan: Plan
    parts: tuple[Part, ...]
    scales: Floats
    capital: float
    accounts: tuple[AccountRun, ...]

    @cached_property
    def runs(self) -> tuple[Run, ...]:
        """Of each part; equity is its capital and its own results."""
        return tuple(run for account in self.accounts for run in account.runs)

    @cached_property
    def instants(self) -> Ints:
        """int64[t] UTC ns: ends of all bars."""
        found = [a.instants for a in self.accounts]
        return found[0] if len(found) == 1 else np.unique(np.concatenate(found))

    def _of(self, account: AccountRun, values: NDArray, before: float) -> Floats:
        """What an account showed at each instant."""
        if len(self.accounts) == 1:
            return values.astype(np.float64)
        at = np.searchsorted(account.instants, self.instants, "right") - 1
        held = values[np.maximum(at, 0)] if len(values) else np.zeros(len(at))
        return np.where(at >= 0, held, before).astype(np.float64)

    @cached_property
    def equity(self) -> Floats:
        """float64[t] marked, net of costs."""
        return sum((self._of(a, a.mark, a.capital) for a in self.accounts), np.zeros(len(self.instants)))

    @cached_property
    def margin(self) -> Floats:
        """float64[t] in use."""
        return sum((self._of(a, a.margin, 0.0) for a in self.accounts), np.zeros(len(self.instants)))

    @cached_property
    def held(self) -> Floats:
        """float64[t] positions open."""
        return sum((self._of(a, a.held, 0.0) for a in self.accounts), np.zeros(len(self.instants)))

    @cached_property
    def exposed(self) -> NDArray[np.bool_]:
        """bool[t]: instants at the end of, or within, a bar on which a member was in the market."""
        out = np.zeros(len(self.instants), bool)
        for run in self.runs:
            part = slice(run.first, run.last)
            if run.last > run.first:
                at = np.minimum(np.searchsorted(run.bars.end[part], self.instants, "left"), run.last - run.first - 1)
                within = (run.bars.time[part][at] < self.instants) & (run.bars.end[part][at] >= self.instants)
                out |= within & run.in_market[at]
        return out

    @cached_property
    def each(self) -> Floats:
        """float64[t, n]: results of each part so far at each instant (money)."""
        out = np.zeros((len(self.instants), len(self.runs)))
        for column, run in enumerate(self.runs):
            if run.last > run.first:
                at = np.searchsorted(run.bars.end[run.first:run.last], self.instants, "right") - 1
                out[:, column] = np.where(at >= 0, run.net[np.maximum(at, 0)] - run.brief.capital, 0.0)
        return out

    @cached_property
    def table(self) -> tuple[NDArray[np.int32], Floats]:
        """Trading dates and daily P/L of each part as it traded here, float64[d, n]."""
        return daily_table([run.daily for run in self.runs])

    @property
    def daily(self) -> tuple[NDArray[np.int32], Floats]:
        """Trading dates and daily P/L of the whole."""
        dates, table = self.table
        return dates, table.sum(axis=1)

    @property
    def compounds(self) -> bool:
        """Whether sizes follow equity: a member's by itself, or all of them since they are set again by the account's."""
        return self.plan.resizing is not None or any(p.strategy.sizing.kind in FOLLOWS_EQUITY for p in self.parts)

    @property
    def ruined(self) -> bool:
        """Whether an account came to nothing."""
        return any(a.ruined for a in self.accounts)

    @cached_property
    def entries(self) -> list[Entry]:
        """All trades in the order in which they became known, with what the purse held after each."""
        times = [run.exit_time for run in self.runs]
        if len(self.accounts) == 1:
            found = [(int(times[m][r]), m, r) for m, r in self.accounts[0].ledger.tolist()]
        else:
            found = sorted((int(t), m, r) for m, moments in enumerate(times) for r, t in enumerate(moments.tolist()))
        purse, out = self.capital, []
        for at, m, r in found:
            net = float(self.runs[m].profits[r])
            purse += net
            out.append(Entry(m, r, at, net, purse))
        return out

    @cached_property
    def refused(self) -> list[Refused]:
        """Entries that a purse did not allow, in the order of their decisions; member: place among the parts."""
        found, base = [], 0
        for account in self.accounts:
            found += [replace(r, member=r.member + base) for r in account.refused()]
            base += len(account.runs)
        return sorted(found, key=lambda r: (r.at, r.member))

    @cached_property
    def facts(self) -> Facts:
        """Of the whole, for all measures."""
        order = [(e.member, e.row) for e in self.entries]
        each = [Facts.of(run) for run in self.runs]
        live = [r for r in self.runs if r.last > r.first]

        def taken(values: list[NDArray], kind: type) -> NDArray:
            return np.array([values[m][r] for m, r in order], kind)

        return Facts(self.capital, taken([f.profits for f in each], np.float64), taken([f.r for f in each], np.float64),
                     taken([f.risk_share for f in each], np.float64), taken([f.exit_year for f in each], np.int64),
                     self.equity, self.instants, min(int(r.bars.time[r.first]) for r in live), self.daily[1],
                     int(self.exposed.sum()), len(self.instants), pooled=len(self.runs) > 1, compounding=self.compounds)

    @property
    def rounding(self) -> Whole:
        """Contracts asked for at the starting capital, and whole ones; of those whose size follows equity the mean of their
        trades, which are whole already."""
        asked, whole = np.zeros(len(self.parts)), np.zeros(len(self.parts))
        for at, (part, run) in enumerate(zip(self.parts, self.runs)):
            if part.strategy.sizing.kind == "fixed":
                step = part.history.bars.terms.lot_step
                asked[at] = part.strategy.quantity * self.scales[at]
                whole[at] = np.floor(asked[at] / step + 1e-6) * step
                if whole[at] < part.history.bars.terms.minimum_lot - 1e-9:
                    whole[at] = 0.0
            elif len(run):
                asked[at] = whole[at] = float(run.trades_f[:, k.F_QUANTITY].mean())
        return Whole(asked, whole)


    @property
    def least_size(self) -> float:
        """The size of the whole at which every member of a fixed size trades its smallest lot; NaN where none is fixed."""
        size = len(self.parts) if self.plan.size is None else self.plan.size
        least = []
        for member, part, scale in zip(self.plan.on, self.parts, self.scales):
            if part.strategy.sizing.kind == "fixed" and member.contracts is None and scale > 0:
                lot = max(part.history.bars.terms.minimum_lot, part.history.bars.terms.lot_step)
                least.append(lot / (part.strategy.quantity * float(scale)) * size)
        return max(least) * (1.0 + 1e-9) if least else float("nan")


def play(plan: Plan, parts: Sequence[Part], capital: float, span: Span | None = None) -> Played:
    """Trade a portfolio. parts: of the members that are on, in order. span: instead of that of their briefs.

    Raises:
        UserError: nobody is on, no member has bars in the span, or nothing of it can be traded at this capital.
    """
    scales = plan.scales([p.strategy for p in parts])
    shares, resize = plan.shares, plan.resizing
    limit = plan.limit.as_limit() if plan.limit else None
    seats = []
    for member, part, scale in zip(plan.on, parts, scales):
        brief = replace(part.brief, costs=member.costs or part.brief.costs)
        if span is not None:
            brief = replace(brief, span=span)
        seats.append(Seat(part.name, part.history, part.strategy, brief, float(scale), member.priority,
                          member.limit.as_limit() if member.limit else None))
    if plan.one_account:
        accounts = [run_account(seats, capital, plan.zone, limit, resize)]
    else:
        accounts = []
        for seat, share in zip(seats, shares):
            own = capital * float(share)
            follows = seat.strategy.sizing.kind in FOLLOWS_EQUITY
            weight = seat.weight / float(share) if follows and share > 0 else seat.weight
            accounts.append(run_account([replace(seat, weight=weight)], max(own, 1e-9), plan.zone, limit, resize))
    made = Played(plan, tuple(parts), scales, capital, tuple(accounts))
    if not any(r.last > r.first for r in made.runs):
        raise UserError("none of the selected strategies has bars in this span", "portfolio", "Choose a longer span.")
    return made


def trouble_of(made: Played) -> list[str]:
    """What a portfolio at this capital cannot do, a sentence each."""
    found = []
    counts: dict[int, dict[str, int]] = {}
    for r in made.refused:
        counts.setdefault(r.member, {}).setdefault(r.reason, 0)
        counts[r.member][r.reason] += 1
    names = [p.name for p in made.parts]
    small = [n for n, whole, run in zip(names, made.rounding.whole, made.runs) if whole == 0 and not len(run)]
    if small:
        found.append(f"{few(small, 4)} {'trades' if len(small) == 1 else 'trade'} nothing: the size asked for is below the "
                     f"smallest lot. From a size of {number(made.least_size, 1)} on all of them trade; "
                     "or give larger shares, or contracts.")
    for m, why in counts.items():
        said = " and ".join(f"{count:,} by {'what others had in use' if reason == 'account' else 'margin alone'}"
                            for reason, count in why.items())
        none = " It never traded." if not len(made.runs[m]) else ""
        found.append(f"{names[m]}: {sum(why.values()):,} entries refused, {said}.{none}")
    if made.ruined:
        found.append("The account came to nothing in this span; all was closed there, for good.")
    return found
