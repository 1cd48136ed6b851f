"""Changes of markets and sources: made beside the window, one after another in the order asked for."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from wolbrin.app.unsaved import Change, Unsaved
from wolbrin.app.works import Works
from wolbrin.core.errors import EnvironmentTrouble, WolbrinError

Step = tuple[str, Callable[[], Any], Callable[[Any], None] | None]


class Lane:
    """done(): called after each change that was made or was refused for what it asks. What the machine kept from being made
    is held in `unsaved`, tried again, and leaves the forms as they are."""

    def __init__(self, works: Works, unsaved: Unsaved, done: Callable[[], None]) -> None:
        self._works, self._unsaved, self._done = works, unsaved, done
        self._steps: list[Step] = []

    def ask(self, title: str, function: Callable[[], Any], then: Callable[[Any], None] | None = None) -> None:
        """Do a change when those before it are done; then(result) where it worked."""
        step = (title, function, then)
        if step in self._steps:
            return  # it is being tried
        self._steps.append(step)
        if len(self._steps) == 1:
            self._next()

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
            known = self._unsaved.value(("lane", title)) is not None
            if isinstance(result, EnvironmentTrouble):
                self._hold(step, result, known)
                return
            if known:
                self._unsaved.drop(("lane", title))
            if isinstance(result, WolbrinError):
                self._works.note(result.sentence(), "error")
            else:
                if known:
                    self._works.note(f"Saved now: {title}.")
                if then is not None:
                    then(result)
            self._done()

        self._works.compute(title, work, done)

    def _hold(self, step: Step, err: EnvironmentTrouble, known: bool) -> None:
        if not known:
            self._works.note(f"Not saved, and kept in this window: {step[0]}. {err.sentence()}", "error")
        self._unsaved.hold(("lane", step[0]), Change(step[0], step, later=lambda: self.ask(*step), error=err))
