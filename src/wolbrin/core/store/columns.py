"""What may stand in each column of each table: one declared list, by which values are checked, mended and left aside.

SQLite keeps whatever it is given: a text in a column of numbers, a day that is none. A value that is not what its column
holds is wrong, whoever wrote it. Conditions are SQL, so that a hundred thousand rows are looked through in a moment.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.proving.gate import FALLS, NOT_ENOUGH, PASSES
from wolbrin.core.proving.gatekeeping import OF_FAMILY, OF_WHOLE

LARGEST = 9_007_199_254_740_992  # 2 ** 53: beyond it no figure of ours goes, and JSON tells none exactly
VERDICTS = (PASSES, FALLS, NOT_ENOUGH, OF_FAMILY, OF_WHOLE)
STATES = ("waiting", "running", "paused", "stopped", "done", "failed", "interrupted")


@dataclass(frozen=True)
class Column:
    """right: SQL that is true for a value that may stand there, with {c} for the column. words: what must stand there.
    instead: SQL of what stands in the place of a wrong value and can mislead nobody; None where there is nothing of the
    kind, and the row is left aside. nothing: whether NULL may stand there. grows: whether it is larger by now than a copy
    knows, so that the larger of the copy's value and `instead` stands there."""

    right: str
    words: str
    instead: str | None = None
    nothing: bool = False
    grows: bool = False

    def condition(self, name: str) -> str:
        """SQL that is true for a right value of the column of that name."""
        asked = f"coalesce(({self.right.replace('{c}', name)}), 0)"
        return f"({name} IS NULL OR {asked})" if self.nothing else f"({asked})"


def whole(low: int = 0, high: int = LARGEST, instead: str | None = None, nothing: bool = False) -> Column:
    """A whole number."""
    return Column(f"typeof({{c}}) = 'integer' AND {{c}} BETWEEN {low} AND {high}", f"a whole number of at least {low:,}"
                  if low > -LARGEST else "a whole number", instead, nothing)


def real(instead: str | None = None, nothing: bool = False) -> Column:
    """A number."""
    return Column("typeof({c}) IN ('real', 'integer') AND {c} BETWEEN -1e300 AND 1e300", "a number", instead, nothing)


def text(instead: str | None = "told(CAST({c} AS BLOB))", nothing: bool = False) -> Column:
    """Text in UTF-8 without NUL. `is_text` and `told` are functions of ours (see `typed`)."""
    return Column("typeof({c}) = 'text' AND (length({c}) = length(CAST({c} AS BLOB)) OR is_text(CAST({c} AS BLOB)))",
                  "text in UTF-8", instead, nothing)


def one_of(words: Iterable[str], instead: str | None = None) -> Column:
    """One of some words."""
    known = ", ".join(f"'{w}'" for w in words)
    return Column(f"typeof({{c}}) = 'text' AND {{c}} IN ({known})", f"one of {known}", instead)


def json_of(kind: str, instead: str | None = None, nothing: bool = False) -> Column:
    """JSON of a kind: "object" or "array"."""
    return Column(f"CASE WHEN {TEXT} AND json_valid({{c}}) THEN json_type({{c}}) = '{kind}' ELSE 0 END", f"JSON ({kind})",
                  instead, nothing)


def bytes_of(size: int = 1, least: int = 0, instead: str | None = None, nothing: bool = False) -> Column:
    """Bytes, of numbers of `size` each."""
    return Column(f"typeof({{c}}) = 'blob' AND length({{c}}) % {size} = 0 AND length({{c}}) >= {least}",
                  f"bytes of whole numbers of {size} bytes" if size > 1 else "bytes", instead, nothing)


TEXT = text().right
# Days added, even none, put 30 February right.
ON_A_DAY = "date(substr({c}, 1, 10), '+0 days') IS substr({c}, 1, 10) AND {c} >= '0001' AND {c} < '9000'"
DAY = f"typeof({{c}}) = 'text' AND length({{c}}) = 10 AND {ON_A_DAY}"
MOMENT = (f"typeof({{c}}) = 'text' AND length({{c}}) BETWEEN 10 AND 40 AND {ON_A_DAY} AND (length({{c}}) = 10 OR "
          "time(substr({c}, 12, 5)) IS substr({c}, 12, 5) || ':00')")
INTERVAL = ("typeof({{c}}) = 'integer' AND ({{c}} BETWEEN {least} AND 1440 OR {{c}} BETWEEN 10000001 AND 19999999 OR "
            "{{c}} BETWEEN 20000001 AND 29999999 OR {{c}} BETWEEN 30000001 AND 39999999)")
LATE = "strftime('%Y-%m-%dT%H:%M:%S+00:00', 'now')"  # as if it were of now: whatever was opened before counts as seen

ID = Column("typeof({c}) = 'integer'", "a whole number")
NAME = text()
KEY = text(None)  # by which other rows know a row
FILE = Column(f"{TEXT} AND {{c}} NOT IN ('', '.', '..') AND instr({{c}}, '/') = 0 AND length(CAST({{c}} AS BLOB)) < 256",
              "the name of a file")
