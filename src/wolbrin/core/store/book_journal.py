"""The book of the seal twice more: a journal in the project, and one of the user's over all projects, by digests of bars.

Database and journals are compared whenever a project is opened and before anything is. Where they differ the stricter holds:
what a journal knows and the database does not (rows deleted, a copy put back, a folder copied and gone back to) is entered
again; what the database knows and a journal does not is added to it. The same bars in another project of the same user begin
with the openings that were made there, and one answer: mine, or not mine.
"""

from __future__ import annotations

import datetime as dt
import uuid
from collections import Counter
from dataclasses import dataclass, field
from typing import Any

from wolbrin.core.store.book_lines import JOURNAL, BookLine, code_digest, key_of, lines_of, state_folder
from wolbrin.core.store.database import Database, now, unsettle
from wolbrin.core.store.holdout import BORDER, ELSEWHERE, OPENED, SHOWN, HoldoutBook, Opening
from wolbrin.core.store.journal import Journal
from wolbrin.core.store.same import months_of

PROJECT_ID = "project id"
EXEMPT = "markets that are made up"  # a project's that nobody trades: of the demo, or generated
MINE, NOT_MINE = "mine", "not mine"
LOST = "as the journal of openings says; the database had lost it."
GONE = f"It fell in the holdout, {LOST}"
UNNAMED = "rules judged before"
WORDS = {OPENED: "opening", BORDER: "opening", SHOWN: "look", "verdict": "verdict", "moved": "move"}
ROOM_A_LINE = 8_192  # bytes, with the digests of twenty years of months
KINDS = (OPENED, BORDER, SHOWN)


@dataclass(frozen=True)
class Elsewhere:
    """Openings on the same bars in another project of this user. first, last: when; falls: when what rules fell there, by
    hash; answer: MINE, NOT_MINE, or "" before anybody said."""

    project: str
    openings: int
    markets: tuple[str, ...]
    first: str
    last: str
    falls: dict[str, str] = field(default_factory=dict)
    answer: str = ""

    @property
    def words(self) -> str:
        """Told where it matters."""
        times = f"{self.openings} time{'s' if self.openings != 1 else ''}"
        said = {"": "", MINE: " They count here too.", NOT_MINE: " They were said not to be yours, and do not count."}
        return (f"The same bars ({', '.join(self.markets)}) were opened {times} in another project of this user, last on "
                f"{self.last[:10]}.{said[self.answer]}")


