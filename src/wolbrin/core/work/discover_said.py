"""What the scan of a search had said of each row of a find, and what each row adds, in words."""

from __future__ import annotations

import numpy as np

from wolbrin.core.scan.evidence import BEYOND, NEAR
from wolbrin.core.scan.told import horizon_text, node_text
from wolbrin.core.search.genotype import FACING, rows_at
from wolbrin.core.search.ingredients import NOT, TURNED
from wolbrin.core.search.limits import SIDES
from wolbrin.core.store.project import Project
from wolbrin.core.store.results import search_owner
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.shelf import Line, Shelf
from wolbrin.core.store.tables import Columns
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discover_results import KEPT
from wolbrin.core.work.discover_seen import SEEN
from wolbrin.core.work.discovering import PART

OWN = SIDES.index("own")


def said_of(project: Project, request: DiscoverRequest, search: int, line: Line) -> tuple[str, ...]:
    """Of each row of the entry of a find on the Shelf a sentence. Nothing of what did not look first, or is not known."""
    where = line.market, line.interval
    found = Shelf(project).body(line.id)
    if request.method != "informed" or line.marks.number is None or where not in request.places or found is None:
        return ()
    place, rules = 0 if request.hold else request.places.index(where), found.candidate.strategy
    searches = Searches(project)
    kept = searches.results.table(search_owner(search), f"{KEPT} {place}", ("number", "genotype", "p"))
    if "p" not in kept:
        return ()
    at = np.flatnonzero(kept["number"] == line.marks.number)
    seen = searches.rows(searches.owners(search, PART, "discover", len(request.places))[place], SEEN)
    if not len(at) or not seen:
        return ()
    genotype, p = kept["genotype"][at[-1]], kept["p"][at[-1]]
    order = {int(c): i for i, c in enumerate(seen["code"])}
    out = []
    sides = (rules.short,) if rules.long.mode == "off" else (rules.long, rules.short)
    for which, side in enumerate(sides[:2 if int(genotype[FACING]) == OWN else 1]):
        entries, _ = rows_at(which)
        codes = [(i, int(genotype[i])) for i in range(entries.start, entries.stop) if genotype[i] >= 0]
        for (i, code), node in zip(codes, side.entry.rows[-len(codes):] if codes else ()):
            known = order.get(code & ~(TURNED | NOT), -1)
            # Rules of a short side are written turned over; a row of the clock is its own mirror image.
            mirrored = bool(code & TURNED) != (side is rules.short) and known >= 0 and not seen["clock"][known]
            said = "not looked at by the scan" if known < 0 else _said(seen, known, mirrored)
            adds = f"; as a filter, luck leaves out trades as bad with p {p[i]:.3f}" if np.isfinite(p[i]) else ""
            out.append(f"{node_text(node)}: {said}{adds}")
    return tuple(out)


def _said(seen: Columns, at: int, turned: bool) -> str:
    t, strength = float(seen["t"][at]), float(seen["strength"][at])
    horizon = horizon_text(int(seen["horizon"][at]), bool(seen["state"][at]))
    beside = "beyond luck" if strength >= BEYOND else "near luck" if strength >= NEAR else "within luck"
    after = " after its mirror image" if turned else ""
    return f"price went {'up' if t > 0 else 'down'}{after} {horizon}, t {abs(t):.1f}, {beside}"
