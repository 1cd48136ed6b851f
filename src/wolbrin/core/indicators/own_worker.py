"""Runs one confirmed indicator file in a process of its own: `python -I own_worker.py folder`.

It knows nothing of the program. The folder holds job.json (source, function, inputs, settings, cuts, limits) and
inputs.npz; it writes out.npz, or fault.json. docs/own-indicators.md states the contract.
"""

import json
import resource
import sys
import traceback
from pathlib import Path

import numpy as np


def limit(which: int, value: int) -> None:
    """Lower a limit of this process, never raise it."""
    hard = resource.getrlimit(which)[1]
    value = value if hard == resource.RLIM_INFINITY else min(value, hard)
    resource.setrlimit(which, (value, value))


def main(folder: Path) -> None:
    job = json.loads((folder / "job.json").read_text())
    with np.load(folder / "inputs.npz", allow_pickle=False) as held:
        arrays = {name: held[name] for name in job["inputs"]}
    limit(resource.RLIMIT_AS, job["memory"])
    limit(resource.RLIMIT_CPU, job["seconds"])
    limit(resource.RLIMIT_FSIZE, 512 * 1024**2)
    limit(resource.RLIMIT_CORE, 0)
    space = {"__name__": job["function"]}
    exec(compile(job["source"], job["file"], "exec"), space)
    function = space[job["function"]]
    out = {}
    for number, stop in enumerate(job["cuts"]):
        with np.errstate(all="ignore"):
            given = [arrays[name][:stop].copy() for name in job["inputs"]]
            made = np.asarray(function(*given, **job["settings"]), dtype=np.float64)
        if made.shape != (stop,):
            raise ValueError(f"it gave an array of shape {made.shape} for {stop} bars; one value a bar is needed")
        out[f"v{number}"] = made
    np.savez(folder / "out.npz", **out)  # type: ignore[arg-type]


if __name__ == "__main__":
    place = Path(sys.argv[1])
    try:
        main(place)
    except BaseException as err:
        lines = [f.lineno for f in traceback.extract_tb(err.__traceback__) if f.filename.endswith("-own.py")]
        fault = {"kind": type(err).__name__, "text": str(err)[:300], "line": lines[-1] if lines else None}
        (place / "fault.json").write_text(json.dumps(fault))
        sys.exit(1)
