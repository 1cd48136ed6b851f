"""Quality report, treatment, schedules and intervals, against planted faults and against independent libraries."""

from __future__ import annotations

import warnings
from dataclasses import replace

import exchange_calendars
import numpy as np
import pandas as pd
import pytest
from arch.data import nasdaq, sp500
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import instants, terms, walk_bars
from wolbrin.core.errors import UserError
from wolbrin.core.market.activity import by_activity
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.intervals import DAILY, Interval, to_interval
from wolbrin.core.market.quality import report
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import session_table
from wolbrin.core.market.spikes import find_spikes
from wolbrin.core.market.terms import SessionRule
from wolbrin.core.market.treatment import Treatment, treat
from wolbrin.core.market.words import read_sessions, write_sessions


def ns(text: str) -> int:
    return int(np.datetime64(text, "ns").astype(np.int64))


def ruined(raw: Raw, seed: int) -> tuple[Raw, dict[str, set[int]]]:
    """Rows with faults planted at random places, far from each other, and where (UTC ns of the rows)."""
    rng = np.random.default_rng(seed)
    places = rng.permutation(np.arange(60, len(raw) - 60, 40))
    spikes, flat, wrong, off, gone, again = (places[i * 6:(i + 1) * 6] for i in range(6))
    o, h, lo, c = (p.copy() for p in raw.prices)
    volume = raw.volume.copy()
    usual = float(np.median(h - lo))
    for n, row in enumerate(spikes):
        if n % 2:
            h[row] += (25 + 5 * n) * usual
        else:
            lo[row] -= (25 + 5 * n) * usual
    for row in flat:
        for p in (o, h, lo):
            p[row] = c[row]
    h[wrong] = np.minimum(o[wrong], c[wrong]) - 0.01
    c[off] = c[off] + 0.004
    h[off] = np.maximum(h[off], c[off])
    keep = np.ones(len(raw), bool)
    for row in gone:
        keep[row:row + 14] = False
    made = Raw(raw.interval, raw.time, o, h, lo, c, volume).take(keep)
    copies = np.isin(made.time, raw.time[again])
    order = np.sort(np.concatenate([np.arange(len(made)), np.flatnonzero(copies)]))
    return made.take(order), {name: set(raw.time[rows].tolist()) for name, rows in (
        ("spikes", spikes), ("flat", flat), ("contradiction", wrong), ("grid", off), ("repeated", again))} | {
            "gaps": {int(raw.time[row]) for row in gone}}


@pytest.mark.parametrize("seed", range(5))
def test_planted_faults_are_found_and_little_else(seed: int, record_property) -> None:
    """Recall of every kind is complete; false alarms are counted and reported. Gaps over a session's end count once for
    each session, and a gap of 14 bars that a session's end cuts below 12 is no long one."""
    raw = Raw.of(walk_bars(6_000, seed=seed + 50))
    dirty, planted = ruined(raw, seed)
    found = report(dirty, terms())
    for key, want in planted.items():
        places = {p.time for p in found.finding(key).places}
        near = {t for t in want if t in places or (key == "flat" and any(abs(t - p) <= 900e9 for p in places))}
        alarms = len(places - want)
        record_property(f"{key} recall", len(near) / len(want))
        record_property(f"{key} false alarms", alarms)
        if key == "gaps":
            assert found.finding("missing").count == sum(14 for _ in want)
        else:
            assert near == want, key
        if key in ("spikes", "contradiction", "grid", "repeated"):
            assert alarms <= 2, key
    assert found.score < 100
    clean = report(raw, terms())
    assert clean.finding("spikes").count <= 1
    assert clean.score > found.score


def test_a_spike_that_stays_is_news_and_a_block_of_wrong_bars_is_one() -> None:
    raw = Raw.of(walk_bars(3_000, seed=3))
    move = np.zeros(len(raw))
    move[1_000:] = 30.0  # a jump that stays
    block = np.zeros(len(raw))
    block[2_000:2_002] = 30.0  # two bars at a wrong level
    o, h, lo, c = (p + move + block for p in raw.prices)
    found = find_spikes(Raw(15, raw.time, o, h, lo, c, raw.volume), terms())
    assert set(found.rows.tolist()) == {2_000, 2_001}


