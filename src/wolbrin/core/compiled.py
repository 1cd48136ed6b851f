"""Kernels: functions that numba compiles when they are first called, so that whoever calls none does not load numba.

`njit` here takes what numba's takes. A kernel that calls other kernels finds their compiled forms in its module's globals by
the time it is compiled itself.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import update_wrapper
from threading import RLock
from types import CodeType, FunctionType
from typing import Any, TypeVar, cast

F = TypeVar("F", bound=Callable[..., Any])
Maker = Callable[[Any], Any]
_lock = RLock()


class Kernel:
    """A function and how it is compiled. Called, it is compiled (or read from numba's cache) and run; any other attribute is
    the compiled function's."""

    def __init__(self, function: FunctionType, make: Maker) -> None:
        self._function = function
        self._make = make
        self._compiled: Any = None
        update_wrapper(self, function)

    @property
    def ready(self) -> bool:
        """Whether it was compiled in this process."""
        return self._compiled is not None

    def compiled(self) -> Any:
        """numba's function."""
        if self._compiled is None:
            with _lock:
                if self._compiled is None:
                    _ready(self._function)
                    self._compiled = self._make(self._function)
        return self._compiled

    def __call__(self, *values: Any) -> Any:
        return (self._compiled or self.compiled())(*values)

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):
            raise AttributeError(name)
        return getattr(self.compiled(), name)


def _names(code: CodeType) -> Iterator[str]:
    yield from code.co_names
    for inner in code.co_consts:
        if isinstance(inner, CodeType):
            yield from _names(inner)


def _ready(function: FunctionType) -> None:
    """Put the compiled form of every kernel that a function calls where it looks for it."""
    known = function.__globals__
    for name in _names(function.__code__):
        if isinstance(known.get(name), Kernel):
            known[name] = known[name].compiled()


def kernel(make: Maker) -> Callable[[F], F]:
    """A kernel compiled by `make`."""
    def wrap(function: F) -> F:
        return cast(F, Kernel(cast(FunctionType, function), make))

    return wrap


def njit(**options: Any) -> Callable[[F], F]:
    """numba's njit with these options, once it is needed."""
    def make(function: Any) -> Any:
        import numba  # late

        return numba.njit(**options)(function)

    return kernel(make)
