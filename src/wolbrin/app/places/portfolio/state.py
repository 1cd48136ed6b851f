"""What the Portfolio place is about: the ticked candidates as one. Knows no widget."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QObject, Signal

from wolbrin.app.session import Session
from wolbrin.core.engine.run import Run
from wolbrin.core.errors import WolbrinError
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.inference import effective_bets
from wolbrin.core.portfolio.combine import Combination, correlation, daily_matrix, equal_weight
from wolbrin.core.proving.gate import Outcome
from wolbrin.core.store.shelf import Kept
from wolbrin.core.work.combining import runs_job
from wolbrin.core.work.standing import STANDS, Standings, proved_ids
from wolbrin.core.work.whole import open_portfolio, seen_members, verdict_on

SHOWN = ("net", "trades", "profit_factor", "win_rate", "t_daily", "max_drawdown", "max_drawdown_percent", "average_drawdown",
         "under_water", "return_drawdown", "cagr", "sharpe", "sortino", "exposure", "best_year")
MOST = 24


@dataclass(frozen=True)
class Together:
    """The whole and its parts. figures: of the whole, then of each part. bets: how many different ones; standing: members
    that stand; seen: members whose holdout was opened before; verdict: of the holdout on these as a whole, in words."""

    kept: list[Kept]
    whole: Combination
    figures: list[dict[str, float]]
    bets: float
    standing: int
    seen: tuple[str, ...] = ()
    verdict: str = ""


class PortfolioState(QObject):
    """emptied: nothing is ticked; shown: another combination is there."""

    emptied = Signal()
    shown = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.together: Together | None = None
        self._wanted: Any = None

    def look(self) -> None:
        """Combine the ticked candidates, unless that is shown."""
        s = self.session
        ids = s.shelf.ticked()
        if not ids:
            self._wanted = self.together = None
            self.emptied.emit()
            return
        if len(ids) > MOST:
            s.note(f"A portfolio of more than {MOST} strategies is not shown; untick some.", "caution")
            ids = ids[:MOST]
        wanted = tuple(ids), s.settings.model_dump_json()
        if wanted == self._wanted:
            return
        self._wanted = wanted
        kept = s.shelf.bodies(ids)

        def combined(runs: list[Run]) -> None:
            def work() -> Together:
                whole = equal_weight(runs)
                bets = effective_bets(correlation(daily_matrix(runs)[1])) if len(runs) > 1 else 1.0
                standings = Standings(s.project)
                return Together(kept, whole, [measure(f, SHOWN) for f in (whole.facts, *(Facts.of(r) for r in runs))], bets,
                                sum(standings.of(k).stands == STANDS for k in kept), tuple(seen_members(s.project, kept)),
                                verdict_on(s.project, ids))

            s.compute("Combine", work, show, "portfolio")

        def show(made: Together) -> None:
            if wanted == self._wanted:
                self.together = made
                self.shown.emit()

        s.start(runs_job(s.project, kept, s.on_ui(combined)), "now", quiet=len(kept) < 8)

    def tick_best(self) -> None:
        """Tick the distinct candidates, or those that stand."""
        s = self.session
        ids = s.project.get_value("distinct", []) or proved_ids(s.project)
        if not ids:
            s.note("Nothing is proved yet; run the line in Proving, or tick candidates on the Shelf.", "caution")
            s.place_wanted.emit("proving")
            return
        s.select(ids)

    def open_holdout(self, name: str) -> None:
        """Open the holdout once for the whole; counted, and final."""
        s, made = self.session, self.together
        if made is None:
            s.note("There is no portfolio to open yet.", "caution")
            return
        name = name.strip() or "Portfolio"

        def work() -> Outcome | WolbrinError:
            try:
                return open_portfolio(s.project, made.kept, name)
            except WolbrinError as err:
                return err

        def done(found: Outcome | WolbrinError) -> None:
            if isinstance(found, WolbrinError):
                s.note(found.sentence(), "error", found.door)
                return
            s.note(f"{name} {'stands' if found.passed else 'falls'} in the holdout: {found.reason}")
            for signal in (s.evidence_changed, s.shelf_changed, s.counts_changed):
                signal.emit()
            self._wanted = None
            self.look()

        s.compute("Open the holdout", work, done)

    def save(self, name: str) -> bool:
        """Keep the combination under a name; False, with a note, where there is none."""
        s, made = self.session, self.together
        if made is None:
            s.note("There is no portfolio to save yet.", "caution")
            return False
        name = name.strip() or "Portfolio"
        s.dossiers.keep_portfolio(name, [k.id for k in made.kept], measure(made.whole.facts, SHOWN),
                                   [r.record(tried=k.candidate.tried) for k, r in zip(made.kept, made.whole.runs)])
        s.note(f"{name} saved with {len(made.kept)} strategies.")
        s.counts_changed.emit()
        return True
