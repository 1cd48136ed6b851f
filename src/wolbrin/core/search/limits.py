"""What the user allows Discover to build: sides, rows, orders, exits that compete, and what is kept of a strategy that is
there already."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Literal

from pydantic import Field, field_validator, model_validator

from wolbrin.core.errors import UserError
from wolbrin.core.faults import validated
from wolbrin.core.market.terms import Terms
from wolbrin.core.models import Model
from wolbrin.core.rules.dated import undated
from wolbrin.core.rules.model import BreakEven, Distance, EntryOrder, FieldOperand, Filters, Level, Sizing, Strategy, Trail

MOST_ROWS = 5
MOST_EXIT_ROWS = 3
MOST_STEPS = 200
MOST_OPTIONS = 5_000
Unit = Literal["ticks", "atr", "money", "percent", "stop"]
UNITS: tuple[Unit, ...] = ("atr", "ticks", "money", "percent", "stop")
Sides = Literal["long", "short", "mirrored", "own"]
SIDES: tuple[Sides, ...] = ("mirrored", "long", "short", "own")
SIDES_WORDS: dict[Sides, str] = {"mirrored": "mirrored", "long": "long", "short": "short", "own": "own for each"}
Joins = Literal["all", "any", "at least"]
Keep = Literal["", "entry", "exits", "both"]
KEEP_WORDS = {"": "find everything", "entry": "keep its entry, find exits", "exits": "keep its exits, find an entry",
              "both": "keep both, find a filter"}
REACH = re.compile(r"^\s*(atr|ticks|money|percent|stop)\s*(?:@\s*([\d,\s]+?)\s*)?:\s*(\d+(?:\.\d+)?)\s*"
                   r"(?:\.\.\s*(\d+(?:\.\d+)?)\s*(?:/\s*(\d+(?:\.\d+)?))?)?\s*$", re.I)
SPAN = re.compile(r"^\s*(\d+(?:\.\d+)?)\s*(?:\.\.\s*(\d+(?:\.\d+)?)\s*(?:/\s*(\d+(?:\.\d+)?))?)?\s*$")


def _step(low: float, high: float) -> float:
    """A round step that makes at most eight of a range."""
    if high <= low:
        return 1.0
    for step in (0.05, 0.1, 0.25, 0.5, 1, 2, 5, 10, 20, 25, 50, 100, 250, 500, 1000, 2500, 5000, 10_000):
        if (high - low) / step <= 8:
            return float(step)
    return (high - low) / 8


class Ladder(Model):
    """Numbers from low to high."""

    low: float = Field(gt=0, le=1e9)
    high: float = Field(gt=0, le=1e9)
    step: float = Field(gt=0, le=1e9)

    @model_validator(mode="after")
    def _sane(self) -> Ladder:
        if self.high < self.low:
            raise ValueError(f"the range ends at {self.high:g}, below its beginning at {self.low:g}")
        if (self.high - self.low) / self.step > MOST_STEPS:
            raise ValueError(f"the range {self.low:g} to {self.high:g} has more than {MOST_STEPS} steps of {self.step:g}")
        return self

    @property
    def values(self) -> tuple[float, ...]:
        count = int((self.high - self.low) / self.step + 1e-9) + 1
        return tuple(float(round(self.low + i * self.step, 6)) for i in range(count))

    @property
    def text(self) -> str:
        return f"{self.low:g}" if self.high == self.low else f"{self.low:g}..{self.high:g}/{self.step:g}"

    @classmethod
    def parse(cls, text: str, where: str) -> Ladder:
        """Read "4..40/4" or "5". Raises UserError."""
        found = SPAN.match(text)
        if not found:
            raise UserError(f'"{text.strip()}" is not a range', where, "Write for example 4..40/4.")
        return _ladder(found[1], found[2], found[3], where)


def _ladder(low: str, high: str | None, step: str | None, where: str) -> Ladder:
    a, b = float(low), float(high or low)
    return validated(Ladder, {"low": a, "high": b, "step": float(step) if step else _step(a, b)}, where)


class Reach(Model):
    """A kind of distance and how far it may be. lengths: of the ATR."""

    unit: Unit = "atr"
    amount: Ladder = Ladder(low=1, high=4, step=0.5)
    lengths: tuple[int, ...] = Field((20,), min_length=1, max_length=20)

    @classmethod
    def parse(cls, text: str, where: str) -> Reach:
        """Read "atr:1..4", "atr@10,20:1..4/0.5", "ticks:20..100". Raises UserError."""
        found = REACH.match(text)
        if not found:
            raise UserError(f'"{text.strip()}" is not a distance', where,
                            "Write for example atr:1..4/0.5, atr@10,20:1..4, ticks:20..100, money:100..500, percent:0.2..1 "
                            "or stop:1..4.")
        lengths = tuple(int(n) for n in (found[2] or "20").replace(" ", "").split(",") if n)
        if any(not 1 <= n <= 5_000 for n in lengths):
            raise UserError("an ATR length lies between 1 and 5,000", where, "Change the length.")
        return cls(unit=found[1].casefold(), amount=_ladder(found[3], found[4], found[5], where), lengths=lengths)

    @property
    def distances(self) -> tuple[Distance, ...]:
        lengths = self.lengths if self.unit == "atr" else (14,)
        return tuple(Distance(unit=self.unit, amount=a, length=n) for n in lengths for a in self.amount.values)

    @property
    def text(self) -> str:
        lengths = f"@{','.join(str(n) for n in self.lengths)}" if self.unit == "atr" and self.lengths != (20,) else ""
        return f"{self.unit}{lengths}:{self.amount.text}"


class Exits(Model):
    """One kind of exit: its distances compete; none: the share of candidates that go without."""

    reaches: tuple[Reach, ...] = Field((), max_length=8)
    none: float = Field(0.0, ge=0, le=1)

    @classmethod
    def parse(cls, text: str, where: str, usual: float = 0.0) -> Exits:
        """Read "atr:1..4|ticks:20..100", with "|none" or "|none*0.3" for the share without, "none" for none at all."""
        reaches, none, asked = [], usual, False
        for part in text.split("|"):
            word, star, share = part.strip().partition("*")
            if word.strip().casefold() == "none":
                try:
                    none, asked = (float(share) if star else 0.5), True
                except ValueError:
                    none = -1.0
                if not 0 <= none <= 1:
                    raise UserError(f'"{part.strip()}" is not a share', where, "Write none*0.3 for 30 of 100 without.")
                continue
            reaches.append(Reach.parse(part, where))
        if not reaches and not asked:
            raise UserError("nothing is given", where, "Write for example atr:1..4, or none.")
        return cls(reaches=tuple(reaches), none=none if reaches else 1.0)

    @property
    def distances(self) -> tuple[Distance, ...]:
        return tuple(d for r in self.reaches for d in r.distances)

    @property
    def text(self) -> str:
        if not self.reaches:
            return "none"
        return "|".join(r.text for r in self.reaches) + (f"|none*{self.none:g}" if self.none else "")


class Orders(Model):
    """How entries are made: kinds that compete, and how far resting orders stand off the bar, and for how long."""

    kinds: tuple[Literal["market", "stop", "limit"], ...] = Field(("market",), min_length=1, max_length=3)
    offset: Reach = Reach(unit="ticks", amount=Ladder(low=1, high=9, step=4))
    bars: Ladder = Ladder(low=1, high=4, step=1)

    @model_validator(mode="after")
    def _sane(self) -> Orders:
        if self.offset.unit not in ("ticks", "atr"):
            raise ValueError("an entry order stands off the bar by ticks or by ATR")
        return self

    @property
    def options(self) -> tuple[EntryOrder, ...]:
        """Long-side orders: stops above the bar's high, limits below its low."""
        out: list[EntryOrder] = []
        for kind in self.kinds:
            if kind == "market":
                out.append(EntryOrder())
                continue
            field, sign = ("high", 1.0) if kind == "stop" else ("low", -1.0)
            unit: Literal["ticks", "atr"] = "ticks" if self.offset.unit == "ticks" else "atr"
            out += [EntryOrder(kind=kind, bars=int(b), level=Level(
                operand=FieldOperand(field=field), offset=sign * d.amount, unit=unit, length=d.length))
                for b in self.bars.values for d in self.offset.distances]
        return tuple(out)


