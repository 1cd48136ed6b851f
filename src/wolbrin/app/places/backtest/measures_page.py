"""All measures: all, long and short trades side by side, or training, holdout and whole; in money, points, percent, R."""

from __future__ import annotations

import math
from typing import Any

from wolbrin.app.fitting import fit_first
from wolbrin.app.parts import Choice, button, column, label, row
from wolbrin.app.places.backtest.columns import MeasureRow, measure_rows
from wolbrin.app.places.backtest.pages import Page
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.engine.run import Run
from wolbrin.core.figures.runs import KEPT
from wolbrin.core.market.bars import Span
from wolbrin.core.measures.breakdown import side_facts
from wolbrin.core.measures.catalogue import BY_KEY, MEASURES, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.units import per_money
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.proving.gate import Outcome
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.opening import beyond, open_for
from wolbrin.core.work.subject import Subject


class MeasuresPage(Page):
    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.split = Choice([("all, long, short", "sides"), ("training, holdout, whole", "spans")], "sides", "Columns")
        self.unit = Choice([("money", "money"), ("points", "points"), ("% of capital", "percent"), ("R", "R")], "money",
                           "Money figures in")
        self.open = button("Open the holdout for this run", self.open_holdout,
                           tip="The opening is counted, and it judges: the verdict is final")
        self.words = label("", "small")
        self.table = Table(self._columns(["all", "long", "short"]), session.theme, "Measures", stretch=5)
        for one in (self.split, self.unit):
            one.chosen.connect(lambda _: self.show_run(self._run) if self._run is not None else None)
        self.setLayout(column(row(self.split, 16, self.unit, 16, self.open, self.words, None), self.table, spacing=2))
        self._run: Run | None = None
        self._spans: tuple[str, list[Run]] = ("", [])

    def show_run(self, run: Run) -> None:
        self._run = run
        sides = self.split.value == "sides"
        opened = self._spans[0] == run.fingerprint
        self.open.setVisible(not sides and not opened)
        runs: list[Run] = [run] if sides else [run, *(self._spans[1] if opened else [])]
        self.words.setText("drawdowns of one side count its closed trades" if sides else
                           "" if opened else "the holdout is sealed")
        facts = [Facts.of(run), side_facts(run, 1), side_facts(run, -1)] if sides else [Facts.of(r) for r in runs]
        names = ["all", "long", "short"] if sides else ["training", "holdout", "whole"]
        scales = [per_money(r, str(self.unit.value)) for r in (runs * 3 if sides else runs)]  # type: ignore[arg-type]
        values = [measure(f) for f in facts]
        self.table.model.columns = self._columns(names)
        records: list[dict[str, Any]] = []
        for m in MEASURES:
            every = [v[m.key] * (s if m.unit == "money" else 1.0) for v, s in zip(values, scales)]
            texts = [self._text(m.key, v) for v in every]
            missing = len(names) - len(every)
            records.append({"group": m.group, "title": m.title + self._suffix(m.key),
                            "values": every + [math.nan] * missing, "texts": texts + ["sealed"] * missing,
                            "definition": m.definition})
        counts: list[MeasureRow] = [r for r in measure_rows(run) if r.title not in {m["title"] for m in records}]
        for one in counts[-len(run.counts):]:
            if one.title in run.counts or one.title == "ruined":
                records.append({"group": "counts", "title": one.title, "values": [one.number] + [math.nan] * (len(names) - 1),
                                "texts": [one.value] + [""] * (len(names) - 1), "definition": one.definition})
        self.table.set_records(records)

    @staticmethod
    def _columns(names: list[str]) -> list[Column]:
        found = [Column("group", lambda m: m["group"], width=96), Column("measure", lambda m: m["title"], width=176)]
        found += [Column(name, lambda m, i=i: m["values"][i], lambda m, i=i: m["texts"][i], "right", 84,
                         figure=KEPT["run.measure"], hover=lambda m: m["definition"])
                  for i, name in enumerate(names)]
        return [*found, Column("definition", lambda m: m["definition"], width=300)]

    def _suffix(self, key: str) -> str:
        return " (% of peak)" if key == "max_drawdown_percent" else ""

    def _text(self, key: str, value: float) -> str:
        if BY_KEY[key].unit != "money" or self.unit.value == "money":
            return worded(key, value)
        return number(value, 2) + ("%" if self.unit.value == "percent" and not math.isnan(value) else "")

    def open_holdout(self) -> None:
        """Run the holdout and the whole; the opening is counted."""
        run, s = self._run, self.session
        if run is None:
            return
        project, footing = s.project, Footing.of(s.project)
        market, interval, first = run.bars.terms.code, run.bars.interval, run.brief.span.first
        sealed = footing.settings.holdout

        def work() -> tuple[list[Run], Outcome]:
            opened = open_for(project, footing, run.strategy, market, interval, run.brief, sealed, "measures")
            runs = [beyond(opened, run.brief, span, sealed) for span in (sealed, Span(first, sealed.last))]
            return runs, opened.verdict

        def done(made: tuple[list[Run], Outcome]) -> None:
            runs, verdict = made
            self._spans = (run.fingerprint, runs)
            more = "" if verdict.passed else (f" Its figures are shown: whatever is kept on {market} from now on can be "
                                              "ready and no more, until there are newer bars.")
            s.note(f"The holdout was opened and judged: {verdict.reason}{more}", "caution")
            s.evidence_changed.emit()
            if self._run is run:
                self.show_run(run)

        subject = Subject(run.strategy, market, interval)
        fit_first(s, lambda: [subject] if run.strategy.schedule is not None else [],
                  lambda: s.compute("Holdout", work, done))
