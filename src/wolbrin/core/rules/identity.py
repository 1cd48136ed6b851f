"""The hash that says two strategies trade alike."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from wolbrin.core.rules.model import EntryOrder, Filters, Sizing, Strategy

# Fields that came after version 1 do not count while they stand at their defaults, so that evidence gathered before
# them stays with its strategy.
_LATER: dict[str, Any] = {
    "trail": None, "break_even": None, "sizing": Sizing().model_dump(mode="json"),
    "filters": Filters().model_dump(mode="json"), "order": EntryOrder().model_dump(mode="json"),
    "interval": None, "market": None, "level": None, "short_level": None, "upper": None, "over": 20, "when": "now",
    "for_bars": 1, "back": 0, "least": 1, "schedule": None}


def _plain(node: Any) -> Any:
    if isinstance(node, dict):
        if set(node) == {"is", "value"}:
            return node["value"]  # what a number is called does not matter to what is traded
        if "rows" in node and node.get("on"):
            node = {k: v for k, v in node.items() if k != "on"}
        return {k: _plain(v) for k, v in node.items() if not (k in _LATER and v == _LATER[k])}
    return [_plain(v) for v in node] if isinstance(node, list) else node


def shape_of(strategy: Strategy) -> str:
    """Hex digest of rules whatever their numbers: what stays the same while somebody tries other values."""
    def bare(node: Any) -> Any:
        if isinstance(node, dict):
            return {k: bare(v) for k, v in node.items()}
        if isinstance(node, list):
            return [bare(v) for v in node]
        return 0 if isinstance(node, int | float) and not isinstance(node, bool) else node

    data = bare(_plain(strategy.model_dump(mode="json", exclude={"name", "notes", "parameters", "schedule"})))
    return hashlib.sha256(json.dumps(data, separators=(",", ":"), sort_keys=True).encode()).hexdigest()[:16]


def strategy_hash(strategy: Strategy) -> str:
    """Hex digest of what is traded; names and notes do not count."""
    data = _plain(strategy.model_dump(mode="json", exclude={"name", "notes", "parameters"})) | {"version": 1}
    text = json.dumps(data, separators=(",", ":"), ensure_ascii=False)
    return hashlib.sha256(text.encode()).hexdigest()[:16]
