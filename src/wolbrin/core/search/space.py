"""The sets of a sweep as a grid: numbering, constraints, neighbors."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import product

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.rules.axes import PLACES, Axis, Link, size_of

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
MOST_AROUND = 3**7  # neighbors of a set that are looked at
LARGEST_GRID = 2**62  # sets are numbered with 64 bits
NUMBER = r"[-+\u2212]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?"
KEY = r"[A-Za-z_][\w. ]*?"
LINEAR = rf"(?:({NUMBER})\s*\*\s*)?({KEY})\s*(?:([+\u2212-])\s*({NUMBER}))?\s*$"
CONSTRAINT = re.compile(rf"^\s*({KEY})\s*(<=|>=|!=|=|<|>)\s*{LINEAR}")
AGAINST = re.compile(rf"^\s*({KEY})\s*(<=|>=|!=|=|<|>)\s*({NUMBER})\s*$")
LINK = re.compile(rf"^\s*({KEY})\s*=\s*{LINEAR}")
SAME = 1e-9


def _number(text: str | None, otherwise: float) -> float:
    return float(text.replace("\u2212", "-")) if text else otherwise


def key_of(name: str, titles: Mapping[str, str], where: str) -> str:
    """The key of a number given by its key or title. titles: by key. Raises UserError where there is none, or several."""
    name = name.strip()
    if name in titles:
        return name
    found = [key for key, title in titles.items() if title == name]
    found = found or [key for key, title in titles.items() if title.casefold() == name.casefold()]
    if len(found) == 1:
        return found[0]
    if found:
        raise UserError(f'several numbers are called "{name}"', where, f"Use one of {', '.join(found)}.")
    raise UserError(f'the strategy has no number "{name}"', where, f"It has {', '.join(titles) or 'none'}.")


@dataclass(frozen=True)
class Constraint:
    """left compared with factor * right + offset; right "" compares with the offset alone. Keys as axes have them."""

    left: str
    compare: str
    right: str = ""
    factor: float = 1.0
    offset: float = 0.0

    @classmethod
    def parse(cls, text: str, titles: Mapping[str, str]) -> Constraint:
        """Read "fast < slow", "target.amount >= 1.5 * stop.amount", "stop.amount <= 3".

        Raises:
            UserError: it cannot be read, or names what is not there.
        """
        where = f"constraint {text.strip()}"
        found = AGAINST.match(text)
        if found:
            return cls(key_of(found[1], titles, where), found[2], offset=_number(found[3], 0.0))
        found = CONSTRAINT.match(text)
        if not found:
            raise UserError(f'"{text.strip()}" is not a constraint', "--constraint",
                            "Write for example fast < slow, target.amount >= 1.5 * stop.amount.")
        sign = -1.0 if found[5] and found[5] != "+" else 1.0
        return cls(key_of(found[1], titles, where), found[2], key_of(found[4], titles, where), _number(found[3], 1.0),
                   sign * _number(found[6], 0.0))

    def words(self, titles: Mapping[str, str]) -> str:
        """As it is read."""
        right = f"{self.offset:g}"
        if self.right:
            right = (f"{self.factor:g} \u00d7 " if self.factor != 1.0 else "") + titles.get(self.right, self.right)
            right += f" {'+' if self.offset > 0 else MINUS} {abs(self.offset):g}" if self.offset else ""
        return f"{titles.get(self.left, self.left)} {self.compare} {right}"

    def holds(self, left: Floats, right: Floats) -> NDArray[np.bool_]:
        """Where it holds; right is not read where it compares with a number."""
        other = self.factor * right + self.offset if self.right else np.full_like(left, self.offset)
        gap = left - other
        near = np.abs(gap) <= SAME * np.maximum(1.0, np.abs(other))
        return {"<": (gap < 0) & ~near, ">": (gap > 0) & ~near, "<=": (gap < 0) | near, ">=": (gap > 0) | near,
                "=": near, "!=": ~near}[self.compare]


MINUS = "\u2212"


def parse_link(text: str, titles: Mapping[str, str]) -> tuple[str, Link]:
    """Read "short.time = long.time", "target.amount = 2 * stop.amount": the axis' key, and what moves with it."""
    found = LINK.match(text)
    if not found:
        raise UserError(f'"{text.strip()}" links nothing', "--link", "Write for example target.amount = 2 * stop.amount.")
    sign = -1.0 if found[4] and found[4] != "+" else 1.0
    return key_of(found[3], titles, "--link"), Link(key_of(found[1], titles, "--link"), _number(found[2], 1.0),
                                                  sign * _number(found[5], 0.0))


