"""The base of everything that is stored or comes as a file, and how such a file is read."""

from __future__ import annotations

import json
from pathlib import Path

from pydantic import BaseModel, ConfigDict

from wolbrin.core.errors import EnvironmentTrouble, UserError


class Model(BaseModel):
    """Base of all stored models: frozen, and strict about unknown fields."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)


def read_json(path: Path, what: str) -> object:
    """Parse a JSON file, or raise one sentence that names file, line and column."""
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError:
        raise UserError(f"this {what} does not exist", str(path), "Check the path.") from None
    except (OSError, UnicodeDecodeError) as err:
        raise EnvironmentTrouble(f"this {what} cannot be read ({err})", str(path), "Check the file.") from None
    return parse_json(text, what, str(path))


def parse_json(text: str, what: str, where: str) -> object:
    """Parse JSON text, or raise one sentence that names where, line and column."""
    try:
        return json.loads(text)
    except json.JSONDecodeError as err:
        raise UserError(f"this {what} is not valid JSON ({err.msg})", f"{where}, line {err.lineno}, column {err.colno}",
                        "Correct it there.") from None
    except RecursionError:
        raise UserError(f"this {what} is not valid JSON (nested too deeply)", where, "Correct it there.") from None
    except ValueError:  # Python reads no whole numbers of more digits than it allows
        raise UserError(f"this {what} holds a number of thousands of digits", where, "Correct it there.") from None
