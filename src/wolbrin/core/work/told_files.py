"""What files were read as, in one sentence that stands above their first rows. Each part names what changes it."""

from __future__ import annotations

from dataclasses import dataclass

from wolbrin.core.market.intervals import DAILY, interval_words
from wolbrin.core.market.zones import clock_words
from wolbrin.core.work.looking import Judged


@dataclass(frozen=True)
class Part:
    """words: what was read. door: the setting that changes it, as the window calls it; option: as the command line does."""

    words: str
    door: str
    option: str


def read_parts(judged: Judged) -> tuple[Part, ...]:
    """How the files of a market were read: rows, end of the bar, clock, prices, spread."""
    layout, raw = judged.layout, judged.imported.raw
    roles = set(layout.columns)
    rows = "ticks" if not raw.interval else f"{interval_words(raw.interval)} bars"
    parts = [Part(f"{rows} made into bars of {interval_words(layout.build)}" if not raw.interval else rows, "minutes",
                  "--minutes")]
    if raw.interval and raw.interval < DAILY:
        parts.append(Part(f"stamped at their {'start' if layout.stamp == 'open' else 'end'}", "stamp", "--stamp"))
    if raw.interval < DAILY:
        parts.append(Part("UTC told by the stamps" if judged.imported.told_zone else clock_words(layout.zone), "zone",
                          "--zone"))
    if layout.time_format != "iso":
        parts.append(Part(f"times as {layout.time_format}", "time_format", "--time-format"))
    if "price" in roles:
        prices = "prices as traded"
    elif {"bid", "ask"} <= roles:
        prices = "the middle of bid and ask"
    elif "ask close" in roles:
        prices = "bid"
    else:
        prices = "one price a bar" if "open" not in roles and raw.interval else "open, high, low, close"
    parts.append(Part(prices + (f" in fractions of {layout.fraction}" if layout.fraction else ""), "columns", "--layout"))
    spread = next((f for f in judged.findings if f.what == "spread"), None)
    if spread is not None:
        source = "ask" if {"ask", "ask close"} & roles else "a column"
        parts.append(Part(f"{source} gives the spread, {spread.value} in the middle" if spread.value != "not told" else
                          "the spread is not told", "spread_ticks", "--spread-unit"))
    volume = "volume" in roles and bool((raw.volume > 0).any())
    parts.append(Part("with volume" if volume else "no volume", "columns", "--layout"))
    return tuple(parts)


def read_words(judged: Judged) -> str:
    """Such as "5 min bars, stamped at their start, New York plus 7 hours, bid, ask gives the spread, 12 ticks in the
    middle"."""
    return ", ".join(p.words for p in read_parts(judged))
