"""Flags as packed bits: bar i is bit i % 64 of word i / 64. A condition of 100,000 bars takes 12,500 bytes."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.compiled import kernel, njit

Words = NDArray[np.uint64]
Flags = NDArray[np.uint8]


def words_of(size: int) -> int:
    """How many words so many bars take."""
    return (size + 63) >> 6


def _instruction(name: str) -> Any:
    """A function of one word that is one instruction of the processor."""
    def make(function: Any) -> Any:
        from numba import njit as compile_  # late
        from numba.core import types  # late
        from numba.extending import intrinsic  # late

        @intrinsic
        def _it(typing, word):  # type: ignore[no-untyped-def]
            def generate(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
                if name == "cttz":
                    return builder.cttz(arguments[0], context.get_constant(types.boolean, False))
                return builder.ctpop(arguments[0])

            return types.uint64(types.uint64), generate

        function.__globals__["_it"] = _it
        return compile_(cache=True, nogil=True, forceinline=True)(function)

    return make


_it: Any = None  # made with the two that follow


@kernel(_instruction("cttz"), "cttz")
def lowest(word):  # type: ignore[no-untyped-def]
    """Number of the lowest set bit, 64 where there is none."""
    return np.int64(_it(word))


@kernel(_instruction("ctpop"), "ctpop")
def count(word):  # type: ignore[no-untyped-def]
    """How many bits are set."""
    return np.int64(_it(word))


def _make_soon(function: Any) -> Any:
    from llvmlite import ir  # late
    from numba import njit as compile_  # late
    from numba.core import cgutils, types  # late
    from numba.extending import intrinsic  # late

    @intrinsic
    def _fetch(typing, array, index):  # type: ignore[no-untyped-def]
        def generate(context, builder, signature, arguments):  # type: ignore[no-untyped-def]
            kind, _ = signature.args
            made = context.make_array(kind)(context, builder, value=arguments[0])
            step = cgutils.unpack_tuple(builder, made.strides)[0]
            place = cgutils.pointer_add(builder, made.data, builder.mul(arguments[1], step))
            byte, i32 = ir.IntType(8).as_pointer(), ir.IntType(32)
            fetch = cgutils.get_or_insert_function(
                builder.module, ir.FunctionType(ir.VoidType(), [byte, i32, i32, i32]), "llvm.prefetch.p0")
            builder.call(fetch, [builder.bitcast(place, byte), i32(0), i32(3), i32(1)])
            return context.get_dummy_value()

        return types.void(array, types.intp), generate

    function.__globals__["_fetch"] = _fetch
    return compile_(cache=True, nogil=True, forceinline=True)(function)


_fetch: Any = None  # made with `soon`


@kernel(_make_soon, "soon")
def soon(array, index):  # type: ignore[no-untyped-def]
    """Let the processor fetch the memory of array[index], which will be read soon."""
    _fetch(array, index)


@njit(cache=True, nogil=True, forceinline=True)
def signed(word):  # type: ignore[no-untyped-def]
    """An index without a sign as one with a sign."""
    return np.int64(word)


@njit(cache=True, nogil=True)
def _pack(flags: Flags, out: Words, column: int) -> None:
    n = len(flags)
    whole = n >> 6
    eights = flags[:whole << 6].view(np.uint64)
    for w in range(whole):
        word = np.uint64(0)
        for b in range(8):
            # Eight bytes of 0 or 1 become eight bits: each is moved into the top byte of the product.
            word |= (eights[(w << 3) + b] * np.uint64(0x0102040810204080)) >> np.uint64(56) << np.uint64(b << 3)
        out[w, column] = word
    if n & 63 != 0:
        word = np.uint64(0)
        for i in range(whole << 6, n):
            word |= np.uint64(flags[i]) << np.uint64(i & 63)
        out[whole, column] = word


def pack(flags: tuple[Flags | None, ...], size: int) -> Words:
    """Several flag arrays (uint8[size], 0 or 1) as columns of packed bits, uint64[words_of(size), len(flags)]; None stands
    for "never"."""
    out = np.zeros((words_of(size), len(flags)), np.uint64)
    for column, one in enumerate(flags):
        if one is not None:
            _pack(np.ascontiguousarray(one), out, column)
    return out


@njit(cache=True, nogil=True)
def unpack(words: Words, size: int) -> Flags:
    """uint8[size]: bit c of a bar's byte is its bit in column c."""
    out = np.zeros(size, np.uint8)
    for i in range(size):
        for column in range(words.shape[1]):
            out[i] |= (words[i >> 6, column] >> np.uint64(i & 63) & np.uint64(1)) << np.uint64(column)
    return out


@njit(cache=True, nogil=True)
def count_entries(one: Words, other: Words, first: int, stop: int) -> int:
    """How many bars in [first, stop) are set in one or the other, uint64[w] each."""
    if stop <= first:
        return 0
    found = 0
    begin, end = first >> 6, (stop - 1) >> 6
    for w in range(begin, end + 1):
        word = one[w] | other[w]
        if w == begin:
            word = word >> np.uint64(first & 63) << np.uint64(first & 63)
        if w == end and stop & 63 != 0:
            word &= (np.uint64(1) << np.uint64(stop & 63)) - np.uint64(1)
        found += count(word)
    return found


@njit(cache=True, nogil=True)
def entries_into(one: Words, other: Words, first: int, stop: int, out: NDArray[np.int64]) -> int:
    """Bars in [first, stop) that are set in one or the other, in order, counted from `first`; returns how many. out: int64,
    with room for all of them."""
    found = 0
    if stop <= first:
        return 0
    begin = first >> 6
    for w in range(begin, ((stop - 1) >> 6) + 1):
        word = one[w] | other[w]
        if w == begin:
            word = word >> np.uint64(first & 63) << np.uint64(first & 63)
        while word != 0:
            i = (w << 6) + lowest(word)
            word &= word - np.uint64(1)
            if i >= stop:
                return found
            out[found] = i - first
            found += 1
    return found


def entries_of(one: Words, other: Words, first: int, stop: int) -> NDArray[np.int64]:
    """The same as an array of its own, int64[m]."""
    out = np.empty(count_entries(one, other, first, stop), np.int64)
    entries_into(one, other, first, stop, out)
    return out
