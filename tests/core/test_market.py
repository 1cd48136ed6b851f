"""Sessions, tick grid, intervals, terms and CSV files."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.build import WORKDAYS, instants, terms, walk_bars
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.csv_files import read_bars
from wolbrin.core.market.intervals import to_interval
from wolbrin.core.market.sessions import rollovers, session_table
from wolbrin.core.market.terms import SessionRule, Terms, load_terms
from wolbrin.core.market.zones import to_local, to_utc


def ns(text: str) -> int:
    return int(np.datetime64(text, "ns").astype(np.int64))


def test_sessions_follow_daylight_saving() -> None:
    """Oslo moved its clocks on 31 March 2024: 09:00 local is 08:00 UTC before and 07:00 after (tz database)."""
    table = session_table(terms(), ns("2024-03-28"), ns("2024-04-03"))
    opens = table.open.view("datetime64[ns]").astype("datetime64[m]").astype(str).tolist()
    assert "2024-03-29T08:00" in opens
    assert "2024-04-01T07:00" in opens


def test_a_session_over_midnight_belongs_to_the_day_it_ends() -> None:
    night = terms(sessions=(SessionRule(days=("Sun", "Mon"), open="22:00", close="06:00"),))
    table = session_table(night, ns("2024-01-07"), ns("2024-01-09"))
    dates = table.trading_date.astype("datetime64[D]").astype(str).tolist()
    assert "2024-01-08" in dates
    assert "2024-01-07" not in dates
    midnight = terms(sessions=(SessionRule(days=("Mon",), open="09:00", close="24:00"),))
    table = session_table(midnight, ns("2024-01-07"), ns("2024-01-09"))
    assert table.trading_date.astype("datetime64[D]").astype(str).tolist() == ["2024-01-08"]


def test_skipped_times_move_forward_and_repeated_ones_take_the_first() -> None:
    skipped, repeated = ns("2024-03-31T02:30"), ns("2024-10-27T02:30")
    out = to_utc(np.array([skipped, repeated]), "Europe/Oslo").view("datetime64[ns]").astype("datetime64[m]").astype(str)
    assert out.tolist() == ["2024-03-31T01:00", "2024-10-27T00:30"]


@pytest.mark.parametrize("zone", ["Europe/Oslo", "America/New_York", "Australia/Lord_Howe", "Asia/Kolkata", "UTC"])
def test_zones_equal_pandas(zone: str) -> None:
    """Both ways over forty years, every 47 minutes near the changes included, against pandas' own tz handling."""
    utc = np.arange(ns("1990-01-01"), ns("2030-01-01"), 47 * 60 * 10**9 * 37, dtype=np.int64)
    stamps = pd.DatetimeIndex(utc.view("datetime64[ns]")).tz_localize("UTC").tz_convert(zone)
    np.testing.assert_array_equal(to_local(utc, zone), stamps.tz_localize(None).as_unit("ns").asi8)
    local = np.arange(ns("2015-01-01"), ns("2026-01-01"), 17 * 60 * 10**9, dtype=np.int64)
    aware = pd.DatetimeIndex(local.view("datetime64[ns]")).tz_localize(
        zone, ambiguous=np.ones(len(local), bool), nonexistent="NaT")
    got, want = to_utc(local, zone), aware.tz_convert("UTC").tz_localize(None).as_unit("ns")
    there = ~want.isna()
    np.testing.assert_array_equal(got[there], want.asi8[there])
    # A skipped time is moved to the very change: one nanosecond earlier the clock showed an earlier time.
    for moved in got[~there]:
        before, after = to_local(np.array([moved - 1, moved]), zone)
        assert after - before > 1


def test_rollovers_skip_weekends_and_triple_once() -> None:
    """Common practice, no source: three nights on Wednesday make up for the weekend, so a week counts seven."""
    market = terms(financing={"long": -1.0, "time": "17:00", "triple": "Wed"})
    instants_, nights = rollovers(market, ns("2024-01-08"), ns("2024-01-14"))
    inside = (instants_ >= ns("2024-01-08")) & (instants_ < ns("2024-01-15"))
    assert nights[inside].sum() == 7
    assert inside.sum() == 5


