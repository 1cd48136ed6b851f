"""What a strategy is: conditions over rows of comparisons, two sides, protective orders, execution, parameters. Stored and
exchanged as JSON (docs/strategy-file.md); data, never code."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Discriminator, Field, ModelWrapValidatorHandler, Tag, ValidationError, field_validator, model_validator

from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.indicators.catalogue import BY_KEY
from wolbrin.core.market.terms import Weekday, minutes_of
from wolbrin.core.models import Model, Name, read_json
from wolbrin.core.rules.named import PARAMETERS, Nameable, calculate
from wolbrin.core.rules.operands import (
    LARGEST_LENGTH,
    Ago,
    CombinedOperand,
    CustomOperand,
    FieldOperand,
    IndicatorOperand,
    Length,
    NumberOperand,
    Operand,
    PositionOperand,
    parts,
)
from wolbrin.core.rules.schedule import Schedule

__all__ = ["COMPARISONS", "LARGEST_LENGTH", "UNARY", "BreakEven", "CombinedOperand", "Comparison", "Condition",
           "CustomOperand", "Distance", "EntryOrder", "FieldOperand", "Filters", "IndicatorOperand", "Level",
           "NumberOperand", "Operand", "Oversized", "Parameter", "PositionOperand", "Row", "Side", "Sizing", "Strategy",
           "Trail", "Window", "load_strategy", "parts"]

VERSION = 4
Comparison = Literal["above", "below", "at or above", "at or below", "equals", "crosses above", "crosses below", "rises",
                     "falls", "makes a new high", "makes a new low", "between", "inside", "outside", "ranks above",
                     "ranks below"]
COMPARISONS: tuple[Comparison, ...] = (
    "above", "below", "at or above", "at or below", "equals", "crosses above", "crosses below", "rises", "falls",
    "makes a new high", "makes a new low", "between", "inside", "outside", "ranks above", "ranks below")
UNARY = ("rises", "falls", "makes a new high", "makes a new low")
BANDED = ("inside", "outside")
RANKED = ("makes a new high", "makes a new low", "ranks above", "ranks below")
PLAIN = ("above", "below", "at or above", "at or below", "crosses above", "crosses below", "rises", "falls")
DEEPEST_CONDITION = 8
MOST_POSITION_ROWS = 6
Whole = Annotated[int, Field(ge=1, le=LARGEST_LENGTH), Nameable()]
When = Literal["now", "held", "within"]


class Row(Model):
    """One comparison.

    Rises and falls compare the left side with its value one bar earlier; a new high or low with its `over` values before;
    a rank is the percent of the `over` values before that lie below; between has a lower (right) and an upper bound, both
    included; inside and outside compare with the lower and upper output of the indicator on the right.
    when: `held` on each, or `within` at least one, of the last `for_bars` bars. back: all of it so many bars ago.
    """

    on: bool = True
    left: Operand = FieldOperand()
    compare: Comparison = "above"
    right: Operand = NumberOperand()
    upper: Operand | None = None
    over: Whole = 20
    when: When = "now"
    for_bars: Whole = 1
    back: Ago = 0

    @model_validator(mode="after")
    def _sane(self) -> Row:
        if self.compare == "between" and self.upper is None:
            raise ValueError("between needs an upper bound")
        if self.compare in BANDED:
            outs = [o.key for o in BY_KEY[self.right.indicator].outputs] if isinstance(self.right, IndicatorOperand) else []
            if "upper" not in outs or "lower" not in outs:
                raise ValueError(f"{self.compare} needs an indicator with an upper and a lower line on its right, such as "
                                 "bands")
            assert isinstance(self.right, IndicatorOperand)
            if self.right.ago or self.right.times != 1.0:
                raise ValueError(f"{self.compare} takes the lines as they are, without a factor or shift")
            # Both lines are read; one spelling keeps equal rows equal.
            object.__setattr__(self, "right", self.right.model_copy(update={"output": "upper"}))
        asked = [self.right, *([self.upper] if self.upper else [])] if self.compare not in UNARY else []
        if any(isinstance(o, PositionOperand) for o in asked):
            raise ValueError("the state of the position stands on the left of a comparison")
        if isinstance(self.left, PositionOperand) and (
                self.compare not in ("above", "below", "at or above", "at or below", "equals")
                or not isinstance(self.right, NumberOperand) or self.when != "now" or self.back):
            raise ValueError("the state of the position compares with a number at this bar only: above, below, equals")
        return self

    @property
    def plain(self) -> bool:
        """A bare comparison as rows were before anything could be added to them."""
        return self.compare in PLAIN and self.when == "now" and not self.back

    @property
    def asked(self) -> tuple[Operand, ...]:
        """Operands that the comparison reads, left first."""
        if self.compare in UNARY:
            return (self.left,)
        if self.compare in BANDED and isinstance(self.right, IndicatorOperand):
            return (self.left, *(self.right.model_copy(update={"output": key}) for key in ("lower", "upper")))
        return (self.left, self.right, self.upper) if self.compare == "between" and self.upper else (self.left, self.right)


def _row_or_group(value: Any) -> str:
    if isinstance(value, dict):
        return "group" if "rows" in value or "match" in value else "row"
    return "group" if isinstance(value, Condition) else "row"


class Condition(Model):
    """Rows, or groups of rows, joined: all of them, any, at least `least`, or none (not). With nothing switched on it is
    never true. when, for_bars, back: as for a row. A comparison without a value is neither true nor false, so that `none`
    does not make it true."""

    match: Literal["all", "any", "at least", "none"] = "all"
    rows: tuple[Annotated[Annotated[Row, Tag("row")] | Annotated[Condition, Tag("group")],
                          Discriminator(_row_or_group)], ...] = Field((), max_length=40)
    on: bool = True
    least: Annotated[int, Field(ge=1, le=40), Nameable()] = 1
    when: When = "now"
    for_bars: Whole = 1
    back: Ago = 0

    @model_validator(mode="after")
    def _sane(self) -> Condition:
        if self.depth > DEEPEST_CONDITION:
            raise ValueError(f"groups stand inside one another more than {DEEPEST_CONDITION} deep")
        if (self.when != "now" or self.back) and any(isinstance(r.left, PositionOperand) for r in self.leaves):
            raise ValueError("a group that asks the state of the position cannot look back in time")
        return self

    @property
    def depth(self) -> int:
        return 1 + max((r.depth for r in self.rows if isinstance(r, Condition)), default=0)

    @property
    def active(self) -> tuple[Row | Condition, ...]:
        """Rows that are switched on, and groups that are and hold such a row."""
        return tuple(r for r in self.rows if r.on and (isinstance(r, Row) or r.active))

    @property
    def leaves(self) -> tuple[Row, ...]:
        """Every row that is switched on, those of inner groups too, in reading order."""
        return tuple(x for r in self.active for x in (r.leaves if isinstance(r, Condition) else (r,)))


MOST_PARAMETERS = 60


class Parameter(Model):
    """A named number with its range. formula: arithmetic over other parameters, for one that depends on them."""

    name: str = Field(max_length=40, pattern=r"^[a-z][a-z0-9_]*$")
    value: float = 0.0
    low: float = 0.0
    high: float = 0.0
    step: float = Field(1.0, gt=0)
    sweep: bool = False
    formula: str = Field("", max_length=200)
    notes: str = Field("", max_length=500)


def settled(parameters: list[Any]) -> list[Parameter]:
    """Parameters with the dependent ones calculated. Raises ValueError where they go round in circles or repeat a name."""
    if len(parameters) > MOST_PARAMETERS:  # before each is compared with each
        raise ValueError(f"a strategy has at most {MOST_PARAMETERS} parameters, not {len(parameters):,}")
    made = [p if isinstance(p, Parameter) else Parameter.model_validate(p) for p in parameters]
    names = [p.name for p in made]
    for name in names:
        if names.count(name) > 1:
            raise ValueError(f'two parameters are called "{name}"')
    known = {p.name: p.value for p in made if not p.formula}
    waiting = [p for p in made if p.formula]
    while waiting:
        for p in waiting:
            try:
                known[p.name] = calculate(p.formula, known)
                break
            except ValueError as err:
                fault = err
                if not any(f'"{q.name}"' in str(err) for q in waiting):
                    raise ValueError(f'parameter "{p.name}": {err}') from None
        else:
            raise ValueError(f'parameter "{waiting[0].name}" depends on itself, or on one that does ({fault})')
        waiting = [q for q in waiting if q.name not in known]
    return [p.model_copy(update={"value": known[p.name]}) for p in made]


class Level(Model):
    """A price given by an expression: an operand, plus so many ticks or multiples of ATR(length)."""

    operand: Operand = FieldOperand()
    offset: Annotated[float, Field(ge=-1e6, le=1e6), Nameable()] = 0.0
    unit: Literal["ticks", "atr"] = "ticks"
    length: Length = 14


class EntryOrder(Model):
    """How a side enters: at market, or by a stop or limit order at a level, resting for `bars` bars.

    touch_ticks: so far the price must trade through a limit before it counts as filled.
    """

    kind: Literal["market", "stop", "limit"] = "market"
    level: Level | None = None
    bars: Annotated[int, Field(ge=1, le=100_000), Nameable()] = 1
    touch_ticks: Annotated[int, Field(ge=0, le=100_000), Nameable()] = 0

    @model_validator(mode="after")
    def _levelled(self) -> EntryOrder:
        if self.kind != "market" and self.level is None:
            raise ValueError(f"a {self.kind} entry needs a level")
        return self


class Side(Model):
    """Entry and exit conditions of one side. Mode matters for the short side only: own, mirrored or off."""

    mode: Literal["own", "mirrored", "off"] = "own"
    entry: Condition = Condition()
    exit: Condition = Condition()
    order: EntryOrder = EntryOrder()


class Distance(Model):
    """How far a protective order stands from the entry price: in ticks, account money per contract, percent of that
    price, multiples of ATR(length) at the decision bar, multiples of the stop's distance, or (stop and target only) at
    the level of an expression. `level` is the long side's; the short side's is its mirror image unless given."""

    unit: Literal["ticks", "atr", "stop", "money", "percent", "level"] = "atr"
    amount: Annotated[float, Field(gt=0, le=1e9), Nameable()] = 2.0
    length: Length = 14
    level: Level | None = None
    short_level: Level | None = None

    @model_validator(mode="after")
    def _levelled(self) -> Distance:
        if self.unit == "level" and self.level is None:
            raise ValueError("a distance at a level needs the level")
        return self


class Trail(Model):
    """A stop that follows the best price of closed bars, in steps, once the profit has reached `start_after`."""

    distance: Distance = Distance()
    step_ticks: Annotated[int, Field(ge=0, le=1_000_000), Nameable()] = 0
    start_after: Distance | None = None


class BreakEven(Model):
    """Once a closed bar has shown a profit of `after`, the stop moves to the entry price plus so many ticks."""

    after: Distance = Distance()
    plus_ticks: Annotated[int, Field(ge=-1_000_000, le=1_000_000), Nameable()] = 0


class Window(Model):
    """Exchange-local clock times between which a decision bar may close, both included; may cross midnight."""

    first: str = "09:00"
    last: str = "17:00"

    @field_validator("first", "last")
    @classmethod
    def _clock(cls, value: str) -> str:
        minutes_of(value)
        return value


class Oversized(Model):
    """No entry where the decision bar's range exceeds so many ATR(length)."""

    multiple: Annotated[float, Field(gt=0, le=1e6), Nameable()] = 3.0
    length: Length = 14


