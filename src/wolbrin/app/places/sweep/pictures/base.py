"""What all pictures of a sweep share: which measure they show, how they are copied and written."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import Signal
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QWidget

from wolbrin.app.parts import save_picture
from wolbrin.app.places.sweep.state import Seen
from wolbrin.app.session import Session
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import DIGITS

Floats = NDArray[np.float64]
LOOKED, PLATEAU = "looked for", "plateau"
CENTERS = {"profit_factor": 1.0, "win_rate": 50.0}


def values_of(seen: Seen, key: str) -> Floats:
    """float64[rows of the reading]: the measure that is shown; what is looked for is as its measure is read."""
    r = seen.reading
    if key in (LOOKED, PLATEAU):
        raw = r.score if key == LOOKED else r.median
        terms = r.request.objective.terms
        return -raw if len(terms) == 1 and BY_KEY[terms[0].key].better < 0 else raw
    return r.columns[key]


def title_of(seen: Seen, key: str) -> str:
    """What the measure is called."""
    looked = seen.reading.request.objective
    name = "score" if looked.blended else BY_KEY[looked.terms[0].key].title
    return name if key == LOOKED else f"plateau score ({name})" if key == PLATEAU else BY_KEY[key].title


def digits_of(seen: Seen, key: str) -> int:
    """Decimals that the measure is shown with."""
    looked = seen.reading.request.objective
    if key in (LOOKED, PLATEAU):
        if looked.blended:
            return 2
        key = looked.terms[0].key
    digits = BY_KEY[key].digits
    return DIGITS[BY_KEY[key].unit] if digits is None else digits


def center_of(seen: Seen, key: str, values: Floats) -> float:
    """Where a ramp of the measure turns: at nothing gained, else in the middle."""
    looked = seen.reading.request.objective
    if key in (LOOKED, PLATEAU) and not looked.blended:
        key = looked.terms[0].key
    known = values[np.isfinite(values)]
    middle = float(np.median(known)) if len(known) else 0.0
    if key in (LOOKED, PLATEAU, "trades", "exposure") or (key in BY_KEY and BY_KEY[key].better < 0):
        return middle
    return CENTERS.get(key, 0.0)


class Picture(QWidget):
    """One picture. picked: a row of the reading; marked: a region by axis, to be looked at more closely; wanted: a filter
    that was drawn, as (column of the table, text)."""

    key = ""
    title = ""
    picked = Signal(int)
    marked = Signal(object)
    wanted = Signal(int, str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.seen: Seen | None = None
        self.measure = LOOKED

    def offered(self, seen: Seen) -> bool:
        """Whether there is something to show of such a sweep."""
        return len(seen.reading.request.axes) > 0

    def show_seen(self, seen: Seen, measure: str) -> None:
        """Show these rows of a sweep by a measure."""
        fresh = self.seen is None or self.seen.reading is not seen.reading
        self.seen, self.measure = seen, measure
        self.draw(fresh)

    def draw(self, fresh: bool) -> None:
        """Draw `seen`. fresh: it is of another reading than the last."""
        raise NotImplementedError

    def copy(self) -> None:
        """The picture to the clipboard."""
        QGuiApplication.clipboard().setPixmap(self.grab())

    def write(self, path: Path) -> None:
        """The picture as a file."""
        def act() -> None:
            save_picture(self, path)
            self.session.note(f"{path.name} is written.")

        self.session.attempt(act)
