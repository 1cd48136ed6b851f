"""What the searches that found candidates know of luck, each search read once."""

from __future__ import annotations

import math
from collections.abc import Hashable
from threading import Lock

from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.proving.gate import Origin
from wolbrin.core.search.luck import Luck, Strength
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.work.discover_results import strength
from wolbrin.core.work.discovering import KIND, read_discover


class Origins:
    """Threads may share it."""

    def __init__(self, project: Project) -> None:
        self._project, self._lock = project, Lock()
        self._known: dict[int, tuple[Luck, Strength] | None] = {}

    def of(self, search: int | None, market: str, interval: int, number: int | None) -> Origin | None:
        """Of a candidate by the search that found it and its draw there; None where no search with controls did.

        Raises:
            UserError: the search still runs, so that what luck brings beside it is not known yet.
        """
        if search is None or number is None:
            return None
        with self._lock:
            if search not in self._known:
                self._known[search] = self._read(search)
        found = self._known[search]
        if found is None:
            return None
        luck, curve = found
        name: Hashable = (market, interval, number)
        return origin_of(search, luck, curve, curve.of.get(name, math.nan))

    def _read(self, search: int) -> tuple[Luck, Strength] | None:
        try:
            stored = Searches(self._project).get(search)
        except WolbrinError:
            return None
        if stored.kind != KIND:
            return None
        if stored.state == "running":
            raise UserError(f"the search that found it, {stored.title}, still runs", "proving",
                            "A verdict is for good: wait until the search ends, or stop it.")
        try:
            result = read_discover(self._project, search)
        except WolbrinError:
            return None  # a search that cannot be read says nothing of luck
        if not result.luck.controls:
            return None
        return result.luck, strength(self._project, result)


def origin_of(search: int, luck: Luck, curve: Strength, strength: float) -> Origin:
    """What a search says of one of its finds."""
    return Origin(search, len(luck.controls), strength, curve.at(strength), curve.by_luck, curve.at, luck.kept > luck.sure,
                  curve.sure)
