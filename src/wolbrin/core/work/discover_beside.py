"""How far the generations of a search came beside those of its controls: what selection goes by, and when nothing more
comes."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from wolbrin.core.search.breeding import ISLANDS, of_controls

QUIET = 2  # generations that bring nothing beyond the controls', after which a search ends
Levels = tuple[float, ...]


class Beside:
    """places: real streams; controls: those that selection goes by. Controls that are added later are selected by what the
    real streams were, and change nothing of these. All streams finish a generation before the next one begins.

    quiet: generations in a row that brought no find beyond all that the controls had found by then. generations: that are
    over.
    """

    def __init__(self, places: int, controls: int) -> None:
        self.places, self.controls = places, controls
        self.quiet = self.generations = 0
        self._luck: list[list[Levels]] = []  # of each turn, of each place, as the real stream has it
        self._reached: dict[int, dict[int, Levels]] = {}
        self._new: list[float] = []
        self._best: float = 0.0  # strongest that a control had found by the end of the last generation
        self._coming: float = 0.0

    @property
    def streams(self) -> int:
        return self.places * (1 + self.controls)

    def luck(self, stream: int, turn: int) -> Levels | None:
        """What a generation is selected by; None where that is not known yet."""
        if stream < self.streams and turn // ISLANDS > self.generations:
            return None
        if turn < ISLANDS or not self.controls:
            return ()
        control, place = divmod(stream, self.places)
        before = turn - ISLANDS
        if not control or stream >= self.streams:
            return self._luck[before][place]
        known = self._reached[before]
        others = [known[c * self.places + place] for c in range(1, 1 + self.controls) if c != control]
        return of_controls(others or [known[stream]])

    def tell(self, stream: int, turn: int, reached: Levels, new: Sequence[float]) -> None:
        """What a generation came to, and the strengths of what it kept."""
        if stream >= self.streams:
            return
        if stream < self.places:
            self._new += new
        else:
            self._coming = max(self._coming, *new, 0.0) if new else self._coming
        known = self._reached.setdefault(turn, {})
        known[stream] = reached
        if len(known) < self.streams:
            return
        self._luck.append([of_controls([known[c * self.places + p] for c in range(1, 1 + self.controls)])
                           for p in range(self.places)])
        self._reached.pop(turn - 2 * ISLANDS, None)
        if (turn + 1) % ISLANDS == 0:
            self._over()

    def _over(self) -> None:
        """A generation of all islands is over."""
        self.generations += 1
        self._best = self._coming
        brought = any(x > self._best for x in self._new)
        self.quiet = 0 if brought else self.quiet + 1
        self._new = []

    @property
    def words(self) -> str:
        """Why it ended, "" while it goes on."""
        if self.quiet < QUIET:
            return ""
        beyond = "beyond what its controls had found" if self.controls else "new"
        return f"It ended after {self.generations} generations: the last {QUIET} brought nothing {beyond}"

    def as_json(self) -> dict[str, Any]:
        def plain(levels: Levels) -> list[float | None]:
            return [x if math.isfinite(x) else None for x in levels]

        return {"places": self.places, "controls": self.controls, "quiet": self.quiet, "generations": self.generations,
                "luck": [[plain(x) for x in turn] for turn in self._luck], "new": self._new, "best": self._best,
                "coming": self._coming,
                "reached": [[t, s, plain(x)] for t, known in sorted(self._reached.items()) for s, x in sorted(known.items())]}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Beside:
        def levels(x: list[float | None]) -> Levels:
            return tuple(math.nan if v is None else float(v) for v in x)

        made = cls(data["places"], data["controls"])
        made.quiet, made.generations = data["quiet"], data["generations"]
        made._luck = [[levels(x) for x in turn] for turn in data["luck"]]
        made._new, made._best, made._coming = list(data["new"]), data["best"], data["coming"]
        for turn, stream, x in data["reached"]:
            made._reached.setdefault(turn, {})[stream] = levels(x)
        return made
