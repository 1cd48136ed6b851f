"""Forms of history files: how stamps, numbers, columns and files are written. Each form says what a reader cannot know."""

from __future__ import annotations

import gzip
import zipfile
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq

from tests.corpus.truth import Truth
from wolbrin.core.market.sessions import NS_A_MINUTE
from wolbrin.core.market.zones import to_local


@dataclass(frozen=True)
class Form:
    """One form of file. market: whose bars. time: strftime pattern, "epoch s" and so on. zone: of the stamps, "market" for
    the market's own. asks: what cannot be known, each with the option that answers it rightly."""

    market: str = "PWR"
    time: str = "%Y-%m-%d %H:%M:%S"
    zone: str = "UTC"
    delimiter: str = ","
    decimal: str = "."
    header: str = "time,open,high,low,close,volume"
    columns: tuple[str, ...] = ("time", "open", "high", "low", "close", "volume")
    digits: int | None = None
    stamp: str = "open"
    packing: str = "plain"
    asks: dict[str, str] = field(default_factory=dict)
    number: Callable[[float], str] | None = None
    finish: Callable[[list[str]], list[str]] | None = None
    files: int = 1
    rows: slice = field(default_factory=lambda: slice(None))
    encoding: str = "utf-8"
    name: str = ""


def numbers(form: Form, truth: Truth, values: np.ndarray) -> list[str]:
    if form.number is not None:
        return [form.number(float(v)) for v in values]
    digits = truth.terms.digits if form.digits is None else form.digits
    return [f"{v:.{digits}f}".replace(".", form.decimal) for v in values]


