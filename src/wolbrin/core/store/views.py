"""Views of the Shelf that were saved under a name: filters, order, and which group."""

from __future__ import annotations

from pydantic import Field, ValidationError

from wolbrin.core.errors import UserError
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.models import Model
from wolbrin.core.store.database import Database
from wolbrin.core.store.wanted import NUMBERS, TEXTS, Wanted

KEY = "shelf views"
MOST = 200


class SavedView(Model):
    """What a view shows. filters: by key, as people write them."""

    sort: str = Field("id", max_length=40)
    down: bool = False
    filters: dict[str, str] = Field({}, max_length=60)
    starred: bool = False
    ticked: bool = False

    @property
    def wanted(self) -> Wanted:
        """As the Shelf is asked; what today's program does not know is left out."""
        known = (*TEXTS, *NUMBERS, *SUMMARY)
        return Wanted(self.sort if self.sort in known else "id", self.down,
                      {k: v for k, v in self.filters.items() if k in known}, self.ticked, starred=self.starred)


def views(db: Database) -> dict[str, SavedView]:
    """Saved views by name; one that cannot be read is left out."""
    found = {}
    for name, data in db.get_value(KEY, {}).items():
        try:
            found[name] = SavedView.model_validate(data)
        except ValidationError:
            continue
    return found


def save_view(db: Database, name: str, view: SavedView) -> None:
    """Keep a view under a name, in place of one of that name. Raises UserError."""
    name = " ".join(name.split())
    if not 1 <= len(name) <= 60:
        raise UserError("the name of a view has 1 to 60 characters", "view", "Write another name.")
    kept = db.get_value(KEY, {})
    if len(kept) >= MOST and name not in kept:
        raise UserError(f"there are {MOST} views already", "view", "Remove one first.")
    db.set_value(KEY, kept | {name: view.model_dump()})


def remove_view(db: Database, name: str) -> None:
    """Forget a view. Raises UserError where there is none of that name."""
    kept = db.get_value(KEY, {})
    if name not in kept:
        raise UserError(f'there is no view "{name}"', "view", f"There are {', '.join(kept) or 'none'}.")
    db.set_value(KEY, {k: v for k, v in kept.items() if k != name})
