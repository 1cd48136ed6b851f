"""History files: one Parquet file per source, rows as the source wrote them, never changed by a treatment."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from wolbrin.core.errors import Door, EnvironmentTrouble, UserError
from wolbrin.core.market.activity import by_activity
from wolbrin.core.market.bars import Bars, day_number, make_bars
from wolbrin.core.market.contracts import Adjust, adjusted
from wolbrin.core.market.intervals import DAILY, Interval, to_interval
from wolbrin.core.market.raw import PRICES, Raw, concatenated
from wolbrin.core.market.schedule import placed_daily
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.treatment import Treated, Treatment, trading_dates, treat
from wolbrin.core.written import as_written, write_named, write_whole

REMEDY = "Restore it from a backup, or import the market again."
BEFORE = " before"  # how the adjustment of a future is called that was made when it was kept, by an older version


def write_rows(folder: Path, stem: str, raw: Raw) -> str:
    """Write rows under a name that holds their digest, whole and synced before anything may name them. Returns the name."""
    return write_named(folder, stem, ".parquet", lambda partial: _put(partial, raw), "history file")


def write_raw(path: Path, raw: Raw) -> None:
    """Write rows so that a crash leaves either the old file or the new one."""
    write_whole(path, lambda partial: _put(partial, raw), "history file")


def _put(path: Path, raw: Raw) -> None:
    import pyarrow as pa  # late
    import pyarrow.parquet as pq  # late

    columns = {"time": pa.array(raw.time, pa.timestamp("ns", "UTC"))}
    if raw.interval:
        columns |= {name: getattr(raw, name) for name in PRICES}
    else:
        columns["close"] = raw.close
    columns["volume"] = raw.volume
    if raw.open_interest is not None:
        columns["open_interest"] = raw.open_interest
    pq.write_table(pa.table(columns), path, compression="zstd", write_page_checksum=True)


def read_raw(path: Path, interval: int) -> Raw:
    """Read rows back as they were written; interval 0 for ticks."""
    import pyarrow as pa  # late
    import pyarrow.parquet as pq  # late

    try:
        if not as_written(path):
            raise EnvironmentTrouble("this history file is not the one that was written: it is damaged or cut short",
                                     str(path), REMEDY)
        table = pq.read_table(path, memory_map=True, page_checksum_verification=True)
        column = {name: table.column(name).to_numpy() for name in table.column_names}
        odd = [name for name, values in column.items() if values.dtype.kind not in ("M" if name == "time" else "fiu")]
        if odd:
            raise EnvironmentTrouble(f"this history file holds no numbers in its column {odd[0]}", str(path), REMEDY)
        time = column["time"].astype("datetime64[ns]").view(np.int64)
        o, h, l, c = (column[name if interval else "close"].astype(np.float64, copy=False)  # noqa: E741
                      for name in PRICES)
        volume = column["volume"]
        if np.isnat(column["time"]).any() or not all(np.isfinite(p).all() for p in (o, h, l, c)):
            raise EnvironmentTrouble("this history file holds prices or times that are none", str(path), REMEDY)
    except FileNotFoundError:
        raise EnvironmentTrouble("this history file is missing", str(path), REMEDY) from None
    except (OSError, pa.ArrowException, UnicodeDecodeError, KeyError) as err:
        raise EnvironmentTrouble(f"this history file is damaged ({str(err).splitlines()[0]})", str(path), REMEDY) from None
    return Raw(interval, time, o, h, l, c, volume, None, column.get("open_interest"))


def write_history(path: Path, bars: Bars) -> None:
    """Write bars as the rows of a source."""
    write_raw(path, Raw.of(bars))


@dataclass(frozen=True)
class Seam:
    """One roll of a joined future: UTC ns of its first bar, difference and ratio of the two months' closes before it."""

    time: int
    difference: float
    ratio: float


