"""Compiling helpers of the kernel for one signature each.

Without it numba makes one copy of a helper for every mix of literals and widths that its callers pass, which took the
kernel a minute and a half to compile.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from wolbrin.core.compiled import jitted, kernel

F = TypeVar("F", bound=Callable[..., Any])

I1, I2 = "int64[::1]", "int64[:, ::1]"
F1, F2 = "float64[::1]", "float64[:, ::1]"
I0, F64, B = "int64", "float64", "boolean"


def fixed(gives: str, *takes: str, inline: bool = True) -> Callable[[F], F]:
    """Like njit(cache=True, nogil=True), but for this signature only, compiled when a first caller needs it.

    inline: build it into its callers, which is worth a lot where it is called for every bar that matters.
    """
    signature = f"{gives}({', '.join(takes)})"

    def make(function: Any) -> Any:
        made = jitted(function, cache=True, nogil=True, error_model="numpy", forceinline=inline)
        usual = made.get_call_template

        def template(args: Any, kws: Any) -> Any:
            if made._can_compile:
                made.compile(signature)
                made.disable_compile()
            return usual(args, kws)

        made.get_call_template = template
        return made

    return kernel(make, f"{signature} {inline}")


def _make_bare(function: Any) -> Any:
    from numba.core import cgutils  # late
    from numba.extending import intrinsic  # late

    @intrinsic
    def _uncounted(typing, array):  # type: ignore[no-untyped-def]
        def generate(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
            made = context.make_array(signature.args[0])(context, builder, value=arguments[0])
            made.meminfo = cgutils.get_null_value(made.meminfo.type)
            made.parent = cgutils.get_null_value(made.parent.type)
            return made._getvalue()

        return array(array), generate

    function.__globals__["_uncounted"] = _uncounted
    return jitted(function, cache=True, nogil=True)


_uncounted: Any = None  # made with `bare`


@kernel(_make_bare, "bare")
def bare(array):  # type: ignore[no-untyped-def]
    """The same memory as an array that is not counted as referenced; the caller keeps the original alive.

    numba counts every array argument in and out of every call that is not inlined, with atomic operations; the helpers of
    the kernel take a dozen arrays each, and the counting cost several times what they do.
    """
    return _uncounted(array)
