"""The line of gates as a job: candidates one by one, every verdict into the dossier."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from wolbrin.core.jobs import Chunk, Job
from wolbrin.core.proving.gate import Case, Gate, Outcome
from wolbrin.core.proving.line import GATES, walk_line
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.dossier import Dossiers, Evidence, Kept
from wolbrin.core.store.project import Project


@dataclass(frozen=True)
class Subject:
    """What is proved: a strategy on a market at an interval, found after looking at `tried` alternatives."""

    strategy: Strategy
    market: str
    interval: int
    tried: int = 1

    @classmethod
    def of(cls, kept: Kept) -> Subject:
        c = kept.candidate
        return cls(c.strategy, c.market, c.interval, c.tried)

    @property
    def key(self) -> tuple[str, str, int]:
        return strategy_hash(self.strategy), self.market, self.interval


def case_of(project: Project, subject: Subject) -> Case:
    history = project.prepared(subject.market, subject.interval)
    settings = project.settings.of(subject.strategy)
    return Case(subject.strategy, history, settings.brief(history.bars.terms), settings.holdout, subject.tried)


def prove_job(project: Project, subjects: list[Subject], *, open_holdout: bool, gates: tuple[Gate, ...] = GATES,
              notify: Callable[[Subject, list[Outcome]], None] = lambda subject, outcomes: None) -> Job:
    """Prepare the line for several subjects. Opening the holdout is counted once per subject that reaches it.

    notify: called after each subject on the job's thread.
    """
    dossiers = Dossiers(project)

    def work(subject: Subject) -> tuple[Subject, list[Outcome]]:
        return subject, walk_line(case_of(project, subject), gates, open_holdout=open_holdout)

    def commit(result: tuple[Subject, list[Outcome]]) -> None:
        subject, outcomes = result
        opening = {g.key for g in gates if g.opens_holdout}
        with project.transaction():
            for outcome in outcomes:
                dossiers.testify(*subject.key, outcome)
                if outcome.gate in opening:
                    project.add_opening(f"{outcome.gate} gate: {subject.strategy.name} on {subject.market}")
        notify(subject, outcomes)

    return Job("Proving", "candidates", [Chunk(s) for s in subjects], work, commit)


def standing(found: dict[str, Evidence], gates: tuple[Gate, ...] = GATES) -> str:
    """Where a candidate stands on the line: "stands" (all gates passed), "falls: <gate>", "sealed" (only the holdout
    is left) or "open" (not proved yet)."""
    for gate in gates:
        if gate.key not in found:
            waiting_for_holdout = gate.opens_holdout and gate is not gates[0]
            return "sealed" if waiting_for_holdout else "open"
        if found[gate.key].verdict == "falls":
            return f"falls: {gate.title}"
    return "stands"
