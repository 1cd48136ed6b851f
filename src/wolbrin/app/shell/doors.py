"""Doors: where a message leads that names what mends it. Each puts the cursor into the setting itself."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

from PySide6.QtCore import QTimer

from wolbrin.app.places.registry import Places
from wolbrin.app.session import Session
from wolbrin.app.shell.brief_line import BriefLine
from wolbrin.core.rules.dated import undated


class Frame(Protocol):
    """What doors need of the window."""

    session: Session
    brief: BriefLine
    places: Places

    def go(self, key: str) -> None: ...

    def show_not_saved(self) -> None: ...

    def show_aside(self) -> None: ...


def _markets_page(window: Frame, page: str, field: str = "") -> None:
    """A page of Markets for the brief's market, with the cursor in one of its fields."""
    window.go("markets")
    place: Any = window.places["markets"]
    place.look_at_brief()
    place.show_page(page)
    if field:
        # The page fills itself when it is shown; the cursor comes after.
        QTimer.singleShot(0, place, lambda: place.pages[page].focus_on(field))


def _import(window: Frame) -> None:
    window.go("markets")
    place: Any = window.places["markets"]
    place.show_page("import")
    place.pages["import"].choose.setFocus()


def open_door(window: Frame, at: str) -> None:
    """Lead to a setting by its name; see DOORS."""
    DOORS[at](window)


DOORS: dict[str, Callable[[Frame], None]] = {
    "sessions": lambda w: _markets_page(w, "terms", "sessions"),
    "rate": lambda w: _markets_page(w, "terms", "conversion_rate"),
    "months": lambda w: _markets_page(w, "contracts"),
    "treatment": lambda w: _markets_page(w, "treatment"),
    "import": _import,
    "span": lambda w: w.brief.span.click(),
    "interval": lambda w: w.brief.interval.click(),
    "capital": lambda w: w.brief.capital.click(),
    "go on": lambda w: w.session.go_on_newest(),
    "undated": lambda w: w.session.edit(undated(w.session.strategy), "take the dated numbers off"),
    "portfolio": lambda w: w.go("portfolio"),
    "proving": lambda w: w.go("proving"),
    "not saved": lambda w: w.show_not_saved(),
    "aside": lambda w: w.show_aside(),
    "size": lambda w: w.brief.trade_size.click(),
}
