"""Discover as a job: batches of random candidates, kept ones straight to the Shelf."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.many import NO_DAYS, Days, days_of
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import need_bars, record_of
from wolbrin.core.errors import UserError
from wolbrin.core.indicators.own import OwnIndicators
from wolbrin.core.jobs import Chunk, Job, Listed, State, Work
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.inference import Tally
from wolbrin.core.rules.operands import CustomOperand
from wolbrin.core.search.discover import Draws, Explorer
from wolbrin.core.search.grammar import Limits
from wolbrin.core.search.sample import sampled
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import DAILY, Searches
from wolbrin.core.store.shelf import Ready, Shelf, ready_of
from wolbrin.core.store.tables import Columns
from wolbrin.core.work.briefs import brief_again
from wolbrin.core.work.footing import Footing, Request
from wolbrin.core.work.sweep_results import DAYS

BATCH = 128
KIND = "discover"


@dataclass(frozen=True)
class DiscoverRequest:
    """others: markets that conditions may read; own: the user's confirmed indicators that they may. Both are filled in when
    the search is asked for, so that it stays the same search."""

    market: str
    interval: int
    limits: Limits
    count: int = 5_000
    seed: int = 1
    others: tuple[str, ...] = ()
    own: tuple[CustomOperand, ...] = ()

    def as_json(self) -> dict[str, Any]:
        return {"market": self.market, "interval": self.interval, "limits": self.limits.model_dump(mode="json"),
                "count": self.count, "seed": self.seed, "others": list(self.others),
                "own": [o.model_dump(mode="json") for o in self.own]}

    @classmethod
    def from_json(cls, data: dict[str, Any]) -> DiscoverRequest:
        return cls(data["market"], data["interval"], Limits.model_validate(data["limits"]), data["count"], data["seed"],
                   tuple(data.get("others", ())), tuple(CustomOperand.model_validate(o) for o in data.get("own", ())))


@dataclass(frozen=True)
class DiscoverWork(Request):
    """All that a batch needs, wherever it runs. others: hashes of other markets' histories that it must read, by market; None
    where it has not begun."""

    footing: Footing
    request: DiscoverRequest
    brief: Brief
    content: str
    days: Days
    others: dict[str, str] | None = None

    @cached_property
    def explorer(self) -> Explorer:
        """The search itself; all threads share it."""
        r = self.request
        history = self.footing.prepared(r.market, r.interval, self.content)
        return Explorer(history, self.brief, r.limits, r.seed, r.others, r.own)

    @cached_property
    def elsewhere(self) -> dict[str, str]:
        """Hashes of the other histories that are read. Raises UserError where the search began with others."""
        found = self.explorer.read_elsewhere()
        if self.others is not None and found != self.others:
            changed = sorted(m for m in {*found, *self.others} if found.get(m) != self.others.get(m))
            raise UserError("another market that this search reads has changed since it began", ", ".join(changed),
                            "Run the search again.")
        return found


@dataclass(frozen=True)
class Batch:
    """What comes back of one: draws without their candidates, which are ready to be stored. found: fingerprint and candidate
    of those that met the limits. elsewhere: hashes of other histories that were read."""

    draws: Draws
    found: tuple[tuple[str, Ready], ...]
    elsewhere: dict[str, str]


def evaluate_draws(work: DiscoverWork, unit: tuple[int, int]) -> Batch:
    """Test one batch. unit: number of its first draw, and how many."""
    elsewhere = work.elsewhere
    draws = work.explorer.explore(*unit)
    return Batch(replace(draws, found=()), tuple((f.fingerprint, ready_of(f.candidate)) for f in draws.found), elsewhere)


@dataclass
class DiscoverResult:
    """Live tallies: tried, met the limits, put on the Shelf, twins of something kept before, too few entry signals to be
    simulated. record: what made it. before:
    alternatives tried on the market when it began. search: its number in the project; unfinished: it can be gone on with."""

    request: DiscoverRequest
    record: Record
    search: int
    before: int
    tried: int = 0
    met: int = 0
    kept: int = 0
    twins: int = 0
    few: int = 0
    unfinished: bool = False

    def counts(self) -> dict[str, int]:
        return {"before": self.before, "tried": self.tried, "met": self.met, "kept": self.kept, "twins": self.twins,
                "few": self.few}


def _job(project: Project, work: DiscoverWork, result: DiscoverResult, first: int,
         notify: Callable[[DiscoverResult], None]) -> Job:
    """The job of a search that is on record, from batch `first` on."""
    shelf, searches, request = Shelf(project), Searches(project), work.request
    chunks = [Chunk((at, n), n) for at in range(0, request.count, BATCH) for n in (min(BATCH, request.count - at),)]

    def take(fingerprint: str, ready: Ready, counted: DiscoverResult) -> None:
        """Keep one that met the limits, unless something that trades alike was met before."""
        # Tried is what was looked at by now, this batch included; the Shelf counts on while the search does.
        if searches.mark(result.search, fingerprint) and shelf.keep_ready(
                ready, counted.before + counted.tried, result.search) is not None:
            counted.kept += 1

    def commit(batches: list[Batch], cursor: dict[str, Any]) -> None:
        counted, draws = replace(result), [b.draws for b in batches]
        with project.transaction():
            for batch in batches:
                counted.tried += batch.draws.count
                counted.met += batch.draws.met
                counted.few += batch.draws.few
                for fingerprint, ready in batch.found:
                    take(fingerprint, ready, counted)
            counted.twins = counted.met - counted.kept
            numbers = np.concatenate([d.numbers for d in draws])
            sample: Columns = {"number": numbers, "daily": np.concatenate([d.daily for d in draws])}
            searches.advance(result.search, counted.tried - result.tried, counted.kept - result.kept,
                             [Tally.of(d.sharpe) for d in draws])
            state = cursor | counted.counts() | {"elsewhere": batches[-1].elsewhere}
            searches.commit(result.search, state, {DAILY: sample} if len(numbers) else {})
        searches.tidy(result.search)
        for name, value in counted.counts().items():
            setattr(result, name, value)
        notify(result)

    def finish(state: State) -> None:
        result.unfinished = state is not State.DONE
        for name in ("explorer", "elsewhere"):
            vars(work).pop(name, None)  # its memory is large
        searches.end(result.search, state)

    return Job(_title(request), "tried", Listed(chunks, first), Work(evaluate_draws, work), commit=commit, finish=finish)


def own_operands(folder: Path) -> tuple[CustomOperand, ...]:
    """The user's confirmed indicators as series at their usual settings."""
    return tuple(CustomOperand(name=name, digest=digest, turns=turns)
                 for name, (digest, turns) in sorted(OwnIndicators(folder).known().items()))


