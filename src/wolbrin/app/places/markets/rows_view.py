"""Rows of the files being imported: the first ones as they are read, those that were not taken, stamps that disagree."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtWidgets import QFileDialog, QStackedWidget, QWidget

from wolbrin.app.parts import Choice, button, column, row
from wolbrin.app.places.markets.preview import PreviewTable
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.figures.markets import MARKETS
from wolbrin.core.market.importing.append import Disagreement
from wolbrin.core.market.importing.read import Imported, write_bad_rows
from wolbrin.core.market.importing.tables import BadRow
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.market.quality import stamp
from wolbrin.core.measures.wording import number
from wolbrin.core.work.starting import Spans

FIRST, BAD, DIFFER = 0, 1, 2


def read_words(read: Sequence[Imported], spans: Spans | None) -> list[str]:
    """What came of reading, in sentences: of one market's files, or of contract months read each for itself."""
    first = read[0]
    kind = interval_words(first.raw.interval) + " bars" if first.raw.interval else "ticks"
    words = [f"{number(sum(len(i.raw) for i in read))} {kind}, {stamp(int(min(i.raw.time[0] for i in read)))[:10]} to "
             f"{stamp(int(max(i.raw.time[-1] for i in read)))[:10]} UTC; {number(sum(i.bad_count for i in read))} rows could "
             "not be read."]
    if spans is not None:
        words.append(f"Training until {spans.border}, the rest is sealed.")
    return words + ([n[0].upper() + n[1:] + "." for n in first.notes] if len(read) > 1 else [])


class RowsView(QWidget):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.preview = PreviewTable(session.theme)
        self.bad = Table([
            Column("file", lambda b: b.file, width=110), Column("row", lambda b: b.row, lambda b: number(b.row), "right", 56,
                                                                figure=MARKETS["market.row"]),
            Column("why it was not taken", lambda b: b.reason, width=260), Column("the row", lambda b: b.text, width=160),
        ], session.theme, "Rows that were not taken", stretch=2)
        self.differ = Table([
            Column("when (UTC)", lambda d: d.time, lambda d: stamp(d.time), width=120),
            Column("in the project", lambda d: " ".join(f"{p:g}" for p in d.old), width=180),
            Column("in the file", lambda d: " ".join(f"{p:g}" for p in d.new), width=180),
        ], session.theme, "Stamps that disagree", stretch=2)
        self.tables = QStackedWidget()
        for table in (self.preview, self.bad, self.differ):
            self.tables.addWidget(table)
        self.show_as = Choice([("first rows", FIRST), ("bad rows", BAD), ("disagreements", DIFFER)], FIRST, "Show")
        self.show_as.chosen.connect(lambda i: self.tables.setCurrentIndex(i))
        self.save_bad = button("Save bad rows \u2026", self.export_bad)
        made = column(row(self.show_as, None, self.save_bad), self.tables, spacing=6)
        made.setStretch(1, 1)
        self.setLayout(made)
        self.save_bad.hide()

    def turn_to(self, index: int) -> None:
        self.show_as.set(index)
        self.tables.setCurrentIndex(index)

    def show_result(self, bad: Sequence[BadRow], differ: Sequence[Disagreement]) -> None:
        """List what was not taken and what disagrees, and turn to what needs looking at."""
        self.bad.set_records(bad)
        self.differ.set_records(differ)
        self.save_bad.setVisible(bool(bad))
        self.turn_to(DIFFER if differ else BAD if bad else FIRST)

    def export_bad(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Save bad rows", "bad-rows.csv", "CSV (*.csv)")
        if path:
            self.write_bad(Path(path))

    def write_bad(self, path: Path) -> None:
        """Write the listed bad rows as CSV."""
        self.session.attempt(lambda: write_bad_rows(path, self.bad.model.records))
