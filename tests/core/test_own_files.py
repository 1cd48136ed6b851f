"""What is found in files beyond their form: closed hours, thin markets, several markets, odd rows, grids, schedules. Forms
themselves are read from end to end in tests/cli/test_own_files.py. Schedules of listed exchanges: package exchange_calendars.
Daily series: package arch."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import arch.data.nasdaq
import arch.data.sp500
import arch.data.wti
import numpy as np
import pandas as pd
import pytest

from tests.build import any_seed
from tests.corpus.forms import Form, write
from tests.corpus.truth import Truth, truth
from wolbrin.core.errors import WolbrinError
from wolbrin.core.market.contracts import Month, Rule, adjusted, join_months
from wolbrin.core.market.exchanges import exchange_codes, exchange_sessions, exchange_zone
from wolbrin.core.market.importing.files import pieces
from wolbrin.core.market.importing.grouping import code_in
from wolbrin.core.market.likely.clock import find_clock
from wolbrin.core.market.likely.closed import find_closed
from wolbrin.core.market.likely.grid import find_grid
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_DAY, NS_A_MINUTE, session_table
from wolbrin.core.market.terms import Terms
from wolbrin.core.work.looking import Judged, Wishes, days_of, judge, open_files
from wolbrin.core.work.starting import likely_spans


@pytest.fixture
def seed() -> int:
    drawn = any_seed()
    print(f"seed {drawn}")
    return drawn


def look(paths: list[Path], **said: object) -> list[Judged]:
    wishes = Wishes(**said)
    opened = open_files(pieces(paths), wishes)
    spans = likely_spans(days_of(opened))
    return [judge(o, replace(wishes, border=spans.border)) for o in opened]


def schedule(terms: Terms, raw: Raw) -> tuple[list[int], list[int]]:
    table = session_table(terms, int(raw.time[0]), int(raw.time[-1]))
    return table.open.tolist(), table.close.tolist()


def lines(raw: Raw, pattern: str = "%Y-%m-%d %H:%M", digits: int = 2) -> list[str]:
    stamps = pd.DatetimeIndex(raw.time.view("datetime64[ns]")).strftime(pattern)
    return [f"{t},{o:.{digits}f},{h:.{digits}f},{l:.{digits}f},{c:.{digits}f},{v:.0f}"
            for t, o, h, l, c, v in zip(stamps, *raw.prices, raw.volume)]  # noqa: E741


def put(folder: Path, rows: list[str], name: str = "PWR.csv", header: str = "time,open,high,low,close,volume") -> list[Path]:
    (folder / name).write_text("\n".join([header, *rows]) + "\n")
    return [folder / name]


def padded(known: Truth, volume: bool) -> Raw:
    """Bars at every quarter of an hour, closed hours filled with the last price, as some sources deliver them."""
    raw = known.raw
    time = np.arange(raw.time[0], raw.time[-1] + 1, raw.interval * NS_A_MINUTE)
    at = np.searchsorted(raw.time, time, "right") - 1
    own = raw.time[at] == time
    o, h, l = (np.where(own, getattr(raw, f)[at], raw.close[at]) for f in ("open", "high", "low"))  # noqa: E741
    traded = np.where(own, raw.volume[at], 0.0) if volume else np.zeros(len(time))
    return Raw(raw.interval, time, o, h, l, raw.close[at], traded)


@pytest.mark.parametrize("volume", [True, False])
def test_flat_weekends_are_known_for_closed_hours(tmp_path: Path, volume: bool) -> None:
    known = truth("EURSEK", half_days=False)
    found = look(put(tmp_path, lines(padded(known, volume), digits=5), "EURSEK.csv"))[0]
    assert schedule(found.terms, known.raw) == schedule(known.terms, known.raw)
    assert any("closed hours" in f.why for f in found.findings)


def test_thin_markets_and_ticks_show_their_sessions_too(tmp_path: Path) -> None:
    thin = truth("PWR", 3, 0.7)
    found = look(put(tmp_path, lines(thin.raw)))[0]
    assert schedule(found.terms, thin.raw) == schedule(thin.terms, thin.raw)
    folder = tmp_path / "parts"
    folder.mkdir()
    put(folder, lines(thin.raw)[:3000], "PWR_a.csv"), put(folder, lines(thin.raw)[3000:], "PWR_b.csv")
    assert [len(j.bars) for j in look([folder])] == [len(thin.raw)], "holes make no other interval"
    raw = truth("PWR").raw.take(slice(0, 4000))
    time = (raw.time[:, None] + np.arange(4) * 200 * 10**9).ravel()
    price = np.stack(raw.prices, 1).ravel()
    stamps = pd.DatetimeIndex(time.view("datetime64[ns]")).strftime("%Y%m%d %H%M%S%f")
    path = tmp_path / "PWR ticks.csv"
    path.write_text("\n".join(f"{t[:-3]};{p - 0.25:.2f};{p:.2f};{1 + i % 5}" for i, (t, p) in enumerate(zip(stamps, price))))
    ticks = look([path])[0]
    np.testing.assert_array_equal(ticks.imported.raw.time, time)
    np.testing.assert_allclose(ticks.imported.raw.close, price - 0.125)
    assert (ticks.terms.tick_size, ticks.terms.spread_ticks) == (0.25, 1.0)
    assert [(r.open, r.close) for r in ticks.terms.sessions] == [("09:00", "17:00")]


def test_settings_and_notes_in_a_folder_are_no_history(tmp_path: Path) -> None:
    raw = truth("PWR").raw
    put(tmp_path, lines(raw))
    (tmp_path / "market-pwr.json").write_text(truth("PWR").terms.model_dump_json())
    (tmp_path / "notes.json").write_text('{"about": "bars of 2019"}')
    (tmp_path / "README.md").write_text("bars")
    assert [len(j.bars) for j in look([tmp_path])] == [len(raw)]


def test_several_markets_are_told_apart_by_name_or_column(tmp_path: Path) -> None:
    a, b = truth("PWR").raw, truth("GRN").raw
    folder = tmp_path / "two"
    folder.mkdir()
    put(folder, lines(a)[:9000], "PWR_2018.csv"), put(folder, lines(a)[9000:], "PWR_2019.csv")
    put(folder, lines(b), "GRN 5min.csv")
    both = {j.code: j for j in look([folder])}
    column = put(tmp_path, [f"PWR,{x}" for x in lines(a)] + [f"GRN,{x}" for x in lines(b)], "all.csv",
                 "ticker,time,open,high,low,close,volume")
    for found in (both, {j.code: j for j in look(column)}):
        assert {c: len(j.bars) for c, j in found.items()} == {"PWR": len(a), "GRN": len(b)}
        np.testing.assert_array_equal(found["GRN"].bars.time, b.time)


@pytest.mark.parametrize(("name", "code"), [
    ("PWR_2019.csv", "PWR"), ("pwr-15min-2019-01.txt", "PWR"), ("EUR_USD 1h.csv", "EURUSD"),
    ("x_export_EURUSD_M1.csv", "EURUSD"), ("bars 2019.csv", ""), ("NPW2019.csv", "NPW"), ("20190102.csv", "")])
def test_names_of_files_call_their_market(name: str, code: str) -> None:
    assert code_in(Path(name).stem) == code


def test_dates_that_may_be_read_two_ways_are_asked(tmp_path: Path) -> None:
    """No day above the twelfth: the order shows only where days would not follow each other otherwise."""
    raw = truth("PWR").raw
    day = pd.DatetimeIndex(raw.time.view("datetime64[ns]"))
    some = raw.take(np.asarray((day.day == day.month) & (day.day <= 12)))
    found = look(put(tmp_path, lines(some, "%d/%m/%Y %H:%M")))[0]
    order = next(f for f in found.findings if f.what == "times are written")
    assert order.sure, "both readings are the same days"
    few = raw.take(np.asarray(day.day <= 12))
    told = next(f for f in look(put(tmp_path, lines(few, "%d/%m/%Y %H:%M")))[0].findings if f.what == "times are written")
    assert told.value.startswith("day month year")
    assert told.sure
    put(tmp_path, lines(raw.take(slice(0, 32)), "03/04/2019 %H:%M"), "ONE.csv")
    one = open_files(pieces([tmp_path / "ONE.csv"]), Wishes())[0].guess
    asked = next(f for f in one.findings if f.what == "times are written")
    assert (asked.ask, asked.option, len(asked.answers)) == (True, "--date-order", 2)
    assert asked.answers[0].means != asked.answers[1].means


def later(raw: Raw, years: int) -> Raw:
    return replace(raw, time=raw.time + years * 364 * NS_A_DAY)


P, G = truth("PWR").raw, truth("GRN").raw
ODD: dict[str, tuple[Callable[[], list[str]], str]] = {
    "two markets mixed": (lambda: [x for p in zip(lines(P)[:3000], lines(G)[:3000]) for x in p], "seem to be mixed"),
    "another market appended": (lambda: lines(P)[:9000] + lines(later(G.take(slice(0, None, 3)), 2))[:3000],
                                "jump at row 9,002"),
    "two intervals": (lambda: lines(P)[:9000] + lines(later(P.take(slice(0, 9000, 2)), 2)), "minutes apart"),
    "a gap of years": (lambda: lines(P)[:6000] + lines(later(P.take(slice(6000, None)), 4)), "there are no rows from"),
    "another form of times": (lambda: lines(P)[:6000] + lines(P, "%d.%m.%Y %H:%M")[6000:], "change their form within"),
    "all prices equal": (lambda: [f"{x.split(',')[0]},5,5,5,5,1" for x in lines(P)], "all 15,515 prices are 5"),
    "three rows": (lambda: lines(P)[:3], "on 1 day"),
    "times run backward": (lambda: lines(P)[::-1], "newest rows stand first"),
    "a header between": (lambda: [*lines(P)[:900], "time,open,high,low,close,volume", *lines(P)[900:]], "the header again"),
    "no grid": (lambda: lines(replace(P, **{f: getattr(P, f) * 0.8317349 for f in ("open", "high", "low", "close")}),
                              digits=6), "no common grid"),
    "a header alone": (lambda: [], "there are no bars"),
}


@pytest.mark.parametrize("name", ODD)
def test_what_is_odd_is_told_in_a_sentence(tmp_path: Path, name: str) -> None:
    make, words = ODD[name]
    try:
        found = look(put(tmp_path, make()))[0]
        told = " ".join([*(f.sentence() for f in found.findings), *found.imported.notes])
    except WolbrinError as err:
        told = err.sentence()
    assert words in told, told


@pytest.mark.parametrize(("module", "rows"), [(arch.data.sp500, 5031), (arch.data.nasdaq, 5031), (arch.data.wti, 8321)])
def test_real_daily_series_need_no_word(tmp_path: Path, module: object, rows: int) -> None:
    """Daily index values and oil prices as package arch ships them; they carry floating-point noise, and cents."""
    path = tmp_path / f"{module.__name__.split('.')[-1]}.csv"
    module.load().to_csv(path)
    found = look([path])[0]
    assert {f.option for f in found.questions} <= {"--point-value"}
    assert (len(found.bars), found.bars.interval, found.terms.tick_size) == (rows, 1440, 0.01)


def test_overlapping_bars_tell_zone_and_end_of_the_bar(tmp_path: Path) -> None:
    """What is in the project already decides more surely than any schedule."""
    known = truth("PWR")
    form = Form(zone="America/New_York", stamp="close", rows=slice(9000, 12_000))
    found = look(write(form, known, tmp_path), terms=known.terms, old=known.raw.take(slice(0, 10_000)))[0]
    np.testing.assert_array_equal(found.bars.time, known.raw.time[9000:12_000])
    assert not found.questions


def exchange_bars(code: str, minutes: int, rng: np.random.Generator) -> tuple[Raw, list[tuple[int, int]]]:
    """Two years of bars on an exchange's real schedule, three in a hundred missing, and its sessions."""
    first = int(np.datetime64("2018-01-01").astype(int))
    table = exchange_sessions(code, first, first + 730)
    time = np.concatenate([np.arange(a, b, minutes * NS_A_MINUTE) for a, b in zip(table.open, table.close)])
    time = np.unique(time[rng.random(len(time)) > 0.03])
    close = 100 + np.cumsum(rng.normal(0, 0.05, len(time)))
    return Raw(minutes, time, close, close + 0.1, close - 0.1, close, np.ones(len(time))), list(zip(table.open, table.close))


