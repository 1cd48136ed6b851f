"""The brief of a stored search, asked again."""

from __future__ import annotations

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.record import Record
from wolbrin.core.engine.version import engine_version
from wolbrin.core.errors import UserError
from wolbrin.core.store.project import Project


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
