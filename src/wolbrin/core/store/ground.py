"""What work stands on: a project's histories as they were at one moment, sealed at the border.

A `Ground` is plain data that travels; `Histories` reads it and keeps what was read. Work that began on one goes on with it,
whatever is changed in the project meanwhile.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from threading import RLock

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import Door, UserError
from wolbrin.core.indicators.own import OwnIndicators
from wolbrin.core.market.bars import Bars
from wolbrin.core.store.database import Database
from wolbrin.core.store.history import History

HELD = 6  # histories that stay in memory
ROOM = 256 * 1024**2  # bytes of indicator columns that all but the last used of them may keep


@dataclass(frozen=True)
class Ground:
    """folder: the project's. sources: (market, source, history) of every source. active: (market, source tested on). answers:
    (other market, market it goes before, what somebody said of that). unjoined: markets that are tested on one of several
    contract months, which is refused."""

    folder: str
    sources: tuple[tuple[str, str, History], ...]
    active: tuple[tuple[str, str], ...]
    answers: tuple[tuple[str, str, str], ...] = ()
    unjoined: tuple[str, ...] = ()

    def unsealed(self) -> Ground:
        """The same with all sealed rows. Only `store.sealed` may ask for it."""
        return replace(self, sources=tuple((m, s, h.unsealed()) for m, s, h in self.sources))

    def source_of(self, market: str, source: str | None = None) -> str:
        """The source asked for, else the one the market is tested on. Raises UserError where there is none."""
        chosen = source or dict(self.active).get(market)
        if chosen is None:
            known = ", ".join(m for m, _ in self.active) or "none"
            raise UserError(f'there is no market "{market}" in this project', self.folder, f"Known are {known}.")
        return chosen

    def history(self, market: str, source: str | None = None) -> History:
        """Where a market's bars come from. Raises UserError where the market or source is not there."""
        wanted = market, self.source_of(market, source)
        for m, s, h in self.sources:
            if (m, s) == wanted:
                return h
        known = ", ".join(s for m, s, _ in self.sources if m == market) or "none"
        raise UserError(f'{market} has no source "{wanted[1]}"', self.folder, f"Known are {known}.")


class Histories:
    """Reads the histories of a ground; the last few used stay in memory. Safe to use from several threads."""

    def __init__(self, ground: Ground) -> None:
        self.ground = ground
        self._lock = RLock()
        self._base: OrderedDict[tuple[str, str], Bars] = OrderedDict()
        self._prepared: OrderedDict[tuple[str, str, int], Prepared] = OrderedDict()

    def base(self, market: str, source: str | None = None) -> Bars:
        """A market's treated bars at their own interval."""
        key = market, self.ground.source_of(market, source)
        with self._lock:
            if key in self._base:
                self._base.move_to_end(key)
                return self._base[key]
        bars = self.ground.history(*key).treated().bars
        with self._lock:
            bars = self._base.setdefault(key, bars)
            while len(self._base) > HELD:
                self._base.popitem(last=False)
        return bars

    def prepared(self, market: str, interval: int, source: str | None = None) -> Prepared:
        """A market at an interval, made ready for runs.

        Raises:
            UserError: no source is named, and the market is contract months that are not joined.
        """
        if source is None and market in self.ground.unjoined:
            raise UserError(f"{market} is several contract months that are not joined, and one of them is not the market",
                            market,
                            f"Join them: `wolbrin join -m {market}`.", Door(f"Join the months of {market}", "months"))
        name = self.ground.source_of(market, source)
        key = market, name, interval
        with self._lock:
            if key in self._prepared:
                self._prepared.move_to_end(key)
                self._make_room()
                return self._prepared[key]
        made = Prepared.of(self.ground.history(market, name).at(interval, self.base(market, name)),
                           finer=lambda: self.base(market, name), rates=lambda: self.rates(market), elsewhere=self.elsewhere,
                           own=OwnIndicators(Path(self.ground.folder)).values, source=name,
                           answers={o: said for o, traded, said in self.ground.answers if traded == market})
        with self._lock:
            made = self._prepared.setdefault(key, made)
            while len(self._prepared) > HELD:
                self._prepared.popitem(last=False)
            self._make_room()
        return made

    def _make_room(self) -> None:
        """All histories but the last used share room for their columns: those used longest ago let go of theirs."""
        others = list(self._prepared.values())[:-1]
        held = sum(one.columns.weight() for one in others)
        for one in others:
            if held <= ROOM:
                break
            held -= one.columns.clear()

    def elsewhere(self, market: str, interval: int) -> Bars:
        """Bars of another market, for operands that name it."""
        return self.prepared(market, interval).bars

    def rates(self, market: str) -> Bars | None:
        """Bars of the market whose price converts this one's quote currency, None where a fixed rate stands."""
        wanted = self.ground.history(market).terms.conversion_market
        return self.base(wanted) if wanted else None


class Held:
    """The present histories of a project, read anew when its ground has changed under them."""

    def __init__(self, ground: Callable[[], Ground], db: Database) -> None:
        self._ground = ground
        self._db = db
        self._lock = RLock()
        self._histories: Histories | None = None
        self._read_at = 0

    @property
    def histories(self) -> Histories:
        """The present ones. Whoever works keeps the object, so that later changes do not reach it."""
        with self._lock:
            version = int(self._db.rows("PRAGMA data_version")[0][0])  # moves when another program has written
            if self._histories is None or version != self._read_at:
                ground = self._ground()
                if self._histories is None or self._histories.ground != ground:
                    self._histories = Histories(ground)
                self._read_at = version
            return self._histories

    def forget(self) -> None:
        """Drop what is held, after a history, terms or the border changed. Work under way goes on with what it began on."""
        with self._lock:
            self._histories = None


@lru_cache(maxsize=2)
def histories_of(ground: Ground) -> Histories:
    """Histories of a ground that came to a worker process; the last two grounds stay."""
    return Histories(ground)
