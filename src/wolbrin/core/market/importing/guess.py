"""Guessing how a file is laid out, from lines of the whole file. A guess is shown with its reason, never trusted blindly."""

from __future__ import annotations

import csv
from collections import Counter

from wolbrin.core.errors import UserError
from wolbrin.core.market.findings import Finding
from wolbrin.core.market.importing.columns import Guess, SaidOfLayout, Seen, of_columns
from wolbrin.core.market.importing.files import Piece
from wolbrin.core.market.importing.layout import MOST_COLUMNS
from wolbrin.core.market.importing.roles import is_header, is_number, kind_of, role_named
from wolbrin.core.market.importing.sample import Sample, take_sample
from wolbrin.core.market.importing.tables import COMMENTS
from wolbrin.core.market.importing.typed import Typed

NOTHING_SAID = SaidOfLayout()
DELIMITERS = (";", "\t", ",", "|", " ", "^", "~", "#", "&", "!")
NAMED = {";": "semicolon", "\t": "tab", ",": "comma", "|": "bar", " ": "blanks"}
MOST_ROWS = 8000


def split_line(line: str, delimiter: str) -> list[str]:
    """The fields of one line; several blanks count as one."""
    if delimiter == " ":
        return line.split()
    line = line.replace("\0", "")
    try:
        found = next(csv.reader([line], delimiter=delimiter), [])
    except csv.Error:  # such as a field of more than 131,072 characters
        found = line.split(delimiter)
    return [f.strip() for f in found]


def _well_formed(field: str) -> bool:
    return not field or is_number(field) or kind_of([field]) in ("joined", "date", "clock", "epoch", "packed")


def delimiter_of(lines: list[str]) -> tuple[str, float]:
    """The delimiter that splits most lines into the same number of fields that are numbers or times, and the share of lines
    that it splits so."""
    best, score, share = ",", 0.0, 0.0
    for candidate in DELIMITERS:
        if not any(candidate in line for line in lines):
            continue
        rows = [split_line(line, candidate) for line in lines]
        counts = Counter(map(len, rows))
        usual, agree = counts.most_common(1)[0]
        if usual < 2:
            continue
        some = [r for r in rows if len(r) == usual][:40]
        form = sum(_well_formed(f) for r in some for f in r) / sum(map(len, some))
        # A blank also splits dates from clocks and a comma may be a decimal sign: the earlier of equals wins.
        value = agree / len(rows) * (0.3 + 0.7 * form) * (1 + 0.01 * min(usual, 12)) * (0.9 if candidate == " " else 1) * (
            0.98 if candidate == "," else 1)
        if value > score + 1e-9:
            best, score, share = candidate, value, agree / len(rows)
    return best, share


def guess(pieces: Piece | list[Piece], said: SaidOfLayout = NOTHING_SAID) -> Guess:
    """The layout files of one kind most likely have, judged by lines from everywhere in them.

    Raises:
        UserError: no table, or no column that looks like a time.
    """
    every = [pieces] if isinstance(pieces, Piece) else pieces
    if every[0].table:
        return guess_table(every[0], said)
    return guess_lines(take_sample(every), every[0].name, said)


def guess_lines(sample: Sample, name: str, said: SaidOfLayout = NOTHING_SAID) -> Guess:
    """The layout of sampled lines; see `guess`."""
    head = [(i, line) for i, line in enumerate(sample.head) if line.strip()]  # skipping counts blank lines too
    if not head:
        raise UserError("this file is empty", name, "Choose another file.")
    step = max(1, len(sample.body) // MOST_ROWS)
    body = [x for x in sample.body[::step] if not x.lstrip().startswith(COMMENTS)] or [line for _, line in head]
    # A table of one row is a table too: the head alone decides then.
    middle = body[len(body) // 4:] if len(body) > 8 else body[-1:]
    delimiter, agree = delimiter_of(middle[:: max(1, len(middle) // 400)])
    found = [Finding("delimiter", NAMED.get(delimiter, delimiter), f"{agree:.0%} of the lines have as many fields so.")]
    rows = [split_line(line, delimiter) for line in body]
    lengths = [len(r) for r in rows]
    width = Counter(lengths[len(lengths) // 4:] if len(lengths) > 8 else lengths[-1:]).most_common(1)[0][0]
    if lengths.count(width) < 0.4 * len(lengths):
        raise UserError(f"this is not a table: its lines have from {min(lengths)} to {max(lengths)} fields", name,
                        "Choose a file with a time and prices on every line.")
    if width < 2:
        if len(lengths) > 8 and len({len(x) for x in body}) == 1 and len(body[0]) >= 20:
            raise UserError("the columns of this file stand at fixed places, with no sign between them", name,
                            "Open it in a spreadsheet as text of fixed width and save it as CSV.")
        raise UserError("this file has no columns", name, "Choose a file with a time and prices on every line.")
    if width > MOST_COLUMNS:
        raise UserError(f"this file has {width} columns, more than {MOST_COLUMNS}", f"{name}, row 1",
                        "Choose a file of one market with its time and prices.")
    start, names = next(((i, f) for i, f in ((i, split_line(line, delimiter)) for i, line in head
                                             if not line.lstrip().startswith(COMMENTS) or delimiter == "#")
                         if len(f) == width), (0, []))
    # A header in a comment line, as some programs write it.
    remarks = [(i, split_line(line.lstrip("#/ %"), delimiter)) for i, line in head if line.lstrip().startswith(COMMENTS)]
    told = next(((i, f) for i, f in remarks if sum(role_named(x) != "skip" for x in f) >= 3), None)
    header = is_header(names)
    if not header and told is not None and len(told[1]) == width:
        start, names, header = told[0], told[1], True
    data = [r for r in rows if len(r) == width and not is_header(r)]
    if not data:
        raise UserError("there are no bars in this history", f"{name}, row 1", "Choose another file.")
    found.append(Finding("header", "yes" if header else "no",
                         "Its first line names the columns." if header else "Its first line holds values already."))
    columns = [[r[i] for r in data] for i in range(width)]
    return of_columns(Seen(names if header else [], columns, delimiter, start, header), name, said, found)


def guess_table(piece: Piece, said: SaidOfLayout = NOTHING_SAID) -> Guess:
    """The layout of a file of typed columns, by their names and by what stands in them."""
    table = Typed(piece)
    if not table.rows:
        raise UserError("there are no bars in this history", piece.name, "Choose another file.")
    if len(table.names) > MOST_COLUMNS:
        raise UserError(f"this file has {len(table.names)} columns, more than {MOST_COLUMNS}", piece.name,
                        "Choose a file of one market with its time and prices.")
    if len(table.names) < 2:
        raise UserError(f"this file has one column, {table.names[0] if table.names else '?'}", piece.name,
                        "Choose a file with a time and prices.")
    rows = table.sample()
    columns = [[r[i] for r in rows] for i in range(len(table.names))]
    return of_columns(Seen(table.names, columns, ",", 0, True), piece.name, said, [])
