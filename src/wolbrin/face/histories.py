"""Markets and bars: contract terms, and histories from frames, files and projects."""

from __future__ import annotations

import datetime as dt
import shutil
import tempfile
from functools import cached_property
from pathlib import Path
from typing import Any
from weakref import finalize

import numpy as np
import pandas as pd
from pydantic import ValidationError

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.market.bars import Bars, day_of, make_bars
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.csv_files import read_bars
from wolbrin.core.market.intervals import Interval, interval_words, to_interval
from wolbrin.core.market.sessions import NS_A_MINUTE
from wolbrin.core.market.terms import Terms, load_terms
from wolbrin.core.market.words import read_sessions
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.face.shown import Told

NAMES = {"open": ("open", "o", "first"), "high": ("high", "h", "max"), "low": ("low", "l", "min"),
         "close": ("close", "c", "last"), "volume": ("volume", "vol", "v")}
TIMES = ("time", "datetime", "date", "timestamp", "start")
DAY = dt.timedelta(days=1)


def market(code: str | Path, **terms: Any) -> Terms:
    """Contract terms of a market.

    Args:
        code: its code; or the path of a market file (docs/market-file.md), which is read.
        terms: fields of `Terms`: `tick_size` and `point_value` (quote money for a move of 1.00 on one contract) at least;
            costs as `spread_ticks`, `slippage_ticks` (ticks), `commission={"per_contract": 2.4}` (account money a side);
            sessions as text, such as `sessions="Mon-Fri 09:00-17:00"`, with `time_zone="Europe/Oslo"`.
    Raises:
        UserError: a field is unknown or has no sense; it says which.

    Example:
        >>> import wolbrin as wb
        >>> wb.market("NPW", tick_size=0.01, point_value=250, commission={"per_contract": 2.4}).tick_value
        2.5
    """
    if str(code).endswith(".json"):
        found = load_terms(Path(code))
        return found.model_copy(update=terms) if terms else found
    if isinstance(terms.get("sessions"), str):
        terms["sessions"] = [r.model_dump() for r in read_sessions(terms["sessions"])]
    try:
        return Terms.model_validate({"code": str(code), **terms})
    except ValidationError as err:
        raise explain(err, f"market {code}") from None


class MarketBars(Told):
    """Bars of a market, ready for runs. Made by `bars`, or by a project's `bars`.

    Attributes: `terms` (contract terms), `interval` (minutes, or another kind of bar), `frame` (bars as a DataFrame).
    """

    def __init__(self, ready: Prepared, project: Project | None = None) -> None:
        self.ready = ready
        self._project = project

    @property
    def terms(self) -> Terms:
        return self.ready.bars.terms

    @property
    def interval(self) -> int:
        return self.ready.bars.interval

    @property
    def costs(self) -> Costs:
        """What the contract terms charge."""
        return Costs.of(self.terms)

    def __len__(self) -> int:
        return len(self.ready.bars)

    @cached_property
    def frame(self) -> pd.DataFrame:
        """The bars, indexed by their start (UTC): open, high, low, close (price), volume, float64[n] each."""
        b = self.ready.bars
        index = pd.DatetimeIndex(b.time.view("datetime64[ns]"), name="time").tz_localize("UTC")
        return pd.DataFrame({"open": b.open, "high": b.high, "low": b.low, "close": b.close, "volume": b.volume}, index=index)

    def every(self, interval: str | int) -> MarketBars:
        """The same history at another interval, made of its shortest bars: minutes, "daily", "500t" (ticks), "8r" (range).
        Raises UserError."""
        code = Interval.parse(str(interval)).code
        if self._own is not None:
            return MarketBars(self._own.prepared(self.terms.code, code), self._own)
        finest = self.ready.finer()
        base = self.ready.bars if finest is None else finest
        return MarketBars(Prepared.of(to_interval(base, code), finer=lambda: base))

    @property
    def _own(self) -> Project | None:
        """The project it is from; None where it came by itself."""
        return None if self._scratch else self._project

    _scratch = False

    @property
    def project(self) -> Project:
        """The project that searches on it are kept and counted in. A history that came by itself gets one of its own, in a
        temporary folder, without a holdout: all of it is training."""
        if self._project is None:
            b = self.ready.bars
            first, last = day_of(b.trading_date[0]), day_of(b.trading_date[-1])
            folder = Path(tempfile.mkdtemp(prefix="wolbrin-"))
            made = Project.create(folder / "project", Settings(
                training_first=first, holdout_first=max(last, first + DAY) + DAY, last=max(last, first + DAY) + 2 * DAY))
            made.add_market(b.terms, b, "python")
            self._project, self._scratch = made, True
            finalize(self, _clear, made, folder)
        return self._project

    def _title(self) -> str:
        b = self.ready.bars
        if not len(b):
            return f"{self.terms.code} {interval_words(self.interval)}: no bars"
        return (f"{self.terms.code} {interval_words(self.interval)}: {len(b):,} bars, {day_of(b.trading_date[0])} to "
                f"{day_of(b.trading_date[-1])}")

    def _rows(self) -> list[tuple[str, str]]:
        t = self.terms
        return [("tick", f"{t.tick_size:g}, worth {t.tick_value:g} {t.quote_currency}"), ("costs", self.costs.words()),
                ("sessions", "as scheduled" if t.scheduled else "none")]


