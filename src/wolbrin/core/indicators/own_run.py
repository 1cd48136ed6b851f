"""Running a confirmed own indicator: in a process of its own that dies with this one, is bounded, and is shut off from files,
network and other processes where the kernel allows it; what it gives back is numbers of an exact length, or a fault."""

from __future__ import annotations

import contextlib
import functools
import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.indicators import own_worker
from wolbrin.core.indicators.model import Floats
from wolbrin.core.indicators.own_read import OwnFile

SECONDS = 20
LOOK = 0.1  # seconds between two looks at what a process does
PATIENCE = 20  # times its seconds on a machine that has no time for it
MEMORY = 1024**3
SAID = 4096  # bytes that are read of what the process says
CRASHES = {signal.SIGSEGV: "a segmentation fault", signal.SIGABRT: "an abort", signal.SIGBUS: "a bus error",
           signal.SIGFPE: "an arithmetic fault", signal.SIGILL: "an illegal instruction",
           signal.SIGSYS: "a call that is not permitted", signal.SIGKILL: "being killed"}


def run_own(file: OwnFile, arrays: Mapping[str, np.ndarray], settings: Mapping[str, float], cuts: Sequence[int],
            seconds: int = SECONDS, memory: int = MEMORY) -> list[Floats]:
    """Values of a confirmed file over the first `cut` bars, for each cut; infinities become NaN. seconds: for each cut.

    Raises:
        UserError: the file failed, took too long, or gave something else than one number a bar.
    """
    unknown = set(settings) - set(file.settings)
    if unknown:
        raise UserError(f"{file.name} has no setting {', '.join(sorted(unknown))}", file.name, "Remove it.")
    return _run(file, arrays, settings, cuts, seconds, memory)[0]


@functools.cache
def shut_off() -> bool:
    """Whether this machine's kernel shuts own indicators off from files, network and other processes. Tried once."""
    probe = OwnFile.plain("probe", 'def probe(close):\n    return close\n', ("close",))
    try:
        return _run(probe, {"close": np.zeros(1)}, {}, [1], SECONDS, MEMORY)[1]
    except (UserError, EnvironmentTrouble):
        return False


def _run(file: OwnFile, arrays: Mapping[str, np.ndarray], settings: Mapping[str, float], cuts: Sequence[int],
         seconds: int, memory: int) -> tuple[list[Floats], bool]:
    whole = {k: int(v) if float(v).is_integer() else float(v) for k, v in (dict(file.settings) | dict(settings)).items()}
    job = {"source": file.source, "function": file.name, "file": f"{file.name}-own.py", "inputs": list(file.inputs),
           "settings": whole, "cuts": list(cuts), "seconds": seconds * len(cuts), "memory": memory, "parent": os.getpid()}
    files: list[int] = []
    began = time.monotonic()
    try:
        # In memory only: no path that the process could replace, no disk that could be full.
        files += [os.memfd_create(name) for name in ("inputs", "result", "said", "job")]
        with os.fdopen(os.dup(files[0]), "wb") as handle:
            np.savez(handle, **arrays)  # type: ignore[arg-type]
        with os.fdopen(os.dup(files[3]), "wb") as handle:
            handle.write(json.dumps(job).encode())
        for one in (files[0], files[3]):
            os.lseek(one, 0, os.SEEK_SET)
        code = _wait(files, seconds, [8 * int(n) for n in np.cumsum(cuts)])
        shut, fault = _told(files[2])
        if code == 0 and not fault:
            made = _values(files[1], cuts)
            if made is not None:
                return made, shut
        raise _failed(file, fault, code, seconds, memory, time.monotonic() - began)
    except OSError as err:
        raise EnvironmentTrouble(f"the process of an own indicator cannot be started ({err.strerror})", file.name,
                                 "Close other programs and try again.") from None
    finally:
        for one in files:
            os.close(one)


