"""Whether every kernel has been compiled on this machine, told by a file; needs nothing that is slow to load."""

from __future__ import annotations

import hashlib
import os
from importlib.metadata import version
from pathlib import Path

COMPILING = "Compiling for this processor; this happens once, and takes one to two minutes"


def mark_file() -> Path:
    """A file whose name changes with every kernel's source, with numba, and with where the code lies."""
    core = Path(__file__).parents[1]
    digest = hashlib.sha256(f"{version('numba')}{core}".encode())
    for source in sorted(core.rglob("*.py")):
        if b"njit" in (text := source.read_bytes()):
            digest.update(text)
    folder = Path(os.environ.get("NUMBA_CACHE_DIR") or Path(__file__).parent / "__pycache__")
    return folder / f"warm-{digest.hexdigest()[:16]}"


def is_warm() -> bool:
    """Whether all kernels of this very code have been compiled and kept on disk before."""
    return mark_file().exists()


def mark_warm() -> None:
    """Write down that they have been."""
    mark = mark_file()
    try:
        mark.parent.mkdir(parents=True, exist_ok=True)
        mark.touch()
    except OSError:
        pass  # without the mark the next start merely looks again


def waiting_words() -> str:
    """What comes before the first work on this machine, "" where nothing does."""
    return "" if is_warm() else "Compiling for this processor comes first, once: one to two minutes"