@dataclass(frozen=True)
class History:
    """Where a source's bars come from: files, terms, treatment. Small, and may travel to worker processes.

    file: rows of bars. ticks: rows of single ticks where the source has them, else "". seams: rolls of a joined future,
    adjust: how its prices are moved over them (see market.contracts; "before": they were when they were kept).
    border: first sealed trading date, None where nothing is sealed. A history ends there: treatment, adjustment and
    whatever is built of it know no later row. opened: the sealed rows follow, judged by what the rows before them taught,
    so that an opened history begins with exactly the bars of the sealed one.
    """

    file: str
    ticks: str
    interval: int
    terms: Terms
    treatment: Treatment = Treatment()
    seams: tuple[Seam, ...] = ()
    adjust: str = "unadjusted"
    border: dt.date | None = None
    opened: bool = False

    def unsealed(self) -> History:
        """The same with its sealed rows. Only `store.sealed` may ask for it."""
        return replace(self, opened=True)

    def _parts(self, file: str, interval: int) -> tuple[Raw, Raw | None]:
        """The rows before the border, and where opened those from it on (None when there are none)."""
        raw = read_raw(Path(file), interval)
        stop = len(raw) if self.border is None else rows_before(raw, self.terms, self.border)
        still = int(raw.time[stop]) if stop < len(raw) else int(raw.time[-1]) + 1 if len(raw) else 0
        raw = self._moved(raw, still)
        later = raw.take(slice(stop, None)) if self.opened and stop < len(raw) else None
        if not stop and later is None:
            raise UserError(f"all bars of {self.terms.code} lie in the sealed holdout, which begins on {self.border}",
                            self.terms.code, "Import earlier history, or move the border to a later day.",
                            Door("Change the span", "span"))
        return raw.take(slice(0, stop)), later

    def _moved(self, raw: Raw, still: int) -> Raw:
        if not self.seams or self.adjust == "unadjusted":
            return raw
        if not self.adjust.endswith(BEFORE):
            how: Adjust = "ratio" if self.adjust == "ratio" else "difference"
            return adjusted(raw, self.terms, [(s.time, s.difference, s.ratio) for s in self.seams], how, still)
        after = [s for s in self.seams if s.time >= still]
        if after and self.adjust.startswith("ratio"):
            raise UserError("this continuous future was adjusted by ratio over its sealed rolls, by an earlier version",
                            self.terms.code, "Join its contract months again.")
        shift = sum(s.difference for s in after)
        return replace(raw, open=raw.open - shift, high=raw.high - shift, low=raw.low - shift, close=raw.close - shift)

    def rows(self) -> Raw:
        """The rows as they came, adjusted over rolls, up to the border; all of them where opened."""
        first, later = self._parts(self.file, self.interval)
        return first if later is None else concatenated([first, later]) if len(first) else later

    def _treated(self, parts: tuple[Raw, Raw | None], where: str) -> Treated:
        first, later = parts
        if later is None:
            return treat(first, self.terms, self.treatment, where)
        made = rest = fault = None
        try:
            made = treat(first, self.terms, self.treatment, where) if len(first) else None
        except UserError as err:
            fault = err  # the treatment begins after the border
        try:
            rest = treat(later, self.terms, self.treatment, where, made.usual if made else None)
        except UserError as err:
            fault = err  # or it ends before
        if made is None or rest is None:
            if made is None and rest is None and fault is not None:
                raise fault
            return made or rest  # type: ignore[return-value]
        a, b = made.bars, rest.bars
        both = concatenated([replace(Raw.of(x), end=x.end) for x in (a, b)])
        bars = make_bars(self.terms, a.interval, both.time, both.prices, both.volume, where, both.end)
        bars = replace(bars, left_out=a.left_out + b.left_out, off_grid=a.off_grid + b.off_grid)
        moved = tuple(replace(c, rows=c.rows + len(first)) for c in rest.changes)
        return Treated(bars, made.changes + moved, np.concatenate([made.rows, rest.rows + len(first)]), made.usual)

    def treated(self) -> Treated:
        """The source's own bars after treatment."""
        made = self._treated(self._parts(self.file, self.interval), self.file)
        return replace(made, bars=self._with_rolls(made.bars))

    def _with_rolls(self, bars: Bars) -> Bars:
        rolls = tuple(s.time for s in self.seams if s.time < bars.end[-1])
        return replace(bars, rolls=rolls) if rolls else bars

    def at(self, interval: int, base: Bars | None = None) -> Bars:
        """Bars of an interval. base: the treated bars of the own interval where they are at hand."""
        wanted = Interval.of(interval)
        if wanted.by_activity and self.ticks:
            # Faults are treated on the built bars, as on any others.
            first, later = self._parts(self.ticks, 0)
            built = (by_activity(first, self.terms, wanted) if len(first) else first,
                     by_activity(later, self.terms, wanted) if later is not None else None)
            return self._with_rolls(self._treated(built, self.ticks).bars)
        bars = base if base is not None else self.treated().bars
        if not wanted.by_activity:
            return to_interval(bars, interval)
        built_bars = by_activity(Raw.of(bars), self.terms, wanted)
        return self._with_rolls(make_bars(self.terms, built_bars.interval, built_bars.time, built_bars.prices,
                                          built_bars.volume, self.file, built_bars.end))


def rows_before(raw: Raw, terms: Terms, border: dt.date) -> int:
    """How many rows come before the first one of trading date `border` or later."""
    if not len(raw):
        return 0
    placed = placed_daily(raw, terms) if raw.interval == DAILY else raw
    sealed = trading_dates(placed, terms) >= day_number(border)
    return int(np.argmax(sealed)) if sealed.any() else len(raw)


def read_history(path: Path, terms: Terms, interval: int) -> Bars:
    """Read a history file into bars without further treatment."""
    return History(str(path), "", interval, terms).treated().bars
