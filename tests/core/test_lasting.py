"""What a project promises of its files: whole or not there, told when they are not what was written, put back from copies."""

from __future__ import annotations

import csv
import datetime as dt
import os
import re
import shutil
import sqlite3
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import numpy as np
import openpyxl
import pandas as pd
import pytest
import typer
from typer.testing import CliRunner

from tests.build import any_rng, cross, walk_bars
from wolbrin.cli.check import add
from wolbrin.cli.common import told
from wolbrin.core.errors import EnvironmentTrouble, UserError, WolbrinError
from wolbrin.core.export.steps import do_all
from wolbrin.core.export.tables import table_steps
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.store.check import check_project, restore_copy
from wolbrin.core.store.copies import KEPT_COPIES, copies_of, make_copy
from wolbrin.core.store.database import DATABASE
from wolbrin.core.store.history import read_raw
from wolbrin.core.store.holdout import HoldoutBook, Opening
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.recovering import recover
from wolbrin.core.store.results import Results
from wolbrin.core.store.settings import Settings
from wolbrin.core.unforeseen import log_path
from wolbrin.core.written import read_bytes, write_named, write_text

SETTINGS = Settings(training_first=dt.date(2024, 1, 1), holdout_first=dt.date(2024, 4, 1), last=dt.date(2024, 12, 31))


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A project with a market, a strategy and a table of results, closed, and opened once more, so that there is a copy."""
    made = Project.create(tmp_path / "p", SETTINGS)
    bars = walk_bars(900, seed=4, code="AAA")
    made.add_market(bars.terms, bars, "test")
    made.save_strategy(cross(name="one"), "AAA", 15)
    results = Results(made)
    results.add("search 1", "rows", {"a": np.arange(50.0)})
    results.seal("search 1", all=True)
    made.close()
    Project(tmp_path / "p").close()
    return tmp_path / "p"


def test_a_flipped_bit_of_a_history_is_never_a_silent_price(folder: Path) -> None:
    """Sixty bits at random: each is told, or changes nothing."""
    rng = any_rng()
    path = next((folder / "history").glob("*.parquet"))
    whole = path.read_bytes()
    project = Project(folder)
    before = project.base("AAA")
    for _ in range(60):
        data = bytearray(whole)
        data[int(rng.integers(len(data)))] ^= 1 << int(rng.integers(8))
        path.write_bytes(bytes(data))
        project.held.forget()
        with pytest.raises(EnvironmentTrouble, match="history file"):
            project.base("AAA")
    path.write_bytes(whole)
    project.held.forget()
    np.testing.assert_array_equal(project.base("AAA").c, before.c)
    project.close()


def test_an_empty_database_is_no_new_project(folder: Path) -> None:
    copy = copies_of(folder)[0]
    (folder / DATABASE).write_bytes(b"")
    with pytest.raises(EnvironmentTrouble, match="is empty") as told:
        Project(folder)
    assert str(copy) in str(told.value)
    assert (folder / DATABASE).stat().st_size == 0
    used, aside = restore_copy(folder)
    assert (used, aside.stat().st_size) == (copy, 0)
    project = Project(folder)
    assert [e.strategy.name for e in project.strategies()] == ["one"]
    project.close()


def test_a_copy_put_back_forgets_nothing_that_was_opened(folder: Path) -> None:
    """Over a sound database it is refused; over a damaged one what was opened and judged since is carried over. Where that
    cannot be read any more, all that was found before is spent."""
    with pytest.raises(UserError, match="nothing is wrong"):
        restore_copy(folder)
    project = Project(folder)
    book = HoldoutBook(project)
    hash = strategy_hash(project.strategies()[0].strategy)
    book.add(Opening(now(), "proving: one on AAA", market="AAA", hash=hash, batch=book.reserve()))
    book.judge(now(), "AAA", hash, "one", "falls", "It fell.", None)
    with project.transaction() as db:
        db.execute("UPDATE strategies SET body = 'torn'")
    project.rows("PRAGMA wal_checkpoint(TRUNCATE)")
    project.close()
    restore_copy(folder)
    project = Project(folder)
    book = HoldoutBook(project)
    assert [e.strategy.name for e in project.strategies()] == ["one"]
    final = book.final("AAA", hash)
    assert final is not None
    assert (final.verdict, final.reason, book.count(), book.next_batch()) == ("falls", "It fell.", 1, 2)
    project.close()
    for other in folder.glob(f"{DATABASE}.damaged-*"):
        other.unlink()
    (folder / DATABASE).write_bytes(b"torn" * 500)
    restore_copy(folder)
    project = Project(folder)
    assert [m.why for m in HoldoutBook(project).moves()] == ["the table of openings, judged, borders, settings was missing"]
    project.close()


def test_copies_are_kept_once_a_day_and_before_the_schema_changes(folder: Path, tmp_path: Path) -> None:
    assert len(copies_of(folder)) == 1
    Project(folder).close()
    assert len(copies_of(folder)) == 1, "one a day"
    for _ in range(KEPT_COPIES + 1):
        for one in copies_of(folder):
            os.utime(one, (one.stat().st_atime, one.stat().st_mtime - 90_000))
        Project(folder).close()
    assert len(copies_of(folder)) == KEPT_COPIES
    old = tmp_path / "old"
    shutil.copytree(Path(__file__).parents[1] / "data/project-schema-3", old)
    Project(old).close()
    with sqlite3.connect(copies_of(old)[0]) as db:
        assert db.execute("PRAGMA user_version").fetchone()[0] == 3, "as it was before"
    older = tmp_path / "older"
    shutil.copytree(Path(__file__).parents[1] / "data/project-schema-3", older)
    (older / "copies").write_text("in the way")
    before = (older / DATABASE).read_bytes()
    project = Project(older)  # as it is, to be read: nothing is changed that cannot be copied before
    assert "cannot be copied before it is changed" in project.only_read
    assert project.strategies()
    with pytest.raises(EnvironmentTrouble, match="open to be read only"):
        project.set_value("place", "rules")
    project.close()
    assert (older / DATABASE).read_bytes() == before


def test_a_copy_is_put_back_only_where_no_program_has_the_project_open(folder: Path) -> None:
    project = Project(folder)
    _drop(folder, "UPDATE strategies SET body = 'torn'")
    with pytest.raises(UserError, match="open in another window or program"):
        restore_copy(folder)
    assert not list(folder.glob(f"{DATABASE}.damaged-*"))
    project.close()
    restore_copy(folder)
    assert len([p for p in folder.glob(f"{DATABASE}.damaged-*") if not p.name.endswith(("-wal", "-shm"))]) == 1


@pytest.mark.parametrize("harm", ["moved", "deleted", "replaced", "folder"])
def test_what_is_kept_in_a_database_that_is_gone_is_told(folder: Path, harm: str) -> None:
    """Nothing goes into a file that nobody can find; what is put back is used again."""
    project = Project(folder)
    path, aside = folder / DATABASE, folder.with_name("aside")
    if harm == "replaced":
        shutil.copy(path, aside)
        os.replace(aside, path)
    elif harm == "deleted":
        path.unlink()
    else:
        (folder if harm == "folder" else path).rename(aside)
    with pytest.raises(EnvironmentTrouble, match="gone from its place"):
        project.save_strategy(cross(name="nowhere"), "AAA", 15)
    assert [e.strategy.name for e in project.strategies()] == ["one"], "what was read can still be read"
    if harm in ("moved", "folder"):
        aside.rename(folder if harm == "folder" else path)
        project.save_strategy(cross(name="found again"), "AAA", 15)
    project.close()


def test_a_project_that_cannot_be_written_is_open_to_be_read(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with closing(Project(folder)) as project:
        project.save_strategy(cross(name="two"), "AAA", 15)
    _drop(folder, "UPDATE searches SET seen = '2o24-01-01'")
    before = held(folder)
    real = os.access
    monkeypatch.setattr(os, "access", lambda path, mode, **more: False if mode == os.W_OK and str(path).startswith(
        str(folder)) else real(path, mode, **more))
    project = Project(folder)
    assert "read only" in project.read_words
    assert [e.strategy.name for e in project.strategies()] == ["one", "two"]
    assert len(project.base("AAA")) > 100
    assert len(Results(project).table("search 1", "rows")["a"]) == 50
    with pytest.raises(EnvironmentTrouble, match="open to be read only"):
        project.save_strategy(cross(name="three"), "AAA", 15)
    home = project.home
    assert home != folder
    project.close()
    assert not home.exists()
    assert held(folder) == before


def test_a_history_of_text_is_refused_though_its_digest_fits(folder: Path) -> None:
    path = next((folder / "history").glob("*.parquet"))
    table = pd.read_parquet(path)
    for column in ("close", "volume"):
        name = write_named(folder / "history", "odd", ".parquet", table.assign(**{column: "100.0"}).to_parquet, "file")
        with pytest.raises(EnvironmentTrouble, match=f"no numbers in its column {column}"):
            read_raw(folder / "history" / name, 15)


def test_a_copy_that_fails_leaves_nothing(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Cut in the middle of it, with its own journal open."""
    before = sorted((folder / "copies").iterdir())

    def fail(handle: int) -> None:
        for partial in (folder / "copies").glob("*.partial"):
            partial.with_name(partial.name + "-journal").write_bytes(b"begun")
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("wolbrin.core.store.copies.os.fsync", fail)
    with closing(sqlite3.connect(folder / DATABASE)) as db, pytest.raises(OSError, match="No space"):
        make_copy(db, folder)
    assert sorted((folder / "copies").iterdir()) == before


