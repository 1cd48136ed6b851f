"""Further forms of files, each a whole delivery: typed tables, JSON, workbooks, folders, fractions, spreads, months,
intervals.

Forms are common practice, no source. Each case says what a reader should find, and what it cannot know.
"""

from __future__ import annotations

import bz2
import json
import lzma
import sqlite3
from collections.abc import Callable
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path

import numpy as np
import pandas as pd

from tests.corpus.truth import Truth, rule, truth
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.zones import to_local

NIGHTS = ("Sun", "Mon", "Tue", "Wed", "Thu")
HEAD = "time,open,high,low,close,volume"


@dataclass
class Case:
    """paths: what is chosen. known: what should be found. spread: ticks that the file tells, None where it tells none.
    asks: what it cannot tell, with the right answers. refused: words of the sentence it is refused with. asides: (source,
    interval) beside the main one. rolls: (month left, entered, difference) of a joined future. zone: of the sessions."""

    paths: list[Path]
    known: Truth
    spread: float | None = None
    asks: dict[str, str] = field(default_factory=dict)
    options: tuple[object, ...] = ()
    refused: str = ""
    asides: tuple[tuple[str, int], ...] = ()
    rolls: tuple[tuple[str, str, float], ...] = ()


def times(raw: Raw, clock: str = "UTC") -> pd.DatetimeIndex:
    return pd.DatetimeIndex(to_local(raw.time, clock).view("datetime64[ns]"))


def frame(known: Truth, clock: str = "UTC") -> pd.DataFrame:
    """Bars as a table with their times as index."""
    r = known.raw
    return pd.DataFrame({"open": r.open, "high": r.high, "low": r.low, "close": r.close, "volume": r.volume},
                        index=times(r, clock).rename("time"))


def rows(known: Truth, stamp: str = "%Y-%m-%d %H:%M", clock: str = "UTC", more: Callable[[int],
                                                                                         str] | None = None) -> list[str]:
    """Bars as lines; more: fields behind those of row k."""
    r, d = known.raw, known.terms.digits
    return [f"{t},{o:.{d}f},{h:.{d}f},{l:.{d}f},{c:.{d}f},{v:.0f}" + (f",{more(k)}" if more else "")
            for k, (t, o, h, l, c, v) in enumerate(zip(times(r, clock).strftime(stamp), *r.prices, r.volume))]  # noqa: E741


def text(folder: Path, lines: list[str], name: str, header: str = HEAD) -> list[Path]:
    path = folder / name
    path.write_text("\n".join([*([header] if header else []), *lines]) + "\n")
    return [path]


def power() -> Truth:
    return truth("PWR")


def pair() -> Truth:
    return truth("EURSEK")


def table(make: Callable[[pd.DataFrame, Path], None], name: str, zone: str | None = None) -> Callable[[Path], Case]:
    def case(folder: Path) -> Case:
        known = power()
        data = frame(known)
        if zone is not None:
            data.index = data.index.tz_localize("UTC").tz_convert(zone)
        make(data, folder / name)
        return Case([folder / name], known)
    return case


def unnamed(data: pd.DataFrame, path: Path) -> None:
    data.rename_axis(None).to_parquet(path)


def workbook(data: pd.DataFrame, path: Path) -> None:
    with pd.ExcelWriter(path) as out:
        pd.DataFrame({"about": ["made by hand"]}).to_excel(out, sheet_name="notes", index=False)
        data.to_excel(out, sheet_name="bars", startrow=3, startcol=1)


