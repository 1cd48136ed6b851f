"""Members whose arrays a loop uses without counting who else does.

A list of compiled code that hands out a member counts its forty arrays up and down again, which for a loop that takes one
bar at a time is most of the work. Lent arrays belong to nobody, and there is nothing to count. Whoever lends them keeps them
alive for as long as the loop runs.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, TypeVar

from wolbrin.core.compiled import kernel, njit

if TYPE_CHECKING:
    from wolbrin.core.engine.sharing import Member

T = TypeVar("T")


def _intrinsic(function: Any) -> Any:
    from numba.extending import intrinsic  # late

    return intrinsic(function)


@kernel(_intrinsic, "intrinsic")
def lent(typing: Any, given: Any) -> Any:
    """The same arrays, also those inside tuples, as nobody's. Inside compiled code: lent(value) is of the type of value."""
    from numba.core import cgutils, types  # late

    def part(context: Any, builder: Any, kind: Any, value: Any) -> Any:
        if isinstance(kind, types.Array):
            made = cgutils.create_struct_proxy(kind)(context, builder, value)
            made.meminfo = cgutils.get_null_value(made.meminfo.type)
            made.parent = cgutils.get_null_value(made.parent.type)
            return made._getvalue()
        if isinstance(kind, types.BaseTuple):  # type: ignore[attr-defined]
            return context.make_tuple(builder, kind, [part(context, builder, kind[i], builder.extract_value(value, i))
                                                      for i in range(len(kind))])
        return value

    def write(context: Any, builder: Any, signature: Any, values: Any) -> Any:
        return part(context, builder, signature.args[0], values[0])

    return given(given), write


@njit(cache=True, nogil=True, error_model="numpy")
def lend(members: Any, m: int, one: Member) -> None:
    """Put a member, lent, at place m of a typed list, or behind its end."""
    if m == len(members):
        members.append(lent(one))  # type: ignore[call-arg]
    else:
        members[m] = lent(one)  # type: ignore[call-arg]
