"""Indicators of the user's own: Python files in the project's folder `indicators`.

A file is read without being run (its function, inputs and settings are found in its syntax tree). It runs only once the user
has confirmed exactly this file, in a process of its own with limits on what it may do, and may be used only after a check
that cutting off later bars changes no earlier value. Confirmations are kept with the user, never in the project, which
somebody else may have sent. The confirmed text is kept under its digest, so that what was tested with it can be run again
after the file has changed. docs/own-indicators.md is the contract.
"""

from __future__ import annotations

import os
import re
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
import platformdirs

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.indicators.model import Floats
from wolbrin.core.indicators.own_read import OwnFile, read_bytes, read_own
from wolbrin.core.indicators.own_run import run_own
from wolbrin.core.market.bars import Bars

DIGEST = re.compile("[0-9a-f]{64}")
CHECK_BARS = 20_000


def _arrays(bars: Bars, names: Sequence[str], count: int | None = None) -> dict[str, np.ndarray]:
    made = {}
    for name in names:
        column = np.asarray(bars.time if name == "time" else getattr(bars, name))[:count]
        made[name] = column.astype("datetime64[ns]") if name == "time" else column
    return made


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


def _bytes(path: Path) -> bytes | None:
    """A file's bytes; None for one that cannot be read, which is told where it is shown."""
    try:
        return read_bytes(path)
    except (UserError, EnvironmentTrouble):
        return None


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
        texts = {_bytes(p) for p in mine}
        return mine + [p for p in sorted(self.kept.glob("*.py")) if not self.is_confirmed(p.stem) and _bytes(p) not in texts]

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
