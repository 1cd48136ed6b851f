"""How often a scan is fooled, and what it finds: the tables of docs/scan.md, on generated markets.

    python tools/scan_tables.py noise [MARKETS]     how often noise "moves price more than luck"
    python tools/scan_tables.py edges [SEEDS] [KIND ...]    planted edges, found or not, by strength
"""

from __future__ import annotations

import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parents[1]))

from tests.core import scan_markets as markets

from wolbrin.core.engine.brief import Brief
from wolbrin.core.market.costs import Costs
from wolbrin.core.work.scan_request import ScanRequest
from wolbrin.core.work.scanning import scan_here

WORKERS, ROWS = 2, 3_000


def small(code: str, rows: int = 400, draws: int = 100, pairs: bool = True) -> ScanRequest:
    return ScanRequest(((code, 15),), count=rows, draws=draws, pairs=pairs)


def noise(count: int) -> None:
    """Says of each kind of noise on how many markets something is found, and which families the strongest rows are of."""
    total, found_in = 0, 0
    families: dict[str, int] = {}
    for kind in markets.NOISE:
        def one(seed: int, kind: str = kind) -> str:
            history = markets.noise(kind, seed)
            result = scan_here([history], [Brief(costs=Costs.none())], small(history.bars.terms.code))
            beyond = result.beyond()
            return result.keys[0][int(result.places[0].ingredient[beyond[0].number])] if beyond else ""

        with ThreadPoolExecutor(WORKERS) as pool:
            made = list(pool.map(one, range(1, count // len(markets.NOISE) + 1)))
        said = [m for m in made if m]
        for key in said:
            families[key.partition(":")[0]] = families.get(key.partition(":")[0], 0) + 1
        total, found_in = total + len(made), found_in + len(said)
        print(f"| {kind} | {len(made)} | {len(said)} ({100 * len(said) / len(made):.1f}%) |", flush=True)
    print(f"| all | {total} | {found_in} ({100 * found_in / total:.1f}%) |")
    print("families of what was found:", dict(sorted(families.items(), key=lambda x: -x[1])))


def edges(seeds: int, kinds: tuple[str, ...] = markets.EDGES) -> None:
    """Says of each kind of edge how often it is found, at two strengths."""
    for kind in kinds:
        for wanted in (2.0, 3.0):
            def one(seed: int, kind: str = kind, wanted: float = wanted) -> tuple[bool, float, float]:
                return markets.found_edge(kind, wanted, seed, ROWS)

            with ThreadPoolExecutor(WORKERS) as pool:
                made = list(pool.map(one, range(1, seeds + 1)))
            t, hurdle = (float(np.mean([m[i] for m in made])) for i in (1, 2))
            print(f"| {kind} | {wanted:g} | {sum(m[0] for m in made)} of {seeds} | {t:.1f} | {hurdle:.1f} |", flush=True)


if __name__ == "__main__":
    what, number = sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 0
    noise(number or 1_000) if what == "noise" else edges(number or 20, tuple(sys.argv[3:]) or markets.EDGES)
