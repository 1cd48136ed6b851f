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


@cache
def engine_version() -> str:
    """Such as "4.1f0c2a9b3d5e": results of two versions do not belong together."""
    found = hashlib.sha256(f"TA-Lib {version('ta-lib')}".encode())
    for module in MODULES:
        for name, value in sorted(vars(module).items()):
            if isinstance(value, Kernel):
                found.update(f"{name}={value.digest}".encode())
    return f"{CONTRACT}.{found.hexdigest()[:12]}"
