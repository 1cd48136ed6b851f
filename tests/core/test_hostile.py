"""Files of others: read, or refused in a sentence; never anything but one of the project's own errors, whatever was done to a
good file, and never more work or memory than the file is worth."""

from __future__ import annotations

import datetime as dt
import gzip
import io
import json
import shutil
import sqlite3
import zipfile
import zlib
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from tests.build import any_seed, cross, terms, walk_bars
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import EnvironmentTrouble, UserError, WolbrinError
from wolbrin.core.faults import validated
from wolbrin.core.indicators.own import read_own
from wolbrin.core.market.importing.files import pieces
from wolbrin.core.market.importing.guess import guess
from wolbrin.core.market.importing.layout import Layout, load_layout
from wolbrin.core.market.importing.read import Reader
from wolbrin.core.market.terms import Terms, minutes_of
from wolbrin.core.models import Model, parse_json, read_json
from wolbrin.core.portfolio.file import file_of, read_portfolio_file
from wolbrin.core.proving.line import Line, usual_line
from wolbrin.core.rules.axes import Axis, Link
from wolbrin.core.rules.conditions import read_conditions, shipped, write_conditions
from wolbrin.core.rules.dated import schedule_words, steps_of
from wolbrin.core.rules.model import Distance, Strategy, load_strategy
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.search.folds import Length
from wolbrin.core.search.objective import Floor
from wolbrin.core.search.space import Constraint
from wolbrin.core.search.walked import Fit
from wolbrin.core.store.check import check_project
from wolbrin.core.store.database import DATABASE
from wolbrin.core.store.leftovers import leftovers
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.series import unpack
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.whole import whole_of
from wolbrin.core.work.portfolios import plan_of
from wolbrin.core.work.procedure import Procedure
from wolbrin.core.work.scan_request import read_horizons
from wolbrin.core.work.shelving import export_candidates, read_file
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.walk_reading import dated_strategy
from wolbrin.core.work.walk_request import View, WalkRequest, lay_out
from wolbrin.core.work.walk_schedule import carries_on

BARS = walk_bars(900, seed=4, code="AAA")
SETTINGS = Settings(training_first=dt.date(2024, 1, 1), holdout_first=dt.date(2024, 4, 1), last=dt.date(2024, 12, 31))
TOKENS = (b"NaN", b"Infinity", b"-Infinity", b"1" * 5_000, b"1e999", b"\x00", b"\n", b"[" * 3_000, b"{" * 2_000, b'"',
          b"null", b"true", b"\xff\xfe", b"-", b"9" * 30, b"'", b"(" * 500, b'{"is": {"is": 1}}', b"\\u0000")


def mutated(data: bytes, rng: np.random.Generator) -> bytes:
    made = bytearray(data)
    for _ in range(int(rng.integers(1, 5))):
        kind, at = rng.random(), int(rng.integers(len(made) + 1))
        if kind < 0.4:
            made[at:at + int(rng.integers(7))] = TOKENS[int(rng.integers(len(TOKENS)))]
        elif kind < 0.7:
            del made[at:at + int(rng.integers(1, 31))]
        elif made:
            made[min(at, len(made) - 1)] ^= 1 << int(rng.integers(8))
    return bytes(made)



