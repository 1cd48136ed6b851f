"""Who has a project's folder open, what its database looked like when it was last looked through, and a copy of one that
cannot be written."""

from __future__ import annotations

import fcntl
import hashlib
import os
import shutil
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import platformdirs

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.store.copies import COPIES, copies_of
from wolbrin.core.written import PARTIAL

PATIENCE = 5.0  # seconds to wait for a program that puts a copy back
MOST_NOTES = 200  # projects of which it is noted how they were left
ENDINGS = ("", "-wal", "-shm")


def share(folder: Path) -> int | None:
    """Hold a folder as one that is open, beside others; None where the file system knows nothing of that.

    Raises:
        EnvironmentTrouble: another program is putting a copy back there.
    """
    try:
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except OSError:
        return None
    until = time.monotonic() + PATIENCE
    while True:
        try:
            fcntl.flock(handle, fcntl.LOCK_SH | fcntl.LOCK_NB)
            return handle
        except BlockingIOError:
            if time.monotonic() > until:
                os.close(handle)
                raise EnvironmentTrouble("another program is putting a copy of this project's database back", str(folder),
                                         "Wait until it is done, and open the project again.") from None
            time.sleep(0.05)
        except OSError:
            os.close(handle)
            return None


def let_go(handle: int | None) -> None:
    """Hold it no longer."""
    if handle is not None:
        with suppress(OSError):
            os.close(handle)


@contextmanager
def alone(folder: Path) -> Iterator[None]:
    """Hold a folder for oneself, to put another database in its place.

    Raises:
        UserError: some program has the project open: what it kept afterwards would go nowhere.
    """
    handle = None
    try:
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        let_go(handle)
        raise UserError("this project is open in another window or program: what it keeps from now on would go nowhere",
                        str(folder), "Close it there, and try again; nothing was changed.") from None
    except OSError:  # a file system without such locks
        pass
    try:
        yield
    finally:
        let_go(handle)


def identity(path: Path) -> tuple[int, int] | None:
    """Which file stands in a place; None where there is none."""
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_dev, found.st_ino


class Looked:
    """Whether a database is, byte by byte as far as the file system tells, the one that was looked through before. Noted in
    the user's cache: the large tables need not be looked through at every opening."""

    def __init__(self, path: Path) -> None:
        self.path = path

    @property
    def _note(self) -> Path:
        name = hashlib.sha256(os.fsencode(self.path.absolute())).hexdigest()[:32]
        return Path(platformdirs.user_cache_path("wolbrin")) / "looked" / name

    def _now(self) -> str:
        found = []
        for ending in ENDINGS[:2]:
            try:
                there = self.path.with_name(self.path.name + ending).stat()
                found.append(f"{there.st_ino} {there.st_size} {there.st_mtime_ns}" if there.st_size else "")
            except OSError:
                found.append("")
        return "|".join(found)

    @property
    def before(self) -> bool:
        """Whether it was."""
        try:
            return self._note.read_text() == self._now()
        except (OSError, ValueError):
            return False

    def note(self) -> None:
        """It is sound as it is now; that it cannot be noted costs a second look."""
        with suppress(OSError):
            self._note.parent.mkdir(parents=True, exist_ok=True)
            if not self._note.exists():
                for old in sorted(self._note.parent.iterdir(), key=lambda p: p.stat().st_mtime)[:-MOST_NOTES]:
                    old.unlink(missing_ok=True)
            partial = self._note.with_name(f"{self._note.name}{os.getpid()}{PARTIAL}")
            partial.write_text(self._now())
            os.replace(partial, self._note)


def copy_elsewhere(folder: Path, name: str) -> tempfile.TemporaryDirectory[str]:
    """A folder of its own with a copy of a database that cannot be written where it stands, and the newest copy of it; it
    goes away when the program does.

    Raises:
        OSError: there is no room for it.
    """
    made = tempfile.TemporaryDirectory(prefix="wolbrin-", ignore_cleanup_errors=True)
    try:
        for ending in ENDINGS[:2]:
            if (there := folder / (name + ending)).is_file():
                shutil.copyfile(there, Path(made.name) / there.name)
        for copy in copies_of(folder)[:1]:
            (Path(made.name) / COPIES).mkdir()
            shutil.copyfile(copy, Path(made.name) / COPIES / copy.name)
    except BaseException:
        made.cleanup()
        raise
    return made
