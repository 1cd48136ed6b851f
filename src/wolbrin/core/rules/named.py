"""Numbers with a name: a parameter of the strategy, or arithmetic over parameters such as "1.5 * stop".

A named number is a plain number that remembers the formula it came from, so that everything that computes sees numbers
only. The formula is evaluated again whenever a strategy is validated; the number stored beside it is never trusted.
"""

from __future__ import annotations

import ast
import math
from collections.abc import Mapping
from contextvars import ContextVar
from typing import Annotated, Any

from pydantic import GetCoreSchemaHandler, GetJsonSchemaHandler
from pydantic_core import CoreSchema, core_schema

LONGEST = 200
PARAMETERS: ContextVar[Mapping[str, float] | None] = ContextVar("parameters", default=None)


class NamedFloat(float):
    """A decimal number that remembers its formula."""

    formula: str


class NamedInt(int):
    """A whole number that remembers its formula."""

    formula: str


def formula_of(value: object) -> str | None:
    """The formula a number came from, or None."""
    return getattr(value, "formula", None)


def named(value: float, formula: str) -> float:
    """The number with its formula."""
    made: NamedInt | NamedFloat = NamedInt(value) if isinstance(value, int) else NamedFloat(value)
    made.formula = formula
    return made


def _arithmetic(node: ast.AST, names: Mapping[str, float]) -> float:
    if isinstance(node, ast.Constant) and isinstance(node.value, int | float) and not isinstance(node.value, bool):
        return float(node.value)
    if isinstance(node, ast.Name):
        if node.id not in names:
            raise ValueError(f'there is no parameter "{node.id}"')
        return names[node.id]
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        return -_arithmetic(node.operand, names)
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add | ast.Sub | ast.Mult | ast.Div):
        a, b = _arithmetic(node.left, names), _arithmetic(node.right, names)
        if isinstance(node.op, ast.Div):
            if b == 0:
                raise ValueError("division by zero")
            return a / b
        return a + b if isinstance(node.op, ast.Add) else a - b if isinstance(node.op, ast.Sub) else a * b
    if (isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "round" and len(node.args) == 1
            and not node.keywords):
        return float(math.floor(_arithmetic(node.args[0], names) + 0.5))
    raise ValueError("a number may be named by parameters, numbers, + - * / and round() only")


def normal(formula: str) -> str:
    """The formula in its one spelling; as it is where it cannot be read."""
    try:
        return ast.unparse(ast.parse(formula.strip(), mode="eval"))
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return formula


def names_in(formula: str) -> set[str]:
    """Parameters that a formula reads."""
    try:
        tree = ast.parse(formula, mode="eval")
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return set()
    return {n.id for n in ast.walk(tree) if isinstance(n, ast.Name)} - {"round"}


def calculate(formula: str, names: Mapping[str, float]) -> float:
    """The value of arithmetic over parameters. Raises ValueError with words for the user."""
    if len(formula) > LONGEST:
        raise ValueError(f"a number's formula is longer than {LONGEST} characters")
    try:
        tree = ast.parse(formula.strip(), mode="eval")
        value = _arithmetic(tree.body, names)
    except (SyntaxError, RecursionError, MemoryError, OverflowError):
        raise ValueError(f'"{formula[:40]}" is not arithmetic over parameters') from None
    if not math.isfinite(value):
        raise ValueError(f'"{formula[:40]}" has no finite value')
    return round(value, 10)


class Nameable:
    """Marks a numeric field that may be given as {"is": formula, "value": number}."""

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        inner = handler(source)
        whole = source is int or getattr(source, "__origin__", None) is int or "int" in str(source)

        def read(value: Any, check: core_schema.ValidatorFunctionWrapHandler) -> Any:
            formula = formula_of(value)
            if isinstance(value, dict) and "is" in value and set(value) <= {"is", "value"}:
                formula, value = value["is"], value.get("value")
                if not isinstance(formula, str):
                    raise ValueError('"is" holds a formula over parameters, as text')
            if formula is None:
                return check(value)
            if len(formula) > LONGEST:
                raise ValueError(f"a number's formula is longer than {LONGEST} characters")
            formula = normal(formula)
            known = PARAMETERS.get()
            if known is None and not names_in(formula):
                known = {}  # its value does not wait for a strategy
            if known is not None:
                value = calculate(formula, known)
                if whole and not value.is_integer():
                    raise ValueError(f"{formula} is {value:g}; a whole number is needed here, so wrap it in round()")
            elif value is None:
                raise ValueError(f'"{formula[:40]}" names parameters, which only a strategy has')
            return named(check(int(value) if whole else float(value)), formula)

        def write(value: Any) -> Any:
            formula = formula_of(value)
            if formula is None:
                return value
            return {"is": formula, "value": int(value) if isinstance(value, int) else float(value)}

        return core_schema.no_info_wrap_validator_function(
            read, inner, serialization=core_schema.plain_serializer_function_ser_schema(write))

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        inner = handler(schema["schema"])
        return {"anyOf": [inner, {"type": "object", "required": ["is"], "additionalProperties": False, "properties": {
            "is": {"type": "string", "maxLength": LONGEST, "description": "arithmetic over the strategy's parameters"},
            "value": {"type": "number", "description": "its value; calculated again on reading"}}}]}


Num = Annotated[float, Nameable()]
