"""Discover as a job: candidates tried in quantity beside the same search on shuffled histories, kept ones straight to the
Shelf."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.many import Days, days_of
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import need_bars, record_of
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.jobs import Job, State, Work
from wolbrin.core.measures.inference import Tally
from wolbrin.core.measures.sums import COMPILED
from wolbrin.core.search.floors import DAYS_A_YEAR, Floors, standing, usual_floors
from wolbrin.core.search.objective import Floor
from wolbrin.core.search.sample import sampled
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import DAILY, Searches, search_read
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.store.tables import Columns, joined
from wolbrin.core.work.briefs import brief_again, same_elsewhere
from wolbrin.core.work.discover_request import DiscoverRequest, OldRequestError
from wolbrin.core.work.discover_results import KEPT, NEAR, DiscoverResult, figures_of, slow_columns
from wolbrin.core.work.discover_seen import SEEN, scanned, seen_json, seen_rows
from wolbrin.core.work.discover_source import DiscoverSource
from wolbrin.core.work.discover_work import DiscoverWork, FoldResult, Found, evaluate_unit
from wolbrin.core.work.finding_families import settle_families
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.readable import own_conditions, own_operands
from wolbrin.core.work.sweep_results import DAYS

KIND, PART = "discover", "discover place"
FATES = ("kept", "near", "instead")
_ENDS = (State.STOPPED.value, State.FAILED.value)
Notify = Callable[[DiscoverResult], None]


@dataclass
class _Books:
    """Where a search is written down. search: its number; owners: the search that counts for each place; before: what was
    tried on each place's market when it began. shelved: Shelf ids of what each stream kept, by place among those kept; alike:
    how many finds each of them stands for."""

    project: Project
    search: int
    owners: tuple[int, ...]
    before: tuple[int, ...]
    shelved: dict[tuple[int, int], tuple[int, ...]]
    alike: dict[tuple[int, int], int]


def years_of(history: Prepared, brief: Brief) -> float:
    """Calendar years of a brief's span."""
    first, last = history.bars.range_of(brief.span)
    if last <= first:
        return 0.0
    return float(history.bars.end[last - 1] - history.bars.time[first]) / (DAYS_A_YEAR * 86_400e9)


def filled(project: Project, request: DiscoverRequest) -> DiscoverRequest:
    """The request with what it may read, and with the usual floors of its span where none are given. Raises UserError where
    it cannot be asked."""
    request.check()
    footing = Footing.of(project)
    markets = {m for m, _ in request.places}
    request = replace(request, others=tuple(m for m, _ in footing.ground.active if m not in markets),
                      own=own_operands(Path(footing.ground.folder)), conditions=own_conditions(project))
    years = []
    for market, interval in request.places:
        history = footing.prepared(market, interval)
        brief = footing.brief(history.bars.terms)
        need_bars(history, brief.span)
        years.append(years_of(history, brief))
        request.pantry(interval)
    floors = request.floors or tuple(f for f in usual_floors(min(years)) if f.key not in request.without)
    request = replace(request, floors=standing(floors, min(years), request.without))
    for (market, interval), span in zip(request.places, years):
        history = footing.prepared(market, interval)
        first, last = history.bars.range_of(footing.brief(history.bars.terms).span)
        Floors(request.floors, span).check(last - first)
    return request


def _job(books: _Books, work: DiscoverWork, source: DiscoverSource, result: DiscoverResult, notify: Notify,
         done: State = State.DONE) -> Job:
    """The job of a search that is on record. done: what the search is once the job has done all it was asked."""
    project, request = books.project, work.request
    searches = Searches(project)

    def commit(pieces: list[FoldResult], cursor: dict[str, Any]) -> None:
        tables: dict[tuple[int, str], list[Columns]] = {}
        fresh: list[int] = []
        with project.transaction():
            for piece in pieces:
                stream = piece.unit.stream
                control, place = work.stream(stream)
                kept = _keep(books, work, piece) if not control else []
                fresh += kept
                for owner, name, rows in _tables(books, work, piece):
                    tables.setdefault((owner, name), []).append(rows)
                if piece.seen is not None or piece.unseen:
                    result.scans[place] = scanned(project, books.search, request, place, piece.seen, piece.unseen)
                if control or piece.unit.again is not None:
                    continue
                count = piece.unit.count
                for at in range(len(request.places)) if request.hold else [place]:
                    searches.advance(books.owners[at], count, 0, [Tally.of(piece.sharpe)] if at == place else [])
            if fresh:
                searches.advance(books.search, 0, len(fresh))
            for (owner, name), parts in tables.items():
                searches.add(owner, name, joined(parts))
            elsewhere = {k: v for piece in pieces for k, v in piece.elsewhere.items()}
            result.elsewhere |= elsewhere
            searches.commit(books.search, cursor | {"elsewhere": result.elsewhere, "before": list(books.before),
                                                    "rows": max(result.rows, *(p.rows for p in pieces)),
                                                    **seen_json(request, result.scans)}, {})
        searches.tidy(books.search)
        result.take(source, pieces)
        notify(result)

    def finish(state: State) -> None:
        state = done if state is State.DONE else state
        result.unfinished = state is not State.DONE
        result.source = None
        work.let_go()
        with suppress(WolbrinError):  # a find that cannot be read: the Shelf says so itself
            settle_families(project, books.search)
        for id in dict.fromkeys((books.search, *books.owners)):
            searches.end(id, state)

    result.source = source
    made = Job(request.title, "candidates", source, Work(evaluate_unit, work), commit=commit, finish=finish)
    made.doing = work.doing
    return made


