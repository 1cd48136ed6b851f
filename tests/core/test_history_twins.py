"""Slow, plain twins of the history code, written from docs/markets.md, against the fast one on random histories."""

from __future__ import annotations

import datetime as dt
import os
import signal
import subprocess
import sys
import time
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import terms, walk_bars
from wolbrin.core.market.contracts import Month, Rule, adjusted, join_months
from wolbrin.core.market.importing.append import join
from wolbrin.core.market.quality import report
from wolbrin.core.market.raw import Raw, concatenated, in_order
from wolbrin.core.market.schedule import coverage
from wolbrin.core.market.sessions import session_table
from wolbrin.core.market.spikes import BACK_SHARE, BACK_WITHIN, find_spikes, usual_range
from wolbrin.core.market.terms import SessionRule, Terms
from wolbrin.core.market.treatment import Treatment, treat
from wolbrin.core.market.two_sources import compare_sources
from wolbrin.core.store.history import History, read_raw, write_raw
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings

OSLO = ZoneInfo("Europe/Oslo")
NS = 10**9


def holes(raw: Raw, seed: int, share: float = 0.05) -> Raw:
    """A history in which bars, and now and then a whole day, are missing."""
    rng = np.random.default_rng(seed)
    day = raw.time // (86_400 * NS)
    gone = np.isin(day, rng.choice(np.unique(day), max(1, len(np.unique(day)) // 12), replace=False))
    keep = (rng.random(len(raw)) >= share) & ~gone
    keep[[0, -1]] = True
    return raw.take(keep)


def slow_schedule(raw: Raw, market: Terms) -> tuple[int, int, int, set[dt.date]]:
    """Expected and missing bars on days that have some, trading dates, and dates without any: minute by minute in local
    time, for plain sessions within one day."""
    rule = market.sessions[0]
    have = set(raw.time.tolist())
    first, last = int(raw.time[0]), int(raw.time[-1])
    day = dt.datetime.fromtimestamp(first / NS, OSLO).date()
    end = dt.datetime.fromtimestamp(last / NS, OSLO).date()
    expected = missing = dates = 0
    empty: set[dt.date] = set()
    while day <= end:
        if day.strftime("%a") in rule.days and f"{day:%m-%d}" not in market.closed:
            opens = dt.datetime.combine(day, dt.time.fromisoformat(rule.open), OSLO)
            closes = dt.datetime.combine(day, dt.time.fromisoformat(rule.close), OSLO)
            slots = []
            at = int(opens.timestamp())
            while at < int(closes.timestamp()):
                if at * NS + raw.interval * 60 * NS > first and at * NS <= last:
                    slots.append(at * NS)
                at += raw.interval * 60
            if slots or (int(closes.timestamp()) * NS > first and int(opens.timestamp()) * NS <= last):
                dates += 1
                there = [s for s in slots if s in have]
                if not there:
                    empty.add(day)
                else:
                    expected += len(slots)
                    missing += len(slots) - len(there)
        day += dt.timedelta(days=1)
    return expected, missing, dates, empty


@given(st.integers(0, 10_000), st.sampled_from([15, 30]), st.floats(0, 0.3))
@settings(max_examples=25, deadline=None)
def test_coverage_equals_its_slow_twin(seed: int, minutes: int, share: float) -> None:
    """March included, so that a clock change lies inside."""
    market = terms(closed=("01-17", "03-08"))
    raw = holes(Raw.of(walk_bars(1_800, seed=seed, minutes=minutes, closed=market.closed)), seed, share)
    got = coverage(raw, market)
    expected, missing, dates, empty = slow_schedule(raw, market)
    assert (got.expected, got.missing, got.dates) == (expected, missing, dates)
    assert {dt.date(1970, 1, 1) + dt.timedelta(days=int(d)) for d in got.empty_dates} == empty
    assert got.gap_bars.sum() == missing
    found = report(raw, market)
    assert found.finding("days").count == len(empty)
    whole = np.nansum(found.complete) / np.count_nonzero(~np.isnan(found.complete))
    assert 0 <= whole <= 1


def slow_spikes(raw: Raw, market: Terms, deviations: float) -> list[int]:
    """Bars of spikes, bar by bar, from the usual range that the fast code worked out."""
    usual, deviation = usual_range(raw, market)
    step = [int(b - a) for a, b in zip(raw.time[:-1].tolist(), raw.time[1:].tolist())]
    median = float(np.median(step))
    found: list[int] = []
    i = 0
    while i < len(raw):
        before = raw.open[i] if i == 0 or step[i - 1] > 4 * median else raw.close[i - 1]
        up, down = raw.high[i] - before, before - raw.low[i]
        reach = max(up, down)
        back = None
        if reach > usual[i] + deviations * deviation[i]:
            for j in range(i, min(len(raw), i + BACK_WITHIN + 1)):
                if abs(raw.close[j] - before) <= BACK_SHARE * reach:
                    back = j
                    break
        if back is None:
            i += 1
            continue
        for j in range(i, back + 1):
            beyond = raw.high[j] - before if up >= down else before - raw.low[j]
            if beyond > BACK_SHARE * reach:
                found.append(j)
        i = back + 1
    return found


@given(st.integers(0, 10_000), st.floats(3, 12))
@settings(max_examples=30, deadline=None)
def test_spikes_equal_their_slow_twin(seed: int, deviations: float) -> None:
    raw = Raw.of(walk_bars(700, seed=seed))
    rng = np.random.default_rng(seed)
    o, h, lo, c = (p.copy() for p in raw.prices)
    for at in rng.integers(5, 690, 6):
        size = float(rng.choice([-2, -1, 1, 2]))
        for k in range(at, at + int(rng.integers(1, 4))):
            h[k] += max(size, 0)
            lo[k] += min(size, 0)
            c[k] = np.clip(c[k] + size, lo[k], h[k])
    spoiled = Raw(15, raw.time, o, h, lo, c, raw.volume)
    assert find_spikes(spoiled, terms(), deviations).rows.tolist() == slow_spikes(spoiled, terms(), deviations)


@given(st.integers(0, 10_000))
@settings(max_examples=40, deadline=None)
def test_appending_equals_a_dictionary(seed: int) -> None:
    """By stamp: what is there stays, what is new is added, in any overlap; twice is as good as once."""
    rng = np.random.default_rng(seed)
    raw = Raw.of(walk_bars(200, seed=seed))
    old = raw.take(np.sort(rng.choice(200, int(rng.integers(1, 200)), replace=False)))
    new = raw.take(np.sort(rng.choice(200, int(rng.integers(1, 200)), replace=False)))
    moved = np.flatnonzero(rng.random(len(new)) < 0.2)
    close = new.close.copy()
    close[moved] += 0.01
    new = Raw(15, new.time, new.open, new.high, new.low, close, new.volume)
    have = dict(zip(old.time.tolist(), old.close.tolist()))
    fresh = {t: c for t, c in zip(new.time.tolist(), close.tolist()) if t not in have}
    differ = sum(t in have and have[t] != c for t, c in zip(new.time.tolist(), close.tolist()))
    made = join(old, new)
    assert (made.added, made.differ) == (len(fresh), differ)
    assert made.same == len(new) - len(fresh) - differ
    assert dict(zip(made.raw.time.tolist(), made.raw.close.tolist())) == fresh | have
    assert (np.diff(made.raw.time) > 0).all()
    again = join(made.raw, new)
    assert (again.added, again.differ) == (0, differ)
    taken = join(old, new, "new")
    assert dict(zip(taken.raw.time.tolist(), taken.raw.close.tolist())) == have | dict(zip(new.time.tolist(), close.tolist()))


def slow_join(months: list[Month], rule: Rule) -> dict[int, float]:
    """Stamp to adjusted close, day by day in UTC dates, for roll by volume and unrounded difference adjustment."""
    def by_day(month: Month) -> dict[int, list[int]]:
        days: dict[int, list[int]] = {}
        for i, t in enumerate(month.raw.time.tolist()):
            days.setdefault(t // (86_400 * NS), []).append(i)
        return days

    every = [by_day(m) for m in months]
    borders, steps = [], []
    for a in range(len(months) - 1):
        old, new = every[a], every[a + 1]
        crossed = next((d for d in sorted(old.keys() & new.keys())
                        if sum(months[a + 1].raw.volume[i] for i in new[d]) > sum(months[a].raw.volume[i] for i in old[d])),
                       max(old))
        first = min(d for d in new if d > crossed)
        before = max(d for d in old.keys() & new.keys() if d < first)
        borders.append(first)
        steps.append(float(months[a + 1].raw.close[new[before][-1]] - months[a].raw.close[old[before][-1]]))
    out: dict[int, float] = {}
    for a, month in enumerate(months):
        shift = sum(steps[a:]) if rule.adjust == "difference" else 0.0
        for day, rows in every[a].items():
            if (a == 0 or day >= borders[a - 1]) and (a == len(borders) or day < borders[a]):
                for i in rows:
                    out[int(month.raw.time[i])] = round(float(month.raw.close[i]) + shift, 6)
    return out


@given(st.integers(0, 10_000), st.sampled_from(["unadjusted", "difference"]))
@settings(max_examples=25, deadline=None)
def test_joined_months_equal_their_slow_twin(seed: int, adjust: str) -> None:
    rng = np.random.default_rng(seed)
    bars = Raw.of(walk_bars(1_500, seed=seed))
    months = []
    for number in range(3):
        part = bars.take(slice(number * 400, number * 400 + 650))
        left = np.linspace(1, 0, len(part))
        weight = np.where(left > 0.7, 0.1, np.where(left > 0.25, 1.0, 0.2))
        premium = round(float(rng.normal(0, 1)), 2) * number
        months.append(Month(f"m{number}", Raw(15, part.time, *(np.round(p + premium, 2) for p in part.prices),
                                              np.ceil(part.volume * weight))))
    rule = Rule("volume", adjust)  # type: ignore[arg-type]
    made = join_months(months, terms(), rule)
    moved = adjusted(made.raw, terms(), [(r.time, r.difference, r.ratio) for r in made.rolls], rule.adjust,
                     int(made.raw.time[-1]) + 1)
    got = {int(t): round(float(c), 6) for t, c in zip(moved.time, moved.close)}
    assert got == slow_join(months, rule)
    assert [r.left for r in made.rolls] == ["m0", "m1"]
    assert (np.diff(made.raw.time) > 0).all()


@given(st.integers(0, 10_000))
@settings(max_examples=25, deadline=None)
def test_compared_sources_equal_sets(seed: int) -> None:
    rng = np.random.default_rng(seed)
    bars = walk_bars(600, seed=seed)
    raw = Raw.of(bars)
    close = np.clip(raw.close + 0.01 * rng.integers(-1, 2, 600), raw.low, raw.high)
    other = Raw(15, raw.time, raw.open, raw.high, raw.low, close, raw.volume)
    one = treat(raw.take(rng.random(600) < 0.9), terms(), Treatment()).bars
    two = treat(other.take(rng.random(600) < 0.9), terms(), Treatment()).bars
    made = compare_sources(one, two)
    a, b = dict(zip(one.time.tolist(), one.c.tolist())), dict(zip(two.time.tolist(), two.c.tolist()))
    begin, end = max(min(a), min(b)), min(max(a), max(b))
    a, b = ({t: c for t, c in x.items() if begin <= t <= end} for x in (a, b))
    assert (made.both, made.only_first, made.only_second) == (len(a.keys() & b.keys()), len(a.keys() - b.keys()),
                                                             len(b.keys() - a.keys()))
    assert {int(t): int(d) for t, d in zip(made.times, made.ticks)} == {t: b[t] - a[t] for t in a.keys() & b.keys()}
    assert [abs(x.ticks) for x in made.apart] == sorted((abs(b[t] - a[t]) for t in a.keys() & b.keys() if a[t] != b[t]),
                                                        reverse=True)


@given(st.integers(0, 10_000), st.booleans())
@settings(max_examples=15, deadline=None)
def test_rows_survive_their_file_and_pieces_their_joining(tmp_path_factory: pytest.TempPathFactory, seed: int,
                                                          interest: bool) -> None:
    folder = tmp_path_factory.mktemp("rows")
    raw = Raw.of(walk_bars(300, seed=seed))
    if interest:
        raw = Raw(15, raw.time, *raw.prices, raw.volume, None, np.arange(300.0))
    write_raw(folder / "a.parquet", raw)
    back = read_raw(folder / "a.parquet", 15)
    for name in ("time", "open", "high", "low", "close", "volume", "open_interest"):
        np.testing.assert_array_equal(getattr(back, name), getattr(raw, name))
    cut = int(np.random.default_rng(seed).integers(1, 299))
    swapped, late = in_order(concatenated([raw.take(slice(cut, 300)), raw.take(slice(0, cut))]))
    assert late == 1
    np.testing.assert_array_equal(swapped.time, raw.time)
    np.testing.assert_array_equal(swapped.close, raw.close)
    history = History(str(folder / "a.parquet"), "", 15, terms())
    assert history.at(30).hash == history.at(30, history.treated().bars).hash


@given(st.lists(st.sampled_from(["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"]), min_size=1, max_size=5, unique=True),
       st.integers(0, 23), st.integers(1, 23))
@settings(max_examples=40, deadline=None)
def test_sessions_equal_local_clock_time(days: list[str], opens: int, hours: int) -> None:
    """Opens and closes over a year in Oslo, both clock changes included, against the zoneinfo module day by day."""
    closes = (opens + hours) % 24
    market = terms(sessions=(SessionRule(days=tuple(days), open=f"{opens:02d}:00", close=f"{closes:02d}:00"),))
    first, last = (int(np.datetime64(x, "ns").astype(np.int64)) for x in ("2024-01-10", "2024-12-20"))
    table = session_table(market, first, last)
    got = {(int(a), int(b)) for a, b in zip(table.open, table.close) if first <= a <= last}
    want = set()
    day = dt.date(2024, 1, 8)
    while day < dt.date(2024, 12, 24):
        if day.strftime("%a") in days:
            start = dt.datetime.combine(day, dt.time(opens), OSLO)
            stop = dt.datetime.combine(day + dt.timedelta(days=closes <= opens), dt.time(closes), OSLO)
            a, b = (int(x.timestamp()) * NS for x in (start, stop))
            if first <= a <= last:
                want.add((a, b))
        day += dt.timedelta(days=1)
    # On the night of a change an hour that is skipped or repeated may move an open or a close by that hour.
    assert len(got ^ want) <= 4
    assert all(abs(a - b) > 0 for a, b in got)


KILLED = """
import sys
from pathlib import Path
import numpy as np
from tests.build import walk_bars
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.raw import Raw
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.work.importing import take_in
project = Project(Path(sys.argv[1]))
bars = walk_bars(4_000, seed=1, code="AAA")
raw = Raw.of(bars)
layout = Layout(columns=("time", "open", "high", "low", "close"))
print("ready", flush=True)
for i in range(2, 10_000):
    part = raw.take(slice(0, 200 + i * 7 % 3_000))
    take_in(project, bars.terms, f"feed {i % 3}", part, keep="old", origin="x", layout=layout)
"""


@pytest.mark.parametrize("after", [0.15, 0.6])
def test_an_import_that_is_killed_leaves_a_whole_project(tmp_path: Path, after: float) -> None:
    """kill -9 in the middle of taking files in: every source that is listed can be read, whole."""
    folder = tmp_path / "p"
    Project.create(folder, Settings(training_first=dt.date(2000, 1, 1), holdout_first=dt.date(2100, 1, 1),
                                    last=dt.date(2100, 12, 31))).close()
    worker = subprocess.Popen([sys.executable, "-c", KILLED, str(folder)], stdout=subprocess.PIPE, text=True,
                              cwd=Path(__file__).parents[2])
    assert worker.stdout is not None
    assert worker.stdout.readline().strip() == "ready"
    time.sleep(after)
    os.kill(worker.pid, signal.SIGKILL)
    worker.wait()
    worker.stdout.close()
    project = Project(folder)
    for source in project.sources.all():
        assert len(project.sources.raw(source)) == source.rows
        assert len(project.base(source.market, source.name)) > 0
    assert [m.code for m in project.markets()] in ([], ["AAA"])
    project.close()
