"""Discover as a job: batches of random candidates on worker processes, kept ones straight to the Shelf."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.record import Record
from wolbrin.core.engine.run import need_bars, record_of
from wolbrin.core.jobs import Chunk, Job, State
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.inference import Tally
from wolbrin.core.search.discover import Found, explore
from wolbrin.core.search.grammar import Limits
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import Searches
from wolbrin.core.work.footing import Footing

Floats = NDArray[np.float64]
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

    footing: Footing
    market: str
    interval: int
    brief: Brief
    limits: Limits
    seed: int
    first: int
    count: int


@dataclass
class DiscoverResult:
    """Live tallies: tried, met the limits, put on the Shelf, twins of something kept before. record: what made it."""

    request: DiscoverRequest
    record: Record
    tried: int = 0
    met: int = 0
    kept: int = 0
    twins: int = 0
    ids: list[int] = field(default_factory=list)
    fingerprints: set[str] = field(default_factory=set)


def try_batch(batch: Batch) -> tuple[int, list[Found], Floats]:
    """Test one batch in a worker process: how many, those that met the limits, and every one's daily Sharpe ratio."""
    history = batch.footing.histories.prepared(batch.market, batch.interval)
    found, sharpe = explore(history, batch.brief, batch.limits, batch.seed, batch.first, batch.count)
    return batch.count, found, sharpe


def discover_job(project: Project, request: DiscoverRequest,
                 notify: Callable[[DiscoverResult], None] = lambda result: None) -> tuple[Job, DiscoverResult]:
    """Prepare a search over the training span. notify: called after each batch on the job's thread."""
    dossiers, searches, footing = Dossiers(project), Searches(project), Footing.of(project)
    history = footing.histories.prepared(request.market, request.interval)
    brief = footing.brief(history.bars.terms)
    need_bars(history, brief.span)
    before = searches.tried_on(request.market)
    rules = hashlib.sha256(request.limits.model_dump_json().encode()).hexdigest()[:16]
    record = record_of(history, None, brief, seeds=(request.seed,), tried=before + request.count, rules=rules)
    result = DiscoverResult(request, record)
    batches = [Batch(footing, request.market, request.interval, brief, request.limits, request.seed, first,
                     min(BATCH, request.count - first)) for first in range(0, request.count, BATCH)]
    title = f"Discover {request.market} {interval_words(request.interval)}"
    search = searches.begin(now(), "discover", title, request.as_json(), record=record, market=request.market,
                            interval=request.interval)

    def commit(outcome: tuple[int, list[Found], Floats]) -> None:
        tried, found, sharpe = outcome
        so_far = before + result.tried + tried
        kept = 0
        with project.transaction():
            for one in found:
                result.met += 1
                if one.fingerprint in result.fingerprints:
                    result.twins += 1
                    continue
                result.fingerprints.add(one.fingerprint)
                # What was looked at by now, this batch included; the Shelf counts on while the search does.
                c = one.candidate
                c = replace(c, tried=so_far, record=c.record.model_copy(update={"tried": so_far}))
                id = dossiers.keep(c, search)
                if id is None:
                    result.twins += 1
                else:
                    kept += 1
                    result.ids.append(id)
            searches.advance(search, tried, kept, sharpe=Tally.of(sharpe))
        result.tried += tried
        result.kept += kept
        notify(result)

    def finish(state: State) -> None:
        searches.advance(search, 0, 0, state.value)

    job = Job(title, "tried", [Chunk(b, b.count) for b in batches], try_batch, commit, finish)
    return job, result
