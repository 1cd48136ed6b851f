"""Kept runs: run again from their record, and tested again on history that has grown since."""

from __future__ import annotations

from dataclasses import dataclass, replace

from wolbrin.core.engine.record import NOT_RECORDED
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span
from wolbrin.core.store.dossier import KeptRun
from wolbrin.core.store.project import Project


@dataclass(frozen=True)
class Again:
    """A kept run, run again. same: whether it gave the same bits. changed: what of its record is different now, in words."""

    run: Run
    same: bool
    changed: tuple[str, ...]


def run_again(project: Project, kept: KeptRun) -> Again:
    """Run a record again on today's history. Raises UserError when its market is gone."""
    record = kept.record
    history = project.prepared(record.market, record.interval)
    run = backtest(history, kept.strategy, record.brief)
    now = run.record()
    names = {"history": "the history", "engine": "the simulator's version", "histories": "another history it reads"}
    changed = [words for key, words in names.items() if getattr(record, key) != getattr(now, key)]
    if not record.whole:
        changed = [NOT_RECORDED]
    return Again(run, run.fingerprint == kept.fingerprint, tuple(changed))


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
    training = project.settings.training
    ends = before.bars.range_of(Span(None, training.last))[1]
    if ends <= before.last:
        raise UserError("the training span has no bars beyond those of this run", kept.name,
                        "Append newer history, or move the holdout to a later day.")
    after = backtest(project.prepared(kept.record.market, kept.record.interval), kept.strategy,
                     replace(brief, span=Span(brief.span.first, training.last), most_bars=None))
    return Retest(before, after, int(before.bars.end[before.last - 1]) if before.last else 0)
