"""Keeping what is edited: strategies with what they were when they were opened, settings as they are now, small state."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from wolbrin.app.unsaved import Change, Unsaved
from wolbrin.core.errors import UserError
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import OwnSpan, Settings
from wolbrin.core.store.strategies import StrategyEntry

SEALS = {"holdout_first", "last", "training_first", "training_last"}  # settings that say what is sealed, or seen
Way = Callable[[], None]


class Keeping:
    """Writes through to a project; what cannot be kept now waits in `unsaved`."""

    def __init__(self, project: Project, unsaved: Unsaved) -> None:
        self._project, self._unsaved = project, unsaved
        self._versions: dict[int, int] = {}  # of the strategies that were opened: what a change of them is a change of

    def know(self, entries: Iterable[StrategyEntry]) -> None:
        """These were read just now."""
        self._versions |= {e.id: e.version for e in entries}

    def strategy(self, id: int, strategy: Strategy, market: str, interval: int, as_new: Way, theirs: Way) -> None:
        """Keep a strategy. as_new, theirs: the ways out when another program has changed or deleted it meanwhile."""
        def act() -> None:
            self._versions[id] = self._project.change_strategy(strategy, market, interval, id, self._versions.get(id, 0))

        self._unsaved.keep(("strategy", id), Change(f'the strategy "{strategy.name}"', (strategy, market, interval), act,
                                                    strategy.name, strategy.model_dump_json(indent=2) + "\n",
                                                    as_new=as_new, theirs=theirs))

    def opened(self, id: int) -> tuple[Strategy, str, int, OwnSpan | None]:
        """A strategy as it is now, with market, interval and own span; as it waits, where it could not be kept.

        Raises:
            UserError: it is gone.
        """
        waits = self._unsaved.value(("strategy", id))
        entry = next((e for e in self._project.strategies() if e.id == id), None)
        own = entry.own if entry is not None else None
        if waits is not None:
            return (*waits, own)
        if entry is None:
            raise UserError("this strategy is gone: another program has deleted it", str(id), "Open another one.")
        self._versions[id] = entry.version
        return entry.strategy, entry.market, entry.interval, own

    def drop_strategy(self, id: int) -> None:
        """What waits of a strategy is not wanted any more."""
        self._unsaved.drop(("strategy", id))

    def remember(self, key: str, value: Any) -> None:
        """Keep a small piece of state; when that cannot be now, later, and nobody is asked about it."""
        self._unsaved.keep(("value", key), Change(key, value, lambda: self._project.set_value(key, value), quiet=True))

    def settings(self, changes: dict[str, Any], spend: str = "") -> Settings:
        """Change some settings as they are now, by this program or another. Returns all of them. What moves a seal is kept
        now or not at all.

        Raises:
            UserError, ValueError: they cannot be so. EnvironmentTrouble: a seal cannot be moved now.
        """
        changes = (self._unsaved.value("settings") or {}) | changes

        def made() -> Settings:
            return Settings.model_validate(self._project.settings.model_dump() | changes)

        def act() -> None:
            self._project.update_settings(made(), spend)

        found = made()
        if spend or SEALS & set(changes):
            act()
            self._unsaved.drop("settings")
        else:
            self._unsaved.keep("settings", Change("settings of the project", changes, act, "settings",
                                                  found.model_dump_json(indent=2) + "\n"))
        return found
