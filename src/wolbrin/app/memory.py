"""When garbage is looked for. Looking through all objects stalls the window for a tenth of a second, so it is done while
nobody uses the window, and what the program itself is made of is left out of it.

Most garbage goes by counting references; what refers to itself in a circle waits to be found. The youngest is looked for as
always, which is quick.
"""

from __future__ import annotations

import gc
import resource
import sys
import threading
import time
from collections.abc import Callable

from PySide6.QtCore import QEvent, QObject, QTimer
from PySide6.QtWidgets import QWidget

from wolbrin.core.memory import KEPT, give_back

RESTS_AFTER = 2500  # milliseconds from the window's start until it is made
LOOK = 2000  # milliseconds between two looks
OFTEN = (2000, 10, 1000)  # gc's thresholds: of the oldest generation only where nobody was away for twenty million objects
PENDING = 10  # collections of the middle generation since the last whole one, from which on there is something to find
QUIET = 3.0  # seconds without a key or the pointer in which a quick look may be taken,
AWAY = 60.0  # and any
QUICK = 0.04  # seconds
THOROUGH = 900.0  # seconds between two looks through everything
GROWN = 400 * 2**20  # bytes that the process has come to hold since the last look, with which no quiet is waited for
MUCH = 2 * KEPT  # bytes of free memory from which on some is given back to the system once work has ended;
MOST = 2 * MUCH  # while it goes on, since it asks for it again
SOON, RARELY = 4.0, 20.0  # seconds from one such look to the next, after work and while it goes on
USED = {QEvent.Type.KeyPress, QEvent.Type.MouseMove, QEvent.Type.MouseButtonPress, QEvent.Type.Wheel}


def held() -> int:
    """Bytes of memory that this process holds (proc(5), statm); 0 where the system does not say."""
    try:
        with open("/proc/self/statm") as f:
            return int(f.read().split()[1]) * resource.getpagesize()
    except (OSError, IndexError, ValueError):
        return 0


class Memory(QObject):
    """Looks after garbage for as long as the window lives."""

    def __init__(self, window: QWidget, working: Callable[[], bool] = lambda: False) -> None:
        """working: whether something is computed now. What work holds must not be kept: it would be garbage that nobody
        looks for when the work is over."""
        super().__init__(window)
        self._working = working
        self._modules = 0
        self._used = self._whole = time.monotonic()
        self._took, self._held = 0.0, 0
        self._gave, self._freed = self._used, False
        self._before = gc.get_threshold()
        handle = window.windowHandle()
        if handle is not None:
            handle.installEventFilter(self)
        self._timer = QTimer(self, interval=LOOK)
        self._timer.timeout.connect(self.look)
        QTimer.singleShot(RESTS_AFTER, self, self.begin)

    def begin(self) -> None:
        """The window is made and rests: all of it stays as long as it does."""
        gc.set_threshold(*OFTEN)
        self.search(everything=True)
        self._timer.start()

    def end(self) -> None:
        """As it was before."""
        self._timer.stop()
        gc.set_threshold(*self._before)

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if event.type() in USED:
            self._used = time.monotonic()
        return False

    def _keep(self) -> None:
        """What is there now, and no garbage, is not looked through again until everything is."""
        gc.freeze()
        self._modules = len(sys.modules)

    def search(self, everything: bool = False) -> None:
        """Look for garbage now, also in what was kept where that is asked."""
        began = time.monotonic()
        if everything:
            gc.unfreeze()
        self._freed = gc.collect() > 0 or self._freed
        if everything:
            self._keep()
            self._whole = time.monotonic()
        else:
            self._took = time.monotonic() - began
        self._held = held()

    def _give_back(self) -> None:
        """Free memory that nothing asks for goes back to the system, beside the window: it is counted there too, which takes
        as long. Only work, and garbage that was found, leave any."""
        now, works = time.monotonic(), self._working()
        self._freed = self._freed or works
        if self._freed and now - self._gave > (RARELY if works else SOON):
            self._gave, self._freed = now, works
            threading.Thread(target=give_back, args=(MOST if works else MUCH,), name="give back", daemon=True).start()

    def look(self) -> None:
        """Do what the moment allows."""
        self._give_back()
        away = time.monotonic() - self._used
        grown, rests = held() > self._held + GROWN, not self._working()
        if rests and (grown or (away > AWAY and time.monotonic() - self._whole > THOROUGH)):
            self.search(everything=True)
        elif rests and len(sys.modules) > self._modules:  # a place or a library was read: many objects that stay
            self.search()
            self._keep()
        elif grown or (gc.get_count()[2] >= PENDING and away > (QUIET if self._took < QUICK else AWAY)):
            self.search()