class BookJournal:
    """The journals of one project."""

    def __init__(self, db: Database) -> None:
        self.db = db
        self.own = Journal(db.folder / JOURNAL)
        self._users = Journal(state_folder() / JOURNAL)
        self.known_elsewhere: tuple[Elsewhere, ...] = ()  # as of when the project was opened, or an answer given

    @property
    def users(self) -> Journal:
        """The user's, over all projects."""
        path = state_folder() / JOURNAL
        if self._users.path != path:
            self._users = Journal(path)
        return self._users

    @property
    def id(self) -> str:
        """Of this project; a copied folder keeps it."""
        known = self.db.get_value(PROJECT_ID)
        if not known:  # new, or a copy of before it had one, whose journal knows it
            lines = lines_of(self.own)
            known = lines[-1].project if lines else uuid.uuid4().hex
            self.db.set_value(PROJECT_ID, known)
        return str(known)

    def months(self) -> dict[str, dict[str, str]]:
        """Digests of months by market, those of made-up markets left out."""
        exempt = set(self.db.get_value(EXEMPT, []))
        return {m: d for m, d in months_of(self.db).items() if m not in exempt}

    def entries(self) -> list[BookLine]:
        """What the database holds, as lines."""
        db, mine, months = self.db, self.id, self.months()

        def opening(r: Any) -> BookLine:
            first = r["first"] or ""
            bars = {d for m, d in months.get(r["market"], {}).items() if m[:7] >= first[:7]}
            return BookLine(kind=r["kind"], project=mine, number=r["batch"], rules=r["hash"], market=code_digest(r["market"]),
                            at=r["created"], first=first, last=r["last"] or "", size=r["size"], months=tuple(sorted(bars)))

        def verdict(r: Any) -> BookLine:
            return BookLine(kind="verdict", project=mine, verdict=r["verdict"], rules=r["hash"],
                            market=code_digest(r["market"]), at=r["created"])

        def moved(r: Any) -> BookLine:
            return BookLine(kind="moved", project=mine, old=r["old"], new=r["new"], at=r["created"])

        def named(r: Any) -> str:
            return f"a line of the book of {r['created']}"

        asked = ((f"SELECT * FROM openings WHERE kind IN {KINDS} ORDER BY id", opening),
                 ("SELECT * FROM judged ORDER BY id", verdict), ("SELECT * FROM borders ORDER BY id", moved))
        return [e for sql, make in asked for e in db.aside.readable(db.rows(sql), make, named)]

    def check_room(self, count: int) -> None:
        """Make sure that so many lines can be written to both. Raises EnvironmentTrouble otherwise."""
        for journal in (self.own, self.users):
            journal.check_room(ROOM_A_LINE * (count + 1))

    def write(self) -> None:
        """Add to both journals what the database holds beyond them, synced.

        Raises:
            EnvironmentTrouble: one of them cannot be written.
        """
        if self.db.only_read:
            return
        here, mine = self.entries(), self.id
        for journal in (self.own, self.users):
            known = {key_of(e) for e in lines_of(journal) if e.project == mine}
            journal.append([e.entry for e in here if key_of(e) not in known])

    def reconcile(self) -> str:
        """Let the stricter hold, in the database and in both journals. Returns what was entered into the database again, in
        words, "" for nothing."""
        mine, told = self.id, ""
        lines = [e for j in (self.own, self.users) for e in lines_of(j) if e.project == mine]
        here = self.entries()
        if lines or here:
            known = {key_of(e) for e in here}
            lost = {key_of(e): e for e in lines if key_of(e) not in known}
            told = self._enter(list(lost.values())) if lost else ""
            self.write()
        self._mine()
        return told

    def _enter(self, lost: list[BookLine]) -> str:
        """Enter again what the database lost."""
        codes, book, count = _Codes(self.db), HoldoutBook(self.db), Counter[str]()
        with self.db.transaction() as db:
            for e in lost:
                count[WORDS[e.kind]] += 1
                if e.kind == "moved":
                    book.move(e.at, dt.date.fromisoformat(e.old), dt.date.fromisoformat(e.new), "told by the journal")
                elif e.kind == "verdict":
                    named = db.execute("SELECT name FROM candidates WHERE hash = ?", (e.rules,)).fetchone()
                    book.judge(e.at, codes(e), e.rules, named[0] if named else UNNAMED, e.verdict,
                               GONE if e.verdict == "falls" else f"Judged so, {LOST}", None)
                else:
                    book.add(Opening(e.at, f"told again, {LOST}", e.kind, codes(e), e.rules, e.first, e.last, e.number,
                                     e.size))
            unsettle(db)
        words = [f"{n} {what}{'s' if n != 1 else ''}" for what, n in count.items()]
        return (f"the journal of openings knows {', '.join(words)} that the database had lost; they hold again, since the "
                "stricter of both does")

    # Other projects

    def elsewhere(self) -> list[Elsewhere]:
        """Openings on the same bars in other projects of this user."""
        mine, months = self.id, {m: set(d.values()) for m, d in self.months().items()}
        every = set().union(*months.values()) if months else set()
        lines: dict[str, list[BookLine]] = {}
        for e in lines_of(self.users) if every else ():
            if e.project != mine:
                lines.setdefault(e.project, []).append(e)
        answers = {r["about"]: r["answer"] for r in self.db.rows("SELECT about, answer FROM answers")}
        out = []
        for project, told in lines.items():
            opened = [e for e in told if e.kind == OPENED and every.intersection(e.months)]
            if not opened:
                continue
            bars, theirs = set().union(*(e.months for e in opened)), {e.market for e in opened}
            met = tuple(sorted(m for m, d in months.items() if d & bars))
            falls = {e.rules: e.at for e in told if e.kind == "verdict" and e.verdict == "falls" and e.market in theirs}
            at = sorted(e.at for e in opened)
            out.append(Elsewhere(project, len({e.number for e in opened}), met, at[0], at[-1], falls,
                                 answers.get(f"project {project}", "")))
        return sorted(out, key=lambda o: o.first)

    def unanswered(self) -> list[Elsewhere]:
        return [o for o in self.elsewhere() if not o.answer]

    def answer(self, mine: bool) -> list[Elsewhere]:
        """Say of all that are not answered yet whether those openings were one's own; it stays, and stands in the dossier."""
        open_ = self.unanswered()
        with self.db.transaction() as db:
            for one in open_:
                db.execute("INSERT OR IGNORE INTO answers (created, about, answer) VALUES (?, ?, ?)",
                           (now(), f"project {one.project}", MINE if mine else NOT_MINE))
        self._mine()
        return open_

    def _mine(self) -> None:
        """Count openings of one's own in other projects, and let what fell there fall here."""
        self.known_elsewhere = tuple(self.elsewhere())
        mine, book = [o for o in self.known_elsewhere if o.answer == MINE], HoldoutBook(self.db)
        count = sum(o.openings for o in mine)
        if count != int(self.db.get_value(ELSEWHERE, 0)):
            self.db.set_value(ELSEWHERE, count)
        for one in mine:
            for market in one.markets:
                known = {j.hash for j in book.judged(market)}
                for rules, at in one.falls.items():
                    if rules not in known:
                        book.judge(at, market, rules, UNNAMED, "falls",
                                   f"Fell on {at[:10]} in another project, on the same bars.", None)


class _Codes:
    """Which market of a project a line speaks of."""

    def __init__(self, db: Database) -> None:
        self.codes = {code_digest(r["code"]): str(r["code"]) for r in db.rows("SELECT code FROM markets")}
        self.months = {m: set(d.values()) for m, d in months_of(db).items()}

    def __call__(self, e: BookLine) -> str:
        code = self.codes.get(e.market)
        return code if code is not None else next((m for m, d in self.months.items() if d.intersection(e.months)), "")
