"""The first rows of a file as a layout reads them, for looking at before anything is read."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.market.importing.files import Piece, first_lines, text_blocks
from wolbrin.core.market.importing.guess import split_line
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.importing.read import Reader
from wolbrin.core.market.importing.tables import read_slow, table_blocks
from wolbrin.core.market.importing.typed import Typed
from wolbrin.core.market.raw import Raw

ROWS = 120
MOST_COMPARED = 400
OVERLAP = 3 * 86_400 * 10**9


@dataclass(frozen=True)
class PreviewRow:
    """number: of the row in the file. fields: its texts. utc: its time in UTC as text, empty where unreadable.
    fault: why it cannot be taken, empty otherwise."""

    number: int
    fields: tuple[str, ...]
    utc: str
    fault: str


@dataclass(frozen=True)
class Preview:
    """names: of the columns. rows: the first ones. sample: what could be read of them, None when nothing could."""

    names: tuple[str, ...]
    rows: tuple[PreviewRow, ...]
    sample: Raw | None
    told_zone: bool

    @property
    def faults(self) -> int:
        return sum(bool(r.fault) for r in self.rows)


def _stamp(ns: int) -> str:
    return str(np.datetime64(ns, "ns").astype("datetime64[s]")).replace("T", " ")


def preview(piece: Piece, layout: Layout, most: int = ROWS) -> Preview:
    """Read the first rows of a file under a layout.

    Raises:
        UserError: the file cannot be read at all.
    """
    if piece.table:
        return _typed(piece, layout, most)
    lines = first_lines(piece, layout.skip + most + 1)
    head = lines[layout.skip] if layout.header and len(lines) > layout.skip else ""
    width = len(layout.columns)
    names = split_line(head, layout.delimiter) if head else []
    names = [names[i] if i < len(names) and names[i] else f"column {i + 1}" for i in range(width)]
    begin = layout.skip + (1 if layout.header else 0)
    body = lines[begin:begin + most]
    block = read_slow("\n".join(body).encode(), layout, begin + 1, piece.name, most)
    faults = {b.row: b.reason for b in block.bad}
    reader = Reader([piece], layout)
    times: dict[int, str] = {}
    sample = None
    if len(block.row):
        reader.take(block)
        try:
            sample = reader.finish().raw
        except UserError:
            sample = None
        from_written = block.time if block.utc else reader.to_utc(block.time)
        times = {int(r): _stamp(int(t)) for r, t in zip(block.row, from_written)}
    rows = tuple(PreviewRow(begin + 1 + i, tuple(split_line(line, layout.delimiter)), times.get(begin + 1 + i, ""),
                            faults.get(begin + 1 + i, "")) for i, line in enumerate(body) if line.strip())
    return Preview(tuple(names), rows, sample, bool(block.utc))


def ends_of(piece: Piece, layout: Layout) -> tuple[int, int] | None:
    """The first and the last time of a file's rows (ns, in its own clock), None where they cannot be read."""
    if piece.table:
        times = [b.time for b, _ in table_blocks(piece, layout, 1) if len(b.time)]
        return (int(times[0][0]), int(times[-1][-1])) if times else None
    begin: int | None = None
    end: int | None = None
    for data, _ in text_blocks(piece):
        lines = [x for x in data.decode("utf-8", errors="replace").split("\n") if x.strip()]
        for part in ((lines[:layout.skip + 5],) if begin is None else ()) + (lines[-5:],):
            block = read_slow("\n".join(part).encode(), layout, 1, piece.name, 1)
            if len(block.time):
                begin = int(block.time[0]) if begin is None else begin
                end = int(block.time[-1])
    return (begin, end) if begin is not None and end is not None else None


def overlap(pieces: list[Piece], layout: Layout) -> bool:
    """Whether most files reach far into the time of the next one, as contract months of a future do and years of one history
    do not."""
    if not 2 <= len(pieces) <= MOST_COMPARED:
        return False
    ends = sorted(e for e in (ends_of(p, layout) for p in pieces) if e is not None)
    pairs = list(pairwise(ends))
    far = sum(b[0] < a[1] - OVERLAP and b[1] > a[1] for a, b in pairs)
    return bool(pairs) and far >= 0.5 * len(pairs)


def _typed(piece: Piece, layout: Layout, most: int) -> Preview:
    names = Typed(piece).names
    block, _ = next(table_blocks(piece, layout, most))
    reader = Reader([piece], layout)
    reader.take(block)
    times = block.time[:most] if block.utc else reader.to_utc(block.time[:most])
    rows = []
    for i in range(min(most, len(block.row))):
        fields = tuple(f"{block.values[r][i]:g}" if r in block.values else _stamp(int(block.time[i])) if r in ("time", "date")
                       else "" for r in layout.columns)
        rows.append(PreviewRow(int(block.row[i]), fields, _stamp(int(times[i])), ""))
    faults = [PreviewRow(b.row, (), "", b.reason) for b in block.bad[:most]]
    try:
        sample = reader.finish().raw
    except UserError:
        sample = None
    return Preview(tuple(names), tuple([*faults, *rows][:most]), sample, bool(block.utc))
