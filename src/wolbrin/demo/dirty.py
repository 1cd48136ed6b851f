"""Files for trying the import on: a dirty one whose every fault is known, contract months, ticks. All prices made up."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

import numpy as np

from wolbrin.core.market.bars import Bars, Span
from wolbrin.core.market.zones import to_local
from wolbrin.demo.generator import mix

FIRST, LAST = dt.date(2021, 2, 1), dt.date(2021, 4, 12)
HEADER = "Date;Time;Open;High;Low;Close;Volume\n"


@dataclass(frozen=True)
class Planted:
    """What is wrong in the dirty file: bad rows by reason, and UTC ns of bars by fault."""

    bad_rows: int
    repeated: int
    contradicting: tuple[int, ...]
    spikes: tuple[int, ...]
    flat: tuple[int, ...]
    gap: tuple[int, ...]
    missing_days: int
    outside: int
    off_grid: tuple[int, ...]


def _number(value: float, digits: int = 1) -> str:
    return f"{value:.{digits}f}".replace(".", ",")


def _line(local_ns: int, prices: list[float], volume: int, digits: int = 1) -> str:
    when = dt.datetime.fromtimestamp(local_ns / 1e9, tz=dt.UTC)
    return f"{when:%d.%m.%Y};{when:%H:%M};{';'.join(_number(p, digits) for p in prices)};{volume}"


def dirty_file(clean: Bars) -> tuple[str, Planted]:
    """A CSV of COB in exchange time, with semicolons and decimal commas, and what was done to it.

    Args:
        clean: the market's bars without faults.
    """
    first, stop = clean.range_of(Span(FIRST, LAST))
    bars = np.stack([clean.open, clean.high, clean.low, clean.close], axis=1)[first:stop].copy()
    time, session = clean.time[first:stop], clean.session[first:stop]
    volume = clean.volume[first:stop].astype(int)
    local = to_local(time, clean.terms.time_zone)
    n = len(time)
    minute = time // (60 * 10**9) % 1440
    spikes = np.flatnonzero(minute == 23 * 60)[[5, 14, 30, 41]]
    for j, at in enumerate(spikes):
        bars[at, 1 if j % 2 else 2] += (95.0 + 8 * j) * (1 if j % 2 else -1)
    flat = np.arange(3_000, 3_014)
    bars[flat] = bars[flat[0] - 1, 3]
    volume[flat] = 0
    contradicting = np.array([1_501, 7_002])
    bars[contradicting, 1] = np.minimum(bars[contradicting, 0], bars[contradicting, 3]) - 0.5
    off_grid = np.array([888, 889, 5_432])
    stays = np.ones(n, bool)
    gap = np.arange(4_405, 4_429)
    stays[gap] = False
    lost = session == session[6_000]
    stays[lost] = False
    lines = []
    for i in np.flatnonzero(stays):
        prices = bars[i].tolist()
        digits = 1
        if i in off_grid:
            prices[3] = prices[3] + (0.2 if prices[3] + 0.2 <= prices[1] else -0.2)
        lines.append(_line(int(local[i]), prices, int(volume[i]), digits))
    again = [lines[700], lines[2_500].rsplit(";", 2)[0] + f";{_number(bars[2_500, 2])};1"]
    lines[701:701] = again[:1]
    lines[2_502:2_502] = again[1:]
    saturday = np.datetime64("2021-03-20T14:00", "ns").astype(np.int64)
    outside = [_line(int(saturday) + k * 300 * 10**9, [2_400.0, 2_400.5, 2_399.5, 2_400.0], 3) for k in range(6)]
    place = next(i for i, line in enumerate(lines) if line.startswith("22.03.2021"))
    lines[place:place] = outside
    bad = ["31.02.2021;10:00;2400,0;2401,0;2399,0;2400,5;12", "halt;;;;;;", "05.03.2021;03:15;2400,0;n/a;2399,0;2400,5;9",
           "06.03.2021;04:20;2400,0;2401,0"]
    for k, line in enumerate(bad):
        lines[1_000 * (k + 1):1_000 * (k + 1)] = [line]
    planted = Planted(len(bad), len(again), tuple(time[contradicting].tolist()), tuple(time[spikes].tolist()),
                      tuple(time[flat].tolist()), tuple(time[gap].tolist()), 1, len(outside), tuple(time[off_grid].tolist()))
    return HEADER + "\n".join(lines) + "\n", planted


def contract_months(bars: Bars) -> dict[str, str]:
    """Four hourly contract months by file name, with volume and open interest that move from one to the next.

    Each month trades at a premium over the one before, so that unadjusted prices jump at a roll.
    """
    files = {}
    ends = [dt.date(2021, 3, 12), dt.date(2021, 6, 11), dt.date(2021, 9, 10), dt.date(2021, 12, 10)]
    for number, end in enumerate(ends):
        begin = end - dt.timedelta(days=130)
        first, stop = bars.range_of(Span(begin, end))
        premium = 38.0 * number
        rows = ["time,open,high,low,close,volume,open interest"]
        for i in range(first, stop):
            left = (np.datetime64(end) - np.datetime64(int(bars.time[i]), "ns").astype("datetime64[D]")).astype(int)
            # Trade moves to the next month about eight days before a month ends.
            weight = 0.05 if left > 98 else 0.25 if left > 90 else 1.0 if left > 8 else 0.3
            when = str(np.datetime64(int(bars.time[i]), "ns").astype("datetime64[m]")).replace("T", " ")
            prices = ",".join(f"{float(p[i]) + premium:.0f}" for p in (bars.open, bars.high, bars.low, bars.close))
            rows.append(f"{when},{prices},{int(bars.volume[i] * weight)},{int(40_000 * weight)}")
        files[f"hfr-{end:%Y-%m}.csv"] = "\n".join(rows) + "\n"
    return files


def tick_file(bars: Bars, day: dt.date = dt.date(2021, 3, 5)) -> str:
    """Bid and ask of one day, several times a bar, that stay inside the day's bars."""
    first, stop = bars.range_of(Span(day, day))
    tick = bars.terms.tick_size
    rows = ["time,bid,ask,volume"]
    for i in range(first, stop):
        path = [bars.o[i], bars.l[i], bars.h[i], bars.c[i]]
        if bars.h[i] - bars.o[i] < bars.o[i] - bars.l[i]:
            path[1], path[2] = path[2], path[1]
        points = np.interp(np.linspace(0, 3, 30), np.arange(4), np.array(path, float))
        for k, point in enumerate(points):
            wobble = int(np.int64(mix(np.uint64(7), np.int64(i), np.int64(k)) & np.uint64(3)))
            ns = int(bars.time[i]) + k * 10 * 10**9 + wobble * 10**9
            stamp = str(np.datetime64(ns, "ns").astype("datetime64[ms]")).replace("T", " ")
            mid = min(max(round(float(point)), int(bars.l[i])), int(bars.h[i])) * tick
            rows.append(f"{stamp},{mid - tick / 2:.3f},{mid + tick / 2:.3f},{1 + wobble}")
    return "\n".join(rows) + "\n"
