"""How two strategies differ, in words."""

from __future__ import annotations

from difflib import SequenceMatcher

from wolbrin.core.rules.dated import schedule_words
from wolbrin.core.rules.mirror import effective_long, effective_short
from wolbrin.core.rules.model import Condition, Strategy
from wolbrin.core.rules.words import distance_words, entry_words, filter_words, node_words, number, sizing_words

_JOINT = {"all": "all of", "any": "any of", "at least": "at least some of", "none": "none of"}


def _condition(where: str, a: Condition, b: Condition) -> list[str]:
    if a == b:
        return []
    old, new = [node_words(r) for r in a.active], [node_words(r) for r in b.active]
    found = []
    if a.match != b.match and (old or new):
        found.append(f"{where}: {_JOINT[a.match]} becomes {_JOINT[b.match]}")
    for tag, i, j, m, n in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if tag == "equal":
            continue
        paired = min(j - i, n - m)
        found += [f'{where}: "{x}" becomes "{y}"' for x, y in zip(old[i:i + paired], new[m:m + paired])]
        found += [f'{where}: without "{x}"' for x in old[i + paired:j]]
        found += [f'{where}: with "{y}"' for y in new[m + paired:n]]
    return found


def _pieces(s: Strategy) -> dict[str, str]:
    """Everything beside the conditions, as short texts; empty for what is not used."""
    stops = {"stop": s.stop, "target": s.target}
    found = {name: distance_words(d) if d else "" for name, d in stops.items()}
    found["trail"] = ""
    if s.trail:
        start = f" once {distance_words(s.trail.start_after)} ahead" if s.trail.start_after else ""
        step = f" in steps of {number(s.trail.step_ticks)} ticks" if s.trail.step_ticks else ""
        found["trail"] = distance_words(s.trail.distance) + step + start
    found["break even"] = ""
    if s.break_even:
        found["break even"] = f"after {distance_words(s.break_even.after)}, plus {number(s.break_even.plus_ticks)} ticks"
    found["time exit"] = f"{number(s.time_exit)} bars" if s.time_exit else ""
    found["overnight"] = "flat by session end" if s.flat_by_session_end else "held overnight"
    found |= {"fills": s.fill, "opposite signal": s.on_opposite, "size": sizing_words(s),
              "filters": "; ".join(filter_words(s.filters)), "notes": s.notes,
              "dated numbers": "; ".join(schedule_words(s, 2)),
              "long entry order": entry_words(s.long.order, "buy", "at market").rstrip(","),
              "short side": s.short.mode, "long side": "traded" if s.long.mode == "own" else "off"}
    if s.short.mode == "own":
        found["short entry order"] = entry_words(s.short.order, "sell", "at market").rstrip(",")
    for p in s.parameters:
        ranged = f", {number(p.low)} to {number(p.high)} by {number(p.step)}" if p.high > p.low else ""
        found[f"parameter {p.name}"] = (p.formula or number(p.value)) + ranged + (", swept" if p.sweep else "")
    return found


def differences(a: Strategy, b: Strategy) -> list[str]:
    """Sentences that lead from strategy a to strategy b; empty when they say the same."""
    found: list[str] = []
    sides = [("long", effective_long(a), effective_long(b))]
    if "own" in (a.short.mode, b.short.mode):
        sides.append(("short", effective_short(a), effective_short(b)))
    for name, one, other in sides:
        found += _condition(f"{name} entry", one.entry, other.entry) + _condition(f"{name} exit", one.exit, other.exit)
    old, new = _pieces(a), _pieces(b)
    for key in dict.fromkeys([*old, *new]):
        before, after = old.get(key, ""), new.get(key, "")
        if before == after:
            continue
        if not before:
            found.append(f"{key}: {after}, where there was none")
        elif not after:
            found.append(f"{key}: none, where it was {before}")
        else:
            found.append(f"{key}: {after}, not {before}")
    return found
