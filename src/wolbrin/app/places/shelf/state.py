"""What the Shelf place is about: which candidates in which order, groups, saved views, comparison, files. Knows no widget."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Signal

from wolbrin.app.candidates import Candidates
from wolbrin.app.session import Session
from wolbrin.app.soon import Soon
from wolbrin.core.measures.wording import number
from wolbrin.core.store.views import SavedView, remove_view, save_view, views
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.grouping import Beside, beside, group_job
from wolbrin.core.work.shelving import Shelved, export_candidates, shelve_job

GROUPS = {"": "nothing", "family": "idea", "market": "market", "cluster": "behavior", "origin": "origin"}
REST = 250  # milliseconds between two looks while words are written
ALL = "\u0000all"


class ShelfState(Candidates):
    """grouped: groups with counts; compared: a comparison is there; viewed: another view stands;
    views_moved: views were saved or removed."""

    grouped = Signal(object)
    compared = Signal(object)
    viewed = Signal()
    views_moved = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__(session, "Shelf")
        self.by = ""
        self._picked = ALL
        self._words = ""
        self._typed: dict[str, str] = {}
        self._written = Soon(self, REST, self._ask_again)
        self.moved.connect(lambda _: self._count_groups())

    # Filters from several sides

    def ask(self, sort: str, down: bool, filters: dict[str, str]) -> None:
        """Sort and filter otherwise; groups and words stay."""
        self._typed = filters
        super().ask(sort, down, self._filters())

    def _filters(self) -> dict[str, str]:
        found = dict(self._typed)
        if self._words.strip():
            found["words"] = f"{found.get('words', '')} {self._words}".strip()
        if self.by and self._picked != ALL:
            found[self.by] = self._picked
        return found

    def _ask_again(self) -> None:
        self.wanted = replace(self.wanted, filters=self._filters())
        self.look()

    def hold_words(self, text: str) -> None:
        """Only candidates whose rules in words hold all of these."""
        self._words = text
        self._written.ask()

    def only_starred(self, on: bool) -> None:
        """Only those with a star, or all again."""
        self.wanted = replace(self.wanted, starred=on)
        self.look()

    # Groups

    def group_by(self, key: str) -> None:
        """Show groups of a key beside the table; by behavior they are worked out first."""
        self.by, self._picked = key, ALL
        if key == "cluster":
            s = self.session
            s.start(group_job(s.project), "threads", lambda _: self._ask_again())
            return
        self._ask_again()

    def pick_group(self, value: str) -> None:
        """Only candidates of a group; the same again shows all."""
        self._picked = ALL if value == self._picked else value
        self._ask_again()

    def _count_groups(self) -> None:
        if not self.by:
            self.grouped.emit([])
            return
        s, key = self.session, self.by
        bare = replace(self.wanted, filters={k: v for k, v in self.wanted.filters.items() if k != key})

        def work() -> list[tuple[str, str, int]]:
            return [(value, self._title(key, value), n) for value, n in s.shelf.groups(key, bare) if value]

        def done(found: list[tuple[str, str, int]]) -> None:
            if key == self.by:
                self.grouped.emit(found)

        s.compute("Groups", work, done, "groups of the Shelf")

    @staticmethod
    def _title(key: str, value: str) -> str:
        return f"behavior {number(int(value))}" if key == "cluster" else value

    # Views

    def views(self) -> dict[str, SavedView]:
        return views(self.session.project)

    def save_view(self, name: str) -> bool:
        """Keep filters and order under a name. False where that cannot be."""
        w = self.wanted
        view = SavedView(sort=w.sort, down=w.down, filters=dict(w.filters), starred=w.starred, ticked=w.ticked)

        def save() -> bool:
            save_view(self.session.project, name, view)
            return True

        done = bool(self.session.attempt(save))
        self.views_moved.emit()
        return done

    def remove_view(self, name: str) -> None:
        """Forget a saved view; its candidates stay."""
        self.session.attempt(lambda: remove_view(self.session.project, name))
        self.views_moved.emit()
        self.show_view("")

    def show_view(self, name: str) -> None:
        """Show a saved view; everything where there is none of that name."""
        view = self.views().get(name)
        self.wanted = view.wanted if view is not None else Wanted()
        self._typed = {k: v for k, v in self.wanted.filters.items() if k != "words"}
        self._words = self.wanted.filters.get("words", "")
        self._picked = ALL
        self.viewed.emit()
        self.look()

    # Comparison and files

    def compare(self, ids: Sequence[int]) -> None:
        """Two to six candidates side by side."""
        s = self.session

        def work() -> Beside:
            return beside(s.shelf.bodies(ids))

        s.compute("Compare", work, self.compared.emit, "comparison")

    def export(self, ids: Sequence[int], folder: Path) -> None:
        """Write candidates as files."""
        s = self.session

        s.compute("Write files", lambda: len(export_candidates(s.shelf.bodies(ids), folder)),
                  lambda count: s.note(f"{number(count)} files are in {folder}."))

    def take_files(self, paths: Sequence[Path]) -> None:
        """Read strategy files, test each under the present brief, put them on the Shelf."""
        s = self.session
        made = s.attempt(lambda: shelve_job(s.project, paths, s.market, s.interval))
        if made is None:
            return
        job, result = made

        def done(_: object) -> None:
            self._told(result)
            s.shelf_changed.emit()
            s.counts_changed.emit()
            self.look()

        s.start(job, "threads", done, quiet=True)

    def _told(self, result: Shelved) -> None:
        first = f" {result.faults[0]}" if result.faults else ""
        self.session.note(result.words + first, "caution" if result.faults else "note")
