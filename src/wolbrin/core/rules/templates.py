"""Strategies to begin with."""

from __future__ import annotations

import json
from dataclasses import dataclass
from functools import lru_cache
from importlib import resources

from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.script import parse_strategy


@dataclass(frozen=True)
class Template:
    """A beginning: its name, one sentence, and the strategy as text."""

    name: str
    about: str
    text: str

    def strategy(self) -> Strategy:
        return parse_strategy(self.text)


@lru_cache(maxsize=1)
def templates() -> tuple[Template, ...]:
    """Every template that ships with the program."""
    text = resources.files("wolbrin.core.rules").joinpath("files/templates.json").read_text(encoding="utf-8")
    return tuple(Template(**one) for one in json.loads(text))
