"""Compiling helpers of the kernel for one signature each.

Without it numba makes one copy of a helper for every mix of literals and widths that its callers pass, which took the
kernel a minute and a half to compile.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from numba import njit

F = TypeVar("F", bound=Callable[..., Any])

I1, I2 = "int64[::1]", "int64[:, ::1]"
F1, F2 = "float64[::1]", "float64[:, ::1]"
I0, F64, B = "int64", "float64", "boolean"


def fixed(gives: str, *takes: str) -> Callable[[F], F]:
    """Like njit(cache=True, nogil=True), but for this signature only, compiled when a first caller needs it."""
    signature = f"{gives}({', '.join(takes)})"

    def wrap(function: F) -> F:
        made = njit(cache=True, nogil=True, error_model="numpy")(function)
        usual = made.get_call_template

        def template(args: Any, kws: Any) -> Any:
            if made._can_compile:
                made.compile(signature)
                made.disable_compile()
            return usual(args, kws)

        made.get_call_template = template
        return made

    return wrap
