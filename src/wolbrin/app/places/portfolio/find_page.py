"""Choosing k of the proved candidates, and the portfolios that were saved."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtWidgets import QFileDialog, QWidget

from wolbrin.app.parts import Choice, button, column, label, row, spin
from wolbrin.app.places.portfolio.state import PortfolioState
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.figures.portfolios import PORTFOLIOS
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.portfolio.choosing import Choice as Wish
from wolbrin.core.store.portfolios import Saved
from wolbrin.core.work.portfolio_find import CONTROLS

NAN = float("nan")
SAVED = {"net": "net", "max_drawdown": "drawdown", "return_drawdown": "ret/dd", "under_water": "under water",
         "sharpe": "Sharpe", "trades": "trades"}


class FindPage(QWidget):
    """Every combination of k, or an evolutionary search, beside the same choice among shuffled members."""

    def __init__(self, state: PortfolioState) -> None:
        super().__init__()
        self.state = state
        self.k = spin(5, 1, 50, 0, 1)
        self.aim = Choice([("return over drawdown", "return_drawdown"), ("Sharpe", "sharpe"), ("net", "net")],
                          "return_drawdown", "Best by")
        self.of = Choice([("proved", "proved"), ("ticked", "ticked")], "proved", "Chosen from")
        self.correlation = spin(0, 0, 1, 2, 0.05)
        self.per_market, self.per_family = spin(0, 0, 50, 0, 1), spin(0, 0, 50, 0, 1)
        self.drawdown, self.fits = spin(0, 0, 1e12, 0, 500), spin(0, 0, 1e12, 0, 1000)
        self.controls = spin(CONTROLS, 0, 200, 0, 5)
        for box, name, width in ((self.k, "Members", 56), (self.correlation, "Correlation below", 64),
                                 (self.per_market, "Members of one market", 60), (self.per_family, "Members of one "
                                                                                                   "family", 60),
                                 (self.drawdown, "Drawdown at most", 84), (self.fits, "Capital to fit into", 84),
                                 (self.controls, "Controls", 60)):
            box.setAccessibleName(name)
            box.setMaximumWidth(width)
            if box not in (self.k, self.controls):
                box.setSpecialValueText("any")
        self.words = label("Every combination is added up from stored results and counts as tried; the best few are really "
                           "traded. Controls, where all members are equally good, say what choosing brings by "
                           "itself.", "small", wrap=True)
        self.table = Table([
            Column("best by", lambda r: r[1], lambda r: number(r[1], 2), "right", 66, figure=PORTFOLIOS["desk.best"]),
            Column("traded", lambda r: r[2], lambda r: number(r[2], 2), "right", 66, figure=PORTFOLIOS["desk.traded"]),
            Column("members", lambda r: r[3], width=460)], state.session.theme, "Combinations")
        self.go = button("Find portfolios", self.search)
        self.setLayout(column(
            row(label("members", "muted"), self.k, label("from", "muted"), self.of, label("best by", "muted"), self.aim,
                None),
            row(label("correlation below", "muted"), self.correlation, label("a market", "muted"), self.per_market,
                label("a family", "muted"), self.per_family, label("drawdown", "muted"), self.drawdown, None),
            row(label("fits into", "muted"), self.fits, label("controls", "muted"), self.controls, self.go,
                button("Take the chosen one", self.take, main=True), None), self.words, self.table, spacing=4))
        state.found_some.connect(self.show_found)

    def wish(self) -> Wish:
        """What is asked, as entered."""
        def whole(box: Any) -> int | None:
            return int(box.value()) or None

        return Wish(int(self.k.value()), self.aim.value, 20, self.correlation.value() or None,  # type: ignore[arg-type]
                    whole(self.per_market), whole(self.per_family), self.drawdown.value() or None, None,
                    self.fits.value() or None)

    def search(self) -> None:
        """Search."""
        self.state.find(self.wish(), int(self.controls.value()), str(self.of.value))

    def take(self) -> None:
        """Make the chosen combination the portfolio."""
        one = self.table.current()
        if one is None:
            self.state.session.note("Choose a combination first.", "caution")
            return
        self.state.take_found(one[0])

    def show_found(self) -> None:
        """Show what was found."""
        found = self.state.found
        if found is None:
            return
        self.words.setText(found.words())
        rows = []
        for i, score in enumerate(found.chosen.score.tolist()):
            exact = found.exact[i] if i < len(found.exact) else {}
            who = ", ".join(found.names[m] for m in found.chosen.members[i].tolist())
            rows.append((i, float(score), exact.get(found.choice.aim, NAN), who))
        self.table.set_records(rows)


def _short(verdict: str) -> str:
    return "sealed" if not verdict else "stands" if " stands in the holdout" in verdict else "falls"


class SavedPage(QWidget):
    """Saved portfolios side by side, and files."""

    def __init__(self, state: PortfolioState) -> None:
        super().__init__()
        self.verdicts: dict[int, str] = {}
        self.made = label("", "small", wrap=True)
        self.state = state
        self.table = Table([
            Column("name", lambda r: r.name, width=150),
            Column("members", lambda r: len(r.plan.on), lambda r: str(len(r.plan.on)), "right", 72,
                   figure=PORTFOLIOS["desk.members"]),
            Column("holdout", self._verdict, lambda r: _short(self._verdict(r)), width=70,
                   hover=lambda r: self._verdict(r) or "sealed"),
            *(Column(title, lambda r, key=key: r.figures.get(key, NAN),
                     lambda r, key=key: worded(key, r.figures.get(key, NAN)), "right", 80, figure=BY_KEY[key])
              for key, title in SAVED.items()),
            Column("how", lambda r: r.plan.words(), width=260), Column("saved", lambda r: r.created, lambda r: r.created[:10],
                                                                      width=80)], state.session.theme, "Saved portfolios")
        self.setLayout(column(
            row(button("Open the chosen one", self.open, main=True), button("Add its members", self.join),
                button("Forget it", self.forget), None),
            row(button("Write the report\u2026", self.report), button("Take it elsewhere\u2026", self.export),
                button("Read one\u2026", self.read), None),
            label("Variants compare by their rows: change the portfolio, save it under another name.", "small"), self.table,
            self.made, spacing=4))
        self.table.chosen.connect(self._tell)
        state.saved.connect(self.show_saved)

    def show_saved(self) -> None:
        """Read them anew."""
        ones = self.state.saved_ones()[::-1]
        self.verdicts = {one.id: self.state.verdict_of(one) for one in ones}
        self.table.set_records(ones)

    def _tell(self, one: Saved) -> None:
        """What made the chosen one, and what the holdout said of it."""
        found = "; ".join(r.words() for r in one.records[:6]) + ("; and more" if len(one.records) > 6 else "")
        tried = f" Chosen from {number(one.plan.tried)} combinations." if one.plan.tried > 1 else ""
        self.made.setText(f"{one.name}, saved {one.created[:10]}: {one.plan.words()}.{tried} "
                          f"{self._verdict(one) or 'The holdout is sealed for it.'} Made by: {found}.")

    def _verdict(self, one: Saved) -> str:
        return self.verdicts.get(one.id, "")

    def _chosen(self) -> Saved | None:
        one: Saved | None = self.table.current()
        if one is None:
            self.state.session.note("Choose a saved portfolio first.", "caution")
        return one

    def open(self) -> None:
        """Look at the chosen one."""
        one = self._chosen()
        if one is not None:
            self.state.open_saved(one)

    def join(self) -> None:
        """Let the members of the chosen one join."""
        one = self._chosen()
        if one is not None:
            self.state.add_saved(one)

    def forget(self) -> None:
        """Remove the chosen one."""
        one = self._chosen()
        if one is not None:
            self.state.remove_saved(one)

    def report(self) -> None:
        """Write the report of the portfolio shown."""
        name, _ = QFileDialog.getSaveFileName(self, "Report", f"{self.state.plan.name}.html",
                                              "HTML (*.html);;PDF (*.pdf);;XLSX (*.xlsx)")
        if name:
            self.state.write_report(Path(name))

    def export(self) -> None:
        """Write the portfolio shown with its strategies."""
        name, _ = QFileDialog.getSaveFileName(self, "Portfolio file", f"{self.state.plan.name}.json", "Portfolio (*.json)")
        if name:
            self.state.write_file(Path(name))

    def read(self) -> None:
        """Read a portfolio file."""
        name, _ = QFileDialog.getOpenFileName(self, "Read a portfolio", "", "Portfolio (*.json)")
        if name:
            self.state.read_file(Path(name))
