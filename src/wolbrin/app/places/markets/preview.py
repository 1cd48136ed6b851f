"""The preview table: first rows of a file, with the role of each column chosen above it."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QComboBox

from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.app.theme.theme import Theme, font
from wolbrin.app.theme.tokens import SMALL
from wolbrin.core.figures.markets import MARKETS
from wolbrin.core.market.importing.files import Piece, first_lines
from wolbrin.core.market.importing.guess import split_line
from wolbrin.core.market.importing.layout import ROLES, Layout
from wolbrin.core.market.importing.preview import Preview, PreviewRow

LEADING = 3  # row number, time in UTC and fault stand before the file's own columns


def _field(index: int) -> Column:
    return Column(f"column {index + 1}", lambda r, i=index: r.fields[i] if i < len(r.fields) else "", width=84,
                  tint=lambda r: "loss" if r.fault else None)


class PreviewTable(Table):
    """`roles` are chosen by combo boxes over the columns."""

    roles_changed = Signal()

    def __init__(self, theme: Theme) -> None:
        self.boxes: list[QComboBox] = []
        self._leading = [
            Column("row", lambda r: r.number, lambda r: f"{r.number:,}", "right", 48, figure=MARKETS["market.row"]),
            Column("UTC", lambda r: r.utc, lambda r: r.utc or "\u2013", width=158, tint=lambda r: None if r.utc else "loss"),
            Column("fault", lambda r: r.fault, width=110, tint=lambda r: "loss")]
        super().__init__(list(self._leading), theme, "First rows of the file", filters=True)
        self.grid.setSortingEnabled(False)

    def remake_filters(self) -> None:
        """Roles stand where other tables have their filters."""
        for old in (*self._filters, *self.boxes):
            old.hide()
            old.deleteLater()
        self._filters, self.boxes = [], []
        for i in range(max(0, len(self.model.columns) - LEADING)):
            box = QComboBox(self._bar)
            box.addItems(ROLES)
            box.setFont(font(SMALL))
            box.setAccessibleName(f"Column {i + 1} is read as")
            box.currentIndexChanged.connect(lambda _: self.roles_changed.emit())
            self.boxes.append(box)
        self._place_filters()

    def _place_filters(self) -> None:
        header = self.grid.horizontalHeader()
        for i, box in enumerate(self.boxes):
            at = LEADING + i
            box.setGeometry(header.sectionViewportPosition(at) + 2, 1, max(10, header.sectionSize(at) - 4), 23)
            box.setVisible(not header.isSectionHidden(at))

    def _sort(self, column: int) -> None:
        """Rows stay in the order of the file."""

    def roles(self) -> list[str]:
        return [box.currentText() for box in self.boxes]

    def set_roles(self, roles: list[str]) -> None:
        """Show columns with these roles."""
        if len(roles) != len(self.boxes):
            self.model.beginResetModel()
            self.model.columns = [*self._leading, *(_field(i) for i in range(len(roles)))]
            self.model.records, self.model.shown = [], []
            self.model.endResetModel()
            self.remake_filters()
            header = self.grid.horizontalHeader()
            for i, c in enumerate(self.model.columns):
                header.resizeSection(i, c.width)
        for box, role in zip(self.boxes, roles):
            blocked = box.blockSignals(True)
            box.setCurrentText(role)
            box.blockSignals(blocked)
        self._place_filters()

    @staticmethod
    def columns_of(piece: Piece, delimiter: str, skip: int) -> int:
        """How many columns a file has under a delimiter."""
        lines = [line for line in first_lines(piece, skip + 40)[skip:] if line.strip()]
        counts = [len(split_line(line, delimiter)) for line in lines] or [1]
        return min(256, max(set(counts), key=counts.count))

    def show_preview(self, shown: Preview | None, layout: Layout | None) -> None:
        """Fill the table; None empties it."""
        if shown is None or layout is None:
            self.set_roles([])
            self.set_records([])
            return
        self.model.beginResetModel()
        named = [Column(name[:24], c.value, width=84, tint=c.tint) for name, c in zip(
            shown.names, (_field(i) for i in range(len(layout.columns))))]
        self.model.columns = [*self._leading, *named]
        self.model.endResetModel()
        rows: tuple[PreviewRow, ...] = shown.rows
        self.set_records(rows)
        header = self.grid.horizontalHeader()
        for i in range(len(layout.columns)):
            longest = max((len(r.fields[i]) for r in rows if i < len(r.fields)), default=4)
            header.resizeSection(LEADING + i, max(78, min(190, 14 + 8 * longest)))
        self.grid.setColumnHidden(2, not shown.faults)
        self._place_filters()
