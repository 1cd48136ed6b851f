"""Whole numbers as people and files write them."""

from __future__ import annotations

import re

WHOLE = re.compile(r"[0-9]{1,18}")


def whole_of(text: str) -> int | None:
    """The whole number that a text of plain digits writes; None where it writes none.

    Digits of other scripts, raised ones ("²", for which `str.isdigit` says yes and `int` no) and numbers of more than 18
    digits are none.
    """
    return int(text) if WHOLE.fullmatch(text) else None