def _keep(books: _Books, work: DiscoverWork, piece: FoldResult) -> list[int]:
    """Put what is kept of a piece on the Shelf. Returns the ids."""
    shelf, request, stream = Shelf(books.project), work.request, piece.unit.stream
    _, place = work.stream(stream)
    at = range(len(request.places)) if request.hold else [place]
    tried = {p: books.before[p] + piece.unit.first + piece.unit.count for p in at}
    out: list[int] = []
    nth = sum(1 for s, _ in books.shelved if s == stream)
    for found, (fate, other) in zip(piece.found, piece.fates):
        if fate == "twin":
            continue
        key = stream, nth if fate == "kept" else other
        books.alike[key] = books.alike.get(key, 0) + 1
        if fate == "near":
            shelf.stands_for(books.shelved.get(key, ()), books.alike[key])
            continue
        if fate == "instead":
            shelf.give_way(books.shelved.get(key, ()))
        ids = [id for p, ready in zip(at, found.ready)
               if (id := shelf.keep_ready(ready, tried[p], books.search, found.number)) is not None]
        shelf.stands_for(ids if fate == "instead" else (), books.alike[key])
        books.shelved[key] = tuple(ids)
        nth += fate == "kept"
        out += ids
    return out


def _tables(books: _Books, work: DiscoverWork, piece: FoldResult) -> Iterable[tuple[int, str, Columns]]:
    """Rows of the search's tables: what was kept, what came near, and the sample of all draws."""
    stream, slow = piece.unit.stream, slow_columns(piece.unit.floors)
    some = [(f, fate) for f, (fate, _) in zip(piece.found, piece.fates) if fate != "twin"]
    if some:
        yield books.search, f"{KEPT} {stream}", _kept_rows([f for f, _ in some], [f for _, f in some], slow)
    near = piece.near
    if len(near.numbers):
        yield books.search, NEAR, {
            "stream": np.full(len(near.numbers), stream), "number": near.numbers, "genotype": near.genotypes,
            "asked": near.asked.astype(np.int8), **figures_of(near.figures)}
    if piece.seen is not None:
        yield books.owners[work.stream(stream)[1]], SEEN, seen_rows(piece.seen)
    if len(piece.numbers):
        yield books.owners[work.stream(stream)[1]], DAILY, {"number": piece.numbers, "daily": piece.daily}


def _kept_rows(found: list[Found], fates: list[str], slow: tuple[str, ...]) -> Columns:
    values = np.stack([f.values for f in found]) if slow else np.zeros((len(found), 0))
    return {"number": np.array([f.number for f in found], np.int64), "digest": np.array([f.digest for f in found], np.int64),
            "complexity": np.array([f.complexity for f in found], np.int64),
            "fate": np.array([FATES.index(f) for f in fates], np.int8), "genotype": np.stack([f.genotype for f in found]),
            **figures_of(np.stack([f.figures for f in found])), **{name: values[:, i] for i, name in enumerate(slow)},
            "daily": np.stack([f.daily for f in found]), "p": np.stack([f.p for f in found])}


