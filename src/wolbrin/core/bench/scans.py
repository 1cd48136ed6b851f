"""How fast a market is scanned: from nothing to the first picture, to the first answer, to all draws."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

from wolbrin.core.bench.figure import Measured, measured
from wolbrin.core.jobs import Engine, State
from wolbrin.core.scan.moves import moves_of
from wolbrin.core.scan.scores import Scorer
from wolbrin.core.store.project import Project
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.scan_request import ScanRequest
from wolbrin.core.work.scan_results import ScanResult
from wolbrin.core.work.scanning import scan_job, scanner_of

SECOND = "import sys; from wolbrin.core.bench.scans import alone; alone(*sys.argv[1:])"


def _scan(project: Project, engine: Engine, request: ScanRequest, until: int = 0) -> tuple[float, float, float]:
    """Seconds to the first rows, to a first answer, and to the end; until: draws after which it is stopped."""
    seen: list[tuple[float, bool]] = []
    began = time.perf_counter()

    def come(result: ScanResult) -> None:
        if result.rows:
            seen.append((time.perf_counter() - began, result.answered))
        if until and result.draws >= until:
            job.stop()

    job, _ = scan_job(project, request, come)
    state = engine.start(job, "threads").wait()
    whole = time.perf_counter() - began
    if state is State.FAILED and job.error is not None:
        raise job.error
    answered = next((t for t, known in seen if known), whole)
    return seen[0][0], answered, whole


def alone(folder: str, code: str, interval: str) -> None:
    """Scan in a process of its own and print its peak memory in KiB."""
    project, engine = Project(Path(folder)), Engine()
    _scan(project, engine, ScanRequest(((code, int(interval)),)))
    engine.close()
    # Not the resource usage: that of a process that was begun by another holds what the other had in memory then.
    told = Path("/proc/self/status").read_text(encoding="ascii", errors="replace")
    print(next(line.split()[1] for line in told.splitlines() if line.startswith("VmHWM")))


def scan_figures(project: Project, code: str, interval: int, engine: Engine) -> list[Measured]:
    """Scans of the project's 100,000 bars."""
    where = ((code, interval),)
    _scan(project, engine, ScanRequest(where, count=300, draws=100))  # everything is compiled
    footing = Footing.of(project)
    history = footing.prepared(code, interval)
    brief = footing.brief(history.bars.terms)
    scanner = scanner_of(history, brief, ScanRequest(where))
    began = time.perf_counter()
    some = len(scanner.choice) // 500
    rows = scanner.words(range(0, 500 * some, some))[0]
    made = time.perf_counter() - began
    scorer = Scorer(moves_of(history, brief.span), scanner.horizons)
    began = time.perf_counter()
    scorer.score(rows)
    scored = time.perf_counter() - began
    each = (f"one thread: a row made {1e3 * made / 500:.2f} ms, scored at {len(scanner.horizons)} horizons "
            f"{1e3 * scored / 500:.2f} ms")
    first, answer, whole = _scan(project, engine, ScanRequest(where))
    _, large, _ = _scan(project, engine, ScanRequest(where, count=40_000), until=100)
    told = subprocess.run([sys.executable, "-c", SECOND, str(project.folder), code, str(interval)], capture_output=True,
                          text=True, check=True)
    return [measured("scan of 10,000 rows, 7 horizons and pairs, 100,000 bars: to an answer by 100 draws", answer, "s",
                     "lower", 20, each),
            measured("the same, first picture", first, "s", "lower", 3, "a tile of 512 rows"),
            measured("the same, to an answer by 999 draws", whole, "s", "lower", None, "pairs are chosen anew in each draw"),
            measured("scan of 40,000 rows, to an answer by 100 draws", large, "s", "lower", 60, each),
            measured("peak memory of a process that scans 10,000 rows", int(told.stdout.split()[-1]) / 1024**2, "GiB",
                     "lower", 1.0, "prices and times of 100,000 bars: 5 MB")]