CREATED = Column(MOMENT, "a date with a time", LATE)
BOOKED = Column(MOMENT, "a date with a time")
STAMP = Column(f"{MOMENT} AND length({{c}}) >= 16", "a date with a time")
TOLD_LAST = "json_extract(CAST(record AS TEXT), '$.last')"
LAST_DAY = (f"CASE WHEN json_valid(CAST(record AS TEXT)) AND date({TOLD_LAST}) IS NOT NULL THEN {TOLD_LAST} ELSE "
            "coalesce((SELECT max(date(substr(s.last, 1, 10))) FROM sources s), '8999-12-31') END")
FLAG = whole(0, 1, "0")
# As many as any search tried, as this one kept or measured, or as it has rows.
MOST_TRIED = ("max((SELECT coalesce(max(o.tried), 0) FROM searches o WHERE typeof(o.tried) = 'integer' AND o.tried BETWEEN 0 "
              "AND 1000000000000), CASE typeof(kept) WHEN 'integer' THEN kept ELSE 0 END, CASE typeof(sharpe_count) WHEN "
              "'integer' THEN sharpe_count ELSE 0 END, (SELECT coalesce(sum(CASE typeof(p.rows) WHEN 'integer' THEN p.rows "
              "ELSE 0 END), 0) FROM (SELECT owner, name, rows FROM parts UNION ALL SELECT owner, name, rows FROM pending) p "
              "WHERE p.owner = 'search ' || searches.id AND p.name = 'rows'))")
PLACED = Column(INTERVAL.format(least=1), "a bar interval")
ANY_PLACE = Column(INTERVAL.format(least=0), "a bar interval", "0")
PART = "(SELECT s.{part} FROM sources s WHERE s.market = markets.code AND s.name = markets.source)"


def _of_source(column: Column, part: str) -> Column:
    """A value of a market's entry that its source tells too."""
    return Column(column.right, column.words, PART.format(part=part))


