"""Actions as data: declared once, they serve the menu, the palette, the help sheet and the tests."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Action:
    """place: where it belongs ("" for everywhere). enabled: asked whenever it is shown or called."""

    id: str
    title: str
    act: Callable[[], object]
    shortcut: str = ""
    place: str = ""
    enabled: Callable[[], bool] = lambda: True
