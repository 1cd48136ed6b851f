"""A Discover search as far as it came: live tallies, and what of it luck would have brought as well."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.record import Record
from wolbrin.core.measures.sums import COMPILED
from wolbrin.core.measures.wording import number
from wolbrin.core.search.floors import Floors
from wolbrin.core.search.luck import Luck, luck_of
from wolbrin.core.search.objective import Floor
from wolbrin.core.search.strength import Strength, strength_of
from wolbrin.core.store.project import Project
from wolbrin.core.store.results import search_owner
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.tables import Columns
from wolbrin.core.work.discover_beside import Beside
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discover_seen import Seen, scans_of
from wolbrin.core.work.discover_source import Counts, DiscoverSource
from wolbrin.core.work.discover_work import FoldResult

Floats = NDArray[np.float64]
KEPT, NEAR = "kept", "near"  # tables of a search: what each stream kept, and what came near
FATE_KEPT = 0
DRIFT = "v_above_drift"
STRENGTH = "t_daily"  # by which the finds of a search and of its controls are compared


def figures_of(figures: Floats) -> Columns:
    """Columns of figures, float64[n, COMPILED]."""
    return {f"m_{key}": figures[:, i] for i, key in enumerate(COMPILED)}


def slow_columns(floors: Sequence[Floor]) -> tuple[str, ...]:
    """Names of the columns of what slow floors read."""
    made = Floors(tuple(floors), 1.0)
    return tuple(f"v_{made.floors[i].name}" for i in made.slow)


@dataclass
class DiscoverResult:
    """Live tallies. record: what made it. search: its number in the project. before: alternatives tried on each place's
    market when it began. floors: as they stand now. counts: of each stream. best, improvements: on the real histories. rows:
    conditions of the first pool. unfinished: it can be gone on with. source: while it runs. luck: what it kept beside its
    controls."""

    request: DiscoverRequest
    record: Record
    search: int
    before: tuple[int, ...]
    floors: tuple[Floor, ...] = ()
    counts: tuple[Counts, ...] = ()
    best: dict[str, Any] | None = None
    improvements: tuple[dict[str, Any], ...] = ()
    rows: int = 0
    elsewhere: dict[str, str] = field(default_factory=dict)
    unfinished: bool = False
    source: DiscoverSource | None = None
    luck: Luck = field(default_factory=lambda: luck_of(0, ()))
    scans: dict[int, Seen] = field(default_factory=dict)
    ended: str = ""

    def take(self, source: DiscoverSource, pieces: Sequence[FoldResult]) -> None:
        """What a source says now."""
        self.floors = source.floors
        self.counts = tuple(replace(c, rejected=list(c.rejected)) for c in source.counts)
        self.best, self.improvements = source.best, tuple(source.improvements)
        self.rows = max([self.rows, *(p.rows for p in pieces)])
        self.ended = source.beside.words if source.beside is not None else ""
        self.luck = self._luck()

    def restore(self, cursor: dict[str, Any]) -> None:
        """What was stored."""
        self.floors = tuple(Floor.model_validate(f) for f in cursor["floors"])
        self.counts = tuple(Counts(**c) for c in cursor["counts"])
        self.best, self.improvements = cursor["best"], tuple(cursor["improvements"])
        self.rows, self.elsewhere = cursor["rows"], dict(cursor["elsewhere"])
        self.scans = scans_of(cursor)
        self.ended = Beside.from_json(cursor["beside"]).words if cursor.get("beside") else ""
        self.luck = self._luck()

    def loosen(self, floors: tuple[Floor, ...]) -> None:
        """Ask other floors from now on, while it runs."""
        if self.source is not None:
            self.source.loosen(floors)

    # Sums over the real histories

    @property
    def real(self) -> tuple[Counts, ...]:
        return self.counts[:len(self.request.searched)]

    @property
    def tried(self) -> int:
        return sum(c.tried for c in self.real)

    @property
    def met(self) -> int:
        return sum(c.met for c in self.real)

    @property
    def kept(self) -> int:
        return sum(c.kept for c in self.real)

    @property
    def twins(self) -> int:
        return sum(c.twins for c in self.real)

    @property
    def alike(self) -> int:
        return sum(c.alike for c in self.real)

    @property
    def idle(self) -> int:
        """With parts that add nothing, which were left out."""
        return sum(c.idle for c in self.real)

    @property
    def few(self) -> int:
        return sum(c.few for c in self.real)

    @property
    def rejected(self) -> tuple[int, ...]:
        """By floor, the first that each failed."""
        return tuple(sum(c.rejected[i] for c in self.real) for i in range(len(self.floors)))

    @property
    def nothing(self) -> str:
        """What is said where nothing passed the floors; "" where something did, or nothing was tried."""
        if self.kept or not self.tried:
            return ""
        some = self.luck.expected
        by_luck = f", and by luck {number(some, 0 if some >= 10 else 1)} would have" if self.luck.controls else ""
        return f"Nothing passed the floors{by_luck}: on a market without an edge that is the right answer"

    def best_by_luck(self, which: str) -> tuple[float, ...]:
        """"best_t" or "best_sharpe" of each control, over all its places; those without any are left out."""
        if not self.request.comparable:
            return ()
        places = len(self.request.searched)
        each = [[getattr(c, which) for c in self.counts[i:i + places]] for i in range(places, len(self.counts), places)]
        return tuple(max(known) for one in each if (known := [b for b in one if b is not None]))

    def _luck(self) -> Luck:
        """What luck kept beside it; worked out where the counts come, not by whoever looks at them."""
        places = len(self.request.searched)
        if not self.request.comparable:
            return luck_of(self.kept, ())
        controls = [sum(c.kept for c in self.counts[i:i + places]) for i in range(places, len(self.counts), places)]
        return luck_of(self.kept, controls)


def kept_rows(project: Project, result: DiscoverResult) -> list[Columns]:
    """What each control (0: the real histories) kept, a table each, empty ones without columns."""
    return [{n: v[t["fate"] == FATE_KEPT] for n, v in t.items()} for t in _met(project, result)]


def _met(project: Project, result: DiscoverResult) -> list[Columns]:
    """The same, with near-twins and what took another's place."""
    searches, places = Searches(project), len(result.request.searched)
    wanted = ("number", "fate", *(f"m_{k}" for k in COMPILED), *slow_columns(result.floors))  # not the daily results
    out = []
    for control in range(1 + result.request.controls):
        parts = [searches.results.table(search_owner(result.search), f"{KEPT} {control * places + p}", wanted)
                 for p in range(places)]
        known = [p for p in parts if p]
        whole = {n: np.concatenate([p[n] for p in known]) for n in wanted if all(n in p for p in known)} if known else {}
        if known:
            whole["place"] = np.concatenate([np.full(len(p["number"]), at) for at, p in enumerate(parts) if p])
        out.append(whole)
    return out


