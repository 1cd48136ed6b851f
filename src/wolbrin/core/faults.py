"""Faults that the schema library finds, in plain sentences: its own messages never reach a user."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from wolbrin.core.errors import UserError

Context = dict[str, Any]
M = TypeVar("M", bound=BaseModel)
# One sentence for each kind of fault of pydantic that values of ours can have; it takes the bounds from the fault.
SENTENCES: dict[str, Callable[[Context], str]] = {
    "missing": lambda c: "this is missing",
    "extra_forbidden": lambda c: "this is not known here",
    "string_too_short": lambda c: "this is empty" if c.get("min_length") == 1 else (
        f"this needs at least {c.get('min_length')} characters"),
    "string_too_long": lambda c: f"this is longer than {c.get('max_length'):,} characters",
    "string_pattern_mismatch": lambda c: "only letters, digits, points, dashes and underscores may stand here",
    "string_type": lambda c: "this must be a text",
    "greater_than": lambda c: f"this must be greater than {c.get('gt'):,}",
    "greater_than_equal": lambda c: f"this must be at least {c.get('ge'):,}",
    "less_than": lambda c: f"this must be less than {c.get('lt'):,}",
    "less_than_equal": lambda c: f"this must be at most {c.get('le'):,}",
    "literal_error": lambda c: f"this must be {c.get('expected')}",
    "float_type": lambda c: "this must be a number", "float_parsing": lambda c: "this is not a number",
    "int_type": lambda c: "this must be a whole number", "int_parsing": lambda c: "this is not a whole number",
    "int_from_float": lambda c: "this must be a whole number", "finite_number": lambda c: "this must be a finite number",
    "bool_type": lambda c: "this must be true or false", "bool_parsing": lambda c: "this must be true or false",
    "date_parsing": lambda c: "this is not a date", "date_type": lambda c: "this must be a date",
    "date_from_datetime_parsing": lambda c: "this is not a date",
    "date_from_datetime_inexact": lambda c: "this must be a date without a time",
    "too_short": lambda c: f"this needs at least {c.get('min_length')} entries",
    "too_long": lambda c: f"this has more than {c.get('max_length'):,} entries",
    "list_type": lambda c: "this must be a list", "tuple_type": lambda c: "this must be a list",
    "dict_type": lambda c: "this must be a group of named values",
    "model_type": lambda c: "this must be a group of named values",
    "model_attributes_type": lambda c: "this must be a group of named values",
    "union_tag_invalid": lambda c: f"this is of no known kind ({c.get('expected_tags')})",
    "union_tag_not_found": lambda c: "this does not say of what kind it is",
    "json_invalid": lambda c: "this is not valid JSON", "recursion_loop": lambda c: "this contains itself",
}


def said(fault: Any) -> str:
    """One fault of a validation as a sentence without a full stop."""
    if fault["type"] in ("value_error", "assertion_error"):
        text = str(fault["msg"]).removeprefix("Value error, ").removeprefix("Assertion failed, ")
        return text[:1].lower() + text[1:]
    make = SENTENCES.get(str(fault["type"]))
    return make(fault.get("ctx") or {}) if make else "this cannot be used as it is"


def first_fault(err: ValidationError) -> tuple[str, str]:
    """The first fault of a validation: the field it belongs to, and its sentence."""
    first = err.errors()[0]
    return ".".join(str(p) for p in first["loc"]), said(first)


def words_of(err: ValueError) -> str:
    """What is wrong with values, without field and full stop: for a message beside the field itself."""
    return first_fault(err)[1] if isinstance(err, ValidationError) else str(err)


def explain(err: ValidationError, where: str) -> UserError:
    """The first fault of a validation as one error naming the field."""
    field, text = first_fault(err)
    more = f" ({err.error_count()} faults in all)" if err.error_count() > 1 else ""
    return UserError(f"{text}{more}", f'{where}, field "{field}"' if field else where,
                     "Correct that field." if field else "Correct it.")


def validated(model: type[M], data: object, where: str) -> M:
    """A model made of plain values. Raises UserError with the first fault."""
    try:
        return model.model_validate(data)
    except ValidationError as err:
        raise explain(err, where) from None