def _title(request: DiscoverRequest) -> str:
    return f"Discover {request.market} {interval_words(request.interval)}"


def discover_job(project: Project, request: DiscoverRequest,
                 notify: Callable[[DiscoverResult], None] = lambda result: None) -> tuple[Job, DiscoverResult]:
    """Prepare a search over the training span. notify: called on the job's thread after batches were kept."""
    searches, footing = Searches(project), Footing.of(project)
    history = footing.prepared(request.market, request.interval)
    brief = footing.brief(history.bars.terms)
    need_bars(history, brief.span)
    request = replace(request, others=tuple(m for m, _ in footing.ground.active if m != request.market),
                      own=own_operands(Path(footing.ground.folder)))
    before = searches.tried_on(request.market)
    # What is drawn follows from the limits and from what else may be read.
    asked = request.as_json() | {"count": 0, "seed": 0}
    rules = hashlib.sha256(json.dumps(asked, sort_keys=True).encode()).hexdigest()[:16]
    record = record_of(history, None, brief, seeds=(request.seed,), tried=before + request.count, rules=rules)
    days = days_of(history, brief)
    with project.transaction():
        search = searches.begin(now(), KIND, _title(request), request.as_json(), record=record, market=request.market,
                                interval=request.interval, cursor={"first": 0, "before": before})
        searches.add(search, DAYS, {"day": days})
    result = DiscoverResult(request, record, search, before)
    return _job(project, DiscoverWork(footing, request, brief, history.bars.hash, days), result, 0, notify), result


def resume_discover(project: Project, search: int,
                    notify: Callable[[DiscoverResult], None] = lambda result: None) -> tuple[Job, DiscoverResult]:
    """Go on with a search where it was. Raises UserError when it cannot be, such as on another history."""
    searches, footing = Searches(project), Footing.of(project)
    result = read_discover(project, search)
    request = result.request
    history = footing.prepared(request.market, request.interval)
    brief = brief_again(project, result.record, request.market, request.interval, same_engine=True)
    stored = searches.take_up(search)
    result.unfinished = False
    work = DiscoverWork(footing, request, brief, history.bars.hash, searches.rows(search, DAYS)["day"],
                        (stored.cursor or {}).get("elsewhere"))
    return _job(project, work, result, (stored.cursor or {}).get("first", 0), notify), result


def read_discover(project: Project, search: int) -> DiscoverResult:
    """A search as far as it came. Raises UserError where an older version kept too little of it."""
    searches = Searches(project)
    stored, record = searches.get(search), searches.record(search)
    if record is None or stored.cursor is None:
        raise UserError("this search was kept by an older version, without where it stood", stored.title, "Run it again.")
    c = stored.cursor
    return DiscoverResult(DiscoverRequest.from_json(stored.request), record, search, c.get("before", 0), c.get("tried", 0),
                          c.get("met", 0), c.get("kept", 0), c.get("twins", 0), c.get("few", 0),
                          stored.unfinished)


def last_discover(project: Project) -> DiscoverResult | None:
    """The newest search, as far as it came; None where there is none that says where it stood."""
    found = [s for s in Searches(project).all([KIND]) if s.cursor is not None]
    return read_discover(project, found[-1].id) if found else None


def daily_sample(project: Project, search: int) -> tuple[Days, NDArray[np.int64], NDArray[np.float32]]:
    """A uniform sample of all draws of a search, at most SAMPLE: trading dates int32[d], numbers of the draws int64[n] and
    their daily P/L float32[n, d], NaN before a run begins."""
    searches = Searches(project)
    days, table = searches.rows(search, DAYS).get("day", NO_DAYS), searches.rows(search, DAILY)
    if not table:
        return days, np.zeros(0, np.int64), np.zeros((0, len(days)), np.float32)
    at = sampled(DiscoverRequest.from_json(searches.get(search).request).seed, table["number"])
    return days, table["number"][at], table["daily"][at]
