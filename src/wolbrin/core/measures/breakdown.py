"""A run taken apart: by side, year, month, weekday, hour, holding time, exit reason; its drawdowns as episodes."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine import codes as k
from wolbrin.core.engine.run import Run
from wolbrin.core.market.sessions import NS_A_DAY
from wolbrin.core.market.terms import WEEKDAYS
from wolbrin.core.market.zones import to_local
from wolbrin.core.measures.facts import Facts

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]
MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
HOLDING = (1, 2, 3, 5, 8, 13, 21, 34, 55, 89)


@dataclass(frozen=True)
class Group:
    """Trades that share something. Money in account currency; ratios NaN where they have no value."""

    label: str
    trades: int
    net: float
    win_rate: float
    average: float
    profit_factor: float
    share: float


def side_facts(run: Run, side: int) -> Facts:
    """Facts of one side's trades (+1 long, -1 short). Its equity counts closed trades only, since open profit belongs to
    the run as a whole; exposure has no value."""
    pick = run.trades_i[:, k.T_SIDE] == side
    whole = Facts.of(run)
    step = np.zeros(run.last - run.first)
    np.add.at(step, run.trades_i[pick, k.T_EXIT_BAR] - run.first, run.profits[pick])
    equity = run.brief.capital + np.cumsum(step)
    ends = run.bars.day_ends
    ends = ends[(ends >= run.first) & (ends < run.last - 1)]
    at = np.append(ends, run.last - 1) - run.first if run.last > run.first else np.zeros(0, np.int64)
    daily = np.diff(equity[at], prepend=run.brief.capital)
    return Facts(whole.capital, whole.profits[pick], whole.r[pick], whole.risk_share[pick], whole.exit_year[pick], equity,
                 whole.times, whole.begin, daily, 0, 0)


def year_facts(run: Run, year: int) -> Facts:
    """Facts of the trades that ended in a year. Its equity starts at the capital and counts closed trades only, so that years
    compare with each other."""
    years = _exit_dates(run).astype("datetime64[Y]").astype(np.int64) + 1970
    whole, pick = Facts.of(run), years == year
    of_bar = run.bars.trading_date[run.first:run.last].astype("datetime64[D]").astype("datetime64[Y]").astype(np.int64) + 1970
    inside = np.flatnonzero(of_bar == year)
    step = np.zeros(run.last - run.first)
    np.add.at(step, run.trades_i[pick, k.T_EXIT_BAR] - run.first, run.profits[pick])
    equity = run.brief.capital + np.cumsum(step[inside])
    _, ends = np.unique(run.bars.trading_date[run.first:run.last][inside][::-1], return_index=True)
    at = np.sort(len(inside) - 1 - ends)
    daily = np.diff(equity[at], prepend=run.brief.capital)
    times = whole.times[inside]
    begin = int(run.bars.time[run.first + inside[0]]) if len(inside) else 0
    return Facts(whole.capital, whole.profits[pick], whole.r[pick], whole.risk_share[pick], whole.exit_year[pick], equity,
                 times, begin, daily, 0, 0)


def _exit_dates(run: Run) -> NDArray[np.datetime64]:
    return run.bars.trading_date[run.trades_i[:, k.T_EXIT_BAR]].astype("datetime64[D]")


def _years(run: Run) -> list[str]:
    return [str(y) for y in _exit_dates(run).astype("datetime64[Y]")]


def _months(run: Run) -> list[str]:
    return [MONTHS[m] for m in _exit_dates(run).astype("datetime64[M]").astype(np.int64) % 12]


def _weekdays(run: Run) -> list[str]:
    dates = run.bars.trading_date[run.trades_i[:, k.T_ENTRY_BAR]].astype(np.int64)
    return [WEEKDAYS[d] for d in (dates + 3) % 7]


def _hours(run: Run) -> list[str]:
    clock = to_local(run.entry_time, run.bars.terms.time_zone) % NS_A_DAY
    return [f"{h:02d}:00" for h in clock // (NS_A_DAY // 24)]


def _holding(run: Run) -> list[str]:
    held = run.trades_i[:, k.T_HELD]
    found = []
    for n in held.tolist():
        low = max((x for x in HOLDING if x <= n), default=0)
        high = min((x for x in HOLDING if x > n), default=0)
        found.append(f"{low} bar{'s' if low != 1 else ''}" if high == low + 1 else f"{low} to {high - 1} bars" if high
                     else f"{low} bars and more")
    return found


def _reasons(run: Run) -> list[str]:
    return [k.REASONS[r] for r in run.trades_i[:, k.T_REASON]]


def _sides(run: Run) -> list[str]:
    return ["long" if s > 0 else "short" for s in run.trades_i[:, k.T_SIDE]]


WAYS: dict[str, Callable[[Run], list[str]]] = {
    "year": _years, "month": _months, "weekday": _weekdays, "hour": _hours, "holding time": _holding,
    "exit reason": _reasons, "side": _sides}
_ORDER = {"month": MONTHS, "weekday": WEEKDAYS}


def groups(run: Run, way: str) -> list[Group]:
    """The run's trades grouped: years, months, reasons and sides by exit; weekday of the entry's trading date; hour of the
    entry on the exchange's clock."""
    labels = np.array(WAYS[way](run), object)
    found = []
    total = float(run.profits.sum())
    for label in dict.fromkeys(labels.tolist()):
        x = run.profits[labels == label]
        lost = abs(float(x[x < 0].sum()))
        found.append(Group(label, len(x), float(x.sum()), 100.0 * float((x > 0).mean()), float(x.mean()),
                           float(x[x > 0].sum()) / lost if lost else float("nan"),
                           100.0 * float(x.sum()) / total if total > 0 else float("nan")))
    order = _ORDER.get(way)
    if order:
        return sorted(found, key=lambda g: order.index(g.label))
    if way == "holding time":
        return sorted(found, key=lambda g: int(g.label.split()[0]))
    return sorted(found, key=lambda g: g.label)


