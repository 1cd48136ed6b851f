"""The Shelf by behavior, and several of its candidates side by side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.jobs import Chunk, Job, check_stopped
from wolbrin.core.portfolio.combine import correlation
from wolbrin.core.rules.words import describe
from wolbrin.core.search.clusters import LIKE, clusters, weekly
from wolbrin.core.store.project import Project
from wolbrin.core.store.series import unpack
from wolbrin.core.store.shelf import Kept, Shelf
from wolbrin.core.store.wanted import Wanted

AT_ONCE = 2_000
RANKED_BY = "t_daily"
MOST_BESIDE = 6


def group_job(project: Project, like: float = LIKE) -> Job:
    """Group all candidates on the Shelf by how they behave; `cluster` of each is written beside it."""
    shelf = Shelf(project)
    ids = shelf.ids(Wanted(sort=RANKED_BY, down=True))

    def work(_: None) -> NDArray[np.int64]:
        found = []
        for begin in range(0, len(ids), AT_ONCE):
            check_stopped()
            packed = shelf.packed(ids[begin:begin + AT_ONCE].tolist())
            found += [unpack(p) if p is not None else None for p in packed]
        return clusters(weekly(found), range(len(ids)), like)

    def take(numbers: NDArray[np.int64]) -> None:
        shelf.set_clusters({int(i): int(n) for i, n in zip(ids, numbers)})

    return Job("Group the Shelf by behavior", "steps", [Chunk(None)], work, take)


@dataclass(frozen=True)
class Beside:
    """Candidates side by side. words: rules of each, lines; differs: which lines the others do not all have. correlation:
    float64[n, n] of daily results on the dates that each two share."""

    kept: tuple[Kept, ...]
    words: tuple[tuple[str, ...], ...]
    differs: tuple[tuple[bool, ...], ...]
    correlation: NDArray[np.float64]


def beside(kept: Sequence[Kept]) -> Beside:
    """Two to MOST_BESIDE candidates compared."""
    words = tuple(tuple(line for line in describe(k.candidate.strategy).split("\n") if line.strip()) for k in kept)
    every = [set(w) for w in words]
    differs = tuple(tuple(any(line not in other for other in every) for line in w) for w in words)
    return Beside(tuple(kept), words, differs, _correlations(kept))


def _correlations(kept: Sequence[Kept]) -> NDArray[np.float64]:
    series = [dict(zip(*(x.tolist() for x in unpack(k.packed)))) if k.packed else {} for k in kept]
    out = np.eye(len(kept))
    for i in range(len(kept)):
        for j in range(i + 1, len(kept)):
            days = sorted(series[i].keys() & series[j].keys())
            table = np.array([[series[i][d], series[j][d]] for d in days]).reshape(-1, 2)
            out[i, j] = out[j, i] = correlation(table)[0, 1] if len(days) > 2 else np.nan
    return out


def changes(one: str, other: str) -> list[tuple[str, bool]]:
    """Words of a line, each with whether the other line has it not."""
    a, b = one.split(), other.split()
    out: list[tuple[str, bool]] = []
    for kind, first, last, _, _ in SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
        out += [(word, kind != "equal") for word in a[first:last]]
    return out
