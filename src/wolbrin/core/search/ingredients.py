"""What Discover builds conditions from: ingredients, each with all its rows in a numbered order.

A row of an ingredient is a number with digits: where its series is read, how it lasts in time, each setting on a ladder, and
how it is compared. So the rows that a choice spans can be counted, each is the same wherever it is drawn, and a search moves
from one row to another by changing a digit.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property
from math import prod

from wolbrin.core.errors import UserError
from wolbrin.core.rules.model import Condition, Row
from wolbrin.core.rules.operands import Operand

Node = Row | Condition
Level = Callable[[Operand, float], float]
Digits = tuple[int, ...]
RARE_SHARE = 0.15  # of rows last in time
LONGER_SHARE, OTHER_SHARE = 0.10, 0.04  # of rows read a longer interval, or another market
ROWS = 40  # bits of a code that number the row; those above number the ingredient
AT, MOST_AT = 54, 127  # from this bit on: the bar of the session at which alone a row is read, 0 at any
TURNED, NOT = 1 << 61, 1 << 62  # its mirror image; where it does not hold
PLAIN = (1 << AT) - 1  # what names a row without that
PLACES_KEYS = ("longer", "markets")  # not rows of their own: where the others may be read


@dataclass(frozen=True)
class Ingredient:
    """One source of rows.

    key: "family:name". shape: how many values each digit has. make(digits, level) gives the row, None where there is none,
    such as a level that its series has no value for; level(operand, share): the value that this share of the operand's values
    in training lie below. rare: so many digits at the front are usually 0. groups: of the values of the last digit, which
    are asked alike as groups; all in one where there are none. places: the first digit is where the series is read: here, at
    so many longer intervals, on so many other markets.
    """

    key: str
    title: str
    shape: Digits
    make: Callable[[Digits, Level], Node | None]
    rare: int = 0
    groups: Digits = ()
    places: tuple[int, int] | None = None

    @property
    def family(self) -> str:
        return self.key.partition(":")[0]

    @cached_property
    def size(self) -> int:
        """How many rows it has."""
        return prod(self.shape)

    def digits(self, number: int) -> Digits:
        """Digits of a row's number."""
        out = []
        for levels in reversed(self.shape):
            number, digit = divmod(number, levels)
            out.append(digit)
        return tuple(reversed(out))

    def number(self, digits: Sequence[int]) -> int:
        """The number of a row by its digits."""
        found = 0
        for digit, levels in zip(digits, self.shape):
            found = found * levels + digit
        return found


@dataclass(frozen=True)
class Family:
    """Ingredients that belong together. weight: how often it is asked, beside the others."""

    key: str
    title: str
    weight: float
    make: Callable[[Sources], Iterable[Ingredient]]


@dataclass(frozen=True)
class Sources:
    """What a search may read beside its own bars. interval: of those, in minutes (market.intervals); others: codes of other
    markets; named: codes of all there are, for rows that are about another market by themselves; own: series of the user's
    confirmed indicators; library: named conditions with their tags, the user's first; longer: whether longer intervals are
    read."""

    interval: int
    others: tuple[str, ...] = ()
    own: tuple[Operand, ...] = ()
    library: tuple[tuple[str, Node, tuple[str, ...]], ...] = ()
    longer: tuple[int, ...] = ()
    named: tuple[str, ...] = ()


@dataclass(frozen=True)
class Chosen:
    """A family or one ingredient, and how often it is asked beside the others."""

    key: str
    weight: float


def parse_chosen(texts: Sequence[str]) -> tuple[Chosen, ...]:
    """Read "trend,session*2,library:mine,oscillator:rsi". Raises UserError where it cannot be read."""
    out = []
    for text in (part for one in texts for part in one.split(",")):
        key, star, weight = text.strip().partition("*")
        try:
            value = float(weight) if star else 1.0
        except ValueError:
            value = -1.0
        if not key.strip() or not 0 < value <= 1000:
            raise UserError(f'"{text.strip()}" is not an ingredient', "--ingredients",
                            "Write for example trend,session*2,library:mine; a weight is above 0 and at most 1,000.")
        out.append(Chosen(key.strip().casefold(), value))
    if not out:
        raise UserError("no ingredient is chosen", "--ingredients", "Name at least one family.")
    return tuple(out)


MINE = 'there is no condition of your own yet for "library:mine": keep one under a name in Rules'


class Pantry:
    """The ingredients of one search, chosen among all that there are.

    chosen: families and ingredients with their weights; all families with their usual weights where it is empty. Within a
    family all its ingredients are asked alike.
    """

    def __init__(self, families: Sequence[Family], sources: Sources, chosen: Sequence[Chosen] = ()) -> None:
        places = {c.key for c in chosen} & set(PLACES_KEYS)
        if chosen:
            sources = Sources(sources.interval, sources.others if "markets" in places else (), sources.own, sources.library,
                              sources.longer if "longer" in places else (), sources.named)
        self.every = [(f, tuple(f.make(sources))) for f in families]
        known = {f.key: (f, items) for f, items in self.every}
        picked: dict[str, tuple[Ingredient, float]] = {}

        def add(items: Sequence[Ingredient], weight: float) -> None:
            for one in items:
                before = picked[one.key][1] if one.key in picked else 0.0
                picked[one.key] = one, before + weight / len(items)

        if not chosen:
            for family, items in self.every:
                if items and family.weight > 0:
                    add(items, family.weight)
        for c in chosen:
            if c.key in PLACES_KEYS:
                continue
            family_key = c.key.partition(":")[0]
            if family_key not in known:
                raise UserError(f'there is no ingredient "{c.key}"', "--ingredients",
                                f"There are {', '.join([*known, *PLACES_KEYS])}.")
            family, items = known[family_key]
            some = items if c.key == family_key else [i for i in items if i.key.casefold() == c.key]
            if not some:
                what = f"the family {family_key} has nothing here" if c.key == family_key else f'there is no "{c.key}"'
                raise UserError(MINE if c.key == "library:mine" else what, "--ingredients",
                                f"It has {', '.join(i.key for i in items) or 'none'}.")
            add(some, c.weight * (family.weight or 0.05))
        if not picked:
            raise UserError("no ingredient is chosen that gives a condition", "ingredients", "Tick at least one family.")
        self.items = tuple(i for i, _ in picked.values())
        total = sum(w for _, w in picked.values())
        self.weights = tuple(w / total for _, w in picked.values())

    def item(self, code: int) -> Ingredient:
        """The ingredient of a row."""
        return self.items[(code & PLAIN) >> ROWS]

    @cached_property
    def size(self) -> int:
        """How many different rows the choice spans."""
        return sum(i.size for i in self.items)

    def node(self, code: int, level: Level) -> Node | None:
        """The row of a code as it reads at any bar, whatever else the code says."""
        item = self.item(code)
        return item.make(item.digits(code & ((1 << ROWS) - 1)), level)

    def code(self, ingredient: int, digits: Sequence[int]) -> int:
        """The code of a row."""
        return (ingredient << ROWS) | self.items[ingredient].number(digits)
