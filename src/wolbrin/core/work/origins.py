"""What the searches that found candidates know of luck, each search read once."""

from __future__ import annotations

import math
from collections.abc import Hashable
from dataclasses import dataclass
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.proving.gate import Origin
from wolbrin.core.search.deflated import Hurdle
from wolbrin.core.search.luck import Luck
from wolbrin.core.search.strength import Strength
from wolbrin.core.search.superior import Superior, superior
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches, StoredSearch
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discover_results import strength
from wolbrin.core.work.discover_seen import chosen_after
from wolbrin.core.work.discovering import KIND, read_discover, tried_there
from wolbrin.core.work.scan_tries import scanned_on
from wolbrin.core.work.sweep_luck import read_luck
from wolbrin.core.work.sweep_results import KIND as SWEEP
from wolbrin.core.work.sweep_results import daily_of_sweep, read_sweep
from wolbrin.core.work.sweep_statistics import of_market

Floats = NDArray[np.float64]
LEAST_KEPT = 0.95  # of a sweep's sets whose daily results must be there to speak of its whole universe


@dataclass(frozen=True)
class _Tried:
    """What was tried on one place: how much, and Hansen's test over it where all daily results were kept."""

    count: int
    hurdle: Hurdle | None = None
    universe: Superior | None = None


class Origins:
    """Threads may share it."""

    def __init__(self, project: Project) -> None:
        self._project, self._lock = project, Lock()
        self._searches: dict[int, StoredSearch | None] = {}
        self._luck: dict[int, tuple[Luck, Strength] | None] = {}
        self._tried: dict[tuple[int, str, int], _Tried] = {}
        self._notes: dict[int, str] = {}
        self._reach: dict[tuple[int, str], tuple[bool, float]] = {}

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
            if (search, market) not in self._reach:
                self._reach[search, market] = self._chosen(stored, market)
            if (search, market, interval) not in self._tried:
                self._tried[search, market, interval] = self._all(stored, market, interval)
        found, tried = self._luck[search], self._tried[search, market, interval]
        if found is None:
            return Origin(search, tried.count, hurdle=tried.hurdle, universe=tried.universe, note=self._notes.get(search, ""))
        luck, curve = found
        name: Hashable = (market, interval, number)
        informed, reach = self._reach[search, market]
        return Origin(search, tried.count, curve.of.get(name, math.nan), luck, curve, tried.hurdle, tried.universe,
                      scanned=scanned_on(self._project, market) if informed else 0, reach=reach)

    def _chosen(self, stored: StoredSearch, market: str) -> tuple[bool, float]:
        """Whether a search looked first, as its controls did; and what its finds must be as strong as."""
        if stored.kind != KIND:
            return False, math.nan
        try:
            request = DiscoverRequest.from_json(stored.request)
        except WolbrinError:
            return False, math.nan
        return request.method == "informed", chosen_after(self._project, stored.id, request, market)

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
        if not result.request.comparable and result.request.controls:
            self._notes[stored.id] = ("The controls of its search were dealt by an older program, which did not hold the "
                                      "ranges of days, and say nothing")
        if not result.luck.controls:
            return None
        return result.luck, strength(self._project, result)

    def _all(self, stored: StoredSearch, market: str, interval: int) -> _Tried:
        """How much it tried on a place, and what luck came to."""
        try:
            if stored.kind == SWEEP:
                return self._swept(stored, market)
            if stored.kind == KIND:
                result = read_discover(self._project, stored.id)
                place = next((i for i, p in enumerate(result.request.places) if tuple(p) == (market, interval)), None)
                if place is not None:
                    days, count = tried_there(self._project, stored.id, place)
                    return _Tried(count, Hurdle.of(result.best_by_luck("best_sharpe"), count, days))
        except WolbrinError:
            pass  # it says nothing then; luck is judged by what is known
        return _Tried(stored.tried)

    def _swept(self, stored: StoredSearch, market: str) -> _Tried:
        daily, tried, whole = swept(self._project, stored.id, market)
        if not len(daily):
            return _Tried(tried)
        luck = read_luck(self._project, read_sweep(self._project, stored.id))
        best = luck.of(market).sharpe.tolist() if luck is not None else ()
        return _Tried(tried, Hurdle.of(best, tried, daily.shape[1]), superior(daily) if whole else None)


def swept(project: Project, search: int, market: str) -> tuple[Floats, int, bool]:
    """Daily results of everything a sweep tried on a market, and of those it refines, float64[n, d]; how much that was, and
    whether these are all of it."""
    result = read_sweep(project, search)
    parts, tried = [], 0
    for one in (result, *result.older):
        settings, _ = one.table()
        tried += int(of_market(one.request, settings, market).sum())
        _, table = daily_of_sweep(project, one.search, market)
        if table:
            parts.append(np.nan_to_num(table["daily"].astype(np.float64)))
    if not parts or len({p.shape[1] for p in parts}) > 1:
        return np.zeros((0, 0)), tried, False
    daily = np.concatenate(parts)
    return daily, tried, len(daily) >= LEAST_KEPT * tried
