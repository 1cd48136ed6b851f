"""What a cost or a contract fact is, said once beside the field that holds it: forms, options of the command line, words,
schemas and docs are made from it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from typing import Any, cast

from pydantic import BaseModel, GetJsonSchemaHandler
from pydantic_core import CoreSchema, PydanticUndefined

from wolbrin.core.models import Model


@dataclass(frozen=True)
class Fact:
    """Metadata of a field: `Annotated[float, Fact("spread", "ticks", "half is paid at each fill", "--spread")]`.

    unit: what a number counts ("ticks", "account money", "% of notional"). help: what it does, one line.
    option: of `wolbrin set`, "" where none is its own. word: how a number of it reads in one line, such as "slippage {:g}";
    "" where it is told elsewhere. scaled: whether dearer costs (gates, what-if) multiply it.
    term: which of ASSUMABLE it belongs to. of_terms: of a cost, where contract terms hold it ("commission.per_contract").
    hint: what stands behind its field in a form; short: before it, where room is scarce. beside: whether it shares the line
    of the field before it. digits, step, most: of its field. later: it came after results were kept, so that digests leave it
    out while it stands at its default.
    """

    title: str
    unit: str = ""
    help: str = ""
    option: str = ""
    word: str = ""
    scaled: bool = False
    term: str = ""
    of_terms: str = ""
    hint: str = ""
    short: str = ""
    beside: bool = False
    digits: int = 2
    step: float = 1.0
    most: float = 1e6
    later: bool = False

    def __get_pydantic_json_schema__(self, schema: CoreSchema, handler: GetJsonSchemaHandler) -> dict[str, Any]:
        made = dict(handler(schema))
        about = ", ".join(part for part in (self.unit, self.help) if part)
        return made | {"title": self.title} | ({"description": about} if about else {})


@dataclass(frozen=True)
class Declared:
    """A fact with its field. path: names from the model down ("commission", "per_contract"); kind: its type without None."""

    path: tuple[str, ...]
    fact: Fact
    kind: type
    default: Any
    optional: bool

    @property
    def key(self) -> str:
        """The field's name, dotted where it lies deeper."""
        return ".".join(self.path)

    @property
    def number(self) -> bool:
        return self.kind in (float, int)

    def of(self, model: BaseModel) -> Any:
        """What a model holds there."""
        value: Any = model
        for name in self.path:
            value = getattr(value, name)
        return value

    def put(self, values: dict[str, Any], value: Any) -> None:
        """Write it into a dumped model."""
        for name in self.path[:-1]:
            values[name] = dict(values[name])
            values = values[name]
        values[self.path[-1]] = value

    def read(self, text: str) -> Any:
        """The value of what was typed; "" is none where it may be absent. Raises ValueError for no number."""
        text = text.strip()
        if self.number:
            return None if self.optional and not text else self.kind(text.replace(",", "").replace("\u2212", "-") or 0)
        return text


def _walk(model: type[BaseModel], above: tuple[str, ...]) -> Iterator[Declared]:
    for name, field in model.model_fields.items():
        fact = next((m for m in field.metadata if isinstance(m, Fact)), None)
        kinds = [t for t in getattr(field.annotation, "__args__", ()) if t is not type(None)]
        optional = bool(kinds) and len(kinds) < len(getattr(field.annotation, "__args__", ()))
        kind = kinds[0] if optional else field.annotation
        if fact is not None:
            default = None if field.default is PydanticUndefined else field.default
            yield Declared((*above, name), fact, cast(type, kind), default, optional)
        elif isinstance(kind, type) and issubclass(kind, BaseModel):
            yield from _walk(kind, (*above, name))


@cache
def declared(model: type[Model]) -> tuple[Declared, ...]:
    """The facts of a model and of the models in it, in the order of their fields."""
    return tuple(_walk(model, ()))


def at_default(model: Model) -> set[str]:
    """Fields that came later and stand at their default: digests leave them out, so that what was kept before stays."""
    return {d.path[0] for d in declared(type(model)) if d.fact.later and len(d.path) == 1 and d.of(model) == d.default}
