"""Who stands of what was opened together: the whole first, then families, then members; or families at once.

Serial gatekeeping (Westfall & Krishen 2001, Journal of Statistical Planning and Inference 99, 25-40, from memory): families
are tested only where the whole stands, members only in families that stand, each step by Holm (1979) at the level of the
opening. If the whole is noise, its test bounds the error; otherwise Holm does. Members are one step further: what is said of
them holds at the same level once more.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from wolbrin.core.measures.inference import t_needed

STANDS, FELL = "stands", "fell"
OF_FAMILY, OF_WHOLE = "of a family that stands", "of a whole that stands"  # by itself it does not stand


def holm_at(t: Sequence[float], level: float, count: int = 0) -> list[float]:
    """The t that each needs: the best what all ask together, the next what one fewer do, and so on until one falls short
    (Holm 1979), after which none of the rest can pass. NaN: no t, which never passes. count: how many share the level, where
    they are more than those given."""
    order = sorted(range(len(t)), key=lambda i: -t[i] if t[i] == t[i] else math.inf)
    needed, reached = [0.0] * len(t), -math.inf
    for rank, i in enumerate(order):
        # What fell short above holds for all below, however little fewer would ask.
        needed[i] = max(t_needed(level / max(1, max(count, len(t)) - rank)), reached)
        if not t[i] >= needed[i]:
            reached = needed[i]
    return needed


@dataclass(frozen=True)
class Opened:
    """verdicts: STANDS, FELL, OF_FAMILY or OF_WHOLE of each member, family by family; needed: the t each was asked,
    NaN where it was not tested. whole: what the whole was asked, NaN where it was not; stands: whether each family does."""

    verdicts: tuple[tuple[str, ...], ...]
    needed: tuple[tuple[float, ...], ...]
    whole: float
    stands: tuple[bool, ...]


def gatekeep(t: Sequence[Sequence[float]], level: float, whole: float | None = None) -> Opened:
    """t: of each member in the holdout, family by family, the representative first; NaN for one that cannot pass (too few
    trades, say). level: what the opening may spend. whole: t of all representatives together, None where it is not asked."""
    nothing = Opened(tuple((FELL,) * len(f) for f in t), tuple((math.nan,) * len(f) for f in t),
                     t_needed(level) if whole is not None else math.nan, (False,) * len(t))
    if whole is not None and not whole >= t_needed(level):
        return nothing
    asked = holm_at([f[0] for f in t], level)
    stands = [f[0] >= n for f, n in zip(t, asked)]
    below = [(i, j) for i, f in enumerate(t) for j in range(1, len(f)) if stands[i]]
    within = dict(zip(below, holm_at([t[i][j] for i, j in below], level)))
    needed, verdicts = [], []
    for i, f in enumerate(t):
        row = [asked[i], *(within.get((i, j), math.nan) for j in range(1, len(f)))]
        lost = OF_WHOLE if whole is not None else FELL
        words = [STANDS if stands[i] else lost]
        words += [lost if not stands[i] else STANDS if f[j] >= row[j] else OF_FAMILY for j in range(1, len(f))]
        needed.append(tuple(row))
        verdicts.append(tuple(words))
    return Opened(tuple(verdicts), tuple(needed), nothing.whole, tuple(stands))
