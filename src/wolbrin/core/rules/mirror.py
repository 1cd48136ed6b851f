"""The short side reflected from the long side: up and down change places in fields, bands, levels, comparisons."""

from __future__ import annotations

from wolbrin.core.indicators.catalogue import BY_KEY, FIELD_MIRROR
from wolbrin.core.indicators.model import Output
from wolbrin.core.rules.model import (
    Comparison,
    Condition,
    EntryOrder,
    FieldOperand,
    IndicatorOperand,
    Level,
    NumberOperand,
    Operand,
    Row,
    Side,
    Strategy,
)

FLIPPED: dict[Comparison, Comparison] = {
    "above": "below", "below": "above", "at or above": "at or below", "at or below": "at or above",
    "crosses above": "crosses below", "crosses below": "crosses above", "rises": "falls", "falls": "rises"}


def output_of(operand: Operand) -> Output | None:
    if isinstance(operand, IndicatorOperand):
        return BY_KEY[operand.indicator].output(operand.output)
    return Output("value", operand.field, "price") if isinstance(operand, FieldOperand) else None


def _directional(operand: Operand) -> bool:
    out = output_of(operand)
    return out is not None and out.nature != "unsigned"


def _mirrored(operand: Operand, other: Operand, flip: bool) -> Operand:
    facing = output_of(other)
    if isinstance(operand, NumberOperand):
        if facing is None or not flip:
            return operand
        if facing.nature == "bounded":
            return operand.model_copy(update={"value": facing.bounds[0] + facing.bounds[1] - operand.value})
        return operand.model_copy(update={"value": -operand.value}) if facing.nature == "centered" else operand
    if isinstance(operand, FieldOperand):
        return operand.model_copy(update={"field": FIELD_MIRROR.get(operand.field, operand.field)})
    out = output_of(operand)
    assert out is not None
    change: dict[str, object] = {}
    if out.mirror:
        change |= {"indicator": out.mirror[0], "output": out.mirror[1]}
    if operand.of in FIELD_MIRROR:
        change["of"] = FIELD_MIRROR[operand.of or ""]
    if flip and out.nature == "unsigned" and facing is not None and facing.nature == "centered":
        # "body above 1.5 x ATR" becomes "body below -1.5 x ATR".
        change["times"] = -operand.times
    return operand.model_copy(update=change)


def mirror_row(row: Row) -> Row:
    """A row reflected. Rows that know no up or down (time of day, ATR above a number) stay as they are."""
    flip = _directional(row.left) or _directional(row.right)
    return row.model_copy(update={
        "left": _mirrored(row.left, row.right, flip), "right": _mirrored(row.right, row.left, flip),
        "compare": FLIPPED[row.compare] if flip else row.compare})


def mirror_level(level: Level) -> Level:
    """A level on the other side: its operand reflected, its offset turned round."""
    return level.model_copy(update={"operand": _mirrored(level.operand, FieldOperand(), False), "offset": -level.offset})


def mirror_order(order: EntryOrder) -> EntryOrder:
    return order if order.level is None else order.model_copy(update={"level": mirror_level(order.level)})


def mirror_condition(condition: Condition) -> Condition:
    return condition.model_copy(update={"rows": tuple(mirror_row(r) for r in condition.rows)})


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
