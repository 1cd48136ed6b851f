"""The book of the seal twice more: a journal in the project, and one of the user's over all projects, by digests of bars.

Database and journals are compared whenever a project is opened and before anything is. Where they differ the stricter holds:
what a journal knows and the database does not (rows deleted, a copy put back, a folder copied and gone back to) is entered
again; what the database knows and a journal does not is added to it. The same bars in another project of the same user begin
with the openings that were made there, and one answer: mine, or not mine.
"""

from __future__ import annotations

import hashlib
import uuid
from dataclasses import dataclass, field
from pathlib import Path

import platformdirs

from wolbrin.core.store.database import Database, now, unsettle
from wolbrin.core.store.holdout import BORDER, ELSEWHERE, OPENED, RESERVED, SHOWN
from wolbrin.core.store.journal import Entry, Journal
from wolbrin.core.store.same import months_of

JOURNAL = "journal.jsonl"
PROJECT_ID = "project id"
EXEMPT = "markets that are made up"  # a project's that nobody trades: of the demo, or generated
MINE, NOT_MINE = "mine", "not mine"
GONE = "It fell in the holdout, as the journal of openings says; the database had lost it."
ROOM_A_LINE = 8_192  # bytes, with the digests of twenty years of months
KINDS = (OPENED, BORDER, SHOWN)


def state_folder() -> Path:
    """Where the user's journal is, by the XDG base directory specification."""
    return Path(platformdirs.user_state_path("wolbrin"))


def code_digest(market: str) -> str:
    """A market's code as journals name it."""
    return hashlib.sha256(market.encode()).hexdigest()[:16]


def key_of(e: Entry) -> str:
    """By what the same event is known again."""
    return "|".join(str(e.get(k, "")) for k in ("kind", "number", "rules", "market", "verdict", "old", "new", "at"))


