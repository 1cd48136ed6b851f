"""The brief of a stored search, asked again."""

from __future__ import annotations

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.record import Record
from wolbrin.core.engine.version import engine_version
from wolbrin.core.errors import UserError
from wolbrin.core.store.project import Project
from wolbrin.core.work.footing import Footing


def brief_again(project: Project, record: Record | None, market: str, interval: int, *, same_engine: bool = False) -> Brief:
    """The brief of a stored search, if it can still be asked. same_engine: results are to be added to those it has.

    Raises:
        UserError: it was not recorded, or the history (or the simulator, where it matters) is not the one it ran on.
    """
    if record is None or not record.whole:
        raise UserError("the brief of this search was not recorded", market, "Run it again.")
    if project.prepared(market, interval).bars.hash != record.history:
        raise UserError("the history has changed since this search ran", market, "Run it again.")
    if same_engine and record.engine != engine_version():
        raise UserError("the simulator has changed since this search ran: new results would not belong to the old", market,
                        "Run it again.")
    return record.brief


def same_elsewhere(footing: Footing, before: dict[str, str], what: str) -> None:
    """Raises UserError where another market that rows read is not what it was. before: hashes by market and interval; what:
    "search", for one."""
    for place, content in before.items():
        market, _, interval = place.rpartition(" ")
        if market not in dict(footing.ground.active):
            raise UserError(f"another market that this {what} reads is gone", market, f"Run the {what} again.")
        if footing.prepared(market, int(interval)).bars.hash != content:
            raise UserError(f"another market that this {what} reads has changed since it began", market,
                            f"Run the {what} again.")