@given(st.integers(0, 10_000), st.floats(4, 40))
@settings(max_examples=30, deadline=None)
def test_spikes_do_not_depend_on_the_level_and_mirror(seed: int, deviations: float) -> None:
    raw = Raw.of(walk_bars(800, seed=seed))
    rows = find_spikes(raw, terms(), deviations).rows.tolist()
    moved = Raw(15, raw.time, *(p + 64.0 for p in raw.prices), raw.volume)
    assert find_spikes(moved, terms(), deviations).rows.tolist() == rows
    flipped = Raw(15, raw.time, 300 - raw.open, 300 - raw.low, 300 - raw.high, 300 - raw.close, raw.volume)
    assert find_spikes(flipped, terms(), deviations).rows.tolist() == rows


def test_treatment_leaves_the_rows_and_does_what_it_says() -> None:
    raw = Raw.of(walk_bars(6_000, seed=9))
    dirty, planted = ruined(raw, 2)
    before = [p.copy() for p in dirty.prices]
    plain = treat(dirty, terms(), Treatment())
    assert {c.rule: len(c) for c in plain.changes} == {"repeated stamps": 6, "contradicting prices": 6}
    full = Treatment(no_range="leave out", spikes="leave out", contradictions="widen")
    out = treat(dirty, terms(), full)
    assert not planted["spikes"] & set(out.bars.time.tolist())
    assert not planted["flat"] & set(out.bars.time.tolist())
    assert planted["contradiction"] <= set(out.bars.time.tolist())
    capped = treat(dirty, terms(), Treatment(spikes="cap"))
    at = np.isin(capped.bars.time, list(planted["spikes"]))
    usual = np.median(capped.bars.high - capped.bars.low)
    assert at.sum() == 6
    assert (capped.bars.high - capped.bars.low)[at].max() < 12 * usual
    assert report(Raw.of(capped.bars), terms()).finding("spikes").count == 0
    np.testing.assert_array_equal(dirty.time[out.rows], out.bars.time)
    for mine, kept in zip(dirty.prices, before):
        np.testing.assert_array_equal(mine, kept)
    assert out.bars.hash != plain.bars.hash
    with pytest.raises(UserError, match="leaves no bar"):
        treat(dirty, terms(), Treatment(first=pd.Timestamp("2030-01-01").date()))


def test_trim_and_dropped_sessions_and_days() -> None:
    two = terms(sessions=(SessionRule(days=("Mon", "Tue", "Wed", "Thu", "Fri"), open="09:00", close="12:00"),
                          SessionRule(days=("Mon", "Tue", "Wed", "Thu", "Fri"), open="13:00", close="17:00")))
    bars = walk_bars(1_500, sessions=two.sessions)
    raw = Raw.of(bars)
    out = treat(raw, two, Treatment(without_sessions=(1,), without_days=("Mon",),
                                    first=pd.Timestamp("2024-01-16").date(), last=pd.Timestamp("2024-01-31").date())).bars
    local = pd.DatetimeIndex(out.time.view("datetime64[ns]")).tz_localize("UTC").tz_convert("Europe/Oslo")
    assert local.hour.max() < 12
    assert "Monday" not in set(local.day_name())
    assert (str(local[0].date()), str(local[-1].date())) == ("2024-01-16", "2024-01-31")


@pytest.mark.parametrize("data", [sp500, nasdaq])
def test_real_daily_series_pass_the_report(data) -> None:
    """Daily series shipped with the package arch; their trading dates are those of XNYS, its holidays included.

    The one bar that both series share as a spike is 6 May 2010, the day described in the CFTC-SEC report "Findings
    regarding the market events of May 6, 2010" (30 September 2010).
    """
    frame = data.load()
    time = frame.index.as_unit("ns").asi8
    raw = Raw(DAILY, time, *(frame[n].to_numpy(float) for n in ("Open", "High", "Low", "Close")),
              frame["Volume"].to_numpy(float))
    market = terms(tick_size=1e-6, calendar="XNYS", sessions=(), time_zone="America/New_York", kind="other")
    found = report(raw, market)
    assert found.finding("days").count == 0
    assert found.finding("repeated").count == 0
    assert found.finding("contradiction").count == 0
    assert found.score > 90
    days = {str(np.datetime64(p.time, "ns").astype("datetime64[D]")) for p in found.finding("spikes").places}
    assert "2010-05-06" in days
    assert len(days) <= 5
    assert len(treat(raw, market.model_copy(update={"calendar": "", "tick_size": 0.01}), Treatment()).bars) == len(raw)


