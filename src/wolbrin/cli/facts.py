"""Options that are made from declared costs and contract facts."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterable
from typing import Any

import typer

from wolbrin.cli.common import finite
from wolbrin.core.market.declared import Declared


def name_of(d: Declared) -> str:
    """Its parameter's name."""
    return d.key.replace(".", "_")


def help_of(d: Declared) -> str:
    """Title, unit and help as one line."""
    f = d.fact
    said = f"{f.title} ({f.unit})" if f.unit and f.unit not in f.title else f.title
    return f"{said[0].upper()}{said[1:]}: {f.help}."


def _parameter(d: Declared) -> inspect.Parameter:
    kind = d.kind if d.kind in (float, int, bool) else str
    option = typer.Option(None, d.fact.option, help=help_of(d), callback=finite if kind is float else None)
    return inspect.Parameter(name_of(d), inspect.Parameter.KEYWORD_ONLY, default=option, annotation=kind | None)


def with_facts(facts: Iterable[Declared], before: str) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Give a command an option for each fact that has one, in the place of its `**said`, in front of `before`. Values arrive
    by `name_of`, None where nothing was said."""
    more = [_parameter(d) for d in facts if d.fact.option]

    def wrap(function: Callable[..., Any]) -> Callable[..., Any]:
        own = inspect.signature(function, eval_str=True)
        kept = [p.replace(kind=inspect.Parameter.KEYWORD_ONLY) for p in own.parameters.values()
                if p.kind is not inspect.Parameter.VAR_KEYWORD]
        at = next(i for i, p in enumerate(kept) if p.name == before)
        every = [*kept[:at], *more, *kept[at:]]

        def command(**values: Any) -> Any:
            return function(**values)

        command.__doc__, command.__name__ = function.__doc__, function.__name__
        command.__signature__ = own.replace(parameters=every)  # type: ignore[attr-defined]
        command.__annotations__ = {p.name: p.annotation for p in every}
        return command

    return wrap
