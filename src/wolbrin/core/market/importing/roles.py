"""What the columns of a file are: by their names, and where there are none by what stands in them."""

from __future__ import annotations

import re
from itertools import permutations

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.importing.fractions import prices_of

# Headers as they occur, without punctuation; common practice, no source.
NAMES = {
    "time": ("time", "timestamp", "datetime", "date time", "time stamp", "open time", "close time", "utc", "epoch", "ts",
             "time utc", "datetime utc", "timestamp utc", "gmt", "gmt time", "local time", "unix", "unix time", "bar time",
             "unnamed 0", "index", "index level 0", "level 0", "time open", "time close", "date utc", "date gmt", "start",
             "end"),
    "date": ("date", "day", "trade date", "dt", "yyyymmdd"),
    "clock": ("clock", "hour", "time of day", "hhmm", "hhmmss", "tm"),
    "open": ("open", "o", "first", "open price", "bid open", "open bid", "bidopen", "openbid", "bid o", "o bid"),
    "high": ("high", "h", "max", "high price", "bid high", "high bid", "bidhigh", "highbid", "bid h", "h bid"),
    "low": ("low", "l", "min", "low price", "bid low", "low bid", "bidlow", "lowbid", "bid l", "l bid"),
    "close": ("close", "c", "settle", "close price", "bid close", "close bid", "bidclose", "closebid", "last price", "bid c",
              "c bid"),
    "ask close": ("ask close", "close ask", "askclose", "closeask", "ask c", "c ask", "offer close", "close offer"),
    "spread": ("spread", "spr", "spread points", "spread pips", "avg spread", "average spread", "mean spread"),
    "volume": ("volume", "vol", "v", "real volume", "traded volume", "total volume", "qty", "size", "quantity", "amount",
               "contracts", "tick volume", "tickvolume", "tickvol", "tick vol", "ticks", "trades", "turnover"),
    "price": ("price", "last", "trade", "tick", "trade price", "mid", "rate", "value"),
    "bid": ("bid", "bid price"),
    "ask": ("ask", "offer", "ask price"),
    "open interest": ("open interest", "openinterest", "oi", "openint", "open int"),
    "market": ("symbol", "ticker", "market", "instrument", "contract", "code", "product", "root"),
}
BY_NAME = {name: role for role, names in NAMES.items() for name in names}
AMOUNTS = ("real volume", "traded volume", "total volume", "volume", "vol", "v", "contracts", "qty", "size", "quantity",
           "amount")
TIME_KINDS = ("joined", "packed", "date", "epoch", "clock", "day clock")
BARS = ("open", "high", "low", "close")
PRICE_ROLES = ("open", "high", "low", "close", "price", "bid", "ask")
NUMBER = re.compile(r"^[+-]?\d[\d .,'\u00a0\u202f]*(?:[eE][+-]?\d+)?$|^[+-]?[.,]\d+(?:[eE][+-]?\d+)?$"
                    r"|^\d{1,6}[-^]\d{1,3}(?:\.\d+)?$|^\d[\d.,]* ?[KMB]$")
LARGEST_NUMBER = 1e12
CLOCK_WORDS = frozenset(("utc", "gmt", "eet", "cet", "est", "edt", "cst", "et", "ct", "local", "exchange", "server",
                         "broker"))
THOUSANDS = {"K": 1e3, "M": 1e6, "B": 1e9}  # behind amounts: 1.2K
SIGNS = "[$\u20ac\u00a3\u00a5\u20b9]"
MONEY = re.compile(rf"^(?:[A-Z]{{3}}\s|{SIGNS}|kr\.?\s?)\s*|\s*(?:\s[A-Z]{{3}}|{SIGNS}|\skr\.?)$")
DAY_FORMS = (r"\d{1,4}[-./ ]\d{1,2}[-./ ]\d{1,4}|\d{1,2}[-./ ]?[A-Za-z\u00c0-\u024f]{3,9}\.?[-./ ]?\d{2,4}"
             r"|[A-Za-z]{3,9} \d{1,2},? \d{2,4}")
