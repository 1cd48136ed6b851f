"""A scan as a job: rows tile by tile on every place, then pairs draw by draw; it goes on from its last commit."""

from __future__ import annotations

import hashlib
import json
import time
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from threading import Lock
from typing import Any

import numpy as np

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import need_bars, record_of
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Job, State, Work
from wolbrin.core.scan.luck import Luck
from wolbrin.core.scan.moves import END, USUAL, Moves, hours_changed, moves_of, round_turn
from wolbrin.core.scan.rows import choose_rows
from wolbrin.core.scan.scanner import Scanner, tile_size
from wolbrin.core.scan.scores import LEAST_FIRING
from wolbrin.core.store.database import this_program
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.results import search_owner
from wolbrin.core.store.searches import ROWS, Searches, search_read
from wolbrin.core.work.briefs import brief_again, same_elsewhere
from wolbrin.core.work.footing import Footing, Request
from wolbrin.core.work.readable import own_conditions, own_operands
from wolbrin.core.work.scan_request import ScanRequest, horizon_words
from wolbrin.core.work.scan_results import COLUMNS, Found, ScanResult, pairs_json, pairs_of
from wolbrin.core.work.scan_source import SEEN, PairUnit, Piece, ScanSource, TileUnit
from wolbrin.core.work.scan_tries import KIND, MOST, PART, joined, worth

EVERY = 3.0  # seconds between two commits: what luck made so far is a few megabytes
AT_HAND = 2  # places whose rows are at hand at a time
LUCK = "luck"  # table of a place: what its draws have come to
FEW_DAYS = 250  # below which a scan says what could be told at all
Notify = Callable[[ScanResult], None]


@dataclass(frozen=True)
class ScanWork(Request):
    """All that a piece needs, wherever it runs. briefs: of each place; contents: hashes of their bars."""

    footing: Footing
    request: ScanRequest
    briefs: tuple[Brief, ...]
    contents: tuple[str, ...]

    @cached_property
    def _held(self) -> tuple[Lock, OrderedDict[int, Scanner]]:
        return Lock(), OrderedDict()

    def scanner(self, place: int) -> Scanner:
        """One place, made once; threads share it. Few are at hand at a time: pieces come place by place."""
        lock, held = self._held
        with lock:
            if place not in held:
                market, interval = self.request.places[place]
                history = self.footing.prepared(market, interval, self.contents[place])
                share = 1.0 / min(AT_HAND, len(self.request.places))
                held[place] = scanner_of(history, self.briefs[place], self.request, place, share)
                while len(held) > AT_HAND:
                    held.popitem(last=False)
            held.move_to_end(place)
            return held[place]

    def let_go(self) -> None:
        """Forget what takes much memory."""
        vars(self).pop("_held", None)


def evaluate_piece(work: ScanWork, unit: TileUnit | PairUnit) -> Piece:
    """What comes of a piece of a scan."""
    return piece_of(work.scanner(unit.place), unit)


def _found(history: Prepared, brief: Brief, request: ScanRequest, place: int) -> Found:
    """A place before any row was looked at. Raises UserError where it has none."""
    moves = moves_of(history, brief.span, request.flat)
    c = choose_rows(request.pantry(place), request.count, moves.longest)
    if not len(c):
        raise UserError("these ingredients have no rows here", request.places[place][0], "Tick others.")
    size = tile_size(len(request.levels), moves.days, request.draws, c.codes, history.bars)
    return Found.empty(c.codes, c.at.astype(np.int64), c.group, len(request.levels),
                       Luck.begun(moves.days, c.group, request.draws), moves.days, round_turn(history, brief), size)


def piece_of(scanner: Scanner, unit: TileUnit | PairUnit) -> Piece:
    """The same, of a scanner at hand."""
    if isinstance(unit, TileUnit):
        return Piece(unit, scanner.tile(unit.tile), elsewhere=scanner.reader.columns.elsewhere_read())
    if unit.draws == (SEEN,):
        return Piece(unit, seen=scanner.paired(SEEN, unit.rows[:, 0], unit.horizons[:, 0]))
    found = [scanner.strongest_pair(draw, unit.rows[:, at], unit.horizons[:, at]) for at, draw in enumerate(unit.draws)]
    return Piece(unit, strength=np.stack(found, axis=1))


