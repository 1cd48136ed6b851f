"""What a search of Discover is asked: frozen, whole, and as JSON."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from wolbrin.core.errors import UserError
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.sums import COMPILED
from wolbrin.core.models import Model
from wolbrin.core.rules.conditions import NamedCondition
from wolbrin.core.rules.operands import CustomOperand
from wolbrin.core.scan.families import SCANNED
from wolbrin.core.scan.informed import COUNT
from wolbrin.core.search.families import FAMILIES
from wolbrin.core.search.ingredients import Chosen, Pantry, Sources
from wolbrin.core.search.limits import Limits, informed_limits
from wolbrin.core.search.objective import Floor, Objective, read_objective
from wolbrin.core.search.strength import MOST_CONTROLS
from wolbrin.core.search.twins import ALIKE
from wolbrin.core.study.shuffle import DEALING
from wolbrin.core.work.readable import readable

Where = tuple[str, int]
MOST_ROWS = 100_000
Method = Literal["informed", "random", "evolve"]
METHODS: tuple[Method, ...] = ("informed", "random", "evolve")
USUAL_METHOD: Method = "informed"
USUAL_COUNT: dict[Method, int] = {"informed": 2_304, "random": 20_000, "evolve": 20_000}  # tried on each place at most
USUAL_CONTROLS: dict[Method, int] = {"informed": 4, "random": 3, "evolve": 3}


def usual_limits(method: str) -> Limits:
    """What a search of this kind may build, where nothing else is said."""
    return informed_limits() if method == "informed" else Limits()


class OldRequestError(UserError):
    """A search that an older program asked, in other words than today's."""