class Limits(Model):
    """What Discover may build.

    sides: which compete. joins: how rows of an entry are joined. strategy: what parts are kept of (keep), with its sides.
    give_up_after: trades after which one that has lost is given up; 0: never. pool: conditions that candidates are built from
    at first. quantity: None for what is usual on the market.
    """

    sides: tuple[Sides, ...] = Field(("mirrored", "long", "short"), min_length=1, max_length=4)
    least_rows: int = Field(1, ge=1, le=MOST_ROWS)
    most_rows: int = Field(3, ge=1, le=MOST_ROWS)
    least_exit_rows: int = Field(0, ge=0, le=MOST_EXIT_ROWS)
    most_exit_rows: int = Field(1, ge=0, le=MOST_EXIT_ROWS)
    joins: tuple[Joins, ...] = Field(("all",), min_length=1, max_length=3)
    orders: Orders = Orders()
    stop: Exits = Exits(reaches=(Reach(),))
    target: Exits = Exits(reaches=(Reach(unit="stop", amount=Ladder(low=1, high=4, step=0.5)),), none=0.3)
    trail: Exits = Exits(none=1.0)
    break_even: Exits = Exits(none=1.0)
    time_exit: Ladder | None = Ladder(low=4, high=40, step=4)
    no_time_exit: float = Field(0.75, ge=0, le=1)
    flat_by_session_end: bool = True
    quantity: float | None = Field(None, gt=0, le=1e9)
    sizing: Sizing = Sizing()
    filters: Filters = Filters()
    pool: int = Field(1_200, ge=10, le=200_000)
    give_up_after: int = Field(0, ge=0, le=1_000_000)
    keep: Keep = ""
    strategy: Strategy | None = None

    @field_validator("strategy")
    @classmethod
    def _shown(cls, value: Strategy | None) -> Strategy | None:
        """What is built around are the numbers that a strategy shows, not dated ones."""
        return undated(value) if value is not None else None

    @model_validator(mode="after")
    def _sane(self) -> Limits:
        for least, most, what in ((self.least_rows, self.most_rows, "an entry"),
                                  (self.least_exit_rows, self.most_exit_rows, "an exit")):
            if least > most:
                raise ValueError(f"{what} cannot have at least {least} rows and at most {most}")
        if self.keep and self.strategy is None:
            raise ValueError("which strategy's parts are kept is not said")
        if any(r.unit == "stop" for r in self.stop.reaches):
            raise ValueError("a stop cannot be a multiple of itself")
        if not self.stop.reaches and not self.keep:
            for name, exits in (("target", self.target), ("trail", self.trail), ("break even", self.break_even)):
                if exits.reaches and all(r.unit == "stop" for r in exits.reaches):
                    raise ValueError(f"a {name} in stop distances needs a stop")
            if self.sizing.kind == "risk":
                raise ValueError("sizing by risk needs a stop")
        for name, exits in (("stop", self.stop), ("target", self.target), ("trail", self.trail),
                            ("break even", self.break_even)):
            if len(exits.distances) > MOST_OPTIONS:
                raise ValueError(f"the ranges of the {name} make more than {MOST_OPTIONS:,} distances")
        return self

    def on(self, terms: Terms) -> Limits:
        """The limits as they can be traded on a market: flat by session end only where there are sessions, in lots that it
        trades."""
        change: dict[str, object] = {}
        if self.flat_by_session_end and not terms.scheduled:
            change["flat_by_session_end"] = False
        if self.quantity is None:
            change["quantity"] = max(terms.minimum_lot, 0.5 if terms.kind == "currency pair" else 1.0)
        if self.strategy is not None and self.strategy.flat_by_session_end and not terms.scheduled:
            change["strategy"] = self.strategy.model_copy(update={"flat_by_session_end": False})
        return self.model_copy(update=change)

    @property
    def flat(self) -> bool:
        """Whether everything that may be built is flat by session end."""
        return self.strategy.flat_by_session_end if self.keep and self.strategy is not None else self.flat_by_session_end

    @property
    def trails(self) -> tuple[Trail, ...]:
        return tuple(Trail(distance=d) for d in self.trail.distances)

    @property
    def break_evens(self) -> tuple[BreakEven, ...]:
        return tuple(BreakEven(after=d) for d in self.break_even.distances)


