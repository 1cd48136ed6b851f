"""A project's settings, and what guards them: a border that moves after work was done is spent, never slipped."""

from __future__ import annotations

import datetime as dt

from pydantic import ValidationError

from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.store.database import Database, now
from wolbrin.core.store.holdout import BORDER, END, HoldoutBook, Opening
from wolbrin.core.store.markets import Markets
from wolbrin.core.store.settings import Settings


class Config:
    """Reads and writes the settings in a project's database."""

    def __init__(self, db: Database, book: HoldoutBook, markets: Markets) -> None:
        self.db = db
        self.book = book
        self.markets = markets

    def read(self) -> Settings:
        """The settings as they are; the usual ones where none were kept yet."""
        found = self.db.rows("SELECT value FROM settings WHERE key = 'project'")
        try:
            return Settings.model_validate_json(found[0]["value"]) if found else Settings()
        except ValidationError as err:
            raise explain(err, f"{self.db.path}, settings") from None

    def keep(self, settings: Settings, spend: str = "") -> bool:
        """Keep new settings. Returns whether the border moved, so that histories end elsewhere now.

        spend: why the border is moved although work was done. It spends the holdout for all that was found before; without
        a reason such a move is refused.
        Raises:
            UserError: the border would move after work was done, or lie outside all data. Nothing was changed.
        """
        there = self.db.rows("SELECT value FROM settings WHERE key = 'project'")
        old = self.read()
        moved = bool(there) and settings.holdout_first != old.holdout_first
        if moved:
            self._check_border(settings.holdout_first)
            if self.worked() and not spend.strip():
                raise UserError(f"the border cannot move from {old.holdout_first} to {settings.holdout_first}: work was done "
                                "with it", "holdout", "Leave it, or move it on purpose and say why: that spends the holdout "
                                "for everything found so far.")
        with self.db.transaction() as db:
            if moved and self.worked():
                why = spend.strip()[:500]
                self.book.move(now(), old.holdout_first, settings.holdout_first, why)
                both = sorted((old.holdout_first, settings.holdout_first))
                self.book.add(Opening(now(), f"border moved from {old.holdout_first} to {settings.holdout_first}: {why}",
                                      BORDER, first=str(both[0]), last=str(both[1]), batch=self.book.next_batch()))
            if there and settings.last != old.last and self.worked():
                self.book.add(Opening(now(), f"data until moved from {old.last} to {settings.last}", END))
            db.execute("INSERT OR REPLACE INTO settings VALUES ('project', ?)", (settings.model_dump_json(),))
        return moved

    def worked(self) -> bool:
        """Whether anything was searched, kept, judged or opened, so that the border has a meaning."""
        return any(self.db.rows(f"SELECT 1 FROM {table} LIMIT 1")
                   for table in ("searches", "candidates", "runs", "evidence", "judged", "openings"))

    def _check_border(self, border: dt.date) -> None:
        markets = self.markets.all()
        if markets and not any(m.first[:10] < str(border) <= m.last[:10] for m in markets):
            raise UserError(f"the border {border} lies outside the data, which reaches from "
                            f"{min(m.first[:10] for m in markets)} to {max(m.last[:10] for m in markets)}", "holdout",
                            "Choose a day inside it, so that there is something to train on and something to seal.")
