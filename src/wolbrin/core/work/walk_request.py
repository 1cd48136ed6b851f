"""What a walk-forward analysis asks, as data that is stored and travels; and the procedure that a schedule carries."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, cast

from wolbrin.core.errors import UserError
from wolbrin.core.rules.axes import PLACES
from wolbrin.core.search.folds import ONE, Ahead, Fold, Length, Lengths, Steps, ahead, lay
from wolbrin.core.search.walked import Choice
from wolbrin.core.work.sweep_request import SweepRequest

MOST_CELLS = 400
CHOICES: tuple[Choice, ...] = ("center", "best")
NO_PART = ("strategy", "name", "base", "keep", "market", "interval", "own", "basket")  # of a sweep, in a procedure


@dataclass(frozen=True)
class View:
    """The training view as it was when a walk was laid: first and last trading date; entries: trading dates of the entries of
    the strategy as it stood, where lengths are of trades. content: digest of its bars. until: the last trading date to which
    the walk was extended since, None where it was not."""

    first: dt.date
    last: dt.date
    entries: tuple[dt.date, ...] = ()
    content: str = ""
    until: dt.date | None = None


@dataclass(frozen=True)
class Layout:
    """Folds of one cell, and the fit after them; or why there are none. ahead: None where its training does not fit. anchor,
    n: the day from which test spans are counted, and how many of them lie before the fit after `ahead`."""

    folds: tuple[Fold, ...] = ()
    ahead: Ahead | None = None
    anchor: dt.date = dt.date.min
    n: int = 1
    fault: str = ""

    @property
    def spans(self) -> list[tuple[dt.date, dt.date]]:
        """Training spans, that of the numbers in force now first."""
        last = [(self.ahead.training_first, self.ahead.training_last)] if self.ahead is not None else []
        return list(dict.fromkeys([*last, *((f.training_first, f.training_last) for f in self.folds)]))


def lay_out(view: View, lengths: Lengths) -> Layout:
    """The folds of a cell, and those of its extension, which follow them; the last one of a walk that is laid from the
    beginning, or extended, is cut where the view ends. Raises UserError where not one fits."""
    folds = tuple(lay(view.first, view.last, lengths, view.entries))
    begin, last = folds[-1].test_last + ONE, view.until or view.last
    anchor, n = (begin, 1) if lengths.backward else (folds[0].test_first, len(folds) + 1)
    steps = Steps(sorted(view.entries))
    after = ahead(begin, view.first, lengths, view.entries, anchor, n)
    while after is not None and begin <= last:
        end = after.due or steps.later(begin, lengths.test)
        if end is not None and end <= begin:
            break
        folds += (Fold(after.training_first, after.training_last, begin, min(end - ONE, last) if end else last),)
        if end is None or end > last + ONE:
            break
        begin, n = end, n + 1
        after = ahead(begin, view.first, lengths, view.entries, anchor, n)
    return Layout(folds, after, anchor, n)


def is_number(axes: Sequence[Any]) -> None:
    """Refuse axes that are no numbers of the rules. Raises UserError."""
    other = next((a for a in axes if a.kind in PLACES), None)
    if other is not None:
        raise UserError(f"a walk fits numbers, not the {other.title}", other.title,
                        "Take it off the list; walk on one market, interval and side at a time.")
    if not axes:
        raise UserError("no number is chosen for the fits", "walk-forward", "Tick at least one number to vary.")


@dataclass(frozen=True)
class WalkRequest:
    """sweep: what fits each fold. trainings, tests: lengths, each pair of which is a cell, a walk of its own. choice: the
    plateau's center or the best set. view: see there; None before the walk is laid."""

    sweep: SweepRequest
    trainings: tuple[Length, ...]
    tests: tuple[Length, ...]
    gap: Length | None = None
    anchored: bool = False
    backward: bool = True
    choice: Choice = "center"
    name: str = ""
    view: View | None = None

    @property
    def title(self) -> str:
        return self.name or f"Walk of {self.sweep.strategy.name}"

    @property
    def cells(self) -> tuple[Lengths, ...]:
        """All pairs of lengths, those of training running slowest."""
        return tuple(Lengths(a, b, self.gap, self.anchored, self.backward) for a in self.trainings for b in self.tests)

    @cached_property
    def layouts(self) -> tuple[Layout, ...]:
        """The folds of every cell; pairs too long for the view say so."""
        if self.view is None:
            raise ValueError("a walk is laid over a view")
        found = []
        for lengths in self.cells:
            try:
                found.append(lay_out(self.view, lengths))
            except UserError as err:
                found.append(Layout(fault=err.sentence()))
        return tuple(found)

    @cached_property
    def spans(self) -> tuple[tuple[dt.date, dt.date], ...]:
        """Training spans of all cells, each once: those of the numbers in force now first, then as they lie; those of an
        extension after all that were there before it."""
        base = () if self.view is None or self.view.until is None else replace(
            self, view=replace(self.view, until=None)).spans
        first = [(o.ahead.training_first, o.ahead.training_last) for o in self.layouts if o.ahead is not None]
        rest = sorted({s for o in self.layouts for s in o.spans} - set(first))
        return tuple(dict.fromkeys([*base, *(rest if base else [*first, *rest]), *first]))

    def check(self) -> None:
        """Refuse what cannot be walked, in words. Raises UserError."""
        is_number(self.sweep.axes)
        if not self.trainings or not self.tests:
            raise UserError("a walk needs a training and a test length", "walk-forward", "Write for example 24m and 6m.")
        if len(self.cells) > MOST_CELLS:
            raise UserError(f"{len(self.cells):,} pairs of lengths are more than are walked at once ({MOST_CELLS})",
                            "grid of lengths", "Take fewer lengths.")
        if self.choice not in CHOICES:
            raise UserError(f'"{self.choice}" is no choice', "walk-forward", "Choose center or best.")

    def as_json(self) -> dict[str, Any]:
        view = self.view
        return {"sweep": self.sweep.as_json(), "trainings": [x.short for x in self.trainings],
                "tests": [x.short for x in self.tests], "gap": self.gap.short if self.gap else "",
                "anchored": self.anchored, "backward": self.backward, "choice": self.choice, "name": self.name,
                "view": None if view is None else {"first": view.first.isoformat(), "last": view.last.isoformat(),
                                                   "entries": [d.toordinal() for d in view.entries],
                                                   "content": view.content,
                                                   "until": view.until.isoformat() if view.until else None}}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> WalkRequest:
        """A stored request."""
        v = data.get("view")
        view = View(dt.date.fromisoformat(v["first"]), dt.date.fromisoformat(v["last"]),
                    tuple(dt.date.fromordinal(n) for n in v["entries"]), v["content"],
                    dt.date.fromisoformat(v["until"]) if v["until"] else None) if v else None
        gap = Length.parse(data["gap"]) if data["gap"] else None
        return cls(SweepRequest.from_json(data["sweep"]), tuple(Length.parse(x) for x in data["trainings"]),
                   tuple(Length.parse(x) for x in data["tests"]), gap, data["anchored"], data["backward"],
                   cast(Choice, data["choice"]), data["name"], view)

    def of_cell(self, cell: int) -> WalkRequest:
        """One cell as a walk of its own."""
        lengths = self.cells[cell]
        return replace(self, trainings=(lengths.training,), tests=(lengths.test,))

    def procedure(self, cell: int) -> dict[str, Any]:
        """How a cell's fits are made, for the schedule that it gives: what fits, the lengths, from which day test spans are
        counted (anchor), and how many of them lie before the next fit (n)."""
        one = self.of_cell(cell).as_json()
        sweep = {k: v for k, v in one.pop("sweep").items() if k not in NO_PART}
        assert self.view is not None
        layout = self.layouts[cell]
        return {k: v for k, v in one.items() if k not in ("name", "view")} | {
            "sweep": sweep, "first": self.view.first.isoformat(), "anchor": layout.anchor.isoformat(), "n": layout.n}

