"""What the states of all places that run a search share: whether it runs, and whether it can be gone on with."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QObject

from wolbrin.app.session import Session
from wolbrin.core.jobs import Job


class SearchState(QObject):
    """result: the search that is shown; job: what it runs in, None where it is only looked at."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.result: Any = None
        self.job: Job | None = None

    @property
    def running(self) -> bool:
        return self.job is not None and not self.job.state.over

    @property
    def unfinished(self) -> bool:
        """Whether the search shown can be gone on with."""
        return self.result is not None and self.result.unfinished and not self.running

    def go_on(self) -> None:
        """Go on with the search shown."""
        if self.unfinished:
            self.session.go_on(self.result.search)