def in_columns(data: pd.DataFrame, path: Path) -> None:
    known = power().raw
    path.write_text(json.dumps({"s": "ok", "t": (known.time // 10**9).tolist(), "o": known.open.tolist(),
                                "h": known.high.tolist(), "l": known.low.tolist(), "c": known.close.tolist(),
                                "v": known.volume.tolist()}))


def texts(data: pd.DataFrame) -> pd.DataFrame:
    plain = data.reset_index()
    plain["time"] = plain["time"].dt.strftime("%Y-%m-%dT%H:%M:%S")
    return plain


def lined(known: Callable[[], Truth], name: str, stamp: str = "%Y-%m-%d %H:%M", *options: object, header: str = HEAD,
          clock: str = "UTC", asks: dict[str, str] | None = None) -> Callable[[Path], Case]:
    return lambda folder: Case(text(folder, rows(known(), stamp, clock), name, header), known(), asks=asks or {},
                               options=options)


def tree(folder: Path) -> Case:
    """A file a day, by year and month, in a folder that is called like the market."""
    known = power()
    whole = pd.DataFrame({"day": times(known.raw).normalize(), "line": rows(known)})
    for day, part in whole.groupby("day"):
        where = folder / "all" / "PWR" / f"{day:%Y}" / f"{day:%m}"
        where.mkdir(parents=True, exist_ok=True)
        text(where, list(part["line"]), f"{day:%Y-%m-%d}.csv")
    return Case([folder / "all"], known)


def numbered(folder: Path) -> Case:
    known = power()
    return Case(text(folder, [f"{k},{x}" for k, x in enumerate(rows(known))], "PWR.csv", f",{HEAD}"), known)


def spread(header: str, write: Callable[[int, float], str], ticks: float | None, *options: object,
           known: Callable[[], Truth] = pair) -> Callable[[Path], Case]:
    """Bars with a column beside them; write: from spread in ticks and close."""
    def case(folder: Path) -> Case:
        bars = known()
        width = np.random.default_rng(5).integers(6, 9, len(bars.raw))  # in the middle 7
        lines = rows(bars, more=lambda k: write(int(width[k]), float(bars.raw.close[k])))
        return Case(text(folder, lines, f"{bars.terms.code}.csv", f"{HEAD},{header}"), bars, ticks, options=options)
    return case


def last_price(folder: Path) -> Case:
    """The close called price, before the open; amounts in thousands, a dash where there is none; a column of changes."""
    known = power()
    amount = np.where(known.raw.volume >= 300, np.round(known.raw.volume / 100) * 100, 0.0)
    lines = [f'"{t}","{c:,.2f}","{o:,.2f}","{h:,.2f}","{low:,.2f}","{f"{v / 1000:.1f}K" if v else "-"}","0.1%"'
             for t, o, h, low, c, v in zip(times(known.raw).strftime("%m/%d/%Y %H:%M"), *known.raw.prices,
                                         amount)]
    paths = text(folder, lines, "PWR history.csv", '"Date","Price","Open","High","Low","Vol.","Change %"')
    return Case(paths, Truth(known.terms, Raw(15, known.raw.time, *known.raw.prices, amount)))


def spreadsheet_days(folder: Path) -> Case:
    known = power()
    days = known.raw.time / 86_400e9 + 25_569
    lines = [f"{day:.9f},{line.partition(',')[2]}" for day, line in zip(days, rows(known))]
    return Case(text(folder, lines, "PWR.csv"), known)


def stamps_and_dates(folder: Path) -> Case:
    """Seconds since 1970 beside the same date in words, a market column, two volumes that say whose they are."""
    known = power()
    lines = [f"{t // 10**9},{day},PWR,{line.partition(',')[2]},{7 * k}"
             for k, (t, day, line) in enumerate(zip(known.raw.time, times(known.raw).strftime("%Y-%m-%d %H:%M:%S"),
                                                    rows(known)))]
    return Case(text(folder, lines, "export.csv", "unix,date,symbol,open,high,low,close,Volume PWR,Volume EUR"), known)


def named_clock(folder: Path) -> Case:
    """Weeks of winter alone, of which the header says that they are in UTC."""
    known = pair()
    some = Truth(known.terms, known.raw.take(slice(0, 3000)))
    return Case(text(folder, rows(some, "%d.%m.%Y %H:%M:%S.000"), "EURSEK.csv", HEAD.replace("time", "Gmt time")), some)


def partitions(folder: Path) -> Case:
    """Parquet by market, year and month, in folders that name them."""
    data = frame(power()).reset_index()
    for (year, month), part in data.groupby([data["time"].dt.year, data["time"].dt.month]):
        where = folder / "lake" / "symbol=PWR" / f"year={year}" / f"month={month}"
        where.mkdir(parents=True)
        part.to_parquet(where / "part-0.parquet", index=False)
    return Case([folder / "lake"], power())


def closes(folder: Path) -> Case:
    """Bid and ask closes by the quarter of an hour: bars of one price, no ticks."""
    known = pair()
    c = known.raw.close
    one = Truth(known.terms, Raw(15, known.raw.time, c, c, c, c, np.zeros(len(c))))
    lines = [f"{t},{x:.5f},{x + 7e-5:.5f}" for t, x in zip(times(known.raw).strftime("%Y-%m-%d %H:%M"), c)]
    return Case(text(folder, lines, "EURSEK.csv", "time,bid,ask"), one, 7.0)


def eight(folder: Path) -> Case:
    known = pair()
    r = known.raw
    lines = [f"{t}," + ",".join(f"{x:.5f}" for x in (*four, *(p + 7e-5 for p in four))) + f",{v:.0f}"
             for t, *four, v in zip(times(r).strftime("%Y-%m-%d %H:%M"), *r.prices, r.volume)]
    return Case(text(folder, lines, "EURSEK.csv", ""), known, 7.0)


def fractions(write: Callable[[int, float], str], tick: float, level: int) -> Callable[[Path], Case]:
    """Prices in parts of one; write: from whole and rest."""
    def case(folder: Path) -> Case:
        known = power()
        raw = known.raw
        moved = [np.round((p - raw.close[0]) / 0.25) * tick + level for p in raw.prices]
        best = Truth(known.terms.model_copy(update={"tick_size": tick}), Raw(15, raw.time, *moved, raw.volume))
        lines = [",".join([t, *(write(int(p), p - int(p)) for p in four), f"{v:.0f}"])
                 for t, *four, v in zip(times(raw).strftime("%Y-%m-%d %H:%M"), *moved, raw.volume)]
        return Case(text(folder, lines, "PWR.csv"), best)
    return case


QUARTERS = {0.0: 0, 0.25: 2, 0.5: 5, 0.75: 7}


def resampled(known: Truth, step: str) -> pd.DataFrame:
    return frame(known).resample(step).agg({"open": "first", "high": "max", "low": "min", "close": "last",
                                            "volume": "sum"}).dropna()


def two_intervals(first: str, second: str, stamp: str) -> Callable[[Path], Case]:
    def case(folder: Path) -> Case:
        known = power()
        half, day = resampled(known, "30min"), resampled(known, "1D")
        half.to_csv(folder / first, index_label="time", date_format="%Y-%m-%d %H:%M")
        day.to_csv(folder / second, index_label="date", date_format=stamp)
        raw = Raw(30, half.index.to_numpy("datetime64[ns]").view(np.int64), *(half[f].to_numpy() for f in (
            "open", "high", "low", "close")), half["volume"].to_numpy())
        return Case([folder / first, folder / second], Truth(known.terms, raw), asides=(("daily", 1440),))
    return case


def hours_wrong(folder: Path) -> Case:
    known = power()
    day = resampled(known, "1D")
    day.index = day.index + pd.to_timedelta(np.random.default_rng(1).integers(0, 1440, len(day)), unit="m")
    day.to_csv(folder / "PWR_daily.csv", index_label="date", date_format="%Y-%m-%d %H:%M")
    return Case([*text(folder, rows(known), "PWR_15min.csv"), folder / "PWR_daily.csv"], known, refused="times of day")


MONTHS = (("PWH19", "2018-12-01", "2019-03-20"), ("PWM19", "2019-02-01", "2019-06-20"), ("PWU19", "2019-05-01", "2019-09-20"),
          ("PWZ19", "2019-08-01", "2019-12-20"))


def months(apart: bool = False, interest: bool = False) -> Callable[[Path], Case]:
    """Contract months, each seven points above the one before, whose volume passes over; apart: they do not meet."""
    def case(folder: Path) -> Case:
        known = power()
        at, paths = times(known.raw), []
        for i, (code, first, last) in enumerate(MONTHS):
            k = np.flatnonzero((at >= (MONTHS[i - 1][2] if apart and i else first)) & (at < last))
            part = known.raw.take(k)
            busy = np.round(1000 * np.exp(-((np.linspace(0, 1, len(k)) - 0.6) / 0.25) ** 2)) + 1
            own = Truth(known.terms, Raw(15, part.time, *(p + 7 * i for p in part.prices),
                                         np.zeros(len(k)) if interest else busy))
            paths += text(folder, rows(own, "%Y-%m-%dT%H:%MZ", more=lambda j, b=busy: f"{b[j]:.0f}"), f"{code}.csv",
                          f"{HEAD},open interest")
        names = [code[2:] for code, *_ in MONTHS]
        return Case(paths, known, refused="no common trading date" if apart else "",
                    rolls=tuple((a, b, 7.0) for a, b in pairwise(names)))
    return case


def gold(folder: Path) -> Case:
    """Metal by the hour with a break from 17:00 to 18:00 in New York, in the clock of New York and seven hours."""
    known = pair()
    hours = np.unique(known.raw.time // (3600 * 10**9)) * 3600 * 10**9
    local = to_local(hours, "America/New_York") // (3600 * 10**9) % 24
    time = hours[local != 17]
    close = np.round(1500 + np.cumsum(np.random.default_rng(3).normal(0, 1, len(time))), 2)
    terms = Terms(code="XAUEUR", kind="currency pair", tick_size=0.01, point_value=100.0, quote_currency="EUR",
                  time_zone="America/New_York", sessions=(rule(NIGHTS, "18:00", "17:00"),))
    best = Truth(terms, Raw(60, time, close, close + 0.4, close - 0.4, close, np.ones(len(time))))
    return Case(text(folder, rows(best, "%Y.%m.%d %H:%M", "America/New_York+7"), "XAUEUR60.csv"), best)


def no_clock(folder: Path) -> Case:
    """A pair whose stamps go over to other clocks in the middle of the file."""
    known = pair()
    time = known.raw.time.copy()
    time[len(time) // 4:] += 3 * 3600 * 10**9
    time[len(time) // 2:] += 5 * 3600 * 10**9
    moved = Truth(known.terms, Raw(15, time, *known.raw.prices, known.raw.volume))
    return Case(text(folder, rows(moved), "EURSEK.csv"), moved, refused="while currencies are closed")


def database(folder: Path) -> Case:
    with sqlite3.connect(folder / "PWR.db") as made:
        made.execute("CREATE TABLE bars (time TEXT)")
    return Case([folder / "PWR.db"], power(), refused="an SQLite database")


def fixed_width(folder: Path) -> Case:
    known = power()
    lines = [t + "".join(f"{100 * p:010.0f}" for p in four)
             for t, *four in zip(times(known.raw).strftime("%Y%m%d%H%M"), *known.raw.prices)]
    return Case(text(folder, lines, "PWR.txt", ""), known, refused="at fixed places")


def packed(pack: Callable[[bytes], bytes], ending: str) -> Callable[[Path], Case]:
    def case(folder: Path) -> Case:
        path = folder / f"PWR.csv.{ending}"
        path.write_bytes(pack("\n".join([HEAD, *rows(power())]).encode()))
        return Case([path], power())
    return case


CASES: dict[str, Callable[[Path], Case]] = {
    "parquet, pandas index": table(pd.DataFrame.to_parquet, "PWR.parquet"),
    "parquet, index without name, UTC": table(unnamed, "PWR.parquet", "UTC"),
    "parquet, index in Oslo": table(pd.DataFrame.to_parquet, "PWR.parquet", "Europe/Oslo"),
    "feather": table(lambda d, p: d.reset_index().to_feather(p), "PWR.feather"),
    "feather, told": table(lambda d, p: d.reset_index().to_feather(p), "PWR.feather", "America/New_York"),
    "JSON lines": table(lambda d, p: texts(d).to_json(p, orient="records", lines=True), "PWR.jsonl"),
    "JSON array": table(lambda d, p: texts(d).to_json(p, orient="records"), "PWR.json"),
    "JSON arrays": table(lambda d, p: p.write_text(json.dumps(texts(d).to_numpy().tolist())), "PWR.json"),
    "JSON under a name": table(lambda d, p: p.write_text(json.dumps({"code": 0, "data": texts(d).to_dict("records")})),
                               "PWR.json"),
    "JSON by column": table(in_columns, "PWR.json"),
    "workbook, second sheet": table(workbook, "PWR.xlsx"),
    "folder of folders": tree,
    "row numbers": numbered, "last price of a bar": last_price, "spreadsheet days": spreadsheet_days,
    "folders that name year and month": partitions, "stamps beside dates": stamps_and_dates,
    "header names the clock": named_clock,
    "bz2": packed(bz2.compress, "bz2"), "xz": packed(lzma.compress, "xz"),
    "GMT+0000": lined(power, "PWR.csv", "%d.%m.%Y %H:%M:%S.000 GMT+0000"),
    "weekday, month, GMT": lined(power, "PWR.csv", "%a %b %d %Y %H:%M:%S GMT+0000 (UTC)"),
    "offset after a blank": lined(power, "PWR.csv", "%d/%m/%Y %H:%M +0000"),
    "own format": lined(power, "PWR.csv", "%Y at %m|%d and %Hh%M", "--time-format", "%Y at %m|%d and %Hh%M"),
    "interval behind the code": lined(power, "PWR15.csv"),
    "interval behind a pair": lined(pair, "EURSEK15.csv"),
    "letter and interval behind a pair": lined(pair, "EURSEKM15.csv"),
    "New York in UTC+2": lined(lambda: truth("GRN"), "GRN.csv", clock="UTC+2", asks={"--zone": "UTC+2"}),
    "spread in points": spread("spread", lambda w, c: str(w), 7.0),
    "spread in pips": spread("spread", lambda w, c: f"{w / 10:.1f}", 7.0),
    "spread in price": spread("spread", lambda w, c: f"{w / 1e5:.5f}", 7.0),
    "spread of zeros": spread("spread", lambda w, c: "0", None),
    "one spread": spread("spread", lambda w, c: "7", 7.0, "--spread-unit", "points"),
    "asks beside bars": spread("ask", lambda w, c: f"{c + w / 1e5:.5f}", 7.0),
    "bids and asks beside bars": spread("bid,ask", lambda w, c: f"{c:.5f},{c + w / 1e5:.5f}", 7.0),
    "asks that are bids": spread("ask", lambda w, c: f"{c:.5f}", None),
    "spread of a future in price": spread("spread", lambda w, c: f"{w / 4:.2f}", 7.0, known=power),
    "bid and ask closes": closes, "eight prices": eight,
    "32nds with decimals": fractions(lambda w, r: f"{w}'{int(r * 32):02d}.{'5' if r * 32 % 1 else '0'}", 1 / 64, 128),
    "32nds with a third digit": fractions(lambda w, r: f"{w}-{int(r * 32):02d}{QUARTERS[r * 32 % 1]}", 1 / 128, 128),
    "quarters of 32nds": fractions(lambda w, r: f"{w}'{int(r * 32):02d}{QUARTERS[r * 32 % 1]}", 1 / 128, 120),
    "eighths": fractions(lambda w, r: f"{w}'{int(r * 8)}", 0.25, 412),
    "64ths": fractions(lambda w, r: f"{w}-{int(r * 64):02d}", 1 / 64, 109),
    "daily among half hours": two_intervals("PWR_30min.csv", "PWR_daily.csv", "%Y-%m-%d"),
    "intervals behind the code": two_intervals("PWR30.csv", "PWR1440.csv", "%Y-%m-%d %H:%M"),
    "daily with wrong hours": hours_wrong,
    "contract months": months(), "contract months by open interest": months(interest=True),
    "months that do not meet": months(True),
    "metal by the hour": gold, "no clock": no_clock, "database": database, "fixed width": fixed_width,
}
