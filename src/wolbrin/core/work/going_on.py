"""Going on with searches that were stopped, or whose program ended under them. One list: each kind with how it goes on."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Job, Kind
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import KINDS, Searches, StoredSearch, check_version
from wolbrin.core.work import discovering, scan_tries, scanning, sweep_luck, sweeping, trialing, walk_results, walking

Resume = Callable[[Project, int, Callable[[Any], None]], tuple[Job, Any]]


@dataclass(frozen=True)
class Tool:
    """A kind of search. lane: where its pieces run. place: where it is looked at. resume: makes the job that goes on, and its
    result."""

    kind: str
    lane: Kind
    place: str
    resume: Resume


TOOLS = (Tool(sweeping.KIND, "threads", "sweep", sweeping.resume_sweep),
         Tool(sweep_luck.KIND, "threads", "sweep", sweep_luck.resume_luck),
         Tool(trialing.KIND, "threads", "study", trialing.resume_trial),
         Tool(scan_tries.KIND, "threads", "study", scanning.resume_scan),
         Tool(discovering.KIND, "threads", "discover", discovering.resume_discover),
         Tool(walk_results.KIND, "threads", "proving", walking.resume_walk))


def tool_of(search: StoredSearch) -> Tool:
    """What knows how to go on with a search. Raises UserError where nothing here does."""
    check_version(search)
    for tool in TOOLS:
        if tool.kind == search.kind:
            return tool
    raise UserError(f"a search of the kind {search.kind} cannot be gone on with", search.title, "Start a new one.")


def listed(project: Project) -> list[StoredSearch]:
    """All searches that have rows or finds of their own, oldest first."""
    return Searches(project).all(KINDS)


def go_on(project: Project, search: int, notify: Callable[[Any], None] = lambda result: None) -> tuple[Tool, Job, Any]:
    """The job that goes on with a search, not started yet, and its result, which grows from where it was.

    Raises:
        UserError: it is finished, running, of a newer program, or on a history or simulator that has changed.
    """
    tool = tool_of(Searches(project).get(search))
    job, result = tool.resume(project, search, notify)
    return tool, job, result
