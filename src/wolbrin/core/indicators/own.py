"""Indicators of the user's own: Python files in the project's folder `indicators`.

A file is read without being run (its function, inputs and settings are found in its syntax tree). It runs only once the user
has confirmed exactly this file, in a process of its own with limits on what it may do, and may be used only after a check
that cutting off later bars changes no earlier value. Confirmations are kept with the user, never in the project, which
somebody else may have sent. The confirmed text is kept under its digest, so that what was tested with it can be run again
after the file has changed. docs/own-indicators.md is the contract.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import threading
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
import platformdirs

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.indicators.model import Floats
from wolbrin.core.indicators.own_read import OwnFile, read_bytes, read_own
from wolbrin.core.indicators.own_run import run_own
from wolbrin.core.market.bars import Bars
from wolbrin.core.written import write_whole

DIGEST = re.compile("[0-9a-f]{64}")
LEAST_BARS = 50
CUTS, CUTS_AGAIN = 10, 3
MOST_CHECKED = 20_000


def _arrays(bars: Bars, names: Sequence[str], count: int | None = None) -> dict[str, np.ndarray]:
    made = {}
    for name in names:
        column = np.asarray(bars.time if name == "time" else getattr(bars, name))[:count]
        made[name] = column.astype("datetime64[ns]") if name == "time" else column
    return made


def check_own(file: OwnFile, bars: Bars) -> int:
    """Run a confirmed file on a history and on beginnings of it, cut at random; returns how many beginnings were compared.

    Raises:
        UserError: it failed, gives other values on a second run, or a value changes when later bars are cut off.
    """
    size = len(bars)
    if size < LEAST_BARS:
        raise UserError("this history is too short to check an indicator on", bars.terms.code, "Choose another market.")
    cuts = random_cuts(size, CUTS, size // 2, size - 1)
    whole, again, *parts = run_own(file, _arrays(bars, file.inputs), {}, [size, size, *cuts])
    if not np.array_equal(whole, again, equal_nan=True):
        raise UserError("it gives other values on a second run", file.name, "Take chance and the clock out of it.")
    compare(file, whole, cuts, parts)
    return len(cuts)


def random_cuts(size: int, count: int, *more: int) -> list[int]:
    """Where to cut a history: at random places, which no file can know, and at some more."""
    rng = np.random.default_rng()
    return sorted({*(int(c) for c in rng.integers(2, size, count)), *(c for c in more if 1 < c < size)})


def compare(file: OwnFile, whole: Floats, cuts: Sequence[int], parts: Sequence[Floats]) -> None:
    """Make sure that no value changes when later bars are cut off. Raises UserError where one does."""
    for cut, part in zip(cuts, parts, strict=True):
        same = (whole[:cut] == part) | (np.isnan(whole[:cut]) & np.isnan(part))
        if not same.all():
            bar = int(np.flatnonzero(~same)[0])
            raise UserError(f"it looks ahead: its value at bar {bar + 1:,} of {len(whole):,} changes when the bars after bar "
                            f"{cut:,} are cut off", file.name,
                            "Let the value at a bar depend on that bar and earlier ones only.")


class Checked:
    """How far a text was checked for looking ahead, by market, interval and settings: with the user, beside what was
    confirmed. What was checked on so many bars may do something else on more, or with other settings."""

    def __init__(self, digest: str) -> None:
        self.path = user_folder() / f"{digest}.checked.json"

    def _all(self) -> dict[str, int]:
        try:
            made = json.loads(self.path.read_text(encoding="utf-8"))
            return {str(k): int(v) for k, v in made.items()}
        except (OSError, ValueError, TypeError, AttributeError, RecursionError):
            return {}

    def bars(self, key: str) -> int:
        """On how many bars; 0 before any."""
        return self._all().get(key, 0)

    def note(self, key: str, bars: int) -> None:
        """It was, on so many. That it cannot be noted costs another check."""
        known = self._all()
        known = dict(list(known.items())[-MOST_CHECKED:]) | {key: max(bars, known.get(key, 0))}
        partial = self.path.with_name(f"{self.path.name}{os.getpid()}-{threading.get_ident()}.partial")
        with contextlib.suppress(OSError):
            partial.write_text(json.dumps(known), encoding="utf-8")
            os.replace(partial, self.path)


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
            write_whole(folder / f"{file.digest}.py", lambda partial: partial.write_bytes(file.source.encode()), "file")
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
        """The indicator over a history, float64[n]. On more bars than it was checked on with these settings, it is checked
        again, cut at random and where it was checked before.

        Raises:
            UserError: it was not confirmed, fails, or looks ahead.
        """
        file, count = self.load(name, digest), len(bars)
        key = f"{bars.terms.code} {bars.interval} " + " ".join(f"{k}={float(v)!r}" for k, v in sorted(settings.items()))
        checked = Checked(digest)
        before = checked.bars(key)
        arrays = _arrays(bars, file.inputs)
        if count <= before or count < LEAST_BARS:
            return run_own(file, arrays, settings, [count])[0]
        cuts = random_cuts(count, CUTS_AGAIN, before)
        whole, *parts = run_own(file, arrays, settings, [count, *cuts])
        compare(file, whole, cuts, parts)
        checked.note(key, count)
        return whole
