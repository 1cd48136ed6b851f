"""The figures that are kept of everything tried, compiled: one function for single runs and for thousands at once.

Amounts of money closer than SAME of the largest amount in their sum count as equal, so that float noise decides nothing.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.engine import codes as k

Floats = NDArray[np.float64]
SAME = k.SAME
TRADING_DAYS = 252
# The figures in the order in which `summary` writes them; measures of the same keys are defined by the same functions.
COMPILED = ("net", "trades", "profit_factor", "win_rate", "average", "t", "t_daily", "max_drawdown", "return_drawdown",
            "sharpe", "sharpe_daily")


@njit(cache=True, nogil=True, error_model="numpy")
def total(x: Floats) -> float:
    """The sum of float64[n]; nothing where it is nothing beside the largest amount in it."""
    out = 0.0
    largest = 0.0
    for value in x:
        out += value
        largest = max(largest, abs(value))
    return out if abs(out) > SAME * largest else 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def gains_and_losses(x: Floats) -> tuple[float, float, int, int]:
    """Of float64[n]: sum of what is above zero, sum of what is below, and how many each."""
    gains, losses = 0.0, 0.0
    won, lost = 0, 0
    for value in x:
        if value > 0.0:
            gains += value
            won += 1
        elif value < 0.0:
            losses += value
            lost += 1
    return gains, losses, won, lost


@njit(cache=True, nogil=True, error_model="numpy")
def mean_and_sd(x: Floats) -> tuple[float, float]:
    """Mean and standard deviation (n - 1) of float64[n]; the latter is 0 where all are equal, NaN where there are too few."""
    n = len(x)
    if n == 0:
        return np.nan, np.nan
    summed, low, high = 0.0, x[0], x[0]
    for value in x:
        summed += value
        low = min(low, value)
        high = max(high, value)
    mean = summed / n
    if n < 2:
        return mean, np.nan
    if not high - low > SAME * max(abs(low), abs(high)):
        return mean, 0.0 if summed == summed else np.nan
    squares = 0.0
    for value in x:
        squares += (value - mean) ** 2
    return mean, np.sqrt(squares / (n - 1))


@njit(cache=True, nogil=True, error_model="numpy")
def ratio(top: float, bottom: float) -> float:
    """NaN over zero."""
    return top / bottom if bottom != 0.0 else np.nan


@njit(cache=True, nogil=True, error_model="numpy")
def t_of_average(x: Floats) -> float:
    """t of the mean of float64[n] against zero, values independent; NaN with fewer than two, or where all are equal."""
    mean, sd = mean_and_sd(x)
    return ratio(mean, sd / np.sqrt(len(x)))


@njit(cache=True, nogil=True, error_model="numpy")
def lag_of(n: int) -> int:
    """Lags that count: floor(4 (n / 100)^(2/9)) (Newey & West 1994, as commonly used with Bartlett weights)."""
    return int(4.0 * (n / 100.0) ** (2.0 / 9.0)) if n > 0 else 0


@njit(cache=True, nogil=True, error_model="numpy")
def t_of_days(x: Floats) -> float:
    """t of the mean of a series against zero, its standard error with Bartlett weights (Newey & West 1987).

    x: float64[n], one value a day, in order. NaN with fewer than two values, or where they are all equal.
    """
    n = len(x)
    mean, sd = mean_and_sd(x)
    if not sd > 0.0:
        return np.nan
    lags = min(lag_of(n), n - 1)
    products = np.zeros(lags + 1)
    for i in range(n):
        e = x[i] - mean
        for lag in range(min(lags, i) + 1):
            products[lag] += e * (x[i - lag] - mean)
    summed = products[0]
    for lag in range(1, lags + 1):
        summed += 2.0 * (1.0 - lag / (lags + 1.0)) * products[lag]
    variance = summed / n / n
    return mean / np.sqrt(variance) if variance > 0.0 else np.nan


@njit(cache=True, nogil=True, error_model="numpy")
def sharpe_of(x: Floats) -> float:
    """Mean over standard deviation (n - 1) of float64[n]; NaN with fewer than two values, or where all are equal."""
    mean, sd = mean_and_sd(x)
    return ratio(mean, sd)


@njit(cache=True, nogil=True, error_model="numpy")
def returns_of(daily: Floats, capital: float, compounds: bool) -> Floats:
    """float64[days]: daily P/L (money) over the starting capital, or over the last date's equity where the size compounds:
    NaN once that is at or below zero."""
    out = np.empty(len(daily))
    before = capital
    for i in range(len(daily)):
        if not compounds:
            out[i] = daily[i] / capital
        else:
            out[i] = daily[i] / before if before > SAME * capital else np.nan
            before += daily[i]
    return out


@njit(cache=True, nogil=True, error_model="numpy")
def fall_that_counts(fall: float, peak: float) -> float:
    """A largest fall from the running peak; nothing where it is nothing beside that peak."""
    return fall if fall > SAME * peak else 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def summary(nets: Floats, daily: Floats, fall: float, capital: float, compounds: bool, out: Floats) -> None:
    """The figures of COMPILED, NaN where one has no value.

    nets: float64[m], net per trade. daily: float64[d], P/L per trading date. fall: largest fall of equity
    (`fall_that_counts`).
    """
    net = total(nets)
    gains, losses, won, _ = gains_and_losses(nets)
    out[0] = net
    out[1] = len(nets)
    out[2] = ratio(gains, abs(losses))
    out[3] = 100.0 * ratio(float(won), float(len(nets)))
    out[4] = mean_and_sd(nets)[0]
    out[5] = t_of_average(nets)
    out[6] = t_of_days(daily)
    out[7] = fall
    out[8] = ratio(net, fall)
    out[9] = sharpe_of(returns_of(daily, capital, compounds)) * np.sqrt(float(TRADING_DAYS))
    out[10] = sharpe_of(daily)
