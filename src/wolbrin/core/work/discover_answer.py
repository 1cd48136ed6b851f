"""A Discover search as an answer for machines, and candidates of the Shelf as rows: one schema each."""

from __future__ import annotations

import math
from typing import Any

from wolbrin.core.engine.record import Record
from wolbrin.core.models import Model
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.shelf import Line, Shelf
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.controls import percent_note
from wolbrin.core.work.discover_results import DiscoverResult, by_floor, strength
from wolbrin.core.work.discover_said import said_of
from wolbrin.core.work.finding_families import families_in

Value = float | None  # null where there is none


def value_of(x: float) -> Value:
    return x if math.isfinite(x) else None


class FloorRow(Model):
    """A floor, how many it was the first to reject, and what is kept as it is raised: by the search, by luck on average."""

    floor: str
    words: str
    rejected: int
    raised: tuple[dict[str, Value], ...] = ()


class LuckRow(Model):
    """kept: by the search; controls: by each of the same on a shuffled history; low, high: where 95 of 100 further controls
    lie; beyond: whether more was kept than luck keeps in 95 of 100. strongest: t of daily results of the strongest find, of
    the controls' ones, and whether it is stronger than luck finds in 95 of 100. percent: what is in percent of price, and so
    of other amounts on controls, in words."""

    kept: int
    controls: tuple[int, ...]
    expected: Value
    low: Value
    high: Value
    beyond: bool
    words: str
    strongest: Value = None
    strongest_by_luck: tuple[float, ...] = ()
    strongest_beyond: bool = False
    strongest_words: str = ""
    percent: str = ""


class StrengthRow(Model):
    """Finds at least this strong (t of daily results): so many, so many by a control on average, share that luck brings."""

    level: float
    found: float
    expected: float
    share: float


class CandidateRow(Model):
    """A candidate on the Shelf. tried: alternatives looked at on its market by now. luck: share of finds as strong that luck
    brings as well, null where no control ran. leads: id of the one that represents its family, its own where it does, null
    where that is not known; behind: how many others stand behind it."""

    id: int
    name: str
    market: str
    interval: int
    tried: int
    stands: str
    origin: str
    family: str
    tags: tuple[str, ...]
    star: bool
    notes: str
    words: str
    cluster: int | None
    measures: dict[str, Value]
    record: Record | None = None
    luck: Value = None
    leads: int | None = None
    behind: int = 0


class ScannedRow(Model):
    """What an informed search saw on a market before it began. beyond: rows that move price more than luck does; hurdles:
    |t| that luck reaches, of the clock's question and of all others; worth: tries it adds for whatever is judged there
    later."""

    market: str
    interval: int
    rows: int
    told: int
    beyond: int
    hurdles: tuple[Value, ...]
    worth: int
    words: str


class FamilyRow(Model):
    """Finds that are one bet. leads: id of the one that represents them; members: ids, that one first; alike: mean
    correlation of daily results between them, null of one. said: what the scan had said of each row of the entry."""

    leads: int
    name: str
    members: tuple[int, ...]
    alike: Value
    words: str
    said: tuple[str, ...] = ()


class DiscoverAnswer(Model):
    """What `wolbrin discover --json` gives. tried_on_market: by market, all alternatives so far. spans: how many different
    rows the ingredients span. on_shelf_before: kept ones that an older search or a person had put on the Shelf, or that were
    taken off it since. rows: conditions of the first pool. idle: met the quick floors with parts that add nothing, which were
    left out; ended: why it ended early, in words; scanned: what it saw first; families: of the finds on the Shelf, the
    strongest first; bets: how many these finds are worth."""

    search: int
    title: str
    state: str
    record: Record
    method: str
    seed: int
    spans: int
    rows: int
    tried: int
    too_few_signals: int
    met: int
    kept: int
    twins: int
    near_twins: int
    on_shelf_before: int
    tried_on_market: dict[str, int]
    sharpe_daily: dict[str, dict[str, Value]]
    floors: tuple[FloorRow, ...]
    luck: LuckRow
    strength: tuple[StrengthRow, ...]
    improvements: tuple[dict[str, Any], ...]
    candidates: tuple[CandidateRow, ...]
    idle: int = 0
    ended: str = ""
    scanned: tuple[ScannedRow, ...] = ()
    families: tuple[FamilyRow, ...] = ()
    bets: Value = None
    families_words: str = ""


