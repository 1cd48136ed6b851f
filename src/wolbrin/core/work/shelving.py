"""Candidates as files: written with their record, read from files and folders, tested under the present brief, and put on the
Shelf."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

from pydantic import Field, ValidationError

from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.faults import explain
from wolbrin.core.jobs import Chunk, Job, State
from wolbrin.core.market.intervals import Interval, interval_words
from wolbrin.core.models import Model, Name, parse_json
from wolbrin.core.rules.model import Strategy, read_strategy
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.rules.words import describe
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.store.brought import bring
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.shelf import Kept, Shelf
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.starting import fits
from wolbrin.core.written import read_text, safe_name, write_text

FORMAT = "wolbrin.candidate"
VERSION = 1
KIND = "files"  # of the search under which what comes from files is counted
ENDINGS = (".json", ".txt", ".wolbrin")
LARGEST = 5_000_000  # bytes of a strategy file
MOST_FILES = 20_000


class CandidateFile(Model):
    """A candidate with its record. tried: alternatives among which it was chosen; measures and record: what it showed where
    it came from, for people: it is tested anew wherever it is read."""

    format: Literal["wolbrin.candidate"] = "wolbrin.candidate"
    version: int = Field(VERSION, ge=1)
    name: Name = Field(min_length=1, max_length=80)
    market: str = Field(max_length=40)
    interval: str = Field(max_length=20)
    origin: str = Field("", max_length=80)
    tried: int = Field(1, ge=1, le=10**15)
    tags: tuple[str, ...] = Field((), max_length=100)
    notes: str = Field("", max_length=20_000)
    words: str = Field("", max_length=50_000)
    strategy: Strategy
    measures: dict[str, float | None] = Field({}, max_length=200)
    record: dict[str, Any] = {}

    @classmethod
    def of(cls, kept: Kept) -> CandidateFile:
        """A candidate of the Shelf."""
        c = kept.candidate
        return cls(name=c.name, market=c.market, interval=interval_words(c.interval), origin=c.origin, tried=max(1, c.tried),
                   tags=tuple(kept.tags.split()), notes=kept.marks.notes, words=describe(c.strategy),
                   strategy=c.strategy, measures={k: None if v != v else v for k, v in c.summary.items()},
                   record=c.record.model_dump(mode="json"))


def export_candidates(kept: Sequence[Kept], folder: Path) -> list[Path]:
    """Write candidates into a folder, a file each, that `read_files` reads. Raises EnvironmentTrouble."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as err:
        raise EnvironmentTrouble(f"this folder cannot be made ({err.strerror or err})", str(folder),
                                 "Choose another folder.") from err
    out = []
    for k in kept:
        path = folder / f"{k.id:06d} {safe_name(k.candidate.name, 'candidate', ' .-')}.json"
        write_text(path, CandidateFile.of(k).model_dump_json(indent=1), "candidate file")
        out.append(path)
    return out


@dataclass(frozen=True)
class Read:
    """A strategy from a file, with the market and interval it names, "" and 0 for none; tried: what its file states, None
    where it is a bare one that says nothing."""

    path: Path
    strategy: Strategy
    market: str = ""
    interval: int = 0
    tried: int | None = None
    tags: tuple[str, ...] = ()
    notes: str = ""


def read_file(path: Path, own: dict[str, tuple[str, str]]) -> Read:
    """A candidate file, a strategy file, or formula text. Raises UserError."""
    text = read_text(path, "strategy file", LARGEST)
    if path.suffix.lower() != ".json":
        return Read(path, parse_strategy(text, own))
    data = parse_json(text, "strategy file", str(path))
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        return Read(path, read_strategy(data, str(path)))
    version = data.get("version")
    if isinstance(version, int) and version > VERSION:
        raise UserError(f"this candidate file has version {version}, newer than this program reads ({VERSION})", str(path),
                        "Open it with a newer Wolbrin.")
    strategy = read_strategy(data.get("strategy"), str(path))
    try:
        made = CandidateFile.model_validate(data | {"strategy": strategy})
        interval = Interval.parse(made.interval).code
    except ValidationError as err:
        raise explain(err, str(path)) from None
    except RecursionError:
        raise UserError("this file is nested too deeply", str(path), "Choose another file.") from None
    return Read(path, strategy.model_copy(update={"name": made.name}), made.market, interval, made.tried, made.tags,
                made.notes)


