"""Reading whole files into rows of a source: block by block, with progress, stop and bounded memory."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.cells import plain
from wolbrin.core.errors import UserError
from wolbrin.core.market.findings import Finding
from wolbrin.core.market.importing.files import Piece, first_lines, text_blocks
from wolbrin.core.market.importing.guess import split_line
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.importing.oddities import ABOUT_A_DAY, check_daily, check_intervals, check_levels, gap_note
from wolbrin.core.market.importing.roles import is_header
from wolbrin.core.market.importing.tables import (
    COMMENTS,
    BadRow,
    Block,
    number_roles,
    read_fast,
    read_slow,
    table_blocks,
)
from wolbrin.core.market.intervals import DAILY
from wolbrin.core.market.raw import Raw, in_order
from wolbrin.core.market.sessions import NS_A_MINUTE
from wolbrin.core.market.zones import shifts_between, to_local, to_utc
from wolbrin.core.written import write_text

MOST_BAD = 10_000
HEAD = 1024**2
NS_A_YEAR = 365 * 86_400 * 10**9
APART_YEARS = 5


@dataclass(frozen=True)
class Imported:
    """What files hold, before anything is kept.

    raw: bars, or single ticks (interval 0). files: how many. rows: rows seen. bad: rows that were not taken (the first
    `MOST_BAD`), bad_count: all of them. late: rows that stood out of order. notes: what the reader did, in words. told_zone:
    whether the files say their zone. findings: what is odd about the rows. quotes: times (UTC ns), bids and asks where both
    are there, or an even sample of them; spreads: times and a column of spreads, likewise.
    """

    raw: Raw
    files: int
    rows: int
    bad: tuple[BadRow, ...]
    bad_count: int
    late: int
    notes: tuple[str, ...]
    told_zone: bool = False
    findings: tuple[Finding, ...] = ()
    quotes: tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64]] | None = None
    spreads: tuple[NDArray[np.int64], NDArray[np.float64]] | None = None


class Reader:
    """Reads files with one layout, one block a `step`. `total` and what `step` returns are bytes of the files.

    Raises (from the constructor and `step`):
        UserError: not to be read so. EnvironmentTrouble: the machine does not let it be read.
    """

    def __init__(self, found: list[Piece], layout: Layout) -> None:
        self.layout = layout
        self.pieces = found
        self.total = max(1, sum(p.size for p in self.pieces))
        self.done = False
        self._blocks = self._all()
        self._kept: list[Block] = []
        self.bad: list[BadRow] = []
        self.bad_count = 0
        self._rows = 0
        self._passed: list[BadRow] = []
        self._utc: set[bool] = set()
        self._joined: tuple[NDArray[np.int64], NDArray[np.int64], dict[str, NDArray[np.float64]]] | None = None

    def step(self) -> int:
        """Read one block; the bytes it took, 0 at the end."""
        try:
            block, taken = next(self._blocks)
        except StopIteration:
            self.done = True
            return 0
        self.take(block)
        return taken

    def take(self, block: Block) -> None:
        """Add a block's rows."""
        self._rows += len(block.row) + block.bad_count
        self.bad_count += block.bad_count
        self.bad += block.bad[: max(0, MOST_BAD - len(self.bad))]
        self._passed += block.passed[: max(0, MOST_BAD - len(self._passed))]
        if len(block.row):
            self._utc.add(block.utc)
            self._kept.append(block)

    def to_utc(self, local: NDArray[np.int64]) -> NDArray[np.int64]:
        """Local times of rows in order as UTC, under the layout's zone."""
        return to_utc_in_order(local, self.layout.zone)[0]

    def read_all(self) -> Imported:
        """Read to the end at once."""
        while not self.done:
            self.step()
        return self.finish()

    def _all(self) -> Iterator[tuple[Block, int]]:
        for piece in self.pieces:
            if piece.table:
                yield from table_blocks(piece, self.layout, MOST_BAD)
            else:
                yield from self._text(piece)

    def _text(self, piece: Piece) -> Iterator[tuple[Block, int]]:
        row = 1
        skip, header = (self.layout.skip, self.layout.header) if piece is self.pieces[0] else self._head_of(piece)
        drop = skip + (1 if header else 0)
        wide = False
        for data, taken in text_blocks(piece):
            while drop and data:
                cut = data.find(b"\n") + 1
                if not cut:
                    cut = len(data)
                if not wide and drop == 1 and header:
                    self._check_header(data[:cut], piece)
                data, row, drop = data[cut:], row + 1, drop - 1
            wide = True
            if not data:
                continue
            block = read_fast(data, self.layout, row, piece.name)
            if block is None and not self._kept:
                self._try_head(data, row, piece.name)
            if block is None:
                block = read_slow(data, self.layout, row, piece.name, MOST_BAD)
            row += data.count(b"\n") + (not data.endswith(b"\n"))
            yield block, taken
        self._drop_footer(piece, row)

    def _head_of(self, piece: Piece) -> tuple[int, bool]:
        """Lines before the rows of a further file, and whether a header is the last of them: files of one market often
        differ in that."""
        lines = first_lines(piece, 200)
        width = len(self.layout.columns)
        for i, line in enumerate(lines):
            fields = split_line(line, self.layout.delimiter)
            if len(fields) == width and not line.lstrip().startswith(COMMENTS):
                return i, is_header(fields)
        return self.layout.skip, self.layout.header

    def _drop_footer(self, piece: Piece, after: int) -> None:
        """Unreadable lines at the very end of a file are its footer: they are told, but they are no faulty rows."""
        mine = {b.row: b for b in self.bad if b.file == piece.name} if self.bad_count == len(self.bad) else {}
        row, foot = after - 1, list[BadRow]()
        while row in mine and len(foot) < 5 and "columns instead" in mine[row].reason:
            foot.append(mine[row])
            row -= 1
        if foot and len(foot) < 5:
            self.bad = [b for b in self.bad if b not in foot]
            self.bad_count -= len(foot)
            self._rows -= len(foot)
            self._passed += [BadRow(b.file, b.row, "a footer", b.text) for b in reversed(foot)]

    def _try_head(self, data: bytes, row: int, name: str) -> None:
        """A layout under which no row of the first megabyte can be read is wrong; the rest need not be tried."""
        head = data[:data.rfind(b"\n", 0, HEAD) + 1]
        tried = read_slow(head, self.layout, row, name, 1) if len(head) < len(data) else None
        if tried is not None and not len(tried.row) and tried.bad_count:
            raise UserError(f"none of the first {tried.bad_count:,} rows could be read; {tried.bad[0].reason}",
                            f"{name}, row {tried.bad[0].row}", "Correct the layout.")

    def _check_header(self, line: bytes, piece: Piece) -> None:
        names = split_line(line.decode("utf-8", errors="replace").strip("\n"), self.layout.delimiter)
        if len(names) != len(self.layout.columns) and len(names) > 1:
            raise UserError(f"this file has {len(names)} columns, the layout {len(self.layout.columns)}",
                            f"{piece.name}, row {self.layout.skip + 1}", "Choose another layout, or import it on its own.")

    def finish(self, layout: Layout | None = None) -> Imported:
        """Put the rows together: zone, order, interval, bar stamps. May be asked again under a layout with another zone,
        stamp or interval.

        Raises:
            UserError: nothing can be made of the rows.
        """
        if layout is not None:
            self.layout = layout
        time, rows, values, told = self._whole()
        bad, count = list(self.bad), self.bad_count
        notes = self._passed_words()
        if len(time) > 1 and float(np.mean(np.diff(time) <= 0)) > 0.9:
            time, rows = time[::-1], rows[::-1]
            values = {r: v[::-1] for r, v in values.items()}
            notes.append("the newest rows stand first; they were turned round")
        if not told:
            time, again = to_utc_in_order(time, self.layout.zone)
            if again:
                notes.append(f"{again:,} rows of the repeated hour at the end of summer time were told apart by their order")
        raw = self._ticks(time, values, notes) if self.layout.ticks else self._bars(time, values, notes)
        findings = check_levels(raw, rows, self.pieces[0].name)
        raw, late = in_order(raw)
        if late:
            where = int(np.argmax(np.diff(time) < 0)) + 1
            notes.append(f"rows were put in order of time ({late:,} stood before an earlier one, the first at row "
                         f"{int(rows[where]):,})")
        raw, gone = self._without_strays(raw, notes)
        if not self.layout.ticks:
            raw = self._stamped(raw, notes)
            if raw.interval >= DAILY:
                check_daily(raw, self.pieces[0].name)
            odd = check_intervals(raw, raw.interval, self.pieces[0].name)
            findings += odd.findings
            gone += [(int(raw.time[k]), odd.reason) for k in np.flatnonzero(~odd.keep)]
            raw = raw.take(odd.keep) if not odd.keep.all() else raw
        for ns, reason in gone:
            count += 1
            if len(bad) < MOST_BAD:
                when = str(np.datetime64(ns, "ns").astype("datetime64[m]"))
                bad.append(BadRow(self.pieces[0].name, 0, reason, when))
        gap = gap_note(raw)
        notes += [gap] if gap else []
        again = int(np.count_nonzero(np.diff(raw.time) == 0)) if raw.interval else 0
        if again:
            notes.append(f"{again:,} stamps are repeated; the first row of each is tested on")
        return Imported(raw, len(self.pieces), self._rows, tuple(bad), count, late, tuple(notes), told, findings,
                        _quotes(time, values), _spreads(time, values))

    def _whole(self) -> tuple[NDArray[np.int64], NDArray[np.int64], dict[str, NDArray[np.float64]], bool]:
        """All rows as columns, in the order of the files, and whether their times are UTC."""
        if self._joined is None:
            if not self._kept:
                first = f" The first: row {self.bad[0].row}, {self.bad[0].reason}." if self.bad else ""
                raise UserError(f"none of {self._rows:,} rows could be read.{first}", self.pieces[0].name,
                                "Correct the layout.")
            if len(self._utc) > 1:
                raise UserError("some rows say their time zone and others do not", self.pieces[0].name,
                                "Import the files one by one.")
            # Column by column, each block's part dropped as it is taken: long files are never held twice.
            values = {r: np.concatenate([b.values.pop(r) for b in self._kept]) for r in number_roles(self.layout)}
            self._joined = (np.concatenate([b.time for b in self._kept]), np.concatenate([b.row for b in self._kept]), values)
            self._kept = []
        return *self._joined, True in self._utc

    def _passed_words(self) -> list[str]:
        """Lines that were no rows, in words."""
        words = []
        for reason in dict.fromkeys(b.reason for b in self._passed):
            mine = [b for b in self._passed if b.reason == reason]
            lines = "line" if len(mine) == 1 else "lines"
            words.append(f"{len(mine):,} {lines} passed over as {reason}, the first in {mine[0].file}, row {mine[0].row:,}")
        return words

    def _bars(self, time: NDArray[np.int64], values: dict[str, NDArray[np.float64]], notes: list[str]) -> Raw:
        volume = values.get("volume")
        o, h, l, c = (values.get(r, values["close"]) for r in ("open", "high", "low", "close"))  # noqa: E741
        return Raw(self.layout.minutes or 1, time, o, h, l, c,
                   np.zeros(len(time)) if volume is None else volume, None, values.get("open interest"))

    def _ticks(self, time: NDArray[np.int64], values: dict[str, NDArray[np.float64]], notes: list[str]) -> Raw:
        price = values.get("price")
        if price is None:
            sides = [values[s] for s in ("bid", "ask") if s in values]
            price = sides[0] if len(sides) == 1 else (sides[0] + sides[1]) / 2
            notes.append("the price is the middle of bid and ask" if len(sides) == 2
                         else "only one of bid and ask is in the file; it is taken as the price")
        volume = values.get("volume")
        volume = np.zeros(len(time)) if volume is None else volume
        return Raw(0, time, price, price, price, price, volume)

    def _without_strays(self, raw: Raw, notes: list[str]) -> tuple[Raw, list[tuple[int, str]]]:
        """Stamps that stand years apart from all others are no history: 1970 often means that there was no time."""
        jumps = np.flatnonzero(np.diff(raw.time) > APART_YEARS * NS_A_YEAR)
        if not len(jumps):
            return raw, []
        edges = np.concatenate(([0], jumps + 1, [len(raw)]))
        sizes = np.diff(edges)
        # A long gap between two histories is a gap; a few rows far away are strays.
        keep = np.repeat(sizes >= max(2, 0.01 * sizes.max()), sizes)
        gone = np.flatnonzero(~keep)
        if not len(gone):
            return raw, []
        notes.append(f"{len(gone):,} rows stand more than {APART_YEARS} years apart from the rest and were left out")
        return raw.take(keep), [(int(raw.time[k]), f"it stands more than {APART_YEARS} years apart from the rest")
                                for k in gone]

    def _stamped(self, raw: Raw, notes: list[str]) -> Raw:
        """Find the interval and move stamps of the close to the open."""
        minutes = self.layout.minutes
        if minutes is None:
            steps = np.diff(raw.time)
            steps = steps[steps > 0]
            if not len(steps):
                raise UserError("one bar does not tell the interval", self.pieces[0].name, "Name the interval in minutes.")
            values, counts = np.unique(steps, return_counts=True)
            usual = int(values[np.argmax(counts)])
            if usual < NS_A_MINUTE:
                raise UserError(f"the rows are {usual / 1e9:g} seconds apart, and bars begin at one minute",
                                self.pieces[0].name, "Read the close as price, so that minute bars are built from ticks.")
            minutes = DAILY if np.median(steps) >= ABOUT_A_DAY else min(DAILY, usual // NS_A_MINUTE)
            notes.append(f"the most common step between rows is {minutes:,} minute{'' if minutes == 1 else 's'}")
        time = raw.time - minutes * NS_A_MINUTE if self.layout.stamp == "close" else raw.time
        return Raw(minutes, time, raw.open, raw.high, raw.low, raw.close, raw.volume, None, raw.open_interest)


def _quotes(time: NDArray[np.int64], values: dict[str, NDArray[np.float64]]) -> tuple[
        NDArray[np.int64], NDArray[np.float64], NDArray[np.float64]] | None:
    sides = next((s for s in (("bid", "ask"), ("close", "ask close")) if set(s) <= set(values)), None)
    if sides is None:
        return None
    some = _evenly(time)
    return time[some], values[sides[0]][some], values[sides[1]][some]


def _spreads(time: NDArray[np.int64], values: dict[str, NDArray[np.float64]]) -> tuple[
        NDArray[np.int64], NDArray[np.float64]] | None:
    some = _evenly(time)
    return (time[some], values["spread"][some]) if "spread" in values else None


def _evenly(time: NDArray[np.int64]) -> slice:
    return slice(None, None, max(1, len(time) // 200_000))


def to_utc_in_order(local: NDArray[np.int64], zone: str) -> tuple[NDArray[np.int64], int]:
    """Local wall-clock nanoseconds of rows in order to UTC; where a repeated hour comes twice, the second time is meant
    the second time. Returns also how many rows that concerned."""
    utc = to_utc(local, zone)
    moved = 0
    if not len(local):
        return utc, 0
    for change in shifts_between(zone, int(utc.min()), int(utc.max()) + NS_A_MINUTE):
        before, after = (int(to_local(np.array([t], np.int64), zone)[0]) for t in (change - 1, change))
        back = before + 1 - after
        if back <= 0:
            continue
        window = np.flatnonzero((local >= after) & (local < after + back))
        falls = np.flatnonzero(np.diff(local[window]) < 0)
        # Twice through the hour: from the step back on, the rows belong to the second time.
        if len(falls) == 1 and window[-1] - window[0] == len(window) - 1:
            second = window[falls[0] + 1:]
            utc[second] += back
            moved += len(second)
    return utc, moved


def write_bad_rows(path: Path, rows: Sequence[BadRow]) -> None:
    """Write rows that were not taken as CSV: file, row, reason, text."""
    held = io.StringIO(newline="")
    out = csv.writer(held)
    out.writerow(["file", "row", "reason", "text"])
    out.writerows([plain(b.file), b.row, plain(b.reason), plain(b.text)] for b in rows)
    write_text(path, held.getvalue())
