"""Several slow simulators on one purse, written from section 11 of the contract alone; see `slow`."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from tests.twin.slow import Setup, Simulator, Trade


@dataclass
class Part:
    """A member: its setup, starts and ends of its bars (any unit, rising), trading date of each bar. limit: money, or percent
    of the account at its date's start, None for none."""

    setup: Setup
    start: list[int]
    end: list[int]
    date: list[int]
    weight: float = 1.0
    priority: int = 0
    limit: float | None = None
    percent: bool = False


class Member(Simulator):
    def __init__(self, part: Part, account: Account) -> None:
        super().__init__(part.setup)
        self.part, self.account, self.weight, self.alone = part, account, part.weight, False
        self.at = -1  # its last processed bar
        self.stopped_on: int | None = None
        self.waits = ""  # why it is closed at the end of its next bar
        self.result_at_start = 0.0
        self.account_at_start = account.capital
        self.today: int | None = None

    def purse(self) -> float:
        return self.account.purse()

    def margin_in_use(self) -> float:
        held = self.trade.margin if self.trade else 0.0
        waiting = [o.margin for o in (*self.resting.values(), *([self.market] if self.market else []))]
        return max([held, *waiting])

    def margin_of_others(self) -> float:
        return sum(m.margin_in_use() for m in self.account.members if m is not self)

    def own(self) -> float:
        """Result: net of closed trades and the open position, at its last processed bar."""
        return (self.marked(self.at) if self.at >= 0 else self.cash) - self.s.capital

    @property
    def idle(self) -> bool:
        return not (self.trade or self.market or self.resting)

    def close_all(self, reason: str) -> None:
        """At its last processed bar's close: out, and nothing waits."""
        if self.trade:
            self.leave(self.s.close[self.at], self.at, reason, True, [])
        self.cancel()

    def cancel(self) -> None:
        self.market, self.pending_exit = None, None
        self.resting.clear()


@dataclass
class Account:
    """parts, starting capital, daily limit of the account; date_of: the calendar date of an instant."""

    parts: list[Part]
    capital: float
    date_of: Callable[[int], int]
    limit: float | None = None
    percent: bool = False
    marks: list[tuple[int, float]] = field(default_factory=list)
    ledger: list[tuple[int, Trade]] = field(default_factory=list)
    ruined: bool = False

    def __post_init__(self) -> None:
        self.members = [Member(p, self) for p in self.parts]
        self.order = sorted(range(len(self.parts)), key=lambda m: (self.parts[m].priority, m))

    def purse(self) -> float:
        return self.capital + sum(m.cash - m.s.capital for m in self.members)

    def mark(self) -> float:
        return self.capital + sum(m.own() for m in self.members)

    def known(self, instant: int) -> float:
        """The mark as last known at an instant."""
        return next((v for t, v in reversed(self.marks) if t <= instant), self.capital)

    def broke(self) -> bool:
        mark = self.mark()
        return mark <= 1e-9 * max(self.capital, abs(self.purse()), abs(mark - self.purse()))

    def run(self) -> Account:
        bars = {(p.end[i], m): i for m, p in enumerate(self.parts) for i in range(len(p.end))}
        stopped_on: int | None = None
        date, at_start = None, self.capital
        for now in sorted({t for t, _ in bars}):
            today = self.date_of(now)
            if today != date:
                date, at_start = today, self.marks[-1][1] if self.marks else self.capital
            here = [m for m in self.order if (now, m) in bars]
            for m in here:
                one, i = self.members[m], bars[now, m]
                part = one.part
                if part.date[i] != one.today:
                    one.today = part.date[i]
                    one.result_at_start = one.own()
                    one.account_at_start = self.known(part.start[i])
                one.barred = (self.ruined or stopped_on == today or one.stopped_on == one.today or bool(one.waits))
                before = len(one.trades)
                one.at = i
                one.bar(i)
                self.ledger += [(m, t) for t in one.trades[before:]]
            out: dict[int, str] = {}
            if not self.ruined and self.broke():
                self._ruin(here, out)
            elif not self.ruined:
                mark = self.mark()
                if self.limit is not None and stopped_on != today:
                    most = self.limit / 100 * at_start if self.percent else self.limit
                    if at_start - mark >= most - 1e-9 * max(abs(at_start), abs(mark)):
                        stopped_on = today
                        for m, one in enumerate(self.members):
                            self._stop(m, one, here, "daily limit", out)
                for m in here:
                    one = self.members[m]
                    if one.part.limit is None or one.stopped_on == one.today:
                        continue
                    most = one.part.limit / 100 * one.account_at_start if one.part.percent else one.part.limit
                    own = one.own()
                    if one.result_at_start - own >= most - 1e-9 * max(abs(one.result_at_start), abs(own), self.capital):
                        one.stopped_on = one.today
                        self._stop(m, one, here, "daily limit", out)
            for m in here:
                if self.members[m].waits and m not in out:
                    out[m] = self.members[m].waits
            self._close(out)
            for m in here:
                one = self.members[m]
                if one.at == len(one.s.close) - 1:
                    self._close({m: "end of data"})
            if not self.ruined and self.broke():
                again: dict[int, str] = {}
                self._ruin(here, again)
                self._close(again)
            self.marks.append((now, self.mark()))
            for m in here:
                self.members[m].after(self.members[m].at)
        return self

    def _ruin(self, here: list[int], out: dict[int, str]) -> None:
        self.ruined = True
        for m, one in enumerate(self.members):
            self._stop(m, one, here, "ruin", out)

    def _stop(self, m: int, one: Member, here: list[int], reason: str, out: dict[int, str]) -> None:
        """A member stopped now: closed at the end of a bar of its own, else of its next one."""
        if m in here:
            out[m] = "ruin" if "ruin" in (reason, one.waits) else reason
        elif not one.idle:
            one.waits = "ruin" if "ruin" in (reason, one.waits) else reason

    def _close(self, out: dict[int, str]) -> None:
        for m in self.order:
            if m in out:
                one = self.members[m]
                before = len(one.trades)
                one.close_all(out[m])
                one.waits = ""
                self.ledger += [(m, t) for t in one.trades[before:]]
