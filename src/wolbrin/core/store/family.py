"""Variants of variants as a tree."""

from __future__ import annotations

from collections.abc import Sequence

from wolbrin.core.store.project import StrategyEntry


def tree(entries: Sequence[StrategyEntry], of: int) -> list[tuple[int, StrategyEntry]]:
    """Depth and entry of every member of the family that strategy `of` belongs to, a parent before its variants."""
    by_id = {e.id: e for e in entries}
    if of not in by_id:
        return []
    root, seen = of, {of}
    while (up := by_id[root].parent) in by_id and up not in seen:
        root = int(up or 0)
        seen.add(root)
    found: list[tuple[int, StrategyEntry]] = []

    def walk(id: int, depth: int) -> None:
        if any(e.id == id for _, e in found):
            return
        found.append((depth, by_id[id]))
        for e in entries:
            if e.parent == id:
                walk(e.id, depth + 1)

    walk(root, 0)
    return found
