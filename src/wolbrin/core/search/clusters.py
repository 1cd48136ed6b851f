"""Candidates that behave alike, however they are written: grouped by the correlation of their results."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

Floats32 = NDArray[np.float32]
Ints = NDArray[np.int64]
LIKE = 0.7  # correlation from which two are one behavior (common practice, no source)
BLOCK = 512
WEEK = 7
MONDAY = 3  # 1970-01-01 was a Thursday


def weekly(series: Iterable[tuple[NDArray[np.int32], NDArray[np.float64]] | None]) -> Floats32:
    """float32[n, weeks]: daily results summed by calendar week, centered, of length 1; zeros where there are none or they
    never move. series: trading dates as days since 1970 and results of each."""
    found = list(series)
    known = [s for s in found if s is not None and len(s[0])]
    if not known:
        return np.zeros((len(found), 0), np.float32)
    first = min(int(s[0][0]) for s in known)
    first = (first + MONDAY) // WEEK
    last = max((int(s[0][-1]) + MONDAY) // WEEK for s in known)
    out = np.zeros((len(found), last - first + 1), np.float32)
    for at, one in enumerate(found):
        if one is not None and len(one[0]):
            out[at] = np.bincount((one[0] + MONDAY) // WEEK - first, one[1], out.shape[1])
    out -= out.mean(axis=1, keepdims=True)
    size = np.sqrt((out * out).sum(axis=1, keepdims=True))
    return np.divide(out, size, out=np.zeros_like(out), where=size > 0)


def clusters(shapes: Floats32, rank: Sequence[int], like: float = LIKE) -> Ints:
    """int64[n]: the number of each one's cluster, the largest being 1; 0 for one that never moves.

    shapes: float32[n, w] centered, of length 1. rank: places in the order in which they may lead a cluster, the best first:
    each joins the leader that it is most like, if that is enough, else it leads one (leader clustering, Hartigan 1975).
    """
    out = np.zeros(len(shapes), np.int64)
    leaders = np.zeros((0, shapes.shape[1]), np.float32)
    moves = (shapes * shapes).sum(axis=1) > 0
    order = np.array([r for r in rank if moves[r]], np.int64)
    for begin in range(0, len(order), BLOCK):
        part = order[begin:begin + BLOCK]
        block = shapes[part]
        known = block @ leaders.T if len(leaders) else np.zeros((len(part), 0), np.float32)
        inside = block @ block.T
        new: list[int] = []
        for at in range(len(part)):
            scores = np.concatenate([known[at], inside[at, new]])
            best = int(np.argmax(scores)) if len(scores) else -1
            if best >= 0 and scores[best] >= like:
                out[part[at]] = best + 1
            else:
                new.append(at)
                out[part[at]] = len(leaders) + len(new)
        leaders = np.concatenate([leaders, block[new]])
    counts = np.bincount(out, minlength=len(leaders) + 1)[1:]
    renamed = np.zeros(len(leaders) + 1, np.int64)
    renamed[1 + np.argsort(-counts, kind="stable")] = np.arange(1, len(leaders) + 1)
    return renamed[out]
