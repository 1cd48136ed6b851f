"""Indicators of the user's own: Python files in the project's folder `indicators`.

A file is read without being run (its function, inputs and settings are found in its syntax tree). It runs only once the user
has confirmed exactly this file, in a process of its own with limits on time and memory, and may be used only after a check
that cutting off later bars changes no earlier value. Confirmations are kept with the user, never in the project, which
somebody else may have sent. The confirmed text is kept under its digest, so that what was tested with it can be run again
after the file has changed. docs/own-indicators.md is the contract.
"""

from __future__ import annotations

import ast
import hashlib
import json
import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import platformdirs

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.indicators import own_worker
from wolbrin.core.indicators.model import Floats
from wolbrin.core.market.bars import Bars

DIGEST = re.compile("[0-9a-f]{64}")
INPUTS = ("open", "high", "low", "close", "volume", "time", "session")
TURNS = ("unsigned", "centered", "price")
LARGEST_FILE = 200_000
SECONDS = 20
MEMORY = 2 * 1024**3
CHECK_BARS = 20_000


@dataclass(frozen=True)
class OwnFile:
    """What is known of a file without running it. settings: name to default. digest: SHA-256 of its bytes. turns: how it
    turns where up and down change places, from a line "Turns: centered" (or price) of its description."""

    path: Path
    name: str
    about: str
    inputs: tuple[str, ...]
    settings: Mapping[str, float]
    digest: str
    source: str
    turns: str = "unsigned"


def _number(node: ast.expr | None) -> float | None:
    try:
        value = ast.literal_eval(node) if node is not None else None
    except (ValueError, TypeError, SyntaxError, MemoryError, RecursionError):
        return None
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else None


def read_own(path: Path, data: bytes | None = None) -> OwnFile:
    """Read a file without running it. Raises UserError where it does not keep the contract."""
    try:
        raw = path.read_bytes() if data is None else data
    except OSError as err:
        raise EnvironmentTrouble(f"this file cannot be read ({err.strerror})", str(path), "Check the file.") from None
    where = str(path)
    if len(raw) > LARGEST_FILE:
        raise UserError(f"this file is larger than {LARGEST_FILE:,} bytes", where, "Keep to one indicator a file.")
    try:
        source = raw.decode("utf-8")
        tree = ast.parse(source)
    except UnicodeDecodeError:
        raise UserError("this file is not text in UTF-8", where, "Save it as UTF-8.") from None
    except (SyntaxError, ValueError, RecursionError, MemoryError) as err:
        line = f", line {err.lineno}" if isinstance(err, SyntaxError) else ""
        raise UserError("this file is not Python", where + line, "Correct it there.") from None
    functions = [n for n in tree.body if isinstance(n, ast.FunctionDef) and not n.name.startswith("_")]
    if len(functions) != 1:
        raise UserError(f"this file has {len(functions)} public functions; it needs exactly one", where,
                        "Begin the names of helpers with an underscore.")
    one = functions[0]
    at = f"{where}, line {one.lineno}"
    about = ast.get_docstring(one)
    if not about:
        raise UserError(f"{one.name} has no description", at, "Give it a docstring that says what it computes.")
    spec = one.args
    inputs = tuple(a.arg for a in (*spec.posonlyargs, *spec.args))
    if not inputs or any(i not in INPUTS for i in inputs) or spec.vararg or spec.kwarg or spec.defaults:
        raise UserError(f"{one.name} takes arrays named {', '.join(INPUTS)}, in any order, then * and its settings", at,
                        "Write, for example: def drift(close, *, length=20).")
    settings = {}
    for argument, default in zip(spec.kwonlyargs, spec.kw_defaults):
        value = _number(default)
        if value is None:
            raise UserError(f'the setting "{argument.arg}" needs a plain number as default', at, "Write it as length=20.")
        settings[argument.arg] = value
    told = [line.split(":", 1)[1].strip().rstrip(".") for line in about.splitlines() if line.strip().startswith("Turns:")]
    if told and told[0] not in TURNS:
        raise UserError(f'"Turns: {told[0][:20]}" is not known', at, f"Write one of {', '.join(TURNS)}.")
    return OwnFile(path, one.name, about, inputs, settings, hashlib.sha256(raw).hexdigest(), source,
                   told[0] if told else "unsigned")


