"""Reading files of others: layouts, hostile input, appending. Layouts here are invented; formats are ISO 8601, POSIX epoch
seconds and the codes of C strptime."""

from __future__ import annotations

import datetime as dt
import gzip
import io
import json
import zipfile
from pathlib import Path

import numpy as np
import openpyxl
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.build import terms, walk_bars
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.market.importing.append import join
from wolbrin.core.market.importing.files import pieces
from wolbrin.core.market.importing.fit import fit_to_sessions
from wolbrin.core.market.importing.guess import guess
from wolbrin.core.market.importing.layout import Layout, load_layout, make_layout
from wolbrin.core.market.importing.preview import preview
from wolbrin.core.market.importing.read import Imported, Reader, write_bad_rows
from wolbrin.core.market.importing.times import parse_times
from wolbrin.core.market.raw import Raw, ticks_to_bars
from wolbrin.core.market.zones import to_local

BARS = walk_bars(400, seed=5)
RAW = Raw.of(BARS)


def read(path: Path, **changes: object) -> Imported:
    found = pieces([path])
    layout = guess(found[0]).layout
    return Reader(found, make_layout(layout.model_dump() | changes)).read_all()


def rows_of(pattern: str, sign: str = ".", delimiter: str = ",", zone: str = "UTC", shift: int = 0) -> list[str]:
    """The bars as text, one line a bar."""
    local = to_local(BARS.time + shift, zone).view("datetime64[ns]")
    out = []
    for i, when in enumerate(pd.DatetimeIndex(local)):
        stamp = str(int(when.timestamp())) if pattern == "epoch" else when.strftime(pattern)
        numbers = [f"{p[i]:.2f}".replace(".", sign) for p in RAW.prices] + [f"{RAW.volume[i]:.0f}"]
        out.append(delimiter.join([stamp.replace("~", delimiter), *numbers]))
    return out


LAYOUTS = {
    "iso comma": ("time,open,high,low,close,volume", rows_of("%Y-%m-%dT%H:%M:%SZ"), {}),
    "no header": ("", rows_of("%Y-%m-%d %H:%M"), {}),
    "german": ("Date;Clock;Open;High;Low;Close;Vol", rows_of("%d.%m.%Y~%H:%M", ",", ";"), {}),
    "tab epoch": ("timestamp\topen\thigh\tlow\tclose\tvolume", rows_of("epoch", ".", "\t"), {}),
    "packed": ("date,hhmm,o,h,l,c,v", rows_of("%Y%m%d~%H%M"), {}),
    "blanks": ("", rows_of("%Y-%m-%d~%H:%M:%S", ".", " "), {}),
    "american": ("Date|Time|Open|High|Low|Close|Volume", rows_of("%m/%d/%Y~%H:%M", ".", "|"), {}),
    "local zone": ("time;open;high;low;close;volume", rows_of("%Y-%m-%d %H:%M", ".", ";", "Europe/Oslo"),
                   {"zone": "Europe/Oslo"}),
    "stamped at the close": ("time,open,high,low,close,volume", rows_of("%Y-%m-%d %H:%M", shift=15 * 60 * 10**9),
                             {"stamp": "close"}),
}


@pytest.mark.parametrize("name", LAYOUTS)
@pytest.mark.parametrize("packing", ["plain", "gz", "zip", "utf-16", "crlf"])
def test_every_layout_reads_the_same_bars(tmp_path: Path, name: str, packing: str) -> None:
    header, lines, changes = LAYOUTS[name]
    text = "\n".join([*([header] if header else []), *lines]) + "\n"
    if packing == "gz":
        path = tmp_path / "bars.csv.gz"
        path.write_bytes(gzip.compress(text.encode()))
    elif packing == "zip":
        path = tmp_path / "bars.zip"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("inner/bars.csv", text)
    else:
        path = tmp_path / "bars.csv"
        data = text.encode("utf-16") if packing == "utf-16" else text.replace("\n", "\r\n").encode()
        path.write_bytes(data if packing != "plain" else text.encode())
    got = read(path, **changes)
    assert got.bad_count == 0
    assert got.raw.interval == 15
    np.testing.assert_array_equal(got.raw.time, RAW.time)
    for mine, theirs in zip(got.raw.prices, RAW.prices):
        np.testing.assert_array_equal(mine, theirs)
    np.testing.assert_array_equal(got.raw.volume, RAW.volume)