@dataclass(frozen=True)
class Elsewhere:
    """Openings on the same bars in another project of this user. verdicts: by hash of rules."""

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
            lines = self.own.read()[0]
            known = str(lines[-1].get("project")) if lines else uuid.uuid4().hex
            self.db.set_value(PROJECT_ID, known)
        return str(known)

    def months(self) -> dict[str, dict[str, str]]:
        """Digests of months by market, those of made-up markets left out."""
        exempt = set(self.db.get_value(EXEMPT, []))
        return {m: d for m, d in months_of(self.db).items() if m not in exempt}

    def entries(self) -> list[Entry]:
        """What the database holds, as lines."""
        db, found = self.db, []
        months = self.months()
        for r in db.rows("SELECT * FROM openings WHERE kind IN (?, ?, ?) ORDER BY id", *KINDS):
            first = (r["first"] or "")[:7]
            bars = sorted({d for m, d in months.get(r["market"], {}).items() if m[:7] >= first})
            found.append({"kind": r["kind"], "number": r["batch"], "rules": r["hash"], "market": code_digest(r["market"]),
                          "at": r["created"], "first": r["first"] or "", "last": r["last"] or "", "size": r["size"],
                          "months": bars})
        found += [{"kind": "verdict", "verdict": r["verdict"], "rules": r["hash"], "market": code_digest(r["market"]),
                   "at": r["created"], "months": sorted(months.get(r["market"], {}).values())}
                  for r in db.rows("SELECT * FROM judged ORDER BY id")]
        found += [{"kind": "moved", "old": r["old"], "new": r["new"], "at": r["created"], "market": ""}
                  for r in db.rows("SELECT * FROM borders ORDER BY id")]
        return [e | {"project": self.id} for e in found]

    def check_room(self, count: int) -> None:
        """Make sure that so many lines can be written to both. Raises EnvironmentTrouble otherwise."""
        for journal in (self.own, self.users):
            journal.check_room(ROOM_A_LINE * (count + 1))

    def write(self) -> None:
        """Add to both journals what the database holds beyond them, synced.

        Raises:
            EnvironmentTrouble: one of them cannot be written.
        """
        here = self.entries()
        for journal in (self.own, self.users):
            known = {key_of(e) for e in journal.read()[0] if e.get("project") == self.id}
            journal.append([e for e in here if key_of(e) not in known])

    def reconcile(self) -> str:
        """Let the stricter hold, in the database and in both journals. Returns what was entered into the database again, in
        words, "" for nothing."""
        mine = self.id
        lines = [e for j in (self.own, self.users) for e in j.read()[0] if e.get("project") == mine]
        if not lines and not self.db.rows("SELECT 1 FROM openings UNION ALL SELECT 1 FROM judged UNION ALL SELECT 1 FROM "
                                          "borders LIMIT 1"):
            self._mine()
            return ""
        known = {key_of(e) for e in self.entries()}
        lost = {key_of(e): e for e in lines if key_of(e) not in known}
        told = self._enter(list(lost.values())) if lost else ""
        self._mine()
        self.write()
        return told

    def _enter(self, lost: list[Entry]) -> str:
        """Enter again what the database lost."""
        codes, count = _Codes(self.db), {OPENED: 0, SHOWN: 0, "verdict": 0, "moved": 0}
        with self.db.transaction() as db:
            for e in lost:
                kind, market, rules = e["kind"], codes(e), str(e.get("rules", ""))
                at = str(e.get("at", now()))
                if kind in KINDS:
                    db.execute("INSERT INTO openings (created, what, kind, market, hash, first, last, batch, size) VALUES "
                               "(?, ?, ?, ?, ?, ?, ?, ?, ?)",
                               (at, "told by the journal; the database had lost it", kind, market, rules,
                                e.get("first") or "", e.get("last") or "", int(e.get("number", 0)), int(e.get("size", 1))))
                    used = max(int(self.db.get_value(RESERVED, 0)), int(e.get("number", 0)))
                    self.db.set_value(RESERVED, used)
                elif kind == "verdict":
                    named = db.execute("SELECT name FROM candidates WHERE hash = ?", (rules,)).fetchone()
                    verdict = str(e.get("verdict", "falls"))
                    reason = GONE if verdict == "falls" else "As the journal of openings says; the database had lost it."
                    db.execute("INSERT INTO judged (created, market, hash, name, verdict, reason) VALUES (?, ?, ?, ?, ?, ?)",
                               (at, market, rules, named[0] if named else "rules judged before", verdict, reason))
                elif kind == "moved":
                    db.execute("INSERT INTO borders (created, old, new, why, candidates) SELECT ?, ?, ?, ?, "
                               "coalesce(max(id), 0) FROM candidates",
                               (at, e.get("old"), e.get("new"), "told by the journal"))
                    db.execute("INSERT INTO judged (created, market, hash, name, verdict, reason, daily) SELECT DISTINCT ?, "
                               "c.market, c.hash, c.name, 'falls', ?, b.daily FROM candidates AS c JOIN bodies AS b ON "
                               "b.candidate = c.id WHERE NOT EXISTS (SELECT 1 FROM judged AS j WHERE j.market = c.market AND "
                               "j.hash = c.hash)", (at, f"Seen since {at[:10]}: the border was moved from {e.get('old')} to "
                                                        f"{e.get('new')}, as the journal of openings says."))
                count[kind if kind in count else OPENED] += 1
            unsettle(db)
        words = [f"{n} {w}{'s' if n != 1 else ''}" for n, w in ((count[OPENED], "opening"), (count["verdict"], "verdict"), (
            count["moved"], "move"), (count[SHOWN], "look at figures")) if n]
        return (f"the journal of openings knows {', '.join(words)} that the database had lost; they hold again, since the "
                "stricter of both does")

    # Other projects

    def elsewhere(self) -> list[Elsewhere]:
        """Openings on the same bars in other projects of this user."""
        months = {m: set(d.values()) for m, d in self.months().items()}
        every = set().union(*months.values()) if months else set()
        if not every:
            return []
        by_project: dict[str, list[Entry]] = {}
        for e in self.users.read()[0]:
            if e.get("project") != self.id and every & set(_texts(e.get("months"))):
                by_project.setdefault(str(e.get("project")), []).append(e)
        answers = {r["about"]: r["answer"] for r in self.db.rows("SELECT about, answer FROM answers")}
        out = []
        for project, lines in by_project.items():
            opened = [e for e in lines if e["kind"] == OPENED]
            if not opened:
                continue
            met = tuple(sorted(m for m, d in months.items() if any(d & set(_texts(e.get("months"))) for e in lines)))
            falls = {str(e.get("rules")): str(e.get("at")) for e in lines if e["kind"] == "verdict" and
                     e.get("verdict") == "falls"}
            at = sorted(str(e.get("at")) for e in opened)
            out.append(Elsewhere(project, len({e.get("number") for e in opened}), met, at[0], at[-1], falls,
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
        mine = [o for o in self.elsewhere() if o.answer == MINE]
        count = sum(o.openings for o in mine)
        if count != int(self.db.get_value(ELSEWHERE, 0)):
            self.db.set_value(ELSEWHERE, count)
        for one in mine:
            for rules, at in one.falls.items():
                for market in one.markets:
                    if self.db.rows("SELECT 1 FROM judged WHERE hash = ? AND market = ?", rules, market):
                        continue
                    with self.db.transaction() as db:
                        db.execute("INSERT INTO judged (created, market, hash, name, verdict, reason) VALUES (?, ?, ?, ?, "
                                   "'falls', ?)", (at, market, rules, "rules judged before",
                                                   f"Fell on {at[:10]} in another project, on the same bars."))
                        unsettle(db, rules, market)


class _Codes:
    """Which market of a project a line speaks of."""

    def __init__(self, db: Database) -> None:
        self.codes = {code_digest(r["code"]): str(r["code"]) for r in db.rows("SELECT code FROM markets")}
        self.months = {m: set(d.values()) for m, d in months_of(db).items()}

    def __call__(self, e: Entry) -> str:
        code = self.codes.get(str(e.get("market", "")))
        if code is not None:
            return code
        bars = set(_texts(e.get("months")))
        return next((m for m, d in self.months.items() if d & bars), "")


def _texts(value: object) -> list[str]:
    return [v for v in value if isinstance(v, str)] if isinstance(value, list) else []

