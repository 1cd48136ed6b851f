"""The price grid: the coarsest step of which (nearly) all prices are multiples, within what floating point leaves behind."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.findings import Finding

NEARLY_ALL = 0.995
# A price that went through single precision (IEEE 754 binary32) is off by up to 2**-24 of itself, and by half of the sixth
# decimal where it was printed with six; a little more is allowed for arithmetic done on it.
NOISE, PRINTED = 1.25 * 2.0**-24, 6e-7
MOST_TICKS = 5e7  # in a price; a finer grid is no grid
MOST_PRICES = 400_000
# Steps as contracts have them: 1, 2, 2.5 and 5 of every decimal, and halves of a unit down to 1/256. Common practice, no
# source.
STEPS = tuple(sorted({float(f"{m}e{e}") for e in range(-9, 4) for m in ("1", "2", "2.5", "5")}
                     | {2.0**-k for k in range(1, 9)}, reverse=True))


@dataclass(frozen=True)
class Grid:
    """tick: the step. share: of prices that are its multiples within noise. noisy: share of prices that are so only within
    noise. sure: whether such a step was found at all."""

    tick: float
    share: float
    noisy: float
    sure: bool

    def finding(self) -> Finding:
        why = f"{self.share:.2%} of prices are multiples of {plain(self.tick)}, and of no coarser step."
        if self.noisy > 0.001:
            why += f" {self.noisy:.1%} carry floating-point noise, which is moved to the grid and counted."
        if not self.sure:
            why = "Prices lie on no common grid, as after an adjustment by ratio; this step is one of their size."
        return Finding("tick size", plain(self.tick), why, self.sure, not self.sure, "--tick")


def plain(value: float) -> str:
    """A number as one would write it."""
    return np.format_float_positional(value, trim="-")


def _errors(prices: NDArray[np.float64], step: float) -> NDArray[np.float64]:
    return np.abs(prices - np.round(prices / step) * step)


def find_grid(prices: NDArray[np.float64]) -> Grid:
    """The grid of prices, float64[n]."""
    p = prices[np.isfinite(prices)]
    p = p[:: max(1, len(p) // MOST_PRICES)]
    top = float(np.abs(p).max()) if len(p) else 1.0
    noise = np.abs(p) * NOISE + PRINTED
    exact = np.maximum(np.abs(p) * 2.0**-46, 1e-13)
    # Within noise a step no larger than the noise would fit anything; exactly, any step may.
    found = _coarsest(p, noise, min(top, 1e9), 4 * float(np.median(noise)) if len(p) else 0.0)
    if found is not None:
        step, fits = found
        return Grid(step, float(fits.mean()), float(np.mean(fits & (_errors(p, step) > exact))), True)
    found = _coarsest(p, exact, min(top, 1e9), top / MOST_TICKS)
    if found is not None:
        return Grid(found[0], float(found[1].mean()), 0.0, True)
    fallback = 10.0 ** np.floor(np.log10(max(top, 1e-6)) - 5)
    return Grid(float(f"{fallback:.0e}"), 0.0, 0.0, False)


def _coarsest(p: NDArray[np.float64], allowed: NDArray[np.float64], largest: float,
              least: float) -> tuple[float, NDArray[np.bool_]] | None:
    """The coarsest step of which nearly all prices are multiples within what is allowed, and which are."""
    jump = max(1, len(p) // 4000)
    for step in STEPS:
        if step > largest + 1e-12 or step < least or np.mean(_errors(p[::jump], step) <= allowed[::jump]) < 0.9:
            continue
        fits = _errors(p, step) <= allowed
        if fits.mean() >= NEARLY_ALL:
            return step, fits
    return None
