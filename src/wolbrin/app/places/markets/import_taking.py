"""Taking in what the import page has read: all of it, or nothing, once every question is answered."""

from __future__ import annotations

from typing import Any

from wolbrin.app.places.markets.import_parts import ImportParts
from wolbrin.core.market.importing.grouping import clean_code
from wolbrin.core.measures.wording import number


class ImportTaking(ImportParts):
    def take(self: Any) -> None:
        """Keep what was read: all of it, or nothing."""
        source, keep, look = self.source.text().strip(), str(self.keep.currentData()), self.look
        self._taking = self._soon.isActive() or look.judging
        if self._taking:  # what was just said is judged first
            if self._soon.isActive():
                self._soon.stop()
                self._judge()
            return
        months = self.months.isChecked() and bool(look.months)
        open_ = self.side.unanswered([look.month] if months and look.month else look.judged)
        if open_:
            self._say(open_)
            return
        if months:
            code = clean_code(self.code.text())
            target = self._target() or (self.terms.terms().model_copy(update={"code": code}) if look.month and code else None)
            if target is None or self.layout_now is None:
                self._say("A new market needs a code, such as the one it trades under.")
                self.code.setFocus()
                return
            self.take_button.setEnabled(False)
            look.take_months(target, self.layout_now, keep)
            return
        if not look.judged:
            return
        if any(j.code in ("", "NEW") for j in look.judged) and not clean_code(self.code.text()):
            self._say("A new market needs a code, such as the one it trades under.")
            self.code.setFocus()
            return
        self.take_button.setEnabled(False)
        look.take(source, keep)

    def _not_taken(self: Any, sentence: str) -> None:
        self._say(sentence)
        self.take_button.setEnabled(True)

    def _taken(self: Any, source: Any, rows: int, remarks: list[str]) -> None:
        """All is in the project: show the market, or after the first history its first result."""
        s, months = self.session, bool(self.look.months)
        codes = ", ".join(dict.fromkeys(j.code for j in self.look.judged)) or source.market
        first, new = not s.markets, all(m.code != source.market for m in s.markets)
        self.discard()
        self._filling = True
        self.preview.show_preview(None, None)
        self._filling = False
        self.files.setText("Taken in. Drop or choose the next files.")
        s.settings_moved()
        s.reload_markets()
        self.looked.look_at(s.project.sources.get(*source.key))
        s.note(" ".join([f"{codes}: {number(rows)} rows are in the project.", *remarks]), "caution" if remarks else "note")
        if first and s.project.strategies():
            s.place_wanted.emit("backtest")
        else:
            self.looked.page_wanted.emit("contracts" if months else "terms" if new else "quality")
