"""Where the pieces of a Discover search come from, and what is decided about what they found."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from threading import Lock
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.jobs import Chunk
from wolbrin.core.search.breeding import CHILDREN, ISLANDS, Archipelago
from wolbrin.core.search.drawing import BATCH
from wolbrin.core.search.floors import PASSED, Floors
from wolbrin.core.search.objective import Floor
from wolbrin.core.search.twins import Twins
from wolbrin.core.work.discover_beside import QUIET, Beside
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discover_work import FoldResult, Unit

Ints = NDArray[np.int64]
AGAIN = 64  # near ones that are asked together
MOST_IMPROVEMENTS = 200


@dataclass
class Counts:
    """Of one stream. met: passed every floor, twins included; idle: of what passed the quick ones, had parts that add
    nothing; few: had too few entry signals; rejected: by floor. best_t,
    best_sharpe: largest t of daily results and daily Sharpe ratio of all that was tried with as many trades as the floors
    ask, None before any."""

    tried: int = 0
    few: int = 0
    met: int = 0
    kept: int = 0
    twins: int = 0
    alike: int = 0
    rejected: list[int] = field(default_factory=list)
    best_t: float | None = None
    best_sharpe: float | None = None
    idle: int = 0

    def note(self, t: float, sharpe: float) -> None:
        """Take in the best of a piece."""
        if math.isfinite(t):
            self.best_t = t if self.best_t is None else max(t, self.best_t)
        if math.isfinite(sharpe):
            self.best_sharpe = sharpe if self.best_sharpe is None else max(sharpe, self.best_sharpe)


@dataclass
class NearTable:
    """What came near in one stream and was not asked every floor."""

    numbers: list[int] = field(default_factory=list)
    genotypes: list[Ints] = field(default_factory=list)
    figures: list[NDArray[np.float64]] = field(default_factory=list)


@dataclass
class Late:
    """Controls that were added: the first one's stream, how many, turns that they have to make together, and how many of them
    were asked and told. only: the search ends with them."""

    first: int = 0
    count: int = 0
    wanted: int = 0
    asked: int = 0
    told: int = 0
    only: bool = False


class DiscoverSource:
    """Streams take turns, each a piece: so at any moment controls have tried as many as the real search. Controls that are
    added later first make the turns that the others have made.

    days, years: trading dates and calendar years of each stream's span. cursor: where it stands, when going on.
    """

    def __init__(self, request: DiscoverRequest, days: Sequence[int], years: Sequence[float],
                 cursor: dict[str, Any] | None = None) -> None:
        self.request, self.floors = request, request.floors
        floors, self._years = request.floors, years
        count = request.streams
        self._turn = self._told = 0
        self._late = Late()
        self._began = time.monotonic()
        self._spent = 0.0
        self.counts = [Counts(rejected=[0] * len(floors)) for _ in range(count)]
        self.twins = [Twins(days[s], request.alike) for s in range(count)]
        self.near = [NearTable() for _ in range(count)]
        self._seas = [Archipelago((request.seed, 31)) for _ in range(count)] if request.bred else []
        self.beside = Beside(len(request.searched), request.controls) if request.method == "informed" else None
        self.improvements: list[dict[str, Any]] = []
        self.best: dict[str, Any] | None = None
        self.done = 0
        self._again: list[Unit] = []
        self._under_way = 0  # pieces of near ones
        self._wanted: tuple[Floor, ...] | None = None
        self._lock = Lock()
        if cursor is not None:
            self._restore(cursor)

    # What is asked for

    @property
    def step(self) -> int:
        """Candidates of a piece."""
        return CHILDREN if self.request.bred else BATCH

    @property
    def total(self) -> int:
        return max(self.done, self.request.count * self.request.streams)

    @property
    def real(self) -> range:
        """Streams on real histories."""
        return range(len(self.request.searched))

    @property
    def kept(self) -> int:
        """Kept on real histories."""
        return sum(self.counts[s].kept for s in self.real)

    @property
    def catching_up(self) -> bool:
        """Whether controls that were added have not tried as many yet."""
        return self._late.told < self._late.wanted

    @property
    def over(self) -> bool:
        if self._again or self._under_way or self._wanted is not None:
            return False  # what came near is asked to its end
        r = self.request
        if self.catching_up or self._told % max(1, r.streams):
            return False  # so that controls have tried as many
        if self._late.only:
            return True
        if r.until_kept and self.kept >= r.until_kept:
            return True
        if self.beside is not None and self.beside.quiet >= QUIET:
            return True
        if r.seconds and self._spent + time.monotonic() - self._began >= r.seconds:
            return True
        return all(c.tried >= r.count for c in self.counts)

    def loosen(self, floors: tuple[Floor, ...]) -> None:
        """Ask other floors from now on; what came near before is asked again. From any thread."""
        with self._lock:
            self._wanted = floors

    def ask(self) -> Chunk | None:
        with self._lock:
            wanted, self._wanted = self._wanted, None
        if wanted is not None and wanted != self.floors:
            self._move(wanted)
        if self._again:
            self._under_way += 1
            return Chunk(self._again.pop(0), 0)
        late = self._late
        if late.asked < late.wanted:
            unit = self._unit(late.first + late.asked % late.count, late.asked // late.count)
            late.asked += unit is not None
        elif late.told < late.wanted:
            return None
        else:
            streams = self.request.streams
            unit = self._unit(self._turn % streams, self._turn // streams)
            self._turn += unit is not None
        return Chunk(unit, unit.count) if unit is not None else None

    def _unit(self, stream: int, turn: int) -> Unit | None:
        """The piece of a stream's turn; None where there is none, or it waits for another."""
        first = turn * self.step
        count = min(self.step, self.request.count - first)
        if count <= 0:
            return None
        if not self._seas:
            return Unit(stream, self.floors, first, count)
        luck = self.beside.luck(stream, turn) if self.beside is not None else ()
        if luck is None:
            return None
        step = self._seas[stream].step(turn % ISLANDS, turn // ISLANDS, count, luck)
        return Unit(stream, self.floors, first, count, step) if step is not None else None

    def add_controls(self, before: int) -> None:
        """Let controls that were not there before make the turns that the others have made; nothing further is tried. before:
        streams that there were."""
        assert self._late.told == self._late.wanted
        turns, rest = divmod(self._told, before)
        count = self.request.streams - before
        self._late = Late(before, count, turns * count, only=True)
        # Whoever was a turn ahead still is.
        self._turn = self._told = turns * self.request.streams + rest

    # What came of it

    def tell(self, chunk: Chunk, result: FoldResult) -> None:
        unit, counts = result.unit, self.counts[result.unit.stream]
        if unit.again is not None:
            self._under_way -= 1
        else:
            if self.catching_up:
                self._late.told += 1
            else:
                self._told += 1
            self.done += unit.count
            counts.tried += unit.count
            counts.few += result.few
            counts.idle += result.idle
            counts.met += result.alike
            counts.alike += result.alike
            counts.note(result.best_t, result.best_sharpe)
        for name, more in zip([f.text for f in unit.floors], result.rejected.tolist()):
            for at, floor in enumerate(self.floors):
                if floor.text == name:
                    counts.rejected[at] += more
        for found in result.found:
            counts.met += 1
            decided = self.twins[unit.stream].take(found.digest, found.daily, found.complexity)
            result.fates.append((decided.fate, decided.other))
            counts.kept += decided.fate == "kept"
            counts.twins += decided.fate == "twin"
            counts.alike += decided.fate in ("near", "instead")
        if result.island is not None and unit.step is not None:
            turn = unit.first // self.step
            self._seas[unit.stream].tell(turn % ISLANDS, result.island)
            if self.beside is not None:
                new = [f.strength(result.unit.floors) for f, (fate, _) in zip(result.found, result.fates)
                       if fate in ("kept", "instead")]
                self.beside.tell(unit.stream, turn, result.reached, new)
        near = result.near
        if unit.again is None:
            for at in np.flatnonzero(~near.asked).tolist():
                table = self.near[unit.stream]
                table.numbers.append(int(near.numbers[at]))
                table.genotypes.append(near.genotypes[at])
                table.figures.append(near.figures[at])
        if unit.stream in self.real:
            self._improve(result)

    def _improve(self, result: FoldResult) -> None:
        """Note where something better than all before was found, and by how much."""
        new, old = result.best, self.best
        if new is None or (old is not None and (old["passed"], old["score"]) >= (new.passed, new.score)):
            return
        tried = sum(self.counts[s].tried for s in self.real)
        self.best = {"number": new.number, "score": new.score, "passed": new.passed, "name": new.name, "tried": tried,
                     "stream": result.unit.stream, "spark": [round(float(v), 2) for v in new.spark]}
        self.improvements.append({k: v for k, v in self.best.items() if k != "spark"} | (
            {"over": old["name"], "by": new.score - old["score"]} if old is not None and old["passed"] == new.passed else {}))
        del self.improvements[:-MOST_IMPROVEMENTS]

    def _move(self, floors: tuple[Floor, ...]) -> None:
        """Take other floors; near ones that the quick ones let through now are asked the rest."""
        old = {f.text: n for f, n in zip(self.floors, range(len(self.floors)))}
        for counts in self.counts:
            counts.rejected = [counts.rejected[old[f.text]] if f.text in old else 0 for f in floors]
        self.floors = floors
        self.ask_near()

    def ask_near(self) -> None:
        """Ask the rest of near ones that the quick floors let through as they are now."""
        for stream, table in enumerate(self.near):
            if not table.numbers:
                continue
            passed = Floors(self.floors, self._years[stream]).failed(np.stack(table.figures)) == PASSED
            at = np.flatnonzero(passed)
            for begin in range(0, len(at), AGAIN):
                part = at[begin:begin + AGAIN]
                self._again.append(Unit(stream, self.floors, 0, len(part), again=(
                    np.array([table.numbers[i] for i in part], np.int64), np.stack([table.genotypes[i] for i in part]))))
            for name in ("numbers", "genotypes", "figures"):
                setattr(table, name, [v for v, gone in zip(getattr(table, name), passed.tolist()) if not gone])

    # Going on

    def state(self) -> dict[str, Any]:
        return {"turn": self._told, "done": self.done, "spent": self._spent + time.monotonic() - self._began,
                "floors": [f.model_dump(mode="json") for f in self.floors], "counts": [vars(c) for c in self.counts],
                "best": self.best, "improvements": self.improvements, "late": vars(self._late),
                "seas": [s.as_json() for s in self._seas],
                "beside": self.beside.as_json() if self.beside is not None else None}

    def _restore(self, cursor: dict[str, Any]) -> None:
        self._turn = self._told = cursor["turn"]
        self.done, self._spent = cursor["done"], cursor["spent"]
        self.floors = tuple(Floor.model_validate(f) for f in cursor["floors"])
        self.counts = [Counts(**c) for c in cursor["counts"]]
        self._late = Late(**cursor.get("late", {}))
        self._late.asked, self._late.only = self._late.told, False
        more = len(self.twins) - len(self.counts)  # controls that were added since
        self.counts += [Counts(rejected=[0] * len(self.floors)) for _ in range(more)]
        self.best, self.improvements = cursor["best"], list(cursor["improvements"])
        self._seas = [Archipelago.from_json((self.request.seed, 31), s) for s in cursor["seas"]]
        if self.beside is not None and cursor.get("beside"):
            self.beside = Beside.from_json(cursor["beside"])
        if self.request.bred:
            self._seas += [Archipelago((self.request.seed, 31)) for _ in range(more)]