class Filters(Model):
    """When no entry is made; each is read at the decision bar. Exits are never filtered."""

    windows: tuple[Window, ...] = Field((), max_length=24)
    weekdays: tuple[Weekday, ...] = Field((), max_length=7, description="trading dates' weekdays; all when empty")
    most_entries: Annotated[int, Field(ge=1, le=100_000), Nameable()] | None = Field(
        None, description="entries per trading date")
    last_minutes: Annotated[int, Field(ge=1, le=1440), Nameable()] | None = Field(
        None, description="no entry so close to the session's end")
    oversized: Oversized | None = None


class Sizing(Model):
    """How much is traded: the strategy's fixed quantity, percent of equity at risk to the stop, percent of equity as
    notional, or a fixed notional in account money."""

    kind: Literal["fixed", "risk", "percent", "notional"] = "fixed"
    amount: Annotated[float, Field(gt=0, le=1e12), Nameable()] = 1.0


class Strategy(Model):
    """A complete strategy. Equal content means equal hash, whatever its name. schedule: numbers that are in force from dates
    on, instead of those that the rules show (see `dated`)."""

    format: Literal["wolbrin.strategy"] = "wolbrin.strategy"
    version: Literal[1, 2, 3, 4] = 4
    name: Name = Field("New strategy", min_length=1, max_length=80)
    notes: str = Field("", max_length=20_000)
    parameters: tuple[Parameter, ...] = Field((), max_length=MOST_PARAMETERS)
    long: Side = Side()
    short: Side = Side(mode="mirrored")
    stop: Distance | None = None
    target: Distance | None = None
    trail: Trail | None = None
    break_even: BreakEven | None = None
    time_exit: Annotated[int, Field(ge=1, le=100_000), Nameable()] | None = None
    flat_by_session_end: bool = True
    fill: Literal["next open", "this close"] = "next open"
    on_opposite: Literal["reverse", "close", "ignore"] = "reverse"
    quantity: Annotated[float, Field(gt=0, le=1e9), Nameable()] = 1.0
    sizing: Sizing = Sizing()
    filters: Filters = Filters()
    schedule: Schedule | None = None

    @model_validator(mode="wrap")
    @classmethod
    def _settle(cls, data: Any, handler: ModelWrapValidatorHandler[Strategy]) -> Strategy:
        if not isinstance(data, dict):
            return handler(data)
        if data.get("version") in (1, 2, 3):
            data = data | {"version": VERSION}  # a file of an older version lacks only fields that have defaults
        given = data.get("parameters")
        if not given or not isinstance(given, list | tuple):
            return handler(data)
        made = settled(list(given))
        # Parts that are models already would not be read again; as plain data their named numbers follow the parameters.
        data = {k: v.model_dump() if isinstance(v, Model) else v for k, v in data.items()} | {"parameters": tuple(made)}
        token = PARAMETERS.set({p.name: p.value for p in made})
        try:
            return handler(data)
        finally:
            PARAMETERS.reset(token)

    @model_validator(mode="after")
    def _consistent(self) -> Strategy:
        if self.long.mode == "mirrored":
            raise ValueError("the long side cannot be mirrored; the short side can")
        if self.stop is not None and self.stop.unit == "stop":
            raise ValueError("a stop cannot be a multiple of itself")
        follow = {"target": self.target, "trail": self.trail and self.trail.distance,
                  "trail's start": self.trail and self.trail.start_after,
                  "break even": self.break_even and self.break_even.after}
        for name, distance in follow.items():
            if distance and distance.unit == "stop" and self.stop is None:
                raise ValueError(f"a {name} measured in stop distances needs a stop")
            if distance and distance.unit == "level" and name != "target":
                raise ValueError(f"a {name} is a distance, not a level")
        if self.sizing.kind == "risk" and self.stop is None:
            raise ValueError("sizing by risk needs a stop")
        asked = self.position_rows
        if len(asked) > MOST_POSITION_ROWS:
            raise ValueError(f"at most {MOST_POSITION_ROWS} different comparisons may ask the state of the position")
        if self.stop is None and any(r.left.state == "open_profit_r" for r in asked):  # type: ignore[union-attr]
            raise ValueError("open profit in R needs a stop, whose distance is the R")
        return self

    @property
    def position_rows(self) -> tuple[Row, ...]:
        """The different rows that ask the state of the position."""
        asked = (r for side in (self.long, self.short) for c in (side.entry, side.exit) for r in c.leaves)
        return tuple(dict.fromkeys(r for r in asked if isinstance(r.left, PositionOperand)))

    def __eq__(self, other: object) -> bool:
        """Equal content, names of numbers included."""
        same = super().__eq__(other)
        if not same or not isinstance(other, Strategy) or not self.parameters:
            return same
        return self.model_dump_json() == other.model_dump_json()

    __hash__ = None  # type: ignore[assignment]

    @property
    def distances(self) -> tuple[Distance | None, ...]:
        """Stop, target, trail, the trail's start and break even."""
        trail = self.trail
        return (self.stop, self.target, trail.distance if trail else None, trail.start_after if trail else None,
                self.break_even.after if self.break_even else None)

    def __repr__(self) -> str:
        sides = ", ".join(f"{name} {side.mode}" for name, side in (("long", self.long), ("short", self.short)))
        dated = ", dated numbers" if self.schedule is not None else ""
        return f"Strategy({self.name!r}: {sides}, fills at {self.fill}{dated})"


def read_strategy(data: Any, where: str) -> Strategy:
    """A strategy from plain data. Raises UserError for data that is none, or of a newer version."""
    if not isinstance(data, dict):
        raise UserError("this is not a strategy", where, "Choose a strategy file.")
    found = data.get("format")
    if isinstance(found, str) and found != "wolbrin.strategy":
        raise UserError(f'this is a "{found[:40]}" file, not a strategy', f'{where}, field "format"',
                        "Choose a strategy file.")
    version = data.get("version")
    if isinstance(version, int) and version > VERSION:
        raise UserError(f"this strategy file has version {version}, newer than this program reads ({VERSION})", where,
                        "Open it with a newer Wolbrin.")
    try:
        return Strategy.model_validate(data)
    except ValidationError as err:
        raise explain(err, where) from None
    except RecursionError:
        raise UserError("this strategy is nested too deeply", where, "Take groups out of one another.") from None


def load_strategy(path: Path) -> Strategy:
    """Read a strategy file (docs/strategy-file.md)."""
    return read_strategy(read_json(path, "strategy file"), str(path))
