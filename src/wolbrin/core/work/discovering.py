"""Discover as a job: batches of random candidates on worker processes, kept ones straight to the Shelf."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Brief
from wolbrin.core.jobs import Chunk, Job, State
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.search.discover import Found, explore
from wolbrin.core.search.grammar import Limits
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.history import History
from wolbrin.core.store.project import Project

BATCH = 8


@dataclass(frozen=True)
class DiscoverRequest:
    market: str
    interval: int
    limits: Limits
    count: int = 5_000
    seed: int = 1

    def as_json(self) -> dict[str, Any]:
        return {"market": self.market, "interval": self.interval, "limits": self.limits.model_dump(mode="json"),
                "count": self.count, "seed": self.seed}


@dataclass(frozen=True)
class Batch:
    """What a worker process needs to test one batch; small, since it travels."""

    history: History
    rates: History | None
    interval: int
    brief: Brief
    limits: Limits
    seed: int
    first: int
    count: int


@dataclass
class DiscoverResult:
    """Live tallies: tried, met the limits, put on the Shelf, twins of something kept before."""

    request: DiscoverRequest
    tried: int = 0
    met: int = 0
    kept: int = 0
    twins: int = 0
    ids: list[int] = field(default_factory=list)
    fingerprints: set[str] = field(default_factory=set)


@lru_cache(maxsize=2)
def _prepared(history: History, rates: History | None, interval: int) -> Prepared:
    return Prepared.of(history.at(interval), finer=lambda: history.treated().bars,
                       rates=lambda: rates.treated().bars if rates else None)


def try_batch(batch: Batch) -> tuple[int, list[Found]]:
    """Test one batch in a worker process: how many, and those that met the limits."""
    history = _prepared(batch.history, batch.rates, batch.interval)
    return batch.count, explore(history, batch.brief, batch.limits, batch.seed, batch.first, batch.count)


def discover_job(project: Project, request: DiscoverRequest,
                 notify: Callable[[DiscoverResult], None] = lambda result: None) -> tuple[Job, DiscoverResult]:
    """Prepare a search over the training span. notify: called after each batch on the job's thread."""
    dossiers = Dossiers(project)
    entry = project.market(request.market)
    brief = project.settings.brief(entry.terms)
    result = DiscoverResult(request)
    history = project.history(request.market)
    rates = project.history(entry.terms.conversion_market) if entry.terms.conversion_market else None
    batches = [Batch(history, rates, request.interval, brief, request.limits,
                     request.seed, first, min(BATCH, request.count - first))
               for first in range(0, request.count, BATCH)]
    title = f"Discover {request.market} {interval_words(request.interval)}"
    search = dossiers.begin_search("discover", title, request.as_json())

    def commit(outcome: tuple[int, list[Found]]) -> None:
        tried, found = outcome
        kept = 0
        with project.transaction():
            for one in found:
                result.met += 1
                if one.fingerprint in result.fingerprints:
                    result.twins += 1
                    continue
                result.fingerprints.add(one.fingerprint)
                id = dossiers.keep(one.candidate, search)
                if id is None:
                    result.twins += 1
                else:
                    kept += 1
                    result.ids.append(id)
            dossiers.advance_search(search, tried, kept)
        result.tried += tried
        result.kept += kept
        notify(result)

    def finish(state: State) -> None:
        dossiers.advance_search(search, 0, 0, state.value)

    job = Job(title, "tried", [Chunk(b, b.count) for b in batches], try_batch, commit, finish)
    return job, result
