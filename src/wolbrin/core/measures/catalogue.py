"""Every measure once: name, unit, definition in words, function. NaN means "no value" and is shown as n/a."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine import codes as k
from wolbrin.core.figures.figure import Figure
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.sessions import rollovers
from wolbrin.core.measures import sums
from wolbrin.core.measures.drift import above_drift
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.inference import sharpe_of_days, t_of_mean

NAN = math.nan
TRADING_DAYS = sums.TRADING_DAYS


@dataclass(frozen=True)
class Measure(Figure):
    """One measure of a run: a figure with its function. group: under which it is listed."""

    of: Callable[[Facts], float]
    better: int = field(default=1, kw_only=True)
    group: str = field(default="result", kw_only=True)


def _ratio(top: float, bottom: float) -> float:
    return top / bottom if bottom else NAN


def _mean(x: NDArray[np.float64]) -> float:
    return float(x.mean()) if len(x) else NAN


def average_loss(f: Facts) -> float:
    return _mean(f.losses)


def break_even_rate(f: Facts) -> float:
    loss = abs(average_loss(f))
    return 100.0 * _ratio(loss, _mean(f.wins) + loss)


def t_of_average(f: Facts) -> float:
    # Trades of several members overlap in time; pooled, they would count one move of the market many times.
    if f.pooled:
        return NAN
    return float(sums.t_of_average(f.nets))


def maximum_drawdown(f: Facts) -> float:
    return f.largest_fall


def maximum_drawdown_percent(f: Facts) -> float:
    return 100.0 * float(f.drawdowns.share.max()) if len(f.drawdowns.share) else 0.0


def cagr(f: Facts) -> float:
    if not len(f.equity) or f.equity[-1] <= 0 or f.days <= 0:
        return NAN
    try:
        return 100.0 * (math.exp(math.log(float(f.equity[-1]) / f.capital) * 365.25 / f.days) - 1.0)
    except OverflowError:  # a few days of a large gain
        return NAN


def sharpe(f: Facts) -> float:
    return float(sums.sharpe_of(f.daily_returns)) * math.sqrt(TRADING_DAYS)


def sortino(f: Facts) -> float:
    x = f.daily_returns
    below = math.sqrt(float(np.mean(np.minimum(x, 0.0) ** 2))) if len(x) > 1 else 0.0
    return _ratio(_mean(x), below) * math.sqrt(TRADING_DAYS) if below else NAN


def longest_losing_run(f: Facts) -> float:
    longest = current = 0
    for lost in f.profits < 0:
        current = current + 1 if lost else 0
        longest = max(longest, current)
    return float(longest)


def best_trades_share(f: Facts) -> float:
    n = math.ceil(0.05 * len(f.profits))
    return 100.0 * float(np.sort(f.profits)[::-1][:n].sum()) / f.net if f.net > 0 else NAN


def best_year_share(f: Facts) -> float:
    if f.net <= 0:
        return NAN
    return 100.0 * max(float(f.profits[f.exit_year == y].sum()) for y in np.unique(f.exit_year)) / f.net


def _nan_mean(x: NDArray[np.float64]) -> float:
    return _mean(x[np.isfinite(x)])


def _side_commission(costs: Costs, notional: float) -> float:
    return max(costs.per_contract + costs.percent / 100.0 * abs(notional), costs.minimum)


def buy_and_hold(f: Facts) -> float:
    """One contract from the first open to the last close, costs at both fills and all financing (money)."""
    run = f.run
    if run is None or run.last <= run.first:
        return NAN
    bars, costs, terms = run.bars, run.brief.paid, run.bars.terms
    first, last = int(bars.o[run.first]), int(bars.c[run.last - 1])
    tick = run.tick_value
    # Percent commission goes by the rate at its fill, the result by the rate at the end.
    entry_rate = run.first_rate if costs.percent else 1.0
    exit_rate = float(run.rates[-1])
    if not math.isfinite(entry_rate + exit_rate):
        return NAN
    held = 0
    rate = costs.financing(terms)[0]
    rolls = [r for r in bars.rolls if bars.time[run.first] <= r < bars.end[run.last - 1]]
    if rate != 0.0:
        begin, end = int(bars.time[run.first]), int(bars.end[run.last - 1])
        instants, nights = rollovers(terms, begin, end)
        held = int(nights[(instants >= begin) & (instants < end)].sum())
    ticks = (last - first) - (costs.spread_ticks + 2 * costs.slippage_ticks) + rate * held - costs.roll_ticks * len(rolls)
    return (ticks * tick * exit_rate - _side_commission(costs, first * tick * entry_rate)
            - _side_commission(costs, last * tick * exit_rate))


def trades_a_year(f: Facts) -> float:
    return len(f.profits) * 365.25 / f.days if f.days > 0 else NAN


def positive_years(f: Facts) -> float:
    """Calendar years whose last bars belong to the run count, those without a trade too."""
    if not len(f.times) or not len(f.profits):
        return NAN
    span = (np.array([f.begin, int(f.times[-1])], "datetime64[ns]").astype("datetime64[Y]").astype(np.int64) + 1970).tolist()
    years = range(span[0], max(span[1], int(f.exit_year.max())) + 1)
    return 100.0 * sum(float(sums.total(f.nets[f.exit_year == y])) > 0 for y in years) / len(years)


def average_to_costs(f: Facts) -> float:
    if f.run is None or not len(f.profits):
        return NAN
    paid = f.run.trades_f[:, [k.F_SPREAD, k.F_SLIPPAGE, k.F_COMMISSION]].sum()
    return _ratio(f.net, float(paid))


# To add a measure: its function and an entry here; the window's pages, the command line, reports and files take it from this
# list. One that a sweep, a search and the Shelf are to keep of every candidate goes into SUMMARY too.
MEASURES: list[Measure] = [
    Measure("net", "net profit", "money", "sum of net results of all trades", lambda f: f.net),
    Measure("gross_profit", "gross profit", "money", "sum of winning trades, net of costs",
            lambda f: f.sums[0]),
    Measure("gross_loss", "gross loss", "money", "sum of losing trades, net of costs", lambda f: f.sums[1]),
    Measure("trades", "trades", "count", "number of closed trades", lambda f: float(len(f.profits)), better=0),
    Measure("profit_factor", "profit factor", "ratio", "gross profit / |gross loss|",
            lambda f: _ratio(f.sums[0], abs(f.sums[1]))),
    Measure("win_rate", "win rate", "percent", "share of trades with a net result above zero",
            lambda f: 100.0 * _ratio(len(f.wins), len(f.profits))),
    Measure("break_even_rate", "break-even win rate", "percent", "|average loss| / (average win + |average loss|)",
            break_even_rate, better=0),
    Measure("average", "average trade", "money", "mean net result", lambda f: float(sums.mean_and_sd(f.nets)[0]), digits=2),
    Measure("average_win", "average win", "money", "mean of winning trades", lambda f: _mean(f.wins), digits=2),
    Measure("average_loss", "average loss", "money", "mean of losing trades", average_loss, digits=2),
    Measure("payoff", "payoff ratio", "ratio", "average win / |average loss|",
            lambda f: _ratio(_mean(f.wins), abs(average_loss(f)))),
    Measure("loss_at_stop", "loss at the stop, median", "percent", "initial risk / equity that sized the trade",
            lambda f: 100.0 * float(np.median(x)) if len(x := f.risk_share[np.isfinite(f.risk_share)]) else NAN, better=-1,
            group="risk"),
    Measure("loss_at_stop_worst", "loss at the stop, worst", "percent",
            "largest initial risk / equity that sized the trade",
            lambda f: 100.0 * float(x.max()) if len(x := f.risk_share[np.isfinite(f.risk_share)]) else NAN, better=-1,
            group="risk"),
    Measure("expectancy", "expectancy", "R", "mean of net / initial risk, over trades with a stop",
            lambda f: _nan_mean(f.r)),
    Measure("t", "t of average trade", "ratio", "mean / (standard deviation / square root of n); n/a for a portfolio, whose "
            "trades overlap", t_of_average),
    Measure("t_daily", "t of daily results", "ratio", "mean daily P/L / its standard error, autocorrelation allowed for "
            "(Newey & West 1987; Bartlett weights, lag floor(4 (n / 100)^(2/9)))", lambda f: t_of_mean(f.daily)),
    Measure("sharpe_daily", "Sharpe ratio of a day", "ratio", "mean / standard deviation of daily P/L, not annualized",
            lambda f: sharpe_of_days(f.daily), group="return for risk"),
    Measure("max_drawdown", "maximum drawdown", "money",
            "largest fall of equity from its running peak, starting capital included", maximum_drawdown, better=-1,
            group="risk"),
    Measure("max_drawdown_percent", "maximum drawdown", "percent", "largest fall in percent of the peak",
            maximum_drawdown_percent, better=-1, group="risk"),
    Measure("average_drawdown", "average drawdown", "money", "mean depth over completed and running drawdowns",
            lambda f: _mean(f.drawdowns.depth), better=-1, group="risk"),
    Measure("under_water", "under water, longest", "days", "longest time from a peak to its recovery, or to the end",
            lambda f: float(d.max()) if len(d := f.days_under_water()) else 0.0, better=-1, group="risk"),
    Measure("return_drawdown", "return over drawdown", "ratio", "net profit / maximum drawdown (money)",
            lambda f: _ratio(f.net, maximum_drawdown(f)), group="return for risk"),
    Measure("cagr", "CAGR", "percent", "(end equity / start equity)^(365.25 / days) \u2212 1", cagr, group="return for risk"),
    Measure("calmar", "Calmar ratio", "ratio", "CAGR / maximum drawdown (percent)",
            lambda f: _ratio(cagr(f), maximum_drawdown_percent(f)), group="return for risk"),
    Measure("sharpe", "Sharpe ratio", "ratio",
            "mean / standard deviation of daily P/L over starting capital (daily returns where the size compounds), "
            "\u00d7 \u221a252, zero hurdle", sharpe, group="return for risk"),
    Measure("sortino", "Sortino ratio", "ratio", "as Sharpe, over the downside deviation below zero of all days",
            sortino, group="return for risk"),
    Measure("exposure", "exposure", "percent", "share of session bars with a position",
            lambda f: 100.0 * f.exposed / f.bars if f.bars else 0.0, better=0, group="execution"),
    Measure("entry_placement", "placement of entries", "percent",
            "long: (highest \u2212 entry) / (highest \u2212 lowest) over the held bars; short mirrored",
            lambda f: 100.0 * _nan_mean(f.placement[0]), group="execution"),
    Measure("exit_placement", "placement of exits", "percent",
            "long: (exit \u2212 lowest) / (highest \u2212 lowest) over the held bars; short mirrored",
            lambda f: 100.0 * _nan_mean(f.placement[1]), group="execution"),
    Measure("losing_run", "longest losing run", "count", "most losing trades in a row", longest_losing_run, better=-1,
            group="risk"),
    Measure("best_trades", "profit from best 5% of trades", "percent",
            "share of net profit from the best 5% of trades", best_trades_share, better=-1, group="dependence"),
    Measure("best_year", "profit from best year", "percent", "share of net profit from the best year",
            best_year_share, better=-1, group="dependence"),
    Measure("buy_and_hold", "buy and hold", "money",
            "one contract from the first open to the last close, costs once and all financing", buy_and_hold, better=0,
            group="dependence"),
    Measure("trades_per_year", "trades per year", "count", "closed trades \u00d7 365.25 / days of the run", trades_a_year,
            better=0,
            digits=1),
    Measure("positive_years", "positive years", "percent", "share of calendar years whose trades, by exit, sum to a profit",
            positive_years, group="dependence"),
    Measure("average_to_costs", "average trade to costs", "ratio",
            "average trade / average spread, slippage and commission of a trade", average_to_costs, group="execution"),
    Measure("above_drift", "t above drift", "ratio",
            "t of daily results, autocorrelation allowed for, less what the market's mean moves earn on the bars held",
            lambda f: above_drift(f.run), group="dependence"),
]



class _ByKey(Mapping[str, Measure]):
    """Measures by their keys, those that join the list later included."""

    def __init__(self) -> None:
        self._known: dict[str, Measure] = {}

    def __getitem__(self, key: str) -> Measure:
        if len(self._known) != len(MEASURES):
            self._known = {m.key: m for m in MEASURES}
        return self._known[key]

    def __iter__(self) -> Iterator[str]:
        return (m.key for m in MEASURES)

    def __len__(self) -> int:
        return len(MEASURES)


BY_KEY = _ByKey()
SUMMARY: list[str] = ["net", "trades", "profit_factor", "win_rate", "average", "t", "t_daily", "max_drawdown",
                      "return_drawdown", "sharpe", "sharpe_daily"]


def measure(facts: Facts, keys: Iterable[str] | None = None) -> dict[str, float]:
    """Values of the named measures, all when none are named. NaN where a measure has no value."""
    return {key: BY_KEY[key].of(facts) for key in (BY_KEY if keys is None else keys)}
