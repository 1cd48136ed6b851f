"""What an informed search saw before it began: kept with it, counted for whatever is judged on its market later."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from wolbrin.core.scan.evidence import Evidence
from wolbrin.core.scan.informed import COUNT
from wolbrin.core.scan.luck import passed_in
from wolbrin.core.scan.moves import USUAL
from wolbrin.core.store.project import Project, now
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


def scanned(project: Project, search: int, request: DiscoverRequest, place: int, seen: Evidence | None, unseen: str) -> Seen:
    """Write down what the scan of a place counts for, within the transaction of its first piece. What it adds is charged to
    whatever is judged there later, never to the search itself: each of its controls scanned the same choice. unseen: why
    nothing could be looked at."""
    if seen is None:
        return Seen(0, 0, 0, (), 0, (), unseen)
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
