"""The three kinds of trouble, told apart by exception type.

`UserError` is what the user can mend (a sentence beside the field), `EnvironmentTrouble` is the machine's
(disk, permissions, a damaged file). Anything else is ours: logged, and shown once.
"""

from __future__ import annotations

from typing import NamedTuple


class Door(NamedTuple):
    """The action that mends a trouble. words: what it does, such as "Give NPW its sessions". at: the setting it leads to."""

    words: str
    at: str


class WolbrinError(Exception):
    """A trouble that is told in one sentence: what is wrong, where, and what to do.

    Args:
        what: the fault, without a full stop.
        where: file, row, field or bar; may be empty.
        remedy: what the user can do; may be empty. door: the action that mends it, where the window has one.
    """

    def __init__(self, what: str, where: str = "", remedy: str = "", door: Door | None = None) -> None:
        self.what = what
        self.where = where
        self.remedy = remedy
        self.door = door
        super().__init__(self.sentence())

    def __reduce__(self) -> tuple[type, tuple[str, str, str, Door | None]]:
        # All fields must survive the way back from a worker process.
        return type(self), (self.what, self.where, self.remedy, self.door)

    def sentence(self) -> str:
        head = f"{self.where}: {self.what}" if self.where else self.what
        head = head if head.endswith((".", "?")) else head + "."
        return f"{head} {self.remedy}".strip()


class UserError(WolbrinError):
    """Something the user gave cannot be used as it is."""


class EnvironmentTrouble(WolbrinError):  # noqa: N818 - the word the house uses
    """The machine or a file on it stands in the way."""


class NothingOpened(EnvironmentTrouble):
    """An opening or its verdicts could not have been written down, so that no sealed bar was read."""
