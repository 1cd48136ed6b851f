"""Garbage is looked for while nobody uses the window."""

from __future__ import annotations

import gc
import subprocess
import sys
import weakref
from types import ModuleType, SimpleNamespace

import pytest
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtWidgets import QWidget

from tests.build import until
from wolbrin.app import memory
from wolbrin.app.memory import AWAY, OFTEN, PENDING, QUIET, THOROUGH, Memory


class Ring:
    """Refers to itself: only a look finds it."""

    def __init__(self) -> None:
        self.own = self


def old_ring() -> weakref.ref[Ring]:
    """One that has outlived the younger generations, with enough looks at those since to be worth one at the oldest."""
    ring = Ring()
    gc.collect(0)
    gc.collect(1)
    found = weakref.ref(ring)
    del ring
    for _ in range(PENDING):
        gc.collect(1)
    return found


def test_garbage_waits_until_nobody_uses_the_window(qtbot,
                                                    monkeypatch: pytest.MonkeyPatch) -> None:  # type: ignore[no-untyped-def]
    clock = [1000.0]
    monkeypatch.setattr(memory, "time", SimpleNamespace(monotonic=lambda: clock[0]))
    window = QWidget()
    qtbot.addWidget(window)
    window.show()
    qtbot.waitExposed(window)
    before, frozen = gc.get_threshold(), gc.get_freeze_count()
    kept = Memory(window)
    try:
        kept.begin()
        assert gc.get_threshold() == OFTEN
        assert gc.get_freeze_count() > frozen, "what the program is made of is left out"

        def used(after: float) -> None:
            clock[0] += after
            move = QMouseEvent(QEvent.Type.MouseMove, QPointF(1, 1), QPointF(1, 1), Qt.MouseButton.NoButton,
                               Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier)
            kept.eventFilter(window, move)

        ring = old_ring()
        used(QUIET + 1)
        kept.look()
        assert ring() is not None, "the pointer moves"
        clock[0] += QUIET + 1
        kept.look()
        assert ring() is None
        ring = old_ring()
        gc.freeze()  # as after a library was read
        clock[0] += QUIET + 1
        kept.look()
        assert ring() is not None
        clock[0] += max(AWAY, THOROUGH) + 1
        kept.look()
        assert ring() is None, "in the end all is looked through"
        assert gc.get_freeze_count() > frozen
        ring = old_ring()
        used(1)
        monkeypatch.setattr(memory, "held", lambda: 10**12)
        kept.look()
        assert ring() is None, "much memory is not waited for"
    finally:
        kept.end()
        gc.unfreeze()
    assert gc.get_threshold() == before


def test_what_work_holds_is_looked_for_when_it_is_over(monkeypatch: pytest.MonkeyPatch,
                                                       qtbot) -> None:  # type: ignore[no-untyped-def]
    """A library read in the midst of work does not keep what the work will leave behind."""
    works = [True]
    window = QWidget()
    qtbot.addWidget(window)
    window.show()
    kept = Memory(window, lambda: works[0])
    try:
        kept.begin()
        frozen = gc.get_freeze_count()
        monkeypatch.setitem(sys.modules, "read_meanwhile", ModuleType("read_meanwhile"))
        kept.look()
        assert gc.get_freeze_count() == frozen
        works[0] = False
        ring = old_ring()
        kept.look()
        assert ring() is None, "looked through before it is kept"
        assert gc.get_freeze_count() > frozen
    finally:
        kept.end()
        gc.unfreeze()


def test_memory_that_nothing_uses_goes_back_to_the_system(monkeypatch: pytest.MonkeyPatch,
                                                          qtbot) -> None:  # type: ignore[no-untyped-def]
    """In a process of its own: blocks between kept ones are free and stay with the C library until they are given back."""
    code = ("import ctypes, numpy as np\n"
            "from wolbrin.core.memory import free_memory, give_back, keep_memory\n"
            "from wolbrin.app.memory import held\n"
            "assert keep_memory()\n"
            "a = [np.ones(250_000) for _ in range(400)]\n"
            "kept = a[::10]\n"
            "before = held()\n"
            "del a\n"
            "free = free_memory()\n"
            "assert free > 500e6, free\n"
            "assert not give_back(10**12)\n"
            "assert give_back()\n"
            "print(before, held())")
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    before, after = map(int, ran.stdout.split())
    assert after < before - 350e6
    asked: list[int] = []
    monkeypatch.setattr(memory, "give_back", asked.append)
    clock, works = [0.0], [True]
    monkeypatch.setattr(memory, "time", SimpleNamespace(monotonic=lambda: clock[0]))
    window = QWidget()
    qtbot.addWidget(window)
    kept = Memory(window, lambda: works[0])
    for seconds in (1.0, memory.RARELY + 1.0, memory.RARELY + 2.0):
        clock[0] = seconds
        kept.look()
    until(lambda: asked)
    assert asked == [memory.MOST], "now and then, not at every look"
    works[0] = False
    clock[0] += memory.SOON + 1.0
    kept.look()
    until(lambda: len(asked) > 1)
    assert asked == [memory.MOST, memory.MUCH], "sooner after work, and more of it"
    kept.end()