def test_sessions_of_listed_exchanges_are_found(seed: int) -> None:
    """Against the schedules of package exchange_calendars, holidays and early closes included: share of open minutes that are
    found, and of found minutes that are closed on more than holidays and half days."""
    rng = np.random.default_rng(seed)
    codes = ["XOSL", "XLON", "XNYS", "XETR", "XPAR", "XSTO", "XTSE", "XASX", "XTKS", "XHKG", "XSWX", "XHEL", "XNZE", "CMES"]
    for code in sorted(set(codes) & set(exchange_codes())):
        raw, sessions = exchange_bars(code, 5, rng)
        found = find_clock(raw, True)
        assert found.week is not None
        terms = Terms(code="X", tick_size=0.01, point_value=1.0, time_zone=found.week.zone, sessions=found.week.rules)
        table = session_table(terms, int(raw.time[0]), int(raw.time[-1]))
        inside = table.place(raw.time)[1]
        open_minutes = sum(b - a for a, b in sessions) / NS_A_MINUTE
        claimed = float((table.close - table.open)[table.close <= raw.time[-1] + NS_A_DAY].sum()) / NS_A_MINUTE
        assert inside.mean() > 0.995, code
        # A year has about ten holidays and a few half days, which a weekly schedule cannot know.
        assert claimed < 1.09 * open_minutes, (code, found.week.rules)


