"""A journal of lines, each with the digest of the one before: what was opened, judged and moved, beside the database.

It guards against accident and forgetting. A line is whole and synced before what it tells of may happen; a half line at the
end was never anything. It holds digests only, and is for its owner's eyes.
"""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import stat
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from wolbrin.core.errors import EnvironmentTrouble, NothingOpened
from wolbrin.core.written import sync_folder

BEGIN = "0" * 32
MODE = 0o600
MOST_BYTES = 256 * 1024**2
Entry = dict[str, Any]


def digest_of(before: str, entry: Entry) -> str:
    """Of a line and all before it."""
    text = json.dumps({k: v for k, v in entry.items() if k not in ("before", "digest")}, sort_keys=True)
    return hashlib.sha256(f"{before}{text}".encode()).hexdigest()[:32]


class Journal:
    """One file of lines. Safe to use from several programs."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._at: tuple[int, int, int] | None = None  # what was read last
        self._told: tuple[list[Entry], str] = [], ""

    def read(self) -> tuple[list[Entry], str]:
        """Its lines, and what is wrong with them in words, "" for nothing. Lines after a break are told too: whatever was
        written counts. A line that is not what was written (a flipped bit) does not."""
        try:
            there = self.path.stat()
            if not stat.S_ISREG(there.st_mode):
                return [], "it is no ordinary file"
            if there.st_size > MOST_BYTES:
                return [], "it is larger than any journal"
            now = there.st_ino, there.st_mtime_ns, there.st_size
            if now != self._at:
                self._told, self._at = _lines(self.path.read_bytes()), now
            return list(self._told[0]), self._told[1]
        except FileNotFoundError:
            return [], ""
        except OSError as err:
            return [], f"it cannot be read ({err.strerror or err})"

    def check_room(self, size: int) -> None:
        """Make sure that so many bytes can be written. Raises EnvironmentTrouble otherwise."""
        try:
            with self._held() as handle:
                there = os.fstat(handle).st_size
                try:
                    os.posix_fallocate(handle, there, size)
                finally:
                    os.ftruncate(handle, there)
        except OSError as err:
            raise self._trouble(err) from None

    def _trouble(self, err: OSError) -> EnvironmentTrouble:
        return NothingOpened(f"the journal of openings cannot be written ({err.strerror or err})", str(self.path),
                             "Free some space or mend the permissions; nothing was opened.")

    def append(self, entries: Sequence[Entry]) -> None:
        """Write lines and sync them, all or none.

        Raises:
            EnvironmentTrouble: they cannot be written.
        """
        if not entries:
            return
        try:
            with self._held() as handle:
                if os.fstat(handle).st_size > MOST_BYTES:
                    raise OSError("it is larger than any journal")
                data = os.pread(handle, MOST_BYTES, 0)
                keep = data.rfind(b"\n") + 1  # what a kill cut short was never anything
                before, lines = _last(data[:keep]), []
                for entry in entries:
                    digest = digest_of(before, entry)
                    lines.append(json.dumps({**entry, "before": before, "digest": digest}, sort_keys=True))
                    before = digest
                text = "".join(f"{line}\n" for line in lines).encode()
                os.ftruncate(handle, keep)
                try:
                    if os.pwrite(handle, text, keep) != len(text):
                        raise OSError("it was cut short")
                    os.fsync(handle)
                except OSError:
                    os.ftruncate(handle, keep)
                    raise
            sync_folder(self.path.parent)
        except OSError as err:
            raise self._trouble(err) from None

    @contextmanager
    def _held(self) -> Iterator[int]:
        """The file, for one writer at a time."""
        self.path.parent.mkdir(parents=True, exist_ok=True)
        handle = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, MODE)
        try:
            os.fchmod(handle, MODE)
            fcntl.flock(handle, fcntl.LOCK_EX)
            yield handle
        finally:
            os.close(handle)


def _lines(data: bytes) -> tuple[list[Entry], str]:
    found, wrong, before = [], "", BEGIN
    whole, _, _ = data.rpartition(b"\n")
    for number, line in enumerate(whole.split(b"\n") if whole else [], 1):
        try:
            entry = json.loads(line)
            if not isinstance(entry, dict) or not isinstance(entry.get("kind"), str):
                raise ValueError("no line of a journal")
        except (ValueError, RecursionError):
            wrong = wrong or f"line {number} cannot be read"
            continue
        if entry.get("digest") != digest_of(str(entry.get("before")), entry):
            wrong = wrong or f"line {number} is not what was written"
            before = str(entry.get("digest"))
            continue
        if entry["before"] != before:
            wrong = wrong or f"line {number} does not follow the one before: lines were taken out"
        before = entry["digest"]
        found.append(entry)
    return found, wrong


def _last(data: bytes) -> str:
    """The digest that the next line names."""
    for line in reversed(data.split(b"\n")):
        try:
            return str(json.loads(line)["digest"])
        except (ValueError, KeyError, TypeError, RecursionError):
            continue
    return BEGIN
