"""The condition library: named formulas with tags. Ours ship with the program, the user's own are kept in the project."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from functools import lru_cache
from importlib import resources
from typing import Literal

from pydantic import Field, ValidationError

from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.models import Model, Name
from wolbrin.core.rules.formula import FormulaError, parse_condition
from wolbrin.core.rules.language import Names
from wolbrin.core.rules.model import Condition

CONDITIONS_VERSION = 1


class NamedCondition(Model):
    """A formula with a name and tags. `formula` is written for the long side; the short one is its mirror image."""

    name: Name = Field(min_length=1, max_length=80)
    formula: str = Field(min_length=1, max_length=4000)
    tags: tuple[str, ...] = Field((), max_length=20)
    notes: str = Field("", max_length=2000)

    def condition(self, own: Mapping[str, tuple[str, str]] | None = None) -> Condition:
        """The condition. Raises FormulaError."""
        return parse_condition(self.formula, Names({}, own or {}))


class ConditionFile(Model):
    """A file of conditions (docs/formulas.md)."""

    format: Literal["wolbrin.conditions"] = "wolbrin.conditions"
    version: Literal[1] = 1
    conditions: tuple[NamedCondition, ...] = Field((), max_length=5000)


@lru_cache(maxsize=1)
def shipped() -> tuple[NamedCondition, ...]:
    """The conditions that come with the program."""
    text = resources.files("wolbrin.core.rules").joinpath("files/conditions.json").read_text(encoding="utf-8")
    return ConditionFile.model_validate_json(text).conditions


def read_conditions(data: object, where: str) -> tuple[NamedCondition, ...]:
    """Conditions from a file's data; every formula is read before anything is taken. Raises UserError."""
    version = data.get("version") if isinstance(data, dict) else None
    if isinstance(version, int) and version > CONDITIONS_VERSION:
        raise UserError(f"this file of conditions has version {version}, newer than this program reads "
                        f"({CONDITIONS_VERSION})", where, "Open it with a newer Wolbrin.")
    try:
        made = ConditionFile.model_validate(data)
    except ValidationError as err:
        raise explain(err, where) from None
    for one in made.conditions:
        try:
            one.condition()
        except FormulaError as err:
            raise UserError(f'the condition "{one.name}" cannot be read, {err.where}: {err.what}', where,
                            "Correct it there.") from None
    return made.conditions


def project_conditions(kept: str | None) -> tuple[NamedCondition, ...]:
    """A project's own conditions, as `write_conditions` kept them, before ours; an own one hides ours of the same name.

    Own ones are kept as they are: one that reads an own indicator may wait for its file to be confirmed.
    """
    own = ConditionFile.model_validate_json(kept).conditions if kept else ()
    names = {c.name for c in own}
    return (*own, *(c for c in shipped() if c.name not in names))


def write_conditions(conditions: Iterable[NamedCondition]) -> str:
    """The text of a file of conditions."""
    data = ConditionFile(conditions=tuple(conditions)).model_dump(mode="json")
    return json.dumps(data, indent=1, ensure_ascii=False) + "\n"


def tags_of(conditions: Iterable[NamedCondition]) -> list[str]:
    """Every tag, the most used first."""
    count: dict[str, int] = {}
    for one in conditions:
        for tag in one.tags:
            count[tag] = count.get(tag, 0) + 1
    return sorted(count, key=lambda t: (-count[t], t))


def search(conditions: Iterable[NamedCondition], text: str = "", tag: str = "") -> list[NamedCondition]:
    """Conditions that hold every word of the text in name, formula or tags, and the tag if one is given."""
    wanted = text.casefold().split()
    return [c for c in conditions if (not tag or tag in c.tags)
            and all(w in f"{c.name} {c.formula} {' '.join(c.tags)}".casefold() for w in wanted)]
