"""The book of the seal: who opened the holdout, what was judged there, when the border moved, and what has been seen."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from wolbrin.core.measures.inference import t_needed
from wolbrin.core.store.aside import UNREADABLE, why
from wolbrin.core.store.database import Database, unsettle
from wolbrin.core.store.same import SAME, codes_of
from wolbrin.core.store.series import Daily, correlation_of, pack, unpack

OPENED, BORDER, END, SHOWN = "opened", "border", "end", "shown"
COUNTED = (OPENED, BORDER)  # lines that are an opening each
RESERVED = "openings reserved"
ELSEWHERE = "openings elsewhere"  # on the same bars, in other projects of the same person
NEAR_TWIN = 0.9  # correlation of training daily results from which two sets of rules are the same bet
ERROR = 0.05  # chance that any noise ever stands, over all openings of a project together


@dataclass(frozen=True)
class Opening:
    """One look at sealed bars, or one change of what is sealed. kind: OPENED, BORDER (moved), END (data end moved), SHOWN
    (figures of what fell were looked at).

    batch, size: candidates opened together share a batch; size is how many there are.
    """

    created: str
    what: str
    kind: str = OPENED
    market: str = ""
    hash: str = ""
    first: str = ""
    last: str = ""
    batch: int = 0
    size: int = 1


@dataclass(frozen=True)
class Judged:
    """A verdict of the holdout; final. daily: training daily results over the whole training span, None where unknown. told:
    what the sealed bars showed, kept for whoever asks for it (JSON), "" where there is nothing."""

    id: int
    created: str
    market: str
    hash: str
    name: str
    verdict: str
    reason: str
    daily: Daily | None
    told: str = ""


@dataclass(frozen=True)
class Move:
    """A move of the border after work was done: what was found before (Shelf ids up to `candidates`) has seen sealed bars."""

    created: str
    old: dt.date
    new: dt.date
    why: str
    candidates: int


def chance_allowed(batch: int, size: int) -> float:
    """The chance of a false pass that one of `size` candidates of opening number `batch` may have.

    ERROR is spent over successive openings as 1 / (b (b + 1)), which adds up to one (Bonferroni with unequal weights;
    Foster & Stine 2008 call it alpha spending, from memory), so that it bounds the chance that noise is ever let through by
    this project, however often somebody tries. Within an opening see `holm`.
    """
    return ERROR / (batch * (batch + 1)) / max(1, size)


def t_for(batch: int, size: int) -> float:
    """The t of daily results that opening number `batch` asks of the best of its `size` candidates."""
    return t_needed(chance_allowed(batch, size))


def level_of(batch: int) -> float:
    """The chance of letting noise through that opening number `batch` may spend, see `chance_allowed`."""
    return chance_allowed(batch, 1)


class HoldoutBook:
    """Reads and writes the book in a project's database."""

    def __init__(self, db: Database) -> None:
        self.db = db

    # Openings

    def add(self, opening: Opening) -> int:
        """Write an opening down. Returns its row."""
        o = opening
        with self.db.transaction() as db:
            cursor = db.execute("INSERT INTO openings (created, what, kind, market, hash, first, last, batch, size) "
                                "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                                (o.created, o.what, o.kind, o.market, o.hash, o.first, o.last, o.batch, o.size))
            return int(cursor.lastrowid or 0)

    def all(self) -> list[Opening]:
        """Every line of the book, oldest first."""
        return [Opening(r["created"], r["what"], r["kind"], r["market"], r["hash"], r["first"] or "", r["last"] or "",
                        r["batch"], r["size"]) for r in self.db.rows("SELECT * FROM openings ORDER BY id")]

    def of(self, hash: str, market: str) -> list[Opening]:
        """Openings for these rules on that market, oldest first."""
        codes = codes_of(self.db, market)
        return [o for o in self.all() if o.kind == OPENED and o.hash == hash and o.market in codes]

    def count(self, market: str | None = None, hash: str | None = None) -> int:
        """How often sealed bars were opened: in the project, on a market, for rules. A moved border counts too."""
        codes = codes_of(self.db, market) if market is not None else []
        found = self.db.rows(
            "SELECT count(*) n FROM openings WHERE kind IN (?, ?) AND (? IS NULL OR hash = ?)"
            + (f" AND market IN ({', '.join('?' * len(codes))})" if codes else ""), *COUNTED, hash, hash, *codes)
        return int(found[0]["n"])

    def shown(self, market: str) -> list[Opening]:
        """When figures of what fell on a market were looked at, oldest first."""
        codes = codes_of(self.db, market)
        return [o for o in self.all() if o.kind == SHOWN and o.market in codes]

    def next_batch(self) -> int:
        """The number the next opening will have, from 1; one's own openings of the same bars elsewhere count."""
        found = self.db.rows("SELECT coalesce(max(batch), 0) last, count(DISTINCT batch) n FROM openings WHERE batch > 0")[0]
        elsewhere = int(self.db.get_value(ELSEWHERE, 0))
        return max(int(found["last"]), int(self.db.get_value(RESERVED, 0)), int(found["n"]) + elsewhere) + 1

    def reserve(self) -> int:
        """Take the next number for an opening that is about to be made; no other program can get it."""
        with self.db.transaction():
            number = self.next_batch()
            self.db.set_value(RESERVED, number)
            return number

    # Verdicts

    def judged(self, market: str) -> list[Judged]:
        """All verdicts on a market, oldest first, under whatever code its bars stand in the project."""
        codes = codes_of(self.db, market)
        return [Judged(r["id"], r["created"], r["market"], r["hash"], r["name"], r["verdict"], r["reason"],
                       self._daily(r["daily"], r["name"]), r["told"] or "")
                for r in self.db.rows(f"SELECT * FROM judged WHERE market IN ({', '.join('?' * len(codes))}) ORDER BY id",
                                      *codes)]

    def _daily(self, data: bytes | None, name: str) -> Daily | None:
        """A verdict holds, whatever became of the daily results beside it."""
        try:
            return unpack(data) if data else None
        except UNREADABLE as err:
            self.db.aside.add(f'daily results beside the verdict on "{name}"', why(err))
            return None

    def final(self, market: str, hash: str) -> Judged | None:
        """The verdict that holds for these rules: a fall where there ever was one, else the first; None before any."""
        found = [j for j in self.judged(market) if j.hash == hash]
        return next((j for j in found if j.verdict == "falls"), found[0] if found else None)

    def finals(self) -> dict[tuple[str, str], tuple[str, str, str]]:
        """Verdict, reason and date that hold, by (market, strategy hash)."""
        found: dict[tuple[str, str], tuple[str, str, str]] = {}
        same: dict[str, list[str]] = self.db.get_value(SAME, {})
        for r in self.db.rows("SELECT market, hash, verdict, reason, created FROM judged ORDER BY id"):
            for code in same.get(r["market"], [r["market"]]):
                key = code, r["hash"]
                if key not in found or (r["verdict"] == "falls" and found[key][0] != "falls"):
                    found[key] = r["verdict"], r["reason"], r["created"]
        return found

    def judge(self, created: str, market: str, hash: str, name: str, verdict: str, reason: str, daily: Daily | None,
              told: str = "") -> int:
        """Write a verdict down, for good. told: what sealed bars showed (JSON), which nobody sees before asking. Returns its
        row."""
        with self.db.transaction() as db:
            made = db.execute("INSERT INTO judged (created, market, hash, name, verdict, reason, daily, told) "
                              "VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                              (created, market, hash, name, verdict, reason, pack(daily) if daily is not None else None,
                               told or None))
            for code in codes_of(self.db, market):
                unsettle(db, hash, code)
            return int(made.lastrowid or 0)

    def remember(self, judged: Judged, daily: Daily) -> None:
        """Add daily results to a verdict that was written down without them."""
        with self.db.transaction() as db:
            db.execute("UPDATE judged SET daily = ? WHERE id = ?", (pack(daily), judged.id))

    # Border

    def moves(self) -> list[Move]:
        """Moves of the border after work was done, oldest first."""
        return [Move(r["created"], dt.date.fromisoformat(r["old"]), dt.date.fromisoformat(r["new"]), r["why"],
                     r["candidates"])
                for r in self.db.rows("SELECT * FROM borders ORDER BY id")]

    def move(self, created: str, old: dt.date, new: dt.date, why: str) -> None:
        """Write a move of the border down. It spends the holdout for every candidate kept so far that has no verdict: it
        falls, for good, and what earns like it falls with it."""
        reason = (f"Seen since {created[:10]}: the border was moved from {old} to {new} after this was found ({why}), which "
                  "spent its holdout.")
        with self.db.transaction() as db:
            db.execute("INSERT INTO borders (created, old, new, why, candidates) SELECT ?, ?, ?, ?, coalesce(max(id), 0) "
                       "FROM candidates", (created, str(old), str(new), why))
            db.execute("INSERT INTO judged (created, market, hash, name, verdict, reason, daily) "
                       "SELECT DISTINCT ?, c.market, c.hash, c.name, 'falls', ?, b.daily FROM candidates AS c "
                       "JOIN bodies AS b ON b.candidate = c.id WHERE NOT EXISTS (SELECT 1 FROM judged AS j WHERE "
                       "j.market = c.market AND j.hash = c.hash)", (created, reason))
            unsettle(db)

    def seen_until(self) -> dt.date | None:
        """The last trading date that any search of the project has seen."""
        row: Any = self.db.rows("SELECT max(d) d FROM (SELECT max(seen) d FROM searches UNION ALL "
                                     "SELECT date(max(old), '-1 day') d FROM borders)")[0]
        return dt.date.fromisoformat(row["d"]) if row["d"] else None

    def unseen_first(self, border: dt.date) -> dt.date:
        """The first trading date on which a verdict can rest: sealed, and seen by no search."""
        seen = self.seen_until()
        return border if seen is None else max(border, seen + dt.timedelta(days=1))


def nearest(daily: Daily, others: Sequence[Judged]) -> tuple[Judged, float] | None:
    """The verdict whose rules earned most alike in training, with the correlation; None where none can be compared."""
    best: tuple[Judged, float] | None = None
    for one in others:
        value = correlation_of(daily, one.daily) if one.daily is not None else float("nan")
        if value == value and (best is None or value > best[1]):
            best = one, value
    return best
