"""The short side reflected from the long side: up and down change places in fields, bands, levels, comparisons."""

from __future__ import annotations

from dataclasses import dataclass

from wolbrin.core.indicators.catalogue import BY_KEY, FIELD_MIRROR
from wolbrin.core.indicators.model import Nature, Output
from wolbrin.core.rules.model import Comparison, Condition, EntryOrder, Level, Row, Side, Strategy
from wolbrin.core.rules.named import formula_of, named
from wolbrin.core.rules.operands import (
    CombinedOperand,
    CustomOperand,
    FieldOperand,
    IndicatorOperand,
    NumberOperand,
    Operand,
    PositionOperand,
)

FLIPPED: dict[Comparison, Comparison] = {
    "above": "below", "below": "above", "at or above": "at or below", "at or below": "at or above",
    "crosses above": "crosses below", "crosses below": "crosses above", "rises": "falls", "falls": "rises",
    "makes a new high": "makes a new low", "makes a new low": "makes a new high", "ranks above": "ranks below",
    "ranks below": "ranks above"}


@dataclass(frozen=True)
class Facing:
    """How a series turns over when up and down change places. swing: for a bounded one, the sum of its two ends."""

    nature: Nature
    swing: float = 0.0

    @property
    def turns(self) -> bool:
        return self.nature != "unsigned"


UPRIGHT = Facing("unsigned")


def output_of(operand: Operand) -> Output | None:
    if isinstance(operand, IndicatorOperand):
        return BY_KEY[operand.indicator].output(operand.output)
    return Output("value", operand.field, "price") if isinstance(operand, FieldOperand) else None


def _factor(facing: Facing, times: float) -> Facing:
    return Facing(facing.nature, facing.swing * times)


def _moved(operand: CombinedOperand) -> float | None:
    """The swing of a bounded value and a number, "RSI - 50": it is reflected in its own middle. None for anything else."""
    left, right, plus = operand.left, operand.right, operand.join == "+"
    if isinstance(right, NumberOperand) and (swing := facing(left).swing):
        return swing + (2 if plus else -2) * right.value
    if isinstance(left, NumberOperand) and (swing := facing(right).swing):
        return 2 * left.value + (swing if plus else -swing)
    return None


def facing(operand: Operand) -> Facing:
    """How an operand turns over. An average of an oscillator turns like the oscillator; what is taken of a volatility
    does not turn at all; a price less a price changes sign."""
    if isinstance(operand, CustomOperand):
        return Facing(operand.turns)
    if isinstance(operand, NumberOperand | PositionOperand):
        return UPRIGHT
    if isinstance(operand, CombinedOperand):
        left, right = facing(operand.left), facing(operand.right)
        if operand.join in "+-":
            if not left.turns and not right.turns:
                return UPRIGHT
            moved = _moved(operand)
            if moved is not None:
                return Facing("bounded", moved) if moved else Facing("centered")
            swing = left.swing + (right.swing if operand.join == "+" else -right.swing)
            prices = (left.nature == "price") + (right.nature == "price") * (1 if operand.join == "+" else -1)
            return Facing("bounded", swing) if swing else Facing("price" if prices else "centered")
        if operand.join == "*" and isinstance(operand.left, NumberOperand):
            return _factor(right, operand.left.value)
        if isinstance(operand.right, NumberOperand) and operand.right.value:
            return _factor(left, operand.right.value if operand.join == "*" else 1 / operand.right.value)
        if operand.join == "/" and left.nature == right.nature == "price":
            return Facing("bounded", 2.0)  # a ratio of two prices is reflected at 1
        # Products: signs multiply. A bounded one stands in its upright form, see `_upright`.
        odd = [f.turns and not f.swing for f in (left, right)]
        return Facing("centered") if odd[0] != odd[1] else UPRIGHT
    out = output_of(operand)
    assert out is not None
    own = Facing(out.nature, sum(out.bounds) if out.nature == "bounded" else 0.0)
    source = operand.of if isinstance(operand, IndicatorOperand) else None
    if source is not None and not isinstance(source, str):
        inner = facing(source)
        if not inner.turns:
            return UPRIGHT
        if own.nature == "price":
            own = inner
    return _factor(own, float(operand.times))


