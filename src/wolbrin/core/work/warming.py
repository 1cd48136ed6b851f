"""Compiling every kernel once. numba keeps the result on disk, so that later starts only load it."""

from __future__ import annotations

import datetime as dt
import sys
from collections.abc import Callable, Sequence

import numpy as np

from wolbrin.core.batch.genomes import genome_of
from wolbrin.core.batch.many import Many
from wolbrin.core.batch.shifted import Shifting
from wolbrin.core.bits import pack
from wolbrin.core.engine.account import Seat, run_account
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Going, backtest
from wolbrin.core.indicators.catalogue import CATALOGUE
from wolbrin.core.market.activity import by_activity
from wolbrin.core.market.bars import Bars, Span, make_bars
from wolbrin.core.market.intervals import Interval
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_MINUTE
from wolbrin.core.market.spikes import find_spikes
from wolbrin.core.market.terms import SessionRule, Terms
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.portfolio.choosing import Choice, Pool, Ready, part_of_all, score_sets
from wolbrin.core.portfolio.correlating import spearman
from wolbrin.core.proving.monte_carlo import simulate_paths
from wolbrin.core.rules.decide import decide
from wolbrin.core.rules.evaluate import condition_flags
from wolbrin.core.rules.model import (
    Condition,
    Distance,
    FieldOperand,
    IndicatorOperand,
    NumberOperand,
    Row,
    Side,
    Strategy,
    Trail,
)
from wolbrin.core.scan.moves import END, moves_of
from wolbrin.core.scan.pairs import pair
from wolbrin.core.scan.scores import Scorer
from wolbrin.core.search.explorer import Explorer
from wolbrin.core.search.families import FAMILIES
from wolbrin.core.search.filters import Shuffled, Taken
from wolbrin.core.search.floors import Floors
from wolbrin.core.search.genotype import Plan
from wolbrin.core.search.ingredients import Pantry, Sources
from wolbrin.core.search.limits import Limits
from wolbrin.core.search.overfitting import overfitting
from wolbrin.core.search.plateau import scores
from wolbrin.core.study.shuffle import shuffle
from wolbrin.core.work.warmed import mark_warm


def _tiny(minutes: int = 15) -> Bars:
    terms = Terms(code="WARM", tick_size=0.5, point_value=10.0, time_zone="UTC",
                  sessions=(SessionRule(days=("Mon", "Tue", "Wed", "Thu", "Fri"), open="00:00", close="24:00"),))
    n = 400
    start = int(np.datetime64(dt.date(2024, 1, 1), "ns").astype(np.int64))
    time = start + np.arange(n, dtype=np.int64) * minutes * NS_A_MINUTE
    close = 100.0 + 0.5 * np.round(8 * np.sin(np.arange(n) / 5.0))
    return make_bars(terms, minutes, time, (close, close + 0.5, close - 0.5, close), np.ones(n), "warm-up")


def warm(report: Callable[[str, int, int], None] = lambda what, done, total: None) -> None:
    """Run each kernel on a tiny history; report(what, steps done, steps in all) before each step."""
    steps = steps_of_warming()
    for done, (what, act) in enumerate(steps):
        report(what, done, len(steps))
        act()
    mark_warm()
    report("ready", len(steps), len(steps))


