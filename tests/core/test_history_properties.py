"""Properties of history that hold for any data: guessed layouts, no look-ahead, treatment that settles, scores."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import cross, terms, walk_bars
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.activity import by_activity
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.importing.files import pieces
from wolbrin.core.market.importing.fit import fit_to_sessions
from wolbrin.core.market.importing.guess import guess
from wolbrin.core.market.importing.layout import Layout, make_layout
from wolbrin.core.market.importing.read import Reader
from wolbrin.core.market.importing.times import parse_times
from wolbrin.core.market.intervals import DAILY, Interval, to_interval
from wolbrin.core.market.quality import report
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.schedule import daily_dates, placed_daily
from wolbrin.core.market.terms import SessionRule, Terms
from wolbrin.core.market.treatment import Treatment, treat
from wolbrin.core.market.zones import to_local
from wolbrin.core.store.settings import Settings

BARS = walk_bars(300, seed=21)
RAW = Raw.of(BARS)
STAMPS = ("%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M:%S", "%d.%m.%Y %H:%M:%S", "%Y/%m/%d %H:%M", "%Y%m%d %H%M%S",
          "%d %b %Y %H:%M", "epoch")
HEADS = {"time": ("time", "Timestamp", "Date Time"), "open": ("open", "O", "Open Price"), "high": ("HIGH", "h", "max"),
         "low": ("Low", "l", "min"), "close": ("Close", "c", "settle"), "volume": ("Volume", "vol", "Tick Volume")}


@given(st.permutations(["open", "high", "low", "close", "volume"]), st.sampled_from([",", ";", "\t", "|", "^", "~"]),
       st.sampled_from([".", ","]), st.sampled_from(STAMPS), st.integers(0, 2), st.booleans(), st.integers(0, 3))
@settings(max_examples=40, deadline=None)
def test_any_ordinary_layout_is_guessed(tmp_path_factory: pytest.TempPathFactory, order: list[str], delimiter: str,
                                        sign: str, pattern: str, heads: int, last: bool, skip: int) -> None:
    """Columns in any order under names that occur, the time first or last, some lines of prose before the header."""
    sign = "." if delimiter == "," else sign
    roles = [*order, "time"] if last else ["time", *order]
    columns: dict[str, list[str]] = {r: [f"{x:.2f}".replace(".", sign) for x in getattr(RAW, r)] for r in order}
    when = pd.DatetimeIndex(RAW.time.view("datetime64[ns]"))
    columns["time"] = [str(int(t.timestamp())) for t in when] if pattern == "epoch" else list(when.strftime(pattern))
    lines = ["exported from somewhere", "nothing to see", ""][:skip]
    lines.append(delimiter.join(HEADS[r][heads] for r in roles))
    lines += [delimiter.join(columns[r][i] for r in roles) for i in range(len(RAW))]
    path = tmp_path_factory.mktemp("layout") / "any.txt"
    path.write_text("\n".join(lines) + "\n")
    found = pieces([path])
    got = Reader(found, guess(found[0]).layout).read_all()
    assert got.bad_count == 0
    np.testing.assert_array_equal(got.raw.time, RAW.time)
    for mine, theirs in zip((*got.raw.prices, got.raw.volume), (*RAW.prices, RAW.volume)):
        np.testing.assert_array_equal(mine, theirs)


@given(st.sampled_from(["Europe/Oslo", "America/New_York", "Asia/Tokyo", "UTC"]), st.sampled_from(["open", "close"]),
       st.sampled_from([15, 30]))
@settings(max_examples=24, deadline=None)
def test_the_sessions_tell_how_stamps_were_meant(zone: str, stamp: str, minutes: int) -> None:
    """Whatever of exchange time or UTC was written, and whichever end of the bar: it is found from the schedule."""
    market = terms(time_zone=zone, sessions=(SessionRule(days=("Mon", "Tue", "Wed", "Thu", "Fri"), open="09:00",
                                                         close="15:00"),))
    time = to_interval(walk_bars(900, minutes=15, time_zone=zone, sessions=market.sessions), minutes).time
    shift = minutes * 60 * 10**9 if stamp == "close" else 0
    for written in (zone, "UTC"):
        local = to_local(time + shift, written)
        price = np.full(len(time), 100.0)
        sample = Raw(minutes, local, price, price, price, price, price)
        found = fit_to_sessions(sample, Layout(columns=("time", "open", "high", "low", "close")), market, False)
        assert found.inside == 1.0
        assert found.stamp == stamp
        assert found.zone == written


@given(st.sampled_from(["iso", "%Y-%m-%d %H:%M:%S", "%d.%m.%Y %H:%M", "epoch s", "epoch ms", "%d %b %y"]),
       st.lists(st.text(max_size=24), min_size=1, max_size=40))
@settings(max_examples=150, deadline=None)
def test_any_text_is_a_time_or_is_not(pattern: str, texts: list[str]) -> None:
    out, good, _ = parse_times(np.array(texts, object), pattern)
    assert out.shape == good.shape == (len(texts),)
    years = out[good].view("datetime64[ns]").astype("datetime64[Y]").astype(int) + 1970
    assert ((years >= 1950) & (years < 2100)).all()


# No look-ahead

def _cut(bars: Bars, stop: int) -> Bars:
    return bars.take(stop)


@given(st.integers(0, 5_000), st.sampled_from([30, 60, DAILY]), st.integers(100, 900))
@settings(max_examples=30, deadline=None)
def test_longer_bars_never_change_once_they_are_closed(seed: int, interval: int, stop: int) -> None:
    """Cutting the history leaves every bar that had ended before the cut as it was."""
    bars = walk_bars(1_000, seed=seed)
    whole, part = to_interval(bars, interval), to_interval(_cut(bars, stop), interval)
    until = int(bars.end[stop - 1])
    done = whole.end <= until
    assert len(part) >= done.sum()
    for name in ("time", "end", "o", "h", "l", "c", "volume", "last"):
        np.testing.assert_array_equal(getattr(part, name)[: done.sum()], getattr(whole, name)[done])


@given(st.integers(0, 5_000), st.sampled_from(["ticks", "volume", "range"]), st.integers(3, 40), st.integers(100, 700))
@settings(max_examples=30, deadline=None)
def test_bars_by_activity_never_change_once_they_are_closed(seed: int, kind: str, count: int, stop: int) -> None:
    bars = walk_bars(800, seed=seed)
    interval = Interval(kind, count * 100 if kind == "volume" else count)  # type: ignore[arg-type]
    whole, part = (by_activity(Raw.of(b), terms(), interval) for b in (bars, _cut(bars, stop)))
    sure = len(part) - 1  # the last one may still be growing
    for name in ("time", "open", "high", "low", "close", "volume"):
        np.testing.assert_array_equal(getattr(part, name)[:sure], getattr(whole, name)[:sure])
    if sure:
        np.testing.assert_array_equal(part.end[: sure - 1], whole.end[: sure - 1])


@pytest.mark.parametrize("interval", [Interval("ticks", 40), Interval("volume", 1_500), Interval("range", 30)])
def test_a_strategy_on_bars_by_activity_never_looks_ahead(interval: Interval) -> None:
    """Trades that ended well before a cut are the same without what came after it."""
    bars = walk_bars(2_000, seed=5)

    def run(part: Bars):
        made = by_activity(Raw.of(part), terms(), interval)
        return backtest(Prepared.of(make_bars(terms(), made.interval, made.time, made.prices, made.volume, "a", made.end)),
                        cross(), Brief(costs=Costs(slippage_ticks=1)))

    whole, part = run(bars), run(_cut(bars, 1_400))
    done = part.exit_time < bars.time[1_390]
    assert done.sum() > 5
    np.testing.assert_array_equal(part.trades_f[done], whole.trades_f[: len(part)][done])
    np.testing.assert_array_equal(part.exit_time[done], whole.exit_time[: len(part)][done])


# Treatment and score

RULES = st.builds(Treatment, no_range=st.sampled_from(["keep", "leave out", "leave out without volume"]),
                  spikes=st.sampled_from(["keep", "leave out", "cap"]), deviations=st.floats(6, 20),
                  repeated=st.sampled_from(["keep first", "keep last"]),
                  contradictions=st.sampled_from(["leave out", "widen"]))


def spoiled(seed: int) -> Raw:
    """Rows with repeated stamps, contradictions, flat bars and a spike."""
    rng = np.random.default_rng(seed)
    raw = Raw.of(walk_bars(900, seed=seed))
    o, h, lo, c = (p.copy() for p in raw.prices)
    flat, wrong, spike = rng.choice(np.arange(50, 850), (3, 5), replace=False)
    for p in (o, h, lo):
        p[flat] = c[flat]
    h[wrong] = np.minimum(o[wrong], c[wrong]) - 0.01
    h[spike] += 15.0
    rows = np.sort(np.concatenate([np.arange(900), rng.integers(0, 900, 4)]))
    return Raw(15, raw.time, o, h, lo, c, raw.volume).take(rows)


@given(st.integers(0, 3_000), RULES)
@settings(max_examples=40, deadline=None)
def test_treatment_settles_and_accounts_for_every_row(seed: int, rules: Treatment) -> None:
    """Rows are bars, or left out by a named rule; bars are fit to test on; the same again gives the same bits."""
    raw = spoiled(seed)
    made = treat(raw, terms(), rules)
    gone = sum(len(c) for c in made.changes if c.effect == "left out")
    assert len(made.bars) + gone + made.bars.left_out == len(raw)
    assert len(np.unique(made.rows)) == len(made.bars)
    bars = made.bars
    assert (np.diff(bars.time) > 0).all()
    assert (bars.h >= np.maximum(bars.o, bars.c)).all()
    assert (bars.l <= np.minimum(bars.o, bars.c)).all()
    assert treat(raw, terms(), rules).bars.hash == bars.hash
    changed = {int(r) for c in made.changes if c.effect == "changed" for r in c.rows}
    untouched = ~np.isin(made.rows, list(changed))
    np.testing.assert_array_equal(bars.close[untouched], raw.close[made.rows[untouched]])
    if rules.no_range == "leave out":
        # A capped spike may collapse onto one price; nothing else may.
        assert ((bars.h > bars.l) | np.isin(made.rows, list(changed))).all()


@given(st.integers(0, 3_000))
@settings(max_examples=20, deadline=None)
def test_more_faults_never_raise_the_score(seed: int) -> None:
    clean, dirty = Raw.of(walk_bars(900, seed=seed)), spoiled(seed)
    before, after = report(clean, terms()), report(dirty, terms())
    assert 0 <= after.score <= before.score <= 100
    for found in (before, after):
        assert found.score == pytest.approx(max(0.0, 100 - sum(f.cost for f in found.findings)))
        for f in found.findings:
            assert f.cost >= 0
            assert (f.count > 0) == (len(f.places) > 0), f.key


def test_a_report_names_clock_changes_rolls_and_signs() -> None:
    """Times read an hour off after a clock change, a jump between sessions that stays, and prices at zero."""
    bars = walk_bars(9_000, seed=2)
    raw = Raw.of(bars)
    change = int(np.datetime64("2024-03-31T01:00", "ns").astype(np.int64))
    late = np.where(raw.time > change, raw.time + 3600 * 10**9, raw.time)
    assert report(replace(raw, time=late), terms()).finding("clock").count > 3
    assert report(raw, terms()).finding("clock").count == 0
    first = int(np.searchsorted(raw.time, bars.sessions.open[bars.session[4_000]]))
    step = np.where(np.arange(len(raw)) >= first, 40.0, 0.0)
    rolled = Raw(15, raw.time, *(p + step for p in raw.prices), raw.volume)
    found = report(rolled, terms())
    assert [p.time for p in found.finding("rolls").places] == [int(raw.time[first])]
    assert found.finding("spikes").count == 0
    assert found.score == report(raw, terms()).score, "a roll is shown, not judged"
    sunk = Raw(15, raw.time, *(p - 100.0 for p in raw.prices), raw.volume)
    assert report(sunk, terms()).finding("sign").count > 100
    with pytest.raises(UserError, match="no bars"):
        report(raw.take(slice(0, 0)), terms())


@pytest.mark.parametrize(("zone", "stamp"), [("America/New_York", "00:00"), ("Asia/Tokyo", "00:00"),
                                             ("Europe/Oslo", "17:00")])
def test_daily_rows_keep_their_dates(zone: str, stamp: str) -> None:
    """A bare date means that date wherever the exchange is; a time of day is read on the exchange's clock."""
    dates = pd.bdate_range("2024-01-08", "2024-02-09")
    index = dates if stamp == "00:00" else (dates + pd.Timedelta(stamp + ":00")).tz_localize(zone).tz_convert("UTC")
    time = index.tz_localize(None).as_unit("ns").asi8 if index.tz is not None else index.as_unit("ns").asi8
    price = np.full(len(dates), 100.0)
    raw = Raw(DAILY, time, price, price + 1, price - 1, price, price)
    market = terms(time_zone=zone)
    assert [str(np.datetime64(int(d), "D")) for d in daily_dates(raw, market)] == [f"{d:%Y-%m-%d}" for d in dates]
    bars = treat(raw, market, Treatment()).bars
    assert len(bars) == len(dates)
    assert bars.last.all()
    local = to_local(placed_daily(raw, market).time, zone).view("datetime64[ns]").astype("datetime64[h]")
    assert {str(t)[-2:] for t in local} == {"09"}


