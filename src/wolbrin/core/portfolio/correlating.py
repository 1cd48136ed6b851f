"""Correlation of many series at once, Pearson's and Spearman's, and how sure it is.

The number of periods that a correlation is worth falls with the autocorrelation of both series (Bartlett 1935; Pyper &
Peterman 1998): 1 / N* = 1 / N + 2 / N sum_j (1 - j / N) r_x(j) r_y(j), here up to the lag of the t of daily results and with
its Bartlett weights, and never above N.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import njit
from wolbrin.core.measures.sums import lag_of
from wolbrin.core.portfolio.sampling import LEAST, Sampled

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Bits = NDArray[np.bool_]
THREADS = 2


def _unit(values: Floats) -> tuple[Floats, Bits]:
    """Rows centered and of length 1, and which of them move."""
    off = values - values.mean(axis=1, keepdims=True)
    scale = np.sqrt((off * off).sum(axis=1, keepdims=True))
    # What is left of a constant row after centering is rounding.
    moves = scale > 1e-12 * np.abs(values).max(axis=1, keepdims=True, initial=0.0) * np.sqrt(values.shape[1])
    return np.divide(off, scale, out=np.zeros_like(off), where=moves), moves[:, 0]


def _finished(matrix: Floats, moves: Bits) -> Floats:
    matrix = np.clip((matrix + matrix.T) / 2, -1.0, 1.0)
    matrix[~moves] = np.nan
    matrix[:, ~moves] = np.nan
    np.fill_diagonal(matrix, np.where(moves, 1.0, np.nan))
    return matrix


def pearson(values: Floats, known: Bits | None = None) -> tuple[Floats, Ints]:
    """Pearson's correlation of rows, float64[n, n], NaN where one never moves or there are fewer than LEAST periods; and
    periods of each pair, int64[n, n]. values: float64[n, p]; known: bool[n, p], a pair uses periods that both know."""
    n, p = values.shape
    if known is None:
        if p < LEAST:
            return np.full((n, n), np.nan), np.full((n, n), p, np.int64)
        unit, moves = _unit(values)
        return _finished(unit @ unit.T, moves), np.full((n, n), p, np.int64)
    k = known.astype(np.float64)
    count = k @ k.T
    mean = (values * k).sum(axis=1, keepdims=True) / np.maximum(k.sum(axis=1, keepdims=True), 1.0)
    x = (values - mean) * k
    size = np.sqrt((x * x).sum(axis=1, keepdims=True))
    x = np.divide(x, size, out=np.zeros_like(x), where=size > 0)  # so that no money amount decides the rounding
    one = x @ k.T
    square = (x * x) @ k.T
    spread = np.maximum(count * square - one * one, 0.0)
    with np.errstate(invalid="ignore", divide="ignore"):
        found = (count * (x @ x.T) - one * one.T) / np.sqrt(spread * spread.T)
    still = (spread <= 1e-12 * np.maximum(count * square, 1e-300)) | (count < LEAST)
    found[still | still.T] = np.nan
    found = np.clip((found + found.T) / 2, -1.0, 1.0)
    np.fill_diagonal(found, np.where(np.isfinite(np.diag(found)), 1.0, np.nan))
    return found, count.astype(np.int64)


@njit(cache=True, nogil=True)
def _ranked(values: Floats, order: Ints, other: Bits, out: Floats) -> int:
    """Mid ranks of a row over the periods that two know. order: those that it knows itself, by value. Returns how many there
    are."""
    size = len(order)
    n = 0
    at = 0
    while at < size:
        value = values[order[at]]
        tied = 0
        stop = at
        while stop < size and values[order[stop]] == value:
            tied += other[order[stop]]
            stop += 1
        rank = n + (tied + 1) / 2.0
        for q in range(at, stop):
            out[order[q]] = rank
        n += tied
        at = stop
    return n


@njit(cache=True, nogil=True)
def rank_pairs(values: Floats, orders: Ints, begins: Ints, known: Bits, first: int, step: int, least: int,
               out: Floats) -> None:
    """Spearman's correlation of each pair over the periods that both know; rows first, first + step, ... orders: the periods
    that each row knows, by value, one row after the other; begins: int64[n + 1], where a row's begin."""
    rows, size = values.shape
    a = np.zeros(size)
    b = np.zeros(size)
    for i in range(first, rows, step):
        mine = orders[begins[i]:begins[i + 1]]
        for j in range(i + 1):
            n = _ranked(values[i], mine, known[j], a)
            _ranked(values[j], orders[begins[j]:begins[j + 1]], known[i], b)
            middle = (n + 1) / 2.0
            xy = 0.0
            xx = 0.0
            yy = 0.0
            for q in mine:
                if known[j, q]:
                    x = a[q] - middle
                    y = b[q] - middle
                    xy += x * y
                    xx += x * x
                    yy += y * y
            if n >= least and xx > 0.0 and yy > 0.0:
                out[i, j] = xy / np.sqrt(xx * yy)
                out[j, i] = out[i, j]


