"""The journals of the book: what was opened and judged outlives accidents, and an opening is whole or goes on as it was."""

from __future__ import annotations

import errno
import json
import os
import shutil
import stat
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tests.core.test_openings import ALONE, SETTINGS, drifting, keep, project_of, prove, trend
from tests.core.test_sealed import EASY_LINE
from wolbrin.core.errors import NothingOpened, UserError
from wolbrin.core.jobs import Engine
from wolbrin.core.market.months import month_digests
from wolbrin.core.market.raw import Raw
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.store.book_journal import BookJournal
from wolbrin.core.store.book_lines import state_folder
from wolbrin.core.store.check import check_project, restore_copy
from wolbrin.core.store.database import DATABASE
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.journal import Journal
from wolbrin.core.store.plans import Plans
from wolbrin.core.store.project import Project
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.judging import finish_openings
from wolbrin.core.work.lines import use_line
from wolbrin.core.work.opening import open_for
from wolbrin.core.work.portfolios import plan_of
from wolbrin.core.work.proving import prove_job
from wolbrin.core.work.standing import Standings
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.together import open_together
from wolbrin.core.work.whole import open_portfolio, portfolio_verdicts

OTHER = parse_strategy("name = 'other'\nlong_entry = crosses_below(rsi(4), 30)\nstop = 2 * atr(14)\n")
BARS = drifting(7_600, 3, 0.0)


