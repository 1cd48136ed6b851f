"""Adding rows to a source that has some already: only what is new, and where the two disagree."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.market.raw import PRICES, Raw, concatenated, in_order

MOST_LISTED = 5_000


@dataclass(frozen=True)
class Disagreement:
    """A stamp under which the old and the new rows differ; prices are open, high, low, close."""

    time: int
    old: tuple[float, float, float, float]
    new: tuple[float, float, float, float]


@dataclass(frozen=True)
class Joined:
    """raw: what the source holds afterwards. added: new rows. same: rows that were there alike. differ: rows under
    stamps that are there with other prices; the first `MOST_LISTED` are listed."""

    raw: Raw
    added: int
    same: int
    differ: int
    listed: tuple[Disagreement, ...]


def join(old: Raw | None, new: Raw, keep: Literal["old", "new"] = "old") -> Joined:
    """Add rows to a source. Both in order of time.

    Raises:
        UserError: the intervals differ.
    """
    if old is None:
        return Joined(new, len(new), 0, 0, ())
    if old.interval != new.interval:
        raise UserError(f"this source holds {_kind(old)} and the file {_kind(new)}", "import",
                        "Take the file in as a source of its own.")
    if not old.interval:
        # Ticks repeat stamps by nature: what lies after the last known tick is new, the rest must be there already.
        fresh = new.time > old.time[-1]
        fresh |= new.time < old.time[0]
        rest = int((~fresh).sum())
        return Joined(in_order(concatenated([old, new.take(fresh)]))[0], int(fresh.sum()), rest, 0, ())
    at = np.minimum(np.searchsorted(old.time, new.time), len(old) - 1)
    known = old.time[at] == new.time
    equal = known.copy()
    for field in PRICES:
        equal &= getattr(old, field)[at] == getattr(new, field)
    if known.any():
        # Where a stamp is repeated in the old rows, one that agrees is enough.
        again = known & ~equal & np.append(old.time[1:] == old.time[:-1], False)[at]
        for k in np.flatnonzero(again):
            stop = int(np.searchsorted(old.time, new.time[k], "right"))
            equal[k] = any(all(getattr(old, f)[j] == getattr(new, f)[k] for f in PRICES) for j in range(at[k], stop))
    differ = np.flatnonzero(known & ~equal)
    listed = tuple(Disagreement(int(new.time[k]), _prices(old, int(at[k])), _prices(new, int(k)))
                   for k in differ[:MOST_LISTED])
    if keep == "new" and len(differ):
        stays = ~np.isin(old.time, new.time[differ])
        raw = in_order(concatenated([old.take(stays), new.take(~equal)]))[0]
    else:
        raw = in_order(concatenated([old, new.take(~known)]))[0]
    return Joined(raw, int((~known).sum()), int(equal.sum()), len(differ), listed)


def _kind(raw: Raw) -> str:
    return f"{interval_words(raw.interval)} bars" if raw.interval else "ticks"


def _prices(raw: Raw, row: int) -> tuple[float, float, float, float]:
    return float(raw.open[row]), float(raw.high[row]), float(raw.low[row]), float(raw.close[row])
