"""The one list of places. To add one: its folder, and an entry here; rail, menu, keys and tests take it from this list.

A place is made, and its code read, when it is first shown.
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass

from wolbrin.app.places.place import Place
from wolbrin.app.session import Session
from wolbrin.core.errors import WolbrinError
from wolbrin.core.measures.wording import number

Counts = dict[str, int]


@dataclass(frozen=True)
class Entry:
    """shortcut: with Alt. count: its live count in the rail, in words. make: the place. drawer: whether a strategy's evidence
    belongs beside it from the start."""

    key: str
    title: str
    shortcut: str
    count: Callable[[Counts], str]
    make: Callable[[Session], Place]
    drawer: bool = False


def _n(count: int, one: str, many: str = "") -> str:
    return f"{number(count)} {one if count == 1 else many or one + 's'}"


def _markets(session: Session) -> Place:
    from wolbrin.app.places.markets.view import MarketsPlace  # late
    return MarketsPlace(session)


def _rules(session: Session) -> Place:
    from wolbrin.app.places.rules.view import RulesPlace  # late
    return RulesPlace(session)


def _study(session: Session) -> Place:
    from wolbrin.app.places.study.view import StudyPlace  # late
    return StudyPlace(session)


def _backtest(session: Session) -> Place:
    from wolbrin.app.places.backtest.view import BacktestPlace  # late
    return BacktestPlace(session)


def _sweep(session: Session) -> Place:
    from wolbrin.app.places.sweep.view import SweepPlace  # late
    return SweepPlace(session)


def _discover(session: Session) -> Place:
    from wolbrin.app.places.discover.view import DiscoverPlace  # late
    return DiscoverPlace(session)


def _shelf(session: Session) -> Place:
    from wolbrin.app.places.shelf.view import ShelfPlace  # late
    return ShelfPlace(session)


def _proving(session: Session) -> Place:
    from wolbrin.app.places.proving.view import ProvingPlace  # late
    return ProvingPlace(session)


def _overlap(session: Session) -> Place:
    from wolbrin.app.places.overlap.view import OverlapPlace  # late
    return OverlapPlace(session)


def _portfolio(session: Session) -> Place:
    from wolbrin.app.places.portfolio.view import PortfolioPlace  # late
    return PortfolioPlace(session)


def _rehearsal(session: Session) -> Place:
    from wolbrin.app.places.rehearsal.view import RehearsalPlace  # late
    return RehearsalPlace(session)


PLACES: list[Entry] = [
    Entry("markets", "Markets", "1", lambda c: _n(c["markets"], "market"), _markets),
    Entry("rules", "Rules", "2", lambda c: _n(c["strategies"], "strategy", "strategies"), _rules),
    Entry("study", "Study", "3", lambda c: _n(c["studies"], "study", "studies"), _study),
    Entry("backtest", "Backtest", "4", lambda c: f"{_n(c['runs'], 'run')} kept", _backtest, drawer=True),
    Entry("sweep", "Sweep", "5", lambda c: _n(c["sweeps"], "sweep"), _sweep),
    Entry("discover", "Discover", "6", lambda c: f"{number(c['discovered'])} tried", _discover),
    Entry("shelf", "Shelf", "7", lambda c: f"{number(c['kept'])} kept", _shelf, drawer=True),
    Entry("proving", "Proving", "8", lambda c: f"{number(c['proved'])} proved", _proving, drawer=True),
    Entry("overlap", "Overlap", "9", lambda c: f"{number(c['distinct'])} distinct", _overlap),
    Entry("portfolio", "Portfolio", "0", lambda c: f"{number(c['portfolios'])} saved", _portfolio),
    Entry("rehearsal", "Rehearsal", "-", lambda c: "running" if c["rehearsing"] else "idle", _rehearsal),
]


class Places(dict[str, Place]):
    """Places by key, each made when it is first asked for; made(place) is told then."""

    def __init__(self, session: Session, made: Callable[[Place], None]) -> None:
        super().__init__()
        self._session = session
        self._made = made

    def __missing__(self, key: str) -> Place:
        entry = next((e for e in PLACES if e.key == key), None)
        if entry is None:
            raise KeyError(key)
        place = self[key] = entry.make(self._session)
        self._made(place)
        return place

    def all(self) -> list[Place]:
        """Every place, in order; those not shown yet are made. One whose data cannot be read says so when it is shown."""
        for entry in PLACES:
            with suppress(WolbrinError):
                self[entry.key]
        return [self[e.key] for e in PLACES if e.key in self]
