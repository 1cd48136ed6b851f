"""What the searches that found candidates know of luck, each search read once."""

from __future__ import annotations

import math
from collections.abc import Hashable
from dataclasses import dataclass, replace
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.proving.gate import Origin
from wolbrin.core.search.deflated import Trials
from wolbrin.core.search.luck import Luck, Strength
from wolbrin.core.search.superior import Superior, superior
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches, StoredSearch
from wolbrin.core.work.discover_results import strength
from wolbrin.core.work.discovering import KIND, daily_sample, read_discover
from wolbrin.core.work.sweep_results import KIND as SWEEP
from wolbrin.core.work.sweep_results import daily_of_sweep, read_sweep
from wolbrin.core.work.sweep_statistics import of_market

Floats = NDArray[np.float64]
LEAST_KEPT = 0.95  # of a sweep's sets whose daily results must be there to speak of its whole universe


@dataclass(frozen=True)
class _Tried:
    """What was tried on one place. trials: None where no daily results were kept."""

    trials: Trials | None
    universe: Superior | None


class Origins:
    """Threads may share it."""

    def __init__(self, project: Project) -> None:
        self._project, self._lock = project, Lock()
        self._searches: dict[int, StoredSearch | None] = {}
        self._luck: dict[int, tuple[Luck, Strength] | None] = {}
        self._tried: dict[tuple[int, str, int], _Tried] = {}

    def of(self, search: int | None, market: str, interval: int, number: int | None) -> Origin | None:
        """Of a candidate by the search that found it and its draw there; None where no search did.

        Raises:
            UserError: the search still runs, so that what luck brings beside it is not known yet.
        """
        if search is None:
            return None
        with self._lock:
            if search not in self._searches:
                self._searches[search] = self._search(search)
            stored = self._searches[search]
            if stored is None:
                return None
            if search not in self._luck:
                self._luck[search] = self._read(stored)
            if (search, market, interval) not in self._tried:
                self._tried[search, market, interval] = self._all(stored, market, interval)
        found, tried = self._luck[search], self._tried[search, market, interval]
        if found is None:
            return Origin(search, 0, math.nan, math.nan, trials=tried.trials, universe=tried.universe)
        luck, curve = found
        name: Hashable = (market, interval, number)
        made = origin_of(search, luck, curve, curve.of.get(name, math.nan))
        return replace(made, trials=tried.trials, universe=tried.universe)

    def _search(self, search: int) -> StoredSearch | None:
        try:
            stored = Searches(self._project).get(search)
        except WolbrinError:
            return None
        if stored.state == "running" and stored.kind in (KIND, SWEEP):
            raise UserError(f"the search that found it, {stored.title}, still runs", "proving",
                            "A verdict is for good: wait until the search ends, or stop it.")
        return stored

    def _read(self, stored: StoredSearch) -> tuple[Luck, Strength] | None:
        if stored.kind != KIND:
            return None
        try:
            result = read_discover(self._project, stored.id)
        except WolbrinError:
            return None  # a search that cannot be read says nothing of luck
        if not result.luck.controls:
            return None
        return result.luck, strength(self._project, result)

    def _all(self, stored: StoredSearch, market: str, interval: int) -> _Tried:
        """How different all was that it tried on a place, from the daily results it kept."""
        try:
            if stored.kind == SWEEP:
                daily, whole = swept(self._project, stored.id, market)
                return _Tried(Trials.of(daily, len(daily)), superior(daily) if whole else None) if len(daily) else _NOTHING
            if stored.kind == KIND:
                places = read_discover(self._project, stored.id).request.places
                place = next((i for i, p in enumerate(places) if tuple(p) == (market, interval)), None)
                if place is not None:
                    _, _, sample = daily_sample(self._project, stored.id, place)
                    return _Tried(Trials.of(np.nan_to_num(sample), stored.tried), None) if len(sample) else _NOTHING
        except WolbrinError:
            pass  # it says nothing then; luck is judged by what is known
        return _NOTHING


_NOTHING = _Tried(None, None)


def swept(project: Project, search: int, market: str) -> tuple[Floats, bool]:
    """Daily results of everything a sweep tried on a market, and of those it refines, float64[n, d]; and whether that is all
    of it."""
    result = read_sweep(project, search)
    parts, tried = [], 0
    for one in (result, *result.older):
        settings, _ = one.table()
        tried += int(of_market(one.request, settings, market).sum())
        _, table = daily_of_sweep(project, one.search, market)
        if table:
            parts.append(np.nan_to_num(table["daily"].astype(np.float64)))
    if not parts or len({p.shape[1] for p in parts}) > 1:
        return np.zeros((0, 0)), False
    daily = np.concatenate(parts)
    return daily, len(daily) >= LEAST_KEPT * tried


def origin_of(search: int, luck: Luck, curve: Strength, strength: float) -> Origin:
    """What a search says of one of its finds."""
    return Origin(search, len(luck.controls), strength, curve.at(strength), curve.by_luck, curve.at, luck.kept > luck.sure,
                  curve.sure)
