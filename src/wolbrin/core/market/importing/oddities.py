"""What is odd about rows as they were read: two markets in one file, bars of two intervals, a time that stands still."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.market.findings import Finding
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE

Ints = NDArray[np.int64]
APART = 0.4  # of the logarithm of a price: no bar of one market moves by half its price again and again
MIXED_SHARE = 0.02
STRETCH = 40
LONG_GAP = 120 * NS_A_DAY
ABOUT_A_DAY = 20 * 60 * NS_A_MINUTE  # rows that follow each other so are daily, at whatever hour they are stamped
USUAL_HOURS = 0.9  # of daily rows stand at a few times of day


@dataclass(frozen=True)
class Odd:
    """findings: in sentences. keep: bool[n], rows that stay; the others are of another kind, and why."""

    findings: tuple[Finding, ...]
    keep: NDArray[np.bool_]
    reason: str = ""


def day_of(ns: int) -> str:
    return str(np.datetime64(int(ns), "ns").astype("datetime64[D]"))


def _jumps(close: NDArray[np.float64], size: int = 1 << 20) -> Ints:
    """Rows after which the price is another by far; in parts, so that long files need no room of their own."""
    found = []
    for a in range(0, len(close), size):
        level = np.log(np.maximum(close[a:a + size + 1], 1e-12))
        found.append(a + np.flatnonzero(np.abs(np.diff(level)) > APART))
    return np.concatenate(found)


def check_levels(raw: Raw, rows: Ints, name: str) -> tuple[Finding, ...]:
    """Whether prices are those of one market. raw, rows: in the order of the file.

    Raises:
        UserError: all prices are equal, or two markets are mixed.
    """
    if len(raw) > 1 and np.ptp(raw.high) == 0 and np.ptp(raw.low) == 0 and raw.high[0] == raw.low[0]:
        raise UserError(f"all {len(raw):,} prices are {raw.close[0]:g}", name,
                        "Nothing can be tested on them; choose another column or another file.")
    if np.count_nonzero(raw.close > 0) < 0.999 * len(raw) or len(raw) < 20:
        return ()
    jumps = _jumps(raw.close)
    if not len(jumps):
        return ()
    level = np.log(np.maximum(raw.close, 1e-12))
    row = int(rows[jumps[0] + 1]) if len(rows) == len(raw) else int(jumps[0]) + 2
    if len(jumps) > max(10, MIXED_SHARE * len(raw)):
        middle = float(np.median(level))
        low, high = np.exp(np.median(level[level <= middle])), np.exp(np.median(level[level > middle]))
        raise UserError(f"two markets seem to be mixed: prices go between about {low:.6g} and {high:.6g}, {len(jumps):,} "
                        "times, nothing was taken", f"{name}, row {row}",
                        "Split the file by market, or say which column names it.")
    at = int(jumps[np.argmax(np.abs(np.diff(level))[jumps])])
    before, after = level[max(0, at - STRETCH):at + 1], level[at + 1:at + 1 + STRETCH]
    shift = float(np.median(after) - np.median(before))
    if abs(shift) < APART or min(len(before), len(after)) < 5 or max(np.ptp(before), np.ptp(after)) > abs(shift):
        return ()
    row = int(rows[at + 1]) if len(rows) == len(raw) else at + 2
    back = " and the times begin again" if raw.time[at + 1] <= raw.time[at] else ""
    return (Finding("prices", f"jump at row {row:,}",
                    f"From {raw.close[at]:.6g} to {raw.close[at + 1]:.6g} on {day_of(raw.time[at + 1])}, and they stay "
                    f"there{back}: prices of another market appended, or a change of the contract? All rows are taken as one "
                    "market.", False, True, "--yes"),)


def check_intervals(raw: Raw, minutes: int, name: str) -> Odd:
    """Whether all bars have one interval. raw: in order of time, bars of `minutes` for the most part."""
    n = len(raw)
    keep = np.ones(n, bool)
    if n < 2 * STRETCH or minutes >= 1440:
        return Odd((), keep)
    step = np.diff(raw.time) // NS_A_MINUTE
    usual = np.sort(np.lib.stride_tricks.sliding_window_view(step, STRETCH), axis=1)[:, STRETCH // 2] if n < 200_000 else (
        np.median(step[: (n - 1) // STRETCH * STRETCH].reshape(-1, STRETCH), axis=1).astype(np.int64).repeat(STRETCH))
    usual = np.concatenate([usual, np.full(n - 1 - len(usual), usual[-1])])
    finer = (usual > 0) & (usual < minutes)
    # Thin markets miss bars; a coarser stretch is one in which every step is a whole number of the coarser bars.
    coarser = np.zeros(n - 1, bool)
    if usual.max() > minutes:
        for other in np.unique(usual[usual > minutes])[:6]:
            whole = (step % other == 0).astype(np.int64)
            runs = np.convolve(whole, np.ones(STRETCH, np.int64), "same") >= STRETCH - 1
            coarser |= runs & (usual == other)
    odd = finer | coarser
    if odd.sum() < STRETCH // 2:
        return Odd((), keep)
    keep[:-1] = ~odd
    at = int(np.argmax(odd))
    other = int(np.median(usual[odd]))
    what = f"{interval_words(other) if other > 0 else 'other'} bars"
    begin = str(np.datetime64(int(raw.time[at]), "ns").astype("datetime64[m]")).replace("T", " ")
    found = Finding("bars of two intervals", f"{what} among {interval_words(minutes)} bars",
                    f"From {begin} on {int(odd.sum()):,} rows stand {other:,} minutes apart. They are left out; take them in "
                    "as a source of their own.", False, True, "--yes")
    return Odd((found,), keep, f"not a {interval_words(minutes)} bar")


def check_daily(raw: Raw, name: str) -> None:
    """Raises UserError where daily rows carry times of day that do not tell to which day each belongs. raw: in order of
    time."""
    clock = raw.time % NS_A_DAY // NS_A_MINUTE
    values, counts = np.unique(clock, return_counts=True)
    best = np.sort(counts)[::-1]
    if len(raw) < 10 or best[:3].sum() >= USUAL_HOURS * len(raw):  # one time, an hour apart in summer, and one more
        return
    low, high = (f"{int(v) // 60:02d}:{int(v) % 60:02d}" for v in (values[0], values[-1]))
    raise UserError(f"daily rows are stamped at {len(values):,} times of day, from {low} to {high}, so that the day of each "
                    "cannot be told", name, "Get the file with dates alone, or with one time of day.")


def gap_note(raw: Raw) -> str:
    """Gaps of months or years in words; empty when there is none."""
    steps = np.diff(raw.time)
    long = np.flatnonzero(steps > LONG_GAP)
    if not len(long):
        return ""
    k = int(long[np.argmax(steps[long])])
    more = f", and {len(long) - 1:,} more such gaps" if len(long) > 1 else ""
    return f"there are no rows from {day_of(raw.time[k])} to {day_of(raw.time[k + 1])}{more}; nothing is filled in"