def _clear(project: Project, folder: Path) -> None:
    """Put a temporary project away."""
    project.close()
    shutil.rmtree(folder, ignore_errors=True)


def bars(data: pd.DataFrame | str | Path, market: Terms | str | Path, *, interval: str | int | None = None,
         zone: str = "UTC") -> MarketBars:
    """Bars of a market from a DataFrame or a file.

    Args:
        data: a frame with open, high, low, close and perhaps volume (any case), indexed by time or with a column of times,
            which are bar STARTS; or a file in any layout that can be guessed from it (docs/history-file.md).
        market: contract terms (`wb.market`), or a market file.
        interval: of the bars that are to be traded, if longer than those given: minutes such as 15, "daily", "500t".
        zone: time zone of times that carry none.
    Raises:
        UserError: a column is missing, times are out of order or repeated, or a row is no bar; it says which.

    Example:
        >>> h = wb.bars("prices.csv", npw, interval=15)  # doctest: +SKIP
    """
    terms = market if isinstance(market, Terms) else load_terms(Path(market))
    base = _of_frame(data, terms, zone) if isinstance(data, pd.DataFrame) else read_bars(Path(data), terms, None, zone)
    if interval is not None and (code := Interval.parse(str(interval)).code) != base.interval:
        return MarketBars(Prepared.of(to_interval(base, code), finer=lambda: base))
    return MarketBars(Prepared.of(base))


def _of_frame(data: pd.DataFrame, terms: Terms, zone: str) -> Bars:
    known = {str(c).strip().casefold(): c for c in data.columns}
    found = {name: next((known[k] for k in ways if k in known), None) for name, ways in NAMES.items()}
    missing = [name for name in ("open", "high", "low", "close") if found[name] is None]
    if missing:
        raise UserError(f"the frame has no column {', '.join(missing)}", terms.code,
                        f"It has {', '.join(map(str, data.columns))}; name them open, high, low, close.")
    stamps = data.index if isinstance(data.index, pd.DatetimeIndex) else next(
        (pd.DatetimeIndex(pd.to_datetime(data[known[k]])) for k in TIMES if k in known), None)
    if stamps is None:
        raise UserError("the frame has no times", terms.code, "Index it by time, or give it a column named time.")
    stamps = (stamps.tz_localize(zone) if stamps.tz is None else stamps).tz_convert("UTC")
    time = stamps.as_unit("ns").asi8
    if len(time) < 2:
        raise UserError("the frame has fewer than two bars", terms.code, "Give it a history.")
    steps = np.diff(time)
    if (steps <= 0).any():
        at = int(np.flatnonzero(steps <= 0)[0]) + 1
        raise UserError("times are repeated or out of order", f"{terms.code}, row {at + 1}", "Sort the frame, drop doubles.")
    minutes = int(np.median(steps) // NS_A_MINUTE)
    if minutes < 1:
        raise UserError("these are no bars of a minute or longer", terms.code, "Resample ticks and seconds first.")
    prices = tuple(np.ascontiguousarray(data[found[n]], np.float64) for n in ("open", "high", "low", "close"))
    volume = (np.ascontiguousarray(data[found["volume"]], np.float64) if found["volume"] is not None
              else np.zeros(len(data)))
    return make_bars(terms, minutes, time, prices, volume, terms.code)  # type: ignore[arg-type]
