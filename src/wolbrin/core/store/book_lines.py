"""Lines of the book of the seal as journals hold them: data, checked as such, since a file may come from anywhere."""

from __future__ import annotations

import datetime as dt
import hashlib
from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any, Literal

import platformdirs
from pydantic import AfterValidator, Field, ValidationError

from wolbrin.core.models import Model
from wolbrin.core.store.journal import Entry, Journal

JOURNAL = "journal.jsonl"


def _day(text: str) -> str:
    """A date, or nothing. Raises ValueError for what is neither."""
    return dt.date.fromisoformat(text).isoformat() if text else ""


Text = Annotated[str, Field(max_length=100)]
Date = Annotated[str, AfterValidator(_day)]


def state_folder() -> Path:
    """Where the user's journal is, by the XDG base directory specification."""
    return Path(platformdirs.user_state_path("wolbrin"))


def code_digest(market: str) -> str:
    """A market's code as journals name it."""
    return hashlib.sha256(market.encode()).hexdigest()[:16]


def key_of(e: BookLine) -> str:
    """By what the same event is known again."""
    return "|".join(str(x) for x in (e.kind, e.number, e.rules, e.market, e.verdict, e.old, e.new, e.at))


class BookLine(Model):
    """One line: of an opening, a look at figures or a counted move (`kind` as in the table of openings), of a verdict, or of
    a moved border. number: of the opening; rules, market: digests; months: digests of the months that were sealed."""

    kind: Literal["opened", "border", "shown", "verdict", "moved"]
    project: Text = ""
    at: Text
    number: int = Field(0, ge=0, le=10**9)
    size: int = Field(1, ge=0, le=10**9)
    rules: Text = ""
    market: Text = ""
    verdict: Text = ""
    first: Date = ""
    last: Date = ""
    old: Date = ""
    new: Date = ""
    months: tuple[Text, ...] = Field((), max_length=5_000)
    before: Text = ""
    digest: Text = ""

    @property
    def entry(self) -> Entry:
        """As it is written."""
        return self.model_dump(mode="json", exclude={"before", "digest"}, exclude_defaults=True)


def lines_of(journal: Journal) -> list[BookLine]:
    """What a journal tells, as far as it is lines of a book: a file may come from anywhere."""
    found = []
    for e in journal.read()[0]:
        try:
            found.append(BookLine.model_validate(e))
        except ValidationError:
            continue
    return found


def told_rows(folder: Path, codes: Mapping[str, str]) -> dict[str, list[dict[str, Any]]]:
    """What the journals tell of rows of the book, by table, each with the columns that a line holds. codes: markets by how
    journals name them."""
    found: dict[str, list[dict[str, Any]]] = {"openings": [], "judged": [], "borders": []}
    for journal in (Journal(folder / JOURNAL), Journal(state_folder() / JOURNAL)):
        for e in lines_of(journal):
            at = {"created": e.at} | ({"market": codes[e.market]} if e.market in codes else {})
            if e.kind == "moved":
                found["borders"].append({"created": e.at, "old": e.old, "new": e.new})
            elif e.kind == "verdict":
                found["judged"].append(at | {"hash": e.rules, "verdict": e.verdict})
            else:
                found["openings"].append(at | {"kind": e.kind, "hash": e.rules, "first": e.first, "last": e.last,
                                               "batch": e.number, "size": e.size})
    return found
