"""Monte Carlo on trades: how deep could the drawdown have been, how likely is ruin."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from wolbrin.core.compiled import njit
from wolbrin.core.figures.figure import Figure
from wolbrin.core.measures.drawdown import largest_fall
from wolbrin.core.measures.sums import SAME
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, GateTable, Outcome, Shown

Floats = NDArray[np.float64]
QUANTILES = 201  # of each distribution that are kept with the verdict
FAN_PATHS, FAN_POINTS = 1_000, 100
FAN = (5, 25, 50, 75, 95)  # percentiles of it that are kept
FILLS = 2.0  # of a trade
LEAST_FOR_BLOCKS = 40  # trades, below which no length of blocks can be told
NOTHING = np.zeros(0)
RISKS = (0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.3, 0.5)  # for which the capital is told


@njit(cache=True, nogil=True)
def _next(state: np.uint64) -> tuple[np.uint64, np.uint64]:
    """splitmix64 (Steele, Lea & Flood 2014): next state and a 64-bit random number."""
    state = state + np.uint64(0x9E3779B97F4A7C15)
    z = state
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return state, z ^ (z >> np.uint64(31))


@njit(cache=True, nogil=True)
def _paths(profits: Floats, dear: Floats, length: int, first: int, count: int, seed: int, replace: bool, block: float,
           left_out: float, capital: float, out: Floats, fan: Floats) -> None:
    """out: float64[paths, 4]: deepest fall, lowest and last equity, most trades from a peak to its recovery. fan:
    float64[some, points], equity of the first paths at evenly spaced trades."""
    n = len(profits)
    order = np.empty(n, np.int32)
    slips = len(dear) == n
    share = 1.0 / 4294967296.0
    for p in range(first, first + count):
        # Each path has its own stream, so that results do not depend on how paths are shared out.
        state, _ = _next(np.uint64(seed) ^ (np.uint64(p) * np.uint64(0xD1B54A32D192ED03)))
        for j in range(n):
            order[j] = j
        equity = capital
        peak = capital
        fall = 0.0
        lowest = capital
        since = 0
        longest = 0
        at = np.int64(-1)
        points = fan.shape[1] if p < fan.shape[0] else 0
        point = 0
        for j in range(length):
            state, z = _next(state)
            # The high 32 bits, scaled: no division, and a bias below 1e-6 for any ledger.
            if replace:
                if at >= 0 and block > 1.0 and (z & np.uint64(0xFFFFFFFF)) * share * block >= 1.0:
                    at = at + 1 if at + 1 < n else np.int64(0)
                else:
                    at = np.int64(((z >> np.uint64(32)) * np.uint64(n)) >> np.uint64(32))
                which = at
            else:
                k = j + np.int64(((z >> np.uint64(32)) * np.uint64(n - j)) >> np.uint64(32))
                which = np.int64(order[k])
                order[k] = order[j]
                order[j] = which
            x = profits[which]
            if slips:
                state, z = _next(state)
                x += dear[which] * math.log(1.0 - (z >> np.uint64(32)) * share)  # an exponential draw, paid
            if left_out > 0.0:
                state, z = _next(state)
                if (z >> np.uint64(32)) * share < left_out:
                    x = 0.0
            equity += x
            since += 1
            if equity >= peak - SAME * peak:  # closer than that is at the peak; the trade that recovers it counts
                if since > 1:
                    longest = max(longest, since)
                peak = max(peak, equity)
                since = 0
            else:
                fall = max(fall, peak - equity)
                longest = max(longest, since)
            if equity < lowest:
                lowest = equity
            if point < points and (j + 1) * points >= (point + 1) * length:
                fan[p, point] = equity
                point += 1
        out[p, 0] = fall
        out[p, 1] = lowest
        out[p, 2] = equity
        out[p, 3] = longest


@dataclass(frozen=True)
class Paths:
    """Outcomes of the simulated paths, float64[paths] each: deepest drawdown, lowest and end equity, money; and under_water,
    the most trades from a peak to its recovery, or to the end. fan: float64[at most FAN_PATHS, at most FAN_POINTS], equity of
    the first of them at evenly spaced trades."""

    drawdown: Floats
    lowest: Floats
    end: Floats
    under_water: Floats
    fan: Floats


def simulate_paths(profits: Floats, capital: float, paths: int = 10_000, *, length: int | None = None, replace: bool = False,
                   block: float = 1.0, left_out: float = 0.0, dear: Floats = NOTHING,
                   seed: int = 1) -> Paths:
    """Play the trades in random order.

    Args:
        profits: float64[m] net per trade. replace: draw with replacement (any length) instead of reshuffling (then
        length is at most m). block: mean number of neighbors that are drawn together (stationary bootstrap, Politis &
        Romano 1994), 1 for single trades. left_out: chance of each trade to be left out. dear: float64[m], mean of what
        slippage takes of each trade beside its costs, drawn anew each time (exponential); none where empty. seed: same seed,
        same bits, whatever the number of threads.
    """
    steps = len(profits) if length is None else length
    if not len(profits) or paths < 1:
        return Paths(NOTHING, NOTHING, NOTHING, NOTHING, np.zeros((0, 0)))
    if not replace:
        steps = min(steps, len(profits))
    out, fan = np.empty((paths, 4)), np.empty((min(paths, FAN_PATHS), min(steps, FAN_POINTS)))
    _paths(np.ascontiguousarray(profits, np.float64), np.ascontiguousarray(dear, np.float64), steps, 0, paths, seed, replace,
           float(block), float(left_out), float(capital), out, fan)
    return Paths(out[:, 0], out[:, 1], out[:, 2], out[:, 3], fan)


def block_length(profits: Floats) -> float:
    """Mean length of the blocks that fit float64[trades]; 1 where it has no value.

    Source: Politis & White 2004, as corrected by Patton, Politis & White 2009.
    """
    if len(profits) < LEAST_FOR_BLOCKS or not np.ptp(profits) > 0:
        return 1.0
    from arch.bootstrap import optimal_block_length  # late

    found = float(optimal_block_length(profits)["stationary"].iloc[0])
    return max(1.0, found) if math.isfinite(found) else 1.0


def fan_of(paths: Paths, profits: Floats, capital: float) -> dict[str, Floats]:
    """How paths of as many trades, float64[trades] of profits, spread: by trade, percentiles of their net, and what really
    came, money; each float64[points]."""
    points = paths.fan.shape[1]
    trade = -(-(np.arange(points) + 1) * len(profits) // max(points, 1))
    spread = {f"p{q}": v for q, v in zip(FAN, np.percentile(paths.fan - capital, FAN, axis=0))}
    return {"trade": trade.astype(np.float64), **spread, "actual": np.cumsum(profits)[trade - 1]}


def capital_for(paths: Paths, capital: float, ruin_share: float, risk: float) -> float:
    """The capital at which this share of the paths loses so much of it (trades of the same size)."""
    if not len(paths.lowest):
        return math.nan
    return float(np.quantile(capital - paths.lowest, 1.0 - risk)) / ruin_share


def risk_of_ruin(paths: Paths, level: float) -> float:
    """Share of paths whose equity ever stood at or below `level` (money)."""
    return float(np.mean(paths.lowest <= level)) if len(paths.lowest) else math.nan


class MonteCarloSettings(Model):
    """paths: how many. least_return_drawdown: net over the median drawdown of reshuffled trades (common practice, no source).
    drawn: singly, or in blocks of neighbors, for the risk of ruin; left_out: share of the trades that is left out by chance;
    slippage: mean ticks that each fill slips beside its costs, drawn anew for every trade of every path (exponential).
    ruin_share: of the capital, whose loss is ruin; largest_risk: share of the drawn paths that may come to it."""

    paths: int = Field(10_000, ge=10, le=1_000_000, title="paths")
    least_return_drawdown: float = Field(2.0, title="return over drawdown, at least")
    drawn: Literal["blocks", "singly"] = Field("blocks", title="trades drawn in")
    left_out: float = Field(0.0, ge=0, le=0.9, title="share of trades left out")
    slippage: float = Field(0.0, ge=0, le=1_000, title="more slippage, mean ticks")
    ruin_share: float = Field(0.5, gt=0, le=1, title="share of capital that is ruin")
    largest_risk: float = Field(0.01, ge=0, le=1, title="risk of ruin, at most")


@dataclass(frozen=True)
class MonteCarloGate(Gate):
    """Reshuffles the training trades for the drawdown, draws them with replacement for the risk of ruin."""

    options: MonteCarloSettings = MonteCarloSettings()
    key = "monte_carlo"
    title = "Monte Carlo"
    picture = ("distributions", "drawdown", "")
    figure = "return_drawdown_median"
    setting = "least_return_drawdown"
    shown = (Shown("return_drawdown_median", "MC median ret/dd", "ratio", "net profit / median drawdown of the reshuffled "
                   "paths",
                   digits=2, better=1),
             Shown("drawdown_95", "MC 95% drawdown", "money", "drawdown that 95 of 100 reshuffled paths stay above", digits=0,
                   better=-1),
             Shown("risk_of_ruin", "risk of ruin", "percent", "share of paths drawn with replacement that lose the share of "
                   "the "
                   "capital that is called ruin", digits=1, scale=100.0, better=-1))
    more = (Figure("drawdown_median", "median drawdown", "money", "median drawdown of the reshuffled paths", better=-1),
            Figure("drawdown_99", "99% drawdown", "money", "drawdown that 99 of 100 reshuffled paths stay above", better=-1),
            Figure("net", "net", "money", "net profit; the mean of the paths where trades are left out or dearer", better=1),
            Figure("end_5", "net of the worst 5%", "money", "5% quantile of what the drawn paths earn", better=1),
            Figure("under_water_95", "under water, 95%", "trades", "trades between a peak and its recovery that 95 of 100 "
                   "paths "
                   "stay below", better=-1),
            Figure("block", "block", "trades", "mean length of the blocks that are drawn", source="Politis & White 2004"),
            Figure("original_place", "place of its own drawdown", "percent", "reshuffled paths whose drawdown is no larger"),
            Figure("capital_for_10", "capital for a risk of 10%", "money", "at which the risk of ruin is 10%", better=-1),
            Figure("capital_for_1", "capital for a risk of 1%", "money", "at which the risk of ruin is 1%", better=-1),
            Figure("trades", "trades", "count", "closed trades, too few to reshuffle"))
    tables = (
        GateTable("fan", "Fan of paths", (
            Figure("trade", "trades", "count", "trades so far"),
            *(Figure(key, words, "money", f"{words} of what the drawn paths have earned by then")
              for key, words in (("p5", "5%"), ("p25", "25%"), ("p50", "median"), ("p75", "75%"), ("p95", "95%"))),
            Figure("actual", "as it came", "money", "what the trades have earned in their own order")), "fan"),
        GateTable("distributions", "Distributions", (
            Figure("percent", "% of paths", "percent", "share of the paths that stay below the values beside it"),
            Figure("drawdown", "drawdown", "money", "largest fall of a reshuffled path", better=-1),
            Figure("under_water", "trades under water", "trades", "longest stretch between a peak and its recovery",
                   better=-1),
            Figure("lowest", "lowest equity", "money", "lowest equity of a drawn path", better=1),
            Figure("end", "end equity", "money", "equity at the end of a drawn path", better=1)), "distribution"),
        GateTable("capital", "Capital for a risk", (
            Figure("risk", "risk", "chance", "of ruin"),
            Figure("capital", "capital", "money", "at which the risk of ruin is that", better=-1)), "capital"))

    def describe(self) -> str:
        o = self.options
        return f"ret/dd \u2265 {o.least_return_drawdown:g}, ruin \u2264 {o.largest_risk:.0%}"

    def clause(self, figures: dict[str, float]) -> str:
        return (f"seldom a drawdown beyond {number(figures['drawdown_95'])}; capital for a risk of 10%: "
                f"{number(figures['capital_for_10'])}")

    def judge(self, case: Case) -> Outcome:
        o, profits = self.options, np.ascontiguousarray(case.run.profits)
        if len(profits) < 2:
            return self.unsure(case, f"{len(profits)} trades are too few to reshuffle.", {"trades": float(len(profits))})
        capital, block = case.brief.capital, block_length(profits) if o.drawn == "blocks" else 1.0
        dear = FILLS * o.slippage * case.run.unit if o.slippage else NOTHING
        mixed = simulate_paths(profits, capital, o.paths, left_out=o.left_out, dear=dear, seed=case.seed)
        drawn = simulate_paths(profits, capital, o.paths, replace=True, block=block, left_out=o.left_out, dear=dear,
                               seed=case.seed + 1)
        risk = risk_of_ruin(drawn, capital * (1.0 - o.ruin_share))
        net = float(np.mean(mixed.end)) - capital if o.left_out or o.slippage else float(profits.sum())
        median, p95, p99 = (float(x) for x in np.percentile(mixed.drawdown, (50, 95, 99)))
        ratio = net / median if median > 0 else math.inf
        own = float(largest_fall(capital + np.cumsum(profits), capital))
        needed = [capital_for(drawn, capital, o.ruin_share, r) for r in RISKS]
        figures = {"return_drawdown_median": ratio, "drawdown_median": median, "drawdown_95": p95, "drawdown_99": p99,
                   "risk_of_ruin": risk, "net": net, "end_5": float(np.percentile(drawn.end - capital, 5)),
                   "under_water_95": float(np.percentile(mixed.under_water, 95)), "block": block,
                   "original_place": 100.0 * float((mixed.drawdown <= own).mean()),
                   "capital_for_10": needed[RISKS.index(0.1)], "capital_for_1": needed[RISKS.index(0.01)]}
        at = np.linspace(0.0, 100.0, QUANTILES)
        several = {"drawdown": mixed.drawdown, "under_water": mixed.under_water, "lowest": drawn.lowest, "end": drawn.end}
        tables = {"distributions": {"percent": at} | {k: np.percentile(v, at) for k, v in several.items()},
                  "capital": {"risk": np.array(RISKS), "capital": np.array(needed)},
                  "fan": fan_of(drawn, profits, capital)}
        if ratio < o.least_return_drawdown:
            return self.falls(case, f"Reshuffled, the median drawdown is {number(median)}: return over drawdown "
                              f"{number(ratio, 2)}, needs {o.least_return_drawdown:g}.", figures, tables)
        if risk > o.largest_risk:
            return self.falls(case, f"{risk:.1%} of the paths lose {o.ruin_share:.0%} of the capital, at most "
                              f"{o.largest_risk:.0%} are allowed; capital for a risk of {o.largest_risk:.0%}: "
                              f"{number(capital_for(drawn, capital, o.ruin_share, o.largest_risk))}.", figures, tables)
        return self.passes(case, f"Median return over drawdown {number(ratio, 2)}; 95% of the paths stay above a drawdown of "
                           f"{number(p95)}; capital for a risk of 10%: {number(figures['capital_for_10'])}.", figures, tables)
