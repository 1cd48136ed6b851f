"""What the process of an own indicator may do: which modules it may load, which calls the kernel takes from it.

The kernel's part is a filter of system calls (seccomp, Linux; "man 2 seccomp"): a short list of what arithmetic needs is
let through, everything else (files, network, other processes, signals to others) is answered with "not permitted". It needs
no rights. Where it is not to be had, the process runs under limits alone, and `wolbrin` says so. The numbers of calls are
those of the kernel's tables for each machine.
"""

from __future__ import annotations

import builtins
import ctypes
import importlib
import os
import platform
import resource
import signal
import struct
import sys
from collections.abc import Callable, Sequence
from typing import Any

# Modules of the standard library that only compute; with NumPy all that an own indicator may load.
PURE = ("__future__", "abc", "array", "bisect", "calendar", "cmath", "collections", "contextlib", "copy", "dataclasses",
        "datetime", "decimal", "enum", "fractions", "functools", "heapq", "itertools", "math", "numbers", "operator",
        "random", "re", "statistics", "string", "typing", "warnings")
NUMPY = ("numpy", "numpy.fft", "numpy.lib", "numpy.lib.scimath", "numpy.lib.stride_tricks", "numpy.linalg", "numpy.ma",
         "numpy.polynomial", "numpy.random", "numpy.typing")
# What the modules above load only when it is first needed, and no file can be opened any more by then.
_NEEDED_LATER = ("_strptime", "copyreg", "collections.abc", "encodings.ascii", "encodings.latin_1", "linecache", "traceback")
_NO_BUILTINS = ("open", "exec", "eval", "compile", "input", "breakpoint", "help", "exit", "quit", "copyright", "credits",
                "license")

PR_SET_PDEATHSIG, PR_SET_NO_NEW_PRIVS, PR_SET_SECCOMP, SECCOMP_MODE_FILTER = 1, 38, 22, 2
KILL, ERRNO, ALLOW, EPERM = 0x80000000, 0x00050000, 0x7FFF0000, 1
LOAD, EQUAL, AT_LEAST, RETURN = 0x20, 0x15, 0x35, 0x06  # classic BPF: ld [k], jeq, jge, ret
ALL_CALLS = 0x40000000  # x86: from here on the calls of another table

# read, write, lseek, fstat, close, mmap, mprotect, munmap, brk, mremap, madvise, rt_sigaction, rt_sigprocmask, rt_sigreturn,
# sigaltstack, sched_yield, sched_getaffinity, futex, getrandom, clock_gettime, getpid, gettid, getrusage, restart_syscall,
# exit, exit_group, pwrite64; and tgkill, only at oneself (what abort() does).
CALLS: dict[str, tuple[int, tuple[int, ...], int]] = {
    "x86_64": (0xC000003E, (0, 1, 8, 5, 3, 9, 10, 11, 12, 25, 28, 13, 14, 15, 131, 24, 204, 202, 318, 228, 39, 186, 98, 219,
                            60, 231, 18), 234),
    "aarch64": (0xC00000B7, (63, 64, 62, 80, 57, 222, 226, 215, 214, 216, 233, 134, 135, 139, 132, 124, 123, 98, 278, 113,
                             172, 178, 165, 128, 93, 94, 68), 131),
}


def allowed(name: str) -> bool:
    """Whether an own indicator may load a module."""
    return name in NUMPY or name in PURE or name == "collections.abc"


def limit(which: int, soft: int, hard: int | None = None) -> None:
    """Lower a limit of this process, never raise it."""
    most = resource.getrlimit(which)[1]
    wanted = soft if hard is None else hard
    wanted = wanted if most == resource.RLIM_INFINITY else min(wanted, most)
    resource.setrlimit(which, (min(soft, wanted), wanted))


def die_with(parent: int) -> None:
    """End this process when its parent does, however that ends."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, int(signal.SIGKILL), 0, 0, 0)
    if os.getppid() != parent:  # it went before we asked
        os._exit(1)


def program(machine: str, pid: int) -> bytes:
    """The filter as the kernel takes it, in classic BPF; b"" for a machine whose calls are not known here."""
    if machine not in CALLS:
        return b""
    arch, calls, tgkill = CALLS[machine]
    lines: list[tuple[int, int, int, int]] = [
        (LOAD, 0, 0, 4), (EQUAL, 1, 0, arch), (RETURN, 0, 0, KILL),
        (LOAD, 0, 0, 0), (AT_LEAST, 0, 1, ALL_CALLS), (RETURN, 0, 0, ERRNO | EPERM)]
    for number in calls:
        lines += [(EQUAL, 0, 1, number), (RETURN, 0, 0, ALLOW)]
    lines += [(EQUAL, 0, 3, tgkill), (LOAD, 0, 0, 16), (EQUAL, 0, 1, pid), (RETURN, 0, 0, ALLOW),
              (RETURN, 0, 0, ERRNO | EPERM)]
    return b"".join(struct.pack("HBBI", *line) for line in lines)


def shut() -> bool:
    """Have the kernel refuse whatever is not arithmetic, from now on; False where it does not offer that."""
    text = program(platform.machine(), os.getpid())
    if not text or sys.platform != "linux":
        return False
    held = ctypes.create_string_buffer(text, len(text))

    class Filter(ctypes.Structure):
        _fields_ = [("length", ctypes.c_ushort), ("lines", ctypes.c_void_p)]

    wanted = Filter(len(text) // 8, ctypes.addressof(held))
    libc = ctypes.CDLL(None)
    if libc.prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0):
        return False
    return not libc.prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, ctypes.byref(wanted), 0, 0)


class _Nothing:
    """Finds no module: what is not loaded by now never is."""

    @staticmethod
    def find_spec(name: str, path: Sequence[str] | None = None, target: Any = None) -> None:
        raise ImportError(f"{name} cannot be loaded: an own indicator may use NumPy and {', '.join(PURE)}")


def shut_imports() -> dict[str, Any]:
    """Load what may be loaded, then let nothing else be; returns the builtins that are left."""
    for name in (*PURE, *NUMPY, *_NEEDED_LATER):
        importlib.import_module(name)
    real: Callable[..., Any] = builtins.__import__

    def load(name: str, globals: Any = None, locals: Any = None, fromlist: Any = (), level: int = 0) -> Any:
        # NumPy's compiled parts ask by way of the code that calls them, for modules of its own that are loaded already.
        if level or not (allowed(name) or name in _NEEDED_LATER or (name.startswith("numpy.") and name in sys.modules)):
            _Nothing.find_spec(name or "a file beside it")
        return real(name, globals, locals, fromlist, 0)

    sys.meta_path[:] = [_Nothing]
    sys.path[:] = []
    return {k: v for k, v in vars(builtins).items() if k not in _NO_BUILTINS} | {"__import__": load}
