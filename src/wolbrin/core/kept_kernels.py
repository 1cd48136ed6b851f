"""Compiled kernels on disk: what is read there is what was written, or it is thrown away and compiled again.

numba reads its cache as it is: a cut file ends in an error of its reader, a flipped bit in one of LLVM's, or in machine code
that does something else. Here a file begins with the digest of the rest.
"""

from __future__ import annotations

import hashlib
import logging
import os
import pickle
from collections.abc import Callable
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import Any

log = logging.getLogger("wolbrin")
MARK, SIZE = b"wolbrin1", 32  # what a file of ours begins with, and bytes of a digest
said: Callable[[str], None] = lambda text: None  # noqa: E731 - called with a sentence, on any thread


def read_kept(path: Path) -> Any:
    """What a file holds; None where it is not there. One that is not what was written is thrown away, and said."""
    try:
        raw = path.read_bytes()
    except FileNotFoundError:
        return None
    except OSError as err:
        _say(f"a compiled kernel cannot be read ({err.strerror or err}): it is compiled again", path)
        return None
    digest, data = raw[len(MARK):len(MARK) + SIZE], raw[len(MARK) + SIZE:]
    if raw.startswith(MARK) and hashlib.sha256(data).digest() == digest:
        with suppress(Exception):  # of another version of what it is made of
            return pickle.loads(data)
    with suppress(OSError):
        os.unlink(path)
    _say("a compiled kernel was damaged on disk: it is thrown away and compiled again", path)
    return None


def keep_under(kept: Any, path: str, name: str) -> None:
    """Let one of numba's caches keep its machine code under a name. That it cannot be kept costs compiling it again."""
    kept._cache_file = _sound()(path, name, name)
    keep = kept.save_overload

    def save(sig: Any, data: Any) -> None:
        try:
            keep(sig, data)
        except OSError as err:
            log.warning("a compiled kernel cannot be kept in %s: %s", path, err.strerror or err)

    kept.save_overload = save


@cache
def _sound() -> Any:
    """numba's files of one kernel, each with its digest."""
    from numba.core.caching import IndexDataCacheFile  # late

    class SoundCacheFile(IndexDataCacheFile):
        def load(self, key: Any) -> Any:
            """What was kept under a key; None where there is nothing, or nothing that is whole."""
            name = self._load_index().get(key)
            return None if name is None else read_kept(Path(self._data_path(name)))

        def _load_index(self) -> dict[Any, str]:
            found = read_kept(Path(self._index_path))
            if not isinstance(found, tuple) or len(found) != 2 or found[0] != self._source_stamp:
                return {}
            return dict(found[1])

        def _save_index(self, overloads: dict[Any, str]) -> None:
            self._write(self._index_path, self._dump((self._source_stamp, overloads)))

        def _save_data(self, name: str, data: Any) -> None:
            self._write(self._data_path(name), self._dump(data))

        def _write(self, path: str, data: bytes) -> None:
            with self._open_for_write(path) as file:
                file.write(MARK + hashlib.sha256(data).digest() + data)

    return SoundCacheFile


def _say(text: str, path: Path) -> None:
    log.warning("%s: %s", path, text)
    with suppress(Exception):  # whoever listened may be gone
        said(f"{text[:1].upper()}{text[1:]}. That takes a moment; no figure is touched by it.")
