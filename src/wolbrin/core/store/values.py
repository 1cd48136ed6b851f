"""What may stand under each key of a project's small values: one declared list, so that none is read as what it is not."""

from __future__ import annotations

from functools import cache
from typing import Annotated, Any, Literal, NotRequired

from pydantic import AfterValidator, Field, TypeAdapter
from typing_extensions import TypedDict

from wolbrin.core.rules.conditions import ConditionFile

Count = Annotated[int, Field(ge=0, le=10**9)]
Named = dict[str, dict[str, Any]]


class PortfolioVerdict(TypedDict):
    """One verdict on a portfolio that was opened as a whole."""

    created: str
    name: str
    members: list[int]
    verdict: Literal["passes", "falls", "not enough"]
    reason: str
    markets: NotRequired[list[str]]
    figures: NotRequired[dict[str, float]]
    interval: NotRequired[dict[str, float]]
    plan: NotRequired[dict[str, Any]]
    sealed: NotRequired[dict[str, Any]]


def _conditions(text: str) -> str:
    if text:
        ConditionFile.model_validate_json(text)
    return text


TYPES: dict[str, Any] = {
    "place": str, "drawer": dict[str, bool], "splitter": list[Count], "share": Annotated[float, Field(gt=0, le=1)],
    "strategy": Count, "conditions": Annotated[str, AfterValidator(_conditions)], "distinct": list[int],
    "overlap is compared": dict[str, Any], "portfolio draft": dict[str, Any], "shelf views": Named, "lines": Named,
    "line in use": dict[str, Any], "line that standings are of": str, "holdout is spent on": str,
    "verdicts on portfolios": list[PortfolioVerdict], "dated numbers fitted again": list[str], "project id":
    Annotated[str, Field(min_length=1, max_length=100)], "markets that are made up": list[str], "openings reserved": Count,
    "openings elsewhere": Count, "rules brought, tried unknown": Named, "markets of the same bars": dict[str, list[str]],
    "source files": Count, "demo strategies": bool}
BY_PREFIX: dict[str, Any] = {"rates of the line ": dict[str, Any] | None, "faults ": list[int]}
# Of these nothing may be forgotten: without them it would not be known what was looked at.
BINDING = ("verdicts on portfolios", "rules brought, tried unknown")


@cache
def _adapter(key: str) -> TypeAdapter[Any] | None:
    kind = TYPES.get(key, next((t for start, t in BY_PREFIX.items() if key.startswith(start)), None))
    return None if kind is None else TypeAdapter(kind)


def check_value(key: str, value: Any) -> Any:
    """The value, where it is what stands under this key; one that is not declared is as it is.

    Raises:
        ValueError: it is something else.
    """
    adapter = _adapter(key) if value is not None else None
    return value if adapter is None else adapter.validate_python(value, strict=True)