DATE = re.compile(rf"^(?:{DAY_FORMS}|(?:19|20)\d{{6}}|\d{{2}}(?:0[1-9]|1[0-2])(?:19|20)\d{{2}})$")
CLOCK = re.compile(r"^\d{1,2}:\d{2}(?::\d{2}(?:[.,]\d+)?)?(?: ?[AaPp][Mm])?$")
DIGIT_CLOCK = re.compile(r"^\d{1,4}$|^\d{5,6}$")
JOINED = re.compile(rf"^(?:[A-Z][a-z]{{2}},? )?(?:{DAY_FORMS}|\d{{8}}|\d{{6}})[ T_:-]"
                    r"\d{1,2}(?:[:.]?\d{2}){0,3}\d{0,3}(?:[.,]\d+)?(?: ?[AaPp][Mm])?"
                    r"(?: ?(?:Z|(?:UTC|GMT)?(?: ?[+-]\d{2}:?\d{2})?)(?: ?\([^)]*\))?)?$")
EPOCH = re.compile(r"^\d{9,19}(?:\.\d+)?$")
PACKED = re.compile(r"^(?:19|20)\d{10}(?:\d{2})?$")


def clock_named(name: str) -> str:
    """The clock that a column's name tells: UTC where it says so, else none."""
    return "UTC" if {"utc", "gmt"} & set(plain_name(name).split()) else ""


def plain_name(name: str) -> str:
    """A header's name without punctuation, in small letters."""
    return re.sub(r"[^a-z0-9]+", " ", re.sub(r"(?<=[a-z])(?=[A-Z])", " ", name.strip()).lower()).strip()


def role_named(name: str) -> str:
    """The role a column of this name has, "skip" where none is known. A clock in it ("Time (EET)") and whose volume it is
    do not matter."""
    words = plain_name(name).split()
    if len(words) > 1 and words[0] in ("volume", "vol"):
        return "volume"
    if len(words) > 1 and set(words) & CLOCK_WORDS:
        name = " ".join(w for w in words if w not in CLOCK_WORDS)
    return BY_NAME.get(plain_name(name), BY_NAME.get(plain_name(name).replace(" ", ""), "skip"))


def is_number(text: str) -> bool:
    return bool(NUMBER.match(MONEY.sub("", text.strip())))


def is_header(fields: list[str]) -> bool:
    """Whether fields are names rather than values."""
    shown = [f for f in fields if f]
    if 2 * sum(f[0].isdigit() or f[0] in "+-$" for f in shown) > len(shown):
        return False
    named = sum(role_named(f) != "skip" for f in shown)
    return bool(shown) and (named >= 3 or not any(is_number(f) or DATE.match(f) or JOINED.match(f) or CLOCK.match(f)
                                                   for f in shown))


def _share(texts: list[str], pattern: re.Pattern[str]) -> float:
    return sum(bool(pattern.match(t)) for t in texts) / len(texts)


def kind_of(texts: list[str]) -> str:
    """What stands in a column: joined, date, clock, epoch, packed, number, word, or empty."""
    shown = [t.strip() for t in texts if t.strip()]
    if len(shown) < 0.05 * len(texts) or not shown:
        return "empty"
    for kind, pattern in (("joined", JOINED), ("packed", PACKED), ("date", DATE), ("clock", CLOCK), ("epoch", EPOCH)):
        if _share(shown, pattern) > 0.8:
            return kind
    return "number" if sum(map(is_number, shown)) > 0.8 * len(shown) else "word"


