"""What an indicator is: one description and one pure function. The catalogue lists them; nothing else knows them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.market.bars import Bars

Floats = NDArray[np.float64]
Values = Mapping[str, float]

Nature = Literal["price", "bounded", "centered", "unsigned"]
"""How an output turns over when up and down change places: a price stays a price, a bounded one reflects in its
middle, a centered one changes sign, an unsigned one stays as it is."""


@dataclass(frozen=True)
class Param:
    """One whole-number or decimal setting with its sensible range."""

    key: str
    title: str
    default: float
    low: float
    high: float
    step: float = 1.0

    @property
    def whole(self) -> bool:
        return float(self.step).is_integer() and float(self.default).is_integer()


@dataclass(frozen=True)
class Output:
    """One line an indicator gives. `mirror` names (indicator, output) that it becomes on the other side."""

    key: str
    title: str
    nature: Nature
    bounds: tuple[float, float] = (0.0, 100.0)
    mirror: tuple[str, str] | None = None


@dataclass(frozen=True)
class Indicator:
    """One entry of the catalogue.

    compute(bars, source, values) -> one float64[n] per output, NaN in warm-up; value i depends on bars 0..i only.
    `source` is the price field's float64[n] for indicators that take one (`takes_field`), else the close.
    """

    key: str
    title: str
    group: str
    outputs: tuple[Output, ...]
    params: tuple[Param, ...]
    compute: Callable[[Bars, Floats, Values], tuple[Floats, ...]]
    formula: str
    reference: str
    takes_field: bool = False
    field: str = "close"
    warm_up: Callable[[Values], int] | None = None
    on_price: bool = False

    def output(self, key: str) -> Output:
        return next(o for o in self.outputs if o.key == key)

    def defaults(self) -> dict[str, float]:
        return {p.key: p.default for p in self.params}

    def label(self, values: Values, output: str, field: str) -> str:
        """Short text such as "EMA(20)" or "MACD signal(12, 26, 9) of high"."""
        out = self.output(output)
        name = out.title if len(self.outputs) > 1 else self.title
        args = ", ".join(f"{values.get(p.key, p.default):g}" for p in self.params)
        text = f"{name}({args})" if args else name
        return f"{text} of {field}" if self.takes_field and field != self.field else text
