"""What a strategy is: rows of comparisons, two sides, protective orders, execution. Stored and exchanged as JSON
(docs/strategy-file.md); data, never code."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError, field_validator, model_validator

from wolbrin.core.errors import UserError
from wolbrin.core.indicators.catalogue import BY_KEY, PRICE_FIELDS
from wolbrin.core.market.terms import Model, Weekday, explain, minutes_of, read_json

Comparison = Literal["above", "below", "at or above", "at or below", "crosses above", "crosses below",
                     "rises", "falls"]
COMPARISONS: tuple[Comparison, ...] = ("above", "below", "at or above", "at or below", "crosses above",
                                       "crosses below", "rises", "falls")
UNARY = ("rises", "falls")
LARGEST_LENGTH = 5000
INTERVAL = Field(None, ge=1, le=1440, description="minutes of a higher interval, read from its closed bars; 1440 for daily")
MARKET = Field(None, min_length=1, max_length=24, description="code of another market, read from its closed bars")


class FieldOperand(Model):
    """A price field of the decision bar, or of an earlier one; of another interval or market where named."""

    kind: Literal["field"] = "field"
    field: str = "close"
    times: float = 1.0
    ago: int = Field(0, ge=0, le=LARGEST_LENGTH)
    interval: int | None = INTERVAL
    market: str | None = MARKET

    @field_validator("field")
    @classmethod
    def _known(cls, value: str) -> str:
        if value not in PRICE_FIELDS:
            raise ValueError(f'there is no price field "{value}"; known are {", ".join(PRICE_FIELDS)}')
        return value


class IndicatorOperand(Model):
    """One output of a catalogue indicator, times a factor."""

    kind: Literal["indicator"] = "indicator"
    indicator: str
    params: dict[str, float] = {}
    output: str = "value"
    of: str | None = None
    times: float = 1.0
    ago: int = Field(0, ge=0, le=LARGEST_LENGTH)
    interval: int | None = INTERVAL
    market: str | None = MARKET

    @model_validator(mode="after")
    def _known(self) -> IndicatorOperand:
        entry = BY_KEY.get(self.indicator)
        if entry is None:
            raise ValueError(f'there is no indicator "{self.indicator}"; known are {", ".join(BY_KEY)}')
        if self.output not in [o.key for o in entry.outputs]:
            raise ValueError(f'{entry.title} has no output "{self.output}"; '
                             f'it has {", ".join(o.key for o in entry.outputs)}')
        for key, value in self.params.items():
            param = next((p for p in entry.params if p.key == key), None)
            if param is None:
                raise ValueError(f'{entry.title} has no setting "{key}"')
            if param.whole and value != int(value):
                raise ValueError(f"{entry.title} {param.title} must be a whole number, not {value:g}")
            least = min(param.low, 1) if param.whole else 0
            if not least <= value <= LARGEST_LENGTH:
                raise ValueError(f"{entry.title} {param.title} must lie between {least:g} and {LARGEST_LENGTH}")
            if param.key == "length" and value < param.low:
                raise ValueError(f"{entry.title} {param.title} must be at least {param.low:g}")
        if self.of is not None and self.of not in PRICE_FIELDS:
            raise ValueError(f'there is no price field "{self.of}"; known are {", ".join(PRICE_FIELDS)}')
        return self

    @property
    def settings(self) -> dict[str, float]:
        return BY_KEY[self.indicator].defaults() | self.params

    @property
    def source(self) -> str:
        return self.of or BY_KEY[self.indicator].field


class NumberOperand(Model):
    kind: Literal["number"] = "number"
    value: float = 0.0


Operand = Annotated[FieldOperand | IndicatorOperand | NumberOperand, Field(discriminator="kind")]


class Row(Model):
    """One comparison; an unary one (rises, falls) compares the left side with its value one bar earlier."""

    on: bool = True
    left: Operand = FieldOperand()
    compare: Comparison = "above"
    right: Operand = NumberOperand()


class Condition(Model):
    """Rows joined by all or any. With no row switched on it is never true."""

    match: Literal["all", "any"] = "all"
    rows: tuple[Row, ...] = Field((), max_length=40)

    @property
    def active(self) -> tuple[Row, ...]:
        return tuple(r for r in self.rows if r.on)


class Level(Model):
    """A price given by an expression: an operand, plus so many ticks or multiples of ATR(length)."""

    operand: Operand = FieldOperand()
    offset: float = Field(0.0, ge=-1e6, le=1e6)
    unit: Literal["ticks", "atr"] = "ticks"
    length: int = Field(14, ge=1, le=LARGEST_LENGTH)


class EntryOrder(Model):
    """How a side enters: at market, or by a stop or limit order at a level, resting for `bars` bars.

    touch_ticks: so far the price must trade through a limit before it counts as filled.
    """

    kind: Literal["market", "stop", "limit"] = "market"
    level: Level | None = None
    bars: int = Field(1, ge=1, le=100_000)
    touch_ticks: int = Field(0, ge=0, le=100_000)

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
    amount: float = Field(2.0, gt=0, le=1e9)
    length: int = Field(14, ge=1, le=LARGEST_LENGTH)
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
    step_ticks: int = Field(0, ge=0, le=1_000_000)
    start_after: Distance | None = None


class BreakEven(Model):
    """Once a closed bar has shown a profit of `after`, the stop moves to the entry price plus so many ticks."""

    after: Distance = Distance()
    plus_ticks: int = Field(0, ge=-1_000_000, le=1_000_000)


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

    multiple: float = Field(3.0, gt=0, le=1e6)
    length: int = Field(14, ge=1, le=LARGEST_LENGTH)


class Filters(Model):
    """When no entry is made; each is read at the decision bar. Exits are never filtered."""

    windows: tuple[Window, ...] = Field((), max_length=24)
    weekdays: tuple[Weekday, ...] = Field((), max_length=7, description="trading dates' weekdays; all when empty")
    most_entries: int | None = Field(None, ge=1, le=100_000, description="entries per trading date")
    last_minutes: int | None = Field(None, ge=1, le=1440, description="no entry so close to the session's end")
    oversized: Oversized | None = None


class Sizing(Model):
    """How much is traded: the strategy's fixed quantity, percent of equity at risk to the stop, percent of equity as
    notional, or a fixed notional in account money."""

    kind: Literal["fixed", "risk", "percent", "notional"] = "fixed"
    amount: float = Field(1.0, gt=0, le=1e12)


class Strategy(Model):
    """A complete strategy. Equal content means equal hash, whatever its name."""

    format: Literal["wolbrin.strategy"] = "wolbrin.strategy"
    version: Literal[1, 2] = 2
    name: str = Field("New strategy", min_length=1, max_length=80)
    notes: str = Field("", max_length=20_000)
    long: Side = Side()
    short: Side = Side(mode="mirrored")
    stop: Distance | None = None
    target: Distance | None = None
    trail: Trail | None = None
    break_even: BreakEven | None = None
    time_exit: int | None = Field(None, ge=1, le=100_000)
    flat_by_session_end: bool = True
    fill: Literal["next open", "this close"] = "next open"
    on_opposite: Literal["reverse", "close", "ignore"] = "reverse"
    quantity: float = Field(1.0, gt=0, le=1e9)
    sizing: Sizing = Sizing()
    filters: Filters = Filters()

    @model_validator(mode="before")
    @classmethod
    def _upgrade(cls, data: Any) -> Any:
        # A file of version 1 lacks only fields that have defaults.
        return data | {"version": 2} if isinstance(data, dict) and data.get("version") == 1 else data

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
        return self

    @property
    def distances(self) -> tuple[Distance | None, ...]:
        """Stop, target, trail, the trail's start and break even."""
        trail = self.trail
        return (self.stop, self.target, trail.distance if trail else None, trail.start_after if trail else None,
                self.break_even.after if self.break_even else None)


def load_strategy(path: Path) -> Strategy:
    """Read a strategy file (docs/strategy-file.md)."""
    data = read_json(path, "strategy file")
    found = data.get("format") if isinstance(data, dict) else None
    if isinstance(found, str) and found != "wolbrin.strategy":
        raise UserError(f'this is a "{found[:40]}" file, not a strategy', f'{path}, field "format"',
                        "Choose a strategy file.")
    version = data.get("version") if isinstance(data, dict) else None
    if isinstance(version, int) and version > 2:
        raise UserError(f"this strategy file has version {version}, newer than this program reads (2)", str(path),
                        "Open it with a newer Wolbrin.")
    try:
        return Strategy.model_validate(data)
    except ValidationError as err:
        raise explain(err, str(path)) from None
