"""Monte Carlo by running again: numbers jittered, prices with noise, sessions drawn again, a later start, bars that begin at
other minutes."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, ValidationError

from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.figures.figure import Figure
from wolbrin.core.jobs import check_stopped
from wolbrin.core.market.intervals import Interval, to_interval
from wolbrin.core.measures.catalogue import BY_KEY, SUMMARY, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, GateTable, Outcome, Shown, Tables
from wolbrin.core.rules.dated import varied
from wolbrin.core.rules.numbers import tunables
from wolbrin.core.study.perturb import Noise, over, redrawn

Floats = NDArray[np.float64]
KEYS = ("net", "max_drawdown", "return_drawdown", "trades")
KINDS = {"numbers": "numbers jittered", "prices": "prices with noise", "sessions": "sessions drawn again",
         "start": "a later start", "boundaries": "bars that begin at other minutes"}


class RunAgainSettings(Model):
    """runs: of each kind. jitter: steps of its numbers (at half a step one number in three
    moves; Neighbors moves each by itself), noise: share of the usual range of a bar, block: mean number of
    sessions drawn together, latest_start: share of the span. boundaries: bars begin some minutes later, as often as the finer
    bars they are made of allow. Each kind can be left out. least_share: of the runs that must
    earn, percent, by each kind."""

    runs: int = Field(50, ge=10, le=10_000, title="runs of each kind")
    numbers: bool = Field(True, title="numbers jittered")
    prices: bool = Field(True, title="prices with noise")
    sessions: bool = Field(False, title="sessions drawn again")
    start: bool = Field(False, title="a later start")
    boundaries: bool = Field(False, title="bars at other minutes")
    jitter: float = Field(0.5, gt=0, le=10, title="jitter, steps")
    noise: float = Field(0.1, gt=0, le=1, title="noise, share of a range")
    block: int = Field(10, ge=1, le=500, title="sessions drawn together")
    latest_start: float = Field(0.2, gt=0, le=0.9, title="latest start, share of span")
    least_share: float = Field(80.0, ge=0, le=100, title="% that earn, at least")


@dataclass(frozen=True)
class RunAgainGate(Gate):
    """Runs of the same idea on a history that might as well have been."""

    options: RunAgainSettings = RunAgainSettings()
    key = "run_again"
    title = "Run again"
    shown = (Shown("share", "runs that earn", "percent", "runs whose net is above zero, of the kind of run in which fewest "
                   "do",
                   digits=0, better=1),
             Shown("median_share", "median to its own", "percent", "median net of all runs / its own", digits=0, better=1))
    more = (Figure("share_*", "runs of a kind that earn", "percent", "runs of this kind whose net is above zero", better=1),
            Figure("median", "median net", "money", "median net of all runs", better=1))
    tables = tuple(GateTable(key, words, tuple(BY_KEY[k] for k in KEYS)) for key, words in (
        ("numbers", "Numbers jittered"), ("prices", "Prices with noise"), ("sessions", "Sessions drawn again"),
        ("start", "A later start"), ("boundaries", "Bars at other minutes")))
    figure = "share"
    picture = ("prices", "net", "")
    setting = "least_share"

    def describe(self) -> str:
        return f"{self.options.least_share:g}% of {self.options.runs} earn"

    def clause(self, figures: dict[str, float]) -> str:
        return f"at least {number(figures['share'])}% of other runs earn"

    def judge(self, case: Case) -> Outcome:
        o, own = self.options, float(case.run.profits.sum())
        shares: dict[str, float] = {}
        tables: Tables = {}
        nets: list[Floats] = []
        counts: dict[str, int] = {}
        without: list[str] = []
        makers: dict[str, Callable[[Case], Floats]] = {"numbers": self._numbers, "prices": self._prices,
                                                       "sessions": self._sessions, "start": self._start,
                                                       "boundaries": self._boundaries}
        for key, make in makers.items():
            if getattr(o, key):
                found = make(case)
                if not len(found):
                    without.append(KINDS[key])
                    continue
                counts[key] = len(found)
                nets.append(found[:, 0])
                shares[key] = 100.0 * float((np.nan_to_num(found[:, 0]) > 0).mean())
                tables[key] = {k: found[:, i] for i, k in enumerate(KEYS)}
        if not shares:
            return self.unsure(case, f"Nothing can be run again: {', '.join(without) or 'no kind of run is chosen'}.",
                               {"share": math.nan})
        worst = min(shares, key=lambda key: shares[key])
        median = float(np.median(np.nan_to_num(np.concatenate(nets))))
        figures = {f"share_{key}": v for key, v in shares.items()} | {
            "share": shares[worst], "median": median, "median_share": 100.0 * median / own if own > 0 else math.nan}
        words = "; ".join(f"{number(v)}% of {counts[key]} earn with {KINDS[key]}" for key, v in shares.items())
        if without:
            words += f"; not to be had: {', '.join(without)}"
        if shares[worst] < o.least_share:
            return self.falls(case, f"{words}; {o.least_share:g}% are needed.", figures, tables)
        return self.passes(case, f"{words}; the median earns {number(median)} against its own {number(own)}.", figures,
                           tables)

    def _numbers(self, case: Case) -> Floats:
        """Every number moved at once by whole steps, normal around its own."""
        rng, every = np.random.default_rng((case.seed, 1)), tunables(case.strategy)
        made = []
        for _ in range(self.options.runs if every else 0):
            steps = np.rint(rng.normal(0.0, self.options.jitter, len(every)))
            values = {t.key: round(t.value + float(s) * t.step, 10) for t, s in zip(every, steps)}
            try:
                made.append(varied(case.strategy, values))
            except ValidationError:
                continue  # such as a length of zero; what the model refuses cannot be traded
        out = case.many.evaluate(made)
        able = [i for i in range(len(made)) if i not in out.faults]
        return out.figures[able][:, [SUMMARY.index(k) for k in KEYS]]

    def _several(self, case: Case, run: Callable[[int], dict[str, float]], count: int | None = None) -> Floats:
        found = []
        for i in range(self.options.runs if count is None else count):
            check_stopped()
            try:
                found.append(list(run(i).values()))
            except UserError:
                found.append([math.nan] * len(KEYS))
        return np.array(found)

    def _prices(self, case: Case) -> Floats:
        noise = Noise(case.history.bars, (case.seed, 2), self.options.noise)

        def run(i: int) -> dict[str, float]:
            history = over(case.history, noise.bars(i))
            return measure(Facts.of(backtest(history, case.strategy, case.brief, detail=False)), KEYS)
        return self._several(case, run)

    def _sessions(self, case: Case) -> Floats:
        bars = case.history.bars
        first, last = bars.range_of(case.brief.span)

        def run(i: int) -> dict[str, float]:
            history = over(case.history, redrawn(bars, (case.seed, 3, i), self.options.block, first, last))
            return measure(Facts.of(backtest(history, case.strategy, case.brief, detail=False)), KEYS)
        return self._several(case, run)

    def _start(self, case: Case) -> Floats:
        bars = case.history.bars
        first, last = bars.range_of(case.brief.span)
        rng = np.random.default_rng((case.seed, 4))

        def run(_: int) -> dict[str, float]:
            bar = first + int(rng.random() * self.options.latest_start * (last - first))
            day = (np.datetime64(0, "D") + int(bars.trading_date[bar])).astype(object)
            brief = replace(case.brief, span=replace(case.brief.span, first=day))
            return measure(Facts.of(backtest(case.history, case.strategy, brief, detail=False)), KEYS)
        return self._several(case, run)

    def _boundaries(self, case: Case) -> Floats:
        """Every shift that the history's finer bars allow, at most `runs`; none where it has none."""
        bars, finer = case.history.bars, case.history.finer()
        minutes = Interval.of(bars.interval).kind == "minutes" and finer is not None
        if finer is None or not minutes or finer.interval >= bars.interval or bars.interval % finer.interval:
            return np.zeros((0, len(KEYS)))
        later = list(range(finer.interval, bars.interval, finer.interval))[:self.options.runs]

        def run(i: int) -> dict[str, float]:
            history = over(case.history, to_interval(finer, bars.interval, later[i]))
            return measure(Facts.of(backtest(history, case.strategy, case.brief, detail=False)), KEYS)
        return self._several(case, run, len(later))
