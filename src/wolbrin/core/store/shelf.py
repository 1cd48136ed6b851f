"""The Shelf: every candidate kept, sorted, filtered and counted by the database, however many there are.

A row holds what is sorted and filtered by; the body (rules, record, equity, daily results) is read when it is looked at.
A figure of `catalogue.SUMMARY` is a column with an index; one that joins the list gets its column when a project is opened.
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.record import Record, read_record
from wolbrin.core.errors import UserError
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.naming import family_of
from wolbrin.core.rules.words import describe
from wolbrin.core.search.candidate import Candidate
from wolbrin.core.store.database import Database, now
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.series import pack
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.store.shelf_columns import decode, encode, made_words, plain, record_in, write_figures
from wolbrin.core.store.wanted import EVERYTHING, TEXTS, TRIED, TRIED_BY_NOW, Wanted, column_of, table, where

T = TypeVar("T")


@dataclass(frozen=True)
class Marks:
    """What was noted beside a candidate. number: its draw in the search that found it; alike: how many finds it stands for;
    cluster: which trade like it, None where that was not looked at. leads: id of the one that represents its family, its own
    where it does; None where that is not known; behind: how many others stand behind it."""

    number: int | None = None
    alike: int = 1
    star: bool = False
    notes: str = ""
    cluster: int | None = None
    leads: int | None = None
    behind: int = 0


@dataclass(frozen=True)
class Kept:
    """A candidate on the Shelf. own: the training span it has of its own, None for the project's. packed: its daily results
    as they are stored (see store.series); they are unpacked only where they are looked at."""

    id: int
    created: str
    candidate: Candidate
    hash: str
    own: OwnSpan | None = None
    packed: bytes | None = None
    search: int | None = None
    ticked: bool = False
    tags: str = ""
    marks: Marks = Marks()


@dataclass(frozen=True)
class Line:
    """One row of the Shelf as it is shown. tried: alternatives looked at on its market by now. figures: SUMMARY by key.
    words: its rules; made: what made its figures. spark: float32 equity."""

    id: int
    created: str
    name: str
    hash: str
    market: str
    interval: int
    origin: str
    tried: int
    stands: str
    ticked: bool
    tags: str
    words: str
    made: str
    figures: dict[str, float]
    spark: NDArray[np.float32]
    family: str = ""
    marks: Marks = Marks()
    search: int | None = None


@dataclass(frozen=True)
class Stored:
    """What is stored of a candidate beside its rules. span, record: as JSON; packed: its daily results."""

    id: int
    name: str
    hash: str
    market: str
    interval: int
    family: str
    span: str | None
    record: str
    packed: bytes | None


@dataclass(frozen=True)
class Ready:
    """A candidate as it is stored, worked out wherever it was found: columns of its row, figures, and its body."""

    row: dict[str, Any]
    figures: dict[str, float]
    body: tuple[str, str, str, bytes, bytes | None]


def ready_of(c: Candidate, hash: str = "", packed: bytes | None = None) -> Ready:
    """What is stored of a candidate. hash: of its rules, packed: its daily results, where they are at hand."""
    row = {"name": c.name, "hash": hash or strategy_hash(c.strategy), "market": c.market, "interval": c.interval,
           "origin": c.origin, "record_key": c.record.key if c.record.whole else None,
           "place": f"{c.market} {interval_words(c.interval)}", "words": describe(c.strategy), "made": made_words(c.record),
           "family": family_of(c.strategy)}
    daily = packed or (pack(c.daily, c.share) if c.daily is not None else None)
    return Ready(row, c.summary, (c.strategy.model_dump_json(), c.record.model_dump_json(), encode(c.summary),
                                  c.spark.tobytes(), daily))


class Shelf:
    """Reads and writes candidates in a project's database."""

    def __init__(self, db: Database) -> None:
        self.db = db

    # Rows

    def ids(self, wanted: Wanted) -> NDArray[np.int64]:
        """Ids in order. Rows without a value come last, whichever way is sorted."""
        order = self._order(wanted)
        condition, values = where(wanted)
        if not condition:
            return order
        # Those that pass are found without their order, which an index gives whole: looking up each row along it costs more.
        passed = self.db.read_ids(f"SELECT c.id FROM {table(wanted)} {condition}", *values)
        known = np.zeros(int(order.max(initial=0)) + 1, bool)
        known[passed[passed < len(known)]] = True
        return order[known[order]]

    def _order(self, wanted: Wanted) -> NDArray[np.int64]:
        """All ids in order."""
        column, way = column_of(wanted.sort), "DESC" if wanted.down else "ASC"
        if wanted.sort == "tried":  # no index can know how many were tried by now
            ids = self.db.read_ids("SELECT c.id FROM candidates c ORDER BY c.id")
            tried = self.db.read_ids(f"SELECT {TRIED} id FROM candidates c {TRIED_BY_NOW} ORDER BY c.id")
            ids, tried = ids[:len(tried)], tried[:len(ids)]
            at = np.argsort(tried, kind="stable")
            return ids[at[::-1]] if wanted.down else ids[at]
        collate = " COLLATE NOCASE" if wanted.sort in TEXTS and wanted.sort not in ("stands", "created") else ""
        return self.db.read_ids(f"SELECT c.id FROM candidates c ORDER BY {column}{collate} {way} NULLS LAST, c.id {way}")

    def count(self, wanted: Wanted = EVERYTHING) -> int:
        """How many rows there are."""
        condition, values = where(wanted)
        return int(self.db.read(f"SELECT count(*) FROM {table(wanted)} {condition}", *values)[0][0])

    def groups(self, key: str, wanted: Wanted) -> list[tuple[str, int]]:
        """Values of a key ("family", "market", "cluster" ...) among rows, and how many have each, the largest first."""
        condition, values = where(wanted)
        found = self.db.read(f"SELECT coalesce({column_of(key)}, '') value, count(*) n FROM {table(wanted)} {condition} "
                             "GROUP BY value ORDER BY n DESC, value", *values)
        return [(str(r["value"]), int(r["n"])) for r in found]

    def lines(self, ids: Iterable[int]) -> list[Line]:
        """Rows as they are shown, in the order asked for; those that are gone are left out."""
        wanted = [int(i) for i in ids]
        figures = ", ".join(f"c.m_{key}" for key in SUMMARY)
        found: dict[int, Line] = {}
        for part in _portions(wanted):
            for r in self.db.read(f"SELECT c.id, c.created, c.name, c.hash, c.market, c.interval, c.origin, {TRIED} by_now, "
                                  f"c.stands, c.ticked, c.tags, c.words, c.made, c.number, c.alike, c.star, c.notes, "
                                  f"c.cluster, c.leads, c.behind, c.family, c.search, {figures}, b.spark "
                                  "FROM candidates c JOIN "
                                  f"bodies b ON b.candidate = c.id {TRIED_BY_NOW} "
                                  f"WHERE c.id IN ({','.join('?' * len(part))})", *part):
                values = {key: math.nan if r[f"m_{key}"] is None else float(r[f"m_{key}"]) for key in SUMMARY}
                found[r["id"]] = Line(r["id"], r["created"], r["name"], r["hash"], r["market"], r["interval"], r["origin"],
                                      r["by_now"], r["stands"] or "open", bool(r["ticked"]), r["tags"], r["words"],
                                      f"{r['made']}, {r['by_now']:,} tried", values,
                                      np.frombuffer(r["spark"], np.float32, len(r["spark"]) // 4), r["family"] or "",
                                      _marks(r), r["search"])
        return [found[i] for i in wanted if i in found]

    def lines_with_records(self, ids: Iterable[int]) -> list[tuple[Line, Record]]:
        """Rows, each with the record of its run."""
        lines = self.lines(ids)
        found: dict[int, Record] = {}
        for part in _portions([line.id for line in lines]):
            rows = self.db.read(f"SELECT c.id, c.name, b.record FROM bodies b JOIN candidates c ON c.id = b.candidate WHERE "
                                f"c.id IN ({','.join('?' * len(part))})", *part)
            found |= dict(self._readable(rows, lambda r: (int(r["id"]), record_in(r))))
        return [(line, found[line.id]) for line in lines if line.id in found]

    def of_rules(self, hash: str, market: str, interval: int) -> Line | None:
        """The candidate of these rules on a market at an interval; None where there is none."""
        found = self.db.rows("SELECT id FROM candidates WHERE hash = ? AND market = ? AND interval = ?", hash, market,
                             interval)
        return next(iter(self.lines([r["id"] for r in found])), None)

    def named(self, name: str) -> list[int]:
        """Ids of candidates of that id or name."""
        return [r["id"] for r in self.db.rows("SELECT id FROM candidates WHERE name = ? OR CAST(id AS TEXT) = ? ORDER BY id",
                                              name, name)]

    # Ticks and tags

    def tick(self, ids: Iterable[int], on: bool = True) -> None:
        """Tick candidates, or take their ticks away."""
        with self.db.transaction() as db:
            db.executemany("UPDATE candidates SET ticked = ? WHERE id = ?", [(int(on), int(i)) for i in ids])

    def tick_only(self, ids: Iterable[int]) -> None:
        """Tick these and no others."""
        with self.db.transaction() as db:
            db.execute("UPDATE candidates SET ticked = 0 WHERE ticked")
            self.tick(ids)

    def tick_all(self, wanted: Wanted) -> None:
        """Tick every row of a view, beside those ticked already."""
        condition, values = where(wanted)
        with self.db.transaction() as db:
            db.execute(f"UPDATE candidates SET ticked = 1 WHERE id IN (SELECT c.id FROM {table(wanted)} {condition})",
                       values)

    def ticked(self) -> list[int]:
        """Ids of the ticked ones."""
        return [r["id"] for r in self.db.rows("SELECT id FROM candidates WHERE ticked ORDER BY id")]

    def tag(self, ids: Iterable[int], tags: Sequence[str]) -> None:
        """Give candidates these tags, and no others."""
        text = " ".join(dict.fromkeys(t.strip().replace(" ", "-") for t in tags if t.strip()))
        with self.db.transaction() as db:
            db.executemany("UPDATE candidates SET tags = ? WHERE id = ?", [(text, int(i)) for i in ids])

    def tags(self) -> list[str]:
        """Every tag that is used."""
        found = {t for r in self.db.read("SELECT DISTINCT tags FROM candidates WHERE tags != ''") for t in r["tags"].split()}
        return sorted(found)

    def add_tags(self, ids: Iterable[int], tags: Sequence[str], remove: bool = False) -> None:
        """Add tags to candidates beside those they have, or take them away."""
        wanted = [t.strip().replace(" ", "-") for t in tags if t.strip()]
        ids = [int(i) for i in ids]
        with self.db.transaction():
            for part in _portions(ids):
                for r in self.db.rows(f"SELECT id, tags FROM candidates WHERE id IN ({','.join('?' * len(part))})", *part):
                    had = r["tags"].split()
                    self.tag([r["id"]], [t for t in had if t not in wanted] if remove else [*had, *wanted])

    def star(self, ids: Iterable[int], on: bool = True) -> None:
        """Give candidates a star, or take it away."""
        with self.db.transaction() as db:
            db.executemany("UPDATE candidates SET star = ? WHERE id = ?", [(int(on), int(i)) for i in ids])

    def note(self, id: int, text: str) -> None:
        """Write a note beside a candidate."""
        with self.db.transaction() as db:
            db.execute("UPDATE candidates SET notes = ? WHERE id = ?", (text.strip()[:20_000], int(id)))

    def rename(self, id: int, name: str) -> str:
        """Give a candidate another name, told apart from those that are there. Returns it. Raises UserError for none."""
        wanted = " ".join(name.split())
        if not wanted or len(wanted) > 80:
            raise UserError("a name has 1 to 80 characters", "name", "Write another one.")
        with self.db.transaction() as db:
            had = self.db.rows("SELECT name FROM candidates WHERE id = ?", int(id))
            if had and had[0]["name"] != wanted:
                wanted = self.free_name(wanted)
                db.execute("UPDATE candidates SET name = ? WHERE id = ?", (wanted, int(id)))
        return wanted

    def put_marks(self, id: int, tags: str, marks: Marks, name: str) -> None:
        """Put back what was noted beside a candidate (undo)."""
        with self.db.transaction() as db:
            db.execute("UPDATE candidates SET tags = ?, star = ?, notes = ?, name = ? WHERE id = ?",
                       (tags, int(marks.star), marks.notes, name, id))

    def free_name(self, name: str) -> str:
        """The name, with a free number behind it where there is a candidate of that name."""
        name = name[:80]
        if not self._is_named(name):
            return name
        stem, low, high = name[:70], 1, 2
        while self._is_named(f"{stem} ({high})"):
            low, high = high, 2 * high
        while high - low > 1:  # names of one stem are numbered on, so that a free one is found by halving
            middle = (low + high) // 2
            low, high = (middle, high) if self._is_named(f"{stem} ({middle})") else (low, middle)
        return f"{stem} ({high})"

    def _is_named(self, name: str) -> bool:
        return bool(self.db.rows("SELECT 1 FROM candidates WHERE name = ? COLLATE NOCASE LIMIT 1", name))

    def stands_for(self, ids: Iterable[int], finds: int) -> None:
        """Note how many finds candidates stand for: themselves, and those that trade nearly alike."""
        with self.db.transaction() as db:
            db.executemany("UPDATE candidates SET alike = ? WHERE id = ?", [(finds, int(i)) for i in ids])

    def give_way(self, ids: Iterable[int]) -> None:
        """Take away candidates for which a simpler one was found that trades alike; those that somebody marked or judged
        stay."""
        with self.db.transaction() as db:
            db.executemany(
                "DELETE FROM candidates AS c WHERE id = ? AND NOT ticked AND NOT star AND tags = '' AND notes = '' AND NOT "
                "EXISTS (SELECT 1 FROM evidence e WHERE e.hash = c.hash AND e.market = c.market) AND NOT EXISTS "
                "(SELECT 1 FROM judged j WHERE j.hash = c.hash AND j.market = c.market)", [(int(i),) for i in ids])

    # Bodies

    def keep(self, candidate: Candidate, search: int | None = None, own: OwnSpan | None = None) -> int | None:
        """Put a candidate on the Shelf. Returns its id, or None when it was there already."""
        return self._insert(Kept(0, now(), candidate, strategy_hash(candidate.strategy), own, search=search))

    def keep_ready(self, ready: Ready, tried: int, search: int | None = None, number: int | None = None) -> int | None:
        """As `keep`, of what `ready` made of a candidate before. tried: by when it was found; number: of its draw."""
        return self._put(ready, 0, now(), tried, search, marks=Marks(number))

    def _insert(self, k: Kept) -> int | None:
        ready = ready_of(k.candidate, k.hash, k.packed)
        return self._put(ready, k.id, k.created, k.candidate.tried, k.search, k.own, k.ticked, k.tags,
                         k.marks)

    def _put(self, r: Ready, id: int, created: str, tried: int, search: int | None = None, own: OwnSpan | None = None,
             ticked: bool = False, tags: str = "", marks: Marks = Marks()) -> int | None:
        if not id:
            r = replace(r, row=r.row | {"name": self.free_name(r.row["name"])})
        columns = ", ".join((*r.row, *(f"m_{key}" for key in SUMMARY)))
        with self.db.transaction() as db:
            made = db.execute(
                f"INSERT OR IGNORE INTO candidates (id, created, search, tried, span, ticked, tags, number, alike, star, "
                f"notes, cluster, leads, behind, {columns}) VALUES "
                f"({', '.join('?' * (14 + len(r.row) + len(SUMMARY)))})",
                (id or None, created, search, tried, own.model_dump_json() if own is not None else None, int(ticked), tags,
                 marks.number, marks.alike, int(marks.star), marks.notes, marks.cluster, marks.leads,
                 marks.behind, *r.row.values(),
                 *(plain(r.figures.get(key)) for key in SUMMARY)))
            if not made.rowcount:
                return None
            given = int(made.lastrowid or 0)
            db.execute("INSERT INTO bodies VALUES (?, ?, ?, ?, ?, ?)", (given, *r.body))
            return given

    def renew(self, id: int, candidate: Candidate) -> None:
        """Give a kept candidate the record, figures and daily results of a new run. Its verdicts stay with the old record."""
        c = candidate
        with self.db.transaction() as db:
            db.execute("UPDATE bodies SET record = ?, summary = ?, spark = ?, daily = ? WHERE candidate = ?",
                       (c.record.model_dump_json(), encode(c.summary), c.spark.tobytes(),
                        pack(c.daily, c.share) if c.daily is not None else None, id))
            db.execute("UPDATE candidates SET record_key = ?, stands = NULL, made = ? WHERE id = ?",
                       (c.record.key, made_words(c.record), id))
            write_figures(self.db, id, c.summary)

    def bodies(self, ids: Iterable[int] | None = None) -> list[Kept]:
        """Candidates with all that was kept of them: all, or some in the order asked for. Each says how many alternatives
        have been tried on its market by now."""
        tried = Searches(self.db).tried()
        asked = ("SELECT c.*, b.body, b.record, b.summary, b.spark, b.daily FROM candidates c JOIN bodies b "
                 "ON b.candidate = c.id")
        if ids is None:
            return self._readable(self.db.rows(f"{asked} ORDER BY c.id"), lambda r: self._kept(r, tried))
        wanted = [int(i) for i in ids]
        found: dict[int, Kept] = {}
        for part in _portions(wanted):
            rows = self.db.rows(f"{asked} WHERE c.id IN ({','.join('?' * len(part))})", *part)
            found |= {k.id: k for k in self._readable(rows, lambda r: self._kept(r, tried))}
        return [found[i] for i in wanted if i in found]

    def _readable(self, rows: Iterable[Any], make: Callable[[Any], T]) -> list[T]:
        return self.db.aside.readable(rows, make, lambda r: f'the candidate "{r["name"]}"')

    def packed(self, ids: Sequence[int]) -> list[bytes | None]:
        """Daily results as they are stored, in the order asked for; None where there are none."""
        found: dict[int, bytes | None] = {}
        for part in _portions(ids):
            for r in self.db.read(f"SELECT candidate, daily FROM bodies WHERE candidate IN ({','.join('?' * len(part))})",
                                  *part):
                found[r["candidate"]] = r["daily"]
        return [found.get(i) for i in ids]

    def stored(self, ids: Sequence[int]) -> list[Stored]:
        """What is at hand of candidates without reading their rules, in the order asked for; those that are gone are left
        out."""
        found: dict[int, Stored] = {}
        for part in _portions(ids):
            for r in self.db.read("SELECT c.id, c.name, c.hash, c.market, c.interval, c.span, c.family, b.record, b.daily "
                                  "FROM candidates c JOIN bodies b ON b.candidate = c.id "
                                  f"WHERE c.id IN ({','.join('?' * len(part))})", *part):
                found[r["id"]] = Stored(r["id"], r["name"], r["hash"], r["market"], r["interval"], r["family"] or "",
                                        r["span"], r["record"] or "{}", r["daily"])
        return [found[i] for i in ids if i in found]

    def set_clusters(self, numbers: Mapping[int, int]) -> None:
        """Write down which candidates behave alike; 0 for none."""
        with self.db.transaction() as db:
            db.executemany("UPDATE candidates SET cluster = ? WHERE id = ?", [(n or None, i) for i, n in numbers.items()])

    def body(self, id: int) -> Kept | None:
        """One candidate whole; None when it is gone."""
        return next(iter(self.bodies([id])), None)

    def _kept(self, r: Any, tried: dict[str, int]) -> Kept:
        record = read_record(json.loads(r["record"] or "{}"), f"{self.db.folder}, candidate {r['name']}")
        by_now = max(tried.get(r["market"], 0), r["tried"], 1)
        return Kept(r["id"], r["created"],
                    Candidate(r["name"], Strategy.model_validate_json(r["body"]), r["market"], r["interval"], r["origin"],
                              by_now, record.model_copy(update={"tried": by_now}), decode(r["summary"]),
                              np.frombuffer(r["spark"], np.float32)), r["hash"],
                    OwnSpan.model_validate_json(r["span"]) if r["span"] else None, r["daily"], r["search"],
                    bool(r["ticked"]), r["tags"], _marks(r))

    def remove(self, ids: Iterable[int]) -> None:
        """Take candidates off the Shelf."""
        with self.db.transaction() as db:
            db.executemany("DELETE FROM candidates WHERE id = ?", [(int(i),) for i in ids])

    def restore(self, kept: Iterable[Kept]) -> None:
        """Put removed candidates back with their ids (undo)."""
        with self.db.transaction():
            for k in kept:
                self._insert(k)


def _marks(r: Any) -> Marks:
    return Marks(r["number"], r["alike"], bool(r["star"]), r["notes"], r["cluster"], r["leads"], r["behind"])


def place_words(line: Line) -> str:
    """Market and interval."""
    return f"{line.market} {interval_words(line.interval)}"


def _portions(ids: Sequence[int]) -> Iterable[Sequence[int]]:
    for at in range(0, len(ids), 500):
        yield ids[at:at + 500]
