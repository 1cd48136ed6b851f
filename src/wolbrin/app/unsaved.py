"""Changes that could not be kept when they were made: held in the window, marked, tried again, or put elsewhere."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from wolbrin.core.errors import Door, EnvironmentTrouble, WolbrinError
from wolbrin.core.store.strategies import OvertakenError
from wolbrin.core.written import safe_name, write_text

AGAIN = 3000  # milliseconds between two tries by themselves


@dataclass
class Change:
    """One change. value: what was changed to, as its owner shows it. act: keeps it; raises what keeps it from being kept.
    file, text: as what it can be put elsewhere. quiet: nobody is asked about it. as_new, theirs: the two ways out of a
    change of something that another program has changed. later: begins another try beside the window, after which its owner
    drops it or holds it anew; it has no act then."""

    title: str
    value: Any
    act: Callable[[], None] = lambda: None
    file: str = ""
    text: str = ""
    quiet: bool = False
    as_new: Callable[[], None] | None = None
    theirs: Callable[[], None] | None = None
    later: Callable[[], None] | None = None
    error: WolbrinError | None = None

    @property
    def overtaken(self) -> bool:
        """Whether trying again is of no use."""
        return isinstance(self.error, OvertakenError)


class Unsaved(QObject):
    """What is not saved, by key. note(text, kind, door) says something to the user."""

    changed = Signal()

    def __init__(self, note: Callable[[str, str, Door | None], None]) -> None:
        super().__init__()
        self.waiting: dict[Hashable, Change] = {}
        self._note = note
        self._timer = QTimer(self, interval=AGAIN)
        self._timer.timeout.connect(self.try_again)

    def keep(self, key: Hashable, change: Change) -> bool:
        """Keep a change now; where that cannot be, hold it in the place of an older one of the same key. Whether it is kept.

        Raises:
            UserError: what it asks for cannot be.
        """
        known = self.waiting.get(key)
        if not self._try(change):
            self.waiting[key] = change
            if not change.overtaken:
                self._timer.start()
            if known is None and not change.quiet:
                assert change.error is not None
                why = change.error.what.partition(":")[0]
                then = "Choose what stays." if change.overtaken else "It is saved as soon as that can be done."
                self._note(f"Not saved, and kept in this window: {change.title}. {why[:1].upper()}{why[1:]}. {then}", "error",
                           None)
            self.changed.emit()
            return False
        if known is not None:
            self.drop(key)
        if self.waiting:
            self.try_again()
        return True

    def hold(self, key: Hashable, change: Change) -> None:
        """Hold a change that was tried elsewhere and could not be kept."""
        self.waiting[key] = change
        self._timer.start()
        self.changed.emit()

    @staticmethod
    def _try(change: Change) -> bool:
        try:
            change.act()
        except (EnvironmentTrouble, OvertakenError) as err:
            change.error = err
            return False
        return True

    def try_again(self) -> bool:
        """Try what is waiting, the oldest first, until one cannot be kept. Whether nothing is left that asks for the user."""
        saved = []
        for key, change in list(self.waiting.items()):
            if change.overtaken:
                continue
            if change.later is not None:
                change.later()
                continue
            if not self._try(change):
                break
            self.drop(key)
            saved += [] if change.quiet else [change.title]
        if saved:
            self._note(f"Saved now: {', '.join(saved)}.", "note", None)
        return not self.asking()

    def drop(self, key: Hashable) -> None:
        """A change is no longer wanted, or is kept."""
        self.waiting.pop(key, None)
        if all(c.overtaken for c in self.waiting.values()):
            self._timer.stop()
        self.changed.emit()

    def stop(self) -> None:
        """The window is going: nothing is tried any more."""
        self._timer.stop()

    def value(self, key: Hashable) -> Any:
        """What a change that waits has changed to; None where there is none."""
        found = self.waiting.get(key)
        return None if found is None else found.value

    def asking(self) -> list[Change]:
        """Changes that the user has to know of."""
        return [c for c in self.waiting.values() if not c.quiet]

    def put_elsewhere(self, folder: Path) -> list[Path]:
        """Write what is not saved as files into a folder; they stay marked. Returns the files.

        Raises:
            EnvironmentTrouble: one cannot be written.
        """
        made: list[Path] = []
        for change in self.asking():
            if not change.text:
                continue
            stem = safe_name(change.file, "change")
            path = next(p for i in range(1, 10_000) if not (p := folder / f"{stem}{f' {i}' if i > 1 else ''}.json").exists())
            write_text(path, change.text)
            made.append(path)
        return made
