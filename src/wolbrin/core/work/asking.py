"""What somebody must answer before anything may be opened: whose openings elsewhere were, why one market leads, how many were
tried."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from wolbrin.core.engine.record import Record, markets_in
from wolbrin.core.errors import WolbrinError
from wolbrin.core.store.book_journal import Elsewhere
from wolbrin.core.store.brought import BROUGHT, bring, unknown_tried
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.leads import Led, leads_between


@dataclass(frozen=True)
class Asked:
    """elsewhere: openings of the same bars in other projects that nobody answered for; leads: of markets that candidates
    read; unknown: Shelf ids of those of which nothing says how many were tried."""

    elsewhere: tuple[Elsewhere, ...] = ()
    leads: tuple[Led, ...] = ()
    unknown: tuple[int, ...] = ()

    @property
    def words(self) -> str:
        """The first of them, "" for nothing."""
        if self.elsewhere:
            return self.elsewhere[0].words
        if self.leads:
            one = self.leads[0]
            return f"{one.words[:1].upper()}{one.words[1:]}: more than any market shows. Look at the bars of {one.other}."
        if self.unknown:
            n = len(self.unknown)
            return (f"Of {n:,} candidate{'s' if n > 1 else ''} nothing says how many were tried for "
                    f"{'them' if n > 1 else 'it'} before.")
        return ""


def asked_for(project: Project, footing: Footing, candidates: Sequence[tuple[int, Record]]) -> Asked:
    """What is asked for some candidates, by Shelf id and record."""
    pairs = {(other, record.market, record.interval) for _, record in candidates for other in markets_in(record.histories)}
    leads = []
    for other, traded, interval in sorted(pairs):
        try:
            led = leads_between(footing, other, traded, interval)
        except WolbrinError:
            continue  # such as a market that is gone; whoever runs it is told
        if led.open:
            leads.append(led)
    unknown: tuple[int, ...] = ()
    if project.get_value(BROUGHT, {}):
        kept = Shelf(project).bodies([i for i, _ in candidates])
        unknown = tuple(k.id for k in kept if unknown_tried(project, k.candidate.strategy))
    return Asked(tuple(project.journal.unanswered()), tuple(leads), unknown)


def say_tried(project: Project, ids: Sequence[int], tried: int) -> None:
    """Say how many were tried for each of some candidates before they came here."""
    for k in Shelf(project).bodies(list(ids)):
        if unknown_tried(project, k.candidate.strategy):
            bring(project, k.candidate.strategy, k.candidate.market, k.candidate.interval, tried)
