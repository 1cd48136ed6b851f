"""The base of everything that is stored or comes as a file, and how such a file is read."""

from __future__ import annotations

import json
import re
import unicodedata
from pathlib import Path
from typing import Annotated

from pydantic import AfterValidator, BaseModel, ConfigDict

from wolbrin.core.errors import UserError
from wolbrin.core.written import read_text

ODD = re.compile(r"\\u(0000|[dD][89a-fA-F])|\0")
TURNS = {chr(c) for c in (*range(0x202A, 0x202F), *range(0x2066, 0x206A))}  # make text read other than it is


def _plain(name: str) -> str:
    """A name that is one line of what can be seen. Raises ValueError for another."""
    if any(c in TURNS or unicodedata.category(c) in ("Cc", "Cs", "Zl", "Zp") for c in name):
        raise ValueError("a name is one line of text without control characters")
    return name


Name = Annotated[str, AfterValidator(_plain)]


class Model(BaseModel):
    """Base of all stored models: frozen, and strict about unknown fields."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


def read_json(path: Path, what: str) -> object:
    """Parse a JSON file, or raise one sentence that names file, line and column."""
    return parse_json(read_text(path, what), what, str(path))


def _odd(made: object) -> bool:
    """Whether any text in it holds a NUL, or half of a pair that stands for one character."""
    waiting = [made]
    while waiting:
        one = waiting.pop()
        if isinstance(one, str) and any(c == "\0" or "\ud800" <= c <= "\udfff" for c in one):
            return True
        if isinstance(one, dict):
            waiting += [*one.keys(), *one.values()]
        elif isinstance(one, list):
            waiting += one
    return False


def parse_json(text: str, what: str, where: str) -> object:
    """Parse JSON text, or raise one sentence that names where, line and column."""
    try:
        made: object = json.loads(text)
        if ODD.search(text) and _odd(made):
            raise UserError(f"this {what} holds a character that is none (NUL, or half of one)", where, "Take it out.")
        return made
    except json.JSONDecodeError as err:
        raise UserError(f"this {what} is not valid JSON ({err.msg})", f"{where}, line {err.lineno}, column {err.colno}",
                        "Correct it there.") from None
    except RecursionError:
        raise UserError(f"this {what} is not valid JSON (nested too deeply)", where, "Correct it there.") from None
    except ValueError:  # Python reads no whole numbers of more digits than it allows
        raise UserError(f"this {what} holds a number of thousands of digits", where, "Correct it there.") from None
