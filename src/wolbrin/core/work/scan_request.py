"""What a scan is asked: frozen, whole, and as JSON."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from wolbrin.core.errors import UserError
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.rules.conditions import NamedCondition
from wolbrin.core.rules.operands import CustomOperand
from wolbrin.core.scan.families import SCANNED
from wolbrin.core.scan.moves import END, MOST_BARS, USUAL
from wolbrin.core.scan.scores import at_horizons
from wolbrin.core.scan.signs import DRAWS, FIRST
from wolbrin.core.search.ingredients import Chosen, Pantry
from wolbrin.core.whole import whole_of
from wolbrin.core.work.readable import readable

Where = tuple[str, int]
COUNT = 10_000
MOST_ROWS = 1_000_000
MOST_HORIZONS = 24


@dataclass(frozen=True)
class ScanRequest:
    """places: markets and intervals, which are one scan together. ingredients: families and single ones; all usual ones where
    there are none. count: rows at most on each place. horizons: bars held, END (0) for the session's end. flat: positions end
    with their session. pairs: rows that fire are asked together with rows that hold, too. draws: of random signs, the first
    `FIRST` of them for a first answer.

    others, own, conditions: what rows may read, filled in when the scan is asked for, so that it stays the same scan. """

    places: tuple[Where, ...]
    ingredients: tuple[Chosen, ...] = ()
    count: int = COUNT
    horizons: tuple[int, ...] = USUAL
    flat: bool = True
    pairs: bool = True
    draws: int = DRAWS
    seed: int = 1
    others: tuple[str, ...] = ()
    own: tuple[CustomOperand, ...] = ()
    conditions: tuple[NamedCondition, ...] = ()

    @property
    def title(self) -> str:
        where = ", ".join(f"{m} {interval_words(i)}" for m, i in self.places[:3])
        more = f" and {len(self.places) - 3} more" if len(self.places) > 3 else ""
        return f"Scan {where}{more}"

    @property
    def levels(self) -> tuple[int, ...]:
        """Horizons in the order in which they are scored."""
        return at_horizons(self.horizons)

    def pantry(self, place: int) -> Pantry:
        """The ingredients of a place. Raises UserError where none is left."""
        market, interval = self.places[place]
        others = tuple(m for m in dict.fromkeys((*self.others, *(m for m, _ in self.places))) if m != market)
        return Pantry(SCANNED, readable(interval, others, self.own, self.conditions), self.ingredients)

    def check(self) -> None:
        """Raises UserError for what cannot be asked."""
        if not self.places:
            raise UserError("no market is chosen", "--market", "Name a market.")
        if len(set(self.places)) < len(self.places):
            raise UserError("a market stands there twice at the same interval", "--market", "Name each once.")
        if not 1 <= self.count <= MOST_ROWS:
            raise UserError(f"1 to {MOST_ROWS:,} rows can be scanned", "rows", "Change the number.")
        if not self.horizons:
            raise UserError("no horizon is chosen", "horizons", "Name bars to hold, such as 1,4,16, or end.")
        if len(self.levels) > MOST_HORIZONS:
            raise UserError(f"at most {MOST_HORIZONS} horizons can be looked at together", "horizons", "Leave some out.")
        wrong = [h for h in self.horizons if h != END and not 1 <= h <= MOST_BARS]
        if wrong:
            raise UserError(f"a horizon lies between 1 and {MOST_BARS} bars, not at {wrong[0]}", "horizons", "Change it.")
        if not FIRST <= self.draws <= DRAWS:
            raise UserError(f"luck is told by {FIRST} to {DRAWS} draws", "draws", "Change the number.")
        if not 0 <= self.seed < 2**31:
            raise UserError("the seed is a whole number from 0 on", "seed", "Change it.")

    def as_json(self) -> dict[str, Any]:
        return {"places": [list(p) for p in self.places], "ingredients": [vars(c) for c in self.ingredients],
                "count": self.count, "horizons": list(self.horizons), "flat": self.flat, "pairs": self.pairs,
                "draws": self.draws, "seed": self.seed, "others": list(self.others),
                "own": [o.model_dump(mode="json") for o in self.own],
                "conditions": [c.model_dump(mode="json") for c in self.conditions]}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> ScanRequest:
        """A stored request. Raises UserError for one that was changed by other hands."""
        try:
            made = cls(tuple((str(m), int(i)) for m, i in data["places"]), tuple(Chosen(**c) for c in data["ingredients"]),
                       int(data["count"]), tuple(int(h) for h in data["horizons"]), bool(data["flat"]), bool(data["pairs"]),
                       int(data["draws"]), int(data["seed"]), tuple(data["others"]),
                       tuple(CustomOperand.model_validate(o) for o in data["own"]),
                       tuple(NamedCondition.model_validate(c) for c in data["conditions"]))
        except (KeyError, TypeError, ValueError):
            raise UserError("this scan was asked in words that this program does not know", "scan", "Run it again.") from None
        made.check()
        return made


def horizon_words(horizon: int) -> str:
    """Such as "4 bars"."""
    return "to the session's end" if horizon == END else "1 bar" if horizon == 1 else f"{horizon} bars"


def read_horizons(text: str) -> tuple[int, ...]:
    """Read "1,2,4,end". Raises UserError."""
    found = []
    for part in text.replace(" ", "").split(","):
        if part.casefold() == "end":
            found.append(END)
        elif bars := whole_of(part):
            found.append(bars)
        else:
            raise UserError(f'"{part}" is no horizon', "horizons",
                            "Write bars with commas, and end for the session's end: 1,4,16,end.")
    return tuple(found)