@pytest.mark.parametrize(("err", "words"), [
    (KeyError("odd"), "nobody foresaw \\(KeyError: 'odd'\\).*wolbrin.log"), (OSError(36, "File name too long", "x" * 300),
                                                                           "cannot be read or written"),
    ("a\udcff".encode, "characters that are no text")])
def test_what_nobody_foresaw_is_one_sentence_with_the_place_of_the_log(err: object, words: str,
                                                                       capsys: pytest.CaptureFixture[str]) -> None:
    with pytest.raises(typer.Exit) as left, told():
        raise err if isinstance(err, Exception) else err()  # type: ignore[operator,misc]
    assert left.value.exit_code == 1
    said = capsys.readouterr().err
    assert re.search(words, said.replace("\n", " ")), said
    assert "Traceback" not in said
    if isinstance(err, KeyError):
        assert "Traceback" in log_path().read_text()


def test_only_ordinary_files_are_written_over(tmp_path: Path) -> None:
    device, folder, pipe = Path("/dev/null"), tmp_path / "folder", tmp_path / "pipe"
    folder.mkdir()
    os.mkfifo(pipe)
    (tmp_path / "link").symlink_to(tmp_path / "target")
    long, odd = tmp_path / ("x" * 250 + ".html"), Path(os.fsdecode(os.fsencode(tmp_path) + b"/na\xff\xfeme.txt"))
    for path in (device, folder, pipe, tmp_path / "link", tmp_path / "nowhere" / "x", tmp_path / ("x" * 300)):
        with pytest.raises(EnvironmentTrouble, match="cannot be written"):
            write_text(path, "mine")
    assert device.is_char_device()
    assert not (tmp_path / "target").exists()
    for path in (long.with_name("x" * 250), odd, tmp_path / "plain"):
        write_text(path, "mine")
        write_text(path, "again")
        assert path.read_text() == "again"
    assert sorted(p.name for p in tmp_path.iterdir() if p.name.endswith("partial")) == []
    for path in (pipe, Path("/dev/zero"), folder):
        with pytest.raises(EnvironmentTrouble, match="cannot be read"):
            read_bytes(path, "file", 100)