def month_grid(run: Run) -> tuple[list[int], Floats]:
    """Years and net profit by year and month, float64[years, 12], NaN for months without a closed trade."""
    months = _exit_dates(run).astype("datetime64[M]").astype(np.int64) + 1970 * 12
    if not len(months):
        return [], np.zeros((0, 12))
    years = list(range(int(months.min()) // 12, int(months.max()) // 12 + 1))
    grid = np.full((len(years), 12), np.nan)
    for month in np.unique(months):
        grid[month // 12 - years[0], month % 12] = run.profits[months == month].sum()
    return years, grid


@dataclass(frozen=True)
class Drawdown:
    """One drawdown: its depth in money and percent of the peak, its days, and calendar days under water."""

    depth: float
    percent: float
    start: dt.datetime
    trough: dt.datetime
    recovery: dt.datetime | None
    days: float


def drawdown_list(run: Run, most: int = 200) -> list[Drawdown]:
    """The deepest drawdowns of the run, deepest first; recovery is None while one is still under water."""
    facts = Facts.of(run)
    e, days = facts.drawdowns, facts.days_under_water()
    stamps = np.append(facts.times, facts.begin)  # index -1 is the start

    def moment(at: int) -> dt.datetime:
        return dt.datetime.fromtimestamp(int(stamps[at]) / 1e9, tz=dt.UTC).astimezone(run.bars.terms.zone)

    found = []
    for i in np.argsort(-e.depth, kind="stable")[:most].tolist():
        back = int(e.recovery[i])
        found.append(Drawdown(float(e.depth[i]), 100.0 * float(e.share[i]), moment(int(e.peak[i])), moment(int(e.trough[i])),
                              moment(back) if back < len(facts.times) else None, float(days[i])))
    return found