@pytest.fixture
def engine() -> Iterator[Engine]:
    made = Engine(2)
    yield made
    made.close()


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A project with two candidates on noise, nothing opened."""
    folder = tmp_path_factory.mktemp("made") / "p"
    project = project_of(folder, BARS.take(7_000))
    keep(project, [trend(12), OTHER])
    project.close()
    shutil.rmtree(folder / "copies", ignore_errors=True)
    return folder


@pytest.fixture
def folder(made: Path, tmp_path: Path) -> Path:
    return Path(shutil.copytree(made, tmp_path / "p"))


def verdicts(project: Project) -> list[tuple[str, str]]:
    return sorted((j.hash, j.verdict) for j in project.book.judged("AAA"))


# Lines


def test_a_journal_is_a_chain_and_says_where_it_is_broken(tmp_path: Path) -> None:
    journal = Journal(tmp_path / "deep" / "journal.jsonl")
    assert journal.read() == ([], "")
    for n in range(3):
        journal.append([{"kind": "opened", "number": n}, {"kind": "verdict", "number": n}])
    found, wrong = journal.read()
    assert (wrong, [e["number"] for e in found]) == ("", [0, 0, 1, 1, 2, 2])
    assert stat.S_IMODE(journal.path.stat().st_mode) == 0o600
    whole = journal.path.read_bytes()
    journal.path.write_bytes(whole[:-9])  # cut short while it was written: it was never anything
    assert [e["number"] for e in journal.read()[0]] == [0, 0, 1, 1, 2]
    journal.append([{"kind": "opened", "number": 9}])
    assert journal.read()[1] == ""
    lines = whole.splitlines(keepends=True)
    for broken in (b"".join(lines[:2] + lines[3:]), whole.replace(b'"number": 1', b'"number": 7', 1), b"x" + whole,
                   b"".join(lines[1:])):
        journal.path.write_bytes(broken)
        found, wrong = journal.read()
        assert wrong, "lines taken out or changed are told"
        assert 7 not in [e["number"] for e in found], "what was altered does not count"
        assert len(found) >= 5, "and those that are there still do"
    journal.path.unlink()
    journal.path.symlink_to(tmp_path / "elsewhere")
    with pytest.raises(NothingOpened):
        journal.append([{"kind": "opened"}])


def test_months_match_in_longer_files_and_other_intervals() -> None:
    bars = drifting(7_000, 3, 0.0)
    raw = Raw.of(bars)
    every = month_digests(raw)
    assert len(every) >= 8
    part = month_digests(raw.take(slice(900, 6_000)))
    assert part.items() <= every.items()
    assert len(part) >= 4
    from wolbrin.core.market.intervals import to_interval

    assert month_digests(Raw.of(to_interval(bars, 60))) == every
    assert not set(month_digests(Raw.of(drifting(7_000, 4, 0.0))).values()) & set(every.values())


# Accidents


def lose_rows(project: Project, before: Path) -> None:
    with project.transaction() as db:
        for table in ("openings", "judged", "plans"):
            db.execute(f"DELETE FROM {table}")
        db.execute("UPDATE settings SET value = '0' WHERE key = 'value:openings reserved'")
        db.execute("UPDATE candidates SET stands = NULL")
    project.close()


def put_copy_over(project: Project, before: Path) -> None:
    project.close()
    for ending in ("-wal", "-shm"):
        (project.folder / (DATABASE + ending)).unlink(missing_ok=True)
    shutil.copy(before / DATABASE, project.folder / DATABASE)


def go_back_to_a_copied_folder(project: Project, before: Path) -> None:
    project.close()
    shutil.rmtree(project.folder)
    shutil.copytree(before, project.folder)


def damage(project: Project, before: Path) -> None:
    project.close()
    (project.folder / "copies").mkdir(exist_ok=True)
    shutil.copy(before / DATABASE, project.folder / "copies/20200101T000000000000.sqlite")
    (project.folder / DATABASE).write_bytes(b"\0" * 40_000)
    restore_copy(project.folder)


@pytest.mark.parametrize("accident", [lose_rows, put_copy_over, go_back_to_a_copied_folder, damage])
def test_what_was_opened_is_known_again_after(accident: Callable[[Project, Path], None], folder: Path, tmp_path: Path,
                                              engine: Engine) -> None:
    project = Project(folder)
    project.close()
    before = Path(shutil.copytree(folder, tmp_path / "before"))
    project = Project(folder)
    first = [k.id for k in Dossiers(project).shelf()][:1]
    assert prove(project, engine, first)[first[0]] == "falls: Holdout"
    fell = verdicts(project)
    accident(project, before)
    if accident is not damage:
        assert any("journal knows" in w.what for w in check_project(folder))
    project = Project(folder)
    if accident is not damage:
        assert "the database had lost" in project.found_again
    assert set(fell) <= set(verdicts(project))
    assert project.openings("AAA") == 1
    assert project.book.next_batch() == 2
    standing = Standings(project, ALONE)
    assert standing.of(next(k for k in Dossiers(project).shelf() if k.id == first[0])).stands == "falls: Holdout"
    assert prove(project, engine, first)[first[0]] == "falls: Holdout"
    assert project.openings("AAA") == 1, "nothing is opened twice"
    project.close()
    assert check_project(folder) == []
    again = Project(folder)
    assert again.found_again == ""
    again.close()


def test_a_gap_in_the_journal_is_wrong_and_a_lost_one_is_made_anew(folder: Path, engine: Engine) -> None:
    project = Project(folder)
    prove(project, engine, [k.id for k in Dossiers(project).shelf()], choice="families-2")
    project.close()
    path = folder / "journal.jsonl"
    lines = path.read_bytes().splitlines(keepends=True)
    path.write_bytes(b"".join(lines[:1] + lines[2:]))
    assert any("has a gap" in w.what for w in check_project(folder))
    path.write_bytes(b"".join(lines[:-1]))
    assert any("lacks 1 lines" in w.what for w in check_project(folder))
    # What is no line of a book changes nothing, whoever wrote it.
    mine = json.loads(lines[0])["project"]
    for bad in ({"kind": "opened", "number": "x"}, {"kind": "moved", "old": "2024-02-31", "new": "x"}, {"kind": "opened",
                "number": 10**30}, {"kind": "eaten"}, {"kind": "shown", "last": ["a"]}):
        Journal(path).append([bad | {"project": mine, "at": "2024-01-01"}])
    project = Project(folder)
    assert (project.found_again, project.book.next_batch()) == ("", 2)
    project.close()
    path.unlink()
    project = Project(folder)
    assert len(Journal(path).read()[0]) == len(lines)
    with project.transaction() as db:
        db.execute("DELETE FROM judged")
    project.close()
    users = state_folder() / "journal.jsonl"
    text = users.read_text()
    assert "trend" not in text, "digests only"
    assert "AAA" not in text
    assert stat.S_IMODE(users.stat().st_mode) == 0o600
    users.unlink()
    project = Project(folder)
    assert len(verdicts(project)) == 2
    project.close()


def test_the_same_bars_in_a_new_project_begin_with_their_openings_told(folder: Path, tmp_path: Path, engine: Engine) -> None:
    project = Project(folder)
    prove(project, engine, [k.id for k in Dossiers(project).shelf()][:1])
    project.close()
    for mine in (True, False):
        new = project_of(tmp_path / f"new {mine}", BARS)  # a longer file of the same bars
        told = new.journal.unanswered()
        assert {(o.openings, o.markets, o.answer) for o in told} == {(1, ("AAA",), "")}
        ids = keep(new, [trend(12), OTHER])
        with pytest.raises(UserError, match="opened 1 time in another project"):
            open_for(new, Footing.of(new), OTHER, "AAA", 15, new.settings.brief(new.market("AAA").terms), SETTINGS.holdout,
                     "test")
        new.journal.answer(mine)
        assert new.book.next_batch() == (2 if mine else 1)
        if mine:
            assert Standings(new, ALONE).of(Dossiers(new).shelf()[0]).stands == "falls: Holdout"
        assert new.journal.unanswered() == []
        prove(new, engine, ids[1:])
        assert [p.plan.number for p in Plans(new).all()] == [2 if mine else 1]
        assert new.book.next_batch() == (3 if mine else 2)
        new.close()
    other = project_of(tmp_path / "other", drifting(7_000, 4, 0.0))
    assert other.journal.elsewhere() == []
    other.close()


# Cut short


class Killed(BaseException):
    """Ends everything, as a kill does."""


@pytest.fixture
def kill_at(monkeypatch: pytest.MonkeyPatch) -> Callable[[int], Callable[[], int]]:
    """kill_at(n): the n-th thing that an opening does on the way ends it (0: none does). Returns how many it did."""
    def arm(at: int) -> Callable[[], int]:
        done = [0]

        def step(act: Callable[..., Any], after: bool) -> Callable[..., Any]:
            def run(*args: Any, **more: Any) -> Any:
                if after:
                    made = act(*args, **more)
                done[0] += 1
                if done[0] == at:
                    raise Killed
                return made if after else act(*args, **more)
            return run

        monkeypatch.undo()
        for owner, name, after in ((Journal, "append", False), (Journal, "append", True), (Plans, "add", True),
                                   (HoldoutGate, "looked_daily", False), (HoldoutGate, "looked_daily", True),
                                   (Plans, "finish", True), (Dossiers, "testify", True), (BookJournal, "check_room", True)):
            monkeypatch.setattr(owner, name, step(getattr(owner, name), after))
        return lambda: done[0]
    return arm


def test_an_opening_cut_at_any_step_is_none_or_goes_on_as_it_was(folder: Path, tmp_path: Path, kill_at: Any,
                                                                monkeypatch: pytest.MonkeyPatch) -> None:
    """Killed at each step in turn: nothing is told before a verdict, nothing is counted twice, and what comes of it is what
    would have come."""
    state = os.environ["XDG_STATE_HOME"]

    def open_both(where: Path) -> None:
        project = Project(where)
        try:
            told: list[Any] = []
            engine = Engine(1)
            prove(project, engine, [k.id for k in Dossiers(project).shelf()], plan_only=True,
                  planned_as=lambda plan, waiting: told.append((plan, waiting)))
            engine.close()
            for plan, waiting in told:
                choice = plan.choice("families-2")
                open_together(project, Footing.of(project), waiting, plan, choice, HoldoutGate())
        finally:
            project.close()

    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state 0"))
    count = kill_at(0)
    reference = Path(shutil.copytree(folder, tmp_path / "reference"))
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state 0"))
    open_both(reference)
    steps = count()
    project = Project(reference)
    want, when = verdicts(project), project.openings()
    project.close()
    assert steps > 8
    cut = 0
    for at in range(1, steps + 1):
        where = Path(shutil.copytree(folder, tmp_path / f"cut {at}"))
        kill_at(at)
        monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / f"state {at}"))
        with pytest.raises(Killed):
            open_both(where)
        kill_at(0)
        monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / f"state {at}"))
        project = Project(where)
        told = verdicts(project)
        assert told in ([], want), "all verdicts or none"
        assert project.openings() in (0, when)
        cut += bool(Plans(project).unfinished())
        for plan in Plans(project).unfinished():
            assert plan.plan.number == 1
        if at % 2:
            finish_openings(project, Footing.of(project), HoldoutGate())
            if project.openings():
                assert verdicts(project) == want, "the same verdicts"
        project.close()
        open_both(where)  # or whoever opens next does it first
        project = Project(where)
        assert (verdicts(project), project.openings(), project.book.next_batch()) == (want, when, 2), at
        project.close()
        assert check_project(where) == [], at
    assert cut >= 3
    monkeypatch.setenv("XDG_STATE_HOME", state)


def test_a_portfolio_cut_short_goes_on_under_its_number(folder: Path, kill_at: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    state = os.environ["XDG_STATE_HOME"]
    project, engine = Project(folder), Engine(1)
    use_line(project, EASY_LINE)
    kept = Dossiers(project).shelf()
    engine.start(prove_job(project, [Subject.of(k) for k in kept], open_holdout=False), "threads").wait()
    engine.close()
    monkeypatch.setattr(Plans, "finish", lambda *_: (_ for _ in ()).throw(Killed()))
    with pytest.raises(Killed):
        open_portfolio(project, plan_of(kept, "two"))
    monkeypatch.undo()
    monkeypatch.setenv("XDG_STATE_HOME", state)
    assert portfolio_verdicts(project) == []
    assert verdicts(project) == [], "its members did not fall without it"
    open_portfolio(project, plan_of(kept, "two"))
    assert len(portfolio_verdicts(project)) == 1
    assert {v for _, v in verdicts(project)} == {"falls"}
    assert {o.batch for o in project.book.all()} == {1}
    assert project.book.next_batch() == 2
    project.close()


def test_without_room_for_the_verdicts_nothing_is_opened(folder: Path, engine: Engine,
                                                         monkeypatch: pytest.MonkeyPatch) -> None:
    project = Project(folder)
    kept = Dossiers(project).shelf()

    def full(*_: Any) -> None:
        raise OSError(errno.ENOSPC, "No space left on device")

    with monkeypatch.context() as patch:
        patch.setattr(os, "posix_fallocate", full)
        with pytest.raises(NothingOpened, match="no room for the verdicts"):
            open_for(project, Footing.of(project), kept[0].candidate.strategy, "AAA", 15,
                     project.settings.brief(project.market("AAA").terms), SETTINGS.holdout, "test")
    assert (project.openings(), verdicts(project), project.book.next_batch(), Plans(project).all()) == (0, [], 1, [])
    assert not (folder / "journal.jsonl").exists()
    assert list(folder.glob("room*")) == []
    assert prove(project, engine, [kept[0].id])[kept[0].id] == "falls: Holdout"
    assert [json.loads(x)["kind"] for x in (folder / "journal.jsonl").read_text().splitlines()] == ["opened", "verdict"]
    assert strategy_hash(kept[0].candidate.strategy) == project.book.judged("AAA")[0].hash
    assert np.isfinite(project.book.judged("AAA")[0].daily[1]).all()  # type: ignore[index]
    project.close()
