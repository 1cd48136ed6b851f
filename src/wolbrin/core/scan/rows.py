"""Which rows a scan looks at: small families whole, session and prices also at each bar of the session, the others by an even
grid over their settings.

The grid is a low-discrepancy sequence (Roberts 2018, generalised golden ratio; Kronecker's), so that any number of rows
spreads evenly over every setting and over all of them together, and the same number always asks the same rows.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wolbrin.core.indicators.catalogue import CUMULATIVE
from wolbrin.core.indicators.catalogue import find as indicator_of
from wolbrin.core.rules.model import RANKED, UNARY, Condition, FieldOperand, IndicatorOperand, NumberOperand, Row
from wolbrin.core.rules.operands import CustomOperand, Operand
from wolbrin.core.scan.families import CLOCK, LED, WEEK
from wolbrin.core.search.ingredients import LONGER_SHARE, OTHER_SHARE, RARE_SHARE, ROWS, Ingredient, Pantry

AT_SHARE = 0.3  # of the rows at most are rows at one bar of the session
WHOLE_SHARE = 0.5  # of the rows at most are of families that come whole
SMALL = 1_000  # rows of a family that comes whole
AT_FAMILIES = ("session", "price")
FIRST_AT = ("session:session_open", "session:prior_session", "session:gap", "session:vwap", "session:opening_range", "price:")
STATES = ("above", "below", "makes a new high", "makes a new low")
SUMS = CUMULATIVE | {"sum"}
MOST_AT = 96  # bars of a session at which rows are read


@dataclass(frozen=True)
class Choice:
    """Rows of a scan in the order in which they are worked out. codes: int64[r] of the pantry; at: int16[r], the bar of the
    session at which it is read, 0 at any. group: int8[r], 0 clock, calendar and session, 1 all others."""

    codes: np.ndarray
    at: np.ndarray
    group: np.ndarray

    def __len__(self) -> int:
        return len(self.codes)

def spread(dimensions: int, count: int) -> np.ndarray:
    """float64[count, dimensions] in [0, 1), evenly spread; the first values of a longer sequence are the same."""
    ratio = 2.0
    for _ in range(60):
        ratio = (1.0 + ratio) ** (1.0 / (dimensions + 1))
    alpha = ratio ** -np.arange(1, dimensions + 1)
    return (0.5 + np.arange(1, count + 1)[:, None] * alpha) % 1.0


def grid(item: Ingredient, count: int) -> np.ndarray:
    """Numbers of at most so many rows of an ingredient, int64[k], evenly over its settings; longer intervals, other markets
    and ways to last in time have their stated shares."""
    if item.size <= count:
        return np.arange(item.size, dtype=np.int64)
    found: dict[int, None] = {}
    tried = 0
    while len(found) < count and tried < 8 * count + 64:
        more = max(64, count)
        for u in spread(len(item.shape), tried + more)[tried:]:
            found.setdefault(item.number([_digit(item, at, float(x)) for at, x in enumerate(u)]))
            if len(found) >= count:
                break
        tried += more
    return np.array(sorted(found), np.int64)


def _digit(item: Ingredient, at: int, u: float) -> int:
    levels = item.shape[at]
    if at == 0 and item.places is not None:
        longer, others = item.places
        longer_share, other_share = LONGER_SHARE if longer else 0.0, OTHER_SHARE if others else 0.0
        if u < longer_share:
            return 1 + int(u / longer_share * longer)
        if u >= 1.0 - other_share:
            return 1 + longer + min(others - 1, int((u - 1.0 + other_share) / other_share * others))
        return 0
    if at < item.rare:
        return 1 + min(levels - 2, int(u / RARE_SHARE * (levels - 1))) if levels > 1 and u < RARE_SHARE else 0
    if item.groups and at == len(item.shape) - 1:
        group = int(u * len(item.groups))
        inside = u * len(item.groups) - group
        return sum(item.groups[:group]) + int(inside * item.groups[group])
    return int(u * levels)


def choose_rows(pantry: Pantry, count: int, longest: int) -> Choice:
    """So many rows of a choice of ingredients, fewer where they have no more. longest: bars of a session."""
    families: dict[str, list[int]] = {}
    for which, item in enumerate(pantry.items):
        families.setdefault(item.family, []).append(which)
    sizes = {key: sum(pantry.items[i].size for i in items) for key, items in families.items()}
    codes: list[np.ndarray] = []
    room = count

    def take(which: int, most: int) -> int:
        found = grid(pantry.items[which], most)
        codes.append((which << ROWS) + found)
        return len(found)

    whole: set[str] = set()
    left = max(int(count * WHOLE_SHARE), count if len(families) == 1 else 0)
    for key in sorted(families, key=lambda k: sizes[k]):
        if 0 < sizes[key] <= min(SMALL if key != LED else max(SMALL, left), left):
            whole.add(key)
            for which in families[key]:
                left -= take(which, pantry.items[which].size)
    room -= sum(len(c) for c in codes)
    bases = _bases(pantry, families)
    at_codes, at_bars = _at_bars(bases, min(int(AT_SHARE * count), room), longest)
    room -= len(at_codes)
    known = {int(c) for some in codes for c in some}
    plainest = np.array([b for b in bases if b not in known][:max(0, room)], np.int64)
    codes.append(plainest)
    room -= len(plainest)
    rest = [k for k in families if k not in whole]
    codes += _shared(pantry, {k: families[k] for k in rest}, room)
    plain = _once(pantry, np.unique(np.concatenate(codes)))
    every, at = np.concatenate([plain, at_codes]), np.concatenate([np.zeros(len(plain), np.int16), at_bars])
    clock = np.array([pantry.items[int(c) >> ROWS].family in CLOCK for c in every], bool)
    group = np.where(clock, 0, 1).astype(np.int8)
    # Rows of one series follow one another, so that few columns need be at hand; the clock comes first, being quick, and of
    # it the hours of the week, which are a picture of their own.
    week = np.array([pantry.items[int(c) >> ROWS].family != WEEK for c in every], bool)
    order = np.lexsort((at, every, week, group))
    every, at, group = every[order], at[order], group[order]
    return Choice(every, at, group)


def _once(pantry: Pantry, codes: np.ndarray) -> np.ndarray:
    """Without conditions of the library that stand under several tags."""
    seen: set[str] = set()
    keep = np.ones(len(codes), bool)
    for at, code in enumerate(codes.tolist()):
        item = pantry.items[code >> ROWS]
        if item.family == "library":
            node = item.make(item.digits(code & ((1 << ROWS) - 1)), lambda operand, share: float("nan"))
            text = "" if node is None else node.model_dump_json()
            keep[at] = text not in seen
            seen.add(text)
    return codes[keep]


def _shared(pantry: Pantry, families: dict[str, list[int]], room: int) -> list[np.ndarray]:
    """Rows of families by their weights; what one has no use for goes to the others."""
    weights = {which: pantry.weights[which] for items in families.values() for which in items}
    taken: dict[int, int] = dict.fromkeys(weights, 0)
    open_ = sorted((i for i in weights if pantry.items[i].size), key=lambda i: -weights[i])
    left = room
    while left > 0 and open_:
        total = sum(weights[i] for i in open_)
        before = left
        for which in list(open_):
            more = min(pantry.items[which].size - taken[which], max(1, int(before * weights[which] / total)), left)
            taken[which] += more
            left -= more
            if taken[which] >= pantry.items[which].size:
                open_.remove(which)
            if left <= 0:
                break
    return [(which << ROWS) + grid(pantry.items[which], n) for which, n in taken.items() if n]


def _bases(pantry: Pantry, families: dict[str, list[int]]) -> list[int]:
    """Codes of the plainest rows of session and prices: states, as they stand now, on the market's own bars. Two of each
    ingredient come first, those of the session's own lines before others."""
    found = {which: [(which << ROWS) + number for number in _states(pantry.items[which])]
             for key in AT_FAMILIES for which in families.get(key, ())}
    ordered = sorted(found, key=lambda which: (_rank(pantry.items[which]), which))
    most = max((len(x) for x in found.values()), default=0)
    return [found[which][at] for turn in range(0, most, 2) for which in ordered
            for at in range(turn, min(turn + 2, len(found[which])))]