@pytest.mark.parametrize("code", ["XOSL", "XNYS", "XHKG", "XTKS"])
def test_sessions_of_exchanges_equal_the_package(code: str) -> None:
    """Opens, closes, breaks, holidays and early closes, day by day, against exchange_calendars' own minute answers."""
    table = session_table(terms(calendar=code), ns("2018-01-01"), ns("2020-12-31"))
    with warnings.catch_warnings():  # the package's own use of pandas
        warnings.simplefilter("ignore")
        calendar = exchange_calendars.get_calendar(code, start="2018-01-02", end="2020-12-30")
        minutes = calendar.minutes.tz_localize(None).as_unit("ns").asi8
    at = np.searchsorted(table.open, minutes, "right") - 1
    # The package counts a minute by its start from the open on, the close excluded.
    inside = (at >= 0) & (minutes < table.close[at])
    assert inside.mean() > 0.99
    assert inside.sum() == len(minutes) - np.isin(minutes, table.close).sum()
    dates = set(table.trading_date.astype("datetime64[D]").astype(str).tolist())
    assert set(calendar.sessions.strftime("%Y-%m-%d")) <= dates
    with pytest.raises(UserError, match="no exchange"):
        session_table(terms(calendar="NOWHERE"), ns("2018-01-01"), ns("2018-02-01"))


def test_closed_days_have_no_session() -> None:
    market = terms(closed=("12-25", "2024-01-09"))
    table = session_table(market, ns("2023-12-20"), ns("2024-01-12"))
    dates = table.trading_date.astype("datetime64[D]").astype(str).tolist()
    assert "2023-12-25" not in dates
    assert "2024-01-09" not in dates
    assert "2024-01-10" in dates
    with pytest.raises(ValueError, match="is not a day"):
        terms(closed=("13-40",))


@pytest.mark.parametrize("text", ["Mon-Fri 09:00-17:00", "Sun 17:00-16:00\nMon-Thu 17:00-16:00", "Mon, Wed 08:00-24:00"])
def test_sessions_in_words_come_back(text: str) -> None:
    assert write_sessions(read_sessions(text)) == text
    for wrong in ("Mon 9-17", "Xyz 09:00-10:00", "Mon-Fri 25:00-26:00"):
        with pytest.raises(UserError):
            read_sessions(wrong)


# Intervals

@pytest.mark.parametrize("minutes", [30, 60, 90])
def test_minutes_equal_pandas_resample(minutes: int) -> None:
    """Inside each session, counted from its open, against pandas resample with that origin."""
    bars = walk_bars(1_200, seed=4)
    got = to_interval(bars, minutes)
    frame = pd.DataFrame({"o": bars.open, "h": bars.high, "l": bars.low, "c": bars.close, "v": bars.volume,
                          "s": bars.session}, pd.DatetimeIndex(bars.time.view("datetime64[ns]")))
    parts = []
    for session, part in frame.groupby("s"):
        origin = pd.Timestamp(int(bars.sessions.open[session]))
        how = {"o": "first", "h": "max", "l": "min", "c": "last", "v": "sum"}
        parts.append(part.resample(f"{minutes}min", origin=origin).agg(how).dropna())
    want = pd.concat(parts)
    np.testing.assert_array_equal(got.time, want.index.as_unit("ns").asi8)
    for mine, name in ((got.open, "o"), (got.high, "h"), (got.low, "l"), (got.close, "c"), (got.volume, "v")):
        np.testing.assert_array_equal(mine, want[name])


def test_daily_bars_are_one_a_trading_date_over_all_its_sessions() -> None:
    two = (SessionRule(days=("Mon", "Tue", "Wed", "Thu", "Fri"), open="09:00", close="12:00"),
           SessionRule(days=("Mon", "Tue", "Wed", "Thu", "Fri"), open="13:00", close="17:00"))
    bars = walk_bars(1_000, sessions=two)
    got = to_interval(bars, DAILY)
    frame = pd.DataFrame({"h": bars.h, "o": bars.o, "c": bars.c, "v": bars.volume}).groupby(bars.trading_date)
    np.testing.assert_array_equal(got.h, frame["h"].max())
    np.testing.assert_array_equal(got.o, frame["o"].first())
    np.testing.assert_array_equal(got.c, frame["c"].last())
    np.testing.assert_array_equal(got.volume, frame["v"].sum())
    assert len(got) == bars.day_ends.size
    assert got.last.all()


