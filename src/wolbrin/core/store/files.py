"""Writing files so that a power cut leaves the old state or the new one: whole, synced with their folder, renamed."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from wolbrin.core.errors import EnvironmentTrouble

PARTIAL = ".partial"


def sync_folder(folder: Path) -> None:
    """Make the names in a folder last."""
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def write_whole(path: Path, write: Callable[[Path], object], what: str) -> None:
    """Let `write` make a file under a temporary name, sync it, and give it its own.

    Raises:
        EnvironmentTrouble: it cannot be written; nothing is left behind.
    """
    partial = path.with_name(path.name + PARTIAL)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        write(partial)
        with partial.open("rb+") as handle:
            os.fsync(handle.fileno())
        os.replace(partial, path)
        sync_folder(path.parent)
    except OSError as err:
        with suppress(OSError):
            partial.unlink(missing_ok=True)
        raise EnvironmentTrouble(f"this {what} cannot be written ({err.strerror or err})", str(path),
                                 "Free some space or check the folder's permissions.") from None


def digest_of(path: Path) -> str:
    """SHA-256 of a file's bytes, 64 hex digits."""
    with path.open("rb") as handle:
        return hashlib.file_digest(handle, "sha256").hexdigest()
