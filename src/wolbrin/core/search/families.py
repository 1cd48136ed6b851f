"""What Discover builds conditions from: families that draw one each, from the whole catalogue, the condition library, the
clock, longer intervals, other markets and the user's own indicators."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from wolbrin.core.indicators.catalogue import CATALOGUE
from wolbrin.core.indicators.model import Indicator, Output, Param
from wolbrin.core.rules.conditions import shipped
from wolbrin.core.rules.model import Condition, FieldOperand, IndicatorOperand, NumberOperand, Operand, Row
from wolbrin.core.rules.operands import CustomOperand
from wolbrin.core.search.grammar import TEMPLATES

Rng = np.random.Generator
Node = Row | Condition
LENGTHS = (1, 2, 3, 5, 8, 10, 14, 20, 30, 50, 75, 100, 150, 200)
LONGER = (5, 10, 15, 30, 60, 120, 240)  # minutes
LONGER_SHARE, OTHER_SHARE = 0.12, 0.06  # of rows that could read a longer interval, or another market


@dataclass(frozen=True)
class Sources:
    """What a search may read beside its own bars. interval: of those, in minutes (market.intervals); others: codes of other
    markets; own: the user's confirmed indicators. level(operand, share): the value that this share of the operand's values in
    training lie below, NaN where it has none."""

    interval: int
    level: Callable[[Operand, float], float]
    others: tuple[str, ...] = ()
    own: tuple[CustomOperand, ...] = ()

    @property
    def longer(self) -> tuple[int, ...]:
        """Longer intervals that a whole number of own bars make."""
        return tuple(m for m in LONGER if m > self.interval and m % self.interval == 0)


def _rounded(value: float) -> float:
    """Three digits that count."""
    return float(f"{value:.3g}")


def _setting(rng: Rng, param: Param) -> float:
    """A value of a setting: lengths of a ladder, so that conditions share columns; other numbers on a few of their steps."""
    low, high = max(param.low, param.step), param.high
    if param.whole and param.step == 1:
        ladder = [float(x) for x in LENGTHS if low <= x <= high]
        return ladder[int(rng.integers(len(ladder)))] if ladder else float(param.default)
    steps = round((high - low) / param.step)
    if steps < 1:
        return float(param.default)
    return float(round(low + param.step * round(steps * int(rng.integers(5)) / 4), 6))


def _any(rng: Rng, *words: str) -> str:
    return words[int(rng.integers(len(words)))]


def _elsewhere(rng: Rng, operand: IndicatorOperand, sources: Sources) -> IndicatorOperand:
    """The operand, now and then on a longer interval or another market."""
    u = rng.random()
    if u < LONGER_SHARE and sources.longer:
        return operand.model_copy(update={"interval": int(sources.longer[int(rng.integers(len(sources.longer)))])})
    if u > 1.0 - OTHER_SHARE and sources.others:
        return operand.model_copy(update={"market": _any(rng, *sources.others)})
    return operand


def _compared(rng: Rng, left: Operand, sources: Sources, crossing: bool) -> Row | None:
    """A series against a value that it really takes, or against its own past."""
    kind = rng.random()
    if kind < 0.2:
        return Row(left=left, compare=_any(rng, "rises", "falls"))
    if kind < 0.3:
        over = int(_setting(rng, Param("over", "over", 20, 5, 100)))
        return Row(left=left, compare=_any(rng, "makes a new high", "makes a new low"), over=over)
    if kind < 0.4:
        over = int(_setting(rng, Param("over", "over", 50, 20, 200, 10)))
        return Row(left=left, compare=_any(rng, "ranks above", "ranks below"), over=over,
                   right=NumberOperand(value=float(10 * rng.integers(1, 10))))
    level = sources.level(left, float(rng.uniform(0.05, 0.95)))
    if not np.isfinite(level):
        return None
    words = ("crosses above", "crosses below") if crossing else ("above", "below")
    return Row(left=left, compare=_any(rng, *words), right=NumberOperand(value=_rounded(level)))


def _of_indicator(rng: Rng, entry: Indicator, output: Output, sources: Sources) -> Row | None:
    settings = {p.key: _setting(rng, p) for p in entry.params}
    series = _elsewhere(rng, IndicatorOperand(indicator=entry.key, output=output.key, params=settings), sources)
    if output.nature == "price" and entry.on_price and series.market is None:
        compare = _any(rng, "above", "below", "crosses above", "crosses below", "rises", "falls")
        if compare in ("rises", "falls"):
            return Row(left=series, compare=compare)
        return Row(left=FieldOperand(), compare=compare, right=series)
    if output.nature == "centered" and rng.random() < 0.4:
        return Row(left=series, compare=_any(rng, "above", "below", "crosses above", "crosses below"),

                   right=NumberOperand(value=0.0))
    return _compared(rng, series, sources, rng.random() < 0.5)


@dataclass(frozen=True)
class Family:
    """One family of conditions; weight: how often it is asked. draw gives None where it has nothing to offer."""

    name: str
    weight: float
    draw: Callable[[Rng, Sources], Node | None]


def _catalogue(rng: Rng, sources: Sources) -> Node | None:
    entry = CATALOGUE[int(rng.integers(len(CATALOGUE)))]
    return _of_indicator(rng, entry, entry.outputs[int(rng.integers(len(entry.outputs)))], sources)


def _template(rng: Rng, sources: Sources) -> Node | None:
    return TEMPLATES[int(rng.integers(len(TEMPLATES)))].draw(rng)


def _library(rng: Rng, sources: Sources) -> Node | None:
    found = shipped()
    return found[int(rng.integers(len(found)))].condition()


def _clock(rng: Rng, sources: Sources) -> Node | None:
    minute = int(rng.integers(48)) * 30
    clock = IndicatorOperand(indicator="time_of_day")

    def at(m: int) -> NumberOperand:
        return NumberOperand(value=float(m // 60 * 100 + m % 60))

    kind = rng.random()
    if kind < 0.4:
        return Row(left=clock, compare=_any(rng, "above", "below"), right=at(minute))
    if kind < 0.75:
        until = min(1410, minute + int(rng.integers(1, 9)) * 30)
        return Row(left=clock, compare="between", right=at(minute), upper=at(until))
    if kind < 0.85:
        return Row(left=IndicatorOperand(indicator="weekday"), compare="equals",
                   right=NumberOperand(value=float(rng.integers(1, 6))))
    return Row(left=IndicatorOperand(indicator="bars_in_session"), compare=_any(rng, "above", "below"),

               right=NumberOperand(value=float(rng.integers(1, 60))))


def _own(rng: Rng, sources: Sources) -> Node | None:
    if not sources.own:
        return None
    return _compared(rng, sources.own[int(rng.integers(len(sources.own)))], sources, rng.random() < 0.5)


# To add a family: an entry here. A single condition with numbers of its own belongs into grammar.TEMPLATES.
FAMILIES: list[Family] = [
    Family("the catalogue of indicators", 0.52, _catalogue),
    Family("common conditions", 0.24, _template),
    Family("the condition library", 0.12, _library),
    Family("clock and calendar", 0.08, _clock),
    Family("own indicators", 0.04, _own),
]


def draw_nodes(seed: int, count: int, sources: Sources) -> list[Node]:
    """So many conditions, each once; fewer where the families run dry. The same seed and sources give the same ones."""
    rng = np.random.default_rng((seed, 14))
    weights = np.array([f.weight for f in FAMILIES])
    weights /= weights.sum()
    found: dict[str, Node] = {}
    for _ in range(4 * count + 100):
        if len(found) >= count:
            break
        node = FAMILIES[int(rng.choice(len(FAMILIES), p=weights))].draw(rng, sources)
        if node is not None:
            found.setdefault(node.model_dump_json(), node)
    return list(found.values())
