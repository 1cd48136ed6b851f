"""The hash that says two strategies trade alike."""

from __future__ import annotations

import hashlib

from wolbrin.core.rules.model import Strategy


def strategy_hash(strategy: Strategy) -> str:
    """Hex digest of what is traded; name and notes do not count."""
    text = strategy.model_dump_json(exclude={"name", "notes"})
    return hashlib.sha256(text.encode()).hexdigest()[:16]
