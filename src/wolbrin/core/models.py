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
    try:
        return json.loads(text)
    except (json.JSONDecodeError, RecursionError) as err:
        place = f"{path}, line {err.lineno}, column {err.colno}" if isinstance(err, json.JSONDecodeError) else str(path)
        reason = err.msg if isinstance(err, json.JSONDecodeError) else "nested too deeply"
        raise UserError(f"this {what} is not valid JSON ({reason})", place, "Correct it there.") from None