# Terms, settings, layouts as data

TERMS = st.builds(
    Terms, code=st.from_regex(r"[A-Z]{2,6}", fullmatch=True), tick_size=st.sampled_from([0.01, 0.25, 0.00001, 5.0]),
    point_value=st.floats(0.01, 1e6), lot_step=st.sampled_from([1.0, 0.01]), spread_ticks=st.floats(0, 50),
    closed=st.lists(st.sampled_from(["12-25", "01-01", "2024-03-29"]), max_size=3).map(tuple),
    price_digits=st.one_of(st.none(), st.integers(0, 8)), time_zone=st.sampled_from(["UTC", "Asia/Kolkata"]))


@given(TERMS)
def test_terms_survive_json_and_older_files_are_read(made: Terms) -> None:
    text = made.model_dump_json()
    assert Terms.model_validate_json(text) == made
    old = {k: v for k, v in made.model_dump().items() if k not in ("calendar", "closed", "price_digits")} | {"version": 1}
    assert Terms.model_validate(old) == made.model_copy(update={"closed": (), "price_digits": None})
    with pytest.raises(ValueError, match="version"):
        Terms.model_validate(old | {"version": 3})


@given(st.dates(dt.date(2005, 1, 1), dt.date(2020, 1, 1)), st.integers(30, 3_000), st.integers(1, 900),
       st.one_of(st.none(), st.integers(1, 60)))
