"""What the benchmark measures in the window: warm start, and the longest stall while Discover runs."""

from __future__ import annotations

import gc
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from functools import partial
from pathlib import Path
from threading import Thread
from typing import Any

import numpy as np
from PySide6.QtCore import QElapsedTimer, QEventLoop, Qt, QTimer

from wolbrin.app.charts.price import PriceChart
from wolbrin.app.memory import Memory
from wolbrin.app.session import Session
from wolbrin.app.shell.window import MainWindow
from wolbrin.app.start import application
from wolbrin.app.theme.theme import Theme
from wolbrin.core.bench.data import bench_bars
from wolbrin.core.bench.figure import Measured, measured
from wolbrin.core.bench.shelf import CANDIDATES, fill, like, one_candidate
from wolbrin.core.jobs import Engine
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import ready_of
from wolbrin.core.work.standing import restand

STALL_SECONDS = 6.0
LEAD = 4.0


@contextmanager
def opened_window(folder: Path, place: str) -> Iterator[MainWindow]:
    """A window on a project, at a place; what the closed window still has to do happens before its project goes."""
    application()
    theme = Theme()
    theme.apply()
    engine = Engine()
    project = Project(folder)
    window = MainWindow(Session(project, engine, theme))
    window.resize(1280, 800)
    window.go(place)
    window.show()
    memory = Memory(window, partial(getattr, window.session, "busy"))
    yield window
    memory.end()
    window.close()
    loop = QEventLoop()
    QTimer.singleShot(500, loop.quit)
    loop.exec()
    project.close()
    engine.close()
    del window, memory
    gc.collect()  # here, not on whatever thread comes first: it holds timers


def longest_gap(seconds: float, counts: Callable[[], bool], lead: float = LEAD) -> float:
    """The longest time, in ms, for which the interface thread did not answer, while `counts` says so; after the first
    seconds (lead), in which the window comes to rest."""
    loop, clock = QEventLoop(), QElapsedTimer()
    worst, begun = [0], time.monotonic()
    beat = QTimer(interval=5)

    def tick() -> None:
        gap = clock.restart() - 5
        if time.monotonic() - begun > lead and counts():
            worst[0] = max(worst[0], gap)
        if time.monotonic() - begun > seconds + lead:
            loop.quit()

    beat.timeout.connect(tick)
    clock.start()
    beat.start()
    loop.exec()
    beat.stop()
    return float(worst[0])


def measure_stall(folder: Path) -> float:
    """The longest gap while Discover runs on the project."""
    with opened_window(folder, "discover") as window:
        place: Any = window.places["discover"]
        place.setup.count.setValue(5_000_000)
        place.start()
        longest_gap(STALL_SECONDS, lambda: not place.state.running)  # it is prepared beside the window
        # While the pool is filled, and while thousands a second are tried.
        worst = 0.0
        for _ in range(20):
            worst = max(worst, longest_gap(STALL_SECONDS, lambda: place.state.running))
            if place.result.tried.text() not in ("", "0"):
                break
        return max(worst, longest_gap(STALL_SECONDS, lambda: place.state.running))


def measure_portfolio(folder: Path) -> float:
    """The longest gap while the overlap of 500 is worked out, shown and cut, and a portfolio of ten is taken apart."""
    with opened_window(folder, "overlap") as window:
        session = window.session
        first = one_candidate(session.project)
        assert first.daily is not None
        rng, days, ids = np.random.default_rng(3), first.daily[0], []
        with session.project.transaction():
            for i in range(500):
                one = replace(first, name=f"Member {i}", daily=(days, np.round(rng.normal(20, 100, len(days)), 2)),
                              strategy=first.strategy.model_copy(update={"time_exit": 5 + i}))
                ids.append(session.shelf.keep(one) or 0)
        overlap: Any = window.places["overlap"]
        longest_gap(1.0, lambda: True)
        session.select(ids)
        worst = longest_gap(STALL_SECONDS, lambda: True, 0.0)
        for way in ("week", "month", "day"):
            overlap.state.compare(by=way)
            overlap.matrix.cut_to(0.3)
            worst = max(worst, longest_gap(1.0, lambda: True, 0.0))
        window.go("portfolio")
        longest_gap(0.5, lambda: True)  # its place is read
        session.select(ids[:10])
        place: Any = window.places["portfolio"]
        worst = max(worst, longest_gap(STALL_SECONDS, lambda: True, 0.0))
        place.show_page("less, more")
        place.state.take_apart()
        worst = max(worst, longest_gap(STALL_SECONDS, lambda: True, 0.0))
        place.state.weigh()
        return max(worst, longest_gap(STALL_SECONDS, lambda: True, 0.0))


