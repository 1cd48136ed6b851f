"""A slow, plain simulator written from the contract alone: one bar at a time, Python numbers, no arrays.

It shares no code with the kernel; what the two disagree on is a bug in one of them.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any


@dataclass
class Entry:
    """How a side enters: a market order, or one resting at `levels` (ticks, by decision bar) for `bars` bars."""

    kind: str = "market"
    levels: list[float] = field(default_factory=list)
    bars: int = 1
    touch: int = 0


@dataclass
class Reach:
    """A distance: ticks, atr, money, percent, stop (multiple) or level (one list of levels a side)."""

    unit: str
    amount: float = 0.0
    atr: list[float] = field(default_factory=list)
    long: list[float] = field(default_factory=list)
    short: list[float] = field(default_factory=list)


@dataclass
class Setup:
    """Everything a run depends on. Prices in ticks, money in account currency, tick_value in quote money."""

    open: list[int]
    high: list[int]
    low: list[int]
    close: list[int]
    session: list[int]
    last_bar: list[bool]
    long_in: list[bool]
    short_in: list[bool]
    long_out: list[bool]
    short_out: list[bool]
    blocked: list[bool] = field(default_factory=list)
    date: list[int] = field(default_factory=list)
    finer: list[list[tuple[int, int, int, int]]] = field(default_factory=list)  # empty list: not usable for that bar
    finer_nights: list[list[int]] = field(default_factory=list)
    long_entry: Entry = field(default_factory=Entry)
    short_entry: Entry = field(default_factory=Entry)
    stop: Reach | None = None
    target: Reach | None = None
    trail: Reach | None = None
    trail_step: int = 0
    start_after: Reach | None = None
    even: Reach | None = None
    even_plus: int = 0
    most_entries: int = 0
    this_close: bool = False
    on_opposite: str = "reverse"
    flat: bool = True
    time_exit: int | None = None
    sizing: str = "fixed"
    size: float = 1.0
    lot: float = 1.0
    least_lot: float = 0.0
    capital: float = 10_000.0
    tick_value: float = 1.0
    rate_start: list[float] = field(default_factory=list)
    rate_end: list[float] = field(default_factory=list)
    spread: float = 0.0
    slippage: float = 0.0
    commission: float = 0.0
    percent: float = 0.0
    minimum: float = 0.0
    swap_long: float = 0.0
    swap_short: float = 0.0
    nights_start: list[int] = field(default_factory=list)
    nights_end: list[int] = field(default_factory=list)
    margin: float = 0.0
    leverage: float = 0.0


@dataclass
class Order:
    side: int
    kind: str
    level: int
    decision: int
    quantity: float
    equity: float
    left: int
    own: Setup
    margin: float = 0.0


@dataclass
class Trade:
    side: int
    kind: str
    decision: int
    entry_bar: int
    entry: int
    at: str  # "open", "close", "inside" of the main bar
    quantity: float
    equity: float
    nights_at_entry: int
    rate_at_entry: float
    own: Setup
    stop: int | None = None
    target: int | None = None
    trail_by: float = 0.0
    start_at: float = 0.0
    even_at: float = 0.0
    trail: int | None = None
    even: int | None = None
    best: int | None = None
    seen: list[int] = field(default_factory=list)
    exit_bar: int = -1
    exit: int = 0
    reason: str = ""
    ambiguous: bool = False
    held: int = 0
    gross: float = 0.0
    net: float = 0.0
    financing: float = 0.0
    risk: float = math.nan
    mae: float = 0.0
    mfe: float = 0.0
    margin: float = 0.0


def to_tick(x: float) -> int:
    """Half away from zero; an exact half is one within 1e-6."""
    return int(math.copysign(math.floor(abs(x) + 0.5 + 1e-6), x))


class RefusedError(Exception):
    """An order that cannot be; the word says how it counts."""


class Simulator:
    """later: setups that decide from a bar on; orders and positions keep the one of their decision (`own`)."""

    def __init__(self, setup: Setup, later: dict[int, Setup] | None = None) -> None:
        self.s = setup
        self.later = later or {}
        self.stops = [x.stop for x in (setup, *self.later.values())]
        self.cash = setup.capital
        self.trade: Trade | None = None
        self.trades: list[Trade] = []
        self.equity: list[float] = []
        self.gross_curve: list[float] = []
        self.positions: list[int] = []
        self.counts = {"conflicts": 0, "skipped": 0, "rejected": 0, "late": 0, "expired": 0, "ambiguous": 0, "exposed": 0,
                       "walked whole": 0}
        self.ruined = False
        self.market: Order | None = None
        self.resting: dict[int, Order] = {}
        self.fills: dict[int, int] = {}
        self.exposed = False
        self.left_here = False
        self.events: list[tuple[str, int, int]] = []  # event of an entry order, side, bar
        self.pending_exit: str | None = None
        self.weight = 1.0
        self.alone = True  # on a purse of its own, which judges ruin and ends with its data
        self.barred = False  # whether no entry is decided

    def purse(self) -> float:
        """What sizes and margins are measured by."""
        return self.cash

    def margin_of_others(self) -> float:
        """Margin that others on the purse have in use."""
        return 0.0

    # Money

    def rate(self, i: int, at_close: bool) -> float:
        rates = self.s.rate_end if at_close else self.s.rate_start
        return rates[i] if rates else 1.0

    def tick_money(self, i: int) -> float:
        return self.s.tick_value * self.rate(i, True)

    def commission(self, price: int, quantity: float, rate: float) -> float:
        s = self.s
        notional = abs(price) * s.tick_value * rate * quantity
        return max(s.commission * quantity + s.percent / 100 * notional, s.minimum)

    def nights(self, i: int, at_close: bool) -> int:
        if not self.s.nights_end:
            return 0
        return (self.s.nights_end if at_close else self.s.nights_start)[i]

    def swap_ticks(self, side: int, nights: int) -> float:
        return -(self.s.swap_long if side > 0 else self.s.swap_short) * nights

    def entry_slip(self, t: Trade) -> float:
        return 0.0 if t.kind == "limit" else self.s.slippage

    def marked(self, i: int) -> float:
        """Net equity at the close: entry costs charged, exit costs not yet."""
        t, s = self.trade, self.s
        if t is None:
            return self.cash
        unit = self.tick_money(i) * t.quantity
        ticks = t.side * (s.close[i] - t.entry) - s.spread / 2 - self.entry_slip(t)
        ticks -= self.swap_ticks(t.side, self.nights(i, True) - t.nights_at_entry)
        return self.cash + ticks * unit - self.commission(t.entry, t.quantity, t.rate_at_entry)

    def broke(self, i: int) -> bool:
        """Whether marked equity is at or below zero; amounts closer than 1e-9 of the largest in the sum are equal."""
        if not self.alone:
            return False
        equity = self.marked(i)
        return equity <= 1e-9 * max(self.s.capital, abs(self.cash), abs(equity - self.cash))

    # Decisions

    def reach(self, what: Reach, i: int, price: int, side: int, stop: float) -> float:
        """A distance in ticks, not rounded; of a level, from `price`, negative on the wrong side."""
        if what.unit == "level":
            level = (what.long if side > 0 else what.short)[i]
            return side * (price - level) if what in self.stops else side * (level - price)
        return {"ticks": lambda: what.amount, "atr": lambda: what.amount * what.atr[i], "stop": lambda: what.amount * stop,
                "money": lambda: what.amount / self.tick_money(i),
                "percent": lambda: what.amount / 100 * abs(price)}[what.unit]()

    def settle(self, side: int, kind: str, i: int, price: int, equity: float) -> Order:
        s = self.s
        entry = s.long_entry if side > 0 else s.short_entry
        if math.isnan(self.rate(i, True)):
            raise RefusedError("skipped")
        stop = self.reach(s.stop, i, price, side, 0.0) if s.stop else 0.0
        others = [self.reach(x, i, price, side, stop) for x in (s.target, s.trail, s.start_after, s.even) if x]
        if any(math.isnan(x) for x in [stop, *others]):
            raise RefusedError("skipped")
        if s.stop and s.stop.unit == "level":
            level = to_tick((s.stop.long if side > 0 else s.stop.short)[i])
            if side * (price - level) < 0:
                raise RefusedError("skipped")
        notional = abs(price) * self.tick_money(i)
        if s.sizing in ("percent", "notional") and notional == 0:
            raise RefusedError("skipped")
        if s.sizing == "fixed":
            wanted = s.size
        elif s.sizing == "risk":
            wanted = s.size / 100 * equity / (max(1, to_tick(abs(stop))) * self.tick_money(i))
        elif s.sizing == "percent":
            wanted = s.size / 100 * equity / notional
        else:
            wanted = s.size / notional
        quantity = math.floor(wanted * self.weight / s.lot + 1e-6) * s.lot
        if quantity <= 0 or quantity < s.least_lot - 1e-9:
            raise RefusedError("skipped")
        need = s.margin * quantity
        if s.leverage:
            need = notional * quantity / s.leverage
            if notional == 0:
                raise RefusedError("skipped")
        if need - equity > 1e-9 * abs(equity):  # equal to the last bit or so is equal
            raise RefusedError("rejected")
        if need + self.margin_of_others() - equity > 1e-9 * abs(equity):
            raise RefusedError("rejected by the account")
        return Order(side, kind, price, i, quantity, equity, entry.bars, s, need)

    def want(self, side: int, i: int, equity: float) -> None:
        entry = self.s.long_entry if side > 0 else self.s.short_entry
        try:
            if entry.kind == "market":
                self.market = self.settle(side, "market", i, self.s.close[i], equity)
            else:
                if math.isnan(entry.levels[i]):
                    raise RefusedError("skipped")
                self.resting[side] = self.settle(side, entry.kind, i, to_tick(entry.levels[i]), equity)
            self.events.append(("placed", side, i))
        except RefusedError as why:
            self.counts[str(why).split()[0]] += 1
            self.events.append((str(why), side, i))

    def full(self, i: int, s: Setup) -> bool:
        return bool(s.most_entries and self.fills.get(s.date[i], 0) >= s.most_entries)

    # Fills

    def enter(self, order: Order, price: int, i: int, at: str, nights: int) -> bool:
        """Open a position; False when the order is refused at its fill."""
        s, side, d = order.own, order.side, order.decision
        rate = self.rate(i, at == "close")
        t = Trade(side, order.kind, d, i, price, at, order.quantity, order.equity, nights, rate, s, seen=[price],
                  margin=order.margin)
        distance = 0.0
        if s.stop:
            distance = self.reach(s.stop, d, price, side, 0.0)
            t.stop = to_tick(price - side * distance)
            if side * (price - t.stop) <= 0:
                t.stop = None if s.stop.unit == "level" else price - side
        if s.target:
            t.target = to_tick(price + side * self.reach(s.target, d, price, side, distance))
            if side * (t.target - price) <= 0:
                t.target = None if s.target.unit == "level" else price + side
        refused = self.full(i, s) or (s.stop and t.stop is None) or (s.target and t.target is None)
        if refused:
            self.counts["skipped"] += 1
            self.events.append(("skipped", side, i))
            return False
        if s.trail:
            t.trail_by = self.reach(s.trail, d, price, side, distance)
        if s.start_after:
            t.start_at = self.reach(s.start_after, d, price, side, distance)
        if s.even:
            t.even_at = self.reach(s.even, d, price, side, distance)
        if t.stop is not None:
            t.risk = abs(price - t.stop) * s.tick_value * rate * t.quantity
        self.trade = t
        self.market = None
        self.resting.clear()
        if s.date:
            self.fills[s.date[i]] = self.fills.get(s.date[i], 0) + 1
        self.events.append(("filled", side, i))
        return True

    def leave(self, price: int, i: int, reason: str, at_close: bool, seen: list[int], nights: int | None = None) -> None:
        """Close at a price; `seen` are the prices of this bar known to have been met while held."""
        t, s = self.trade, self.s
        assert t is not None
        t.seen += [*seen, price]
        rate = self.rate(i, at_close)
        unit = s.tick_value * rate * t.quantity
        t.exit_bar, t.exit, t.reason = i, price, reason
        t.gross = t.side * (price - t.entry) * unit
        slip = self.entry_slip(t) + (0.0 if reason == "target" else s.slippage)
        nights = self.nights(i, at_close) if nights is None else nights
        t.financing = self.swap_ticks(t.side, nights - t.nights_at_entry) * unit
        costs = (s.spread + slip) * unit
        costs += self.commission(t.entry, t.quantity, t.rate_at_entry) + self.commission(price, t.quantity, rate)
        t.net = t.gross - costs - t.financing
        amounts = [t.gross, s.spread * unit, slip * unit, t.financing,
                   self.commission(t.entry, t.quantity, t.rate_at_entry) + self.commission(price, t.quantity, rate)]
        if abs(t.net) <= 1e-9 * max(abs(x) for x in amounts):
            t.net = 0.0
        t.held = i - t.entry_bar + (0 if t.at == "close" else 1)
        moves = [t.side * (p - t.entry) * unit for p in t.seen]
        t.mae, t.mfe = min(0.0, *moves), max(0.0, *moves)
        self.cash += t.net
        self.counts["ambiguous"] += t.ambiguous
        self.trades.append(t)
        self.trade = None

    def meet_resting(self, i: int, bar: tuple[int, int, int, int], first: bool, nights: int) -> str | None:
        """Step 3 for one bar; how the position was entered: fresh, stop or limit."""
        o, h, low, _ = bar
        possible: list[tuple[int, int, int, bool]] = []
        for side, order in self.resting.items():
            level = order.level
            if order.kind == "stop":
                opens = o >= level if side > 0 else o <= level
                fills = opens or low <= level <= h
            else:
                touch = (order.own.long_entry if side > 0 else order.own.short_entry).touch
                opens = o <= level if side > 0 else o >= level
                fills = low <= level - touch if side > 0 else h >= level + touch
            if fills:
                price = o if opens else level
                possible.append((abs(price - o), -side, price, opens))
        possible.sort()
        unsure = len(possible) == 2 and possible[0][3] == possible[1][3]
        for _, negative, price, opens in possible:
            order = self.resting.pop(-negative)
            if self.enter(order, price, i, "open" if opens and first else "inside", nights):
                assert self.trade is not None
                self.trade.ambiguous = unsure
                self.met_inside |= not opens
                return "fresh" if opens else order.kind
            unsure = False
        self.met_inside |= bool(possible)
        return None

    def tightest(self, t: Trade) -> tuple[int | None, str]:
        level, reason = t.stop, "stop"
        for other, name in ((t.even, "break even"), (t.trail, "trail")):
            if other is not None and (level is None or t.side * (other - level) > 0):
                level, reason = other, name
        return level, reason

    def protect(self, i: int, bar: tuple[int, int, int, int], how: str, first: bool, nights: int) -> None:
        """Step 4 (and 2) for one bar."""
        t = self.trade
        assert t is not None
        o, h, low, c = bar
        up, down = (h, low) if t.side > 0 else (low, h)
        stop, name = self.tightest(t)

        def lost(price: int) -> bool:
            return stop is not None and (price <= stop if t.side > 0 else price >= stop)

        def won(price: int) -> bool:
            return t.target is not None and (price >= t.target if t.side > 0 else price <= t.target)

        if how == "carried" and (lost(o) or won(o)):
            self.exposed = self.exposed or not first
            self.left_here = True
            self.leave(o, i, name if lost(o) else "target", False, [], nights)
            return
        self.exposed = True
        target_met = won(c) if how == "limit" else won(up)
        if lost(down):
            t.ambiguous |= target_met or (how == "stop" and not lost(c))
            assert stop is not None
            self.left_here = self.met_inside = True
            self.leave(stop, i, name, False, [o] if how in ("carried", "fresh") else [], nights)
        elif target_met:
            assert t.target is not None
            self.left_here = self.met_inside = True
            self.leave(t.target, i, "target", False, [] if how == "stop" else [down], nights)
        else:
            t.seen += {"stop": [up, c], "limit": [down, c]}.get(how, [up, down])

    def move_stops(self, i: int) -> None:
        t = self.trade
        assert t is not None
        s = t.own
        if t.entry_bar == i and not (t.at == "open" or (t.at == "inside" and t.kind == "stop")):
            return
        extreme = s.high[i] if t.side > 0 else s.low[i]
        t.best = extreme if t.best is None else (max if t.side > 0 else min)(t.best, extreme)
        gain = t.side * (t.best - t.entry)
        if s.even and t.even is None and gain >= 1 and gain >= t.even_at - 1e-6:
            t.even = t.entry + t.side * s.even_plus
        if s.trail and (s.start_after is None or (gain >= 1 and gain >= t.start_at - 1e-6)):
            level = to_tick(t.best - t.side * t.trail_by)
            if t.side * (t.best - level) < 1:
                level = t.best - t.side
            if t.trail is None or t.side * (level - t.trail) >= max(1, s.trail_step):
                t.trail = level

    # The loop

    def run(self) -> Simulator:
        for i in range(len(self.s.close)):
            self.bar(i)
        return self

    def bar(self, i: int) -> None:
        """One bar, whole."""
        if i in self.later:
            self.s = self.later[i]
        s = self.s
        if self.ruined:
            self.equity.append(self.cash)
            return
        o, h, low, c = s.open[i], s.high[i], s.low[i], s.close[i]
        self.exposed = self.left_here = False
        if s.flat and i > 0 and s.session[i] != s.session[i - 1]:
            self.market = None
            self.resting.clear()
            if self.trade and self.pending_exit is None:
                self.pending_exit = "session (late)"
                self.counts["late"] += 1
        if self.trade and self.pending_exit:
            self.leave(o, i, self.pending_exit, False, [])
        self.pending_exit = None
        how = "carried" if self.trade else ""
        if self.market:
            order, self.market = self.market, None
            how = "fresh" if self.enter(order, o, i, "open", self.nights(i, False)) else how
        parts = (s.finer[i] if s.finer else []) or [(o, h, low, c)]
        self.met_inside = False
        for j, bar in enumerate(parts):
            nights = self.nights(i, False)
            if s.finer_nights and s.finer[i]:
                nights = s.finer_nights[i][j]
            if not self.trade and not self.left_here:
                how = self.meet_resting(i, bar, j == 0, nights) or ""
            if self.trade:
                self.protect(i, bar, how, j == 0, nights)
                how = "carried"
        self.counts["exposed"] += self.exposed
        if s.finer and not s.finer[i]:
            self.counts["walked whole"] += self.met_inside
        self.pending_exit = self.at_close(i, c, len(s.close))
        if self.alone:
            self.after(i)

    def after(self, i: int) -> None:
        """What follows once a bar's close is settled: stops move, equity is marked."""
        if self.trade:
            self.move_stops(i)
        self.equity.append(self.marked(i))

    def at_close(self, i: int, c: int, n: int) -> str | None:
        """Step 6; the exit that waits for the next open, if any."""
        s, t = self.s, self.trade
        equity = self.purse()
        for side in list(self.resting):
            self.resting[side].left -= 1
            if self.resting[side].left == 0:
                del self.resting[side]
                self.counts["expired"] += 1
        long_in, short_in = s.long_in[i], s.short_in[i]
        if long_in and short_in and "market" in (s.long_entry.kind, s.short_entry.kind):
            self.counts["conflicts"] += 1
            long_in = short_in = False
        leave: Any = None
        if t:
            opposite = short_in if t.side > 0 else long_in
            held = i - t.entry_bar + (0 if t.at == "close" else 1)
            if t.own.time_exit and held >= t.own.time_exit:
                leave = "time"
            elif t.own.long_out[i] if t.side > 0 else t.own.short_out[i]:
                leave = "condition"
            elif opposite and s.on_opposite in ("reverse", "close"):
                leave = "reverse"
        last = s.flat and s.last_bar[i]
        full = self.full(i, s)
        if leave and s.this_close:
            self.leave(c, i, leave, True, [])
            leave = None
        if self.broke(i):
            self.ruin(i, c)
            return None
        free = not last and not (s.blocked and s.blocked[i]) and not full and not self.barred
        for side, signal in ((1, long_in), (-1, short_in)):
            if signal and free and (t is None or (t.side != side and s.on_opposite == "reverse")):
                self.want(side, i, equity)
        if last:
            self.resting.clear()
        if s.this_close and self.market:
            order, self.market = self.market, None
            self.enter(order, c, i, "close", self.nights(i, True))
        if self.trade and last:
            self.leave(c, i, "session", True, [])
        if self.broke(i):
            self.ruin(i, c)
        elif i == n - 1 and self.trade and self.alone:
            self.leave(c, i, "end of data", True, [])
        return None if self.ruined else leave

    def ruin(self, i: int, c: int) -> None:
        self.ruined = True
        self.market = None
        self.resting.clear()
        if self.trade:
            self.leave(c, i, "ruin", True, [])
