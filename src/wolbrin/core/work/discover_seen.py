"""What an informed search saw before it began: kept with it, counted for whatever is judged on its market later."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from wolbrin.core.rules.model import Strategy
from wolbrin.core.scan.evidence import NEAR, Evidence
from wolbrin.core.scan.informed import COUNT
from wolbrin.core.scan.luck import passed_in
from wolbrin.core.scan.moves import USUAL
from wolbrin.core.scan.told import horizon_text, node_text
from wolbrin.core.search.genotype import FACING, rows_at
from wolbrin.core.search.ingredients import NOT, TURNED
from wolbrin.core.search.limits import SIDES
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.results import search_owner
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.tables import Columns
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.scan_tries import INFORMED, MOST, PART, Scanned, joined, scans_on, worth

SEEN = "seen"  # table of a place: rows that told something
WORD = "discover scan"  # names the search in the request of what counts its scan


@dataclass(frozen=True)
class Seen:
    """Of one place. rows: that were looked at; told: of which told something; beyond: more than luck does; hurdles: |t| that
    luck reaches, of the clock's question and of all others, None without rows. worth: tries it adds for later searches.
    most: the strongest |t| of each draw. note: why nothing could be looked at, "" where it could."""

    rows: int
    told: int
    beyond: int
    hurdles: tuple[float | None, ...]
    worth: int
    most: tuple[float, ...]
    note: str = ""

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> Seen:
        return cls(int(data["rows"]), int(data["told"]), int(data["beyond"]), tuple(data["hurdles"]), int(data["worth"]),
                   tuple(data["most"]), str(data.get("note", "")))

    @property
    def words(self) -> str:
        """Such as "312 of 3,480 rows move price more than luck does (t 4.4)"."""
        if self.note:
            return f"Rows could not be looked at first: {self.note}"
        reached = max((h for h in self.hurdles if h is not None), default=float("nan"))
        luck = f"luck reaches t {reached:.1f}"
        if not self.beyond:
            return f"Of {self.rows:,} rows none moves price more than luck does ({luck})"
        verb = "moves" if self.beyond == 1 else "move"
        return f"{self.beyond:,} of {self.rows:,} rows {verb} price more than luck does ({luck})"


def seen_rows(seen: Evidence) -> Columns:
    """As it is stored: the strongest horizon of each row."""
    return {"code": seen.codes, "t": seen.t, "horizon": seen.horizon, "strength": seen.strength,
            "state": seen.state.astype(np.int8), "clock": seen.clock.astype(np.int8)}


def scanned(project: Project, search: int, request: DiscoverRequest, place: int, seen: Evidence) -> Seen:
    """Write down what the scan of a place counts for, within the transaction of its first piece. What it adds is charged to
    whatever is judged there later, never to the search itself: each of its controls scanned the same choice."""
    searches = Searches(project)
    market, interval = request.places[place]
    owner = searches.begin(now(), PART, request.title, {WORD: search, "place": place}, market=market, interval=interval)
    added = worth(project, market, seen.most, search, owner)
    searches.counted(owner, added)
    searches.close(owner)
    hurdles = tuple(float(h) if np.isfinite(h) else None for h in seen.hurdles)
    return Seen(seen.rows, len(seen.codes), int((seen.strength >= 1.0).sum()), hurdles, added,
                tuple(round(float(x), 5) for x in seen.most))


def seen_json(request: DiscoverRequest, scans: dict[int, Seen]) -> dict[str, Any]:
    """As it stands in the search's cursor."""
    most: dict[str, list[float]] = {}
    for place, seen in scans.items():
        if not seen.most:
            continue
        market = request.places[place][0]
        mine = [np.array(seen.most), *([np.array(most[market])] if market in most else [])]
        most[market] = joined(mine).tolist()
    return {"scans": {str(place): asdict(seen) for place, seen in scans.items()}, MOST: most} if scans else {}


def scans_of(cursor: dict[str, Any]) -> dict[int, Seen]:
    """What `seen_json` gave."""
    return {int(place): Seen.from_json(data) for place, data in cursor.get("scans", {}).items()}


TEN = 0.10  # of the draws


def chosen_after(project: Project, search: int, request: DiscoverRequest, market: str) -> float:
    """What a find must be as strong as where ingredients, rows, horizons or markets were chosen after scans were seen: what
    the strongest row of luck of all these together passes in 10 of 100 draws. NaN where nothing was chosen so.

    Nothing was chosen where a scan asked the same choice on the same places; nor, of ingredients and rows, where the search
    looks at all that is usually looked at.
    """
    if request.method != "informed":
        return float("nan")
    some = [s.most for s in scans_on(project, market, search) if not _blind(request, s)]
    return passed_in(joined(some), TEN) if some else float("nan")


def _blind(request: DiscoverRequest, scan: Scanned) -> bool:
    """Whether having seen a scan says nothing about how this choice came about."""
    asked = scan.request
    if {(str(m), int(i)) for m, i in asked.get("places", [])} != set(request.places):
        return False
    if request.whole:
        return True
    same = [vars(c) for c in request.ingredients] == asked.get("ingredients")
    if scan.kind == INFORMED:
        return same and int(asked.get("rows", 0)) == request.rows
    return same and request.rows == COUNT and tuple(asked.get("horizons", ())) == USUAL


def said_of(project: Project, request: DiscoverRequest, search: int, place: int, number: int,
            strategy: Strategy) -> tuple[str, ...]:
    """What the scan had said of each row of a find's entry, and what each adds as a filter, in words. number: of the find;
    strategy: its rules. Nothing where it is not known."""
    searches = Searches(project)
    kept = searches.results.table(search_owner(search), f"kept {place}", ("number", "genotype", "p"))
    if not kept or "p" not in kept:
        return ()
    at = np.flatnonzero(kept["number"] == number)
    owner = searches.owners(search, "discover place", "discover", len(request.places))[place]
    seen = searches.rows(owner, SEEN)
    if not len(at) or not seen:
        return ()
    genotype, p = kept["genotype"][at[-1]], kept["p"][at[-1]]
    order = {int(c): i for i, c in enumerate(seen["code"])}
    out = []
    sides = (strategy.short,) if strategy.long.mode == "off" else (strategy.long, strategy.short)
    for which, side in enumerate(sides[:2 if int(genotype[FACING]) == SIDES.index("own") else 1]):
        entries, _ = rows_at(which)
        codes = [(i, int(genotype[i])) for i in range(entries.start, entries.stop) if genotype[i] >= 0]
        for (i, code), node in zip(codes, side.entry.rows[-len(codes):] if codes else ()):
            found = order.get(code & ~(TURNED | NOT), -1)
            # Rules of a short side are written turned over; a row of the clock is its own mirror image.
            mirrored = bool(code & TURNED) != (side is strategy.short) and found >= 0 and not seen["clock"][found]
            said = "not looked at by the scan" if found < 0 else _said(seen, found, mirrored)
            adds = f"; as a filter, luck leaves out trades as bad with p {p[i]:.3f}" if np.isfinite(p[i]) else ""
            out.append(f"{node_text(node)}: {said}{adds}")
    return tuple(out)


def _said(seen: Columns, at: int, turned: bool) -> str:
    t, strength = float(seen["t"][at]), float(seen["strength"][at])
    horizon = horizon_text(int(seen["horizon"][at]), bool(seen["state"][at]))
    beside = "beyond luck" if strength >= 1.0 else "near luck" if strength >= NEAR else "within luck"
    after = " after its mirror image" if turned else ""
    return f"price went {'up' if t > 0 else 'down'}{after} {horizon}, t {abs(t):.1f}, {beside}"
