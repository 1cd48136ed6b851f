"""Large arrays come and go with every run. The C library gives their memory back to the system at once by default and asks
for it anew, a page at a time, which can take longer than the work itself; so a stated amount is kept."""

from __future__ import annotations

import ctypes

KEPT = 256 * 1024**2  # bytes of free memory that the process keeps
AT_ONCE = 64 * 1024**2  # bytes asked for at a time
LARGEST = 32 * 1024**2  # larger blocks are given back when they are free; the library's own limit
POOLS = 2  # where threads get memory from; each keeps what was free in it, so that with many a long day's memory grows
# Numbers of the options of mallopt(3).
_TRIM_THRESHOLD, _TOP_PAD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -2, -3, -8


def keep_memory() -> bool:
    """Have the C library keep free memory, for the whole process. Whether it would; another library than glibc has no such
    option, and all works without."""
    try:
        option = ctypes.CDLL(None).mallopt
    except (OSError, AttributeError):
        return False
    return all(option(name, value) == 1 for name, value in (
        (_MMAP_THRESHOLD, LARGEST), (_TRIM_THRESHOLD, KEPT), (_TOP_PAD, AT_ONCE), (_ARENA_MAX, POOLS)))


class _Info(ctypes.Structure):
    """What mallinfo2(3) gives."""

    _fields_ = [(name, ctypes.c_size_t) for name in (
        "arena", "ordblks", "smblks", "hblks", "hblkhd", "usmblks", "fsmblks", "uordblks", "fordblks", "keepcost")]


def free_memory() -> int:
    """Bytes that the C library keeps and nothing uses; 0 where it does not say. What lies between what is used is not given
    back by itself: after some hours of searches it is several times what the program holds."""
    try:
        ask = ctypes.CDLL(None).mallinfo2
    except (OSError, AttributeError):
        return 0
    ask.restype = _Info
    return int(ask().fordblks)


def give_back(above: int = 0) -> bool:
    """Give free memory back to the system, all but what is at hand, where it is more than so many bytes. Whether some was.
    Counting and giving take a tenth of a second a gigabyte, without the interpreter: to be called beside the window."""
    try:
        return free_memory() > above and bool(ctypes.CDLL(None).malloc_trim(KEPT))
    except (OSError, AttributeError):
        return False
