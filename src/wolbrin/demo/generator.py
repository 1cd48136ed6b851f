"""Synthetic bars from a fixed seed, bit-identical on every machine.

Only integer arithmetic and the correctly rounded operations + - x / and square root are used (no exp, log or
library normal variates), and every random number is a hash of (seed, minute, step), so that no order of evaluation
can change a price.

The price moves continuously. A bar is made of hidden steps, and how high and low the path went inside each step is drawn
from the law of a Brownian bridge between its ends; where the price jumps it lands on a tick. A stop can therefore be filled
at any tick between low and high, and on a market without structure no rule earns anything before costs.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit

STEPS = 6  # price steps inside one bar; between two of them the path is a Brownian bridge
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


Counter = int | np.int64


@njit(cache=True)
def mix(seed: np.uint64, a: Counter, b: Counter) -> np.uint64:
    """A well-mixed 64-bit number from a seed and two counters (the finalizer of splitmix64)."""
    z = seed + np.uint64(a) * np.uint64(0x9E3779B97F4A7C15) + np.uint64(b) * np.uint64(0xD1B54A32D192ED03)
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return z ^ (z >> np.uint64(31))


@njit(cache=True)
def uniform(seed: np.uint64, a: Counter, b: Counter) -> float:
    """A uniform number strictly between 0 and 1, from 52 bits."""
    return (np.int64(mix(seed, a, b) >> np.uint64(12)) + 0.5) / 4503599627370496.0


@njit(cache=True)
def exponential(seed: np.uint64, a: Counter, b: Counter) -> float:
    """A standard exponential by comparing uniforms only (von Neumann 1951): the first of a run that falls, accepted when the
    run is of odd length, plus the number of runs that were not."""
    whole = 0.0
    draw = b * 4096
    while True:
        first = uniform(seed, a, draw)
        last = first
        length = 1
        draw += 1
        while True:
            z = uniform(seed, a, draw)
            draw += 1
            if z > last:
                break
            last = z
            length += 1
        if length % 2 == 1:
            return whole + first
        whole += 1.0


@njit(cache=True)
def normal(seed: np.uint64, a: Counter, b: Counter) -> float:
    """A standard normal: direction from a point in the unit disk (Marsaglia & Bray 1964), length from an exponential."""
    draw = b * 4096 + 2048
    while True:
        u = 2.0 * uniform(seed, a, draw) - 1.0
        v = 2.0 * uniform(seed, a, draw + 1) - 1.0
        draw += 2
        s = u * u + v * v
        if 0.0 < s < 1.0:
            return u * np.sqrt(2.0 * exponential(seed, a, b) / s)


@njit(cache=True)
def loudness(seed: np.uint64, a: Counter, b: Counter) -> float:
    """1, now and then two and a half or five: what makes tails fat."""
    pick = np.int64(mix(seed, a, b * 4096 + 4095) & np.uint64(1023))
    if pick < 24:
        return 2.5
    return 5.0 if pick < 26 else 1.0


@njit(cache=True)
def on_tick(price: float, chance: float) -> float:
    """The tick below or above a price, each as often as it is near, so that nothing is gained or lost by rounding."""
    low = np.floor(price)
    return low + 1.0 if chance < price - low else low


@njit(cache=True, nogil=True)
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
    price = np.floor(spec.start)
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
            move = spec.gap * sigma * loudness(seed, minute[i], 900) * normal(seed, minute[i], 900)
            price = on_tick(price + move, uniform(seed, minute[i], 910))
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
            loud = own * loudness(seed, minute[i], s)
            z = loud * normal(seed, minute[i], s)
            if spec.common > 0.0:
                z += spec.common * normal(group, minute[i], s)
            before = price
            price += step * z + drift - spec.pull * (price - slow) / STEPS
            # Highest and lowest of a bridge from `before` to `price`: (a + b +- sqrt((b - a)^2 + 2 v E)) / 2, E exponential.
            spread = 2.0 * step * step * (loud * loud + spec.common * spec.common)
            way = (price - before) * (price - before)
            middle = before + price
            top = max(top, (middle + np.sqrt(way + spread * exponential(seed, minute[i], 20 + s))) / 2.0)
            bottom = min(bottom, (middle - np.sqrt(way + spread * exponential(seed, minute[i], 40 + s))) / 2.0)
        slow += (price - slow) / 60.0
        price = on_tick(price - (price - spec.start) * WEAK_PULL, uniform(seed, minute[i], 911))
        if price < spec.floor:
            price = np.floor(spec.floor + (spec.floor - price))
        o = np.int64(first)
        c = np.int64(price)
        out[i, 0] = o
        # Rounded inward: only ticks that the path came to are inside the bar.
        out[i, 1] = max(max(o, c), np.int64(np.floor(top)))
        out[i, 2] = min(min(o, c), np.int64(np.ceil(bottom)))
        out[i, 3] = c
        noise = np.int64(mix(seed, minute[i], 901) & np.uint64(255))
        volume[i] = np.floor(40.0 + 60.0 * shape[i] + noise * shape[i] * 0.5 + (out[i, 1] - out[i, 2]) * 2.0)
        # The price between two bars moves a little, so that opens differ from the close before.
        price = on_tick(price + 0.15 * step * normal(seed, minute[i], 902), uniform(seed, minute[i], 912))
    return out, volume
