"""Text for spreadsheets: what would be read as a formula is written so that it is shown (OWASP, CSV injection)."""

from __future__ import annotations

import re

FORMULA = ("=", "+", "-", "@", "\t", "\n")
UNSEEN = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f]")  # no cell may hold them (XML 1.0, 2.2)
MOST_ROWS = 1_048_575  # of a sheet, its header apart (ECMA-376 spreadsheets)


def plain(text: str) -> str:
    """A cell of text that no spreadsheet takes for a formula: an apostrophe stands before what begins like one, numbers
    apart."""
    text = text.replace("\r\n", "\n").replace("\r", "\n")  # a bare return would end the row for some readers
    text = UNSEEN.sub("", text)
    if not text.startswith(FORMULA):
        return text
    try:
        float(text)
    except ValueError:
        return "'" + text
    return text
