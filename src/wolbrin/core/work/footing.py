"""What a piece of work stands on: settings and histories as they were when it was asked for."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from wolbrin.core.engine.brief import Brief
from wolbrin.core.market.terms import Terms
from wolbrin.core.store.ground import Ground, Histories, histories_of
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import OwnSpan, Settings


@dataclass(frozen=True)
class Footing:
    """Frozen: nothing is read from the project while work runs. Pickles as plain data; a worker process reads the histories
    itself."""

    settings: Settings
    ground: Ground
    _live: Histories | None = field(default=None, compare=False, repr=False)

    @classmethod
    def of(cls, project: Project) -> Footing:
        """The project as it is now."""
        live = project.histories
        return cls(project.settings, live.ground, live)

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (self.settings, self.ground)

    @property
    def histories(self) -> Histories:
        """The histories, up to the border."""
        return self._live if self._live is not None else histories_of(self.ground)

    def brief(self, terms: Terms, own: OwnSpan | None = None) -> Brief:
        """The training brief of a market; of a strategy with a training span of its own where it has one."""
        return self.settings.of(own).brief(terms)