def stamps(form: Form, truth: Truth) -> list[str]:
    zone = truth.terms.time_zone if form.zone == "market" else form.zone
    utc = truth.raw.time + (truth.raw.interval * NS_A_MINUTE if form.stamp == "close" else 0)
    if form.time.startswith("epoch"):
        scale = {"epoch s": 10**9, "epoch ms": 10**6, "epoch us": 10**3, "epoch ns": 1}[form.time]
        return [str(int(t) // scale) for t in utc]
    if "%z" in form.time:
        index = pd.DatetimeIndex(utc.view("datetime64[ns]")).tz_localize("UTC").tz_convert(zone)
        texts = index.strftime(form.time)
        return [t[:-2] + ":" + t[-2:] for t in texts]
    return list(pd.DatetimeIndex(to_local(utc, zone).view("datetime64[ns]")).strftime(form.time))


def lines_of(form: Form, truth: Truth) -> list[str]:
    raw = truth.raw
    whole = stamps(form, truth)
    known = {"time": whole, "date": [t.split("~")[0] for t in whole], "clock": [t.split("~")[-1] for t in whole],
             "volume": [f"{v:.0f}" for v in raw.volume], "none": ["0"] * len(whole), "blank": [""] * len(whole),
             "interest": [f"{9000 + i % 100}" for i in range(len(whole))], "name": [truth.terms.code] * len(whole),
             "adjusted": [f"{v * 0.917:.6f}" for v in raw.close]}
    for role in ("open", "high", "low", "close"):
        known[role] = numbers(form, truth, getattr(raw, role))
    spread = 4 * truth.terms.tick_size
    for role in ("open", "high", "low", "close"):
        known[f"ask {role}"] = numbers(form, truth, getattr(raw, role) + spread)
    columns = [known[c] for c in form.columns]
    lines = [form.delimiter.join(fields) for fields in zip(*columns)][form.rows]
    return form.finish(lines) if form.finish else lines


def write(form: Form, truth: Truth, folder: Path) -> list[Path]:
    """Write the form; its files in order."""
    lines = lines_of(form, truth)
    name = form.name or truth.terms.code
    if form.packing == "parquet":
        path = folder / f"{name}.parquet"
        raw = truth.raw
        pq.write_table(pa.table({"time": pa.array(raw.time, pa.timestamp("ns", "UTC")), "open": raw.open, "high": raw.high,
                                 "low": raw.low, "close": raw.close, "volume": raw.volume}), path)
        return [path]
    parts = [list(p) for p in np.array_split(np.array(lines, object), form.files)]
    out = []
    for i, part in enumerate(parts):
        text = "\n".join([*([form.header] if form.header else []), *part]) + "\n"
        data = text.encode(form.encoding)
        stem = name if form.files == 1 else f"{name}_{2017 + i}"
        if form.packing == "gz":
            path = folder / f"{stem}.csv.gz"
            path.write_bytes(gzip.compress(data, 1))
        elif form.packing == "zip":
            path = folder / f"{stem}.zip"
            with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
                archive.writestr(f"{stem}.csv", data)
        else:
            path = folder / f"{stem}.csv"
            path.write_bytes(data.replace(b"\n", b"\r\n") if form.packing == "crlf" else data)
        out.append(path)
    return out


def float_noise(value: float) -> str:
    """A price that went through single precision, as many programs write it."""
    return f"{float(np.float32(value)):.6f}"


def thousands(value: float) -> str:
    return f"{value:,.2f}"


def german(value: float) -> str:
    return f"{value:,.2f}".replace(",", "~").replace(".", ",").replace("~", ".")


def dollars(value: float) -> str:
    return f"${value:.2f}"


def with_footer(lines: list[str]) -> list[str]:
    return [*lines, f"Total: {len(lines)} rows", "end of file"]


def with_header_between(lines: list[str]) -> list[str]:
    return [*lines[:2000], "time,open,high,low,close,volume", *lines[2000:]]


def with_comments(lines: list[str]) -> list[str]:
    return [*lines[:1500], "# a remark between rows, with, commas", *lines[1500:]]


def with_blank_lines(lines: list[str]) -> list[str]:
    return [x for i, line in enumerate(lines) for x in ((line, "") if i % 500 == 7 else (line,))]


def newest_first(lines: list[str]) -> list[str]:
    return lines[::-1]


def quoted(lines: list[str]) -> list[str]:
    return [",".join(f'"{f}"' for f in line.split(",")) for line in lines]


SHORT = "o,h,l,c"
MARKET_ZONE = {"--zone": "market"}
NO_HEADER = ("time", "open", "high", "low", "close", "volume")
SPLIT = ("date", "clock", "open", "high", "low", "close", "volume")
FORMS: dict[str, Form] = {
    "iso, UTC told": Form(time="%Y-%m-%dT%H:%M:%SZ"),
    "iso, offsets": Form(time="%Y-%m-%dT%H:%M:%S%z", zone="market"),
    "iso, no zone, in UTC": Form(),
    "iso, no zone, market's clock": Form(zone="market", asks=MARKET_ZONE),
    "float noise": Form(number=float_noise, zone="market", asks=MARKET_ZONE),
    "joined compact, semicolons, no header": Form(time="%Y%m%d %H%M%S", delimiter=";", header=""),
    "compact date and clock, no header": Form(time="%Y%m%d~%H%M", header="", columns=SPLIT),
    "clock without leading zeros": Form(market="NGT", time="%Y%m%d~%-H%M", header="date,time,open,high,low,close,vol",
                                        columns=SPLIT),
    "packed digits": Form(time="%Y%m%d%H%M%S", delimiter="\t", header="stamp\topen\thigh\tlow\tclose\tvolume"),
    "dd.mm.yyyy semicolons comma": Form(time="%d.%m.%Y %H:%M", delimiter=";", decimal=",",
                                        header="Date;Open;High;Low;Close;Volume"),
    "mm/dd/yyyy and clock": Form(time="%m/%d/%Y~%H:%M", header="Date,Time,Open,High,Low,Close,Volume", columns=SPLIT),
    "dd/mm/yyyy": Form(time="%d/%m/%Y %H:%M"),
    "two-digit years": Form(time="%d.%m.%y %H:%M", delimiter=";", header="date;open;high;low;close;volume"),
    "two-digit years, month first": Form(time="%m/%d/%y %H:%M"),
    "month names": Form(time="%d %b %Y %H:%M"),
    "month names with dashes": Form(time="%d-%b-%Y~%H:%M:%S", columns=SPLIT, header="Date,Time,Open,High,Low,Close,Volume"),
    "am and pm": Form(time="%m/%d/%Y %I:%M:%S %p"),
    "epoch seconds": Form(time="epoch s"), "epoch milliseconds": Form(time="epoch ms"),
    "epoch microseconds": Form(time="epoch us"), "epoch nanoseconds": Form(time="epoch ns"),
    "blanks": Form(time="%Y-%m-%d~%H:%M", delimiter=" ", header="", columns=SPLIT),
    "bars as delimiter": Form(delimiter="|", header="time|open|high|low|close|volume"),
    "quoted": Form(finish=quoted),
    "thousands grouped": Form(delimiter=";", number=thousands, header="time;open;high;low;close;volume"),
    "points group, comma decimal": Form(delimiter=";", number=german, header="time;open;high;low;close;volume"),
    "currency signs": Form(number=dollars),
    "comments and footer": Form(header="# made by a program\ntime,open,high,low,close,volume",
                                finish=lambda x: with_footer(with_comments(x))),
    "header between rows": Form(finish=with_header_between), "blank lines": Form(finish=with_blank_lines),
    "newest first": Form(finish=newest_first),
    "two volumes, one empty": Form(header="<DATE>\t<TIME>\t<OPEN>\t<HIGH>\t<LOW>\t<CLOSE>\t<TICKVOL>\t<VOL>\t<SPREAD>",
                                   time="%Y.%m.%d~%H:%M:%S", delimiter="\t",
                                   columns=("date", "clock", "open", "high", "low", "close", "volume", "none", "none")),
    "volume column left blank": Form(header="time,open,high,low,close,volume,tick volume",
                                     columns=("time", "open", "high", "low", "close", "blank", "volume")),
    "adjusted close and open interest": Form(header="Date,Open,High,Low,Close,Adj Close,Volume,Open Interest",
                                             columns=("time", "open", "high", "low", "close", "adjusted", "volume",
                                                      "interest")),
    "columns in another order": Form(header="close,volume,time,low,high,open",
                                     columns=("close", "volume", "time", "low", "high", "open")),
    "another order without header": Form(header="", columns=("time", "close", "open", "low", "high", "volume")),
    "bid and ask bars": Form(market="EURSEK", header="time,bid open,bid high,bid low,bid close,ask open,ask high,ask low,"
                             "ask close,volume", columns=("time", "open", "high", "low", "close", "ask open", "ask high",
                                                          "ask low", "ask close", "volume")),
    "market column": Form(header="symbol,time,open,high,low,close,volume", name="export",
                          columns=("name", "time", "open", "high", "low", "close", "volume")),
    "stamped at the close": Form(stamp="close"),
    "New York, minutes, close stamps": Form(market="GRN", zone="market", stamp="close", asks={"--zone": "market"}),
    "New York in UTC": Form(market="GRN"),
    "night session in UTC": Form(market="NGT"),
    "night session, own clock": Form(market="NGT", zone="market", asks=MARKET_ZONE),
    "New York written in Oslo's clock": Form(market="GRN", zone="Europe/Oslo", asks={"--zone": "Europe/Oslo"}),
    "currency pair in UTC": Form(market="EURSEK", time="%Y.%m.%d,%H:%M".replace(",", "~"), columns=SPLIT, header=""),
    "currency pair, New York's clock": Form(market="EURSEK", zone="market"),
    "currency pair, New York + 7": Form(market="EURSEK", zone="America/New_York+7"),
    "currency pair, UTC+2/+3": Form(market="EURSEK", zone="Europe/Helsinki"),
    "currency pair, UTC+2 all year": Form(market="EURSEK", zone="UTC+2"),
    "currency pair, UTC-5 all year": Form(market="EURSEK", zone="UTC-5"),
    "currency pair, weeks of winter": Form(market="EURSEK", zone="America/New_York+7", rows=slice(0, 4000),
                                           asks={"--zone": "America/New_York+7"}),
    "currency pair, offsets of UTC+2/+3": Form(market="EURSEK", time="%Y-%m-%dT%H:%M:%S%z", zone="Europe/Helsinki"),
    "lunch break": Form(market="BRK", time="%Y-%m-%dT%H:%M:%SZ", asks={"--stamp": "open"}),
    "one-minute bars": Form(market="LWH", time="epoch s"),
    "gz": Form(packing="gz"), "zip": Form(packing="zip"), "parquet": Form(packing="parquet"),
    "utf-16": Form(encoding="utf-16"), "line ends of two signs": Form(packing="crlf"),
    "several files by year": Form(files=3), "several gz files by year": Form(files=2, packing="gz"),
}
