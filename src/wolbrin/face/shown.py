"""How results show themselves: one line in a terminal, a small table in a notebook."""

from __future__ import annotations

from collections.abc import Iterable
from html import escape
from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

MOST = 160  # letters of one line


def short(text: str, most: int = MOST) -> str:
    """Text that fits one line."""
    text = " ".join(text.split())
    return text if len(text) <= most else text[:most - 1] + "\u2026"


class Told:
    """Base of what the face gives. `_title()`: one line; `_rows()`: what a notebook shows below it, name and words."""

    def _title(self) -> str:
        raise NotImplementedError

    def _rows(self) -> Iterable[tuple[str, str]]:
        return ()

    def __repr__(self) -> str:
        return short(self._title())

    def _repr_html_(self) -> str:
        rows = "".join(f"<tr><td>{escape(name)}</td><td style='text-align:right'>{escape(words)}</td></tr>"
                       for name, words in self._rows())
        return f"<div><b>{escape(short(self._title()))}</b>{f'<table>{rows}</table>' if rows else ''}</div>"


def frame(columns: dict[str, Any], index: str | None = None) -> pd.DataFrame:
    """Named columns as a frame; datetime64 in UTC. index: the column that becomes it."""
    made = pd.DataFrame({k: _column(v) for k, v in columns.items()})
    return made.set_index(index) if index is not None else made


def _column(values: Any) -> Any:
    array = np.asarray(values)
    return pd.DatetimeIndex(array.astype("datetime64[ns]")).tz_localize("UTC") if array.dtype.kind == "M" else array


def dated(days: NDArray[np.int32]) -> pd.DatetimeIndex:
    """Trading dates (int32, days since 1970) as an index."""
    return pd.DatetimeIndex(days.astype("datetime64[D]").astype("datetime64[ns]"), name="date")