def discover_job(project: Project, request: DiscoverRequest,
                 notify: Notify = lambda result: None) -> tuple[Job, DiscoverResult]:
    """Prepare a search over the training span. notify: called on the job's thread after pieces were kept.

    Raises:
        UserError: it cannot be asked: no ingredient, floors that nothing can pass, a history too short.
    """
    request = filled(project, request)
    searches, footing = Searches(project), Footing.of(project)
    histories = [footing.prepared(m, i) for m, i in request.places]
    briefs = tuple(footing.brief(h.bars.terms) for h in histories)
    before = tuple(searches.tried_on(m) for m, _ in request.places)
    # What is drawn follows from the limits and from what else may be read.
    asked = request.as_json() | {"count": 0, "seed": 0, "controls": 0, "until_kept": 0, "seconds": 0}
    rules = hashlib.sha256(json.dumps(asked, sort_keys=True).encode()).hexdigest()[:16]
    records = [record_of(h, None, b, seeds=(request.seed,), tried=n + request.count, rules=rules)
               for h, b, n in zip(histories, briefs, before)]
    days = tuple(days_of(h, b) for h, b in zip(histories, briefs))
    several = len(request.places) > 1
    with project.transaction():
        market, interval = request.places[0] if not several else ("", 0)
        search = searches.begin(now(), KIND, request.title, request.as_json(), record=records[0], market=market,
                                interval=interval, cursor={})
        owners = (search,) if not several else tuple(
            searches.begin(now(), PART, request.title, {"discover": search}, record=r, market=m, interval=i)
            for (m, i), r in zip(request.places, records))
        for owner, dates in zip(owners, days):
            searches.add(owner, DAYS, {"day": dates})
        work = DiscoverWork(footing, request, briefs, tuple(h.bars.hash for h in histories), days)
        source = _source(work, histories, None)
        searches.commit(search, source.state() | {"before": list(before), "elsewhere": {}, "rows": 0}, {})
    result = DiscoverResult(request, records[0], search, before)
    result.take(source, [])
    return _job(_Books(project, search, owners, before, {}, {}), work, source, result, notify), result


def _source(work: DiscoverWork, histories: list[Prepared], cursor: dict[str, Any] | None) -> DiscoverSource:
    years = [years_of(h, b) for h, b in zip(histories, work.briefs)]
    places = [work.stream(s)[1] for s in range(work.request.streams)]
    return DiscoverSource(work.request, [len(work.days[p]) for p in places], [years[p] for p in places], cursor)


def resume_discover(project: Project, search: int, notify: Notify = lambda result: None,
                    floors: tuple[Floor, ...] | None = None, controls: int | None = None,
                    without: tuple[str, ...] = ()) -> tuple[Job, DiscoverResult]:
    """Go on with a search where it was; with other floors where they are given (without: standing ones that are taken out of
    these), or with so many controls in all, which then try what the search has tried and nothing further; both of a finished
    one too.

    Raises:
        UserError: it cannot be gone on with, such as on another history, or it has as many controls.
    """
    searches, footing = Searches(project), Footing.of(project)
    result = read_discover(project, search)
    request = result.request
    if request.controls and not request.comparable:
        raise UserError("the controls of this search were dealt by an older program, in another way", request.title,
                        "Its finds are on the Shelf; run the search again for controls that say what luck brings.")
    known = {o.name: o.digest for o in own_operands(Path(footing.ground.folder))}
    changed = [o.name for o in request.own if known.get(o.name) != o.digest]
    if changed:
        raise UserError(f"the own indicator {changed[0]} has changed, or is not confirmed any more, since this search began",
                        changed[0], "Run the search again.")
    owners = searches.owners(search, PART, "discover", len(request.places))
    histories = [footing.prepared(m, i) for m, i in request.places]
    briefs = []
    for at, owner in enumerate(owners):
        market, interval = request.places[at]
        briefs.append(brief_again(project, searches.record(owner), market, interval, same_engine=True))
    if controls is not None:
        before, request = request, replace(request, controls=controls)
        request.check()
        if controls <= before.controls:
            raise UserError(f"this search has {before.controls} controls already", request.title, "Ask for more than that.")
    same_elsewhere(footing, (searches.get(search).cursor or {}).get("elsewhere", {}), "search")
    stored = searches.again(search) if floors is not None or controls is not None else searches.take_up(search)
    cursor = stored.cursor or {}
    work = DiscoverWork(footing, request, tuple(briefs), tuple(h.bars.hash for h in histories),
                        tuple(searches.rows(o, DAYS)["day"] for o in owners))
    source = _source(work, histories, cursor)
    if controls is not None:
        if source.catching_up:
            raise UserError("controls that were added before have not tried as many yet", request.title,
                            "Go on with it first.")
        source.add_controls(before.streams)
        record = searches.record(search)
        assert record is not None
        with project.transaction():
            searches.revise(search, request.as_json(), record)
            searches.commit(search, cursor | source.state(), {})
        result.request = request
    shelved = _restore(project, search, source, request)
    if floors is not None:
        years = min(years_of(h, b) for h, b in zip(histories, work.briefs))
        source.loosen(standing(floors, years, (*request.without, *without)))
    source.ask_near()
    result.unfinished = False
    alike = {(s, at): n for s in source.real for at, n in enumerate(source.twins[s].alike)}
    books = _Books(project, search, owners, tuple(cursor["before"]), shelved, alike)
    ended = State(stored.state) if controls is not None and stored.unfinished and stored.state in _ENDS else State.DONE
    return _job(books, work, source, result, notify, ended), result


