"""Synthetic bars from a fixed seed, bit-identical on every machine.

Only integer arithmetic and the correctly rounded operations + - x / and square root are used (no exp, log or
library normal variates), and every random number is a hash of (seed, minute, step), so that no order of evaluation
can change a price.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

STEPS = 6  # price steps inside one bar, from which its open, high, low and close are taken
WEAK_PULL = 0.00002  # per bar, toward the starting price: holds ten years in a plausible range, far below costs


class Shape(NamedTuple):
    """How one market moves. Prices in ticks.

    sigma: typical step deviation of a whole bar. common: share of each move taken from the group's own noise.
    trend_share: share of days on which a hidden direction holds all session; trend: its drift per bar in bar sigmas;
    trend_until: last trading date (days since 1970) with such days. pull: share of the distance to its slow average
    by which the price is pulled back per bar. gap: overnight gap in bar sigmas.
    """

    start: float
    sigma: float
    floor: float
    common: float
    trend_share: float
    trend: float
    trend_until: int
    pull: float
    gap: float


@njit(cache=True)
def mix(seed: np.uint64, a: np.int64, b: np.int64) -> np.uint64:
    """A well-mixed 64-bit number from a seed and two counters (the finalizer of splitmix64)."""
    z = seed + np.uint64(a) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(b) * np.uint64(0xD1B54A32D192ED03)
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return z ^ (z >> np.uint64(31))


@njit(cache=True)
def normal(seed: np.uint64, a: np.int64, b: np.int64) -> float:
    """Close to a standard normal: twelve 16-bit uniforms added up, exact in every step."""
    total = np.int64(0)
    for k in range(3):
        z = mix(seed, a, b * 4 + k)
        for shift in (0, 16, 32, 48):
            total += np.int64((z >> np.uint64(shift)) & np.uint64(0xFFFF))
    return (total - 393210) / 65536.0


@njit(cache=True)
def fat(seed: np.uint64, a: np.int64, b: np.int64) -> float:
    """A normal that is now and then two and a half or five times as large: fat tails."""
    z = normal(seed, a, b)
    pick = np.int64(mix(seed, a, b * 4 + 3) & np.uint64(1023))
    if pick < 24:
        return z * 2.5
    return z * 5.0 if pick < 26 else z


@njit(cache=True)
def walk(minute: NDArray[np.int64], session: NDArray[np.int32], date: NDArray[np.int32], shape: NDArray[np.float64],
         spec: Shape, seed: np.uint64, group: np.uint64) -> tuple[NDArray[np.int32], NDArray[np.float64]]:
    """Walk one market through its bars.

    Args:
        minute: int64[n] bar starts, minutes since 1970. session, date: int32[n]. shape: float64[n] intraday
        volatility factor. group: seed of the noise and the hidden directions shared with related markets.
    Returns:
        int32[n, 4] open, high, low, close in ticks; float64[n] volume.
    """
    n = len(minute)
    out = np.empty((n, 4), np.int32)
    volume = np.empty(n)
    price = spec.start
    slow = price
    variance = 1.0
    day_start = price
    opened = 0
    own = np.sqrt(1.0 - spec.common * spec.common)
    direction = 0.0
    sigma = spec.sigma
    for i in range(n):
        if i == 0 or session[i] != session[i - 1]:
            if i > 0:
                move = (price - day_start) / (spec.sigma * np.sqrt(float(i - opened)))
                variance = 0.08 + 0.86 * variance + 0.06 * move * move
                if variance > 3.0:
                    variance = 3.0
            price += spec.gap * sigma * fat(seed, minute[i], 900)
            day_start = price
            opened = i
            direction = 0.0
            if date[i] <= spec.trend_until:
                pick = np.int64(mix(group, np.int64(date[i]), 77) & np.uint64(0xFFFF)) / 65536.0
                if pick < spec.trend_share:
                    direction = 1.0 if pick < spec.trend_share * 0.5 else -1.0
        sigma = spec.sigma * np.sqrt(variance) * shape[i]
        step = sigma / np.sqrt(float(STEPS))
        drift = direction * spec.trend * sigma / STEPS
        first = price
        top = price
        bottom = price
        for s in range(STEPS):
            z = own * fat(seed, minute[i], s)
            if spec.common > 0.0:
                z += spec.common * normal(group, minute[i], s)
            price += step * z + drift - spec.pull * (price - slow) / STEPS
            if price < spec.floor:
                price = spec.floor + (spec.floor - price)
            top = max(top, price)
            bottom = min(bottom, price)
        slow += (price - slow) / 60.0
        price -= (price - spec.start) * WEAK_PULL
        o = np.int64(np.floor(first + 0.5))
        c = np.int64(np.floor(price + 0.5))
        out[i, 0] = o
        out[i, 1] = max(max(o, c), np.int64(np.floor(top + 0.5)))
        out[i, 2] = min(min(o, c), np.int64(np.floor(bottom + 0.5)))
        out[i, 3] = c
        noise = np.int64(mix(seed, minute[i], 901) & np.uint64(255))
        volume[i] = np.floor(40.0 + 60.0 * shape[i] + noise * shape[i] * 0.5 + (out[i, 1] - out[i, 2]) * 2.0)
        # The price between two bars moves a little, so that opens differ from the close before.
        price += 0.15 * step * normal(seed, minute[i], 902)
    return out, volume
