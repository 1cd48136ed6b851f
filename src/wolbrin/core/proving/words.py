"""One sentence that sums a candidate up, as one would tell a partner."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from wolbrin.core.proving.gate import FALLS, NOT_ENOUGH, PASSES, Gate

Told = tuple[str, str, dict[str, float]]  # verdict, reason and figures of a gate


def summed_up(gates: Sequence[Gate], told: Mapping[str, Told], seen: int = 0) -> str:
    """Where it falls and why, first of all; else what speaks for it, gate by gate, and what is open.

    told: by key of the gate, as far as there are verdicts that hold. seen: openings of its market's holdout before it was
    kept.
    """
    lost = [(g, told[g.key]) for g in gates if g.key in told and told[g.key][0] == FALLS]
    unsure = [(g, told[g.key]) for g in gates if g.key in told and told[g.key][0] == NOT_ENOUGH]
    if lost:
        gate, (_, reason, _) = lost[0]
        more = f" Falls at {', '.join(g.title for g, _ in lost[1:])} too." if len(lost) > 1 else ""
        return f"Falls at {gate.title}: {_small(reason)}{more}"
    if unsure:
        gate, (_, reason, _) = unsure[0]
        return f"{gate.title}: {_small(reason)}"
    of = [t for g in gates if (t := told.get(g.key)) is not None and t[0] not in (PASSES, FALLS, NOT_ENOUGH)]
    if of:
        verdict, reason, _ = of[0]
        return f"{verdict[:1].upper()}{verdict[1:]}: {_small(reason)}"
    clauses = [c for g in gates if g.key in told and (c := g.clause(told[g.key][2]))]
    left = [g for g in gates if g.key not in told]
    if not clauses:
        return "Not proved yet."
    state = "Stands" if not left else "Ready, still sealed" if all(g.opens_holdout for g in left) else "So far"
    text = f"{state}: {'; '.join(clauses)}."
    if state == "So far":
        text += f" {left[0].title} is next."
    if seen:
        text += f" It was kept after its market's holdout had been opened {seen} time{'s' if seen != 1 else ''}."
    return text


def _small(text: str) -> str:
    """As the second half of a sentence; names and abbreviations keep their capitals."""
    return text[:1].lower() + text[1:] if text[1:2].islower() else text
