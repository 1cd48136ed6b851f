"""What a strategy is: rows of comparisons, two sides, protective orders, execution. Stored and exchanged as JSON
(docs/strategy-file.md); data, never code."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

from pydantic import Field, ValidationError, field_validator, model_validator

from wolbrin.core.errors import UserError
from wolbrin.core.indicators.catalogue import BY_KEY, PRICE_FIELDS
from wolbrin.core.market.terms import Model, explain, read_json

Comparison = Literal["above", "below", "at or above", "at or below", "crosses above", "crosses below",
                     "rises", "falls"]
COMPARISONS: tuple[Comparison, ...] = ("above", "below", "at or above", "at or below", "crosses above",
                                       "crosses below", "rises", "falls")
UNARY = ("rises", "falls")
LARGEST_LENGTH = 5000


class FieldOperand(Model):
    """A price field of the decision bar, or of an earlier one."""

    kind: Literal["field"] = "field"
    field: str = "close"
    times: float = 1.0
    ago: int = Field(0, ge=0, le=LARGEST_LENGTH)

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


class Side(Model):
    """Entry and exit conditions of one side. Mode matters for the short side only: own, mirrored or off."""

    mode: Literal["own", "mirrored", "off"] = "own"
    entry: Condition = Condition()
    exit: Condition = Condition()


class Distance(Model):
    """Where a protective order stands: in ticks, as a multiple of ATR(length) at the decision bar, or, for the
    target only, as a multiple of the stop's distance."""

    unit: Literal["ticks", "atr", "stop"] = "atr"
    amount: float = Field(2.0, gt=0, le=1e6)
    length: int = Field(14, ge=1, le=LARGEST_LENGTH)


class Strategy(Model):
    """A complete strategy. Equal content means equal hash, whatever its name."""

    format: Literal["wolbrin.strategy"] = "wolbrin.strategy"
    version: Literal[1] = 1
    name: str = Field("New strategy", min_length=1, max_length=80)
    notes: str = Field("", max_length=20_000)
    long: Side = Side()
    short: Side = Side(mode="mirrored")
    stop: Distance | None = None
    target: Distance | None = None
    time_exit: int | None = Field(None, ge=1, le=100_000)
    flat_by_session_end: bool = True
    fill: Literal["next open", "this close"] = "next open"
    on_opposite: Literal["reverse", "close", "ignore"] = "reverse"
    quantity: float = Field(1.0, gt=0, le=1e9)

    @model_validator(mode="after")
    def _consistent(self) -> Strategy:
        if self.long.mode == "mirrored":
            raise ValueError("the long side cannot be mirrored; the short side can")
        if self.stop is not None and self.stop.unit == "stop":
            raise ValueError("a stop cannot be a multiple of itself")
        if self.target is not None and self.target.unit == "stop" and self.stop is None:
            raise ValueError("a target measured in stop distances needs a stop")
        return self


def load_strategy(path: Path) -> Strategy:
    """Read a strategy file (docs/strategy-file.md)."""
    data = read_json(path, "strategy file")
    found = data.get("format") if isinstance(data, dict) else None
    if isinstance(found, str) and found != "wolbrin.strategy":
        raise UserError(f'this is a "{found[:40]}" file, not a strategy', f'{path}, field "format"',
                        "Choose a strategy file.")
    version = data.get("version") if isinstance(data, dict) else None
    if isinstance(version, int) and version > 1:
        raise UserError(f"this strategy file has version {version}, newer than this program reads (1)", str(path),
                        "Open it with a newer Wolbrin.")
    try:
        return Strategy.model_validate(data)
    except ValidationError as err:
        raise explain(err, str(path)) from None
