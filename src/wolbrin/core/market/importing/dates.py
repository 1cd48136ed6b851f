"""How times are written: which pattern reads a file's stamps, judged over a sample of the whole file."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from wolbrin.core.errors import UserError
from wolbrin.core.market.findings import Answer, Finding
from wolbrin.core.market.importing.layout import EPOCHS
from wolbrin.core.market.importing.times import PACKED, SPREADSHEET, formats_like, padded_clock, parse_times

FEW, MOST = 60, 6000
NS_A_DAY = 86_400 * 10**9
CLEARLY = 4.0
ORDERS = {"d": "day", "m": "month", "Y": "year", "y": "year", "b": "month", "B": "month"}
FIRST = {"dmy": "day", "mdy": "month", "ymd": "year"}


@dataclass(frozen=True)
class Written:
    """pattern: that reads the times. good: share of the sample it reads. utc: whether it tells the zone. others: patterns
    that read as much. changes: a sentence where another pattern reads rows that this one does not, else empty."""

    pattern: str
    good: float
    utc: bool
    others: tuple[str, ...]
    sure: bool
    why: str
    changes: str = ""


def order_of(pattern: str) -> str:
    """Day, month and year in the order a pattern has them, such as "day month year"."""
    return " ".join(ORDERS[c] for c in re.findall(r"%([dmYybB])", pattern))


def _epoch(texts: list[str]) -> str:
    size = len(str(int(float(max(texts, key=lambda t: float(t))))))
    return "epoch s" if size <= 11 else "epoch ms" if size <= 14 else "epoch us" if size <= 17 else "epoch ns"


def _read(texts: np.ndarray, pattern: str) -> tuple[np.ndarray, np.ndarray, bool]:
    if pattern.endswith((" %H%M", " %H%M%S", " %H")):
        texts = np.array([_padded(t, pattern) for t in texts], object)
    return parse_times(texts, pattern)


def _padded(text: str, pattern: str) -> str:
    head, gap, clock = text.rpartition(" ")
    return head + gap + str(padded_clock(np.array([clock], object), pattern)[0]) if gap else text


def _merit(texts: np.ndarray, pattern: str) -> tuple[int, int, float]:
    """Steps back in time, days that are weekends, and days from first to last: the less of each, the likelier a reading."""
    stamps, good, _ = _read(texts, pattern)
    stamps = stamps[good]
    if len(stamps) < 2:
        return 0, 0, 0.0
    steps = np.diff(stamps)
    back = int(min((steps < 0).sum(), (steps > 0).sum()))
    days = np.unique(stamps // NS_A_DAY)
    return back, int(((days + 3) % 7 >= 5).sum()), float(days[-1] - days[0] + 1)


def how_written(texts: list[str], name: str, order: str = "", pattern: str = "") -> Written:
    """The pattern of a file's times.

    Args:
        texts: of the whole file, evenly. order: dmy, mdy or ymd where the user has said so. pattern: likewise.
    Raises:
        UserError: no known pattern reads half of them, or not the one that was said.
    """
    every = np.array(texts[:: max(1, len(texts) // MOST)], object)
    if pattern:
        _, right, utc = _read(every, pattern)
        if right.mean() < 0.5:
            wrong = every[int(np.argmin(right))]
            raise UserError(f'"{pattern}" does not read "{wrong}"', f"{name}, time column",
                            "Write the format of the times with the codes of strptime, such as %d.%m.%Y %H:%M.")
        return Written(pattern, float(right.mean()), utc, (), True, "As you said.")
    if all(re.fullmatch(r"\d{9,19}(?:\.\d+)?", t) for t in texts[:FEW]):
        packed = [p for p in PACKED if parse_times(every[:FEW], p)[1].all()]
        if packed:
            return Written(packed[0], float(parse_times(every, packed[0])[1].mean()), False, (), True,
                           "The digits are year, month, day and time of day.")
        numbers = [t for t in every if re.fullmatch(r"\d{9,19}(?:\.\d+)?", t)]
        unit = _epoch(numbers)
        return Written(unit, len(numbers) / len(every), True, (), True, "Numbers of this size count from 1970, in UTC.")
    if all(re.fullmatch(r"[2-6]\d{4}(?:\.\d+)?", t) for t in texts[:FEW]):
        read = float(parse_times(every, SPREADSHEET)[1].mean())
        return Written(SPREADSHEET, read, False, (), True,
                       "Numbers of this size count days as spreadsheets do.")
    some = every[np.linspace(0, len(every) - 1, min(FEW, len(every))).astype(int)]
    wanted = list(dict.fromkeys(["iso", *(p for t in some[:: max(1, len(some) // 12)] for p in formats_like(t))]))
    if order:
        wanted = [p for p in wanted if (p == "iso" and order == "ymd") or order_of(p).startswith(FIRST[order])] or wanted
    longest = max((len(t.rpartition(" ")[2]) for t in some if t.rpartition(" ")[2].isdigit()), default=0)
    # Clocks of digits alone: four of them are hours and minutes, six are seconds too.
    wanted = [p for p in wanted if not any(p.endswith(end) and not least <= longest <= most for end, least, most in (
        (" %H%M%S", 5, 6), (" %H%M", 0, 4), (" %H", 0, 2), (" %H%M%S%f", 7, 15)))] or wanted
    first = {p: float(_read(some, p)[1].mean()) for p in wanted}
    likely = [p for p in wanted if first[p] >= 0.2]
    rates = {p: float(_read(every, p)[1].mean()) for p in likely}
    top = max(rates.values(), default=0.0)
    if top < 0.5:
        raise UserError(f'"{texts[0]}" is not a time this program can read', f"{name}, time column",
                        "Choose the column that holds the time, or write its format with --time-format, such as \"%d.%m.%Y "
                        "%H:%M\".")
    good = [p for p in likely if rates[p] >= top - 1e-9]
    changes = _changes(every, good[0], [p for p in likely if p not in good]) if top < 0.98 else ""
    zoned = any(p.endswith("%z") for p in good)
    if "iso" in good:
        utc = bool(_read(every, "iso")[2])
        return Written("iso", top, utc, (), True, "Year, month, day as ISO 8601 has them"
                       + (", with their offset from UTC." if utc else ", without a zone."), changes)
    # Of patterns that differ in nothing but letters or zeros the first will do.
    merits = {p: _merit(every, p) for p in good}
    good.sort(key=lambda p: merits[p])
    best = good[0]
    others = [p for p in good[1:] if not np.array_equal(_read(every, p)[0], _read(every, best)[0])]
    if not others:
        tells = "a day above 12 shows the order" if any(c in best for c in ("%d", "%m")) and "%b" not in best.lower() else (
            "month names show the order")
        tells += ", with their offset from UTC" if zoned else ""
        return Written(best, top, bool(zoned), (), True, f"Dates are {order_of(best)}: {tells}.", changes)
    a, b = merits[best], merits[others[0]]
    told = a[0] < b[0] or (a[0] == b[0] and (a[2] * CLEARLY < b[2] or a[1] < b[1]))
    why = (f"Read as {order_of(best)} the days follow each other; read as {order_of(others[0])} they would not."
           if told else f'Dates such as "{texts[0]}" could be {order_of(best)} or {order_of(others[0])}.')
    return Written(best, top, bool(zoned), tuple(others[:3]), told, why, changes)


def _changes(texts: np.ndarray, pattern: str, others: list[str]) -> str:
    """Where the file goes over to another pattern, in words."""
    missed = texts[~_read(texts, pattern)[1]]
    for other in others:
        if _read(missed, other)[1].mean() > 0.8:
            return (f'Times change their form within the file: most are written as {pattern}, others as {other}, the first '
                    f'"{missed[0]}". Those rows are left out and listed; cut the file there to read both parts.')
    return ""


def date_finding(written: Written, sample: list[str]) -> Finding:
    """The finding about how times are written, a question where two readings are left."""
    def means(pattern: str) -> str:
        out, good, _ = _read(np.array(sample[:1], object), pattern)
        moment = str(np.datetime64(int(out[0]), "ns").astype("datetime64[m]")).replace("T", " ")
        return f'"{sample[0]}" is {moment}' if good[0] else ""

    answers = tuple(Answer(p, means(p)) for p in (written.pattern, *written.others)) if written.others else ()
    words = written.pattern if written.pattern in (*EPOCHS, "iso", SPREADSHEET) else (
        f"{order_of(written.pattern)} ({written.pattern})")
    return Finding("times are written", words, written.why, written.sure, not written.sure, "--date-order", answers)
