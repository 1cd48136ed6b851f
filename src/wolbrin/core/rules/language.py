"""The words of the formula language: every name it knows, with its signature and what it means.

Python's own syntax; docs/formulas.md explains it. One table serves the reader, the completion and the page.
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Mapping
from dataclasses import dataclass, field

from wolbrin.core.indicators.catalogue import BY_KEY, CATALOGUE, PRICE_FIELDS
from wolbrin.core.indicators.model import Indicator


@dataclass(frozen=True)
class Names:
    """What a formula may speak of beside the language: the strategy's parameters with their values, and confirmed own
    indicators with the digest of their files and how they turn on a mirrored side."""

    parameters: Mapping[str, float] = field(default_factory=dict)
    own: Mapping[str, tuple[str, str]] = field(default_factory=dict)


@dataclass(frozen=True)
class Word:
    """A name of the language: how it is written and what it means."""

    name: str
    signature: str
    meaning: str
    group: str


COMPARING = {"crosses_above": "crosses above", "crosses_below": "crosses below"}
TURNING = {"rises": "rises", "falls": "falls"}
EXTREMES = {"new_high": "makes a new high", "new_low": "makes a new low"}
RANKS = {"ranks_above": "ranks above", "ranks_below": "ranks below"}
BANDS = {"inside_band": "inside", "outside_band": "outside"}
GROUPS = {"all_of": "all", "any_of": "any", "none_of": "none", "at_least": "at least"}
STATES = ("bars_held", "open_profit_r", "entries_today")

FUNCTIONS: tuple[Word, ...] = (
    Word("crosses_above", "crosses_above(a, b)", "a is above b now and was not one bar before", "comparison"),
    Word("crosses_below", "crosses_below(a, b)", "a is below b now and was not one bar before", "comparison"),
    Word("rises", "rises(x, bars=1)", "x is above its value one bar before, on each of the last bars", "comparison"),
    Word("falls", "falls(x, bars=1)", "x is below its value one bar before, on each of the last bars", "comparison"),
    Word("new_high", "new_high(x, bars=20)", "x is above all its values of so many bars before", "comparison"),
    Word("new_low", "new_low(x, bars=20)", "x is below all its values of so many bars before", "comparison"),
    Word("ranks_above", "ranks_above(x, percent, bars=20)", "more than so many percent of the values before lie below x",
         "comparison"),
    Word("ranks_below", "ranks_below(x, percent, bars=20)", "fewer than so many percent of the values before lie below x",
         "comparison"),
    Word("inside_band", "inside_band(x, bands(20, 2))", "x lies between the lower and the upper line, both included",
         "comparison"),
    Word("outside_band", "outside_band(x, bands(20, 2))", "x lies beyond the lower or the upper line", "comparison"),
    Word("held", "held(condition, bars)", "the condition is true on each of the last bars", "time"),
    Word("within", "within(condition, bars)", "the condition is true on at least one of the last bars", "time"),
    Word("ago", "ago(x, bars)", "a condition or a value as it stood so many bars earlier", "time"),
    Word("all_of", "all_of(a, b, ...)", "every condition is true; a and b says the same", "group"),
    Word("any_of", "any_of(a, b, ...)", "one condition is true; a or b says the same", "group"),
    Word("none_of", "none_of(a, b, ...)", "every condition is known to be false; not a says the same of one", "group"),
    Word("at_least", "at_least(k, a, b, ...)", "at least k of the conditions are true", "group"),
    Word("off", "off(condition)", "a condition that is switched off", "group"),
    Word("series", 'series(x, interval=60, market="NPW")', "a price or indicator of a longer interval (minutes) or of "
         "another market, from its closed bars", "series"),
    Word("own", 'own("name", length=20)', "an indicator of your own, once its file is confirmed", "series"),
    Word("bars_held", "bars_held", "bars the position is held, the entry bar counted; 0 when flat", "position"),
    Word("open_profit_r", "open_profit_r", "open profit in multiples of the initial stop distance; 0 when flat", "position"),
    Word("entries_today", "entries_today", "entries filled on this trading date", "position"),
)
KEYWORDS = ("and", "or", "not")


def spelled(output: str) -> str:
    """An output's name as it is written after the dot; Python keeps some words for itself."""
    return f"{output}_" if output in ("break", "return") else output


def signature(entry: Indicator) -> str:
    """An indicator's signature, such as "ema(of=close, length=20)"."""
    args = ([f"of={entry.field}"] if entry.takes_field else []) + [f"{p.key}={p.default:g}" for p in entry.params]
    outs = "" if len(entry.outputs) == 1 else "." + " .".join(spelled(o.key) for o in entry.outputs)
    return f"{entry.key}({', '.join(args)}){outs}"


def words(names: Names) -> dict[str, Word]:
    """Every name that may stand in a formula."""
    found = {w.name: w for w in FUNCTIONS}
    found |= {f: Word(f, f, "price of the bar that has just closed", "price") for f in PRICE_FIELDS}
    found |= {e.key: Word(e.key, signature(e), e.formula, e.group) for e in CATALOGUE}
    found |= {n: Word(n, n, f"parameter, now {v:g}", "parameter") for n, v in names.parameters.items()}
    return found


def nearest(name: str, known: object) -> str:
    """A hint such as '; did you mean "ema"?', or nothing."""
    close = difflib.get_close_matches(name, list(known), 1, 0.6)  # type: ignore[call-overload]
    return f'; did you mean "{close[0]}"?' if close else ""


def completions(text: str, cursor: int, names: Names, most: int = 12) -> tuple[int, list[Word]]:
    """Where the word before the cursor begins, and what it may become, best first. After a dot: the outputs."""
    before = text[:cursor]
    dot = re.search(r"([A-Za-z_][A-Za-z0-9_]*)\([^()]*\)\.([A-Za-z_0-9]*)$", before)
    if dot and dot[1] in BY_KEY and len(BY_KEY[dot[1]].outputs) > 1:
        outs = [Word(spelled(o.key), spelled(o.key), o.title, "output") for o in BY_KEY[dot[1]].outputs]
        return cursor - len(dot[2]), [w for w in outs if w.name.startswith(dot[2])]
    part = re.search(r"[A-Za-z_][A-Za-z0-9_]*$", before)
    if not part:
        return cursor, []
    wanted = part[0].lower()
    every = words(names)
    found = [w for n, w in every.items() if n.startswith(wanted)]
    found += [w for n, w in every.items() if wanted in n and not n.startswith(wanted)]
    found += [w for w in every.values() if len(wanted) > 2 and wanted in w.meaning.lower() and w not in found]
    return cursor - len(part[0]), found[:most]


def called_at(text: str, cursor: int, names: Names) -> Word | None:
    """The function whose brackets surround the cursor, for help while typing."""
    level, every = 0, words(names)
    for at in range(min(cursor, len(text)) - 1, -1, -1):
        if text[at] == ")":
            level += 1
        elif text[at] == "(":
            if level == 0:
                part = re.search(r"[A-Za-z_][A-Za-z0-9_]*$", text[:at])
                if part:
                    return every.get(part[0])
            level = max(0, level - 1)
    return None
