"""A project's folder: markets, strategies, Shelf, gates and the holdout, under the same seals as everywhere."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pandas as pd

from wolbrin.core.engine.brief import Brief
from wolbrin.core.errors import UserError
from wolbrin.core.market.intervals import Interval, interval_words
from wolbrin.core.market.terms import Terms
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.project import Project as CoreProject
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.shelf import Kept, Shelf
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.lines import gates_of
from wolbrin.core.work.one_run import OneRun
from wolbrin.core.work.proving import prove_job
from wolbrin.core.work.shelving import candidate_of
from wolbrin.core.work.standing import Standings
from wolbrin.core.work.starting import first_interval
from wolbrin.core.work.subject import Subject
from wolbrin.face.histories import MarketBars
from wolbrin.face.runs import Run, backtest, strategy
from wolbrin.face.shown import Told, short
from wolbrin.face.working import finish


class Candidate(Told):
    """A candidate on the Shelf. `strategy`, `measures` (Series, training), `stands`, `words` (in one sentence), `evidence`
    (DataFrame: a row a gate that has judged it), `run` (on training)."""

    def __init__(self, project: Project, kept: Kept) -> None:
        self._project, self.kept, self.id, self.name = project, kept, kept.id, kept.candidate.name

    @property
    def strategy(self) -> Strategy:
        return self.kept.candidate.strategy

    @property
    def measures(self) -> pd.Series:
        return pd.Series(self.kept.candidate.summary, name="value")

    @property
    def stands(self) -> str:
        """"stands", "ready" (all but the holdout passed), "falls: GATE", "not enough", "open"."""
        return Standings(self._project.core).of(self.kept).stands

    @property
    def words(self) -> str:
        core = self._project.core
        return Standings(core).of(self.kept).words(gates_of(core))

    @property
    def evidence(self) -> pd.DataFrame:
        core = self._project.core
        found = Standings(core).of(self.kept).evidence
        titles = {g.key: g.title for g in gates_of(core)}
        return pd.DataFrame([{"gate": titles.get(k, k), "verdict": e.verdict, "reason": e.reason, **e.outcome}
                             for k, e in found.items()])

    def run(self) -> Run:
        """It, on the training span."""
        c, core = self.kept.candidate, self._project.core
        one = OneRun(Footing.of(core), c.strategy, c.market, c.interval, self.kept.own)
        return Run(one.run(), core.settings.currency, self._project.bars(c.market, c.interval))

    def _title(self) -> str:
        c = self.kept.candidate
        return f"{self.id} {c.name} on {c.market} {interval_words(c.interval)}, {self.stands}: {self.words}"


class Project(Told):
    """A project. `markets`, `strategies`, `shelf`, `openings` (DataFrames), `bars`, `backtest`, `candidate`, `keep`, `prove`,
    `open_holdout`. `core`: the project as the core has it. Use it in a `with`, or call `close`."""

    def __init__(self, core: CoreProject) -> None:
        self.core = core

    def __enter__(self) -> Project:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of its files."""
        self.core.close()

    @property
    def settings(self) -> Settings:
        """Spans, border, capital, currency, cost sets."""
        return self.core.settings

    @property
    def markets(self) -> pd.DataFrame:
        """Markets by code: name, kind, bars of the source in use, first and last bar (UTC), costs in force."""
        rows = [{"code": m.code, "name": m.terms.name, "kind": m.terms.kind, "bars": m.bars, "first": m.first, "last": m.last,
                 "costs": self.settings.costs_of(m.terms).words()} for m in self.core.markets()]
        return pd.DataFrame(rows, columns=None if rows else ["code"]).set_index("code")

    @property
    def strategies(self) -> pd.DataFrame:
        """Strategies by id: name, market, interval."""
        rows = [{"id": e.id, "name": e.strategy.name, "market": e.market, "interval": interval_words(e.interval)}
                for e in self.core.strategies()]
        return pd.DataFrame(rows, columns=None if rows else ["id"]).set_index("id")

    @property
    def shelf(self) -> pd.DataFrame:
        """Candidates by id: name, market, interval, where each stands, how many were tried, measures of training."""
        shelf = Shelf(self.core)
        standings = Standings(self.core)
        rows = []
        for kept in shelf.bodies():
            c = kept.candidate
            rows.append({"id": kept.id, "name": c.name, "market": c.market, "interval": interval_words(c.interval),
                         "stands": standings.of(kept).stands, "tried": c.tried, **c.summary})
        return pd.DataFrame(rows, columns=None if rows else ["id"]).set_index("id")

    @property
    def openings(self) -> int:
        """How often the holdout was opened; each time it asks more."""
        return self.core.openings()

    def tried(self, market: str) -> int:
        """Parameter sets, draws and trial cells looked at on a market."""
        return Searches(self.core).tried_on(market)

    def bars(self, market: str, interval: str | int | None = None) -> MarketBars:
        """A market's history up to the border, at an interval; the usual one where none is named. Raises UserError."""
        entry = self.core.market(market)
        code = Interval.parse(str(interval)).code if interval is not None else first_interval(entry.minutes)
        return MarketBars(Footing.of(self.core).prepared(market, code), self.core)

    def backtest(self, rules: str | Strategy, market: str = "", interval: str | int | None = None, **asked: Any) -> Run:
        """Run a strategy of the project by its name or id, or one written as `wb.strategy` takes it, on the training span.
        asked: as in `wb.backtest`. Raises UserError."""
        known = {e.strategy.name: e for e in self.core.strategies()} | {str(e.id): e for e in self.core.strategies()}
        entry = known.get(str(rules)) if not isinstance(rules, Strategy) else None
        if entry is not None:
            what, market, interval = entry.strategy, market or entry.market, interval or interval_words(entry.interval)
        else:
            what = strategy(rules)
            codes = [m.code for m in self.core.markets()]
            market = market or (codes[0] if len(codes) == 1 else "")
            if not market:
                raise UserError("on which market is not said", "backtest", f"There are {', '.join(codes)}.")
        return backtest(self.bars(market, interval), what, **asked)

    def save(self, rules: str | Strategy, market: str, interval: str | int) -> int:
        """Keep a strategy in the project; its id. Raises UserError."""
        return self.core.save_strategy(strategy(rules), market, Interval.parse(str(interval)).code)

    def candidate(self, id: int | str) -> Candidate:
        """A candidate by its id or name. Raises UserError."""
        shelf = Shelf(self.core)
        found = shelf.named(str(id))
        kept = shelf.body(found[0]) if found else None
        if kept is None:
            raise UserError(f"there is no candidate {id} on the Shelf", str(self.core.folder), "See its `shelf`.")
        return Candidate(self, kept)

    def keep(self, run: Run, name: str = "") -> Candidate:
        """Put a run of this project on the Shelf. It carries how many were tried on its market.

        Raises:
            UserError: it is on it already, or is no run of this project's training span.
        """
        core, code = run.core, run.core.bars.terms.code
        if run.history is None or run.history._own is not self.core or core.brief.role != "training":
            raise UserError("only a run on this project's training span goes on its Shelf", "keep",
                            "Make it with `project.backtest`.")
        made = candidate_of(core, name or core.strategy.name, "python", max(1, Searches(self.core).tried_on(code)))
        id = Shelf(self.core).keep(made)
        if id is None:
            raise UserError(f"{core.strategy.name} is on the Shelf already", code, "See its `shelf`.")
        return self.candidate(id)

    def prove(self, ids: Sequence[int] = (), *, all_gates: bool = False) -> pd.DataFrame:
        """Walk the line of gates with candidates, all of the Shelf where none is named; the holdout stays sealed. all_gates:
        go on after a fall. Gives the Shelf's rows of them."""
        kept = Shelf(self.core).bodies(list(ids) or None)
        if not kept:
            raise UserError("the Shelf is empty", str(self.core.folder), "Keep a run on it, or search.")
        finish(prove_job(self.core, [Subject.of(k) for k in kept], open_holdout=False, all_gates=all_gates), "Proving")
        return self.shelf.loc[[k.id for k in kept]]

    def open_holdout(self, ids: Sequence[int]) -> pd.DataFrame:
        """Open the holdout for candidates that are ready, all at once. Each opening is counted and final: what falls stays
        fallen, and every later one asks more. Gives the Shelf's rows of them.

        Raises:
            UserError: none is named, the holdout is kept for a portfolio, or something must be answered first.
        """
        kept = Shelf(self.core).bodies(list(ids)) if len(ids) else []
        if not kept:
            raise UserError("no candidate is named", "open_holdout", "Name those that are ready.")
        finish(prove_job(self.core, [Subject.of(k) for k in kept], open_holdout=True), "Opening the holdout")
        return self.shelf.loc[[k.id for k in kept]]

    def terms(self, market: str) -> Terms:
        """Contract terms of a market. Raises UserError."""
        return self.core.market(market).terms

    def brief(self, market: str) -> Brief:
        """Span, costs and capital of a training run on a market."""
        return self.settings.brief(self.terms(market))

    def _title(self) -> str:
        s, shelf = self.settings, Shelf(self.core)
        return short(f"{self.core.folder.name}: {len(self.core.markets())} markets, {shelf.count():,} on the Shelf, training "
                     f"{s.training}, holdout from {s.holdout_first}, opened {self.openings} times")

    def _rows(self) -> list[tuple[str, str]]:
        return [(m.code, f"{m.bars:,} bars, {m.first[:10]} to {m.last[:10]}") for m in self.core.markets()]


def project(folder: str | Path, settings: Settings | None = None) -> Project:
    """Open a project's folder, or begin one in a new or empty folder.

    Args:
        settings: of a new one: spans, border (`holdout_first`), capital, currency.
    Raises:
        UserError: it cannot be opened; it says what to do.

    Example:
        >>> with wb.project("my-desk") as p:  # doctest: +SKIP
        ...     p.backtest("Tern").trades
    """
    path = Path(folder)
    if (path / "project.sqlite").exists():
        return Project(CoreProject(path))
    if settings is None:
        raise UserError("there is no project in this folder", str(path),
                        "Make one with `wolbrin new`, or give settings for a new one.")
    return Project(CoreProject.create(path, settings))
