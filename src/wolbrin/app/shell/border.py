"""Moving the border after work was done: said in words, done on purpose, with a reason that is kept."""

from __future__ import annotations

import datetime as dt

from PySide6.QtWidgets import QLineEdit, QWidget

from wolbrin.app.parts import Popup, button, label, row
from wolbrin.app.session import Session
from wolbrin.core.measures.wording import number
from wolbrin.core.work.standing import unjudged


class BorderPopup(Popup):
    """Asks whether the border shall really move; the button waits for a reason."""

    def __init__(self, session: Session, border: dt.date, parent: QWidget) -> None:
        super().__init__(parent)
        self.setAccessibleName("Move the border")
        old, waiting = session.project_settings.holdout_first, unjudged(session.project)
        self._session, self._border = session, border
        self.body.addWidget(label(f"Move the border from {old:%d %b %Y} to {border:%d %b %Y}?", "heading"))
        opens = ("Sealed bars become training bars." if border > old else
                 "Bars that searches have trained on would be sealed; they never count as unseen.")
        words = label(f"{opens} Work was done with the present border, so moving it spends the holdout for everything found "
                      f"so far: {number(waiting)} candidates on the Shelf that have no verdict yet can no longer stand. "
                      "Verdicts already given stay. The move is written down and counted as an opening.", "", wrap=True)
        words.setFixedWidth(400)
        self.body.addWidget(words)
        self.why = QLineEdit()
        self.why.setPlaceholderText("why, in a few words; kept with the move")
        self.why.setAccessibleName("Why the border moves")
        self.go = button("Move and spend the holdout", self._move)
        self.go.setEnabled(False)
        self.why.textChanged.connect(lambda text: self.go.setEnabled(bool(text.strip())))
        self.why.returnPressed.connect(lambda: self._move() if self.go.isEnabled() else None)
        self.body.addWidget(self.why)
        self.body.addLayout(row(self.go, None, button("Leave it", self.close, main=True)))

    def _move(self) -> None:
        why = self.why.text().strip()
        self.close()
        self._session.change_settings(spend=why, holdout_first=self._border)
