"""How much of an objective's variance each number explains, by itself and with all others (Sobol 1993).

On a whole grid the shares are exact: each set is as likely as any other, the main effect is the variance of the means of its
values, the total effect what is left of the variance when all other numbers are held (Jansen 1999 writes it as a mean over
pairs). Sets that constraints left out make the numbers depend on each other, and the shares are those of the sets there are.
After a sample a smooth surface is fitted first (radial basis functions) and the shares are those of the surface.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.search.space import Space

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
LITTLE = 0.02  # a total effect below this is none worth tuning
FITTED = 1_000  # sets that a surface is fitted to, at most
DRAWN = 1_024  # points at which it is read, twice and once more for each number


@dataclass(frozen=True)
class Importance:
    """main, total: float64[axes], shares of the variance, NaN where there is none. fit: share of the variance of sets left
    out that the fitted surface explains; 1 where nothing was fitted."""

    main: tuple[float, ...]
    total: tuple[float, ...]
    fit: float = 1.0

    def words(self, titles: Sequence[str], places: int = 0) -> str:
        """Which numbers decide, and which should not be tuned. places: axes at the beginning that are no numbers."""
        if len(self.total) - places < 2 or not all(math.isfinite(t) for t in self.total):
            return ""
        titles, total = titles[places:], self.total[places:]
        idle = [t for t, share in zip(titles, total) if share < LITTLE]
        first = int(np.argmax(total))
        text = f"{titles[first]} decides most ({100 * total[first]:.0f}% of the variance, with the others)."
        if idle:
            text += f" {' and '.join(idle)} explain{'s' if len(idle) == 1 else ''} nothing and should not be tuned."
        return text


def _means(groups: Ints, values: Floats) -> tuple[Floats, Floats]:
    count = np.bincount(groups)
    total = np.bincount(groups, values)
    return total / np.maximum(count, 1), count.astype(np.float64)


def of_grid(space: Space, at: Ints, values: Floats) -> Importance:
    """Shares over sets of a grid. at: int64[n]; values: float64[n], NaN for none."""
    known = np.isfinite(values)
    at, values = at[known], values[known]
    axes = len(space.axes)
    variance = float(values.var()) if len(values) else 0.0
    if not variance > 1e-12 * float(np.abs(values).max() if len(values) else 0.0) ** 2:
        return Importance((math.nan,) * axes, (math.nan,) * axes)
    steps, main, total = space.steps(at), [], []
    mean = values.mean()
    for i in range(axes):
        means, count = _means(steps[:, i], values)
        main.append(float((count * (means - mean) ** 2).sum() / len(values) / variance))
        lines = np.unique(at - space.at(steps * (np.arange(axes) == i)), return_inverse=True)[1]
        line_means, _ = _means(lines, values)
        total.append(float(((values - line_means[lines]) ** 2).mean() / variance))
    return Importance(tuple(main), tuple(total))


def of_sample(space: Space, at: Ints, values: Floats, seed: int = 1) -> Importance:
    """Shares of a surface fitted to a sample, by Saltelli's and Jansen's estimators at points between (Saltelli et al.
    2010)."""
    from scipy.interpolate import RBFInterpolator  # late

    known = np.flatnonzero(np.isfinite(values))
    axes = [i for i, n in enumerate(space.shape) if n > 1]
    none = Importance((math.nan,) * len(space.axes), (math.nan,) * len(space.axes), 0.0)
    if len(known) < max(20, 4 * len(axes)) or not np.ptp(values[known]) > 0:
        return none
    rng = np.random.default_rng(seed)
    pick = known if len(known) <= FITTED else np.sort(rng.choice(known, FITTED, replace=False))
    levels = np.array(space.shape)[axes]
    x = (space.steps(at[pick])[:, axes] + 0.5) / levels
    low, high = np.percentile(values[pick], (1, 99))
    y = np.clip(values[pick], low, high)  # a single extreme set bends no surface
    test = rng.permutation(len(x)) < len(x) // 5
    try:
        trial = RBFInterpolator(x[~test], y[~test], smoothing=1e-3, kernel="linear")(x[test])
        surface = RBFInterpolator(x, y, smoothing=1e-3, kernel="linear")
    except np.linalg.LinAlgError:
        return none
    fit = 1.0 - float(((trial - y[test]) ** 2).sum() / max(((y[test] - y[~test].mean()) ** 2).sum(), 1e-300))
    a, b = (np.floor(rng.random((DRAWN, len(axes))) * levels) + 0.5 for _ in range(2))
    fa, fb = surface(a / levels), surface(b / levels)
    variance = float(np.var(np.concatenate([fa, fb])))
    main, total = [0.0] * len(space.axes), [0.0] * len(space.axes)
    if not variance > 0:
        return none
    for place, i in enumerate(axes):
        mixed = a.copy()
        mixed[:, place] = b[:, place]
        fm = surface(mixed / levels)
        main[i] = float(np.mean(fb * (fm - fa)) / variance)
        total[i] = float(0.5 * np.mean((fa - fm) ** 2) / variance)
    return Importance(tuple(max(0.0, m) for m in main), tuple(total), max(0.0, fit))