@dataclass(frozen=True)
class DiscoverRequest:
    """places: markets and intervals, each searched by itself; or, with hold, candidates must pass on all of them.
    ingredients: families and single ones; all where there are none. objective: what "best" means and an evolution looks for.
    count: candidates tried at most on each place; until_kept, seconds: ends before that, 0 for not. controls: the same search
    on so many shuffled histories beside it; drift: they keep the drift of the market. alike: correlation of daily results
    from which two are near-twins.

    rows: that an informed search looks at first, on each history. without: standing floors that are taken out (see
    floors.standing); dealing: how the controls' bars are dealt, see study.shuffle. others, own, conditions: what rows may
    read, filled in when the search is asked for, so that it stays the same search. """

    places: tuple[Where, ...]
    limits: Limits = Limits()
    ingredients: tuple[Chosen, ...] = ()
    floors: tuple[Floor, ...] = ()
    objective: Objective = Objective.of("t_daily")
    method: Method = "random"
    count: int = 20_000
    until_kept: int = 0
    seconds: float = 0.0
    hold: bool = False
    controls: int = 0
    drift: bool = False
    alike: float = ALIKE
    seed: int = 1
    others: tuple[str, ...] = ()
    own: tuple[CustomOperand, ...] = ()
    conditions: tuple[NamedCondition, ...] = ()
    dealing: int = DEALING
    without: tuple[str, ...] = ()
    rows: int = COUNT

    @property
    def title(self) -> str:
        where = ", ".join(f"{m} {interval_words(i)}" for m, i in self.places[:3])
        more = f" and {len(self.places) - 3} more" if len(self.places) > 3 else ""
        return f"Discover {where}{more}"

    @property
    def searched(self) -> tuple[Where, ...]:
        """Places that have a search of their own."""
        return self.places[:1] if self.hold else self.places

    @property
    def comparable(self) -> bool:
        """Whether its controls say what luck brings: those of an older program were not dealt at the scale of their days."""
        return self.dealing == DEALING

    @property
    def streams(self) -> int:
        """Searches that run side by side, controls included."""
        return len(self.searched) * (1 + self.controls)

    def pantry(self, interval: int) -> Pantry:
        """The ingredients at an interval. Raises UserError where none is left."""
        whole = FAMILIES if self.method != "informed" and not self.ingredients else SCANNED
        return Pantry(whole, sources_of(self, interval), self.ingredients)

    @property
    def bred(self) -> bool:
        """Whether it goes on in generations."""
        return self.method != "random"

    @property
    def whole(self) -> bool:
        """Whether it looks at all that is usually scanned: nothing of it was chosen."""
        return not self.ingredients and self.rows == COUNT

    def check(self) -> None:
        """Raises UserError for what cannot be asked."""
        if not self.places:
            raise UserError("no market is chosen", "--market", "Name a market.")
        if len(set(self.places)) < len(self.places):
            raise UserError("a market stands there twice at the same interval", "--market", "Name each once.")
        if self.hold and len(self.places) < 2:
            raise UserError("holding on all markets needs two of them", "--hold", "Name another market or interval.")
        if self.method not in METHODS:
            raise UserError(f'there is no method "{self.method}"', "--method", f"There are {', '.join(METHODS)}.")
        if not 0 <= self.controls <= MOST_CONTROLS:
            raise UserError(f"0 to {MOST_CONTROLS} controls can be asked", "--control", "Change the number.")
        if not 10 <= self.rows <= MOST_ROWS:
            raise UserError(f"10 to {MOST_ROWS:,} rows can be scanned first", "--scan-rows", "Change the number.")
        if not 1 <= self.count <= 100_000_000:
            raise UserError("1 to 100,000,000 candidates can be tried", "--count", "Change the number.")
        if not 0 < self.alike <= 1:
            raise UserError("the correlation of near-twins lies above 0 and at most at 1", "--alike", "Change it.")
        if self.seed < 0 or self.until_kept < 0 or self.seconds < 0:
            raise UserError("seed, number kept and time cannot be negative", "discover", "Change them.")
        lost = [k for k in self.objective.keys if k not in COMPILED]
        if lost or self.objective.second:
            what = (f"Discover looks for one measure or a blend of those that are kept of everything tried, and "
                    f"{', '.join(lost) or 'two at once'} is not")
            raise UserError(what, "--objective", f"Choose among {', '.join(COMPILED)}, or blend them.")

    def as_json(self) -> dict[str, Any]:
        def plain(x: Model) -> Any:
            return x.model_dump(mode="json")

        return {"places": [list(p) for p in self.places], "limits": plain(self.limits),
                "ingredients": [vars(c) for c in self.ingredients], "floors": [plain(f) for f in self.floors],
                "objective": plain(self.objective), "method": self.method, "count": self.count,
                "until_kept": self.until_kept, "seconds": self.seconds, "hold": self.hold, "controls": self.controls,
                "drift": self.drift, "alike": self.alike, "seed": self.seed, "others": list(self.others),
                "own": [plain(o) for o in self.own], "conditions": [plain(c) for c in self.conditions],
                "dealing": self.dealing, "without": list(self.without), "rows": self.rows}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> DiscoverRequest:
        """A stored request. Raises OldRequestError for one of an older program, or one that was changed by other hands."""
        try:
            return cls._read(data)
        except (KeyError, TypeError, ValueError):
            raise OldRequestError("this search was asked by an older version, in other words", str(data.get("market", "")),
                                  "Its finds are on the Shelf; start a new one.") from None

    @classmethod
    def _read(cls, data: dict[str, Any]) -> DiscoverRequest:
        return cls(tuple((m, int(i)) for m, i in data["places"]), Limits.model_validate(data["limits"]),
                   tuple(Chosen(**c) for c in data["ingredients"]), tuple(Floor.model_validate(f) for f in data["floors"]),
                   read_objective(data["objective"]), data["method"], data["count"], data["until_kept"], data["seconds"],
                   data["hold"], data["controls"], data["drift"], data["alike"], data["seed"], tuple(data["others"]),
                   tuple(CustomOperand.model_validate(o) for o in data["own"]),
                   tuple(NamedCondition.model_validate(c) for c in data["conditions"]), data.get("dealing", 1),
                   tuple(data.get("without", ())), int(data.get("rows", COUNT)))


def sources_of(request: DiscoverRequest, interval: int) -> Sources:
    """What rows of a search may read."""
    return readable(interval, request.others, request.own, request.conditions)