def strength(project: Project, result: DiscoverResult) -> Strength:
    """How strong the finds are beside those of the controls: what share of finds this strong luck brings. A find is as strong
    as its t of daily results, and no stronger than by how much it beats the market's drift where that is asked."""
    met = _met(project, result)
    every = [_strengths(t) for t in met]
    values = [v[t["fate"] == FATE_KEPT] if t else v for t, v in zip(met, every)]
    controls = values[1:] if result.request.comparable else []
    made = strength_of(values[0], controls, _tries(project, result), result.best_by_luck("best_t"),
                       result.request.method == "random")
    if not met[0]:
        return made
    places = [result.request.places[s] for s in met[0]["place"].tolist()]
    return replace(made, of={(m, i, int(n)): float(v) for (m, i), n, v in zip(places, met[0]["number"], every[0])})


def _tries(project: Project, result: DiscoverResult) -> list[Floats]:
    """t of daily results of what each control tried, as far as it came near the floors."""
    if not result.request.comparable:
        return []
    table = Searches(project).results.table(search_owner(result.search), NEAR, ("stream", f"m_{STRENGTH}"))
    if not table:
        return [np.zeros(0)] * result.request.controls
    control = table["stream"] // len(result.request.searched)
    return [table[f"m_{STRENGTH}"][control == k] for k in range(1, 1 + result.request.controls)]


def _strengths(table: Columns) -> Floats:
    if not table:
        return np.zeros(0)
    x = table[f"m_{STRENGTH}"]
    return np.fmin(x, table[DRIFT]) if DRIFT in table else x


def by_floor(project: Project, result: DiscoverResult, floor: int, steps: int = 8) -> list[tuple[float, Luck]]:
    """What is kept, by the search and by luck, as one floor is raised: its value, and the counts."""
    one, tables = result.floors[floor], kept_rows(project, result)
    columns = [_column(t, one, result) for t in tables]
    known = [c[np.isfinite(c)] for c in columns]
    whole = np.concatenate(known) if known else np.zeros(0)
    if not len(whole):
        return []
    ends = (one.value, float(np.quantile(whole, 0.98 if one.compare == ">=" else 0.02)))
    out = []
    for value in np.linspace(*ends, steps).tolist():
        counts = [int((c >= value).sum() if one.compare == ">=" else (c <= value).sum()) for c in columns]
        out.append((value, luck_of(counts[0], counts[1:])))
    return out


def _column(table: Columns, floor: Floor, result: DiscoverResult) -> Floats:
    if not table:
        return np.zeros(0)
    if not floor.of and f"m_{floor.key}" in table:
        return table[f"m_{floor.key}"]
    if floor.key == "trades_per_year":
        return table["m_trades"] / max(1e-9, _years(result))
    return table.get(f"v_{floor.name}", np.full(len(table["number"]), np.nan))


def _years(result: DiscoverResult) -> float:
    first, last = result.record.first, result.record.last
    return (last - first).days / 365.25 if first is not None and last is not None else 1.0