def measure_arrivals(folder: Path) -> float:
    """The longest gap while fifty candidates a second come to a Shelf of 100,000 that is shown, sorted by net profit."""
    with opened_window(folder, "shelf") as window:
        session = window.session
        place: Any = window.places["shelf"]
        place.rows.sort(next(i for i, c in enumerate(place.rows.columns) if c.key == "net"), Qt.SortOrder.DescendingOrder)
        first, rng = one_candidate(session.project), np.random.default_rng(2)
        going = [True]
        # As in a search: what is stored is worked out where it is found, in other processes.
        ready = [ready_of(like(first, CANDIDATES + i, rng)) for i in range(round(50 * (STALL_SECONDS + 10)))]

        def changed() -> None:
            session.shelf_changed.emit()
            session.counts_changed.emit()

        told = session.on_ui(changed)

        def arrive() -> None:
            number = 0
            while going[0]:
                began = time.monotonic()
                with session.project.transaction():
                    for one in ready[number:number + 20]:
                        session.shelf.keep_ready(one, 1, 1)
                number += 20
                told()
                time.sleep(max(0.0, 0.4 - (time.monotonic() - began)))

        thread = Thread(target=arrive, daemon=True)
        thread.start()
        gap = longest_gap(STALL_SECONDS, lambda: place.rows.rowCount() >= CANDIDATES)
        going[0] = False
        thread.join()
        return gap


def measure_edits(folder: Path, edits: int = 12) -> tuple[float, float]:
    """Median ms from an edit of a rule until its signals, panes and strips are shown, and until the backtest is done, on the
    project's history; every edit asks for an average of a length not computed before."""
    with opened_window(folder, "rules") as window:
        return _edits(window, edits)


def _edits(window: MainWindow, edits: int) -> tuple[float, float]:
    session, view = window.session, window.places["rules"].signals  # type: ignore[attr-defined]
    loop, shown = QEventLoop(), [0.0]
    show = view.show_seen

    def seen(*given: object) -> None:
        show(*given)
        view.grab()
        shown[0] = time.perf_counter()

    view.show_seen = seen
    spent, ran = [], []
    for number in range(edits):
        text = (f"name = 'Edit'\nlong_entry = crosses_above(ema({20 + number}), ema(50)) and rsi(14) > 50 "
                "and close > sma(100)\n"
                "stop = 2 * atr(14)\n")
        done: list[float] = []
        after = parse_strategy(text)
        session.run_changed.connect(lambda d=done: d.append(time.perf_counter()))
        began = time.perf_counter()
        session.edit(after, "edit")
        QTimer.singleShot(900, loop.quit)
        loop.exec()
        session.run_changed.disconnect()
        if number > 1 and done:
            spent.append(1e3 * (shown[0] - began))
            ran.append(1e3 * (done[-1] - began))
    return sorted(spent)[len(spent) // 2], sorted(ran)[len(ran) // 2]


def measure_frames(bars: int, frames: int = 90) -> float:
    """Frames a second while a chart of `bars` bars is panned and zoomed, every frame painted."""
    app = application()
    theme = Theme()
    theme.apply()
    chart = PriceChart(theme)
    chart.resize(1000, 420)
    chart.show_bars(bench_bars(bars))
    chart.show()
    app.processEvents()
    began = time.perf_counter()
    for frame in range(frames):
        # Out from a day to the whole history and in again, while panning.
        width = 250.0 * (bars / 250.0) ** (1 - abs(2 * frame / frames - 1))
        left = (bars - width) * frame / frames
        chart.look(left, left + width)
        chart.grab()
    spent = time.perf_counter() - began
    chart.close()
    return frames / spent


def measure_start(folder: Path) -> float:
    """Seconds from starting the program to a usable window, everything compiled and read before."""
    code = ("import time, sys; from pathlib import Path; from wolbrin.main import open_window\n"
            "def ready(w):\n print('READY', time.time()); sys.stdout.flush(); w.close()\n"
            "open_window(Path(sys.argv[1]), place='backtest', on_ready=ready)")
    spent = []
    for _ in range(4):
        began = time.time()
        out = subprocess.run([sys.executable, "-c", code, str(folder)], capture_output=True, text=True, timeout=120,
                             check=False)
        line = next((ln for ln in out.stdout.splitlines() if ln.startswith("READY")), None)
        if line is None:
            raise RuntimeError(f"the window did not start: {out.stderr[-500:]}")
        spent.append(float(line.split()[1]) - began)
    return min(spent[1:])


def measure_empty_home() -> tuple[float, float]:
    """Seconds from starting the program in an empty home until the window stands with the demo's first market, nothing
    compiled before; and until its first run is there."""
    code = ("import time, sys; from wolbrin.main import open_window; from PySide6.QtCore import QTimer\n"
            "def ready(w):\n print('READY', time.time()); sys.stdout.flush(); t = QTimer(w, interval=50)\n"
            " def look():\n  if w.session.run is not None:\n   print('RUN', time.time()); w.close()\n"
            " t.timeout.connect(look); t.start()\n"
            "open_window(None, True, None, 'backtest', ready)")
    with tempfile.TemporaryDirectory() as home:
        env = {k: v for k, v in os.environ.items() if k != "NUMBA_CACHE_DIR"} | {
            "HOME": home, "XDG_DATA_HOME": f"{home}/data", "XDG_CACHE_HOME": f"{home}/cache",
            "XDG_STATE_HOME": f"{home}/state"}
        began = time.time()
        out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=600, check=False, env=env)
        told = {word: float(at) - began for word, _, at in (ln.partition(" ") for ln in out.stdout.splitlines())
                if word in ("READY", "RUN")}
    if "RUN" not in told:
        raise RuntimeError(f"the window did not come so far: {out.stderr[-500:]}")
    return told["READY"], told["RUN"]


