"""A slow, plain simulator written from the contract alone: one bar at a time, Python numbers, no arrays.

It shares no code with the kernel; what the two disagree on is a bug in one of them.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field


@dataclass
class Setup:
    """Everything a run depends on. Prices in ticks, money in account currency."""

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
    stop: tuple[str, float] | None = None
    target: tuple[str, float] | None = None
    stop_atr: list[float] = field(default_factory=list)
    target_atr: list[float] = field(default_factory=list)
    this_close: bool = False
    on_opposite: str = "reverse"
    flat: bool = True
    time_exit: int | None = None
    quantity: float = 1.0
    capital: float = 10_000.0
    tick_money: float = 1.0
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
class Trade:
    side: int
    decision: int
    entry_bar: int
    entry: int
    entry_at_close: bool
    stop: int | None
    target: int | None
    nights_at_entry: int
    seen: list[int]
    exit_bar: int = -1
    exit: int = 0
    reason: str = ""
    ambiguous: bool = False
    held: int = 0
    gross: float = 0.0
    net: float = 0.0
    financing: float = 0.0
    mae: float = 0.0
    mfe: float = 0.0


def to_tick(x: float) -> int:
    """Half away from zero; an exact half is one within 1e-6."""
    return int(math.copysign(math.floor(abs(x) + 0.5 + 1e-6), x))


class Simulator:
    def __init__(self, setup: Setup) -> None:
        self.s = setup
        self.cash = setup.capital
        self.trade: Trade | None = None
        self.trades: list[Trade] = []
        self.equity: list[float] = []
        self.counts = {"conflicts": 0, "skipped": 0, "rejected": 0, "late": 0}
        self.ruined = False

    def commission(self, price: int) -> float:
        s = self.s
        return max(s.commission * s.quantity + s.percent / 100 * abs(price) * s.tick_money * s.quantity, s.minimum)

    def nights(self, i: int, at_close: bool) -> int:
        if not self.s.nights_end:
            return 0
        return (self.s.nights_end if at_close else self.s.nights_start)[i]

    def swap_cost(self, side: int, nights: int) -> float:
        rate = self.s.swap_long if side > 0 else self.s.swap_short
        return -rate * nights * self.s.tick_money * self.s.quantity

    def marked(self, i: int) -> float:
        """Net equity at the close: entry costs charged, exit costs not yet."""
        t, s = self.trade, self.s
        if t is None:
            return self.cash
        unit = s.tick_money * s.quantity
        entry_costs = (s.spread / 2 + s.slippage) * unit + self.commission(t.entry)
        swap = self.swap_cost(t.side, self.nights(i, True) - t.nights_at_entry)
        return self.cash + t.side * (s.close[i] - t.entry) * unit - entry_costs - swap

    def enter(self, side: int, price: int, i: int, decision: int, at_close: bool) -> None:
        s = self.s
        stop = target = None
        distance = 0.0
        if s.stop:
            unit, amount = s.stop
            distance = amount if unit == "ticks" else amount * s.stop_atr[decision]
            stop = to_tick(price - side * distance)
            if (price - stop) * side <= 0:
                stop = price - side
        if s.target:
            unit, amount = s.target
            reach = {"ticks": amount, "stop": amount * distance}.get(unit)
            if reach is None:
                reach = amount * s.target_atr[decision]
            target = to_tick(price + side * reach)
            if (target - price) * side <= 0:
                target = price + side
        self.trade = Trade(side, decision, i, price, at_close, stop, target, self.nights(i, at_close), [price])

    def leave(self, price: int, i: int, reason: str, at_close: bool, seen: list[int]) -> None:
        """Close at a price; `seen` are the prices of this bar known to have been met while held."""
        t, s = self.trade, self.s
        assert t is not None
        t.seen += [*seen, price]
        unit = s.tick_money * s.quantity
        t.exit_bar, t.exit, t.reason = i, price, reason
        t.gross = t.side * (price - t.entry) * unit
        slips = 1 if reason == "target" else 2
        t.financing = self.swap_cost(t.side, self.nights(i, at_close) - t.nights_at_entry)
        costs = s.spread * unit + slips * s.slippage * unit + self.commission(t.entry) + self.commission(price)
        t.net = t.gross - costs - t.financing
        t.held = i - t.entry_bar + (0 if t.entry_at_close else 1)
        moves = [t.side * (p - t.entry) * unit for p in t.seen]
        t.mae, t.mfe = min(0.0, *moves), max(0.0, *moves)
        self.cash += t.net
        self.trades.append(t)
        self.trade = None

    def run(self) -> Simulator:
        pending_exit: str | None = None
        pending_entry: tuple[int, int] | None = None
        s = self.s
        n = len(s.close)
        for i in range(n):
            if self.ruined:
                self.equity.append(self.cash)
                continue
            o, h, low, c = s.open[i], s.high[i], s.low[i], s.close[i]
            # 1. Open.
            if s.flat and i > 0 and s.session[i] != s.session[i - 1]:
                pending_entry = None
                if self.trade and pending_exit is None:
                    pending_exit = "session (late)"
                    self.counts["late"] += 1
            if self.trade and pending_exit:
                self.leave(o, i, pending_exit, False, [])
            pending_exit = None
            fresh = False
            if pending_entry:
                side, decision = pending_entry
                self.enter(side, o, i, decision, False)
                fresh = True
            pending_entry = None
            # 2. and 4. Protective orders.
            if self.trade:
                self.protect(i, o, h, low, fresh)
            # 6. Close.
            cash_before = self.cash
            t = self.trade
            long_in, short_in = s.long_in[i], s.short_in[i]
            if long_in and short_in:
                self.counts["conflicts"] += 1
                long_in = short_in = False
            leave = None
            if t:
                opposite = short_in if t.side > 0 else long_in
                held = i - t.entry_bar + (0 if t.entry_at_close else 1)
                if s.time_exit and held >= s.time_exit:
                    leave = "time"
                elif s.long_out[i] if t.side > 0 else s.short_out[i]:
                    leave = "condition"
                elif opposite and s.on_opposite in ("reverse", "close"):
                    leave = "reverse"
            want = 1 if long_in else -1 if short_in else 0
            if t and (want == t.side or s.on_opposite != "reverse"):
                want = 0
            if s.flat and s.last_bar[i]:
                want = 0
            if want:
                want = self.checked(want, i, c, cash_before)
            if s.this_close:
                if leave:
                    self.leave(c, i, leave, True, [] if self.just_in(i) else [h, low])
            else:
                pending_exit = leave
                pending_entry = (want, i) if want else None
                want = 0
            if self.marked(i) <= 0:
                self.ruin(i, c, h, low)
            else:
                if want:
                    self.enter(want, c, i, i, True)
                if self.trade and s.flat and s.last_bar[i]:
                    self.leave(c, i, "session", True, [] if self.just_in(i) else [h, low])
                if self.marked(i) <= 0:
                    self.ruin(i, c, h, low)
                elif i == n - 1 and self.trade:
                    self.leave(c, i, "end of data", True, [] if self.just_in(i) else [h, low])
            if self.ruined:
                pending_exit = pending_entry = None
            if self.trade and not self.just_in(i):
                self.trade.seen += [h, low]
            self.equity.append(self.marked(i))
        return self

    def just_in(self, i: int) -> bool:
        return bool(self.trade and self.trade.entry_at_close and self.trade.entry_bar == i)

    def ruin(self, i: int, c: int, h: int, low: int) -> None:
        self.ruined = True
        if self.trade:
            self.leave(c, i, "ruin", True, [] if self.just_in(i) else [h, low])

    def checked(self, want: int, i: int, c: int, cash: float) -> int:
        s = self.s
        for kind, atr in ((s.stop, s.stop_atr), (s.target, s.target_atr)):
            if kind and kind[0] == "atr" and math.isnan(atr[i]):
                self.counts["skipped"] += 1
                return 0
        need = s.margin * s.quantity
        if s.leverage:
            need = abs(c) * s.tick_money * s.quantity / s.leverage
            if need == 0:
                self.counts["skipped"] += 1
                return 0
        if need > cash:
            self.counts["rejected"] += 1
            return 0
        return want

    def protect(self, i: int, o: int, h: int, low: int, fresh: bool) -> None:
        t = self.trade
        assert t is not None

        def beyond(price: int, level: int | None, adverse: bool) -> bool:
            if level is None:
                return False
            down = (t.side > 0) == adverse
            return price <= level if down else price >= level

        worst, best = (low, h) if t.side > 0 else (h, low)
        if not fresh and beyond(o, t.stop, True):
            self.leave(o, i, "stop", False, [])
        elif not fresh and beyond(o, t.target, False):
            self.leave(o, i, "target", False, [])
        elif beyond(worst, t.stop, True):
            t.ambiguous = beyond(best, t.target, False)
            assert t.stop is not None
            self.leave(t.stop, i, "stop", False, [o])
        elif beyond(best, t.target, False):
            assert t.target is not None
            self.leave(t.target, i, "target", False, [worst])