def _wait(files: Sequence[int], seconds: int, ends: Sequence[int]) -> int | None:
    """Run the worker in a session of its own and end whatever it began; its exit code, None when it took too long.

    ends: bytes of the result when each cut is done. A cut has so many seconds of the processor and of waiting for nothing
    together: time in which other programs have the processor is not its own.
    """
    environment = {"PATH": os.defpath, "HOME": "/nonexistent", "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
    process = subprocess.Popen([sys.executable, "-I", str(own_worker.__file__), *map(str, files[:3])], cwd="/",
                               env=environment, stdin=files[3], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                               pass_fds=tuple(files[:3]), start_new_session=True)
    asleep = begun = 0.0
    done, last = 0, time.monotonic()
    most = last + PATIENCE * seconds * len(ends)
    try:
        while True:
            with contextlib.suppress(subprocess.TimeoutExpired):
                return process.wait(LOOK)
            now, worked, waits = time.monotonic(), *_spent(process.pid)
            asleep += now - last if waits else 0.0
            last, size = now, os.fstat(files[1]).st_size
            if done < len(ends) and size >= ends[done]:
                done, begun = int(np.searchsorted(ends, size, "right")), worked + asleep
            if worked + asleep - begun > seconds or now > most:
                return None
    finally:
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()


def _spent(pid: int) -> tuple[float, bool]:
    """Seconds of the processor that a process has had, and whether it waits for something."""
    try:
        found = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        return (int(found[11]) + int(found[12])) / os.sysconf("SC_CLK_TCK"), found[0] in "SDT"
    except (OSError, IndexError, ValueError):
        return 0.0, False


def _told(said: int) -> tuple[bool, dict[str, Any]]:
    """Whether the kernel shut the process off, and its fault, from what it said; the process could have written anything."""
    lines = os.pread(said, SAID, 0).split(b"\n")
    found: list[dict[str, Any]] = []
    for line in lines:
        try:
            one = json.loads(line)
        except (ValueError, RecursionError):
            continue
        if isinstance(one, dict):
            found.append(one)
    fault = next(({"kind": str(f["kind"])[:60], "text": str(f.get("text", ""))[:300],
                   "line": f["line"] if type(f.get("line")) is int else None} for f in found if "kind" in f), {})
    return bool(found) and found[0].get("shut") is True, fault


def _values(result: int, cuts: Sequence[int]) -> list[Floats] | None:
    """What the process gave, where it is exactly as long as it has to be."""
    if os.fstat(result).st_size != 8 * sum(cuts):
        return None
    held = np.frombuffer(os.pread(result, 8 * sum(cuts), 0), np.float64)
    if len(held) != sum(cuts):
        return None
    return [np.where(np.isfinite(v), v, np.nan) for v in np.split(held, np.cumsum(cuts)[:-1])]


def _failed(file: OwnFile, fault: Mapping[str, Any], code: int | None, seconds: int, memory: int, took: float) -> UserError:
    if code in (None, -signal.SIGXCPU) or (code == -signal.SIGKILL and took >= seconds):
        return UserError(f"it took longer than {seconds} seconds", file.name, "Make it faster.")
    if code < 0:
        name = CRASHES.get(signal.Signals(-code), signal.Signals(-code).name)
        return UserError(f"it ended by {name} after {took:.1f} s", file.name,
                         "Look for memory it reads or writes out of bounds.")
    if not fault:
        return UserError(f"it ended with exit code {code} after {took:.1f} s, without a result that can be read", file.name,
                         "Let it return one number a bar, and nothing else.")
    line = f", line {fault['line']}" if fault["line"] else ""
    if fault["kind"] == "MemoryError" or "allocate" in fault["text"]:
        return UserError(f"it needs more than {memory // 1024**2:,} MB of memory", file.name + line, "Make it smaller.")
    return UserError(f"it failed with {fault['kind']}: {fault['text']}", file.name + line, "Correct it there.")
