"""An account audited from what it shows: marks add up, daily limits hold by its zone's calendar (contract section 11)."""

from __future__ import annotations

from datetime import UTC, date, datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import cross, walk_bars
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.account import AccountRun, DailyLimit, Seat, run_account
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run
from wolbrin.core.market.costs import Costs
from wolbrin.core.rules.model import Distance

CAPITAL = 100_000.0
RULES = cross(flat_by_session_end=False, stop=Distance(unit="atr", amount=3.0))
BRIEF = Brief(costs=Costs(slippage_ticks=1, per_contract=1.0))
HISTORIES = {(m, s): Prepared.of(walk_bars(900, seed=s, minutes=m, code=f"M{m}"))
             for m, s in ((15, 1), (30, 2), (60, 3), (240, 4))}


def day_of(instant: int, zone: str) -> date:
    """The calendar date of an instant; midnight belonging to the day that ends."""
    return datetime.fromtimestamp(instant // 10**9 - 1, UTC).astimezone(ZoneInfo(zone)).date()


def ends(run: Run) -> np.ndarray:
    return run.bars.end[run.first:run.last]


def stops(got: AccountRun, zone: str, limit: DailyLimit) -> dict[date, int]:
    """The instant at which each date reached the limit, worked out from the account's marks alone."""
    found: dict[date, int] = {}
    start, today = CAPITAL, None
    for at, (instant, mark) in enumerate(zip(got.instants.tolist(), got.mark.tolist())):
        day = day_of(instant, zone)
        if day != today:
            today, start = day, got.mark[at - 1] if at else CAPITAL
        most = limit.amount / 100 * start if limit.percent else limit.amount
        if day not in found and start - mark >= most - 1e-6:
            found[day] = instant
    return found


@settings(max_examples=80, deadline=None)
@given(st.sets(st.sampled_from(sorted(HISTORIES)), min_size=1), st.sampled_from(["UTC", "Asia/Tokyo", "America/New_York",
                                                                                 "Pacific/Auckland"]),
       st.floats(40, 4_000), st.booleans(), st.randoms(use_true_random=False))
def test_marks_add_up_and_daily_limits_hold(markets: set[tuple[int, int]], zone: str, amount: float, percent: bool,
                                            draw: object) -> None:
    limit = DailyLimit(amount / CAPITAL * 100 if percent else amount, percent)
    seats = [Seat(f"{m}", HISTORIES[m], RULES, BRIEF, draw.choice([1.0, 2.0, 5.0]), draw.randint(1, 3))  # type: ignore[attr-defined]
             for m in sorted(markets)]
    got = run_account(seats, CAPITAL, zone, limit)
    assert not got.ruined
    total = np.full(len(got.instants), CAPITAL)
    for run in got.runs:
        at = np.searchsorted(ends(run), got.instants, "right") - 1
        total += np.where(at >= 0, run.net[np.maximum(at, 0)] - CAPITAL, 0.0)
    np.testing.assert_allclose(got.mark, total, rtol=0, atol=1e-6)
    reached = stops(got, zone, limit)
    for run in got.runs:
        mine = ends(run)
        left = {day: int(mine[i]) for day, t in reached.items() if (i := int(np.searchsorted(mine, t))) < len(mine)}
        for row in run.trades_i.tolist():
            decided, entered, exited = (int(run.bars.end[row[c]]) for c in (k.T_DECISION, k.T_ENTRY_BAR, k.T_EXIT_BAR))
            day = day_of(decided, zone)
            assert day not in reached or decided < reached[day], "nothing is entered once the day's limit is reached"
            for closed in left.values():
                assert not (entered <= closed < exited), "whoever was in is out at the end of its bar, or of its next"
            if row[k.T_REASON] == k.LIMIT:
                assert exited in left.values(), "nobody is put out at another time"
    if not reached:
        assert not any((run.trades_i[:, k.T_REASON] == k.LIMIT).any() for run in got.runs)


def test_the_zone_says_which_day_a_loss_belongs_to() -> None:
    """The same limit binds on other days in Auckland than in London: sessions of the day span its midnight there."""
    seats = [Seat(str(m), HISTORIES[m], RULES, BRIEF, 3.0) for m in HISTORIES]
    one, two = (run_account(seats, CAPITAL, zone, DailyLimit(600.0)) for zone in ("UTC", "Pacific/Auckland"))
    assert stops(one, "UTC", DailyLimit(600.0)).keys() != stops(two, "Pacific/Auckland", DailyLimit(600.0)).keys()
    assert len(stops(one, "UTC", DailyLimit(600.0))) > 3
    assert one.mark[-1] != pytest.approx(two.mark[-1])