def test_training_ends_the_day_before_the_holdout_whatever_the_limit(first: dt.date, days: int, more: int,
                                                                     months: int | None) -> None:
    border = first + dt.timedelta(days=days)
    made = Settings(training_first=first, holdout_first=border, last=border + dt.timedelta(days=more), most_months=months)
    span = made.training
    assert span.last == border - dt.timedelta(days=1)
    assert span.first is not None
    assert first <= span.first
    if months is not None and span.first > first:
        assert (border.year - span.first.year) * 12 + border.month - span.first.month == months
    assert Settings.model_validate_json(made.model_dump_json()) == made


@pytest.mark.parametrize("change", [{"minutes": 0}, {"build": 5_000}, {"skip": -1}, {"delimiter": ",,"}, {"columns": ()},
                                    {"columns": ("clock", "open", "high", "low", "close")}, {"stamp": "middle"},
                                    {"columns": ("time", "date", "open", "high", "low", "close")}, {"unknown": 1}])
def test_layouts_that_cannot_be_are_refused_by_field(change: dict[str, object], tmp_path: Path) -> None:
    good = {"columns": ("time", "open", "high", "low", "close")}
    make_layout(good)
    with pytest.raises(UserError) as caught:
        make_layout(good | change, str(tmp_path / "l.json"))
    assert "l.json" in str(caught.value)