def measure_listing(folder: Path) -> float:
    """Seconds from starting a command until it has said something."""
    spent = []
    for _ in range(4):
        began = time.perf_counter()
        subprocess.run([sys.executable, "-m", "wolbrin", "searches", "--project", str(folder)], check=True,
                       stdout=subprocess.DEVNULL)
        spent.append(time.perf_counter() - began)
    return min(spent[1:])


def window_figures() -> list[Measured]:
    """Measure the window on a project of its own; offscreen when there is no display."""
    if not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place) / "window"
        project = Project.create(folder)
        bars = bench_bars(100_000)
        project.add_market(bars.terms, bars, "bench")
        project.close()
        bare = min(_bare_python() for _ in range(3))
        start = measure_start(folder)
        stall = measure_stall(folder)
        edit, ran = measure_edits(folder)
        listing = measure_listing(folder)
        portfolios = measure_portfolio(folder)
        project = Project(folder)
        fill(project, CANDIDATES)
        restand(project)
        project.close()
        arrivals = measure_arrivals(folder)
    frames, few = measure_frames(5_000_000), measure_frames(5_000)
    stands, first_run = measure_empty_home()
    return [measured("warm start to usable window", start, "s", "lower", 3.0,
                     f"starting Python and importing NumPy and QtWidgets: {bare:.2f} s"),
            measured("longest stall of the interface thread while Discover runs", stall, "ms", "lower", 50.0,
                     "a timer of 5 ms in the same window"),
            measured("window on an empty home, nothing compiled before", stands, "s", "lower", 20.0,
                     "with the demo's first market; the others follow while it is open"),
            measured("the same, until the first run is there", first_run, "s", "lower", None,
                     "kernels are compiled by processes beside it, on all cores"),
            measured("first output of a command that lists a project's searches", listing, "s", "lower", 0.8,
                     f"starting Python and importing NumPy and QtWidgets: {bare:.2f} s"),
            measured("longest stall while 50 candidates a second come to a Shelf of 100,000", arrivals, "ms", "lower", 50.0,
                     "a timer of 5 ms in the same window"),
            measured("longest stall while 500 are compared and a portfolio of ten is taken apart", portfolios, "ms", "lower",
                     50.0,
                     "a timer of 5 ms in the same window"),
            measured("rules chart after an edit, 100,000 bars", edit, "ms", "lower", 150.0,
                     f"one new average, three rows; the backtest of the same edit is done after {ran:.0f} ms"),
            measured("panning and zooming a chart of 5 million bars", frames, "frames a second", "higher", 30.0,
                     f"the same chart with 5,000 bars: {few:.0f} frames a second")]


def _bare_python() -> float:
    began = time.time()
    subprocess.run([sys.executable, "-c", "import numpy, PySide6.QtWidgets"], check=True)
    return time.time() - began