class Space:
    """The grid of a sweep: sets are numbered, the last axis running fastest.

    axes: those that are no numbers of the rules (market, interval, sides) come first. base: present values of the strategy's
    numbers by key, for constraints on what is not varied.
    """

    def __init__(self, axes: Sequence[Axis], constraints: Sequence[Constraint] = (),
                 base: Mapping[str, float] | None = None) -> None:
        if not axes:
            raise UserError("no number is chosen", "sweep", "Tick at least one number to vary.")
        keys = [k for a in axes for k in (a.key, *(link.key for link in a.links))]
        twice = next((k for k in keys if keys.count(k) > 1), None)
        if twice is not None:
            name = next((a.title for a in axes if a.key == twice), twice)
            raise UserError("this number is varied twice, or varied and linked", name, "Name it once.")
        self.axes = tuple(sorted(axes, key=lambda a: PLACES.index(a.kind) if a.kind in PLACES else len(PLACES)))
        self.constraints = tuple(constraints)
        self.base = dict(base or {})
        self.shape = tuple(len(a.values) for a in self.axes)
        self.size = size_of(self.axes)
        if self.size >= LARGEST_GRID:
            raise UserError(f"{float(self.size):.0e} combinations are more than can be numbered", "sweep",
                            "Narrow ranges or enlarge steps.")
        self._strides = np.array([int(np.prod(self.shape[i + 1:], dtype=object)) for i in range(len(self.shape))], np.int64)
        self._levels = [np.array(a.values) for a in self.axes]
        self._at = {a.key: i for i, a in enumerate(self.axes)}
        self._linked = {link.key: (i, link) for i, a in enumerate(self.axes) for link in a.links}

    @cached_property
    def numbers(self) -> tuple[Axis, ...]:
        """The axes that are numbers of the rules."""
        return tuple(a for a in self.axes if a.kind not in PLACES)

    @property
    def places(self) -> int:
        """How many of the axes are none."""
        return len(self.axes) - len(self.numbers)

    @property
    def inner(self) -> int:
        """Sets in each place."""
        return size_of(self.numbers) if self.numbers else 1

    def steps(self, at: Ints) -> Ints:
        """int64[n, axes]: which value of each axis a set has."""
        return (np.asarray(at, np.int64)[:, None] // self._strides) % np.array(self.shape, np.int64)

    def at(self, steps: Ints) -> Ints:
        """Numbers of sets from their values' places."""
        return np.asarray(steps, np.int64) @ self._strides

    def values(self, at: Ints) -> Floats:
        """float64[n, axes]."""
        steps = self.steps(at)
        return np.stack([levels[steps[:, i]] for i, levels in enumerate(self._levels)], axis=1) if len(at) else np.zeros(
            (0, len(self.axes)))

    def find(self, values: Floats) -> Ints:
        """Numbers of sets of these values, float64[n, axes]; -1 where they are not on the grid."""
        values = np.asarray(values, np.float64).reshape(-1, len(self.axes))
        out, known = np.zeros(len(values), np.int64), np.ones(len(values), bool)
        for i, levels in enumerate(self._levels):
            near = np.clip(np.searchsorted(levels, values[:, i] - 1e-9 * np.maximum(1, np.abs(values[:, i]))), 0,
                           len(levels) - 1)
            known &= np.abs(levels[near] - values[:, i]) <= SAME * np.maximum(1.0, np.abs(values[:, i]))
            out += near * self._strides[i]
        return np.where(known, out, -1)

    def _column(self, key: str, values: Floats) -> Floats:
        if key in self._at:
            return values[:, self._at[key]]
        if key in self._linked:
            i, link = self._linked[key]
            return np.round(link.factor * values[:, i] + link.offset, 10)
        return np.full(len(values), self.base.get(key, np.nan))

    def allowed(self, at: Ints) -> NDArray[np.bool_]:
        """Which sets the constraints leave."""
        out = np.ones(len(at), bool)
        if self.constraints and len(at):
            values = self.values(at)
            for c in self.constraints:
                left = self._column(c.left, values)
                out &= c.holds(left, self._column(c.right, values) if c.right else left)
        return out

    @cached_property
    def _around(self) -> Ints:
        """int64[k, axes]: what is one step away, the set itself among it."""
        moves = [(-1, 0, 1) if a.ordered and len(a.values) > 1 else (0,) for a in self.axes]
        return np.array(list(product(*moves)), np.int64)

    def neighbors(self, at: Ints) -> Ints:
        """int64[n, k]: sets within one step on every axis, the set itself included; -1 beyond a range's end."""
        steps = self.steps(at)[:, None, :] + self._around[None]
        inside = ((steps >= 0) & (steps < np.array(self.shape))).all(axis=2)
        return np.where(inside, steps @ self._strides, -1)

    @property
    def most_neighbors(self) -> int:
        """Sets within one step of one in the middle, itself included."""
        return 3 ** sum(a.ordered and len(a.values) > 1 for a in self.axes)

    @property
    def has_plateaus(self) -> bool:
        """Whether so many neighbors can be looked at; with eight numbers and more there are too many of them."""
        return self.most_neighbors <= MOST_AROUND

    def beside(self, at: Ints) -> Ints:
        """int64[m]: sets one step away along a single axis."""
        steps, shape = self.steps(at), np.array(self.shape)
        moved = [steps + move * (np.arange(len(shape)) == i) for i, a in enumerate(self.axes) if a.ordered
                 for move in (-1, 1)]
        every = np.concatenate(moved) if moved else steps[:0]
        return self.at(every[((every >= 0) & (every < shape)).all(axis=1)])

    def at_end(self, at: Ints) -> NDArray[np.bool_]:
        """bool[n, axes]: which values stand at an end of their range, where an end is no natural one."""
        steps = self.steps(at)
        out = np.zeros(steps.shape, bool)
        for i, axis in enumerate(self.axes):
            if axis.ordered and len(axis.values) > 1:
                out[:, i] = (steps[:, i] == 0) | (steps[:, i] == len(axis.values) - 1)
        return out

    def words(self, values: Sequence[float]) -> str:
        """A set as it is read."""
        return ", ".join(f"{a.short} {a.shown(v)}" for a, v in zip(self.axes, values))
