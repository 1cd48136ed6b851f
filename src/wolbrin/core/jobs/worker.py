"""What runs a piece of work: on a thread of this process, or in another process that is sent the request.

A request travels as bytes with each piece and is read once per worker; what it leads to (histories) stays with it.
"""

from __future__ import annotations

import os
import pickle
import threading
from collections.abc import Callable
from functools import lru_cache
from multiprocessing import connection, parent_process
from typing import Any

from wolbrin.core.memory import keep_memory

_here = threading.local()


class Stopped(Exception):  # noqa: N818 - not an error: somebody wanted it so
    """Raised inside a piece of work whose job was stopped."""


def check_stopped() -> None:
    """Long functions call this between steps; it raises Stopped when their job was stopped meanwhile. It knows of stops on
    threads only; pieces sent to other processes are short."""
    stop = getattr(_here, "stop", None)
    if stop is not None and stop.is_set():
        raise Stopped


def near(function: Callable[..., Any], argument: Any, stop: threading.Event) -> Any:
    """Run a piece on a thread of this process."""
    _here.stop = stop
    try:
        return function(argument)
    finally:
        _here.stop = None


@lru_cache(maxsize=4)
def _unpacked(blob: bytes) -> Any:
    return pickle.loads(blob)


def distant(blob: bytes, argument: Any) -> Any:
    """Run a piece in another process; blob: the pickled function."""
    return _unpacked(blob)(argument)


def be_a_worker() -> None:
    """Set up a worker process: it gives way to the window, and ends when its parent does, however that came about."""
    os.nice(5)
    keep_memory()
    parent = parent_process()
    if parent is None:
        return

    def watch() -> None:
        connection.wait([parent.sentinel])
        os._exit(1)

    threading.Thread(target=watch, name="parent watch", daemon=True).start()