def informed_limits() -> Limits:
    """Usual limits of a search that looks first: exits reach as far as what a scan asks goes, so that they can fit what it
    saw, and any of them may be left out."""
    near, far = Reach(amount=Ladder(low=1, high=4, step=0.5)), Reach(amount=Ladder(low=5, high=12, step=1))
    in_stops = Reach(unit="stop", amount=Ladder(low=1, high=4, step=0.5))
    in_atr = Reach(amount=Ladder(low=2, high=12, step=1))
    return Limits(stop=Exits(reaches=(near, far), none=0.3), target=Exits(reaches=(in_stops, in_atr), none=0.6),
                  time_exit=Ladder(low=1, high=40, step=1), no_time_exit=0.3, pool=480)


def parse_time_exit(text: str) -> tuple[Ladder | None, float]:
    """Read "4..40/4", "4..40|none*0.5" or "none": bars, and the share of candidates without."""
    ladder, none = None, 0.0
    for part in text.split("|"):
        word, star, share = part.strip().partition("*")
        if word.strip().casefold() == "none":
            try:
                none = float(share) if star else 0.75
            except ValueError:
                none = -1.0
            if not 0 <= none <= 1:
                raise UserError(f'"{part.strip()}" is not a share', "--time-exit", "Write none*0.5 for half of them.")
        else:
            ladder = Ladder.parse(part, "--time-exit")
    return ladder, none if ladder is not None else 1.0


def parse_joins(texts: Sequence[str]) -> tuple[Joins, ...]:
    """Read "all,any,at least". Raises UserError."""
    known: tuple[Joins, ...] = ("all", "any", "at least")
    found = []
    for text in (p.strip().casefold().replace("k", "at least") if p.strip().casefold() == "k" else p.strip().casefold()
                 for t in texts for p in t.split(",")):
        match = [j for j in known if j == text]
        if not match:
            raise UserError(f'rows are not joined by "{text}"', "--join", f"Choose among {', '.join(known)}.")
        found += match
    return tuple(dict.fromkeys(found))
