"""The project's line of gates: the one in use, and others under their names."""

from __future__ import annotations

from typing import Any

from wolbrin.core.errors import UserError
from wolbrin.core.faults import validated
from wolbrin.core.proving.gate import Gate
from wolbrin.core.proving.line import Line, usual_line
from wolbrin.core.store.database import Database

IN_USE = "line in use"
SAVED = "lines"


def line_of(db: Database) -> Line:
    """The line in use; the usual one where none was chosen, or where what was stored cannot be judged by any more, such as a
    gate that is gone: a project must open whatever it holds."""
    stored = db.get_value(IN_USE, None)
    if stored is None:
        return usual_line()
    try:
        line = validated(Line, stored, "the line in use")
        line.gates()
    except UserError:
        return usual_line()
    return line


def gates_of(db: Database) -> tuple[Gate, ...]:
    """The gates of the line in use, in their order, the holdout last."""
    return line_of(db).gates()


def use_line(db: Database, line: Line) -> None:
    """Judge by this line from now on. Verdicts stay with the settings they were given under.

    Raises:
        UserError: a gate is unknown, or a setting without sense; the line in use stays.
    """
    line.gates()
    db.set_value(IN_USE, line.model_dump(mode="json"))


def saved_lines(db: Database) -> dict[str, Line]:
    """Lines under their names, the usual one first."""
    usual = usual_line()
    stored: dict[str, Any] = db.get_value(SAVED, {})
    return {usual.name: usual} | {name: validated(Line, data, f"the line {name}") for name, data in stored.items()}


def save_line(db: Database, line: Line) -> None:
    """Keep a line under its name. Raises UserError where it has none, or that of the usual one."""
    line.gates()
    if not line.name.strip() or line.name == usual_line().name:
        raise UserError(f'a line cannot be saved as "{line.name}"', "line", "Give it a name of its own.")
    with db.transaction():
        db.set_value(SAVED, db.get_value(SAVED, {}) | {line.name: line.model_dump(mode="json")})


def find_line(db: Database, name: str) -> Line:
    """A line by its name. Raises UserError where there is none."""
    known = saved_lines(db)
    if name not in known:
        raise UserError(f'there is no line "{name}"', "line", f"There are {', '.join(known)}.")
    return known[name]
