"""History files: one Parquet file per source, rows as the source wrote them, never changed by a treatment."""

from __future__ import annotations

import os
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq

from wolbrin.core.errors import EnvironmentTrouble
from wolbrin.core.market.activity import by_activity
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.intervals import Interval, to_interval
from wolbrin.core.market.raw import PRICES, Raw
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.treatment import Treated, Treatment, treat


def write_raw(path: Path, raw: Raw) -> None:
    """Write rows so that a crash leaves either the old file or the new one."""
    columns = {"time": pa.array(raw.time, pa.timestamp("ns", "UTC"))}
    if raw.interval:
        columns |= {name: getattr(raw, name) for name in PRICES}
    else:
        columns["close"] = raw.close
    columns["volume"] = raw.volume
    if raw.open_interest is not None:
        columns["open_interest"] = raw.open_interest
    partial = path.with_suffix(".partial")
    try:
        pq.write_table(pa.table(columns), partial, compression="zstd")
        os.replace(partial, path)
    except OSError as err:
        partial.unlink(missing_ok=True)
        raise EnvironmentTrouble(f"this history file cannot be written ({err.strerror})", str(path),
                                 "Free some space or check the folder's permissions.") from None


def read_raw(path: Path, interval: int) -> Raw:
    """Read rows back as they were written; interval 0 for ticks."""
    try:
        table = pq.read_table(path, memory_map=True)
        column = {name: table.column(name).to_numpy() for name in table.column_names}
        time = column["time"].astype("datetime64[ns]").view(np.int64)
        o, h, l, c = (column[name if interval else "close"].astype(np.float64, copy=False)  # noqa: E741
                      for name in PRICES)
        volume = column["volume"]
    except FileNotFoundError:
        raise EnvironmentTrouble("this history file is missing", str(path),
                                 "Restore it from a backup, or import the market again.") from None
    except (OSError, pa.ArrowException, KeyError) as err:
        raise EnvironmentTrouble(f"this history file is damaged ({str(err).splitlines()[0]})", str(path),
                                 "Restore it from a backup, or import the market again.") from None
    return Raw(interval, time, o, h, l, c, volume, None, column.get("open_interest"))


def write_history(path: Path, bars: Bars) -> None:
    """Write bars as the rows of a source."""
    write_raw(path, Raw.of(bars))


@dataclass(frozen=True)
class History:
    """Where a source's bars come from: files, terms, treatment. Small, and may travel to worker processes.

    file: rows of bars. ticks: rows of single ticks where the source has them, else "". rolls: UTC ns.
    """

    file: str
    ticks: str
    interval: int
    terms: Terms
    treatment: Treatment = Treatment()
    rolls: tuple[int, ...] = ()

    def raw(self) -> Raw:
        return read_raw(Path(self.file), self.interval)

    def treated(self) -> Treated:
        """The source's own bars after treatment."""
        made = treat(self.raw(), self.terms, self.treatment, self.file)
        return replace(made, bars=self._with_rolls(made.bars))

    def _with_rolls(self, bars: Bars) -> Bars:
        return replace(bars, rolls=self.rolls) if self.rolls else bars

    def at(self, interval: int, base: Bars | None = None) -> Bars:
        """Bars of an interval. base: the treated bars of the own interval where they are at hand."""
        wanted = Interval.of(interval)
        if wanted.by_activity and self.ticks:
            # Faults are treated on the built bars, as on any others.
            built = by_activity(read_raw(Path(self.ticks), 0), self.terms, wanted)
            return self._with_rolls(treat(built, self.terms, self.treatment, self.ticks).bars)
        bars = base if base is not None else self.treated().bars
        if not wanted.by_activity:
            return to_interval(bars, interval)
        built = by_activity(Raw.of(bars), self.terms, wanted)
        return self._with_rolls(make_bars(self.terms, built.interval, built.time, built.prices, built.volume, self.file,
                                          built.end))


def read_history(path: Path, terms: Terms, interval: int) -> Bars:
    """Read a history file into bars without further treatment."""
    return History(str(path), "", interval, terms).treated().bars