def test_the_last_bar_is_known_from_the_schedule_and_outside_bars_are_counted() -> None:
    bars = walk_bars(200)
    ends = bars.sessions.close[bars.session]
    np.testing.assert_array_equal(bars.last.astype(bool), bars.end >= ends)
    assert bars.left_out > 0
    assert (bars.time >= bars.sessions.open[bars.session]).all()


@given(st.integers(-10**6, 10**6), st.sampled_from([0.01, 0.05, 0.25, 0.00001, 0.03, 1.0, 0.5, 2.5]))
def test_prices_on_the_grid_survive_exactly(ticks: int, tick: float) -> None:
    """A price written as a decimal on the grid comes back as that very double, whatever its binary form."""
    market = terms(tick_size=tick)
    decimal = float(market.tick_fraction * ticks)
    time = instants(1, 15)
    bars = make_bars(market, 15, time, tuple(np.array([decimal]) for _ in range(4)))  # type: ignore[arg-type]
    assert bars.c[0] == ticks
    assert bars.off_grid == 0
    assert bars.close[0] == decimal


def test_off_grid_prices_are_moved_and_counted() -> None:
    bars = make_bars(terms(tick_size=0.05), 15, instants(1, 15),
                     tuple(np.array([x]) for x in (100.0, 100.07, 99.99, 100.0)))  # type: ignore[arg-type]
    assert bars.off_grid == 2
    assert (bars.high[0], bars.low[0]) == (100.05, 100.0)


@pytest.mark.parametrize(("spoil", "word"), [
    (lambda p, t: p[0].__setitem__(3, np.nan), "missing"), (lambda p, t: p[1].__setitem__(3, 1.0), "below"),
    (lambda p, t: p[3].__setitem__(3, 1e4), "outside"), (lambda p, t: t.__setitem__(3, t[2]), "repeated"),
    (lambda p, t: t.__setitem__(3, t[0] - 1), "order")])
def test_dirty_bars_are_refused_with_their_number(spoil, word: str) -> None:
    prices = [np.full(6, x) for x in (100.0, 101.0, 99.0, 100.5)]
    time = instants(6, 15)
    spoil(prices, time)
    with pytest.raises(UserError, match=word) as caught:
        make_bars(terms(), 15, time, tuple(prices), source="file.csv")  # type: ignore[arg-type]
    assert "bar 4" in str(caught.value) or "bar 5" in str(caught.value)


@pytest.mark.parametrize("minutes", [30, 45, 60, 120])
def test_resampling_equals_pandas_inside_each_session(minutes: int) -> None:
    """pandas resample, session by session and anchored at its open, as the independent reference."""
    bars = walk_bars(700, seed=3)
    keep = np.random.default_rng(0).random(len(bars)) > 0.1  # with holes
    time, prices = bars.time[keep], [p[keep] for p in (bars.open, bars.high, bars.low, bars.close)]
    holed = make_bars(bars.terms, 15, time, tuple(prices), bars.volume[keep])  # type: ignore[arg-type]
    made = to_interval(holed, minutes)
    frame = pd.DataFrame({"o": holed.open, "h": holed.high, "l": holed.low, "c": holed.close, "v": holed.volume},
                         index=pd.DatetimeIndex(holed.time.view("datetime64[ns]")))
    parts = []
    for session, part in frame.groupby(holed.session):
        origin = pd.Timestamp(int(holed.sessions.open[session]))
        parts.append(part.resample(f"{minutes}min", origin=origin).agg(
            {"o": "first", "h": "max", "l": "min", "c": "last", "v": "sum"}).dropna(subset=["o"]))
    want = pd.concat(parts)
    np.testing.assert_array_equal(made.time, want.index.to_numpy("datetime64[ns]").view(np.int64))
    for name, got in (("o", made.open), ("h", made.high), ("l", made.low), ("c", made.close), ("v", made.volume)):
        np.testing.assert_allclose(got, want[name].to_numpy())
    assert (made.end <= made.sessions.close[made.session]).all()


def test_an_interval_that_does_not_fit_is_refused() -> None:
    with pytest.raises(UserError, match="cannot be built"):
        to_interval(walk_bars(50), 20)