def slow_groups(rows: list[tuple[int, float, float, float]], kind: str, limit: float) -> list[list[int]]:
    """The rules of bars by activity once more: rows of (session, high, low, volume) to groups of row numbers."""
    groups: list[list[int]] = []
    for i, (session, high, low, _volume) in enumerate(rows):
        now = groups[-1] if groups else None
        fresh = now is None or rows[now[0]][0] != session
        if not fresh:
            assert now is not None
            if kind == "ticks":
                fresh = len(now) >= limit
            elif kind == "volume":
                fresh = sum(rows[j][3] for j in now) >= limit
            else:
                top = max([high, *(rows[j][1] for j in now)])
                bottom = min([low, *(rows[j][2] for j in now)])
                fresh = round(top - bottom, 9) > limit
        (groups.append([i]) if fresh else groups[-1].append(i))
    return groups


@given(st.integers(0, 99), st.sampled_from(["ticks", "volume", "range"]), st.integers(2, 60))
@settings(max_examples=40, deadline=None)
def test_bars_by_activity_equal_their_slow_twin(seed: int, kind: str, count: int) -> None:
    """From single ticks: groups as the rules say, no price invented, never over a session's end."""
    rng = np.random.default_rng(seed)
    n = 300
    time = ns("2024-01-08T08:00") + np.sort(rng.integers(0, 2 * 24 * 3600, n)) * 10**9
    price = np.round(100 + np.cumsum(rng.normal(0, 0.03, n)), 2)
    volume = rng.integers(1, 9, n).astype(float)
    ticks = Raw(0, time, price, price, price, price, volume)
    got = by_activity(ticks, terms(), Interval(kind, count))  # type: ignore[arg-type]
    table = session_table(terms(), int(time[0]), int(time[-1]))
    at = np.searchsorted(table.open, time, "right") - 1
    inside = np.flatnonzero((at >= 0) & (time < table.close[at]))
    rows = [(int(at[i]), float(price[i]), float(price[i]), float(volume[i])) for i in inside]
    groups = slow_groups(rows, kind, count * 0.01 if kind == "range" else count)
    assert len(got) == len(groups)
    for i, group in enumerate(groups):
        prices = price[inside[group]]
        assert (got.open[i], got.high[i], got.low[i], got.close[i]) == (prices[0], prices.max(), prices.min(), prices[-1])
        assert got.volume[i] == volume[inside[group]].sum()
    bars = make_bars(terms(), got.interval, got.time, got.prices, got.volume, "ticks", got.end)
    assert (np.diff(bars.time) > 0).all()
    assert (bars.end > bars.time).all()
    assert (bars.end[:-1] <= bars.time[1:]).all()


def test_range_bars_from_minute_bars_use_only_known_prices() -> None:
    bars = walk_bars(500, seed=8)
    got = by_activity(Raw.of(bars), terms(), Interval("range", 20))
    known = set(np.concatenate([bars.open, bars.high, bars.low, bars.close]).tolist())
    assert set(np.concatenate(got.prices).tolist()) <= known
    assert (got.high - got.low).max() <= 0.2 + 1e-9
    assert got.high.max() == bars.high.max()
    with pytest.raises(UserError, match="no volume"):
        by_activity(replace(Raw.of(bars), volume=np.zeros(len(bars))), terms(), Interval("volume", 100))


@given(st.sampled_from(["15", "45 min", "daily", "500 ticks", "500t", "2,000 volume", "8 range", "8r"]))
def test_interval_codes_come_back(text: str) -> None:
    made = Interval.parse(text)
    assert Interval.of(made.code) == made
    assert made.words
    for wrong in ("", "0", "x", "-5", "99999 min", "2000"):
        with pytest.raises(UserError):
            Interval.parse(wrong)


def test_a_flat_test_on_bars_by_activity_knows_the_sessions_end() -> None:
    """The bar that a session's end cuts short ends with the session and is its last."""
    bars = walk_bars(600, seed=2)
    got = by_activity(Raw.of(bars), terms(), Interval("volume", 3_000))
    made: Bars = make_bars(terms(), got.interval, got.time, got.prices, got.volume, "v", got.end)
    last_of_session = np.append(made.session[1:] != made.session[:-1], True)
    closes = made.sessions.close[made.session]
    np.testing.assert_array_equal(made.last.astype(bool), made.end >= closes)
    assert (made.last.astype(bool) & ~last_of_session).sum() == 0
    assert instants(1, 15)[0] <= made.time[0]
