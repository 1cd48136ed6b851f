"""Options that hold for every market, or for one of several: `VALUE`, or `CODE=VALUE`, as often as needed."""

from __future__ import annotations

import math
from dataclasses import dataclass

from wolbrin.core.errors import UserError
from wolbrin.core.market.importing.grouping import clean_code


@dataclass(frozen=True)
class Each:
    """What was said with an option. common: for every market; own: by market code."""

    option: str
    common: str | None
    own: dict[str, str]

    @classmethod
    def of(cls, option: str, values: list[str] | None) -> Each:
        """Raises UserError where one thing is said twice."""
        common: str | None = None
        own: dict[str, str] = {}
        for text in values or ():
            head, equals, tail = text.partition("=")
            code = clean_code(head) if equals else ""
            if (code in own) if code else common is not None:
                raise UserError(f"this is said twice{f' of {code}' if code else ''}", option,
                                "Say it once, or once for each market as CODE=VALUE.")
            if code:
                own[code] = tail.strip()
            else:
                common = text.strip()
        return cls(option, common, own)

    def text(self, code: str) -> str | None:
        """What holds for a market; None where nothing was said."""
        return self.own.get(clean_code(code), self.common)

    def number(self, code: str) -> float | None:
        """The same as a number above zero."""
        text = self.text(code)
        if text is None:
            return None
        try:
            value = float(text)
        except ValueError:
            value = math.nan
        if not 0 < value < math.inf:
            raise UserError(f'"{text}" is not a number above zero', self.option, "Write one such as 0.25.")
        return value

    def check(self, known: tuple[str, ...]) -> None:
        """Raises UserError where a value is none of those known."""
        for value in (*self.own.values(), *(() if self.common is None else (self.common,))):
            if value not in known:
                raise UserError(f'"{value}" is not known', self.option, f"Write {', '.join(known[:-1])} or {known[-1]}.")
