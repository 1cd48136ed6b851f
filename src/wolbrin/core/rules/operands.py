"""What a comparison compares: price fields, indicators, numbers, arithmetic, the state of the position, own indicators."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator

from wolbrin.core.indicators.catalogue import BY_KEY, PRICE_FIELDS
from wolbrin.core.models import Model
from wolbrin.core.rules.named import Nameable, Num

LARGEST_LENGTH = 5000
DEEPEST = 10
INTERVAL = Field(None, ge=1, le=1440, description="minutes of a higher interval, read from its closed bars; 1440 for daily")
MARKET = Field(None, min_length=1, max_length=24, description="code of another market, read from its closed bars")
Ago = Annotated[int, Field(ge=0, le=LARGEST_LENGTH), Nameable()]
Length = Annotated[int, Field(ge=1, le=LARGEST_LENGTH), Nameable()]


class FieldOperand(Model):
    """A price field of the decision bar, or of an earlier one; of another interval or market where named."""

    kind: Literal["field"] = "field"
    field: str = "close"
    times: Num = 1.0
    ago: Ago = 0
    interval: int | None = INTERVAL
    market: str | None = MARKET

    @field_validator("field")
    @classmethod
    def _known(cls, value: str) -> str:
        if value not in PRICE_FIELDS:
            raise ValueError(f'there is no price field "{value}"; known are {", ".join(PRICE_FIELDS)}')
        return value


class IndicatorOperand(Model):
    """One output of a catalogue indicator, times a factor. `of`: the series it reads, a price field or any operand."""

    kind: Literal["indicator"] = "indicator"
    indicator: str
    params: dict[str, Num] = {}
    output: str = "value"
    of: Operand | str | None = None
    times: Num = 1.0
    ago: Ago = 0
    interval: int | None = INTERVAL
    market: str | None = MARKET

    @field_validator("of")
    @classmethod
    def _plain(cls, value: Any) -> Any:
        # A bare price field has one spelling only.
        return value.field if isinstance(value, FieldOperand) and value == FieldOperand(field=value.field) else value

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
        if isinstance(self.of, str) and self.of not in PRICE_FIELDS:
            raise ValueError(f'there is no price field "{self.of}"; known are {", ".join(PRICE_FIELDS)}')
        if self.of is not None and not isinstance(self.of, str):
            if not entry.takes_field:
                raise ValueError(f"{entry.title} reads whole bars, not a series")
            if isinstance(self.of, NumberOperand | PositionOperand):
                raise ValueError(f"{entry.title} needs a series, not a number")
            shallow(self)
        return self

    @property
    def settings(self) -> dict[str, float]:
        return BY_KEY[self.indicator].defaults() | self.params

    @property
    def source(self) -> str:
        """The price field it reads; the usual one where it reads an operand or none is named."""
        return self.of if isinstance(self.of, str) else BY_KEY[self.indicator].field


class NumberOperand(Model):
    kind: Literal["number"] = "number"
    value: Num = 0.0


class CombinedOperand(Model):
    """Arithmetic of two operands. A division by zero has no value."""

    kind: Literal["combined"] = "combined"
    join: Literal["+", "-", "*", "/"] = "-"
    left: Operand
    right: Operand
    ago: Ago = 0

    @model_validator(mode="after")
    def _sane(self) -> CombinedOperand:
        for part in (self.left, self.right):
            if isinstance(part, PositionOperand):
                raise ValueError("the state of the position compares with a number; it does not take part in arithmetic")
        if isinstance(self.left, NumberOperand) and isinstance(self.right, NumberOperand):
            raise ValueError("arithmetic of two numbers is a number; write the number")
        other = self.right
        if (self.join == "*" and isinstance(self.left, NumberOperand)
                and isinstance(other, FieldOperand | IndicatorOperand | CustomOperand) and other.times == 1.0):
            raise ValueError("a number times an operand is the operand's own factor (times)")
        shallow(self)
        return self


class PositionOperand(Model):
    """The state of the position at the decision bar's close. Flat: 0 bars held and 0 profit.

    bars_held counts like the time exit; open_profit_r is the price's way since the entry over the initial stop distance,
    without costs; entries_today counts fills of entries on the bar's trading date.
    """

    kind: Literal["position"] = "position"
    state: Literal["bars_held", "open_profit_r", "entries_today"] = "bars_held"


class CustomOperand(Model):
    """An indicator of the user's own, see docs/own-indicators.md; `digest` names the exact file that was confirmed."""

    kind: Literal["custom"] = "custom"
    name: str = Field(min_length=1, max_length=60, pattern=r"^[A-Za-z_][A-Za-z0-9_]*$")
    digest: str = Field("", max_length=64, pattern=r"^[0-9a-f]*$")
    turns: Literal["unsigned", "centered", "price"] = Field("unsigned", description="how it turns on a mirrored side")
    params: dict[str, Num] = Field({}, max_length=20)
    times: Num = 1.0
    ago: Ago = 0
    interval: int | None = INTERVAL
    market: str | None = MARKET


Operand = Annotated[FieldOperand | IndicatorOperand | NumberOperand | CombinedOperand | PositionOperand | CustomOperand,
                    Field(discriminator="kind")]
Series = FieldOperand | IndicatorOperand | CustomOperand
for _one in (IndicatorOperand, CombinedOperand):
    _one.model_rebuild()


def parts(operand: Operand) -> tuple[Operand, ...]:
    """Operands directly inside an operand."""
    if isinstance(operand, CombinedOperand):
        return operand.left, operand.right
    if isinstance(operand, IndicatorOperand) and operand.of is not None and not isinstance(operand.of, str):
        return (operand.of,)
    return ()


def depth(operand: Operand) -> int:
    return 1 + max((depth(p) for p in parts(operand)), default=0)


def shallow(operand: Operand) -> None:
    """Refuse operands nested beyond reason."""
    if depth(operand) > DEEPEST:
        raise ValueError(f"operands stand inside one another more than {DEEPEST} deep")


def leaves(operand: Operand) -> list[Operand]:
    """The operand and all inside it that are series of their own: what must have a value before a run begins."""
    if isinstance(operand, CombinedOperand):
        return leaves(operand.left) + leaves(operand.right)
    return [operand]
