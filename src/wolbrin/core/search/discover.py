"""Random candidates under the user's limits. Candidate number k of a seed is always the same strategy."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.batch.variants import NO_DAYS, Days, on_daily
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.measures.inference import sharpe_of_days
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.search.grammar import Limits, draw_strategy
from wolbrin.core.search.sample import at_hand

WORDS = ("Fulmar", "Skua", "Gannet", "Plover", "Dunlin", "Avocet", "Curlew", "Whimbrel", "Knot", "Turnstone",
         "Dotterel", "Puffin", "Guillemot", "Kittiwake", "Merganser", "Scoter", "Goldeneye", "Garganey",
         "Pintail", "Wigeon", "Redshank", "Phalarope", "Ruff", "Godwit")


def name_of(number: int) -> str:
    """A short name for candidate `number`."""
    return f"{WORDS[number % len(WORDS)]} {number}"


@dataclass(frozen=True)
class Found:
    """A candidate that met the limits, with the digest of its trades (to drop twins)."""

    number: int
    candidate: Candidate
    fingerprint: str


@dataclass(frozen=True)
class Draws:
    """What came of draws first .. first + count - 1: those that met the limits; the daily Sharpe ratio of every one, float64
    [count], NaN without trades; and daily P/L, float32[s, d] on the dates asked for, of those that may be in the sample, by
    number, int64[s]."""

    first: int
    count: int
    found: tuple[Found, ...]
    sharpe: NDArray[np.float64]
    numbers: NDArray[np.int64]
    daily: NDArray[np.float32]


def explore(history: Prepared, brief: Brief, limits: Limits, seed: int, first: int, count: int,
            days: Days = NO_DAYS) -> Draws:
    """Draw and test candidates first .. first + count - 1. days: int32[d], trading dates for the daily results."""
    found: list[Found] = []
    sharpe = np.full(count, np.nan)
    kept = np.flatnonzero(at_hand(seed, first, count)) if len(days) else np.zeros(0, np.int64)
    daily = np.full((len(kept), len(days)), np.nan, np.float32)
    for at, number in enumerate(range(first, first + count)):
        strategy = draw_strategy(np.random.default_rng((seed, number)), limits, name_of(number))
        run = backtest(history, strategy, brief, detail=False)
        sharpe[at] = sharpe_of_days(run.daily[1])
        if at in kept:
            on_daily(run, days, daily[np.searchsorted(kept, at)])
        if len(run) < limits.least_trades:
            continue
        factor = measure(Facts.of(run), ("profit_factor",))["profit_factor"]
        if factor >= limits.least_profit_factor:
            found.append(Found(number, candidate_of(run, strategy.name, "discover", number + 1, (seed,)), run.fingerprint))
    return Draws(first, count, tuple(found), sharpe, kept + first, daily)