def _negative(value: float) -> float:
    formula = formula_of(value)
    return 0.0 - value if formula is None else named(-value, f"-({formula})")  # 0 stays without a minus


def _reflected(value: float, swing: float) -> float:
    """swing - value, named numbers staying named."""
    formula = formula_of(value)
    return swing - value if formula is None else named(type(value)(swing - value), f"{swing:g} - ({formula})")


def _upright(operand: Operand) -> Operand:
    """A bounded operand's mirror written out, so that it does not turn any more."""
    found = facing(operand)
    if not found.swing:
        return turned(operand)
    return CombinedOperand(join="-", left=NumberOperand(value=found.swing), right=turned(operand))


def turned(operand: Operand) -> Operand:
    """The operand with its fields and lines reflected: what stands where it stood once up and down have changed places,
    but for the sign (`facing`)."""
    if isinstance(operand, FieldOperand):
        return operand.model_copy(update={"field": FIELD_MIRROR.get(operand.field, operand.field)})
    if isinstance(operand, CombinedOperand):
        left, right = facing(operand.left), facing(operand.right)
        if operand.join in "+-":
            first, second = turned(operand.left), turned(operand.right)
            if left.turns == right.turns or _moved(operand) is not None:
                return operand.model_copy(update={"left": first, "right": second})
            if left.turns:  # close + ATR becomes close - ATR
                return operand.model_copy(update={"join": "-" if operand.join == "+" else "+", "left": first,
                                                  "right": second})
            # ATR + close becomes close - ATR; ATR - close becomes -ATR - close
            if operand.join == "+":
                return CombinedOperand(join="-", left=second, right=first, ago=operand.ago)
            below: Operand = (NumberOperand(value=_negative(first.value)) if isinstance(first, NumberOperand)
                              else CombinedOperand(join="-", left=NumberOperand(), right=first))
            return CombinedOperand(join="-", left=below, right=second, ago=operand.ago)
        if isinstance(operand.left, NumberOperand) or isinstance(operand.right, NumberOperand):
            return operand.model_copy(update={"left": turned(operand.left), "right": turned(operand.right)})
        return operand.model_copy(update={"left": _upright(operand.left), "right": _upright(operand.right)})
    if not isinstance(operand, IndicatorOperand):
        return operand
    source = operand.of
    change: dict[str, object] = {}
    inner_turns = True
    if source is not None and not isinstance(source, str):
        inner_turns = facing(source).turns
        change["of"] = turned(source)
    elif source in FIELD_MIRROR:
        change["of"] = FIELD_MIRROR[source or ""]
    out = output_of(operand)
    assert out is not None
    if out.mirror and inner_turns:
        change |= {"indicator": out.mirror[0], "output": out.mirror[1]}
    return operand.model_copy(update=change)


def _opposite(operand: Operand, other: Operand, turning: bool) -> Operand:
    """What an operand becomes in a row that turns over, facing `other`."""
    mine, its = facing(operand), facing(other)
    if isinstance(operand, NumberOperand):
        if not turning or its.nature == "price":
            return operand
        return operand.model_copy(update={"value": _reflected(operand.value, its.swing) if its.swing
                                          else _negative(operand.value)})
    made = turned(operand)
    if turning and not mine.turns and its.nature == "centered" and isinstance(made, FieldOperand | IndicatorOperand):
        # "body above 1.5 x ATR" becomes "body below -1.5 x ATR".
        return made.model_copy(update={"times": _negative(made.times)})
    if turning and not mine.turns and its.swing:
        return CombinedOperand(join="-", left=NumberOperand(value=its.swing), right=made)
    return made


