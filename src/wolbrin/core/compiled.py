"""Kernels: functions that numba compiles when they are first called, so that whoever calls none does not load numba.

`njit` here takes what numba's takes. A kernel that calls other kernels is compiled with their compiled forms.

What is compiled is kept on disk under a digest of all that went into the machine code: the function, every kernel it calls,
every constant it freezes, and numba's version. numba itself looks at the time stamp of one file, and would go on with the
old code after a change in a helper or a constant.
"""

from __future__ import annotations

import builtins
import hashlib
import logging
from collections.abc import Callable, Iterator
from functools import cached_property, update_wrapper
from importlib.metadata import version
from threading import RLock, local
from types import CodeType, FunctionType, ModuleType
from typing import Any, TypeVar, cast

import numpy as np

from wolbrin.core.kept_kernels import keep_under

log = logging.getLogger("wolbrin")
# Called with the name under which a kernel is kept, before it is made ready: where others compile, it waits for them.
waiting: Callable[[str], None] | None = None
F = TypeVar("F", bound=Callable[..., Any])
Maker = Callable[[Any], Any]
_lock = RLock()
_inside = local()


class Kernel:
    """A function and how it is compiled. Called, it is compiled (or read from the cache) and run; any other attribute is the
    compiled function's. about: what decides the machine code beside the function, in words."""

    def __init__(self, function: FunctionType, make: Maker, about: str) -> None:
        self._function = function
        self._make = make
        self._about = about
        self._compiled: Any = None
        self._forms: dict[tuple[tuple[str, object], ...], Kernel] = {}
        update_wrapper(self, function)

    @property
    def ready(self) -> bool:
        """Whether it was compiled in this process."""
        return self._compiled is not None

    @cached_property
    def digest(self) -> str:
        """Of everything that decides the machine code but for the processor; comments and line numbers do not."""
        found = hashlib.sha256(f"{version('numba')} {version('numpy')} {self._about}".encode())
        found.update(_code(self._function.__code__))
        for name, value in self._globals():
            found.update(f"{name}={_frozen(value)};".encode())
        return found.hexdigest()[:16]

    def compiled(self) -> Any:
        """numba's function."""
        if self._compiled is None:
            outer, wait = not getattr(_inside, "one", False), waiting
            if wait is not None and outer:
                wait(f"{self._kept_name}.1")  # once it is there, so is all that it calls
            with _lock:
                if self._compiled is None:
                    _inside.one = True
                    try:
                        self._compiled = self._ready()
                    finally:
                        _inside.one = not outer
        return self._compiled

    def _ready(self) -> Any:
        inner = {name: value.compiled() for name, value in self._globals() if isinstance(value, Kernel)}
        function = _over(self._function, inner)
        # numba names symbols by this; two forms of one function must not share theirs.
        function.__qualname__ = f"{self._function.__qualname__}_{self.digest}"
        made = self._make(function)
        _keep_under(made, self._kept_name)
        return made

    @property
    def _kept_name(self) -> str:
        return f"{self._function.__module__}.{self._function.__qualname__}_{self.digest}"

    def form(self, **constants: object) -> Kernel:
        """The same source compiled with other values of module constants, in every kernel it calls too, so that branches
        which can never be taken are left out. Itself where it reads none of them."""
        key = tuple(sorted(constants.items()))
        with _lock:
            if key not in self._forms:
                known = dict(self._globals())
                new: dict[str, object] = {name: value for name, value in constants.items() if name in known}
                for name, value in known.items():
                    if isinstance(value, Kernel) and (other := value.form(**constants)) is not value:
                        new[name] = other
                self._forms[key] = Kernel(_over(self._function, new), self._make, self._about) if new else self
            return self._forms[key]

    def _globals(self) -> Iterator[tuple[str, object]]:
        known = self._function.__globals__
        for name in sorted(set(_names(self._function.__code__))):
            if name in known and not hasattr(builtins, name):
                yield name, known[name]

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


def _code(code: CodeType) -> bytes:
    """What a code object does, without where it stands and what its docstring says."""
    text = code.co_consts[:1] and isinstance(code.co_consts[0], str | None)  # a docstring's place, empty without one
    constants = [_code(c).hex() if isinstance(c, CodeType) else repr(c) for c in code.co_consts[1 if text else 0:]]
    return repr((code.co_code, constants, code.co_names, code.co_varnames, code.co_freevars, code.co_argcount)).encode()


def _frozen(value: object) -> str:
    """A global as numba freezes it."""
    if isinstance(value, Kernel):
        return value.digest
    if isinstance(value, np.ndarray):
        return hashlib.sha256(f"{value.dtype}{value.shape}".encode() + value.tobytes()).hexdigest()
    if isinstance(value, ModuleType):
        own = vars(value) if value.__name__.startswith("wolbrin") else {}
        return value.__name__ + repr(sorted((k, repr(v)) for k, v in own.items() if isinstance(v, int | float | tuple)))
    if isinstance(value, type):
        return f"{value.__module__}.{value.__qualname__}{getattr(value, '_fields', '')}"
    if isinstance(value, FunctionType):
        return _code(value.__code__).hex()
    return repr(value) if isinstance(value, int | float | complex | str | tuple | np.generic) else type(value).__qualname__


def _over(function: FunctionType, changes: dict[str, object]) -> FunctionType:
    """The function with other globals."""
    made = FunctionType(function.__code__, function.__globals__ | changes, function.__name__, function.__defaults__,
                        function.__closure__)
    return cast(FunctionType, update_wrapper(made, function))


def _keep_under(made: Any, name: str) -> None:
    """Keep numba's machine code under this name, which says all that went into it."""
    cache: Any = getattr(made, "_cache", None)
    path = getattr(cache, "cache_path", None)
    if path is not None:
        keep_under(cache, path, f"{name}.1")


def kernel(make: Maker, about: str) -> Callable[[F], F]:
    """A kernel compiled by `make`."""
    def wrap(function: F) -> F:
        return cast(F, Kernel(cast(FunctionType, function), make, about))

    return wrap


def jitted(function: Any, **options: Any) -> Any:
    """numba's njit with these options; without its cache where there is no folder for it."""
    import numba  # late

    try:
        return numba.njit(**options)(function)
    except RuntimeError as err:
        if "cannot cache" not in str(err):
            raise
        log.warning("compiled kernels cannot be kept (%s): each start compiles them again", err)
        return numba.njit(**options | {"cache": False})(function)


def njit(**options: Any) -> Callable[[F], F]:
    """numba's njit with these options, once it is needed."""
    return kernel(lambda function: jitted(function, **options), repr(sorted(options.items())))


def form_of(function: F, **constants: object) -> F:
    """A form of a kernel, see `Kernel.form`."""
    return cast(F, cast(Kernel, function).form(**constants))
