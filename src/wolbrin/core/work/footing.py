"""What a piece of work stands on: settings and histories as they were when it was asked for."""

from __future__ import annotations

from dataclasses import dataclass, field, fields
from typing import Any

from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.market.terms import Terms
from wolbrin.core.store.brought import BROUGHT
from wolbrin.core.store.ground import Ground, Histories, histories_of
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import OwnSpan, Settings


@dataclass(frozen=True)
class Footing:
    """Frozen: nothing is read from the project while work runs. Pickles as plain data; a worker process reads the histories
    itself, once."""

    settings: Settings
    ground: Ground
    _live: Histories | None = field(default=None, compare=False, repr=False)
    brought: frozenset[str] = frozenset()  # shapes of rules that came in with no word of how many were tried for them

    @classmethod
    def of(cls, project: Project) -> Footing:
        """The project as it is now."""
        live = project.histories
        return cls(project.settings, live.ground, live, frozenset(project.get_value(BROUGHT, {})))

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (self.settings, self.ground, None, self.brought)

    @property
    def histories(self) -> Histories:
        """The histories, up to the border."""
        return self._live if self._live is not None else histories_of(self.ground)

    def prepared(self, market: str, interval: int, content: str = "") -> Prepared:
        """A market at an interval, made ready for runs: the one way for all work, with the user's own indicators, other
        markets, finer bars and rates. content: hash of the bars that are meant.

        Raises:
            UserError: the bars are not those that are meant.
        """
        history = self.histories.prepared(market, interval)
        if content and history.bars.hash != content:
            raise UserError("the history has changed since this work was asked for", market, "Ask for it again.")
        return history

    def brief(self, terms: Terms, own: OwnSpan | None = None) -> Brief:
        """The training brief of a market; of a strategy with a training span of its own where it has one."""
        return self.settings.of(own).brief(terms)


class Request:
    """Base of frozen requests: dataclasses that travel as their fields, without what was worked out on the way."""

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), tuple(getattr(self, f.name) for f in fields(self))  # type: ignore[arg-type]