def mirror_row(row: Row) -> Row:
    """A row reflected. Rows that know no up or down (time of day, ATR above a number) stay as they are, and so does
    what knows none between two ends that turn over in different ways, such as a price and an oscillator: there is no
    reflection of both."""
    if (row.compare == "between" and row.upper is not None and not facing(row.left).turns
            and facing(row.right) != facing(row.upper)):
        return row
    turning = any(facing(o).turns for o in row.asked)
    change: dict[str, object] = {"left": _opposite(row.left, row.right, turning)}
    if row.compare.startswith("ranks"):
        change["left"] = turned(row.left)
        if turning and isinstance(row.right, NumberOperand):
            change["right"] = row.right.model_copy(update={"value": _reflected(row.right.value, 100.0)})
    elif row.compare in ("inside", "outside"):
        change["right"] = turned(row.right).model_copy(update={"output": "upper"})  # both lines are read
    elif row.compare == "between":
        assert row.upper is not None
        change |= {"right": _opposite(row.right, row.left, turning), "upper": _opposite(row.upper, row.left, turning)}
        # A number beside a price stays where it is, like in other rows, whichever end it is; all else changes places.
        numbers = isinstance(row.right, NumberOperand) or isinstance(row.upper, NumberOperand)
        stays = turning and facing(row.left).nature == "price" and numbers
        if turning and not stays:
            change["right"], change["upper"] = change["upper"], change["right"]
    else:
        change["right"] = _opposite(row.right, row.left, turning)
    if turning:
        change["compare"] = FLIPPED.get(row.compare, row.compare)
    return row.model_copy(update=change)


def mirror_level(level: Level) -> Level:
    """A level on the other side: its operand reflected, its offset turned round."""
    return level.model_copy(update={"operand": turned(level.operand), "offset": _negative(level.offset)})


def mirror_order(order: EntryOrder) -> EntryOrder:
    return order if order.level is None else order.model_copy(update={"level": mirror_level(order.level)})


def mirror_condition(condition: Condition) -> Condition:
    return condition.model_copy(update={"rows": tuple(
        mirror_row(r) if isinstance(r, Row) else mirror_condition(r) for r in condition.rows)})


def effective_short(strategy: Strategy) -> Side:
    """The short side as it trades: own, mirrored from long, or empty when off."""
    if strategy.short.mode == "off":
        return Side(mode="off")
    if strategy.short.mode == "mirrored":
        if strategy.long.mode == "off":
            return Side(mode="off")
        return Side(mode="mirrored", entry=mirror_condition(strategy.long.entry),
                    exit=mirror_condition(strategy.long.exit), order=mirror_order(strategy.long.order))
    return strategy.short


def entry_orders(strategy: Strategy) -> tuple[EntryOrder, EntryOrder]:
    """How the long and the short side enter."""
    mirrored = strategy.short.mode == "mirrored"
    return strategy.long.order, mirror_order(strategy.long.order) if mirrored else strategy.short.order


def effective_long(strategy: Strategy) -> Side:
    return Side(mode="off") if strategy.long.mode == "off" else strategy.long


SIDES = ("both", "long", "short")


def with_sides(strategy: Strategy, sides: str) -> Strategy:
    """The strategy trading these sides only: both, long or short. A side that it lacks is the other one's mirror image."""
    long, short = strategy.long, effective_short(strategy)
    if sides == "long":
        if long.mode == "off" and short.mode != "off":
            long = _reflected_side(short)
        return strategy.model_copy(update={"long": long, "short": Side(mode="off")})
    if short.mode == "off" and long.mode != "off":
        short = _reflected_side(long)
    if sides == "short":
        return strategy.model_copy(update={"long": Side(mode="off"), "short": short.model_copy(update={"mode": "own"})})
    if long.mode == "off":
        return strategy.model_copy(update={"long": _reflected_side(short)})
    return strategy if strategy.short.mode != "off" else strategy.model_copy(update={"short": Side(mode="mirrored")})


def _reflected_side(side: Side) -> Side:
    return Side(mode="own", entry=mirror_condition(side.entry), exit=mirror_condition(side.exit),
                order=mirror_order(side.order))