COLUMNS: dict[str, dict[str, Column]] = {
    "settings": {"key": KEY, "value": Column(f"key LIKE 'value:%' OR ({TEXT})", "text in UTF-8")},  # see `values`
    # Entries of markets tell again what the source in use tells: they are made anew from it.
    "markets": {"code": KEY, "position": whole(0, LARGEST, "999"), "terms": text(None), "source": NAME, "file": NAME,
                "minutes": _of_source(PLACED, "interval"), "bars": whole(0, LARGEST, "0"),
                "first": _of_source(STAMP, "first"), "last": _of_source(STAMP, "last"), "left_out": whole(0, LARGEST, "0"),
                "off_grid": whole(0, LARGEST, "0"), "hash": NAME, "silhouette": bytes_of(4, 4, "zeroblob(2400)")},
    "strategies": {"id": ID, "name": NAME, "body": text(None), "hash": NAME, "market": NAME,
                   "interval": Column(PLACED.right, PLACED.words, "1440"), "created": CREATED,
                   "updated": Column(f"{{c}} = '' OR {MOMENT}", "a date with a time", LATE),
                   "parent": whole(1, LARGEST, "NULL", nothing=True), "span": json_of("object", "NULL", nothing=True),
                   "version": whole(0, LARGEST, "1")},
    "runs": {"id": ID, "created": CREATED, "name": NAME, "body": text(None), "record": json_of("object"),
             "record_hash": NAME, "summary": json_of("object", "'{}'"), "fingerprint": NAME},
    # What was tried counts as the most that any search tried, and as having seen all days, where it is not told any more.
    "searches": {"id": ID, "created": CREATED, "kind": NAME, "title": NAME, "request": json_of("object", "'{}'"),
                 "tried": replace(whole(0, LARGEST, MOST_TRIED), grows=True),
                 "kept": whole(0, LARGEST, "0"), "state": one_of(STATES, "'interrupted'"), "market": NAME,
                 "interval": ANY_PLACE, "record": json_of("object", "NULL", nothing=True),
                 "columns": json_of("array", "NULL", nothing=True),
                 "seen": Column(DAY, "a day", LAST_DAY, nothing=True, grows=True), "sharpe_count": whole(0, LARGEST, "0"),
                 "sharpe_mean": real("0"),
                 "sharpe_m2": Column(f"{real().right} AND {{c}} >= 0", "a number of at least 0", "0"),
                 "cursor": json_of("object", "NULL", nothing=True), "program": NAME},
    "evidence": {"id": ID, "created": CREATED, "hash": KEY, "market": KEY, "interval": PLACED, "gate": KEY,
                 "inputs": json_of("object", "'{}'"), "outcome": json_of("object"), "verdict": one_of(VERDICTS),
                 "reason": NAME, "record": json_of("object", nothing=True), "record_key": text("NULL", nothing=True),
                 "settings": json_of("object")},
    # The book: what cannot be read is told again by the journal (see `typed`).
    "openings": {"id": ID, "created": BOOKED, "what": NAME, "kind": one_of(("opened", "border", "end", "shown")),
                 "market": KEY, "hash": KEY, "first": Column(f"{{c}} = '' OR {DAY}", "a day", nothing=True),
                 "last": Column(f"{{c}} = '' OR {DAY}", "a day", nothing=True), "batch": whole(0, 10**9),
                 "size": whole(0, 10**9)},
    "judged": {"id": ID, "created": BOOKED, "market": KEY, "hash": KEY, "name": NAME, "verdict": one_of(VERDICTS),
               "reason": NAME, "daily": bytes_of(1, 0, "NULL", nothing=True), "told": text("NULL", nothing=True)},
    "borders": {"id": ID, "created": BOOKED, "old": Column(DAY, "a day"), "new": Column(DAY, "a day"), "why": NAME,
                "candidates": whole(0, LARGEST, "(SELECT coalesce(max(id), 0) FROM candidates)")},
    "portfolios": {"id": ID, "created": CREATED, "name": NAME, "members": json_of("array", "'[]'"),
                   "summary": json_of("object", "'{}'"), "record": json_of("array", "NULL", nothing=True),
                   "plan": text(None, nothing=True)},
    "sources": {"market": KEY, "name": KEY, "kind": one_of(("bars", "ticks", "contract month", "continuous")),
                "file": FILE, "ticks": Column(f"{{c}} = '' OR ({FILE.right})", FILE.words, nothing=True),
                "interval": PLACED, "rows": whole(0, LARGEST, "0"),
                "first": STAMP, "last": STAMP, "treatment": text(None), "rolls": json_of("array"), "cost_set": NAME,
                "origin": NAME, "layout": json_of("object", "NULL", nothing=True), "score": real("NULL", nothing=True),
                "adjust": one_of(("unadjusted", "difference", "ratio", "difference before", "ratio before")),
                "months": json_of("object", "NULL", nothing=True)},
    "treatments": {"id": ID, "created": CREATED, "market": NAME, "source": NAME, "body": NAME, "words": NAME, "hash": NAME},
    "layouts": {"name": KEY, "body": text(None)},
    "parts": {"id": ID, "owner": KEY, "name": KEY, "file": FILE, "rows": whole(0), "digest": KEY},
    "pending": {"id": ID, "owner": KEY, "name": KEY, "rows": whole(0), "data": bytes_of()},
    "marks": {"search": whole(), "mark": KEY},
    "candidates": {"id": ID, "created": CREATED, "name": NAME, "hash": KEY, "market": KEY, "interval": PLACED,
                   "origin": NAME, "search": whole(0, LARGEST, "NULL", nothing=True),
                   "tried": replace(whole(0, LARGEST, "0"), grows=True),
                   "record_key": text("NULL", nothing=True), "span": json_of("object", "NULL", nothing=True),
                   "stands": text("NULL", nothing=True), "ticked": FLAG, "tags": NAME, "place": text("''"),
                   "words": text("''"), "made": NAME, "number": whole(0, LARGEST, "NULL", nothing=True),
                   "alike": whole(0, LARGEST, "1"), "star": FLAG, "notes": NAME, "family": text("NULL", nothing=True),
                   "cluster": whole(0, LARGEST, "NULL", nothing=True),
                   "leads": whole(0, LARGEST, "NULL", nothing=True), "behind": whole(0, LARGEST, "0")}
                  | {f"m_{key}": real("NULL", nothing=True) for key in SUMMARY},
    "bodies": {"candidate": ID, "body": text(None), "record": text(None), "summary": text("'{}'"),
               "spark": bytes_of(4, 0, "zeroblob(8)"), "daily": bytes_of(1, 0, "NULL", nothing=True)},
    # A plan that is not known for done is judged again, under its number.
    "plans": {"id": ID, "created": BOOKED, "number": whole(0, 10**9), "digest": NAME, "body": text(None),
              "done": replace(FLAG, grows=True)},
    "answers": {"id": ID, "created": CREATED, "about": KEY, "answer": KEY},
    "left_aside": {"id": ID, "created": CREATED, "what": NAME, "why": NAME, "body": NAME},
}
BOOK = ("openings", "judged", "borders")
NAMED_BY = {"markets": "code", "strategies": "name", "runs": "name", "searches": "title", "portfolios": "name",
            "sources": "market || ' ' || name", "layouts": "name", "candidates": "name", "settings": "key",
            "bodies": "(SELECT name FROM candidates WHERE id = candidate)", "judged": "name"}
WORDS = {"settings": "the value", "markets": "the market", "strategies": "the strategy", "runs": "the run",
         "searches": "the search", "evidence": "the verdict of a gate", "openings": "the opening", "judged":
         "the verdict on", "borders": "the move of the border", "portfolios": "the portfolio", "sources": "the source",
         "treatments": "the treatment", "layouts": "the layout", "parts": "the file of results", "pending":
         "the rows of results", "marks": "the mark", "candidates": "the candidate", "bodies": "the candidate",
         "plans": "the plan of an opening", "answers": "the answer", "left_aside": "what was left aside"}


def named(table: str, number: Any, name: Any) -> str:
    """A row in words."""
    if name is None:
        return f"{WORDS[table]} in row {number} of {table}"
    return f'{WORDS[table]} "{str(name)[:60]}"'