@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A project with a market, strategies and candidates, closed."""
    made = Project.create(tmp_path / "p", SETTINGS)
    made.add_market(BARS.terms, BARS, "test")
    shelf = Shelf(made)
    for i in range(12):
        one = cross(name=f"one {i}").model_copy(update={"notes": "word " * 300})
        made.save_strategy(one, "AAA", 15)
        other = one.model_copy(update={"quantity": 1.0 + i})
        shelf.keep(candidate_of(backtest(BARS, other, Brief()), f"found {i}", "rules", 1))
    Searches(made).begin("2024-01-01", "sweep", "a sweep", {"market": "AAA"})
    made.close()
    return tmp_path / "p"


def packed(name: str, text: bytes) -> bytes:
    """The text as a file of that name would hold it."""
    buffer = io.BytesIO()
    if name.endswith(".zip"):
        with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("bars.csv", text)
            archive.writestr("more/bars.csv", text)
    elif name.endswith(".gz"):
        buffer.write(gzip.compress(text))
    elif name.endswith(".parquet"):
        stamps = BARS.time[:90].astype("datetime64[ns]")
        pq.write_table(pa.table({"time": stamps, "open": BARS.open[:90], "high": BARS.high[:90], "low": BARS.low[:90],
                                 "close": BARS.close[:90], "note": ["x"] * 90}), buffer)
    else:
        return text
    return buffer.getvalue()


def imported(path: Path) -> None:
    """Read a history file as `import` does."""
    found = pieces([path])
    got = Reader(found, guess(found[0]).layout).read_all()
    assert np.isfinite(np.concatenate(got.raw.prices)).all()


def walked_strategy() -> Strategy:
    """A strategy with dated numbers and the procedure by which they are fitted on."""
    key = "long.entry.rows.0.left.params.length"
    axes = (Axis(key, "fast", (2.0, 4.0)), Axis("quantity", "size", (1.0, 2.0), links=(Link("stop.amount", 2.0),)))
    rules = cross(stop=Distance(unit="atr", amount=1.5))
    request = WalkRequest(SweepRequest(rules, "AAA", 15, axes, None, (Constraint(key, "<", "quantity"),),
                                       floors=(Floor(key="trades", value=1.0),)), (Length(9, "days"),), (Length(5, "days"),),
                          view=View(dt.date(2024, 1, 8), dt.date(2024, 3, 1)))
    values = {s: Fit(*s, (2.0, 1.0), {"net": 1.0}, 1.0, 4) for s in request.spans}
    return dated_strategy(request, 0, values)


def joined(path: Path) -> object:
    """Read a portfolio, and how much of each it trades."""
    read = read_portfolio_file(path)
    read.plan.scales([s for s, m in zip(read.strategies, read.plan.members) if m.on])
    return read.plan.words(), read.plan.limits.words(), read.plan.resizing


def trade_on(path: Path) -> object:
    """Read a strategy, what it trades from which day on, and how it would be fitted on."""
    read = load_strategy(path)
    if read.schedule is not None:
        steps_of(read)
        schedule_words(read)
        if carries_on(read):
            return lay_out(View(dt.date(2024, 1, 8), dt.date(2024, 3, 1)), Procedure.of(read).lengths)
    return read


def test_mutated_files_are_read_or_refused_in_a_sentence(tmp_path: Path, folder: Path) -> None:
    """Every reader of a file that somebody may send."""
    seed = any_seed()
    rng, path = np.random.default_rng(seed), tmp_path / "any.json"

    def stored(model: type[Model]) -> Callable[[Path], object]:
        return lambda p: validated(model, read_json(p, "file"), str(p))

    with closing(Project(folder)) as project:
        candidate = export_candidates(Shelf(project).bodies([1]), tmp_path / "out")[0].read_bytes()
        portfolio = file_of(plan_of(Shelf(project).bodies([1, 2, 3])), [
            k.candidate.strategy for k in Shelf(project).bodies([1, 2, 3])]).model_dump_json().encode()
    rules = ("name = 'fade'\nx = parameter(5)\nlong_entry = crosses_below(rsi(4), 30) and close > sma(close, x)\n"
             "stop = 2 * atr(14)\ntarget = 2 * stop\n")
    indicator = 'import numpy as np\n\n\ndef drift(close, *, length=5):\n    """It."""\n    return close - length\n'
    layout = Layout(columns=("time", "open", "high", "low", "close", "volume"))
    stamps = np.datetime_as_string(BARS.time.astype("datetime64[ns]"), "s")
    rows = [f"{t}Z,{o:.5f},{h:.5f},{low:.5f},{c:.5f},7"
            for t, o, h, low, c in zip(stamps, BARS.open, BARS.high, BARS.low, BARS.close)]
    table = "\n".join(["time,open,high,low,close,volume", *rows[:120]]).encode()
    readers: list[tuple[str, bytes, int, Callable[[Path], object]]] = [
        ("a.json", cross().model_dump_json().encode(), 200, load_strategy),
        ("a.json", walked_strategy().model_dump_json().encode(), 300, trade_on),
        ("a.json", usual_line().model_dump_json().encode(), 200, stored(Line)),
        ("a.json", SETTINGS.model_dump_json().encode(), 150, stored(Settings)),
        ("a.json", terms().model_dump_json().encode(), 200, stored(Terms)),
        ("a.json", layout.model_dump_json().encode(), 150, load_layout),
        ("a.json", write_conditions(shipped()[:6]).encode(), 150, lambda p: read_conditions(read_json(p, "file"), str(p))),
        ("a.json", candidate, 200, lambda p: read_file(p, {})),
        ("a.json", portfolio, 250, joined),
        ("a.txt", rules.encode(), 250, lambda p: parse_strategy(p.read_bytes().decode("utf-8", "replace"))),
        ("a.py", indicator.encode(), 200, read_own),
        *((name, packed(name, table), 60, imported) for name in ("a.csv", "a.csv.gz", "a.zip", "a.parquet"))]
    for name, good, count, read in readers:
        path = tmp_path / name
        path.write_bytes(good)
        read(path)
        for _ in range(count):
            path.write_bytes(mutated(good, rng))
            try:
                read(path)
            except WolbrinError as err:
                assert err.sentence()


@pytest.mark.parametrize("token", ["1" * 5_000, "\u00b2", "\u0661\u0662\u0663"])
def test_digits_of_any_kind_in_any_cell_are_read_or_refused_in_a_sentence(tmp_path: Path, token: str) -> None:
    """Numbers longer than Python turns into one, raised digits, those of other scripts: in a history, in a time of day."""
    for column in range(6):
        rows = [f"2024-01-02,{9 + i // 60:02d}{i % 60:02d},{100 + i},{101 + i},{99 + i},{100 + i}".split(",")
                for i in range(90)]
        rows[40][column] = token
        (tmp_path / "a.csv").write_text("\n".join(["date,time,open,high,low,close", *map(",".join, rows)]))
        try:
            imported(tmp_path / "a.csv")
        except WolbrinError as err:
            assert err.sentence()
    with pytest.raises(ValueError, match="not a time of day"):
        minutes_of(f"{token}:00")
    with pytest.raises(UserError):
        read_horizons(token)
    assert whole_of(token) is None


def test_a_mutated_database_opens_or_is_refused_in_a_sentence(folder: Path, tmp_path: Path) -> None:
    """Pages of noise and of nothing, and single bits: what opens can be read, checked and changed."""
    seed = any_seed()
    rng, work, shut = np.random.default_rng(seed), tmp_path / "work", 0
    size = (folder / DATABASE).stat().st_size
    for turn in range(60):
        shutil.rmtree(work, ignore_errors=True)
        shutil.copytree(folder, work)
        with (work / DATABASE).open("r+b") as file:
            at = int(rng.integers(1, size // 4096)) * 4096 if turn % 3 else int(rng.integers(100, size))
            file.seek(at)
            file.write([bytes(1 + turn % 7), bytes(4096), rng.bytes(4096)][turn % 3])
        try:
            check_project(work)
            with closing(Project(work)) as project:
                assert project.settings.holdout_first <= SETTINGS.holdout_first
                project.markets(), project.sources.all(), project.strategies(), Shelf(project).bodies()
                project.save_strategy(cross(name="after it"), "AAA", 15)
        except EnvironmentTrouble as err:
            shut += 1
            assert err.sentence()
    assert shut < 30, "most damage leaves something to work with"


def test_names_and_numbers_that_are_none(tmp_path: Path) -> None:
    good = json.loads(cross().model_dump_json())
    for name in ("two\nlines", "bell\x07", "turned \u202egnp.exe", "half \ud800", "nothing \x00"):
        path = tmp_path / "a.json"
        path.write_text(json.dumps(good | {"name": name}))
        with pytest.raises(UserError, match=r"control characters|character that is none"):
            load_strategy(path)
    assert parse_json('"\\\\u0000 written out"', "file", "") == "\\u0000 written out"
    path.write_text(json.dumps(good | {"parameters": [{"name": f"p{i}"} for i in range(20_000)]}))
    with pytest.raises(UserError, match="at most 60 parameters"):  # before each is compared with each
        load_strategy(path)
    # What is shown is what is used: a formula's stored value is never taken where the formula says another.
    path.write_text(json.dumps(good | {"quantity": {"is": "2", "value": 50}}))
    assert load_strategy(path).quantity == 2
    path.write_text(json.dumps(good | {"quantity": {"is": "1" + " " * 300 + "+ 5", "value": 50}}))
    with pytest.raises(UserError, match="longer than 200"):
        load_strategy(path)


def test_archives_are_no_larger_than_they_look(tmp_path: Path) -> None:
    """Members that swell little each, members that share their bytes, columns of one value."""
    many = tmp_path / "many.zip"
    with zipfile.ZipFile(many, "w", zipfile.ZIP_DEFLATED) as archive:
        for i in range(4):
            archive.writestr(f"{i}.csv", b"0" * 40_000_000)
    with pytest.raises(UserError, match="this archive would swell"):
        pieces([many])
    crowd = tmp_path / "crowd.zip"
    with zipfile.ZipFile(crowd, "w") as archive:
        for i in range(10_001):
            archive.writestr(f"{i}.csv", "x")
    with pytest.raises(UserError, match="10,001 files"):
        pieces([crowd])
    flat = tmp_path / "flat.parquet"
    ones = np.ones(4_000_000)
    pq.write_table(pa.table({"time": np.zeros(len(ones), "datetime64[ns]"), "open": ones, "high": ones, "low": ones,
                             "close": ones}), flat, compression="zstd")
    with pytest.raises(UserError, match="would swell"):
        Reader(pieces([flat]), Layout(columns=("time", "open", "high", "low", "close"))).read_all()


def test_a_received_project_reaches_nothing_outside_and_acts_by_nothing_of_its_own(folder: Path, tmp_path: Path) -> None:
    """Triggers, views, links, names that lead out, bytes that swell, another program's database."""
    outside = tmp_path / "outside"
    outside.mkdir()
    mine = [outside / f"{i}.sqlite" for i in range(6)] + [outside / "20200101T000000000000.sqlite", outside / "a.parquet"]
    for one in mine:
        one.write_text("mine")
    with closing(sqlite3.connect(folder / DATABASE)) as db:
        db.execute("CREATE TRIGGER eager AFTER UPDATE ON strategies BEGIN DELETE FROM openings; DELETE FROM markets; END")
        db.execute("CREATE VIEW glance AS SELECT * FROM candidates")
        db.execute("UPDATE sources SET file = '../../outside/a.parquet'")
        db.execute("UPDATE bodies SET daily = ?", (zlib.compress(bytes(100 * 1024**2)),))
        db.commit()
    shutil.rmtree(folder / "copies", ignore_errors=True)
    (folder / "copies").symlink_to(outside)
    (folder / "results").symlink_to(outside)
    with closing(Project(folder)) as project:
        assert {"trigger", "view", "source"} == {what.split()[1] for what in project.aside.found}
        project.save_strategy(cross(name="again"), "AAA", 15, 1)
        assert project.markets()
        with pytest.raises(UserError, match="no source"):
            project.base("AAA")
        with pytest.raises(ValueError, match="longer than any history"):
            unpack(Shelf(project).packed([1])[0] or b"")
        assert leftovers(project, younger=True) == [] or all(outside not in f.path.parents for f in leftovers(project, True))
    assert [p.read_text() for p in mine] == ["mine"] * len(mine)
    other = tmp_path / "other"
    other.mkdir()
    with closing(sqlite3.connect(other / DATABASE)) as db:
        db.execute("CREATE TABLE bookmarks (url TEXT)")
        db.commit()
    before = (other / DATABASE).read_bytes()
    with pytest.raises(EnvironmentTrouble, match="another program"):
        Project(other)
    (tmp_path / "linked").mkdir()
    (tmp_path / "linked" / DATABASE).symlink_to(folder / DATABASE)
    with pytest.raises(EnvironmentTrouble, match="link to another file"):
        Project(tmp_path / "linked")
    assert (other / DATABASE).read_bytes()[100:] == before[100:]


def test_a_full_disk_leaves_no_half_project(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def full(*_: object) -> None:
        raise sqlite3.OperationalError("database or disk is full")

    monkeypatch.setattr("wolbrin.core.store.database.migrate", full)
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "notes.txt").write_text("kept")
    for where in (tmp_path / "new", tmp_path / "mine"):
        with pytest.raises(EnvironmentTrouble, match="disk is full"):
            Project.create(where)
    assert [p.name for p in tmp_path.rglob("*")] == ["mine", "notes.txt"]


@pytest.mark.parametrize(("said", "words"), [
    ("attempt to write a readonly database", "read-only"), ("unable to open database file", "read-only"),
    ("disk I/O error", "disk cannot be read or written"), ("database is locked", "another program holds"),
    ("database or disk is full", "the disk is full")])
def test_troubles_are_named_for_what_they_are(folder: Path, monkeypatch: pytest.MonkeyPatch, said: str, words: str) -> None:
    def fail(*_: object) -> None:
        raise sqlite3.OperationalError(said)

    monkeypatch.setattr("wolbrin.core.store.database.migrate", fail)
    with pytest.raises(EnvironmentTrouble, match=words) as caught:
        Project(folder)
    assert "backup" not in str(caught.value)
