"""Which candidates a command is about: named, or those that filters let through, or the proved ones."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import typer

from wolbrin.cli.common import pick
from wolbrin.core.errors import UserError
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.store.project import Project
from wolbrin.core.store.shelf import Kept, Shelf
from wolbrin.core.store.wanted import NUMBERS, TEXTS, Wanted
from wolbrin.core.work.standing import proved_ids, restand

NAMES = typer.Argument(None, help="Ids or names of candidates on the Shelf; the proved ones when left out: those that stand, "
                                  "or else are ready.")
WHERE = typer.Option([], "--where", help='Candidates that are meant, such as "standing = ready", "profit_factor >= 1.5".')
FILTER = re.compile(r"^\s*([a-z_]+)\s*(<=|>=|<|>|=|:|contains)\s*(.+?)\s*$", re.I)
STANDING = {"standing": "stands"}


def filters_of(texts: list[str]) -> dict[str, str]:
    """Read "profit_factor>=1.5", "words:RSI". Raises UserError."""
    out: dict[str, str] = {}
    for text in texts:
        found = FILTER.match(text)
        key = found[1].casefold() if found else ""
        if not found or key not in (*TEXTS, *NUMBERS, *SUMMARY):
            raise UserError(f'"{text}" is not a filter', "--filter",
                            "Write for example profit_factor>=1.5 or words:RSI; keys are "
                            f"{', '.join([*TEXTS, *NUMBERS, *SUMMARY])}.")
        value = found[3] if found[2] in (":", "=", "contains") else f"{found[2]} {found[3]}"
        out[key] = f"{out[key]} {value}" if key in out and key in TEXTS else value
    return out


@dataclass(frozen=True)
class Meant:
    """kept: the candidates; words: how they were chosen."""

    kept: list[Kept]
    words: str

    @property
    def ids(self) -> list[int]:
        return [k.id for k in self.kept]


def _standing(text: str) -> str:
    """ "standing = ready" as the Shelf's filters have it."""
    for word, key in STANDING.items():
        if text.strip().casefold().startswith(word):
            return key + text.strip()[len(word):]
    return text


def meant(project: Project, names: Sequence[str] | None, where: Sequence[str], stands: str = "") -> Meant:
    """The candidates of a command, by return over drawdown where they are not named. stands: how those stand that are meant
    where nothing is said; the proved ones when left out.

    Raises:
        UserError: a name is not there, one stands twice, names and filters are both given, or there is nothing to take.
    """
    if names and where:
        raise UserError("candidates are named and filtered at once", "--where", "Name them, or say which are meant.")
    if names:
        return Meant(pick(project, list(names), once=True), "named")
    restand(project)
    shelf = Shelf(project)
    if where:
        asked = filters_of([_standing(t) for t in where])
        found = shelf.ids(Wanted("return_drawdown", True, asked, stands=asked.pop("stands", ""))).tolist()
        words = f"where {', '.join(t.strip() for t in where)}"
    else:
        found = shelf.ids(Wanted("return_drawdown", True, stands=stands)).tolist() if stands else proved_ids(project)
        words = f"all that are {stands or 'proved'}"
    if not found:
        raise UserError(f"there is no candidate among the {shelf.count():,} on the Shelf ({words})", str(project.folder),
                        "Prove some first, or name candidates by their ids.")
    return Meant(shelf.bodies(found), words)