def _arrays(bars: Bars, names: Sequence[str], count: int | None = None) -> dict[str, np.ndarray]:
    made = {}
    for name in names:
        column = np.asarray(bars.time if name == "time" else getattr(bars, name))[:count]
        made[name] = column.astype("datetime64[ns]") if name == "time" else column
    return made


def run_own(file: OwnFile, arrays: Mapping[str, np.ndarray], settings: Mapping[str, float], cuts: Sequence[int],
            seconds: int = SECONDS, memory: int = MEMORY) -> list[Floats]:
    """Values of a confirmed file over the first `cut` bars, for each cut; infinities become NaN.

    Raises:
        UserError: the file failed, took too long, or gave something else than one number a bar.
    """
    whole = {k: int(v) if float(v).is_integer() else float(v) for k, v in (dict(file.settings) | dict(settings)).items()}
    unknown = set(settings) - set(file.settings)
    if unknown:
        raise UserError(f"{file.name} has no setting {', '.join(sorted(unknown))}", file.name, "Remove it.")
    with tempfile.TemporaryDirectory(prefix="wolbrin-own-") as name:
        folder = Path(name)
        np.savez(folder / "inputs.npz", **arrays)  # type: ignore[arg-type]
        job = {"source": file.source, "function": file.name, "file": f"{file.name}-own.py", "inputs": list(file.inputs),
               "settings": whole, "cuts": list(cuts), "seconds": seconds, "memory": memory}
        (folder / "job.json").write_text(json.dumps(job))
        environment = {"PATH": os.defpath, "HOME": name, "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
        try:
            done = subprocess.run([sys.executable, "-I", str(own_worker.__file__), name], cwd=name, env=environment,
                                  stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                                  timeout=seconds + 5, check=False)
        except subprocess.TimeoutExpired:
            raise UserError(f"it took longer than {seconds} seconds", file.name, "Make it faster.") from None
        out = folder / "out.npz"
        if done.returncode == 0 and out.is_file():
            with np.load(out, allow_pickle=False) as held:
                made = [held[f"v{i}"] for i in range(len(cuts))]
            return [np.where(np.isfinite(v), v, np.nan) for v in made]
        raise _failed(file, folder, done.returncode, seconds, memory)


def _failed(file: OwnFile, folder: Path, code: int, seconds: int, memory: int) -> UserError:
    fault = folder / "fault.json"
    if not fault.is_file():
        why = f"it took longer than {seconds} seconds" if code < 0 else "its process ended without a result"
        return UserError(why, file.name, "Make it faster, or look for a crash in a library it uses.")
    told = json.loads(fault.read_text())
    line = f", line {told['line']}" if told["line"] else ""
    if told["kind"] == "MemoryError" or "allocate" in told["text"]:
        return UserError(f"it needs more than {memory // 1024**2:,} MB of memory", file.name + line, "Make it smaller.")
    return UserError(f"it failed with {told['kind']}: {told['text']}", file.name + line, "Correct it there.")


def check_own(file: OwnFile, bars: Bars) -> int:
    """Run a confirmed file on a history and on beginnings of it; returns how many beginnings were compared.

    Raises:
        UserError: it failed, gives other values on a second run, or a value changes when later bars are cut off.
    """
    size = min(len(bars), CHECK_BARS)
    if size < 50:
        raise UserError("this history is too short to check an indicator on", bars.terms.code, "Choose another market.")
    rng = np.random.default_rng(20)
    cuts = sorted({*(int(c) for c in rng.integers(2, size, 10)), size // 2, size - 1})
    arrays = _arrays(bars, file.inputs, size)
    whole, again, *parts = run_own(file, arrays, {}, [size, size, *cuts])
    if not np.array_equal(whole, again, equal_nan=True):
        raise UserError("it gives other values on a second run", file.name, "Take chance and the clock out of it.")
    for cut, part in zip(cuts, parts):
        same = (whole[:cut] == part) | (np.isnan(whole[:cut]) & np.isnan(part))
        if not same.all():
            bar = int(np.flatnonzero(~same)[0])
            raise UserError(f"it looks ahead: its value at bar {bar + 1} changes when the bars after bar {cut} are cut off",
                            file.name, "Let the value at a bar depend on that bar and earlier ones only.")
    return len(cuts)


def user_folder() -> Path:
    """Where the user's confirmations are kept: with the user, never in a project, which may have come from somebody else."""
    return Path(platformdirs.user_data_path("wolbrin")) / "confirmed"


class OwnIndicators:
    """The files of one project, and what its user confirmed of them. Texts that were used stay in the project, so that what
    was tested with them can be run again; whether they may run is the user's to say, once for each text."""

    def __init__(self, project: Path) -> None:
        self.folder = project / "indicators"
        self.kept = self.folder / "confirmed"

    def files(self) -> list[Path]:
        """The project's files, and texts kept in it that this user has not confirmed."""
        if not self.folder.is_dir():
            return []
        mine = sorted(self.folder.glob("*.py"))
        return mine + [p for p in sorted(self.kept.glob("*.py")) if not self.is_confirmed(p.stem)
                       and p.read_bytes() not in [m.read_bytes() for m in mine]]

    def waiting(self) -> list[str]:
        """Names of the files that would like to run and were not confirmed by this user; none is run to find out."""
        found = []
        for path in self.files():
            try:
                one = read_own(path)
            except (UserError, EnvironmentTrouble):
                continue
            if not self.is_confirmed(one.digest):
                found.append(one.name)
        return found

    def is_confirmed(self, digest: str) -> bool:
        """Whether this user has confirmed a text, in whatever project."""
        return bool(DIGEST.fullmatch(digest)) and (user_folder() / f"{digest}.py").is_file()

    def known(self) -> dict[str, tuple[str, str]]:
        """Names of files that may be used as they are now, with their digests and how they turn."""
        found: dict[str, tuple[str, str]] = {}
        for path in self.files():
            try:
                one = read_own(path)
            except (UserError, EnvironmentTrouble):
                continue
            if self.is_confirmed(one.digest):
                found[one.name] = one.digest, one.turns
        return found

    def confirm(self, file: OwnFile, bars: Bars) -> int:
        """The user has read and confirmed this very text: check it on a history and keep it. Returns cuts compared.

        Raises:
            UserError: the file has changed since it was shown, or fails the check; it is not kept then.
        """
        if read_own(file.path).digest != file.digest:
            raise UserError("the file has changed since it was shown", str(file.path), "Read it again.")
        compared = check_own(file, bars)
        for folder in (self.kept, user_folder()):
            folder.mkdir(parents=True, exist_ok=True)
            partial = folder / f"{file.digest}.partial"
            partial.write_bytes(file.source.encode())
            os.replace(partial, folder / f"{file.digest}.py")
        return compared

    def load(self, name: str, digest: str) -> OwnFile:
        """A confirmed file by its digest. Raises UserError where it is not, or was tampered with."""
        if not self.is_confirmed(digest):
            raise UserError(f'the own indicator "{name}" was not confirmed by you', name,
                            "Open own indicators on Rules, read the file and confirm it.")
        path = user_folder() / f"{digest}.py"
        made = read_own(path)
        if made.digest != digest:
            raise UserError(f'the kept file of "{name}" was changed', str(path), "Confirm the indicator again.")
        return made

    def values(self, name: str, digest: str, settings: Mapping[str, float], bars: Bars) -> Floats:
        """The indicator over a history, float64[n]."""
        file = self.load(name, digest)
        return run_own(file, _arrays(bars, file.inputs), settings, [len(bars)])[0]
