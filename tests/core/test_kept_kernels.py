"""Compiled kernels on disk: cut, flipped, or out of place, they are compiled again, and values are the same."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.build import any_rng

ROOT = Path(__file__).parents[2]
RUN = ("import numpy as np\nfrom wolbrin.core.indicators.kernels import session_count\n"
       "print(session_count(np.repeat(np.arange(9, dtype=np.int32), 4)).tobytes().hex())")


def run(folder: Path) -> tuple[str, str]:
    done = subprocess.run([sys.executable, "-c", RUN], cwd=ROOT, capture_output=True, text=True, check=True,
                          env=os.environ | {"NUMBA_CACHE_DIR": str(folder), "HOME": str(folder.parent)})
    return done.stdout, done.stderr


def kept(folder: Path) -> list[Path]:
    return sorted(p for p in folder.rglob("*") if p.suffix in (".nbi", ".nbc"))


def test_a_damaged_kernel_is_thrown_away_and_compiled_again(tmp_path: Path) -> None:
    folder = tmp_path / "kernels"
    whole, said = run(folder)
    assert "damaged" not in said
    files = kept(folder)
    assert len(files) >= 2
    assert run(folder) == (whole, ""), "what is whole is read"
    rng = any_rng()
    for path in files:
        data = path.read_bytes()
        flipped = bytearray(data)
        flipped[int(rng.integers(len(data)))] ^= 1 << int(rng.integers(8))
        for harm in (data[:int(rng.integers(len(data)))], bytes(flipped)):
            path.write_bytes(harm)
            values, said = run(folder)
            assert values == whole
            assert "thrown away and compiled again" in said
            assert kept(folder) == files


@pytest.mark.parametrize("harm", ["a file", "a folder in the place of a file"])
def test_what_stands_in_the_way_of_the_cache_stops_nothing(tmp_path: Path, harm: str) -> None:
    folder = tmp_path / "kernels"
    if harm == "a file":
        folder.write_text("in the way")
    else:
        run(folder)
        for path in kept(folder):
            path.unlink()
            path.mkdir()
    assert run(folder)[0]
