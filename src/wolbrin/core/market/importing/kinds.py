"""Whether files of one market are of one kind: the interval of each is judged for itself, before anything is joined."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.market.importing.files import Piece, first_lines
from wolbrin.core.market.importing.guess import guess, guess_lines
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.importing.oddities import ABOUT_A_DAY
from wolbrin.core.market.importing.sample import Sample
from wolbrin.core.market.importing.tables import read_slow, table_blocks
from wolbrin.core.market.intervals import DAILY, interval_words
from wolbrin.core.market.sessions import NS_A_MINUTE

LINES = 400
LEAST_STEPS = 4
NEARLY_ALL = 0.97
UNKNOWN = -1


@dataclass(frozen=True)
class Kind:
    """Files of one interval. minutes: of their bars, 0 for ticks, UNKNOWN where none of them tells."""

    minutes: int
    pieces: tuple[Piece, ...]

    @property
    def words(self) -> str:
        """Such as "30 min", "daily", "ticks"."""
        return "ticks" if self.minutes == 0 else interval_words(self.minutes) if self.minutes > 0 else "file"


def _minutes(time: np.ndarray, ticks: bool) -> int:
    """Minutes of a bar by the steps between rows, int64[n] ns: the most common step of which nearly all are multiples,
    since a thin market misses bars, and a coarser bar is one whose steps are all whole."""
    if ticks:
        return 0
    steps = np.abs(np.diff(time))
    steps = steps[steps > 0]
    if len(steps) < LEAST_STEPS:
        return UNKNOWN
    if np.median(steps) >= ABOUT_A_DAY:
        return DAILY
    values, counts = np.unique(steps, return_counts=True)
    likely = values[np.argsort(-counts, kind="stable")]
    best = next((v for v in likely[:40] if np.mean(steps % v == 0) >= NEARLY_ALL), likely[0])
    return int(min(DAILY, best // NS_A_MINUTE)) or UNKNOWN


def _under(piece: Piece, layout: Layout) -> int | None:
    """The interval of a file as a layout reads its first lines; None where it does not read them."""
    try:
        if piece.table:
            block = next(iter(table_blocks(piece, layout, 1)))[0]
        else:
            lines = first_lines(piece, LINES)[layout.skip + (1 if layout.header else 0):]
            block = read_slow("\n".join(lines).encode(), layout, 1, piece.name, 1)
    except (UserError, StopIteration):
        return None
    return _minutes(block.time, layout.ticks) if len(block.row) and len(block.row) >= 4 * block.bad_count else None


def minutes_of_file(piece: Piece, likely: Layout | None) -> int:
    """The interval of one file by its first lines; UNKNOWN where they do not tell. likely: a layout to try first."""
    found = _under(piece, likely) if likely is not None else None
    if found is not None:
        return found
    try:
        if piece.table:
            layout = guess(piece).layout
        else:
            lines = tuple(first_lines(piece, LINES))
            layout = guess_lines(Sample(lines, lines), piece.name).layout
    except UserError:
        return UNKNOWN
    found = _under(piece, layout)
    return UNKNOWN if found is None else found


def by_kind(pieces: list[Piece]) -> list[Kind]:
    """Files of one market by interval, that of the most bytes first. Files that do not tell theirs go with the first."""
    if len(pieces) < 2:
        return [Kind(minutes_of_file(pieces[0], None), tuple(pieces))]
    try:
        likely = guess(pieces[0]).layout
    except UserError:
        likely = None
    found: dict[int, list[Piece]] = {}
    for piece in pieces:
        found.setdefault(minutes_of_file(piece, likely), []).append(piece)
    known = sorted((k for k in found if k != UNKNOWN), key=lambda k: -sum(p.size for p in found[k]))
    if len(known) < 2:
        return [Kind(known[0] if known else UNKNOWN, tuple(pieces))]
    first = set(found[known[0]]) | set(found.get(UNKNOWN, []))
    return [Kind(known[0], tuple(p for p in pieces if p in first)), *(Kind(k, tuple(found[k])) for k in known[1:])]
