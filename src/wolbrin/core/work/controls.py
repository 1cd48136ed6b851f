"""How many controls a verdict needs: told before a search, and added after it where so few could not tell."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable

from wolbrin.core.engine.record import Record
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Job
from wolbrin.core.market.costs import Costs
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import NOT_ENOUGH
from wolbrin.core.proving.luck import LuckGate
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.study.percent import percent_words
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discover_results import DiscoverResult
from wolbrin.core.work.discovering import resume_discover
from wolbrin.core.work.lines import gates_of
from wolbrin.core.work.standing import Standings


def told_before(project: Project, request: DiscoverRequest) -> str:
    """What so many controls can tell of a single find, by the threshold of the line in use; no stop at the end."""
    gate = next((g for g in gates_of(project) if isinstance(g, LuckGate)), LuckGate())
    most = gate.options.most_share
    counting = math.ceil(1.0 / most)
    text = f"Luck's share of a single find can be counted down to {most:.0%} by {counting} controls"
    if not request.controls:
        return f"{text}; without any, finds are judged as the best of all that was tried"
    if request.controls >= counting:
        return f"{text}, and {number(request.controls)} run"
    how = "the strongest of each" if request.bred else "the tail of all that they try"
    return f"{text}; with {number(request.controls)} it is told by {how}, and more can be added afterwards"


def percent_note(project: Project, market: str, rules: Model, flat: bool, record: Record | None) -> str:
    """What of some rules, or of the limits of a search, is in percent of price; see `percent_words`."""
    terms = project.market(market).terms
    return percent_words(rules, flat, record.costs if record is not None else Costs.of(terms), terms)


def wanted(project: Project, ids: Iterable[int] | None = None) -> dict[int, tuple[int, list[int]]]:
    """By search: how many controls in all its candidates need that Luck could not judge for want of them, and these
    candidates' Shelf ids. ids: among these only."""
    shelf, standings = Shelf(project), Standings(project)
    some = [r["id"] for r in project.rows("SELECT id FROM candidates WHERE stands = ? AND search IS NOT NULL ORDER BY id",
                                          NOT_ENOUGH)]
    if ids is not None:
        chosen = set(ids)
        some = [i for i in some if i in chosen]
    out: dict[int, tuple[int, list[int]]] = {}
    for id in some:
        kept = shelf.body(id)
        if kept is None or kept.search is None:
            continue
        evidence = standings.of(kept).evidence.get(LuckGate.key)
        needed = evidence.outcome.get("controls_needed", math.nan) if evidence is not None else math.nan
        if evidence is None or evidence.verdict != NOT_ENOUGH or not isinstance(needed, int | float) or needed != needed:
            continue
        most, several = out.get(kept.search, (0, []))
        out[kept.search] = max(most, int(needed)), [*several, id]
    return out


def more_controls_job(project: Project, search: int, controls: int,
                      notify: Callable[[DiscoverResult], None] = lambda result: None) -> Job:
    """Let a search have so many controls in all. Raises UserError as `resume_discover` does."""
    if controls < 1:
        raise UserError("at least one control is needed", "controls", "Change the number.")
    return resume_discover(project, search, notify, controls=controls)[0]