@pytest.mark.parametrize("kind", ["timestamp", "zoned", "text", "epoch"])
def test_parquet_of_any_time_type(tmp_path: Path, kind: str) -> None:
    stamps = {"timestamp": pa.array(BARS.time, pa.timestamp("ns")), "zoned": pa.array(BARS.time, pa.timestamp("ns", "UTC")),
              "text": pa.array(BARS.time.view("datetime64[ns]").astype("datetime64[s]").astype(str)),
              "epoch": pa.array(BARS.time // 10**9)}
    path = tmp_path / "bars.parquet"
    pq.write_table(pa.table({"Time": stamps[kind], "Open": RAW.open, "High": RAW.high, "Low": RAW.low, "Close": RAW.close,
                             "Volume": RAW.volume}), path)
    got = read(path, **({"time_format": "epoch s"} if kind == "epoch" else {}))
    np.testing.assert_array_equal(got.raw.time, RAW.time)
    np.testing.assert_array_equal(got.raw.close, RAW.close)


def test_bad_rows_are_listed_with_number_and_reason_and_the_rest_is_read(tmp_path: Path) -> None:
    header, lines, _ = LAYOUTS["iso comma"]
    spoiled = list(lines)
    spoiled[10] = "2024-02-31T10:00:00Z,1,2,1,1,5"
    spoiled[20] = lines[20].rsplit(",", 1)[0]
    spoiled[30] = lines[30].replace(lines[30].split(",")[2], "n/a")
    spoiled[40] = ""
    spoiled[50] = lines[50].rsplit(",", 1)[0] + ",-3"
    spoiled[60] = lines[60].replace(lines[60].split(",")[1], "1e300")
    path = tmp_path / "bars.csv"
    path.write_text("\n".join([header, *spoiled]))
    got = read(path)
    assert [b.row for b in got.bad] == [12, 22, 32, 52, 62]
    for bad, word in zip(got.bad, ("no time", "5 columns instead of 6", "high", "below zero", "open")):
        assert word in bad.reason
    assert len(got.raw) == len(lines) - 6
    write_bad_rows(tmp_path / "bad.csv", got.bad)
    assert pd.read_csv(tmp_path / "bad.csv")["row"].tolist() == [12, 22, 32, 52, 62]


def test_rows_out_of_order_repeated_and_far_away_are_dealt_with(tmp_path: Path) -> None:
    header, lines, _ = LAYOUTS["iso comma"]
    mixed = [*lines[100:], *lines[:100], "1970-01-01T00:00:00Z,1,1,1,1,1", lines[7]]
    path = tmp_path / "bars.csv"
    path.write_text("\n".join([header, *mixed]))
    got = read(path)
    assert got.late > 0
    assert (np.diff(got.raw.time) >= 0).all()
    assert len(got.raw) == len(lines) + 1, "the repeated row stays for the quality report, the stray one goes"
    assert got.bad_count == 1
    assert "years apart" in got.bad[0].reason


def test_the_repeated_hour_is_told_apart_by_order(tmp_path: Path) -> None:
    """Europe/Oslo ended summer time on 27 October 2024 at 01:00 UTC (tz database): 02:00 to 03:00 came twice."""
    utc = np.arange(np.datetime64("2024-10-26T22:00"), np.datetime64("2024-10-27T04:00"), 10).astype("datetime64[ns]")
    local = to_local(utc.astype(np.int64), "Europe/Oslo").view("datetime64[ns]").astype("datetime64[m]")
    path = tmp_path / "local.csv"
    path.write_text("time,open,high,low,close\n" + "".join(f"{str(t).replace('T', ' ')},1,2,1,1\n" for t in local))
    got = read(path, zone="Europe/Oslo")
    np.testing.assert_array_equal(got.raw.time, utc.astype(np.int64))
    assert any("told apart" in n for n in got.notes)


def test_ticks_become_bars(tmp_path: Path) -> None:
    """Against pandas resample of the same middle prices."""
    rng = np.random.default_rng(2)
    time = np.datetime64("2024-03-05T08:00", "ms") + np.sort(rng.integers(0, 3_600_000, 2000))
    bid = 100 + np.round(np.cumsum(rng.normal(0, 0.01, 2000)), 2)
    path = tmp_path / "ticks.csv"
    path.write_text("time,bid,ask,volume\n" + "".join(
        f"{str(t).replace('T', ' ')},{b:.2f},{b + 0.02:.2f},3\n" for t, b in zip(time, bid)))
    got = read(path)
    assert got.raw.interval == 0
    bars = ticks_to_bars(got.raw, 5)
    middle = pd.Series((np.round(bid, 2) + np.round(bid + 0.02, 2)) / 2, index=pd.DatetimeIndex(time)).resample("5min")
    want = middle.ohlc().dropna()
    np.testing.assert_array_equal(bars.time, want.index.as_unit("ns").asi8)
    for mine, name in zip(bars.prices, ("open", "high", "low", "close")):
        np.testing.assert_allclose(mine, want[name], rtol=0, atol=1e-12)
    np.testing.assert_array_equal(bars.volume, middle.count()[lambda c: c > 0] * 3)


def test_appending_takes_only_what_is_new_and_names_disagreements() -> None:
    old, late = RAW.take(slice(0, 300)), RAW.take(slice(250, 400))
    close = late.close.copy()
    close[10] += 1.0
    changed = Raw(late.interval, late.time, late.open, late.high, late.low, close, late.volume)
    made = join(old, changed)
    assert (made.added, made.same, made.differ) == (100, 49, 1)
    assert made.listed[0].time == late.time[10]
    np.testing.assert_array_equal(made.raw.close, RAW.close)
    assert join(old, changed, "new").raw.close[260] == close[10]
    assert join(made.raw, changed).added == 0, "a second time nothing is new"
    with pytest.raises(UserError, match="a source of its own"):
        join(old, Raw(30, late.time, *late.prices, late.volume))


def test_the_schedule_tells_zone_and_end_of_the_bar() -> None:
    """Sessions 09:00-17:00 Oslo: bars stamped at the close in exchange time are recognized."""
    local = to_local(RAW.time + 15 * 60 * 10**9, "Europe/Oslo")
    sample = Raw(15, local, *RAW.prices, RAW.volume)
    layout = Layout(columns=("time", "open", "high", "low", "close", "volume"))
    found = fit_to_sessions(sample, layout, terms(), False)
    assert (found.zone, found.stamp, found.inside) == ("Europe/Oslo", "close", 1.0)


def test_layouts_survive_a_file_and_say_what_is_wrong(tmp_path: Path) -> None:
    layout = Layout(name="desk", delimiter=";", decimal=",", columns=("date", "clock", "open", "high", "low", "close"),
                    time_format="%d.%m.%Y %H:%M", zone="Europe/Oslo", stamp="close")
    path = tmp_path / "layout.json"
    path.write_text(layout.model_dump_json())
    assert load_layout(path) == layout
    for change, word in (({"columns": ("time", "open")}, "high, low, close"), ({"columns": ("open",) * 5}, "two columns"),
                         ({"zone": "Mars/Base"}, "time zone"), ({"decimal": ";"}, "decimal"),
                         ({"columns": ("time", "price", "open")}, "tick file")):
        with pytest.raises(UserError, match=word):
            make_layout(layout.model_dump() | change)


def test_the_preview_shows_faults_where_they_are(tmp_path: Path) -> None:
    header, lines, _ = LAYOUTS["german"]
    path = tmp_path / "bars.csv"
    path.write_text("\n".join([header, *lines[:5], "x;y;z", *lines[5:20]]))
    found = pieces([path])
    shown = preview(found[0], guess(found[0]).layout)
    assert [r.number for r in shown.rows if r.fault] == [7]
    assert shown.rows[0].fields[0] == lines[0].split(";")[0]
    first = str(BARS.time[:1].view("datetime64[ns]")[0].astype("datetime64[m]")).replace("T", " ")
    assert shown.rows[0].utc.startswith(first)
    assert shown.names[:2] == ("Date", "Clock")


@given(st.datetimes(pd.Timestamp("1951-01-01").to_pydatetime(), pd.Timestamp("2099-01-01").to_pydatetime()),
       st.sampled_from(["%Y-%m-%d %H:%M:%S", "%d.%m.%Y %H:%M:%S", "%Y%m%d%H%M%S", "%m/%d/%Y %H:%M:%S", "%d %b %Y %H:%M:%S"]))
def test_times_are_read_as_strptime_reads_them(moment, pattern: str) -> None:
    """Against Python's own strftime (C89 codes)."""
    moment = moment.replace(microsecond=0)
    out, good, utc = parse_times(np.array([moment.strftime(pattern), "nonsense"], object), pattern)
    assert good.tolist() == [True, False]
    assert not utc
    assert out[0] == int(np.datetime64(moment, "s").astype(np.int64)) * 10**9


# Hostile files: always one sentence, never a traceback.

FIELD = st.one_of(st.floats(allow_nan=True, allow_infinity=True).map(repr), st.text(max_size=12), st.integers().map(str),
                  st.sampled_from(["2024-01-02 10:00", "1970-01-01", "2262-04-11 23:47:16", "0", "-5", "", '"', "\0", "1,5",
                                   "9223372036854775807", "01.02.2024", "NaN", "1e309"]))
TABLE = st.lists(st.lists(FIELD, min_size=1, max_size=9), min_size=1, max_size=30)


def survives(path: Path) -> None:
    """Reading either works or raises a told trouble."""
    try:
        found = pieces([path])
        made = guess(found[0])
        preview(found[0], made.layout)
        got = Reader(found, made.layout).read_all()
        assert np.isfinite(np.concatenate(got.raw.prices)).all()
        assert (np.diff(got.raw.time) >= 0).all()
    except WolbrinError as err:
        assert err.sentence().strip()
        assert "Traceback" not in err.sentence()


@settings(max_examples=250, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(TABLE, st.sampled_from([",", ";", "\t", " "]), st.booleans())
def test_any_table_is_read_or_refused_in_a_sentence(tmp_path: Path, table: list[list[str]], delimiter: str,
                                                    head: bool) -> None:
    path = tmp_path / "any.csv"
    lines = [delimiter.join(r) for r in table]
    path.write_text("\n".join(["time,open,high,low,close,volume".replace(",", delimiter), *lines] if head else lines),
                    encoding="utf-8", errors="replace")
    survives(path)


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.binary(max_size=3000), st.sampled_from(["a.csv", "a.csv.gz", "a.zip", "a.parquet", "a.txt", "a.feather", "a.xlsx",
                                                  "a.json", "a.csv.bz2",
                                                       "a.csv.xz"]), st.booleans())
def test_any_bytes_are_read_or_refused_in_a_sentence(tmp_path: Path, data: bytes, name: str, packed: bool) -> None:
    path = tmp_path / name
    if packed and name.endswith(".gz"):
        data = gzip.compress(data)
    path.write_bytes(data)
    survives(path)


JSON = st.recursive(st.none() | st.booleans() | st.floats() | st.integers(-10**30, 10**30) | st.text(max_size=12)
                    | st.sampled_from(["2024-01-02T10:00", "time", "close", 1.5e9]),
                    lambda inner: st.lists(inner, max_size=6) | st.dictionaries(
                        st.sampled_from(["time", "t", "open", "close", "data", "x"]), inner, max_size=5), max_leaves=40)


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(JSON, st.booleans())
def test_any_json_is_read_or_refused_in_a_sentence(tmp_path: Path, data: object, lines: bool) -> None:
    path = tmp_path / "any.json"
    path.write_text("\n".join(json.dumps(x) for x in data) if lines and isinstance(data, list) else json.dumps(data))
    survives(path)


def test_workbooks_that_say_too_much_of_themselves_are_read(tmp_path: Path) -> None:
    """A size of a million rows, cells that are errors, empty sheets; and one that is cut short."""
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append(["time", "open", "high", "low", "close"])
    for k in range(300):
        sheet.append([dt.datetime(2024, 1, 2) + dt.timedelta(minutes=k), 1.5, 2, 1, "#N/A" if k == 5 else 1.25])
    sheet["XFD1048576"] = None
    book.create_sheet("empty")
    path = tmp_path / "a.xlsx"
    book.save(path)
    found = pieces([path])
    got = Reader(found, guess(found[0]).layout).read_all()
    assert (len(got.raw), got.bad_count, got.raw.interval) == (299, 1, 1)
    whole = path.read_bytes()
    for cut in (100, len(whole) // 2, len(whole) - 30):
        (tmp_path / f"{cut}.xlsx").write_bytes(whole[:cut])
        survives(tmp_path / f"{cut}.xlsx")


def test_odd_content_is_read_or_refused_in_a_sentence(tmp_path: Path) -> None:
    """Fields beyond what Python's reader allows, NUL, strings and lists where numbers belong, numbers of many digits."""
    head, rows = LAYOUTS["iso comma"][:2]
    for i, odd in enumerate(("x" * 200_000, '"' + "y" * 200_000 + '"', "\x00", "9" * 5_000, "1e999", "-Infinity", "=1+1")):
        for line in (3, len(rows) // 2):
            changed = list(rows)
            cells = changed[line].split(",")
            cells[1 + i % (len(cells) - 1)] = odd
            changed[line] = ",".join(cells)
            path = tmp_path / f"odd-{i}-{line}.csv"
            path.write_text("\n".join([head, *changed]))
            survives(path)
    n = len(BARS)
    for name, columns in {"strings": {"time": BARS.time, "open": ["a"] * n, "close": RAW.close},
                          "lists": {"time": BARS.time, "open": [[1.0, 2.0]] * n, "close": RAW.close},
                          "nothing": {}, "times": {"time": ["yesterday"] * n, "close": RAW.close}}.items():
        pq.write_table(pa.table(columns), tmp_path / f"{name}.parquet")
        survives(tmp_path / f"{name}.parquet")


@pytest.mark.parametrize("cut", [10, 200, 900])
@pytest.mark.parametrize("ending", [".zip", ".csv.gz", ".parquet"])
def test_truncated_archives_are_told(tmp_path: Path, cut: int, ending: str) -> None:
    text = "\n".join([LAYOUTS["iso comma"][0], *LAYOUTS["iso comma"][1]]).encode()
    buffer = io.BytesIO()
    if ending == ".zip":
        with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("bars.csv", text)
    elif ending == ".csv.gz":
        buffer.write(gzip.compress(text))
    else:
        pq.write_table(pa.table({"time": BARS.time, "open": RAW.open}), buffer)
    path = tmp_path / f"bars{ending}"
    path.write_bytes(buffer.getvalue()[:-cut])
    with pytest.raises(WolbrinError, match=r"damaged|cut off|Parquet") as caught:
        Reader(pieces([path]), Layout(columns=("time", "open", "high", "low", "close", "volume"))).read_all()
    assert "bars" in str(caught.value)


def test_archives_that_reach_outside_or_swell_are_refused(tmp_path: Path) -> None:
    outside = tmp_path / "outside.zip"
    with zipfile.ZipFile(outside, "w") as archive:
        archive.writestr("../../evil.csv", "x")
    with pytest.raises(UserError, match="points outside"):
        pieces([outside])
    bomb = tmp_path / "bomb.zip"
    with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("a.csv", b"0" * 100_000_000)
    with pytest.raises(UserError, match="swell"):
        pieces([bomb])
    packed = tmp_path / "bomb.csv.gz"
    packed.write_bytes(gzip.compress(b"2024-01-01T00:00:00Z,1,1,1,1\n" * 3_000_000, 9))
    with pytest.raises(UserError, match="swells"):
        Reader(pieces([packed]), Layout(columns=("time", "open", "high", "low", "close"), header=False)).read_all()


def test_a_wrong_layout_is_told_before_the_whole_file_is_tried(tmp_path: Path) -> None:
    path = tmp_path / "big.csv"
    path.write_bytes(b"1,1,1,1,1\n" * 3_000_000)
    reader = Reader(pieces([path]), Layout(columns=("time", "open", "high", "low", "close"), header=False))
    with pytest.raises(UserError, match="none of the first"):
        reader.step()


def test_wide_tables_long_lines_folders_and_strange_encodings_are_told(tmp_path: Path) -> None:
    wide = tmp_path / "wide.csv"
    wide.write_text("\n".join(",".join(["1"] * 300) for _ in range(5)))
    with pytest.raises(UserError, match="300 columns"):
        guess(pieces([wide])[0])
    long = tmp_path / "long.csv"
    long.write_bytes(b"1" * 3_000_000)
    with pytest.raises(UserError, match="line of more than a million"):
        guess(pieces([long])[0])
    empty = tmp_path / "empty"
    empty.mkdir()
    with pytest.raises(UserError, match="no history file"):
        pieces([empty])
    latin = tmp_path / "latin.csv"
    header, lines, _ = LAYOUTS["iso comma"]
    latin.write_bytes("\n".join([header + ",remärk", *(f"{x},é" for x in lines)]).encode("cp1252"))
    assert len(read(latin).raw) == len(lines)
    folder = tmp_path / "months"
    folder.mkdir()
    for i, part in enumerate((lines[:200], lines[200:])):
        (folder / f"{i}.csv").write_text("\n".join([header, *part]))
    found = pieces([folder])
    assert len(Reader(found, guess(found[0]).layout).read_all().raw) == len(lines)
