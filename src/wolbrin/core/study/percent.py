"""What is in percent of price, and so comes to other amounts on controls whose path is free."""

from __future__ import annotations

from typing import Any

from wolbrin.core.market.costs import Costs
from wolbrin.core.market.terms import Terms
from wolbrin.core.models import Model

NAMES = {"stop": "stops", "target": "targets", "trail": "trailing stops", "break_even": "break even", "sizing": "sizes"}


def _percent(part: Any) -> bool:
    """Whether a distance somewhere in a part is in percent of price, or a size in what is held."""
    if isinstance(part, dict):
        if part.get("unit") == "percent" or part.get("kind") in ("percent", "notional"):
            return True
        return any(_percent(p) for p in part.values())
    return isinstance(part, list | tuple) and any(_percent(p) for p in part)


def percent_words(rules: Model, flat: bool, costs: Costs, terms: Terms) -> str:
    """A sentence about rules (or limits of a search), no stop at the end; "" where nothing is in percent, or where everything
    is flat by session end, since sessions of controls begin at the real prices then."""
    if flat and terms.scheduled:
        return ""
    data = rules.model_dump()
    kept = data.get("strategy") or {}
    parts = [name for key, name in NAMES.items() if _percent(data.get(key)) or _percent(kept.get(key))]
    if costs.percent:
        parts.append("the commission")
    if terms.margin.leverage:
        parts.append("the margin")
    if not parts:
        return ""
    return f"In percent of price, and so of other amounts on controls, whose prices go other ways: {', '.join(parts)}"