def is_day_clock(texts: list[str]) -> bool:
    """Whether numbers are times of day such as 935 or 093500."""
    shown = [t.strip() for t in texts if t.strip()]
    if not shown or _share(shown, DIGIT_CLOCK) < 0.95:
        return False
    values = np.array([int(t) if DIGIT_CLOCK.match(t) else -1 for t in shown])
    long = values.max() > 2400
    clock = values // 100 if long else values
    whole = (clock // 100 <= 24) & (clock % 100 < 60) & (values >= 0)
    return bool(whole.mean() > 0.95) and (len(np.unique(values)) > 1 or int(values[0]) == 0)


def _value(text: str, decimal: str) -> float:
    text = MONEY.sub("", text.strip())
    times = THOUSANDS.get(text[-1:], 1.0) if len(text) > 1 and text[0].isdigit() else 1.0
    text = text[:-1].strip() if times != 1.0 else text
    text = text.replace(".", "").replace(",", ".") if decimal == "," else re.sub(r"[,' \u00a0\u202f]", "", text)
    try:
        value = float(text) * times
    except ValueError:
        return float("nan")
    return value if abs(value) <= LARGEST_NUMBER else float("nan")


def _middle(values: NDArray[np.float64]) -> float:
    """The median of what is a number, 0 where nothing is."""
    whole = values[np.isfinite(values)]
    return float(np.median(whole)) if len(whole) else 0.0


def values_of(texts: list[str], decimal: str, fraction: int = 0) -> NDArray[np.float64]:
    """float64[n] of a column's texts, NaN where there is no number. fraction: see `Layout`."""
    if fraction:
        return prices_of(np.array(texts, object), fraction)
    return np.array([_value(t, decimal) for t in texts])


def order_of_four(columns: list[NDArray[np.float64]]) -> tuple[str, str, str, str] | None:
    """Which of four columns is open, high, low, close: the highest, the lowest, and of the other two the one nearer to the
    row before's close. The usual order where it fits; None where no order does."""
    table = np.array(columns)
    whole = np.isfinite(table).all(axis=0)
    table = table[:, whole]
    if table.shape[1] < 2:
        return None
    best: tuple[float, float, tuple[str, ...]] | None = None
    for names in [("open", "high", "low", "close"), *permutations(("open", "high", "low", "close"))]:
        o, h, l, c = (table[names.index(n)] for n in ("open", "high", "low", "close"))  # noqa: E741
        fits = float(np.mean((h >= np.maximum(o, c)) & (l <= np.minimum(o, c)) & (h >= l)))
        jump = float(np.median(np.abs(o[1:] - c[:-1])))
        rank = (round(-fits, 2), jump)
        if best is None or (rank[0] < best[0] or (rank[0] == best[0] and rank[1] < 0.6 * best[1] - 1e-12)):
            best = (*rank, names)
    return tuple(best[2]) if best is not None and best[0] <= -0.9 else None  # type: ignore[return-value]


def by_header(names: list[str], empty: list[bool], kinds: list[str] | None = None) -> tuple[list[str], list[str]]:
    """Roles by names, and notes of choices made. empty: which columns hold nothing but zeros or blanks; kinds: what
    what looks like a time, since a column of row numbers may be called index."""
    roles: list[str] = []
    notes: list[str] = []
    for name in names:
        role = role_named(name)
        roles.append(role if role in ("skip", "volume", "time") or role not in roles else "skip")
    volumes = [i for i, r in enumerate(roles) if r == "volume"]
    if len(volumes) > 1:
        rank = sorted(volumes, key=lambda i: (empty[i], AMOUNTS.index(plain_name(names[i])) if plain_name(names[i]) in AMOUNTS
                                              else 99, i))
        for i in rank[1:]:
            roles[i] = "skip"
        others = ", ".join(f'"{names[i]}"' + (" (empty)" if empty[i] else "") for i in rank[1:])
        notes.append(f'of several volumes "{names[rank[0]]}" is read, not {others}')
    _one_time(roles, kinds)
    if "clock" in roles and "date" not in roles:
        roles[roles.index("clock")] = "time" if "time" not in roles else "skip"
    return _prices_once(roles), notes


def _one_time(roles: list[str], kinds: list[str] | None) -> None:
    """Leave one time: whole stamps before a date and a clock, and a column of row numbers for none."""
    def like(i: int, *wanted: str) -> bool:
        return kinds is None or kinds[i] in wanted

    called = [i for i, r in enumerate(roles) if r == "time"]
    best = next((i for i in called if like(i, *TIME_KINDS)), called[0] if called else -1)
    for i in called:
        if i != best:
            roles[i] = "skip"
    if best < 0 or "date" not in roles:
        return
    date = roles.index("date")
    if kinds is not None and like(date, "joined", "packed", "epoch"):
        roles[date], roles[best] = "time", "skip"  # the date holds the time of day too
    elif kinds is not None and like(best, "joined", "packed", "epoch"):
        roles[date] = "skip"
    else:
        roles[best] = "clock" if like(best, "clock", "day clock") else "skip"


def _prices_once(roles: list[str]) -> list[str]:
    """Roles of which one set of prices is left: bars before single prices, and what tells the spread beside it."""
    if "price" in roles and "close" not in roles and {"open", "high", "low"} <= set(roles):
        roles = ["close" if r == "price" else r for r in roles]  # the last price of a bar
    have = set(roles)
    gone: set[str] = set()
    if set(BARS) <= have:
        gone = {"price", "bid"}
        if "ask" in have and "bid" not in have and "ask close" not in have:
            roles = ["ask close" if r == "ask" else r for r in roles]  # beside bars of bids
        gone |= {"ask"}
        if "ask close" in roles:
            gone |= {"spread"}  # bid and ask say it themselves
    elif "price" in have:
        gone = {"bid", "ask", "ask close", "spread"}
    elif {"bid", "ask"} & have:
        gone = {"ask close", "spread"}
    return ["skip" if r in gone else r for r in roles]


def by_shape(columns: list[list[str]], decimal: str, fraction: int = 0) -> list[str] | None:
    """Roles of columns without names: the time, prices in whatever order fits, then volume and open interest; None where no
    column looks like a time."""
    width = len(columns)
    roles = ["skip"] * width
    kinds = [kind_of(texts) for texts in columns]
    first = next((i for i, k in enumerate(kinds) if k in ("joined", "packed", "date", "epoch")), None)
    if first is None:
        return None
    roles[first] = "time"
    after = first + 1
    if kinds[first] == "date" and after < width and (kinds[after] == "clock" or (
            kinds[after] in ("number", "date") and is_day_clock(columns[after]))):
        roles[first], roles[after] = "date", "clock"
        after += 1
    elif first > 0 and kinds[first] == "date" and kinds[first - 1] == "clock":
        roles[first], roles[first - 1] = "date", "clock"
    words = [i for i in range(width) if kinds[i] == "word" and i < after]
    for i in words[:1]:
        roles[i] = "market"
    numbers = [i for i in range(after, width) if kinds[i] in ("number", "epoch", "date") and roles[i] == "skip"]
    values = {i: values_of(columns[i], decimal, fraction) for i in numbers}
    if len(numbers) >= 4:
        for start in range(len(numbers) - 3):
            four = numbers[start:start + 4]
            order = order_of_four([values[i] for i in four])
            if order is not None:
                for i, role in zip(four, order):
                    roles[i] = role
                rest = [i for i in numbers if i not in four and i > four[-1]]
                close = values[four[order.index("close")]]
                asks = rest[:4]
                if len(asks) == 4 and order_of_four([values[i] for i in asks]) == order and all(
                        _middle(np.abs(values[i] - close)) < 0.02 * _middle(np.abs(close)) for i in asks):
                    roles[asks[order.index("close")]] = "ask close"
                    rest = rest[4:]
                filled = [i for i in rest if np.nan_to_num(values[i]).max() > 0]
                for i, role in zip(filled[:1] or rest[:1], ("volume",)):
                    roles[i] = role
                later = [i for i in filled[1:] if _middle(values[i]) > 3 * _middle(values[filled[0]])]
                if later:
                    roles[later[-1]] = "open interest"
                return roles
        for i, role in zip(numbers, ("open", "high", "low", "close", "volume", "open interest")):
            roles[i] = role
        return roles
    if len(numbers) >= 2:
        a, b = values[numbers[0]], values[numbers[1]]
        near = _middle(np.abs(a - b)) < 0.02 * _middle(np.abs(a))
        if near and np.mean(b >= a) > 0.97:
            roles[numbers[0]], roles[numbers[1]] = "bid", "ask"
            for i in numbers[2:3]:
                roles[i] = "volume"
            return roles
    for i, role in zip(numbers, ("price", "volume")):
        roles[i] = role
    return roles