def spearman(values: Floats, known: Bits | None = None) -> tuple[Floats, Ints]:
    """Spearman's rank correlation (1904) of rows, ties sharing the mean of their ranks; else as `pearson`."""
    from scipy.stats import rankdata  # late

    if known is None:
        return pearson(rankdata(values, axis=1))
    orders = [o[k[o]] for o, k in zip(np.argsort(values, axis=1, kind="stable"), known)]
    begins = np.cumsum([0, *map(len, orders)], dtype=np.int64)
    every = np.concatenate([*orders, np.zeros(0, np.int64)])
    out = np.full((len(values),) * 2, np.nan)
    with ThreadPoolExecutor(THREADS) as pool:
        list(pool.map(lambda first: rank_pairs(values, every, begins, known, first, THREADS, LEAST, out), range(THREADS)))
    np.fill_diagonal(out, np.where(np.isfinite(np.diag(out)), 1.0, np.nan))
    count = known.astype(np.float32)
    return np.clip(out, -1.0, 1.0), (count @ count.T).astype(np.int64)


def correlate(what: Sampled, rank: bool = False) -> tuple[Floats, Ints]:
    """Correlation of each pair and the periods it is of."""
    return (spearman if rank else pearson)(what.values, what.known)


def effective_periods(what: Sampled, periods: Ints) -> Floats:
    """float64[n, n]: how many independent periods each pair's correlation is worth; see the module."""
    off = what.values - what.values.mean(axis=1, keepdims=True)
    if what.known is not None:
        off = np.where(what.known, off, 0.0)
    n, p = off.shape
    lags = min(lag_of(p), p - 1) if p > 1 else 0
    variance = np.maximum((off * off).sum(axis=1), 1e-300)
    rho = np.zeros((n, lags))
    for lag in range(1, lags + 1):
        rho[:, lag - 1] = (off[:, lag:] * off[:, :-lag]).sum(axis=1) / variance
    j = np.arange(1, lags + 1)
    weight = (1.0 - j / max(p, 1)) * (1.0 - j / (lags + 1.0))
    swollen = 1.0 + 2.0 * (rho * weight) @ rho.T
    return np.minimum(periods / np.maximum(swollen, 1e-9), periods)


def p_values(matrix: Floats, effective: Floats) -> Floats:
    """Two-sided chance of a correlation as far from zero where there is none (Student's t on N* - 2 degrees of freedom),
    float64[n, n]; NaN where it has no value."""
    from scipy.special import stdtr  # late

    free = np.maximum(effective - 2.0, 1e-9)
    with np.errstate(divide="ignore", invalid="ignore"):
        t = np.abs(matrix) * np.sqrt(free / (1.0 - matrix * matrix))
        p = 2.0 * stdtr(free, -t)
    return np.where(np.isfinite(matrix), np.where(np.abs(matrix) >= 1.0, 0.0, p), np.nan)
