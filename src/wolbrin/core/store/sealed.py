"""The one door to sealed bars. Whoever goes through it is written down first; a test finds any other way."""

from __future__ import annotations

import datetime as dt
import os
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from wolbrin.core.errors import NothingOpened, UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.store.ground import Ground, Histories, histories_of
from wolbrin.core.store.holdout import HoldoutBook, Opening
from wolbrin.core.store.plans import OpeningPlan, Plans, StoredPlan
from wolbrin.core.store.project import Project, now
from wolbrin.core.written import PARTIAL

ROOM, ROOM_EACH = 4 * 1024**2, 192 * 1024  # bytes held free for verdicts: for an opening, and for each that is opened
HELD = f"room-for-verdicts{PARTIAL}"


@dataclass(frozen=True)
class Wanted:
    """One candidate for which sealed bars are opened. span: trading dates that will be looked at; what: by what and why, in
    words; hash: of the rules."""

    market: str
    interval: int
    span: Span
    what: str
    hash: str


def check_sealed(ground: Ground, whole: Histories, wanted: Wanted) -> None:
    """Make sure that a span holds sealed bars. Raises UserError otherwise."""
    bars = whole.prepared(wanted.market, wanted.interval).bars
    border = ground.history(wanted.market).border
    first, stop = bars.range_of(wanted.span)
    sealed_first, _ = bars.range_of(Span(border, None))
    if max(first, sealed_first) >= stop:
        raise UserError(f"there are no sealed bars in {wanted.span}", wanted.market, "Choose a span that reaches beyond the "
                        "border, or append newer history.")


def open_sealed(project: Project, ground: Ground, wanted: Sequence[Wanted], plan: Callable[[int], OpeningPlan]) -> tuple[
        Histories, StoredPlan]:
    """Count one opening, write its plan down in the database and in both journals, synced, and give the histories with their
    sealed bars, and the plan as it is kept. plan(number): what is opened, asked once it is certain that there is something to
    open.

    Raises:
        UserError: there is nothing to see; nothing is counted then. EnvironmentTrouble: it cannot be written down; nothing
            is opened.
    """
    whole = histories_of(ground.unsealed())
    for one in wanted:
        check_sealed(ground, whole, one)
    book, at = HoldoutBook(project), now()
    project.journal.check_room(2 * len(wanted))
    with project.transaction():
        number = book.reserve()
        stored = Plans(project).add(at, plan(number))
        for one in wanted:
            book.add(Opening(at, one.what, market=one.market, hash=one.hash, first=_text(one.span.first),
                             last=_text(one.span.last), batch=number, size=len(wanted)))
    project.journal.write()
    return whole, stored


def open_again(ground: Ground) -> Histories:
    """Histories with their sealed bars for an opening that was written down before and cut short."""
    return histories_of(ground.unsealed())


@contextmanager
def room_for_verdicts(folder: Path, count: int) -> Iterator[Callable[[], None]]:
    """Hold room on the disk until verdicts are written: a file of that size, given free by what is yielded.

    Raises:
        NothingOpened: there is none.
    """
    path = folder / HELD

    def free() -> None:
        with suppress(OSError):
            path.unlink(missing_ok=True)

    try:
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
        try:
            os.posix_fallocate(handle, 0, ROOM + ROOM_EACH * count)
        finally:
            os.close(handle)
    except OSError as err:
        free()
        raise NothingOpened(f"there is no room for the verdicts ({err.strerror or err})", str(folder),
                            "Free some space and try again; nothing was opened.") from None
    try:
        yield free
    finally:
        free()


def _text(day: dt.date | None) -> str:
    return day.isoformat() if day else ""