def test_closed_days_are_days_on_which_exchanges_are_closed() -> None:
    """Against package exchange_calendars: no open day is called closed, and most holidays of seven years are found."""
    first = int(np.datetime64("2013-01-01").astype(int))
    for code in ("XOSL", "XLON", "XNYS", "XETR", "XTSE"):
        table = exchange_sessions(code, first, first + 7 * 365)
        zone = exchange_zone(code)
        time = np.concatenate([np.arange(a, b, 15 * NS_A_MINUTE) for a, b in zip(table.open, table.close)])
        close = np.full(len(time), 100.0)
        raw = Raw(15, time, close, close + 1, close - 1, close, np.ones(len(time)))
        week = find_clock(raw, True, zone, "open").week
        assert week is not None
        terms = Terms(code="X", tick_size=0.01, point_value=1.0, time_zone=week.zone, sessions=week.rules)
        closed, _ = find_closed(raw, terms)
        open_days = {dt.date(1970, 1, 1) + dt.timedelta(days=int(d)) for d in table.trading_date}
        every = {dt.date(2013, 1, 1) + dt.timedelta(days=k) for k in range(7 * 365)}
        said = {d for d in every if d.weekday() < 5 and (f"{d:%m-%d}" in closed or str(d) in closed)}
        holidays = {d for d in every if d.weekday() < 5} - open_days
        assert not said & open_days, code
        assert len(said) > 0.6 * len(holidays), (code, sorted(holidays - said)[:9])


