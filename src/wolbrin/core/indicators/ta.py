"""TA-Lib without pandas. It imports pandas only to take its series as well, which nothing here gives it, and that would be a
sixth of the time of a start."""

from __future__ import annotations

import sys

_hidden = [name for name in ("pandas", "polars") if name not in sys.modules]
for _name in _hidden:
    sys.modules[_name] = None  # type: ignore[assignment]  # so the import system is told that there is none
try:
    import talib
    from talib.abstract import Function  # type: ignore[attr-defined]
finally:
    for _name in _hidden:
        del sys.modules[_name]

__all__ = ["Function", "talib"]
