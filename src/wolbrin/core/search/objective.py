"""What a sweep looks for: a measure, a weighted blend of normalized measures, or two at once; and floors under it.

A score is higher where it is better, whatever the measure. In a blend each measure is normalized to 0 for the worst and 1 for
the best of all sets it is compared with.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from wolbrin.core.errors import UserError
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.models import Model

Floats = NDArray[np.float64]
Scale = Mapping[str, tuple[float, float]]  # worst and best score by measure
PART = re.compile(r"^\s*(?:(\d+(?:\.\d+)?)\s*\*\s*)?([a-z_][a-z_0-9 ]*?)\s*$", re.I)
FLOOR = re.compile(r"^\s*(?:(long|short|year)\s*[.:]\s*)?([a-z_][a-z_0-9 ]*?)\s*(<=|>=|at least|at most)\s*"
                   r"([-+\u2212]?[\d.,]+)\s*%?\s*$", re.I)


def key_of_measure(name: str, where: str) -> str:
    """The key of a measure given by key or title. Raises UserError where there is none."""
    wanted = name.strip().casefold()
    for key in BY_KEY:
        if wanted in (key, BY_KEY[key].title.casefold(), key.replace("_", " ")):
            return key
    raise UserError(f'there is no measure "{name.strip()}"', where, f"There are {', '.join(BY_KEY)}.")


def signed(key: str, values: Floats) -> Floats:
    """A measure as a score: higher is better."""
    return -values if BY_KEY[key].better < 0 else values


class Term(Model):
    """One measure of a blend, and its weight."""

    key: str
    weight: Annotated[float, Field(gt=0, le=1000)] = 1.0


class Objective(Model):
    """One term: a measure. Several: a blend. second: looked for at the same time, with the trade-off drawn."""

    terms: Annotated[tuple[Term, ...], Field(min_length=1, max_length=12)] = (Term(key="return_drawdown"),)
    second: str = ""

    @classmethod
    def of(cls, key: str, second: str = "") -> Objective:
        return cls(terms=(Term(key=key),), second=second)

    @classmethod
    def parse(cls, texts: Sequence[str]) -> Objective:
        """Read "return_drawdown", "0.6 * return_drawdown + 0.4 * t_daily", or two measures for two at once.

        Raises:
            UserError: it cannot be read, or names no measure.
        """
        if not texts:
            return cls()
        if len(texts) > 2:
            raise UserError("at most two objectives can be looked for at once", "--objective",
                            "Blend them: 0.5 * a + 0.5 * b.")
        terms = []
        for part in texts[0].split("+"):
            found = PART.match(part)
            if not found:
                raise UserError(f'"{part.strip()}" is not a measure or weight * measure', "--objective",
                                "Write for example 0.6 * return_drawdown + 0.4 * t_daily.")
            weight = float(found[1]) if found[1] else 1.0
            if not 0 < weight <= 1000:
                raise UserError("a weight must be above 0 and at most 1,000", "--objective", "Change the weight.")
            terms.append(Term(key=key_of_measure(found[2], "--objective"), weight=weight))
        if len({t.key for t in terms}) < len(terms):
            raise UserError("a measure stands in the blend twice", "--objective", "Add its weights.")
        return cls(terms=tuple(terms), second=key_of_measure(texts[1], "--objective") if len(texts) > 1 else "")

    @property
    def blended(self) -> bool:
        return len(self.terms) > 1

    @property
    def keys(self) -> tuple[str, ...]:
        """Measures that it reads."""
        return tuple(dict.fromkeys([*(t.key for t in self.terms), *([self.second] if self.second else [])]))

    def words(self) -> str:
        """As a formula."""
        if not self.blended:
            return BY_KEY[self.terms[0].key].title + (f", and {BY_KEY[self.second].title}" if self.second else "")
        parts = [f"{t.weight:g} \u00d7 {BY_KEY[t.key].title}" for t in self.terms]
        return " + ".join(parts) + " (each from 0, the worst set, to 1, the best)"

    def scale(self, figures: Mapping[str, Floats]) -> dict[str, tuple[float, float]]:
        """Worst and best of each blended measure over these sets; what normalizes them."""
        out = {}
        for t in self.terms if self.blended else ():
            known = signed(t.key, figures[t.key])
            known = known[np.isfinite(known)]
            out[t.key] = (float(known.min()), float(known.max())) if len(known) else (0.0, 0.0)
        return out

    def score(self, figures: Mapping[str, Floats], scale: Scale | None = None) -> Floats:
        """float64[n], higher is better; NaN where a measure has no value. scale: of a blend; of these sets where None."""
        first = self.terms[0].key
        if not self.blended:
            return signed(first, figures[first])
        scale = self.scale(figures) if scale is None else scale
        total = np.zeros(len(figures[first]))
        for t in self.terms:
            low, high = scale[t.key]
            total += t.weight * (signed(t.key, figures[t.key]) - low) / ((high - low) or 1.0)
        return total

    def second_score(self, figures: Mapping[str, Floats]) -> Floats:
        """The second objective's score."""
        return signed(self.second, figures[self.second])

    def value_words(self, score: float) -> str:
        """A score as it is read."""
        if self.blended:
            return number(score, 3)
        key = self.terms[0].key
        return worded(key, -score if BY_KEY[key].better < 0 else score)