def joined_by_pandas(months: list[Month]) -> tuple[list[str], pd.Series]:
    """Rolls and closes of a future joined by volume and adjusted by differences, worked out anew with pandas."""
    days = [pd.DataFrame({"close": m.raw.close, "volume": m.raw.volume},
                         index=pd.DatetimeIndex(m.raw.time.view("datetime64[ns]"))) for m in months]
    daily = [d.groupby(d.index.date).agg({"close": "last", "volume": "sum"}) for d in days]
    rolls: list[dt.date] = []
    parts, shifts = [], list[float]()
    for old, new in pairwise(daily):
        both = pd.merge(old, new, left_index=True, right_index=True, suffixes=("_old", "_new"))
        above = both.index[both["volume_new"] > both["volume_old"]]
        after = new.index[new.index > (above[0] if len(above) else old.index[-1])]
        rolls.append(after[0])
        before = both[both.index < after[0]].iloc[-1]
        shifts.append(before["close_new"] - before["close_old"])
    for i, d in enumerate(days):
        begin, end = rolls[i - 1] if i else dt.date.min, rolls[i] if i < len(rolls) else dt.date.max
        own = np.array([begin <= t < end for t in d.index.date])
        parts.append(d["close"][own] + sum(shifts[i:]))
    return [str(r) for r in rolls], pd.concat(parts)


def test_joining_agrees_with_pandas(seed: int) -> None:
    """Months of random volumes and prices on a quarter grid."""
    rng = np.random.default_rng(seed)
    for _ in range(20):
        months = []
        for i in range(4):
            day = np.datetime64("2020-01-06") + np.arange(90) + 60 * i
            day = day[np.is_busday(day) & (rng.random(90) > 0.05)]
            time = (day[:, None] + np.arange(9, 15)[None, :].astype("timedelta64[h]")).ravel().astype("datetime64[ns]")
            close = np.round(400 + np.cumsum(rng.normal(0, 4, len(time)))) / 4
            volume = rng.integers(1, 900, len(time)) * np.exp(-((np.arange(len(time)) / len(time) - 0.5) ** 2) * 9)
            months.append(Month(f"m{i}", Raw(60, time.view(np.int64), close, close, close, close, np.round(volume))))
        try:
            made = join_months(months, Terms(code="FUT", tick_size=0.25, point_value=1.0), Rule("volume"))
        except WolbrinError:
            continue  # a month would be left before it is entered
        rolls, closes = joined_by_pandas(months)
        assert [str(r.date) for r in made.rolls] == rolls
        seams = [(r.time, r.difference, r.ratio) for r in made.rolls]
        whole = adjusted(made.raw, Terms(code="FUT", tick_size=0.25, point_value=1.0), seams, "difference",
                         int(made.raw.time[-1]) + 1)
        np.testing.assert_allclose(whole.close, closes.to_numpy(), atol=1e-9)


def test_the_grid_is_found_for_any_tick_and_level(seed: int) -> None:
    """Prices on a grid of any usual step, at any level at which a contract has it, clean or through single precision."""
    rng = np.random.default_rng(seed)
    for step in (0.25, 0.01, 0.005, 0.0001, 0.00001, 1.0, 0.5, 0.03125, 2.5, 5.0, 0.1, 0.02):
        level = int(10 ** rng.uniform(3.2, 4.6))
        ticks = np.round(level + np.cumsum(rng.normal(0, 3, 4000)))
        prices = np.round(np.abs(ticks) * step, 10)
        assert find_grid(prices).tick == step
        noisy = np.round(prices.astype(np.float32).astype(np.float64), 6)
        made = find_grid(noisy)
        assert made.tick == step or step < 1e-4, (step, level, made)
        dirty = prices.copy()
        dirty[::500] += step * 0.37
        assert find_grid(dirty).tick == step, "a few stray prices do not make the grid finer"
