"""Reading history files as a job, and taking what was read into the project: all of it, or nothing."""

from __future__ import annotations

from collections.abc import Callable

from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Job, Until
from wolbrin.core.market.importing.append import Joined, join
from wolbrin.core.market.importing.files import Piece
from wolbrin.core.market.importing.grouping import stem_of
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.importing.read import Imported, Reader
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.terms import Terms
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.sources import MONTH, Source


def read_job(found: list[Piece], layout: Layout, done: Callable[[list[tuple[str, Imported]]], None],
             each: bool = False) -> Job:
    """Read files, with progress in kB; done([(name, imported)]) on the job's thread. Nothing is kept.

    each: every file for itself, such as contract months; else all as one.
    """
    readers = [(_stem(p), Reader([p], layout)) for p in found] if each else [(_stem(found[0]), Reader(found, layout))]
    made: list[tuple[str, Imported]] = []

    def step(_: None) -> int:
        name, reader = readers[len(made)]
        taken = reader.step()
        if reader.done:
            made.append((name, reader.finish()))
        return taken // 1024

    def finish(_: int) -> None:
        if len(made) == len(readers):
            done(made)

    total = max(1, sum(p.size for p in found) // 1024)
    return Job("Read history", "kB", Until(total, lambda: len(made) == len(readers), lambda taken: taken), step, finish,
               width=1)


def _stem(piece: Piece) -> str:
    return stem_of(piece)[:60]


def known_rows(project: Project, market: str, source: str) -> Raw | None:
    """Rows before the border of a source that is there already, or of the one its market is tested on: new files are compared
    with them. None where there are none."""
    every = project.sources.of(market)
    named = [s for s in every if s.name == source] or [s for s in every if s.name == project.market(market).source]
    try:
        return project.sources.training_raw(named[0]) if named else None
    except UserError:
        return None


def known_clock_of(project: Project, market: str, source: str) -> str:
    """The clock in which a source's files were read; empty where there is no such source, or its stamps told it."""
    named = [s for s in project.sources.of(market) if s.name == source and s.layout is not None]
    return named[0].layout.zone if named and named[0].layout is not None else ""


def weigh(project: Project, market: str, source: str, imported: Raw) -> Joined:
    """What taking the rows into a source would do; nothing is kept."""
    known = [s for s in project.sources.of(market) if s.name == source]
    if not known:
        return join(None, imported)
    old = project.sources.ticks(known[0]) if imported.interval == 0 else project.sources.raw(known[0])
    if old is None:
        raise UserError("this source holds bars and the file ticks", f"{market}, {source}",
                        "Take the file in as a source of its own.")
    return join(old, imported)


def take_in(project: Project, terms: Terms, source: str, imported: Raw, *, keep: str, origin: str, layout: Layout,
            month: bool = False, settings: Settings | None = None) -> tuple[Source, Joined]:
    """Keep read rows: as a new source, or added to the one of that name. All or nothing."""
    known = [s for s in project.sources.of(terms.code) if s.name == source]
    old = None
    if known:
        old = project.sources.ticks(known[0]) if imported.interval == 0 else project.sources.raw(known[0])
    joined = join(old, imported, "new" if keep == "new" else "old")
    where = f"{known[0].origin}; {origin}" if known and origin not in known[0].origin else origin
    made = project.sources.put(terms, source, joined.raw, kind=MONTH if month else "bars", origin=where[:2000],
                               layout=layout, build=layout.build, settings=settings)
    return made, joined


def take_in_all(project: Project, terms: Terms, read: list[tuple[str, Raw]], *, keep: str, origin: str, layout: Layout,
                months: bool = False, settings: Settings | None = None) -> Source:
    """Keep several read files under their names; when one cannot be kept, those before it go again."""
    there = {s.name for s in project.sources.of(terms.code)}
    made: list[Source] = []
    try:
        for name, raw in read:
            name = month_name(name, terms.code) if months else name
            made.append(take_in(project, terms, name, raw, keep=keep, origin=origin, layout=layout, month=months,
                                settings=None if made else settings)[0])
    except BaseException:
        for source in made:
            if source.name not in there and project.market(terms.code).source != source.name:
                project.sources.remove(*source.key)
        raise
    return made[-1]


def month_name(stem: str, code: str) -> str:
    """A contract month's name from its file's: without the market's code before it."""
    rest = stem[len(code):].lstrip("-_. ") if stem.upper().startswith(code.upper()) else stem
    return rest or stem
