"""Monte Carlo on the order of trades: how deep could the drawdown have been, how likely is ruin."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from wolbrin.core.compiled import njit
from wolbrin.core.engine.run import backtest
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, Outcome, Shown

Floats = NDArray[np.float64]
QUANTILES = 201  # of each distribution that are kept with the verdict


@njit(cache=True, nogil=True)
def _next(state: np.uint64) -> tuple[np.uint64, np.uint64]:
    """splitmix64 (Steele, Lea & Flood 2014): next state and a 64-bit random number."""
    state = state + np.uint64(0x9E3779B97F4A7C15)
    z = state
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return state, z ^ (z >> np.uint64(31))


@njit(cache=True, nogil=True)
def _paths(profits: Floats, length: int, first: int, count: int, seed: int, replace: bool, capital: float,
           out: Floats) -> None:
    n = len(profits)
    order = np.empty(n, np.float64)
    for p in range(first, first + count):
        # Each path has its own stream, so that results do not depend on how paths are shared out.
        state, _ = _next(np.uint64(seed) ^ (np.uint64(p) * np.uint64(0xD1B54A32D192ED03)))
        for j in range(n):
            order[j] = profits[j]
        equity = capital
        peak = capital
        fall = 0.0
        lowest = capital
        for j in range(length):
            state, z = _next(state)
            # The high 32 bits, scaled: no division, and a bias below 1e-6 for any ledger.
            if replace:
                x = profits[np.int64(((z >> np.uint64(32)) * np.uint64(n)) >> np.uint64(32))]
            else:
                k = j + np.int64(((z >> np.uint64(32)) * np.uint64(n - j)) >> np.uint64(32))
                x = order[k]
                order[k] = order[j]
                order[j] = x
            equity += x
            if equity > peak:
                peak = equity
            elif peak - equity > fall:
                fall = peak - equity
            if equity < lowest:
                lowest = equity
        out[p, 0] = fall
        out[p, 1] = lowest
        out[p, 2] = equity


@dataclass(frozen=True)
class Paths:
    """Outcomes of the simulated paths, float64[paths] each, money: deepest drawdown, lowest equity, end equity."""

    drawdown: Floats
    lowest: Floats
    end: Floats


def simulate_paths(profits: Floats, capital: float, paths: int = 10_000, *, length: int | None = None,
                   replace: bool = False, seed: int = 1) -> Paths:
    """Play the trades in random order.

    Args:
        profits: float64[m] net per trade. replace: draw with replacement (any length) instead of reshuffling (then
        length is at most m). seed: same seed, same bits, whatever the number of threads.
    """
    steps = len(profits) if length is None else length
    if not len(profits) or paths < 1:
        return Paths(np.zeros(0), np.zeros(0), np.zeros(0))
    if not replace:
        steps = min(steps, len(profits))
    out = np.empty((paths, 3))
    _paths(np.ascontiguousarray(profits, np.float64), steps, 0, paths, seed, replace, float(capital), out)
    return Paths(out[:, 0], out[:, 1], out[:, 2])


def risk_of_ruin(paths: Paths, level: float) -> float:
    """Share of paths whose equity ever stood at or below `level` (money)."""
    return float(np.mean(paths.lowest <= level)) if len(paths.lowest) else math.nan


class MonteCarloSettings(Model):
    """paths: how many. least_return_drawdown: net over the median drawdown of reshuffled trades. ruin_share: of the capital,
    whose loss is ruin; largest_risk: share of paths drawn with replacement that may come to it."""

    paths: int = Field(10_000, ge=10, le=1_000_000)
    least_return_drawdown: float = 2.0
    ruin_share: float = Field(0.5, gt=0, le=1)
    largest_risk: float = Field(0.01, ge=0, le=1)


@dataclass(frozen=True)
class MonteCarloGate(Gate):
    """Reshuffles the training trades for the drawdown, draws them with replacement for the risk of ruin."""

    options: MonteCarloSettings = MonteCarloSettings()
    key = "monte_carlo"
    title = "Monte Carlo"
    shown = (Shown("return_drawdown_median", "MC median ret/dd", 2), Shown("drawdown_95", "MC 95% drawdown", 0),
             Shown("risk_of_ruin", "risk of ruin", 1, 100.0, "%"))

    def describe(self) -> str:
        o = self.options
        return f"median ret/dd \u2265 {o.least_return_drawdown:g}, risk of ruin \u2264 {o.largest_risk:.0%}"

    def judge(self, case: Case) -> Outcome:
        run = backtest(case.history, case.strategy, case.brief, detail=False)
        inputs = self.settings | {"seed": case.seed, "trades": len(run), "tried": case.tried}
        if len(run) < 2:
            return Outcome(self.key, False, f"{len(run)} trades are too few to reshuffle.", "too few trades", inputs,
                           {"trades": float(len(run))}, self.settings)
        capital = case.brief.capital
        mixed = simulate_paths(run.profits, capital, self.options.paths, seed=case.seed)
        drawn = simulate_paths(run.profits, capital, self.options.paths, replace=True, seed=case.seed + 1)
        risk = risk_of_ruin(drawn, capital * (1.0 - self.options.ruin_share))
        net = float(run.profits.sum())
        median, p95, p99 = (float(x) for x in np.percentile(mixed.drawdown, (50, 95, 99)))
        ratio = net / median if median > 0 else math.inf
        passed = ratio >= self.options.least_return_drawdown and risk <= self.options.largest_risk
        if ratio < self.options.least_return_drawdown:
            reason = (f"Reshuffled, the median drawdown is {number(median)}: return over drawdown {number(ratio, 2)}, "
                      f"needs {self.options.least_return_drawdown:g}.")
        elif risk > self.options.largest_risk:
            reason = (f"{risk:.1%} of the paths lose {self.options.ruin_share:.0%} of the capital, at most "
                      f"{self.options.largest_risk:.0%} are allowed.")
        else:
            reason = (f"Median return over drawdown {number(ratio, 2)}; 95% of the paths stay above a drawdown of "
                      f"{number(p95)}; risk of ruin {risk:.1%}.")
        figures = {"return_drawdown_median": ratio, "drawdown_median": median, "drawdown_95": p95,
                   "drawdown_99": p99, "risk_of_ruin": risk, "net": net,
                   "end_5": float(np.percentile(drawn.end - capital, 5))}
        at = np.linspace(0.0, 100.0, QUANTILES)
        spread = {"percent": at, "drawdown": np.percentile(mixed.drawdown, at), "lowest": np.percentile(drawn.lowest, at),
                  "end": np.percentile(drawn.end, at)}
        return Outcome(self.key, passed, reason, f"median ret/dd {number(ratio, 2)}", inputs, figures, self.settings,
                       {"distributions": spread})