class ShelfAnswer(Model):
    """What `wolbrin shelf --json` gives. total: on the Shelf; shown: that the filters leave."""

    total: int
    shown: int
    candidates: tuple[CandidateRow, ...]


def row_of(line: Line, record: Record | None = None, luck: Value = None) -> CandidateRow:
    """A row of the Shelf for machines."""
    return CandidateRow(id=line.id, name=line.name, market=line.market, interval=line.interval, tried=line.tried,
                        stands=line.stands, origin=line.origin, family=line.family, tags=tuple(line.tags.split()),
                        star=line.marks.star, notes=line.marks.notes, words=line.words, cluster=line.marks.cluster,
                        measures={k: value_of(v) for k, v in line.figures.items()}, record=record, luck=luck,
                        leads=line.marks.leads, behind=line.marks.behind)




def tally_of(project: Project, market: str) -> dict[str, Value]:
    """Count, mean and variance of the daily Sharpe ratios of all that was tried on a market."""
    found = Searches(project).sharpe_on(market)
    return {"count": float(found.count), "mean": value_of(found.mean) if found.count else None,
            "variance": value_of(found.variance)}


def discover_answer(project: Project, result: DiscoverResult, state: str) -> DiscoverAnswer:
    """The whole of a search."""
    r, luck, curve = result.request, result.luck, strength(project, result)
    shelf = Shelf(project)
    rows = shelf.lines_with_records(shelf.ids(Wanted(search=result.search, sort="id")))

    families = families_in(project, result.search)
    lines = {line.id: line for line, _ in rows}

    def luck_of_line(line: Line) -> Value:
        return value_of(curve.share_of((line.market, line.interval, line.marks.number)))

    floors = tuple(FloorRow(floor=f.text, words=f.words(), rejected=n, raised=tuple(
        {"value": v, "kept": float(w.kept), "expected": value_of(w.expected)} for v, w in by_floor(project, result, i)))
        for i, (f, n) in enumerate(zip(result.floors, result.rejected)))
    return DiscoverAnswer(
        search=result.search, title=r.title, state=state, record=result.record, method=r.method, seed=r.seed,
        spans=r.pantry(r.places[0][1]).size, rows=result.rows, tried=result.tried, too_few_signals=result.few, met=result.met,
        kept=result.kept, twins=result.twins, near_twins=result.alike,
        on_shelf_before=max(0, result.kept * (len(r.places) if r.hold else 1) - len(rows)), floors=floors,
        tried_on_market={m: Searches(project).tried_on(m) for m in dict.fromkeys(m for m, _ in r.places)},
        sharpe_daily={m: tally_of(project, m) for m in dict.fromkeys(m for m, _ in r.places)},
        luck=LuckRow(kept=luck.kept, controls=luck.controls, expected=value_of(luck.expected), low=value_of(luck.low),
                     high=value_of(luck.high), beyond=luck.beyond, words=luck.words, strongest=value_of(curve.strongest),
                     strongest_by_luck=curve.by_luck, strongest_beyond=curve.beyond, strongest_words=curve.words,
                     percent=percent_note(project, r.places[0][0], r.limits, r.limits.flat, result.record) if r.controls
                     else ""),
        strength=tuple(StrengthRow(level=a, found=b, expected=c, share=d) for a, b, c, d in curve.shown()),
        improvements=result.improvements,
        candidates=tuple(row_of(line, record, luck_of_line(line)) for line, record in rows), idle=result.idle,
        ended=result.ended, scanned=tuple(
            ScannedRow(market=r.places[at][0], interval=r.places[at][1], rows=s.rows, told=s.told, beyond=s.beyond,
                       hurdles=s.hurdles, worth=s.worth, words=s.words) for at, s in sorted(result.scans.items())),
        families=tuple(FamilyRow(leads=f.leads, name=lines[f.leads].name, members=f.members, alike=value_of(f.alike),
                                 words=f.words, said=said_of(project, r, result.search, lines[f.leads]))
                       for f in families.families if f.leads in lines),
        bets=value_of(families.bets), families_words=families.words)