def filled(project: Project, request: ScanRequest) -> ScanRequest:
    """The request with what its rows may read. Raises UserError where it cannot be asked."""
    request.check()
    footing = Footing.of(project)
    markets = {m for m, _ in request.places}
    return replace(request, others=tuple(m for m, _ in footing.ground.active if m not in markets),
                   own=own_operands(Path(footing.ground.folder)), conditions=own_conditions(project))


def _fitting(request: ScanRequest, longest: int, notes: list[str]) -> ScanRequest:
    """Without horizons beyond the longest session, where positions end with it: they would all say the same; of the usual
    ones that is not worth a word. Raises UserError where nothing can be held within a session."""
    if request.flat and longest < 2:
        raise UserError("a session is one bar here, and a position that ends with its session is never held", "horizons",
                        "Hold over sessions, or scan shorter bars.")
    beyond = [h for h in request.levels if h != END and h >= longest]
    if not request.flat or not beyond:
        return request
    rest = tuple(h for h in request.levels if h not in beyond)
    told = ", ".join(str(h) for h in beyond)
    if END not in rest:
        rest = (*rest, END)
    if request.horizons != USUAL:
        notes.append(f"{told} bars reach beyond a session of {longest} bars, at whose end positions are closed: what they "
                     f'would say stands under "{horizon_words(END)}"')
    return replace(request, horizons=rest)


def _notes_of(request: ScanRequest, place: int, history: Prepared, moves: Moves) -> list[str]:
    """What should be said of a place before anything is read into its rows."""
    market, notes = request.places[place][0], []
    if changed := hours_changed(history.bars, moves):
        notes.append(f"{market}: {changed}")
    if moves.days < FEW_DAYS:
        notes.append(f"{market}: {moves.days} days are few: rows that fire on fewer than {LEAST_FIRING} of them are left "
                     "out, and only what is beyond the line of luck could be told at all")
    empty = sorted({i.title for i in request.pantry(place).items if not i.size})
    if empty:
        notes.append(f"{market}: {', '.join(empty[:3])} {'has' if len(empty) == 1 else 'have'} no rows here")
    return notes


def scan_job(project: Project, request: ScanRequest, notify: Notify = lambda result: None) -> tuple[Job, ScanResult]:
    """Prepare a scan over the training span. notify: called on the job's thread as it grows.

    Raises:
        UserError: it cannot be asked: no ingredient, a history too short.
    """
    request = filled(project, request)
    searches, footing = Searches(project), Footing.of(project)
    notes: list[str] = []
    histories = [footing.prepared(m, i) for m, i in request.places]
    briefs = tuple(footing.brief(h.bars.terms) for h in histories)
    moves = []
    for history, brief in zip(histories, briefs):
        need_bars(history, brief.span)
        moves.append(moves_of(history, brief.span, request.flat))
    request = _fitting(request, max(m.longest for m in moves), notes)
    work = ScanWork(footing, request, briefs, tuple(h.bars.hash for h in histories))
    places = [_found(h, b, request, at) for at, (h, b) in enumerate(zip(histories, briefs))]
    for at, (history, m) in enumerate(zip(histories, moves)):
        notes += _notes_of(request, at, history, m)
    asked = request.as_json() | {"others": list(request.others)}
    rules = hashlib.sha256(json.dumps(asked, sort_keys=True).encode()).hexdigest()[:16]
    before = [searches.tried_on(m) for m, _ in request.places]
    records = tuple(record_of(h, None, b, seeds=(request.seed,), tried=n, rules=rules)
                    for h, b, n in zip(histories, briefs, before))
    several = len(request.places) > 1
    market, interval = request.places[0] if not several else ("", 0)
    with project.transaction():
        search = searches.begin(now(), KIND, request.title, request.as_json(), record=records[0], market=market,
                                interval=interval, cursor={})
        owners = (search,) if not several else tuple(
            searches.begin(now(), PART, request.title, {"scan": search}, record=r, market=m, interval=i)
            for (m, i), r in zip(request.places, records))
    result = ScanResult(request, search, records, tuple(places), *_named(request), notes)
    source = _source(result, (0, 0))
    with project.transaction():
        _keep(searches, result, source, owners)
    return _job(project, work, source, result, owners, notify), result


def scanner_of(history: Prepared, brief: Brief, request: ScanRequest, place: int = 0, share: float = 1.0) -> Scanner:
    """The scanner of a place of a request on a history. Raises UserError where it cannot be asked there."""
    moves = moves_of(history, brief.span, request.flat)
    pantry = request.pantry(place)
    return Scanner(history, moves, pantry, choose_rows(pantry, request.count, moves.longest), request.levels, request.draws,
                   request.seed, share)


