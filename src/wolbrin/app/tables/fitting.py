"""How a table shares its width: headings whole, then names, and what matters least gives way."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from wolbrin.app.tables.model import Column

ROOM = 18  # pixels beside a heading's text
NAME = 170  # pixels of a name of usual length
MOST = 460  # pixels that one column of words may take


def shared(columns: Sequence[Column], width: int, heading: Callable[[int], int], wanted: Callable[[int], int],
           shown: Callable[[int], bool | None], fixed: dict[int, int]) -> dict[int, int]:
    """Widths of the columns that are shown, by place; one that is missing is hidden.

    width: of the table. heading: pixels of a column's heading; wanted: of its widest text that is in sight.
    shown: what the user said of a column, None for nothing. fixed: widths that the user has set.
    """
    base = {i: fixed.get(i) or max(c.width, heading(i) + ROOM if c.title else 0)
            for i, c in enumerate(columns) if shown(i) is not False}
    # A name of usual length is worth more than what matters less: from the least important one, of equals the last.
    name = next((i for i, c in enumerate(columns) if i in base and c.kind == "text" and c.align == "left"), -1)
    wish = max(0, min(wanted(name), NAME) - base[name]) if name >= 0 and name not in fixed else 0
    for i in sorted((i for i in base if columns[i].rank and shown(i) is None), key=lambda i: (-columns[i].rank, -i)):
        if sum(base.values()) + wish <= width:
            break
        del base[i]
    left = width - sum(base.values())
    for i, c in enumerate(columns):
        if left <= 0:
            break
        if i in base and i not in fixed and c.kind == "text" and c.align == "left":
            more = min(max(0, min(wanted(i) + ROOM // 2, MOST) - base[i]), left)
            base[i] += more
            left -= more
    return base
