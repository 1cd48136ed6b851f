"""Measures what docs/holdout.md says of openings: how often noise stands, what has power, and whether that is told right.

`python tools/measure_openings.py noise|power|told [COUNT]`; each prints a table in Markdown. Numbers are drawn: t of daily
results are normal (the law of a mean of many days), candidates of a family share nine tenths of it.
"""

from __future__ import annotations

import sys

import numpy as np

from wolbrin.core.measures.inference import t_needed
from wolbrin.core.proving.gatekeeping import FELL, gatekeep
from wolbrin.core.proving.opening_plan import LEAST_POWER, ways
from wolbrin.core.proving.power import Reach, expected_t
from wolbrin.core.store.holdout import level_of

YEAR = 252
OPENINGS = 10
TWIN = 0.9


def flat(k: int, rho: float) -> np.ndarray:
    """Correlation of k representatives that share rho."""
    return np.full((k, k), rho) + (1 - rho) * np.eye(k)


def opened(t: np.ndarray, matrix: np.ndarray, level: float, whole: bool, twins: list[list[float]]) -> bool:
    """Whether anything stands."""
    together = float(t.sum() / np.sqrt(matrix.sum())) if whole and len(t) > 1 else None
    made = gatekeep([[float(x), *more] for x, more in zip(t, twins)], level, together)
    return any(v != FELL for f in made.verdicts for v in f)


def noise(count: int) -> None:
    """Projects without any edge: how often anything stands over all their openings."""
    rng = np.random.default_rng(7)
    names = ("one opening", f"{OPENINGS} openings, patiently",
             "next: the mirror of what fell, or what earns nearly like it",
             "figures are looked at, and the best of 200 kept after that is opened (refused)",
             "the same, were it not refused")
    fooled = np.zeros(len(names), int)
    for _ in range(count):
        last, like = np.zeros(0), np.zeros((0, 0))
        stood = np.zeros(len(names), bool)
        for b in range(1, OPENINGS + 1):
            k = int(rng.integers(1, 9))
            matrix = flat(k, rng.uniform(0, 0.6))
            t = np.linalg.cholesky(matrix) @ rng.normal(size=k)
            twins = [[TWIN * x + np.sqrt(1 - TWIN**2) * z for z in rng.normal(size=rng.integers(0, 6))] for x in t]
            whole = bool(rng.random() < 0.5)
            got = opened(t, matrix, level_of(b), whole, twins)
            stood[0] |= got and b == 1
            stood[1] |= got
            # Verdicts are all that is known: what fell is mirrored, or changed until it is no near-twin any more.
            if not len(last):
                last, like = t, matrix
            elif rng.random() < 0.5:
                last = -last
            else:
                last = 0.85 * last + np.sqrt(1 - 0.85**2) * rng.normal(size=len(last))
                like = 0.85**2 * like + (1 - 0.85**2) * np.eye(len(last))
            stood[2] |= opened(last, like, level_of(b), len(last) > 1, [[] for _ in last])
            # Figures of what fell: the 200 that look best there share a tenth to half of their luck with what was shown.
            stood[3] |= got and b == 1
            if b == 1:
                stood[4] |= got
            elif b == 2:
                share = rng.uniform(0.3, 0.7, 200)
                known = share * np.abs(t).max()  # what resembles the best of what was shown, with its sign
                best = int(np.argmax(known))
                chosen = known[best] + np.sqrt(1 - share[best] ** 2) * rng.normal()
                stood[4] |= chosen >= t_needed(level_of(2))
        fooled += stood
    print("| who opens | projects in which anything stands |\n|---|---|")
    for name, n in zip(names, fooled):
        print(f"| {name} | {100 * n / count:.1f}% |")


def power(count: int) -> None:
    """What stands, by true yearly Sharpe ratio, with two sealed years at the first opening."""
    rng = np.random.default_rng(8)
    print("| true yearly Sharpe ratio | one candidate | any of 23 that are four families, each a bet of its own | any of the "
          "four families | the whole of the four |\n|---|---|---|---|---|")
    days = 2 * YEAR
    for sharpe in (1.0, 1.5, 2.0, 3.0):
        mean = sharpe * np.sqrt(days / YEAR)
        matrix = flat(4, 0.2)
        t = mean + rng.normal(size=(count, 4)) @ np.linalg.cholesky(matrix).T
        level = level_of(1)
        whole = t.sum(axis=1) / np.sqrt(matrix.sum()) >= t_needed(level)
        family = [any(gatekeep([[x] for x in row], level).stands) for row in t]
        print(f"| {sharpe:g} | {100 * Reach(mean, 1.0).chance(t_needed(level)):.0f}% | "
              f"{100 * (t.max(axis=1) >= t_needed(level / 23)).mean():.0f}% | {100 * np.mean(family):.0f}% | "
              f"{100 * whole.mean():.0f}% |")


def told(count: int) -> None:
    """Of openings that were told a chance, how many brought something that stands."""
    rng = np.random.default_rng(9)
    rows = []
    while len(rows) < count:
        training, sealed = int(rng.integers(900, 2_000)), int(rng.integers(250, 900))
        n, bar = int(rng.integers(1, 25)), rng.uniform(2.5, 4.0)
        sharpe = np.where(rng.random(n) < 0.6, 0.0, rng.gamma(2.0, 0.6, n))
        matrix = flat(n, rng.uniform(0, 0.4))
        root = np.linalg.cholesky(matrix)
        true = sharpe * np.sqrt(training / YEAR)
        t = true + root @ rng.normal(size=n)
        there = np.flatnonzero(t > bar)
        if not len(there):
            continue
        expected = np.array([expected_t(float(t[i]), bar, 0.05) for i in there])
        order = np.argsort(-expected, kind="stable")
        there, expected = there[order], expected[order]
        between = matrix[np.ix_(there, there)]
        way = ways(expected, between, training, sealed, level_of(1))[0]
        m = way.families
        held = (true * np.sqrt(sealed / training))[there] + np.linalg.cholesky(between) @ rng.normal(size=len(there))
        rows.append((way.chance, opened(held[:m], between[:m, :m], level_of(1), way.whole, [[] for _ in range(m)])))
    table = np.array(rows, float)
    print("| told | openings | told on average | something stood |\n|---|---|---|---|")
    for low, high in ((0.0, LEAST_POWER), (0.2, 0.4), (0.4, 0.6), (0.6, 0.8), (0.8, 1.01)):
        part = table[(table[:, 0] >= low) & (table[:, 0] < high)]
        if len(part):
            print(f"| {100 * low:.0f} to {min(100, 100 * high):.0f}% | {len(part)} | {100 * part[:, 0].mean():.0f}% | "
                  f"{100 * part[:, 1].mean():.0f}% |")


if __name__ == "__main__":
    what = sys.argv[1] if len(sys.argv) > 1 else ""
    acts = {"noise": (noise, 10_000), "power": (power, 20_000), "told": (told, 1_500)}
    if what not in acts:
        raise SystemExit(__doc__)
    act, usual = acts[what]
    act(int(sys.argv[2]) if len(sys.argv) > 2 else usual)