def held(folder: Path) -> dict[Path, bytes]:
    """All files but those by which readers of a database agree."""
    return {p: p.read_bytes() for p in folder.rglob("*") if p.is_file() and not p.name.endswith(("-shm", "-wal"))}


def _drop(folder: Path, sql: str) -> None:
    db = sqlite3.connect(folder / DATABASE)
    db.execute(sql)
    db.commit()
    db.close()


def _flip(path: Path) -> None:
    data = bytearray(path.read_bytes())
    data[len(data) // 2] ^= 4
    path.write_bytes(bytes(data))


DAMAGES: dict[str, tuple[Callable[[Path], object], str]] = {
    "empty": (lambda f: (f / DATABASE).write_bytes(b""), "is empty"),
    "no database": (lambda f: (f / DATABASE).write_bytes(b"x" * 9_000), "cannot be read"),
    "pages": (lambda f: (f / DATABASE).write_bytes((b := (f / DATABASE).read_bytes())[:8_192] + b"\xff" * (len(b) - 8_192)),
              "malformed"),
    "table": (lambda f: _drop(f, "DROP TABLE judged"), "the table judged is missing"),
    "strategy": (lambda f: _drop(f, "UPDATE strategies SET body = '{\"stop\": 7}'"), 'the strategy "one" cannot be read'),
    "market": (lambda f: _drop(f, "UPDATE markets SET terms = 'no'"), 'the market "AAA" cannot be read'),
    "history": (lambda f: _flip(next((f / "history").glob("*.parquet"))), "not the file that was written"),
    "history gone": (lambda f: next((f / "history").glob("*.parquet")).unlink(), "is missing"),
    "results": (lambda f: _flip(next((f / "results").glob("*.parquet"))), "results of search 1"),
    "results gone": (lambda f: next((f / "results").glob("*.parquet")).unlink(), "results of search 1"),
}


@pytest.mark.parametrize("name", DAMAGES)
def test_check_finds_every_planted_damage_and_changes_nothing(folder: Path, name: str) -> None:
    assert check_project(folder) == []
    app = typer.Typer()
    app.callback()(lambda: None)
    add(app)
    runner = CliRunner()
    assert runner.invoke(app, ["check", str(folder), "--json"]).exit_code == 0
    damage, words = DAMAGES[name]
    damage(folder)
    before = held(folder)
    found = check_project(folder)
    assert any(words in w.sentence() for w in found), [w.sentence() for w in found]
    assert held(folder) == before
    told = runner.invoke(app, ["check", str(folder), "--json"])
    assert told.exit_code == 1
    assert '"sound": false' in told.stdout
    if "history" not in name and "results" not in name:
        assert runner.invoke(app, ["check", str(folder), "--restore"]).exit_code == 0
        assert check_project(folder) == []


def test_what_can_be_read_of_a_damaged_database_is_put_into_a_new_one(folder: Path) -> None:
    """A page in the middle of a table: rows around it come back, the damaged file stays, and no seal is opened."""
    project = Project(folder)
    for i in range(200):
        project.save_strategy(cross(name=f"kept {i}").model_copy(update={"notes": "word " * 150}), "AAA", 15)
    project.rows("PRAGMA wal_checkpoint(TRUNCATE)")
    pages = int(project.rows("PRAGMA page_count")[0][0])
    project.close()
    with (folder / DATABASE).open("r+b") as file:
        file.seek(4096 * (pages // 2))
        file.write(b"\xff" * 4096)
    assert check_project(folder)
    app = typer.Typer()
    app.callback()(lambda: None)
    add(app)
    told = CliRunner().invoke(app, ["check", str(folder), "--recover"])
    assert told.exit_code == 0, told.output
    assert "rows were read" in told.output
    assert len([p for p in folder.glob(f"{DATABASE}.damaged-*") if not p.name.endswith(("wal", "shm"))]) == 1
    again = Project(folder)
    assert 190 <= len(again.strategies()) <= 201
    assert again.settings == SETTINGS
    assert not check_project(folder)
    with pytest.raises(EnvironmentTrouble, match="nothing could be saved"):  # another program has it open
        recover(folder / DATABASE, again.aside)
    again.close()


def test_check_of_what_is_no_project_says_so(tmp_path: Path) -> None:
    with pytest.raises(UserError, match="no project"):
        check_project(tmp_path)
    with pytest.raises(WolbrinError, match="no sound copy"):
        restore_copy(tmp_path)


# What others open


EVIL = ("=1+1", "+cmd|' /C calc'!A0", "-2+3", "@SUM(A1)", "\tx", "plain", "-1.5", "\r=1")


def test_a_spreadsheet_shows_text_and_runs_none_of_it(tmp_path: Path) -> None:
    columns = {"=name": np.array(EVIL, object), "net": np.arange(len(EVIL)) - 4.0}
    do_all(table_steps(lambda: columns, tmp_path / "a.csv"))
    with (tmp_path / "a.csv").open(newline="") as handle:
        rows = list(csv.reader(handle))
    assert [c for row in rows for c in row if c.startswith(("=", "+", "@", "\t", "\r"))] == []
    assert rows[1] == ["'=1+1", "-4.0"], "numbers stay numbers"
    assert [row[0] for row in rows[6:8]] == ["plain", "-1.5"]
    do_all(table_steps(lambda: columns, tmp_path / "a.xlsx"))
    sheet = openpyxl.load_workbook(tmp_path / "a.xlsx").active
    assert sheet is not None
    cells = [cell for row in sheet.iter_rows() for cell in row]
    assert {cell.data_type for cell in cells} == {"s", "n"}, "no formula"
    do_all(table_steps(lambda: columns, tmp_path / "a.parquet"))
    assert pd.read_parquet(tmp_path / "a.parquet")["=name"].tolist() == list(EVIL), "tables of data stay as they are"
    with pytest.raises(UserError, match="do not fit into a sheet"):
        do_all(table_steps(lambda: {"x": np.zeros(1_048_576)}, tmp_path / "b.xlsx"))
    assert not (tmp_path / "b.xlsx").exists()


# What comes from others
