"""Writing files so that a power cut leaves the old state or the new one: whole, synced with their folder, renamed."""

from __future__ import annotations

import errno
import hashlib
import io
import os
import re
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from wolbrin.core.errors import EnvironmentTrouble, UserError

PARTIAL = ".partial"
LONGEST, LONGEST_NAME = 120, 255  # bytes of a part of a name, and of a name
DIGITS = 32  # of a digest that stand in a name
NAMED = re.compile(rf"__([0-9a-f]{{{DIGITS}}})\.[a-z]+$")


def inside(folder: Path, name: str) -> Path:
    """A file of a folder by its name; names come from a database that somebody may have sent.

    Raises:
        EnvironmentTrouble: the name leads elsewhere, or is none.
    """
    if not isinstance(name, str) or not name or name in (".", "..") or "/" in name or "\0" in name:
        raise EnvironmentTrouble(f"{name[:60]!r} is no name of a file in this folder", str(folder),
                                 "`wolbrin check` says what is wrong with the project.")
    return folder / name


def sync_folder(folder: Path) -> None:
    """Make the names in a folder last."""
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def safe_name(text: str, otherwise: str, also: str = " -_") -> str:
    """A text as a part of a file's name: letters, digits and what may stand beside them, short enough for any file system."""
    plain = "".join(c if c.isalnum() or c in also else "-" for c in text)
    return plain.encode()[:LONGEST].decode("utf-8", "ignore").strip(" .-") or otherwise


def check_target(path: Path, what: str = "file") -> None:
    """Make sure that an ordinary file can take a place: one that is there, or none in a folder that is.

    Raises:
        EnvironmentTrouble: something else stands there, or the folder does not.
    """
    remedy = "Name an ordinary file in a folder that exists."
    try:
        found = path.lstat().st_mode
    except FileNotFoundError:
        if not path.parent.is_dir():
            raise EnvironmentTrouble(f"this {what} cannot be written (there is no such folder)", str(path), remedy) from None
        return
    except (OSError, ValueError) as err:
        said = err.strerror if isinstance(err, OSError) and err.strerror else str(err)
        raise EnvironmentTrouble(f"this {what} cannot be written ({said})", str(path), remedy) from None
    if not stat.S_ISREG(found):
        kind = ("a link to another place" if stat.S_ISLNK(found) else "a folder" if stat.S_ISDIR(found) else
                "a device" if stat.S_ISCHR(found) or stat.S_ISBLK(found) else "no ordinary file")
        raise EnvironmentTrouble(f"this {what} cannot be written ({kind} stands there, and was left as it is)", str(path),
                                 remedy)


@contextmanager
def replacing(path: Path, what: str = "file") -> Iterator[Path]:
    """Where to write; what was written is synced and takes the place of `path` at the end, and goes away when anything ends
    it before.

    Raises:
        EnvironmentTrouble: it cannot be written, or something that is no ordinary file stands there; what was there before
            is unharmed, and nothing is left behind.
    """
    check_target(path, what)
    partial = path.with_name(path.name + PARTIAL)
    if len(os.fsencode(partial.name)) > LONGEST_NAME:
        partial = path.with_name(hashlib.sha256(os.fsencode(path.name)).hexdigest()[:DIGITS] + PARTIAL)
    try:
        yield partial
        with partial.open("rb+") as handle:
            os.fsync(handle.fileno())
        os.replace(partial, path)
        sync_folder(path.parent)
    except OSError as err:
        raise EnvironmentTrouble(f"this {what} cannot be written ({err.strerror or err})", str(path),
                                 "Free some space, check the folder's permissions, or choose another.") from None
    finally:
        with suppress(OSError):
            partial.unlink(missing_ok=True)


def write_whole(path: Path, write: Callable[[Path], object], what: str) -> None:
    """Let `write` make a file as `replacing` does, and the folder where there is none. Raises EnvironmentTrouble."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as err:
        raise EnvironmentTrouble(f"this {what} cannot be written ({err.strerror or err})", str(path),
                                 "Free some space, check the folder's permissions, or choose another.") from None
    with replacing(path, what) as partial:
        write(partial)


def write_bytes(path: Path, data: bytes, what: str = "file") -> None:
    """Write a file whole. Raises EnvironmentTrouble where it cannot be written."""
    with replacing(path, what) as partial:
        partial.write_bytes(data)


def write_text(path: Path, text: str, what: str = "file") -> None:
    """Write a text file whole. Raises EnvironmentTrouble where it cannot be written."""
    with replacing(path, what) as partial:
        partial.write_bytes(text.encode("utf-8", "backslashreplace"))


def write_named(folder: Path, stem: str, ending: str, write: Callable[[Path], object], what: str) -> str:
    """As `write_whole`, under a name that holds the file's digest, so that whatever names the file knows what is in it.
    Returns the name.

    Raises:
        EnvironmentTrouble: it cannot be written; nothing is left behind.
    """
    made = folder / f"{stem}{ending}"
    write_whole(made, write, what)
    try:
        named = folder / f"{stem}__{digest_of(made)[:DIGITS]}{ending}"
        os.replace(made, named)
        sync_folder(folder)
    except OSError as err:
        with suppress(OSError):
            made.unlink(missing_ok=True)
        raise EnvironmentTrouble(f"this {what} cannot be written ({err.strerror or err})", str(made),
                                 "Free some space or check the folder's permissions.") from None
    return named.name


def open_ordinary(path: Path) -> io.BufferedReader:
    """Open an ordinary file to be read; whatever else stands there (a pipe, a device) is not waited for. Raises OSError."""
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    if not stat.S_ISREG(os.fstat(handle).st_mode):
        os.close(handle)
        raise OSError(errno.EINVAL, "it is no ordinary file", str(path))
    return os.fdopen(handle, "rb")


def read_bytes(path: Path, what: str, most: int) -> bytes:
    """All of an ordinary file of at most so many bytes.

    Raises:
        UserError: there is none, or it is larger. EnvironmentTrouble: it cannot be read.
    """
    try:
        with open_ordinary(path) as handle:
            raw = handle.read(most + 1)
    except FileNotFoundError:
        raise UserError(f"this {what} does not exist", str(path), "Check the path.") from None
    except (OSError, ValueError) as err:
        said = err.strerror if isinstance(err, OSError) and err.strerror else str(err)
        raise EnvironmentTrouble(f"this {what} cannot be read ({said})", str(path), "Check the file.") from None
    if len(raw) > most:
        raise UserError(f"this {what} is larger than {most:,} bytes", str(path), "Choose another file.")
    return raw


def read_text(path: Path, what: str, most: int = 64 * 1024**2) -> str:
    """As `read_bytes`, of text in UTF-8. Raises UserError where it is none."""
    try:
        return read_bytes(path, what, most).decode("utf-8")
    except UnicodeDecodeError as err:
        raise UserError(f"this {what} is not text in UTF-8 (byte {err.start + 1:,})", str(path),
                        "Save it as UTF-8.") from None


def told_name(name: str) -> str:
    """A file's name as text: names need not be any, and what is none has marks in its place."""
    return os.fsencode(name).decode("utf-8", "replace")


def as_written(path: Path) -> bool:
    """Whether a file is what its name says it is; files whose name says nothing, of older versions, are. Raises OSError."""
    found = NAMED.search(path.name)
    return found is None or digest_of(path).startswith(found[1])


def digest_of(path: Path) -> str:
    """SHA-256 of a file's bytes, 64 hex digits."""
    with open_ordinary(path) as handle:
        return hashlib.file_digest(handle, "sha256").hexdigest()
