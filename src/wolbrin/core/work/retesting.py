"""Kept runs: run again from their record, and tested again on history that has grown since."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, replace
from typing import Any

from wolbrin.core.engine.run import Brief, Costs, Run, backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.store.dossier import KeptRun
from wolbrin.core.store.project import Project


def _day(text: str | None) -> dt.date | None:
    return dt.date.fromisoformat(text) if text else None


def brief_of(record: dict[str, Any]) -> Brief:
    """The question a record answers."""
    return Brief(Span(_day(record["first"]), _day(record["last"])), Costs.model_validate(record["costs"]), record["capital"],
                 record["most_bars"], bool(record.get("fine_fills", False)))


@dataclass(frozen=True)
class Again:
    """A kept run, run again. same: whether it gave the same bits. changed: what of its record is different now, in words."""

    run: Run
    same: bool
    changed: tuple[str, ...]


def run_again(project: Project, kept: KeptRun) -> Again:
    """Run a record again on today's history. Raises UserError when its market is gone."""
    record = kept.record
    history = project.prepared(record["market"], record["interval"])
    run = backtest(history, kept.strategy, brief_of(record))
    now = run.record()
    names = {"history": "the history", "engine": "the simulator's version", "conversion_history": "the conversion history"}
    changed = tuple(words for key, words in names.items() if record.get(key, now[key]) != now[key])
    return Again(run, run.fingerprint == kept.fingerprint, changed)


@dataclass(frozen=True)
class Retest:
    """before: the record's own span on today's history; after: the same question on the longer span. border: UTC ns where
    the record's data ended."""

    before: Run
    after: Run
    border: int


def retest(project: Project, kept: KeptRun) -> Retest:
    """Run a record on the training span as it reaches now; settings come from the record.

    Raises:
        UserError: the span has not grown since.
    """
    before = run_again(project, kept).run
    brief = before.brief
    training = project.settings.of(kept.strategy).training
    ends = before.bars.range_of(Span(None, training.last))[1]
    if ends <= before.last:
        raise UserError("the training span has no bars beyond those of this run", kept.name,
                        "Append newer history, or move the holdout to a later day.")
    after = backtest(project.prepared(kept.record["market"], kept.record["interval"]), kept.strategy,
                     replace(brief, span=Span(brief.span.first, training.last), most_bars=None))
    return Retest(before, after, int(before.bars.end[before.last - 1]) if before.last else 0)