def test_market_files_name_the_wrong_field(tmp_path: Path) -> None:
    good = terms().model_dump(mode="json")
    path = tmp_path / "market.json"
    path.write_text(json.dumps(good))
    assert load_terms(path) == terms()
    overlap = [{"days": ["Mon"], "open": "09:00", "close": "12:00"}, {"days": ["Mon"], "open": "11:00", "close": "15:00"}]
    for change, word in (({"tick_size": 0}, "tick_size"), ({"time_zone": "Mars/Base"}, "time_zone"), ({"hue": 1}, "hue"),
                         ({"sessions": overlap}, "overlap"),
                         ({"sessions": [{"days": ["Mon"], "open": "9", "close": "12:00"}]}, "time of day")):
        path.write_text(json.dumps(good | change))
        with pytest.raises(UserError, match=word):
            load_terms(path)
    path.write_text('{"code": "X",')
    with pytest.raises(UserError, match="line 1, column"):
        load_terms(path)
    with pytest.raises(UserError, match="does not exist"):
        load_terms(tmp_path / "none.json")


HEADER = "time,open,high,low,close,volume\n"


def write(path: Path, text: str | bytes) -> Path:
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    return path


def test_csv_layouts_read_alike(tmp_path: Path) -> None:
    """ISO stamps, epoch seconds, separate date and time, semicolons with decimal commas: the same bars."""
    bars = walk_bars(40)
    stamps = bars.time.view("datetime64[ns]").astype("datetime64[s]")
    rows = list(zip(bars.open, bars.high, bars.low, bars.close, bars.volume))
    iso = HEADER + "".join(f"{t},{o},{h},{lo},{c},{v}\n" for t, (o, h, lo, c, v) in zip(stamps, rows))
    epoch = HEADER + "".join(f"{t.astype(int)},{o},{h},{lo},{c},{v}\n" for t, (o, h, lo, c, v) in zip(stamps, rows))
    split = "Date;Time;Open;High;Low;Close;Volume\n" + "".join(
        ";".join([str(t)[:10], str(t)[11:], *(f"{x:.2f}".replace(".", ",") for x in r)]) + "\n" for t, r in zip(stamps, rows))
    zoned = HEADER + "".join(f"{t}+00:00,{o},{h},{lo},{c},{v}\n" for t, (o, h, lo, c, v) in zip(stamps, rows))
    for name, text in (("iso", iso), ("epoch", epoch), ("split", split), ("zoned", zoned)):
        read = read_bars(write(tmp_path / f"{name}.csv", text), terms())
        assert read.interval == 15, name
        np.testing.assert_array_equal(read.time, bars.time, name)
        np.testing.assert_array_equal(read.c, bars.c, name)


@pytest.mark.parametrize(("text", "word"), [
    ("", "empty"), (HEADER, "no bars"), ("a,b\n1,2\n", "looks like a date"),
    (HEADER + "2024-01-08T08:00,1,2,1,1,1\n2024-01-08T08:15,1,2,x,1,1\n", "row 3: the low \"x\""),
    (HEADER + "yesterday,1,2,1,1,1\n", "not a time|looks like a date"),
    (HEADER + "2024-01-08T08:00,1,2,1\n2024,1,2,3,4,5,6,7\n", "table|not"),
    ("time,open,open,high,low,close\n2024-01-08T08:00,1,1,1,1,1\n", "twice"),
    (b"PK\x00\x01\x00\x00\x00binary", "not a text file")])
def test_bad_csv_is_one_sentence_naming_the_place(tmp_path: Path, text: str | bytes, word: str) -> None:
    path = write(tmp_path / "bad.csv", text)
    with pytest.raises(WolbrinError, match=word) as caught:
        read_bars(path, terms())
    assert "bad.csv" in str(caught.value)
    assert "Traceback" not in str(caught.value)


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.binary(max_size=300) | st.text(max_size=300).map(lambda t: (HEADER + t).encode("utf-8", "ignore")))
def test_random_bytes_never_break_the_reader(tmp_path: Path, data: bytes) -> None:
    try:
        read_bars(write(tmp_path / "fuzz.csv", data), terms())
    except WolbrinError as err:
        assert len(str(err)) < 700


def test_taking_a_part_keeps_the_bars() -> None:
    bars: Bars = walk_bars(100)
    part = bars.take(40)
    assert len(part) == 40
    np.testing.assert_array_equal(part.close, bars.close[:40])
    assert part.hash != bars.hash
    assert Terms.model_validate_json(bars.terms.model_dump_json()) == bars.terms
    assert bars.terms.sessions[0].days == WORKDAYS
