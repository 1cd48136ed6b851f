"""A standing set of runs by which two states of the engine are told bit-equal: strategies in a file (tests/data/engine), bars
made here, every value of ledger, equity, order log, batch and shared account in one digest.

Codes of orders are numbers inside the program, so the log goes in as the words that files show.
"""

from __future__ import annotations

import gzip
import hashlib
import json
from pathlib import Path

import numpy as np

from tests.build import walk_bars
from wolbrin.core.batch.many import Many
from wolbrin.core.engine.account import Seat, run_account
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.ledger import order_log
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.engine.run import check as check_run
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Bars, make_bars
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.intervals import to_interval
from wolbrin.core.rules.model import Strategy

STRATEGIES = Path(__file__).parents[1] / "data" / "engine" / "strategies.json.gz"
COSTS = Costs(spread_ticks=1, slippage_ticks=0.5, per_contract=1.2, percent=0.001, minimum=1.5, roll_ticks=0.5)
TOGETHER = 6


def _holed(**more: object) -> Bars:
    """A walk of 5 minute bars from which some are missing."""
    whole = walk_bars(6000, seed=5, minutes=5, sigma=5.0, **more)
    keep = np.random.default_rng(5).random(len(whole)) > 0.03
    return make_bars(whole.terms, 5, whole.time[keep], (whole.open[keep], whole.high[keep], whole.low[keep],
                                                        whole.close[keep]), whole.volume[keep])


def histories() -> tuple[Prepared, Prepared]:
    """One with nights, lots and margin and finer bars; one converted at a moving rate."""
    fine = _holed(financing={"long": -0.4, "short": 0.2}, lot_step=0.1, minimum_lot=0.1, margin={"per_contract": 40.0})
    rates = walk_bars(2500, seed=8, minutes=15, sigma=2.0, code="RATE")
    return (Prepared.of(to_interval(fine, 15), finer=lambda: fine),
            Prepared.of(to_interval(_holed(conversion_market="RATE"), 15), rates=lambda: rates))


def standing_strategies() -> list[Strategy]:
    return [Strategy.model_validate(one) for one in json.loads(gzip.decompress(STRATEGIES.read_bytes()))]


def _add(found: hashlib._Hash, run: Run) -> None:
    found.update(run.fingerprint.encode())
    found.update(np.ascontiguousarray(run.gross).tobytes() + np.ascontiguousarray(run.position).tobytes())
    found.update(json.dumps({k: int(v) for k, v in run.counts.items()}, sort_keys=True).encode() + run.fault.encode())
    for values in order_log(run).values():
        found.update("\n".join(map(str, values.tolist())).encode())


def bits() -> tuple[str, int]:
    """The digest of the whole set, and how many trades went into it."""
    plain, converted = histories()
    found, trades = hashlib.sha256(), 0
    rules = standing_strategies()
    for at, one in enumerate(rules):
        for history, brief in ((plain, Brief(costs=COSTS, fine=at % 2 == 0)),
                               (converted, Brief(costs=COSTS.scaled(2.0), capital=3_000.0))):
            try:
                run = backtest(history, one, brief)
            except UserError as err:
                found.update(err.what.encode())
                continue
            _add(found, run)
            trades += len(run)
    for history in (plain, converted):
        brief = Brief(costs=COSTS)
        able = [r for r in rules if _runs(history, r, brief)]
        came = Many(history, brief).evaluate(able)
        found.update(came.figures.tobytes() + came.outcome.tobytes() + came.digest.tobytes())
        for first in range(0, len(able) - TOGETHER + 1, TOGETHER):
            seats = [Seat(f"{i}", history, r, brief, 1.0, i) for i, r in enumerate(able[first:first + TOGETHER])]
            for run in run_account(seats, 20_000.0).runs:
                _add(found, run)
    return found.hexdigest()[:24], trades


def _runs(history: Prepared, rules: Strategy, brief: Brief) -> bool:
    try:
        check_run(history.bars, rules, brief)
        Many(history, brief).evaluate([rules])
    except UserError:
        return False
    return True