def _restore(project: Project, search: int, source: DiscoverSource,
             request: DiscoverRequest) -> dict[tuple[int, int], tuple[int, ...]]:
    """Fill what a source knows from what was stored; returns where its finds are on the Shelf."""
    searches = Searches(project)
    on_shelf: dict[int, list[int]] = {}
    for r in project.rows("SELECT id, number FROM candidates WHERE search = ? AND number IS NOT NULL ORDER BY id", search):
        on_shelf.setdefault(int(r["number"]), []).append(int(r["id"]))
    shelved: dict[tuple[int, int], tuple[int, ...]] = {}
    for stream in range(request.streams):
        rows = searches.rows(search, f"{KEPT} {stream}")
        for at in range(len(rows["number"]) if rows else 0):
            made = source.twins[stream].take(int(rows["digest"][at]), rows["daily"][at], int(rows["complexity"][at]))
            if made.fate in ("kept", "instead") and stream in source.real:
                shelved[stream, made.other] = tuple(on_shelf.get(int(rows["number"][at]), ()))
    near = searches.rows(search, NEAR)
    if near:
        asked = {(int(s), int(n)) for s, n, a in zip(near["stream"], near["number"], near["asked"]) if a}
        for at in np.flatnonzero(near["asked"] == 0).tolist():
            key = int(near["stream"][at]), int(near["number"][at])
            if key not in asked:
                table = source.near[key[0]]
                table.numbers.append(key[1])
                table.genotypes.append(near["genotype"][at])
                table.figures.append(np.array([near[f"m_{k}"][at] for k in COMPILED]))
    return shelved


@search_read()
def read_discover(project: Project, search: int) -> DiscoverResult:
    """A search as far as it came. Raises UserError where an older version kept too little of it, or asked it otherwise."""
    searches = Searches(project)
    stored, record = searches.asked(search, KIND), searches.record(search)
    if record is None or stored.cursor is None:
        raise UserError("this search was kept by an older version, without where it stood", stored.title, "Run it again.")
    request = DiscoverRequest.from_json(stored.request)
    c = stored.cursor
    result = DiscoverResult(request, record, search, tuple(c["before"]), unfinished=stored.unfinished)
    result.restore(c)
    return result


def last_discover(project: Project) -> DiscoverResult | None:
    """The newest search, as far as it came; None where there is none that today's program can read."""
    for stored in reversed([s for s in Searches(project).all([KIND]) if s.cursor is not None]):
        try:
            return read_discover(project, stored.id)
        except OldRequestError:
            continue
    return None


@search_read()
def tried_there(project: Project, search: int, place: int) -> tuple[int, int]:
    """Trading dates of one of a search's places, and how much was tried there."""
    searches = Searches(project)
    request = DiscoverRequest.from_json(searches.get(search).request)
    owner = searches.owners(search, PART, "discover", len(request.places))[place]
    return len(searches.rows(owner, DAYS)["day"]), searches.get(owner).tried


@search_read()
def daily_sample(project: Project, search: int, place: int = 0) -> tuple[Days, NDArray[np.int64], NDArray[np.float32]]:
    """A uniform sample of all draws of a search on one of its places, at most SAMPLE: trading dates int32[d], numbers of the
    draws int64[n] and their daily P/L float32[n, d], NaN before a run begins."""
    searches = Searches(project)
    request = DiscoverRequest.from_json(searches.get(search).request)
    owner = searches.owners(search, PART, "discover", len(request.places))[place]
    days, table = searches.rows(owner, DAYS)["day"], searches.rows(owner, DAILY)
    if not table:
        return days, np.zeros(0, np.int64), np.zeros((0, len(days)), np.float32)
    at = sampled(request.seed, table["number"])
    return days, table["number"][at], table["daily"][at]