def files_in(paths: Sequence[Path]) -> list[Path]:
    """Strategy files among paths and in folders among them, sorted. Raises UserError where there are none, or too many."""
    found: list[Path] = []
    for path in paths:
        if path.is_dir():
            found += sorted(p for p in path.rglob("*") if p.suffix.lower() in ENDINGS and p.is_file())
        else:
            found.append(path)
    if not found:
        raise UserError("there is no strategy file", ", ".join(str(p) for p in paths),
                        f"Choose files or a folder with files ending in {', '.join(ENDINGS)}.")
    if len(found) > MOST_FILES:
        raise UserError(f"these are {len(found):,} files, more than {MOST_FILES:,}", str(paths[0]), "Choose fewer.")
    return found


@dataclass
class Shelved:
    """What came of files: ids of those put on the Shelf; how many were there already; sentences of those that could not be
    read or tested."""

    ids: list[int] = field(default_factory=list)
    already: int = 0
    faults: list[str] = field(default_factory=list)
    unknown: list[int] = field(default_factory=list)  # those of which nothing says how many were tried for them

    @property
    def words(self) -> str:
        there = f", {self.already:,} were there already" if self.already else ""
        faults = f", {len(self.faults):,} could not be read or tested" if self.faults else ""
        unknown = (f" Of {len(self.unknown):,} nothing says how many were tried for them: they can be studied, and cannot "
                   "stand until you say it." if self.unknown else "")
        return f"{len(self.ids):,} put on the Shelf{there}{faults}.{unknown}"


def shelve_job(project: Project, paths: Sequence[Path], market: str, interval: int,
               notify: Callable[[Shelved], None] = lambda result: None, tried: int | None = None) -> tuple[Job, Shelved]:
    """Read files, test each on the market it names (on the one given where it names none that is here) under the present
    brief, and put it on the Shelf. Each counts as an alternative that was tried. tried: how many were tried for each bare
    strategy, which says nothing of it; None where that is not known."""
    files, footing, result = files_in(paths), Footing.of(project), Shelved()
    there = {m for m, _ in footing.ground.active}
    own = project.own.known()
    searches = Searches(project)
    search = searches.begin(now(), KIND, f"Strategies from {len(files):,} files", {"files": len(files)}, market=market,
                            interval=interval)
    shelf = Shelf(project)

    def test(path: Path) -> tuple[Read, Candidate] | str:
        try:
            read = read_file(path, own)
            at = (read.market, read.interval or interval) if read.market in there else (market, interval)
            history = footing.prepared(*at)
            run = backtest(history, fits(read.strategy, history.bars.terms), footing.brief(history.bars.terms), detail=False)
        except (UserError, EnvironmentTrouble) as err:
            return err.sentence()
        return read, candidate_of(run, run.strategy.name, "file", read.tried or tried or 1)

    def take(found: tuple[Read, Candidate] | str) -> None:
        if isinstance(found, str):
            result.faults.append(found)
        else:
            read, candidate = found
            with project.transaction():
                searches.advance(search, 1 if read.tried is not None else tried or 1, 1)
                id = shelf.keep(candidate, search)
                if id is None:
                    result.already += 1
                else:
                    result.ids.append(id)
                    if read.tried is None and tried is None:
                        bring(project, candidate.strategy, candidate.market, candidate.interval, None)
                        result.unknown.append(id)
                    if read.tags:
                        shelf.tag([id], read.tags)
                    if read.notes:
                        shelf.note(id, read.notes)
        notify(result)

    def finish(state: State) -> None:
        searches.end(search, state)

    job = Job(f"Test {len(files):,} strategy files", "files", [Chunk(p) for p in files], test, take, finish)
    return job, result


def as_json(kept: Kept) -> dict[str, Any]:
    """A candidate as its file has it."""
    data: dict[str, Any] = json.loads(CandidateFile.of(kept).model_dump_json())
    return data

