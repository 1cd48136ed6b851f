"""The engine's version: a digest of everything compiled that decides signals and fills, and of the packages it was made
with."""

from __future__ import annotations

import hashlib
from functools import cache
from importlib.metadata import version
from types import ModuleType

from wolbrin.core.compiled import Kernel
from wolbrin.core.engine import kernel, lent, sharing
from wolbrin.core.indicators import fused, kernels, structure
from wolbrin.core.rules import compare, evaluate

# Raised by hand where the same kernels are asked something else: how signals are put together, what a setting means.
CONTRACT = 4
# Where the kernels are; a test holds that no file of indicators, rules and simulator is missing.
MODULES: tuple[ModuleType, ...] = (fused, kernels, structure, compare, evaluate, kernel, lent, sharing)

# Engines that give the same bits on the standing set of runs (tests/core/engine_bits.py), by the digest of those bits: code
# that was renamed or moved must not unsettle verdicts. The first of a group stands for all of it; a test holds that the
# engine of today is listed under the bits it gives.
SAME: dict[str, tuple[str, ...]] = {
    "e37cdd5b6fde19d42eede6ea": ("4.854d9d7f473b", "4.3209f2013284"),
}


@cache
def engine_version() -> str:
    """Such as "4.1f0c2a9b3d5e": results of two versions do not belong together. Of engines known to give the same bits it is
    the first one's."""
    own = code_version()
    return next((known[0] for known in SAME.values() if own in known), own)


@cache
def code_version() -> str:
    """The digest of the code as it is, whatever bits it gives."""
    found = hashlib.sha256(f"TA-Lib {version('ta-lib')}".encode())
    for module in MODULES:
        for name, value in sorted(vars(module).items()):
            if isinstance(value, Kernel):
                found.update(f"{name}={value.digest}".encode())
    return f"{CONTRACT}.{found.hexdigest()[:12]}"