def steps_of_warming() -> list[tuple[str, Callable[[], object]]]:
    """What is compiled, and how: each by itself, in an order in which later ones find ready what they share."""
    bars = _tiny()
    history = Prepared.of(bars)
    row = Row(left=FieldOperand(), compare="crosses above", right=IndicatorOperand(indicator="ema"))
    strategy = Strategy(long=Side(entry=Condition(rows=(row,))), stop=Distance(), target=Distance(amount=3.0))
    level = NumberOperand(value=100.0)
    all_kinds = (Row(left=FieldOperand(), compare="crosses above", right=level),
                 Row(left=FieldOperand(), compare="makes a new high"),
                 Row(left=FieldOperand(), compare="above", right=level, when="held", for_bars=2),
                 Row(left=FieldOperand(), compare="above", right=level, when="within", for_bars=2))

    def rules() -> None:
        for one in all_kinds:
            condition_flags(history.columns, Condition(rows=(one,)))
        two = (all_kinds[0], Row(left=FieldOperand(), compare="above", right=level))
        condition_flags(history.columns, Condition(rows=two))
        _ = decide(history.columns, strategy).signals

    def history_work() -> None:
        raw = Raw.of(bars)
        find_spikes(raw, bars.terms)
        by_activity(raw, bars.terms, Interval("volume", 10))
        shuffle(history, 1)

    def indicators() -> None:
        for entry in CATALOGUE:
            for output in entry.outputs[:1]:
                history.columns.indicator(entry.key, {}, output.key, entry.field)

    def many() -> None:
        brief = Brief(Span())
        trailing = strategy.model_copy(update={"trail": Trail()})
        found = Many(history, brief)
        found.evaluate([strategy, trailing])
        Shifting(found, genome_of(strategy, found.pool, brief)).run(1, 0, 1)
        explorer = Explorer(history, brief, Plan(Limits(pool=60)), Pantry(FAMILIES, Sources(15)), 1)
        explorer.run(explorer.prepare().batch((1, 0), 2), Floors((), 1.0).ask(True, 0))

    def sweeps() -> None:
        value = np.zeros(2)
        around = np.zeros((2, 1), np.int64)
        scores(value, around, 0.0, np.zeros((2, 2)))
        overfitting(np.zeros((2, 2)), np.ones((2, 2)), np.array([2, 2]), around)

    def rehearsal() -> None:
        going = Going(history, strategy, Brief(Span()))
        going.advance(going.size)
        going.so_far()

    def account() -> None:
        run_account([Seat("one", history, strategy, Brief(Span()))], 50_000.0)

    def portfolios() -> None:
        few = np.array([[1.0, -1.0, 2.0], [2.0, 0.5, -1.0], [-1.0, 1.0, 1.0], [0.5, 2.0, 0.0]])
        pool = Pool(few, np.eye(3), np.arange(3), np.arange(3), np.zeros(3))
        for choice in (Choice(2), Choice(3)):
            ready = Ready.of(pool, choice)
            part_of_all(ready, choice, (0,))
            score_sets(ready.held, np.array([[0, 1]]))
        spearman(np.ascontiguousarray(few.T), np.ones((3, 4), bool))

    def scan() -> None:
        slow = Prepared.of(_tiny(720))  # so that it has days enough
        fires = pack((np.ones(len(slow.bars), np.uint8),), len(slow.bars)).T.copy()
        for flat in (True, False):
            scorer = Scorer(moves_of(slow, Span(), flat), (1, 2, END))
            scorer.score(fires)
            scorer.earned(fires, np.array([1]))
            pair(scorer, fires, fires, np.array([1]), np.ones(scorer.moves.days, np.float32))

    def filters() -> None:
        moved = Shuffled(history.bars, 0, len(history.bars), 1, 2)
        bits = pack((np.ones(len(history.bars), np.uint8),), len(history.bars))[:, 0]
        moved.p(Taken(np.arange(3), np.zeros(3, np.int8), np.array([1.0, -1.0, 2.0])), (bits, None))

    return [
        ("indicators", indicators),
        ("rules", rules),
        ("history", history_work),
        ("simulator", lambda: backtest(history, strategy, Brief(Span()))),
        ("measures", lambda: measure(Facts.of(backtest(history, strategy, Brief(Span()))))),
        ("many at once", many),
        ("scans", scan),
        ("filters", filters),
        ("sweeps", sweeps),
        ("rehearsal", rehearsal),
        ("one account", account),
        ("portfolios", portfolios),
        ("Monte Carlo", lambda: simulate_paths(np.array([1.0, -1.0, 2.0]), 100.0, 4)),
    ]


def main(names: Sequence[str]) -> None:
    """Run some steps in a process of their own, saying each one's end on standard output."""
    steps = dict(steps_of_warming())
    for name in names:
        steps[name]()
        print(name, flush=True)


if __name__ == "__main__":
    main(sys.argv[1:])