class Floor(Model):
    """What a set must reach to count. of: of the whole run, of its long or its short trades, or of every whole year."""

    key: str
    compare: Literal[">=", "<="] = ">="
    value: float
    of: Literal["", "long", "short", "year"] = ""

    @classmethod
    def parse(cls, text: str) -> Floor:
        """Read "trades >= 100", "maximum drawdown at most 9,000", "long.trades>=50", "year.net>=0"; the limit of a loss may
        be given with a minus.

        Raises:
            UserError: it cannot be read, or names no measure.
        """
        found = FLOOR.match(text)
        if not found:
            raise UserError(f'"{text.strip()}" is not a floor', "--floor",
                            "Write for example trades>=100, max_drawdown<=9000, year.net>=0.")
        key = key_of_measure(found[2], "--floor")
        compare = ">=" if found[3].casefold() in (">=", "at least") else "<="
        try:
            value = float(found[4].replace(",", "").replace("\u2212", "-"))
        except ValueError:
            raise UserError(f'"{found[4]}" is not a number', f"--floor {key}", "Enter a number.") from None
        if BY_KEY[key].better < 0 and value < 0:
            # A loss written with its minus: "drawdown >= -9000" asks that it be no deeper.
            value, compare = -value, "<="
        return cls(key=key, compare=compare, value=value, of=(found[1] or "").casefold())

    @classmethod
    def parse_plain(cls, text: str) -> Floor:
        """As `parse`, of the whole run only. Raises UserError otherwise."""
        made = cls.parse(text)
        if made.of:
            raise UserError(f'a floor of a sweep is of the whole run, and "{text.strip()}" is not', "--floor",
                            f"Write {made.key}{made.compare}{made.value:g}, or use it in Discover.")
        return made

    @property
    def name(self) -> str:
        """What it is on, such as "year.net"."""
        return f"{self.of}.{self.key}" if self.of else self.key

    @property
    def text(self) -> str:
        """As it is written."""
        return f"{self.name}{self.compare}{self.value:g}"

    def words(self) -> str:
        where = {"": "", "long": "long ", "short": "short ", "year": "each year's "}[self.of]
        way = "least" if self.compare == ">=" else "most"
        return f"{where}{BY_KEY[self.key].title} at {way} {worded(self.key, self.value)}"

    def holds(self, x: float) -> bool:
        """Whether a value passes; none does not."""
        return x >= self.value if self.compare == ">=" else x <= self.value

    def passes(self, figures: Mapping[str, Floats]) -> NDArray[np.bool_]:
        """bool[n]; a measure without a value does not pass."""
        x = figures[self.key]
        with np.errstate(invalid="ignore"):
            return x >= self.value if self.compare == ">=" else x <= self.value


def passing(floors: Sequence[Floor], figures: Mapping[str, Floats], count: int) -> NDArray[np.bool_]:
    """bool[n]: sets that pass every floor."""
    out = np.ones(count, bool)
    for floor in floors:
        out &= floor.passes(figures)
    return out


def front(first: Floats, second: Floats) -> NDArray[np.bool_]:
    """Which sets no other beats in both scores; those without a value are none."""
    out = np.zeros(len(first), bool)
    known = np.flatnonzero(np.isfinite(first) & np.isfinite(second))
    order = known[np.lexsort((-second[known], -first[known]))]
    best, last = -np.inf, (np.nan, np.nan)
    for i in order.tolist():
        same = (first[i], second[i]) == last
        if second[i] > best or same:
            out[i], best, last = True, max(best, float(second[i])), (first[i], second[i])
    return out


def named(names: Sequence[str], figures: Floats) -> dict[str, Floats]:
    """Columns of a table of figures by their measures."""
    return {key: figures[:, i] for i, key in enumerate(names)}


def read_objective(data: dict[str, Any] | None) -> Objective:
    """A stored objective; the usual one where none was stored."""
    return Objective.model_validate(data) if data else Objective()
