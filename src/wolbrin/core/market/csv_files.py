"""Reading bars from one file, strictly: the command line's way, where the first bad row refuses the file."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.importing.files import pieces
from wolbrin.core.market.importing.guess import guess
from wolbrin.core.market.importing.layout import make_layout
from wolbrin.core.market.importing.read import Reader
from wolbrin.core.market.raw import ticks_to_bars
from wolbrin.core.market.terms import Terms


def read_bars(path: Path, terms: Terms, minutes: int | None = None, zone: str = "UTC") -> Bars:
    """Read a file of bars or ticks in any layout that can be guessed from it (docs/history-file.md).

    Times are bar STARTS; without an offset they are read in `zone`. `minutes` None: the most common step, one minute for
    ticks.

    Raises:
        UserError: no such file, no table, or any row that cannot be taken as it is.
    """
    found = pieces([path])
    guessed = guess(found[0])
    if guessed.twice:
        raise UserError(f"the header names {', '.join(guessed.twice)} twice", f"{path}, row 1", "Rename one of them.")
    layout = guessed.layout
    told = layout.model_dump() | {"zone": zone}
    if layout.ticks:
        told["build"] = minutes or 1
    else:
        told["minutes"] = minutes
    reader = Reader(found, make_layout(told, str(path)))
    while not reader.done:
        reader.step()
        if reader.bad_count:
            bad = reader.bad[0]
            raise UserError(bad.reason, f"{path}, row {bad.row}", "Correct or remove the row.")
    read = reader.finish()
    if read.bad:
        raise UserError(read.bad[0].reason, str(path), "Correct or remove the row.")
    if read.late:
        raise UserError(f"the bars are not in order of time ({read.late:,} rows in all)", str(path), "Sort the file.")
    raw = ticks_to_bars(read.raw, layout.build) if layout.ticks else read.raw
    again = np.flatnonzero(np.diff(raw.time) == 0)
    if len(again):
        row = int(again[0]) + 2 + layout.skip + layout.header
        raise UserError(f"this time stamp is repeated ({len(again):,} bars in all)", f"{path}, row {row}",
                        "Correct or remove the bar.")
    return make_bars(terms, raw.interval, raw.time, raw.prices, raw.volume, str(path))
