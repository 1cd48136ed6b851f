"""Reading an own indicator's file without running it: its function, inputs and settings, from its syntax tree."""

from __future__ import annotations

import ast
import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from wolbrin.core import written
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.indicators.own_cage import PURE, allowed
from wolbrin.core.market.date_numbers import date_of, date_words

INPUTS = ("open", "high", "low", "close", "volume", "time", "session")
TURNS = ("unsigned", "centered", "price")
LARGEST_FILE, LARGEST_NUMBER = 200_000, 1e15


@dataclass(frozen=True)
class OwnFile:
    """What is known of a file without running it. settings: name to default. digest: SHA-256 of its bytes. turns: how it
    turns where up and down change places, from a line "Turns: centered" (or price) of its description."""

    path: Path
    name: str
    about: str
    inputs: tuple[str, ...]
    settings: Mapping[str, float]
    digest: str
    source: str
    turns: str = "unsigned"

    @property
    def dates(self) -> tuple[str, ...]:
        """Constants of its code that read like dates, in words: what holds one may know what came, and cannot stand."""
        found: list[str] = []
        for node in ast.walk(ast.parse(self.source)):
            if isinstance(node, ast.Constant) and isinstance(node.value, int | float | str) and not isinstance(
                    node.value, bool) and (day := date_of(node.value)) is not None:
                words = f"{str(node.value)[:30]} {date_words(day)}"
                if words not in found and not (isinstance(node.value, str) and node.value == self.about):
                    found.append(words)
        return tuple(found)

    @classmethod
    def plain(cls, name: str, source: str, inputs: tuple[str, ...]) -> OwnFile:
        """A text of the program's own, of one function without settings."""
        return cls(Path(name), name, "", inputs, {}, hashlib.sha256(source.encode()).hexdigest(), source)


def read_bytes(path: Path) -> bytes:
    """A file's bytes, where it is an ordinary one and not too large; whatever else stands there is not waited for."""
    return written.read_bytes(path, "file", LARGEST_FILE)


def _imports(tree: ast.Module, where: str) -> None:
    """Refuse what loads other code than NumPy and what only computes."""
    for node in ast.walk(tree):
        if not isinstance(node, ast.Import | ast.ImportFrom):
            continue
        names = [a.name for a in node.names] if isinstance(node, ast.Import) else ["." * node.level + (node.module or "")]
        for name in names:
            if not allowed(name):
                raise UserError(f'it loads "{name[:60]}", and an own indicator may use NumPy and {", ".join(PURE)} only',
                                f"{where}, line {node.lineno}", "Compute it without.")


def _number(node: ast.expr | None) -> float | None:
    try:
        value = ast.literal_eval(node) if node is not None else None
    except (ValueError, TypeError, SyntaxError, MemoryError, RecursionError):
        return None
    if not isinstance(value, int | float) or isinstance(value, bool) or not -LARGEST_NUMBER <= value <= LARGEST_NUMBER:
        return None
    return float(value)


def read_own(path: Path, data: bytes | None = None) -> OwnFile:
    """Read a file without running it. Raises UserError where it does not keep the contract, whatever is wrong with it."""
    try:
        return _read(path, read_bytes(path) if data is None else data)
    except WolbrinError:
        raise
    except Exception as err:  # Python's own readers fail in many ways on what nobody would write
        raise UserError(f"this file cannot be read ({type(err).__name__}: {str(err)[:120]})", str(path),
                        "Correct it, or take it out of the folder.") from None


def _read(path: Path, raw: bytes) -> OwnFile:
    where = str(path)
    try:
        source = raw.decode("utf-8")
        tree = ast.parse(source)
    except UnicodeDecodeError:
        raise UserError("this file is not text in UTF-8", where, "Save it as UTF-8.") from None
    except (SyntaxError, ValueError, RecursionError, MemoryError, OverflowError) as err:
        line = f", line {err.lineno}" if isinstance(err, SyntaxError) else ""
        raise UserError("this file is not Python", where + line, "Correct it there.") from None
    _imports(tree, where)
    functions = [n for n in tree.body if isinstance(n, ast.FunctionDef) and not n.name.startswith("_")]
    if len(functions) != 1:
        raise UserError(f"this file has {len(functions)} public functions; it needs exactly one", where,
                        "Begin the names of helpers with an underscore.")
    one = functions[0]
    at = f"{where}, line {one.lineno}"
    about = ast.get_docstring(one)
    if not about:
        raise UserError(f"{one.name} has no description", at, "Give it a docstring that says what it computes.")
    spec = one.args
    inputs = tuple(a.arg for a in (*spec.posonlyargs, *spec.args))
    if not inputs or any(i not in INPUTS for i in inputs) or spec.vararg or spec.kwarg or spec.defaults:
        raise UserError(f"{one.name} takes arrays named {', '.join(INPUTS)}, in any order, then * and its settings", at,
                        "Write, for example: def drift(close, *, length=20).")
    settings = {}
    for argument, default in zip(spec.kwonlyargs, spec.kw_defaults):
        value = _number(default)
        if value is None:
            raise UserError(f'the setting "{argument.arg}" needs a plain number of at most fifteen digits as default', at,
                            "Write it as length=20.")
        settings[argument.arg] = value
    told = [line.split(":", 1)[1].strip().rstrip(".") for line in about.splitlines() if line.strip().startswith("Turns:")]
    if told and told[0] not in TURNS:
        raise UserError(f'"Turns: {told[0][:20]}" is not known', at, f"Write one of {', '.join(TURNS)}.")
    return OwnFile(path, one.name, about, inputs, settings, hashlib.sha256(raw).hexdigest(), source,
                   told[0] if told else "unsigned")
