"""Changes of markets and sources: made beside the window, one after another in the order asked for."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from wolbrin.app.works import Works
from wolbrin.core.errors import Door, EnvironmentTrouble, WolbrinError

Step = tuple[str, Callable[[], Any], Callable[[Any], None] | None]


class Lane:
    """done(): called after each change that was made, or was refused for what it asks. What the machine kept from being made
    is told, may be tried again, and leaves the forms as they are."""

    def __init__(self, works: Works, done: Callable[[], None]) -> None:
        self._works, self._done = works, done
        self._steps: list[Step] = []
        self._failed: list[Step] = []

    def ask(self, title: str, function: Callable[[], Any], then: Callable[[Any], None] | None = None) -> None:
        """Do a change when those before it are done; then(result) where it worked."""
        self._steps.append((title, function, then))
        if len(self._steps) == 1:
            self._next()

    def again(self) -> None:
        """Try once more what the machine kept from being made."""
        failed, self._failed = self._failed, []
        for step in failed:
            self.ask(*step)

    def _next(self) -> None:
        title, function, then = step = self._steps[0]

        def work() -> Any:
            try:
                return function()
            except WolbrinError as err:
                return err

        def done(result: Any) -> None:
            self._steps.pop(0)
            if self._steps:
                self._next()
            if isinstance(result, EnvironmentTrouble):
                self._failed.append(step)
                self._works.note(f"Not saved: {title}. {result.sentence()}", "error", Door("Try again", "try again"))
                return
            if isinstance(result, WolbrinError):
                self._works.note(result.sentence(), "error")
            elif then is not None:
                then(result)
            self._done()

        self._works.compute(title, work, done)
