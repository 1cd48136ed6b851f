"""What luck makes of a whole scan: the strongest row of every draw, and how seldom it is as strong as what was seen.

Every draw gives each date a random sign (`signs`), the same for all rows, horizons, pairs and markets, so that rows which
say the same count once, by themselves. p is stepwise over all (Romano & Wolf 2005, Econometrica 73; algorithm 4.1 of
Westfall & Young 1993): the strongest is held against the strongest of all in each draw, the next against the strongest of
all but it, and so on. Rows of the clock, the calendar and the session are one question, all others the other; each has half
of the error, so its p is doubled.
"""

from __future__ import annotations

import io
import zipfile
from collections.abc import Collection
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.scan.moves import Floats
from wolbrin.core.scan.scanner import GROUPS, STRONGEST, Strong, Tile
from wolbrin.core.scan.scores import t_of

FOLLOWED = 400  # rows that are followed through every draw
LEVEL = 0.05  # p at which a row moves price more than luck does
F32 = NDArray[np.float32]


def stepwise(seen: Floats, drawn: Floats, others: Floats) -> Floats:
    """Stepwise p of hypotheses, float64[k]: seen: float64[k], falling; drawn: float64[k, draws], the same in each draw;
    others: float64[draws], the strongest of all that is not among them. p is (1 + draws as strong) / (draws + 1), and never
    falls."""
    if not len(seen):
        return np.zeros(0)
    weaker = np.maximum(np.maximum.accumulate(drawn[::-1], axis=0)[::-1], others)
    p = (1.0 + np.count_nonzero(weaker >= seen[:, None], axis=1)) / (drawn.shape[1] + 1.0)
    return np.maximum.accumulate(p)


def passed_in(most: Floats, share: float) -> float:
    """What the strongest passes in a share of the draws: of n draws the n x share'th from above (the 5th of 100)."""
    draws = len(most)
    return float(np.sort(most)[::-1][max(0, min(draws, round(share * draws)) - 1)]) if draws else float("nan")


def reached_by(most: Floats, groups: Collection[int]) -> tuple[float, ...]:
    """|t| that luck reaches, of each question: what its strongest passes in its share of 5 of 100 draws; NaN of one that has
    no rows. most: float64[GROUPS, draws]; groups: questions that have rows."""
    return tuple(passed_in(most[g], LEVEL / max(1, len(groups))) if g in groups else float("nan") for g in range(GROUPS))


def tries_worth(hurdle: float) -> int:
    """How many tries such a scan is worth to whatever is judged on its market later: those among which chance alone passes
    `hurdle` in 5 of 100, 0.05 / P(|normal| > hurdle)."""
    from scipy.special import log_ndtr  # late

    if not np.isfinite(hurdle) or hurdle <= 0:
        return 0
    return int(min(2**53, round(np.exp(np.log(LEVEL) - np.log(2.0) - log_ndtr(-hurdle)))))


def share_of_luck(t: Floats) -> Floats:
    """Share of luck (q) among all that are at least as strong, float64[n], of their t, NaN left out (Storey & Tibshirani
    2003, PNAS 100: how many have no edge is told by those with p above 1/2)."""
    from scipy.special import ndtr  # late

    out = np.full(t.shape, np.nan)
    known = np.isfinite(t)
    p = 2.0 * ndtr(-np.abs(t[known]))
    if not len(p):
        return out
    order = np.argsort(p)
    empty = min(1.0, float(np.count_nonzero(p > 0.5)) / (0.5 * len(p)) + 1.0 / len(p))
    q = empty * len(p) * p[order] / np.arange(1, len(p) + 1)
    made = np.empty(len(p))
    made[order] = np.minimum(1.0, np.minimum.accumulate(q[::-1])[::-1])
    out[known] = made
    return out


