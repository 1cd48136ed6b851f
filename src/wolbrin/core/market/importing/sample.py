"""An even sample of a whole file's lines: its head, and stretches from everywhere else, so that no guess rests on the first
rows alone."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wolbrin.core.errors import EnvironmentTrouble
from wolbrin.core.market.importing.files import Piece, first_lines, text_blocks

HEAD_LINES = 400
STRETCHES, STRETCH_LINES = 100, 60
WHOLE_BYTES = 12 * 1024**2
STRETCH_BYTES = 24 * 1024
MOST_PIECES = 12


@dataclass(frozen=True)
class Sample:
    """head: the first lines, as they are. body: lines in the order of the file, blank ones left out, taken evenly."""

    head: tuple[str, ...]
    body: tuple[str, ...]


def _plain_stretches(piece: Piece) -> list[list[str]]:
    """Stretches of a large plain file by seeking."""
    out = []
    try:
        with piece.path.open("rb") as handle:
            for at in np.linspace(0, max(0, piece.size - STRETCH_BYTES), STRETCHES).astype(np.int64):
                handle.seek(int(at))
                lines = handle.read(STRETCH_BYTES).decode("utf-8", errors="replace").splitlines()
                out.append(lines[1:-1] if at else lines[:-1])
    except OSError as err:
        raise EnvironmentTrouble(f"this file cannot be read ({err.strerror})", str(piece.path), "Check the file.") from None
    return out


def _is_wide(piece: Piece) -> bool:
    with piece.path.open("rb") as handle:
        return b"\0" in handle.read(4096)


def _stretches(piece: Piece) -> list[list[str]]:
    if piece.plain and piece.size > WHOLE_BYTES and not _is_wide(piece):
        return _plain_stretches(piece)
    lines: list[str] = []
    for block, _ in text_blocks(piece):
        found = block.decode("utf-8", errors="replace").split("\n")
        # Of a long packed file every so many stretches stay, so that memory is bounded.
        if len(lines) > 400_000:
            found = [x for i in range(0, len(found), 20 * STRETCH_LINES) for x in found[i:i + STRETCH_LINES]]
        lines += found
    if len(lines) <= STRETCHES * STRETCH_LINES * 2:
        return [lines]
    starts = np.linspace(0, len(lines) - STRETCH_LINES, STRETCHES).astype(int)
    return [lines[s:s + STRETCH_LINES] for s in starts]


def take_sample(pieces: list[Piece]) -> Sample:
    """Lines from everywhere in the files, text files only.

    Raises:
        UserError: not text, or damaged. EnvironmentTrouble: the file cannot be read.
    """
    head = first_lines(pieces[0], HEAD_LINES)
    some = [pieces[i] for i in np.unique(np.linspace(0, len(pieces) - 1, min(MOST_PIECES, len(pieces))).astype(int))]
    body: list[str] = []
    for piece in some:
        for lines in _stretches(piece):
            body += [x for x in lines if x.strip()]
    return Sample(tuple(head), tuple(body))
