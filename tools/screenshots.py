"""Makes docs/screenshots from the demo data: one picture of each place at 1280 x 800, one in the dark theme."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

FILES = Path(__file__).parents[1] / "src/wolbrin/demo/files"

if TYPE_CHECKING:
    from wolbrin.app.shell.window import MainWindow


def rest(window: MainWindow, least: float = 0.7) -> None:
    """Let the window work until nothing computes any more."""
    end = time.monotonic() + least
    while time.monotonic() < end or window.session.busy:
        pause()


def pause(milliseconds: int = 20) -> None:
    """Let the window work for a moment. (Qt's own test helper would keep Python's lock meanwhile, and workers waiting.)"""
    from PySide6.QtCore import QEventLoop, QTimer

    loop = QEventLoop()
    QTimer.singleShot(milliseconds, loop.quit)
    loop.exec()


def shoot(window: MainWindow, folder: Path, name: str) -> None:
    rest(window)
    window.grab().save(str(folder / f"{name}.png"))
    print(folder / f"{name}.png")


def markets(window: MainWindow, folder: Path) -> None:
    """The Markets place: from a dirty file to a treated source."""
    s = window.session
    place: Any = window.places["markets"]
    window.go("markets")
    rest(window)
    place.show_page("terms")
    shoot(window, folder, "markets")
    place.open_files([FILES / "cob-dirty.csv.gz"])
    page = place.pages["import"]
    rest(window)
    # As a new market's files look, with its terms beside them; it is taken in as what it is.
    page.market.setCurrentIndex(page.market.count() - 1)
    page.code.setText("CBX")
    rest(window)
    page.rows.turn_to(0)
    shoot(window, folder, "markets-import")
    page.market.setCurrentIndex(page.market.findData("COB"))
    rest(window)
    place.pages["import"].take()
    rest(window)
    page = place.pages["quality"]
    rows = [page.findings.model.record(i).key for i in range(page.findings.model.rowCount())]
    page.findings.choose(rows.index("spikes"))
    page.places.choose(0)
    shoot(window, folder, "markets-quality")
    place.show_page("treatment")
    page = place.pages["treatment"]
    page.flat.setCurrentIndex(1)
    page.spikes.setCurrentIndex(1)
    rest(window)
    page.changes.choose(3)
    page.bars.choose(2)
    rest(window)
    s.set_market("NPW")
    place.show_page("quality")
    rest(window)


def sweep(window: MainWindow, folder: Path) -> None:
    """Four numbers in 2,025 sets."""
    place: Any = window.places["sweep"]
    for title, span in (("Opening range minutes, long entry row 1", (30, 110, 10)), ("stop ATR multiple", (1, 5, 0.5)),
                        ("stop ATR length", (10, 30, 5)), ("target stop", (2, 6, 1))):
        line = next(li for li in place.lines if li.tunable.title == title)
        for box, value in zip(line.boxes, span):
            box.setValue(value)
        line.on.click()
    place.start()
    rest(window, 1.0)
    shoot(window, folder, "sweep")
    window.session.undo.setIndex(window.session.undo.index() - 5)


def walk(window: MainWindow, folder: Path) -> None:
    """A grid of lengths for two numbers, and the drift of one of them in the walk it recommends."""
    window.go("proving")
    place: Any = window.places["proving"]
    place.show_page("walk")
    page = place.walk
    page.show_page("ask")
    rest(window)
    for title in ("stop ATR multiple", "target stop"):
        next(li for li in page.setup.sets.numbers.lines if li.tunable.title == title).on.click()
    page.setup.training.setText("12m, 18m, 24m, 36m")
    page.setup.test.setText("2m, 3m, 6m, 12m")
    page.setup.shuffles.setValue(3)
    rest(window)
    page.start()
    rest(window, 2.0)
    shoot(window, folder, "walk-grid")
    page.show_picture(1)
    shoot(window, folder, "walk")
    window.session.undo.setIndex(window.session.undo.index() - 3)
    place.show_page("line")
    rest(window)


def discover(window: MainWindow, folder: Path) -> None:
    """A search on three markets, each beside its controls; what is asked, and what comes of it."""
    s = window.session
    place: Any = window.places["discover"]
    setup = place.setup
    usual = setup.controls.value()
    setup.controls.setValue(1)
    for market in ("BBY", "AUDNZD", "NPW"):
        s.set_market(market)
        if market == "NPW":
            setup.controls.setValue(usual)
            place.show_page("ask")
        place.start()
        rest(window, 1.5)
        while place.state.running:
            pause()
    rest(window, 1.5)
    place.result.table.choose(0)
    shoot(window, folder, "discover")


def plan(window: MainWindow, folder: Path) -> None:
    """The line of gates over all that is kept, and the plan of its opening: families, ways, chances; nothing is opened."""
    place: Any = window.places["proving"]
    window.go("proving")
    place.state.tick_all()
    rest(window)
    place.state.start()
    rest(window)
    place.table.choose(0)
    place.state.open_holdout()
    rest(window, 2.0)
    shoot(window, folder, "proving")
    place.state.leave_sealed()


def proving(window: MainWindow, folder: Path) -> None:
    """Searches, then their plan."""
    window.go("discover")
    rest(window)
    discover(window, folder)
    plan(window, folder)


def scan(window: MainWindow, folder: Path) -> None:
    """Where in this market is anything at all? Then one study."""
    window.go("study")
    place: Any = window.places["study"]
    page = place.scan
    page.start()
    rest(window, 2.0)
    while page.state.running:
        pause()
    rest(window, 2.0)
    shoot(window, folder, "scan")
    place.show_page("study")
    place.start()
    shoot(window, folder, "study")


def work(window: MainWindow, folder: Path) -> None:
    """Walk through the demo as a newcomer would, taking a picture at each place."""
    from wolbrin.core.rules.templates import templates

    s = window.session
    place: Any = window.places

    def go(key: str) -> None:
        window.go(key)
        rest(window)

    markets(window, folder)
    go("rules")
    s.add_strategy(next(t for t in templates() if t.name == "Trend cross").strategy(), "NPW", 15)
    rest(window)
    place["rules"].jump(-1)
    shoot(window, folder, "rules")
    s.undo.undo()
    scan(window, folder)
    go("sweep")
    sweep(window, folder)
    go("discover")
    discover(window, folder)
    kept = s.dossiers.shelf()
    by_market = {m: sorted((k for k in kept if k.candidate.market == m),
                           key=lambda k: -k.candidate.summary["return_drawdown"])[:6] for m in ("NPW", "BBY", "AUDNZD")}
    s.select([k.id for found in by_market.values() for k in found])
    go("shelf")
    place["shelf"].table.sort_by(10)
    place["shelf"].state.star([r.id for r in (place["shelf"].rows.record(i) for i in (0, 2))], True)
    place["shelf"].state.tag([place["shelf"].rows.record(1).id], ["morning"])
    place["shelf"].group.setCurrentIndex(1)
    place["shelf"].state.group_by("family")
    rest(window)
    place["shelf"].table.choose(0)
    shoot(window, folder, "shelf")
    place["shelf"].group.setCurrentIndex(0)
    place["shelf"].state.group_by("")
    plan(window, folder)
    # Those that are ready, the best of each market; the holdout stays sealed.
    ready = sorted((r.line for r in place["proving"].state.line.records if r.stands == "ready"),
                   key=lambda line: -line.figures["return_drawdown"])
    s.select([line.id for m in ("NPW", "BBY", "AUDNZD") for line in [x for x in ready if x.market == m][:7]])
    go("overlap")
    shoot(window, folder, "overlap")
    place["overlap"].state.tick_distinct()
    rest(window)
    go("portfolio")
    s.select([line.id for line in ready if line.id in s.selection][:6])
    rest(window)
    place["portfolio"].save()
    place["portfolio"].members.table.choose(0)
    shoot(window, folder, "portfolio")
    place["portfolio"].show_page("weights")
    place["portfolio"].state.weigh()
    rest(window)
    shoot(window, folder, "portfolio-weights")
    place["portfolio"].show_page("less, more")
    place["portfolio"].state.take_apart()
    rest(window)
    shoot(window, folder, "portfolio-less-more")
    place["portfolio"].show_page("equity")
    s.open_strategy(s.project.strategies()[0].id)
    go("backtest")
    place["backtest"].keep_run()
    place["backtest"].ledger.choose(213)
    shoot(window, folder, "backtest")
    window.toggle_theme()
    place["backtest"].look("measures")
    shoot(window, folder, "backtest-dusk")
    window.toggle_theme()
    place["backtest"].look("ledger")
    walk(window, folder)
    go("rehearsal")
    place["rehearsal"].speed.setValue(6)
    place["rehearsal"].state.start()

    for _ in range(400):
        pause()
    window.grab().save(str(folder / "rehearsal.png"))
    place["rehearsal"].state.stop()
    rest(window)


def main() -> None:
    from wolbrin.app.session import Session
    from wolbrin.app.shell.window import MainWindow
    from wolbrin.app.start import application
    from wolbrin.app.theme.theme import Theme
    from wolbrin.core.jobs import Engine
    from wolbrin.demo.build import build_demo

    target = Path(sys.argv[1])
    target.mkdir(parents=True, exist_ok=True)
    application()
    theme = Theme()
    theme.apply()
    engine = Engine()
    with tempfile.TemporaryDirectory() as folder:
        project = build_demo(Path(folder) / "demo", lambda what, *_: print(what))
        window = MainWindow(Session(project, engine, theme))
        window.show()
        # A second argument "markets", "scan", "walk" or "proving" makes only those pictures.
        made = {"markets": markets, "scan": scan, "walk": walk, "proving": proving}
        made.get((sys.argv[2:] or [""])[0], work)(window, target)
        window.close()
        project.close()
    engine.close()


if __name__ == "__main__":
    main()
