"""The catalogue of conditions from which Discover builds candidates, and how one is drawn."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np
from pydantic import Field

from wolbrin.core.models import Model
from wolbrin.core.rules.model import (
    Comparison,
    FieldOperand,
    IndicatorOperand,
    NumberOperand,
    Operand,
    Row,
)

Rng = np.random.Generator


class Limits(Model):
    """What the user allows Discover to build and to keep."""

    sides: Literal["both", "long", "short"] = "both"
    most_rows: int = Field(3, ge=1, le=5)
    least_trades: int = Field(300, ge=1, le=1_000_000)
    least_profit_factor: float = Field(1.3, ge=0, le=100)
    flat_by_session_end: bool = True
    quantity: float = Field(1.0, gt=0)
    pool: int = Field(5_000, ge=10, le=200_000, description="conditions that candidates are built from")
    give_up_after: int = Field(0, ge=0, le=1_000_000,
                               description="trades after which one that has lost is given up; 0: never")



def _pick(rng: Rng, low: float, high: float, step: float) -> float:
    count = round((high - low) / step) + 1
    return float(round(low + step * int(rng.integers(count)), 6))


def _indicator(key: str, output: str = "value", **params: float) -> IndicatorOperand:
    return IndicatorOperand(indicator=key, output=output, params=params)


def _row(left: Operand, compare: str, right: Operand) -> Row:
    which: Comparison = compare  # type: ignore[assignment]
    return Row(left=left, compare=which, right=right)


CLOSE = FieldOperand()


def _either(rng: Rng) -> str:
    return str(rng.choice(["above", "below"]))


def _crossing(rng: Rng) -> str:
    return str(rng.choice(["crosses above", "crosses below"]))


@dataclass(frozen=True)
class Template:
    """One family of conditions. trigger: fires at moments, rather than holding for long."""

    name: str
    trigger: bool
    draw: Callable[[Rng], Row]


TEMPLATES: tuple[Template, ...] = (
    Template("close crosses average", True, lambda g: _row(
        CLOSE, _crossing(g), _indicator(str(g.choice(["sma", "ema"])), length=_pick(g, 10, 200, 10)))),
    Template("averages cross", True, lambda g: _row(
        _indicator("ema", length=_pick(g, 5, 30, 5)), _crossing(g), _indicator("ema", length=_pick(g, 40, 200, 20)))),
    Template("RSI crosses level", True, lambda g: _row(
        _indicator("rsi", length=_pick(g, 3, 21, 2)), _crossing(g), NumberOperand(value=_pick(g, 15, 85, 5)))),
    Template("stochastic crosses level", True, lambda g: _row(
        _indicator("stochastic", "k", length=_pick(g, 5, 30, 5)), _crossing(g),
        NumberOperand(value=_pick(g, 10, 90, 10)))),
    Template("CCI crosses level", True, lambda g: _row(
        _indicator("cci", length=_pick(g, 10, 60, 10)), _crossing(g), NumberOperand(value=_pick(g, -200, 200, 50)))),
    Template("close crosses band", True, lambda g: _row(
        CLOSE, _crossing(g), _indicator("bands", str(g.choice(["upper", "lower"])), length=_pick(g, 10, 60, 10),
                                        width=_pick(g, 1.5, 3.0, 0.5)))),
    Template("close crosses channel", True, lambda g: _row(
        CLOSE, _crossing(g), _indicator("keltner", str(g.choice(["upper", "lower"])), length=_pick(g, 10, 60, 10),
                                        width=_pick(g, 1.0, 3.0, 0.5)))),
    Template("n-bar extreme", True, lambda g: _row(
        CLOSE, _crossing(g), _indicator(str(g.choice(["highest", "lowest"])), length=_pick(g, 5, 100, 5)))),
    Template("opening range", True, lambda g: _row(
        CLOSE, _crossing(g), _indicator("opening_range", str(g.choice(["high", "low"])),
                                        minutes=_pick(g, 15, 120, 15)))),
    Template("prior session", True, lambda g: _row(
        CLOSE, _crossing(g), _indicator("prior_session", str(g.choice(["high", "low", "close"]))))),
    Template("MACD crosses signal", True, lambda g: _row(
        _indicator("macd", "line"), _crossing(g), _indicator("macd", "signal"))),
    Template("VWAP crossed", True, lambda g: _row(CLOSE, _crossing(g), _indicator("vwap"))),
    Template("side of average", False, lambda g: _row(
        CLOSE, _either(g), _indicator("sma", length=_pick(g, 50, 200, 50)))),
    Template("average rises or falls", False, lambda g: _row(
        _indicator("ema", length=_pick(g, 20, 200, 20)), str(g.choice(["rises", "falls"])), NumberOperand())),
    Template("momentum", False, lambda g: _row(
        _indicator("momentum", length=_pick(g, 5, 60, 5)), _either(g), NumberOperand(value=0.0))),
    Template("trend strength", False, lambda g: _row(
        _indicator("directional", "adx", length=14), _either(g), NumberOperand(value=_pick(g, 15, 35, 5)))),
    Template("side of VWAP", False, lambda g: _row(CLOSE, _either(g), _indicator("vwap"))),
    Template("side of the open", False, lambda g: _row(CLOSE, _either(g), _indicator("session_open"))),
    Template("gap", False, lambda g: _row(_indicator("gap"), _either(g), NumberOperand(value=0.0))),
    Template("close in range", False, lambda g: _row(
        _indicator("place"), _either(g), NumberOperand(value=_pick(g, 0.2, 0.8, 0.1)))),
    Template("wide or narrow bar", False, lambda g: _row(
        _indicator("range"), _either(g),
        IndicatorOperand(indicator="atr", params={"length": 20}, times=_pick(g, 0.6, 1.8, 0.2)))),
    Template("early or late", False, lambda g: _row(
        _indicator("bars_in_session"), _either(g), NumberOperand(value=_pick(g, 4, 40, 4)))),
)