@dataclass
class Luck:
    """What is known of one market's draws so far. rest: float32[GROUPS, draws], strength of the strongest that is not
    followed; strong: the followed; tops: the strongest rows of what was seen (column 0) and of each draw; pairs:
    float32[GROUPS, draws], strength of the strongest pair, NaN where it is not known yet. days: of the market; group:
    int8[r] of its rows."""

    days: int
    group: NDArray[np.int8]
    rest: F32
    strong: Strong
    top_row: NDArray[np.int32]
    top_horizon: NDArray[np.int32]
    top_strength: F32
    pairs: F32

    @classmethod
    def begun(cls, days: int, group: NDArray[np.int8], draws: int) -> Luck:
        """What is known before any row was looked at."""
        none, tops = np.zeros(0, np.int32), np.zeros((0, 1 + draws), np.int32)
        return cls(days, group, np.zeros((GROUPS, draws), np.float32),
                   Strong(none, none, np.zeros(0, np.float32), np.zeros((0, draws), np.float32)), tops, tops,
                   np.zeros((0, 1 + draws), np.float32), np.full((GROUPS, draws), np.nan, np.float32))

    def take(self, tile: Tile) -> None:
        """Take in what came of some rows."""
        self.rest = np.maximum(self.rest, tile.rest)
        both = Strong(*(np.concatenate([a, b]) for a, b in zip(vars(self.strong).values(), vars(tile.strong).values())))
        order = np.lexsort((both.horizon, both.row, -both.strength))
        for g in range(GROUPS):
            lost = [i for i in order[FOLLOWED:] if self.group[both.row[i]] == g]
            if lost:
                self.rest[g] = np.maximum(self.rest[g], both.drawn[lost].max(axis=0))
        self.strong = both.taken(order[:FOLLOWED])
        row, horizon = (np.concatenate(x) for x in ((self.top_row, tile.tops.row), (self.top_horizon, tile.tops.horizon)))
        strength = np.concatenate([self.top_strength, tile.tops.strength])
        top = np.argsort(-strength, axis=0, kind="stable")[:STRONGEST]
        self.top_row, self.top_horizon = np.take_along_axis(row, top, axis=0), np.take_along_axis(horizon, top, axis=0)
        self.top_strength = np.take_along_axis(strength, top, axis=0)

    def most(self, pairs: bool, draws: int) -> Floats:
        """|t| of the strongest in each of the first draws by group, float64[GROUPS, draws]; with pairs where they were
        asked."""
        found, strong = self.rest[:, :draws].copy(), self.strong
        for g in range(GROUPS):
            mine = self.group[strong.row] == g
            if mine.any():
                found[g] = np.maximum(found[g], strong.drawn[mine, :draws].max(axis=0))
        if pairs:
            found = np.fmax(found, self.pairs[:, :draws])
        return t_of(found, self.days)

    def state(self) -> NDArray[np.uint8]:
        """Where it stands, as bytes."""
        made = io.BytesIO()
        np.savez(made, rest=self.rest, pairs=self.pairs, top_row=self.top_row, top_horizon=self.top_horizon,
                 top_strength=self.top_strength, **{f"strong_{k}": v for k, v in vars(self.strong).items()})
        return np.frombuffer(made.getvalue(), np.uint8)

    @classmethod
    def restored(cls, state: NDArray[np.uint8], days: int, group: NDArray[np.int8], draws: int) -> Luck:
        """What `state` gave. Raises UserError where it is damaged."""
        try:
            with np.load(io.BytesIO(state.tobytes()), allow_pickle=False) as held:
                found = {k: held[k] for k in held.files}
            strong = Strong(*(found.pop(f"strong_{k}") for k in ("row", "horizon", "strength", "drawn")))
            made = cls(days, group, strong=strong, **found)
            if made.rest.shape != (GROUPS, draws) or made.pairs.shape != made.rest.shape or (
                    len(strong.row) and int(strong.row.max()) >= len(group)):
                raise ValueError("of another size")
        except (ValueError, KeyError, TypeError, OSError, EOFError, zipfile.BadZipFile) as err:
            raise UserError("what luck made of this scan cannot be read any more", "scan", "Run it again.") from err
        return made