def scan_here(histories: Sequence[Prepared], briefs: Sequence[Brief], request: ScanRequest, least: int = 0) -> ScanResult:
    """A scan of histories that need not be of a project, worked out here and kept nowhere: of controls, and for whoever
    calls from Python. least: draws after which it may end (0: all). Its rows read what the request names.

    Raises:
        UserError: it cannot be asked.
    """
    request.check()
    request = _fitting(request, max(moves_of(h, b.span, request.flat).longest for h, b in zip(histories, briefs)), [])
    places = tuple(_found(h, b, request, at) for at, (h, b) in enumerate(zip(histories, briefs)))
    scanners = [scanner_of(h, b, request, at) for at, (h, b) in enumerate(zip(histories, briefs))]
    records = tuple(record_of(h, None, b, seeds=(request.seed,)) for h, b in zip(histories, briefs))
    result = ScanResult(request, 0, records, places, *_named(request))
    source = _source(result, (0, 0))
    while not source.over and not (least and source.draws_known >= least):
        chunk = source.ask()
        assert chunk is not None
        piece = piece_of(scanners[chunk.argument.place], chunk.argument)
        source.tell(chunk, piece)
        result.take(piece)
    result.draws = source.draws_known
    return result


def _named(request: ScanRequest) -> tuple[tuple[tuple[str, ...], ...], tuple[tuple[str, ...], ...]]:
    """Titles and keys of the ingredients of each place."""
    items = [request.pantry(at).items for at in range(len(request.places))]
    return tuple(tuple(i.title for i in some) for some in items), tuple(tuple(i.key for i in some) for some in items)


def _source(result: ScanResult, done: tuple[int, int]) -> ScanSource:
    return ScanSource([len(f.code) for f in result.places], [f.tile for f in result.places], [f.luck for f in result.places],
                      result.request.pairs, result.request.draws, done)


def _most(result: ScanResult) -> dict[str, list[float]]:
    """By market the strongest |t| of each draw known so far; of one at several intervals over all of them."""
    most: dict[str, list[float]] = {}
    for (market, _), f in zip(result.request.places, result.places):
        mine = f.luck.most(result.draws > 0, result.draws or result.request.draws).max(axis=0) if f.looked else np.zeros(0)
        most[market] = [round(float(x), 5) for x in joined([mine, *([np.array(most[market])] if market in most else [])])]
    return most


def _keep(searches: Searches, result: ScanResult, source: ScanSource, owners: tuple[int, ...]) -> dict[str, list[float]]:
    """Keep where a scan stands, whole; returns the strongest of each draw by market."""
    most = _most(result)
    for owner, f in zip(owners, result.places):
        searches.results.replace(search_owner(owner), LUCK, {"state": f.luck.state()[None]})
    searches.commit(result.search, source.state() | {
        MOST: most, "notes": result.notes, "draws": result.draws, "elsewhere": result.elsewhere,
        "seen": [pairs_json(f.pairs) for f in result.places], "days": [f.days for f in result.places],
        "cost": [f.cost for f in result.places], "tile": [f.tile for f in result.places],
        "sizes": [len(f.code) for f in result.places]}, {})
    return most


def _job(project: Project, work: ScanWork, source: ScanSource, result: ScanResult, owners: tuple[int, ...],
         notify: Notify) -> Job:
    """The job of a scan that is on record."""
    searches = Searches(project)
    waiting: list[Piece] = []
    kept = [0.0]

    def flush() -> None:
        """Keep what has come since the last time, and what the scan counts for by now, together."""
        with project.transaction():
            for piece in waiting:
                if piece.tile is not None:
                    searches.add(owners[piece.unit.place], ROWS, result.places[piece.unit.place].rows(piece.tile))
            # One market at several intervals is one scan of it; the first of its places counts it.
            counts = {market: owner for (market, _), owner in reversed(list(zip(work.request.places, owners)))}
            for market, most in _keep(searches, result, source, owners).items():
                if most:
                    searches.counted(counts[market], worth(project, market, np.array(most), result.search, counts[market]))
        waiting.clear()
        kept[0] = time.monotonic()
        result.tries = {m: searches.tried_on(m) for m, _ in work.request.places}

    def commit(pieces: list[Piece], cursor: dict[str, Any]) -> None:
        for piece in pieces:
            result.take(piece)
        waiting.extend(pieces)
        before, result.draws = result.answered, source.draws_known
        if time.monotonic() - kept[0] > EVERY or (result.answered and not before):
            flush()
        notify(result)

    def finish(state: State) -> None:
        try:
            if waiting:
                flush()
        finally:
            result.unfinished = state is not State.DONE
            work.let_go()
            for id in dict.fromkeys((result.search, *owners)):
                searches.end(id, state)
        notify(result)

    return Job(work.request.title, "rows", source, Work(evaluate_piece, work), commit=commit, finish=finish)


