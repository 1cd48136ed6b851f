"""Text for spreadsheets: what would be read as a formula is written so that it is shown (OWASP, CSV injection)."""

from __future__ import annotations

FORMULA = ("=", "+", "-", "@", "\t", "\n")
MOST_ROWS = 1_048_575  # of a sheet, its header apart (ECMA-376 spreadsheets)


def plain(text: str) -> str:
    """A cell of text that no spreadsheet takes for a formula: an apostrophe stands before what begins like one, numbers
    apart."""
    text = text.replace("\r\n", "\n").replace("\r", "\n")  # a bare return would end the row for some readers
    if not text.startswith(FORMULA):
        return text
    try:
        float(text)
    except ValueError:
        return "'" + text
    return text
