"""Kernels are compiled beside the program, by other processes: work waits for the one it needs, the window never."""

from __future__ import annotations

import os
import threading
from pathlib import Path

import pytest

from wolbrin.core import compiled
from wolbrin.core.proving import monte_carlo
from wolbrin.core.work import readying, warming
from wolbrin.core.work.readying import LANES, Readying, ready_on_demand
from wolbrin.core.work.warmed import is_warm, mark_file

NAME = next(f"{k.__module__}.{k.__qualname__}_{k.digest}.1" for k in vars(monte_carlo).values()
            if isinstance(k, compiled.Kernel) and "paths" in k.__qualname__)


@pytest.fixture
def cold(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A cache folder of its own; this process has its kernels already."""
    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path))
    monkeypatch.setattr(readying, "LANES", (("Monte Carlo",), ("filters",)))
    return tmp_path


def test_every_step_is_in_one_lane() -> None:
    dealt = [step for lane in LANES for step in lane]
    assert sorted(dealt) == sorted(name for name, _ in warming.steps_of_warming())


def test_work_waits_for_a_kernel_and_the_interface_thread_does_not(cold: Path) -> None:
    assert not is_warm()
    ready = Readying()
    ready.start()
    assert compiled.waiting == ready.wait
    there: list[bool] = []
    worker = threading.Thread(target=lambda: (ready.wait(NAME), there.append(bool(list(cold.glob(f"*/{NAME}.nbi"))))))
    worker.start()
    ready.wait(NAME)  # on the main thread: returns at once, whatever is there
    assert threading.current_thread() is threading.main_thread()
    worker.join()
    ready.over.wait()
    assert there == [True]
    assert sorted(ready.done) == ["Monte Carlo", "filters"]
    assert not ready.failed
    assert compiled.waiting is None
    assert mark_file().exists()
    assert mark_file().parent == Path(os.environ["NUMBA_CACHE_DIR"])


def test_a_program_of_one_thread_says_what_it_waits_for(cold: Path) -> None:
    said: list[str] = []

    def show(ready: Readying, there: object) -> None:
        said.append(ready.words)
        ready.over.wait()
        assert there()  # type: ignore[operator]

    ready_on_demand(show)
    first = compiled.waiting
    assert first is not None
    first("wolbrin.demo.generator.walk_0.1")
    assert said == [], "the demo's own kernels are compiled by whoever calls them"
    first(NAME)
    assert said == ["0 of 2"]
    assert compiled.waiting is None
