"""What the benchmark measures in the window: warm start, and the longest stall while Discover runs."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from wolbrin.core.bench.data import bench_bars
from wolbrin.core.bench.figure import Figure
from wolbrin.core.store.project import Project

STALL_SECONDS = 6.0


def measure_stall(folder: Path) -> float:
    """Longest time, in ms, for which the interface thread did not answer while Discover ran on the project."""
    from PySide6.QtCore import QElapsedTimer, QEventLoop, QTimer

    from wolbrin.app.session import Session
    from wolbrin.app.shell.window import MainWindow
    from wolbrin.app.start import application
    from wolbrin.app.theme.theme import Theme
    from wolbrin.core.jobs import Engine

    application()
    theme = Theme()
    theme.apply()
    engine = Engine()
    project = Project(folder)
    window = MainWindow(Session(project, engine, theme))
    window.go("discover")
    window.show()
    place = window.places["discover"]
    place.count.setValue(20_000)  # type: ignore[attr-defined]
    place.start()  # type: ignore[attr-defined]
    loop, clock = QEventLoop(), QElapsedTimer()
    worst, begun = [0], time.monotonic()
    beat = QTimer(interval=5)

    def tick() -> None:
        gap = clock.restart() - 5
        tried = place.tried.text() != "0"  # type: ignore[attr-defined]
        if tried and time.monotonic() - begun > 2:
            worst[0] = max(worst[0], gap)
        if time.monotonic() - begun > STALL_SECONDS + 2:
            loop.quit()

    beat.timeout.connect(tick)
    clock.start()
    beat.start()
    loop.exec()
    beat.stop()
    window.close()
    QTimer.singleShot(500, loop.quit)  # what the closed window still had to do happens before its project goes
    loop.exec()
    project.close()
    engine.close()
    return float(worst[0])


def measure_edits(folder: Path, edits: int = 12) -> tuple[float, float]:
    """Median ms from an edit of a rule until its signals, panes and strips are shown, and until the backtest is done, on the
    project's history; every edit asks for an average of a length not computed before."""
    from PySide6.QtCore import QEventLoop, QTimer

    from wolbrin.app.session import Session
    from wolbrin.app.shell.window import MainWindow
    from wolbrin.app.start import application
    from wolbrin.app.theme.theme import Theme
    from wolbrin.core.jobs import Engine
    from wolbrin.core.rules.script import parse_strategy

    application()
    theme = Theme()
    theme.apply()
    engine = Engine()
    project = Project(folder)
    window = MainWindow(Session(project, engine, theme))
    window.resize(1280, 800)
    window.show()
    window.go("rules")
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
    window.close()
    QTimer.singleShot(500, loop.quit)
    loop.exec()
    project.close()
    engine.close()
    return sorted(spent)[len(spent) // 2], sorted(ran)[len(ran) // 2]


def measure_frames(bars: int, frames: int = 90) -> float:
    """Frames a second while a chart of `bars` bars is panned and zoomed, every frame painted."""
    from wolbrin.app.charts.price import PriceChart
    from wolbrin.app.start import application
    from wolbrin.app.theme.theme import Theme

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


def window_figures() -> list[Figure]:
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
    frames, few = measure_frames(5_000_000), measure_frames(5_000)
    return [Figure("warm start to usable window", start, "s", "lower", 3.0,
                   f"starting Python and importing NumPy and QtWidgets: {bare:.2f} s"),
            Figure("longest stall of the interface thread while Discover runs", stall, "ms", "lower", 100.0,
                   "a timer of 5 ms in the same window"),
            Figure("rules chart after an edit, 100,000 bars", edit, "ms", "lower", 150.0,
                   f"one new average, three rows; the backtest of the same edit is done after {ran:.0f} ms"),
            Figure("panning and zooming a chart of 5 million bars", frames, "frames a second", "higher", 30.0,
                   f"the same chart with 5,000 bars: {few:.0f} frames a second")]


def _bare_python() -> float:
    began = time.time()
    subprocess.run([sys.executable, "-c", "import numpy, PySide6.QtWidgets"], check=True)
    return time.time() - began