@search_read()
def read_scan(project: Project, search: int) -> ScanResult:
    """A scan as far as it came. Raises UserError where it was kept by other hands, or its files are damaged."""
    searches = Searches(project)
    stored = searches.asked(search, "scan")
    request = ScanRequest.from_json(stored.request)
    owners = searches.owners(search, PART, "scan", len(request.places))
    records = [searches.record(o) for o in owners]
    cursor = stored.cursor
    if cursor is None or "sizes" not in cursor or any(r is None for r in records) or len(owners) != len(request.places):
        raise UserError("where this scan stood is not known any more", stored.title, "Run it again.")
    places = []
    for at, owner in enumerate(owners):
        rows, state = searches.rows(owner), searches.rows(owner, LUCK)
        size, days = int(cursor["sizes"][at]), int(cursor["days"][at])
        kept = len(rows["code"]) if rows else 0
        group = np.zeros(size, np.int8)
        group[:kept] = rows["group"] if rows else 0
        luck = Luck.restored(state["state"][0], days, group, request.draws)
        found = Found.empty(np.full(size, -1, np.int64), np.zeros(size, np.int64), group, len(request.levels), luck, days,
                            float(cursor["cost"][at]), int(cursor["tile"][at]))
        for name in COLUMNS if rows else ():
            getattr(found, name)[:kept] = rows[name]
        found.looked = kept
        found.pairs = pairs_of(cursor["seen"][at], size)
        places.append(found)
    made = ScanResult(request, search, tuple(r for r in records if r is not None), tuple(places), *_named(request),
                      list(cursor["notes"]), int(cursor["draws"]), unfinished=stored.unfinished,
                      elsewhere=dict(cursor["elsewhere"]))
    made.tries = {m: searches.tried_on(m) for m, _ in request.places}
    return made


def resume_scan(project: Project, search: int, notify: Notify = lambda result: None) -> tuple[Job, ScanResult]:
    """Go on with a scan where it was. Raises UserError when it cannot be, such as on another history."""
    searches, footing = Searches(project), Footing.of(project)
    result = read_scan(project, search)
    request = result.request
    known = {o.name: o.digest for o in own_operands(Path(footing.ground.folder))}
    changed = [o.name for o in request.own if known.get(o.name) != o.digest]
    if changed:
        raise UserError(f"the own indicator {changed[0]} has changed, or is not confirmed any more, since this scan began",
                        changed[0], "Run the scan again.")
    same_elsewhere(footing, result.elsewhere, "scan")
    owners = searches.owners(search, PART, "scan", len(request.places))
    briefs = tuple(brief_again(project, r, *place, same_engine=True) for r, place in zip(result.records, request.places))
    contents = tuple(r.history for r in result.records)
    work = ScanWork(footing, request, briefs, contents)
    for at, (found, brief) in enumerate(zip(result.places, briefs)):
        longest = moves_of(footing.prepared(*request.places[at]), brief.span, request.flat).longest
        choice = choose_rows(request.pantry(at), request.count, longest)
        if len(choice) != len(found.code) or not np.array_equal(choice.codes[:found.looked], found.code[:found.looked]):
            raise UserError("this program knows other rows than the one that began this scan", request.title, "Run it again.")
        found.code, found.at, found.group = choice.codes, choice.at.astype(np.int64), choice.group
        found.luck.group = choice.group
    with project.transaction() as db:
        stored = searches.take_up(search)
        db.executemany("UPDATE searches SET state = 'running', program = ? WHERE id = ?",
                       [(this_program(), id) for id in owners if id != search])
    cursor = stored.cursor or {}
    result.unfinished = False
    source = _source(result, (int(cursor["tiles"]), int(cursor["pairs"])))
    return _job(project, work, source, result, owners, notify), result


def last_scan(project: Project) -> ScanResult | None:
    """The newest scan that can be read; None where there is none."""
    for stored in reversed([s for s in Searches(project).all([KIND]) if s.cursor]):
        try:
            return read_scan(project, stored.id)
        except UserError:
            continue
    return None