def _at_bars(bases: list[int], room: int, longest: int) -> tuple[np.ndarray, np.ndarray]:
    """The plainest rows at each bar of the session; where there is no room for all, the first of them."""
    bars = list(range(1, min(longest, MOST_AT)))
    if not bases or not bars or room <= 0:
        return np.zeros(0, np.int64), np.zeros(0, np.int16)
    if len(bars) > room:
        bars = [bars[i] for i in np.unique(np.linspace(0, len(bars) - 1, room).round().astype(int))]
    bases = bases[:max(1, room // len(bars))]
    return np.repeat(np.array(bases, np.int64), len(bars)), np.tile(np.array(bars, np.int16), len(bases))


def _rank(item: Ingredient) -> int:
    """Which ingredients come first at the bars of the session."""
    return next((at for at, start in enumerate(FIRST_AT) if item.key.startswith(start)), len(FIRST_AT))


def _states(item: Ingredient) -> list[int]:
    """Numbers of the rows of an ingredient that are states of the market's own price as it stands now: above or below a line,
    an earlier price or zero, a new high or low."""
    if item.key.startswith("price:") and item.key not in ("price:before", "price:move"):
        return []
    found = []
    for number in _front(item):
        row = item.make(item.digits(number), lambda operand, share: float("nan"))
        if isinstance(row, Row) and row.compare in STATES and _of_close(row):
            found.append(number)
    return found


def _front(item: Ingredient) -> list[int]:
    """Numbers whose rare digits are 0."""
    rest = int(np.prod(item.shape[item.rare:], dtype=np.int64))
    return list(range(min(rest, 4_000)))


def _of_close(row: Row) -> bool:
    left, right = row.left, row.right
    if isinstance(left, IndicatorOperand):
        return isinstance(right, NumberOperand)
    if not isinstance(left, FieldOperand) or left.field != "close":
        return False
    return row.compare in UNARY or not isinstance(right, FieldOperand) or right.field == "close"


def at_bar(node: Row | Condition, bar: int) -> Row | Condition:
    """A row at one bar of the session, counted from 1."""
    if not bar:
        return node
    here = Row(left=IndicatorOperand(indicator="bars_in_session"), compare="equals", right=NumberOperand(value=float(bar)))
    joined = isinstance(node, Condition) and node.match == "all" and node.when == "now" and not node.back
    return Condition(rows=(*node.rows, here) if joined and isinstance(node, Condition) else (node, here))


def unanchored(node: Row | Condition) -> Operand | None:
    """The series of a row that compares it with a level learned from training, where such a level may say when in the history
    it is: prices, sums, and what is the user's own. None where it has no such level."""
    if not isinstance(node, Row) or not isinstance(node.right, NumberOperand) or node.compare in (*UNARY, *RANKED):
        return None
    return node.left if isinstance(node.left, IndicatorOperand | CustomOperand) else None


def says_when(series: Operand) -> bool:
    """Whether a series is known to be unanchored: a price, a function of one, or a sum of what has no fixed mean."""
    if not isinstance(series, IndicatorOperand):
        return False
    entry = indicator_of(series.indicator)
    return (entry.group == "arithmetic" or series.indicator in SUMS or entry.output(series.output).nature == "price")
