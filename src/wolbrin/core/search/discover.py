"""Random candidates under the user's limits. Candidate number k of a seed is always the same strategy."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Brief, backtest
from wolbrin.core.measures.catalogue import measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.search.grammar import Limits, draw_strategy

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


def explore(history: Prepared, brief: Brief, limits: Limits, seed: int, first: int, count: int) -> list[Found]:
    """Draw and test candidates first .. first + count - 1; returns those that meet the limits."""
    found: list[Found] = []
    for number in range(first, first + count):
        strategy = draw_strategy(np.random.default_rng((seed, number)), limits, name_of(number))
        run = backtest(history, strategy, brief, detail=False)
        if len(run) < limits.least_trades:
            continue
        factor = measure(Facts.of(run), ("profit_factor",))["profit_factor"]
        if factor >= limits.least_profit_factor:
            found.append(Found(number, candidate_of(run, strategy.name, "discover", number + 1), run.fingerprint))
    return found
