"""What the benchmark measures of reading history: five million one-minute rows, time and memory, in a process of its own."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv

from wolbrin.core.bench.data import bench_bars
from wolbrin.core.bench.figure import Measured, measured
from wolbrin.core.market.quality import report
from wolbrin.core.market.raw import Raw

ROWS = 5_000_000
READ = """
import sys, time
from pathlib import Path
from wolbrin.core.market.importing.files import pieces
from wolbrin.core.market.importing.guess import guess
from wolbrin.core.market.importing.read import Reader
began = time.perf_counter()
found = pieces([Path(sys.argv[1])])
made = Reader(found, guess(found[0]).layout).read_all()
assert made.rows == int(sys.argv[2]) and made.bad_count == 0
spent = time.perf_counter() - began
# Of this program alone: what the system counts for the process begins with the one it was forked from.
peak = next(line for line in open("/proc/self/status") if line.startswith("VmHWM")).split()[1]
print(spent, int(peak) * 1024)
"""


def minute_file(path: Path, rows: int) -> None:
    """One-minute bars as CSV, a plain random walk."""
    rng = np.random.default_rng(5)
    time_ = np.datetime64("2010-01-01", "m") + np.arange(rows)
    close = np.round(100 + np.cumsum(rng.normal(0, 0.01, rows)), 2)
    pacsv.write_csv(pa.table({"time": pa.array(time_.astype("datetime64[s]")), "open": close, "high": close + 0.05,
                              "low": close - 0.05, "close": close, "volume": rng.integers(1, 900, rows)}), path)


def import_figures() -> list[Measured]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "minutes.csv"
        minute_file(path, ROWS)
        size = path.stat().st_size
        began = time.perf_counter()
        lines = path.read_bytes().count(b"\n")
        plain = time.perf_counter() - began
        out = subprocess.run([sys.executable, "-c", READ, str(path), str(ROWS)], capture_output=True, text=True, check=True)
    spent, peak = (float(x) for x in out.stdout.split())
    bars = Raw.of(bench_bars(500_000))
    terms = bench_bars(10).terms
    began = time.perf_counter()
    report(bars, terms)
    judged = time.perf_counter() - began
    beside = f"a file of {size / 1e6:.0f} MB; reading it and counting its {lines:,} lines: {plain:.2f} s"
    return [measured("import of 5 million one-minute rows", spent, "s", "lower", 30.0, beside),
            measured("the same, peak memory of the process over the file's size", peak / size, "x", "lower", 6.0, beside),
            measured("quality report on 500,000 bars", judged, "s", "lower", None, "in the same run")]
