"""Hours of every kind of work and edits in a window without a screen, killed every few minutes: `python tools/soak.py FOLDER
--minutes 360 --kill 180 --harm`. By hand, not in the suite.

Each life goes on with what the one before it left, edits a strategy every two seconds and writes down which edit was kept.
After each kill the project is checked as `wolbrin check` does, and the last edit that was written down must be there. Memory,
open files, threads and files are read every ten seconds; the end says how they moved within lives. With --harm something in
the folder, or in the cache of kernels, is damaged between two lives: the next one has to open all the same, and to find every
edit; what the damage itself is told for counts as no fault.
"""

from __future__ import annotations

import argparse
import os
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import closing, suppress
from pathlib import Path

import numpy as np

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
SAMPLE = 10.0
WARM = 15  # samples after which code and histories are loaded
COUNTED = ("MB", "open files", "threads", "files")
PLACES = ("rules", "backtest", "sweep", "discover", "shelf", "proving", "markets")


def live(folder: Path, log: Path) -> None:
    """One life: everything is driven by timers, as a user would, until somebody kills it."""
    from PySide6.QtCore import QTimer

    from wolbrin.app.start import application, window_on
    from wolbrin.app.theme.theme import Theme
    from wolbrin.core.jobs import Engine, Job
    from wolbrin.core.memory import keep_memory
    from wolbrin.core.rules.axes import Axis
    from wolbrin.core.rules.numbers import tunables
    from wolbrin.core.search.folds import Length
    from wolbrin.core.search.objective import Floor
    from wolbrin.core.study.trial import TrialRow
    from wolbrin.core.work.discover_request import DiscoverRequest
    from wolbrin.core.work.proving import prove_job
    from wolbrin.core.work.rates import RatesRequest, rates_job
    from wolbrin.core.work.studying import StudyRequest, study_job
    from wolbrin.core.work.subject import Subject
    from wolbrin.core.work.sweep_luck import luck_job
    from wolbrin.core.work.sweep_request import SweepRequest
    from wolbrin.core.work.sweep_results import read_sweep
    from wolbrin.core.work.trialing import TrialRequest, trial_job
    from wolbrin.core.work.walk_request import WalkRequest
    from wolbrin.core.work.walking import walk_job

    keep_memory()
    app = application()
    window = window_on(folder, Engine(2), Theme())
    window.show()
    s = window.session
    count = int(log.read_text().split()[-1]) if log.exists() else 0
    file = log.open("a")

    def edit() -> None:
        nonlocal count
        count += 1
        s.edit(s.strategy.model_copy(update={"name": f"Edit {count}"}), f"edit {count}")
        if not s.unsaved.asking():
            file.write(f"{count}\n")
            file.flush()
            os.fsync(file.fileno())

    def kinds() -> Iterator[Callable[[], Job]]:
        """Work of every kind that is not searched and swept already, one after the other, for ever."""
        while True:
            subject = Subject(s.strategy, s.market, s.interval)
            axis = next(Axis(t.key, t.title, tuple(float(t.value) * x for x in (0.7, 1.0, 1.4)))
                        for t in tunables(s.strategy) if not t.clock)
            sweep = SweepRequest(s.strategy, s.market, s.interval, (axis,))
            rows = tuple(TrialRow(name=f"row {i}", strategy=s.strategy) for i in range(20))
            yield lambda subject=subject: prove_job(s.project, [subject], open_holdout=False)
            yield lambda: study_job(s.project, StudyRequest(s.strategy, s.market, s.interval), lambda made: None)
            yield lambda rows=rows: trial_job(s.project, TrialRequest(rows=rows, columns=((s.market, s.interval),),
                                                                      shuffles=3))[0]
            yield lambda sweep=sweep: walk_job(s.project, WalkRequest(sweep, (Length(200, "days"),),
                                                                      (Length(50, "days"),)), 1)[0]
            yield lambda: luck_job(s.project, read_sweep(s.project, s.dossiers.searches.last("sweep") or 0), 5)[0]
            yield lambda: rates_job(s.project, RatesRequest(market=s.market, interval=s.interval))

    every_kind, doing = kinds(), [None]

    def work() -> None:
        if doing[0] is None or doing[0].state.over:
            made = s.attempt(next(every_kind))
            if made is not None:
                doing[0] = s.start(made, "threads")

    def search() -> None:
        state = window.places["discover"].state
        if not state.running:
            if s.dossiers.searches.interrupted():
                s.go_on_newest()
            else:
                state.start(DiscoverRequest(((s.market, s.interval),), count=4096, seed=int(time.time()),
                                            floors=(Floor(key="trades", value=60.0), Floor(key="profit_factor", value=1.15))))

    def sweep() -> None:
        state = window.places["sweep"].state
        if not state.running:
            found = [t for t in tunables(s.strategy) if not t.clock][:2]
            axes = tuple(Axis(t.key, t.title, tuple(float(t.value) * x for x in (0.8, 0.9, 1.0, 1.1, 1.2))) for t in found)
            state.start(SweepRequest(s.strategy, s.market, s.interval, axes))

    timers: list[QTimer] = []

    def every(seconds: float, act: Callable[[], None]) -> None:
        timer = QTimer(window, interval=round(1000 * seconds))
        timer.timeout.connect(act)
        timer.start()
        timers.append(timer)

    every(2, edit)
    every(5, search)
    every(40, sweep)
    every(3, work)
    every(7, lambda: window.go(PLACES[int(time.time()) // 7 % len(PLACES)]))
    QTimer.singleShot(1000, window, lambda: s.open_strategy(s.project.strategies()[0].id))
    app.exec()


def sizes(pid: int, folder: Path) -> tuple[float, int, int, int]:
    """Memory in MB, open files, threads; files in the project."""
    status = dict(line.split(":", 1) for line in Path(f"/proc/{pid}/status").read_text().splitlines() if ":" in line)
    return (int(status["VmRSS"].split()[0]) / 1024, len(os.listdir(f"/proc/{pid}/fd")), int(status["Threads"]),
            sum(len(files) for _, _, files in os.walk(folder)))


def judge(folder: Path, log: Path, harmed: str) -> list[str]:
    """What is wrong after a kill, in sentences. harmed: what was damaged before that life; of what the damage took nothing is
    held against it."""
    from wolbrin.core.store.check import check_project
    from wolbrin.core.store.project import Project

    wrong = [w.sentence() for w in check_project(folder) if not harmed or not any(
        word in w.sentence() for word in ("results of", "journal", "cannot be read", "refers to one"))]
    project = Project(folder)
    names = [e.strategy.name for e in project.strategies()]
    kept = max((int(n.split()[1]) for n in names if n.startswith("Edit ")), default=0)
    project.close()
    said = int(log.read_text().split()[-1]) if log.exists() and log.read_text().strip() else 0
    return wrong + ([f"edit {said} was written down as kept, and {kept} is the last that is there"] if kept < said else [])


def harm(folder: Path, rng: np.random.Generator) -> str:
    """Damage something between two lives, never what holds the edits. Returns what."""
    from wolbrin.core.store.columns import COLUMNS
    from wolbrin.core.store.database import DATABASE

    kind = rng.choice(["value", "kernel", "file", "journal"])
    if kind == "value":
        table = str(rng.choice([t for t in COLUMNS if t not in ("strategies", "settings", "markets", "sources")]))
        column = str(rng.choice(list(COLUMNS[table])))
        wrong = str(rng.choice(["'1o'", "x'ff00'", "-3", "CAST(x'6100ff' AS TEXT)", "'2o24-01-01'", "'{'", "9e999"]))
        with closing(sqlite3.connect(folder / DATABASE)) as db, suppress(sqlite3.Error):
            db.execute(f"UPDATE {table} SET {column} = {wrong} WHERE rowid IN (SELECT rowid FROM {table} ORDER BY random() "
                       "LIMIT 1)")
            db.commit()
        return f"{table}.{column} = {wrong}"
    if kind == "kernel":
        files = sorted(Path(os.environ["NUMBA_CACHE_DIR"]).rglob("*.nb?"))
    elif kind == "journal":
        files = [p for p in [folder / "journal.jsonl"] if p.exists()]
    else:
        files = sorted((folder / "results").glob("*"))
    if not files:
        return "nothing"
    path = files[int(rng.integers(len(files)))]
    data = bytearray(path.read_bytes())
    if rng.random() < 0.5:
        data = data[:int(rng.integers(len(data) + 1))]
    elif data:
        data[int(rng.integers(len(data)))] ^= 1 << int(rng.integers(8))
    path.write_bytes(bytes(data))
    return f"{path.name} cut or flipped"


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("folder", type=Path)
    parser.add_argument("--minutes", type=float, default=360)
    parser.add_argument("--kill", type=float, default=180, help="seconds of a life, on average")
    parser.add_argument("--harm", action="store_true", help="damage something between two lives")
    parser.add_argument("--live", action="store_true", help=argparse.SUPPRESS)
    options = parser.parse_args()
    folder, log = options.folder, options.folder.with_name(options.folder.name + "-edits.log")
    if options.live:
        live(folder, log)
        return
    from wolbrin.demo.build import build_demo

    if not folder.exists():
        build_demo(folder, lambda *_: None).close()
    rng, end, lives, faults = np.random.default_rng(), time.monotonic() + 60 * options.minutes, 0, 0
    slopes: list[np.ndarray] = []
    harmed = ""
    while time.monotonic() < end:
        lives += 1
        errors = folder.with_name(folder.name + "-errors.log").open("a")
        child = subprocess.Popen([sys.executable, __file__, str(folder), "--live"], stderr=errors, stdout=errors)
        until, found = min(end, time.monotonic() + options.kill * rng.uniform(0.3, 1.7)), []
        while time.monotonic() < until and child.poll() is None:
            time.sleep(min(SAMPLE, max(0.05, until - time.monotonic())))
            if child.poll() is None:
                found.append(sizes(child.pid, folder))
        died = child.poll()
        child.kill()
        child.wait()
        errors.close()
        wrong = judge(folder, log, harmed) + ([f"it ended by itself with {died}"] if died is not None else [])
        faults += len(wrong)
        moved = [f"{n} {found[0][i]:,.0f} to {found[-1][i]:,.0f}" for i, n in enumerate(COUNTED) if found]
        harmed = harm(folder, rng) if options.harm else ""
        print(f"life {lives}: {len(found) * SAMPLE:.0f} s", *moved, *wrong, *([f"then {harmed}"] if harmed else []), sep=", ",
              flush=True)
        if len(found) > 2 * WARM:
            slopes.append((np.array(found[-1]) - np.array(found[WARM])) / ((len(found) - 1 - WARM) * SAMPLE / 3600))
    if slopes:
        adds = [f"{v:+,.1f} {n}" for v, n in zip(np.median(slopes, axis=0), COUNTED)]
        print("an hour of life adds, median over lives:", ", ".join(adds))
    print(f"{lives} lives, {faults} faults")


if __name__ == "__main__":
    main()
