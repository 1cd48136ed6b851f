"""Runs one confirmed indicator file in a process of its own: `python -I own_worker.py inputs result said`, three numbers of
files that live in memory only; what to do comes as JSON on standard input.

It knows nothing of the program but `own_cage`, what this process may do. Values go to `result` as plain numbers; `said` gets
a line that tells whether the kernel shuts the process off, and one with the fault where there is one.
docs/own-indicators.md states the contract.
"""

import json
import os
import resource
import sys
import traceback
from importlib.util import module_from_spec, spec_from_file_location
from pathlib import Path

import numpy as np

_spec = spec_from_file_location("own_cage", Path(__file__).with_name("own_cage.py"))
assert _spec is not None
assert _spec.loader is not None
cage = module_from_spec(_spec)
_spec.loader.exec_module(cage)

BLOCK = 1 << 20


def write(file: int, data: bytes) -> None:
    while data:
        data = data[os.write(file, data[:BLOCK]):]


def main(inputs: int, result: int, said: int) -> None:
    job = json.loads(sys.stdin.read())
    cage.die_with(job["parent"])
    with os.fdopen(inputs, "rb") as file, np.load(file, allow_pickle=False) as held:
        arrays = {name: held[name] for name in job["inputs"]}
    builtins = cage.shut_imports()
    cage.limit(resource.RLIMIT_AS, job["memory"])
    cage.limit(resource.RLIMIT_CPU, job["seconds"], job["seconds"] + 1)
    cage.limit(resource.RLIMIT_FSIZE, 8 * sum(job["cuts"]) + 65_536)
    cage.limit(resource.RLIMIT_CORE, 0)
    cage.limit(resource.RLIMIT_NPROC, 0)
    cage.limit(resource.RLIMIT_NOFILE, 0)
    write(said, json.dumps({"shut": cage.shut()}).encode() + b"\n")
    space = {"__name__": job["function"], "__builtins__": builtins}
    exec(compile(job["source"], job["file"], "exec"), space)
    function = space[job["function"]]
    for stop in job["cuts"]:
        with np.errstate(all="ignore"):
            given = [arrays[name][:stop].copy() for name in job["inputs"]]
            made = np.asarray(function(*given, **job["settings"]), dtype=np.float64)
        if made.shape != (stop,):
            raise ValueError(f"it gave an array of shape {made.shape} for {stop} bars; one value a bar is needed")
        write(result, np.ascontiguousarray(made).tobytes())


if __name__ == "__main__":
    files = [int(a) for a in sys.argv[1:4]]
    try:
        main(*files)
    except BaseException as err:
        lines = [f.lineno for f in traceback.extract_tb(err.__traceback__) if f.filename.endswith("-own.py")]
        fault = {"kind": type(err).__name__, "text": str(err)[:300], "line": lines[-1] if lines else None}
        write(files[2], json.dumps(fault).encode() + b"\n")
        os._exit(1)
    os._exit(0)  # nothing that the file left behind for the end is run
