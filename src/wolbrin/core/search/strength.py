"""How strong finds are beside those of the controls: what share of finds as strong luck brings, and how seldom luck's best is
as strong.

Where the controls kept enough finds as strong, these are counted. Beyond, a few controls can tell only by all that they
tried: the tail of t over their tries above a high level is fitted (peaks over a threshold, Davison & Smith 1990, on t
squared, whose tail is exponential where t is normal), checked against counting, and carried on. The predictive tail knows
from how many tries it comes (exponential with its conjugate prior; Gelman and others 2013, 2.6). Generations of an evolution
are no independent tries: of them the strongest of each control tells. """

from __future__ import annotations

import math
from collections.abc import Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.measures.wording import number
from wolbrin.core.search.luck import PRIOR

Floats = NDArray[np.float64]
LEVELS = 24  # that are shown of a curve
USUAL_SPREAD = 0.4  # standard deviation of the strongest t of a search on noise
TELLS = 10  # finds of controls from which their number tells
LEAST_TAIL, MOST_TAIL = 20, 100  # tries that a tail is fitted to
ALIKE_TRIES = 4.0  # tries of a tail that share their luck, about
SEVERAL = 2.0  # finds of a control as strong as one that is as strong as its strongest, about
MOST_CONTROLS = 100


@dataclass(frozen=True)
class Tail:
    """Different tries of some controls above a level: how many there were, and the mean of (t^2 - level^2) / 2 over them.
    factor: by which counting at the tenth strongest exceeds what is fitted, at least 1."""

    level: float
    count: int
    controls: int
    mean: float
    factor: float = 1.0

    @classmethod
    def of(cls, tries: Sequence[Floats]) -> Tail | None:
        """tries: t of what each control tried, as far as it is at hand; None where there are too few above zero."""
        whole = np.concatenate([np.unique(t[np.isfinite(t) & (t > 0)]) for t in tries]) if tries else np.zeros(0)
        whole = np.sort(whole)[::-1]
        count = min(MOST_TAIL, len(whole) - 1)
        if count < LEAST_TAIL:
            return None
        level = float(whole[count])
        above = whole[:count]
        mean = float((above**2 - level**2).mean()) / 2.0
        if not mean > 0:
            return None
        made = cls(level, count, len(tries), mean)
        at = float(above[TELLS - 1])
        fitted = float(made.expected(np.array([at]), False)[0]) * len(tries)
        return cls(level, count, len(tries), mean, max(1.0, TELLS / fitted) if fitted > 0 else 1.0)

    def expected(self, strength: Floats, cautious: bool = True, controls: int = 0) -> Floats:
        """float64: tries of one control at least as strong, for strengths from the level on. cautious: with what so few tries
        leave open. controls: as if so many had run."""
        far = np.maximum(strength**2 - self.level**2, 0.0) / 2.0 / self.mean
        n = max(self.count * (controls or self.controls) / self.controls / ALIKE_TRIES, 2.0)
        share = (1.0 + far / n) ** -n if cautious else np.exp(-far)
        return self.factor * self.count / self.controls * share


@dataclass(frozen=True)
class Strength:
    """found: strengths of a search's finds, rising, float64[n]; lucky: those of its controls, all together, rising; controls:
    how many ran. by_luck: the strongest of each control: of all it tried, where that is known. tail: of what controls tried,
    None where it is not at hand or they are no independent tries. of: strength of each find, by whatever names it."""

    found: Floats
    lucky: Floats
    controls: int
    by_luck: tuple[float, ...] = ()
    tail: Tail | None = None
    of: Mapping[Hashable, float] = field(default_factory=dict)

    @property
    def strongest(self) -> float:
        """NaN without finds."""
        return float(self.found[-1]) if len(self.found) else math.nan

    @cached_property
    def _ends(self) -> tuple[float, float]:
        return limits_of(self.by_luck)

    @property
    def limit(self) -> float:
        """What the strongest of 95 of 100 further controls stays below; NaN without any."""
        return self._ends[0]

    @property
    def beyond(self) -> bool:
        """Whether the strongest find is stronger than luck finds in 95 of 100 searches."""
        return self.strongest > self.limit

    @property
    def words(self) -> str:
        """Such as "Strongest 13.1; by luck 3.3, seldom above 4.1: stronger than luck brings"."""
        if not self.by_luck or not math.isfinite(self.strongest):
            return ""
        verdict = "stronger than luck brings" if self.beyond else "no stronger than luck may bring"
        return (f"Strongest t {number(self.strongest, 1)}; by luck {number(float(np.mean(self.by_luck)), 1)}, seldom above "
                f"{number(self.limit, 1)}: {verdict}")

    # What luck brings

    def expected(self, strength: Floats, cautious: bool = True, controls: int = 0) -> Floats:
        """float64: finds at least as strong that a control keeps, on average. cautious: one more than was seen, so that a
        strength that no control reached is not said to be free of luck, and with what a few tries leave open. controls: as if
        so many had run, and kept alike."""
        m = controls or self.controls
        count = len(self.lucky) - np.searchsorted(self.lucky, strength, "left")
        more = 1.0 / m if cautious else 0.0
        counted = count / self.controls + more
        # From where counting tells last, the number falls as the tail does.
        last = min(len(self.lucky), TELLS)
        at = float(self.lucky[-last]) if last else float(self.found[0]) if len(self.found) else 0.0
        shape = self._shape(np.append(strength, at), cautious, controls)
        with np.errstate(divide="ignore", invalid="ignore"):
            fallen = np.minimum(shape[:-1] / shape[-1], 1.0)
        further = (last / self.controls + more) * np.where(np.isfinite(fallen), fallen, 1.0)
        if self.tail is not None:  # no more finds than tries
            tries = self.tail.expected(strength, cautious, controls)
            further = np.where(strength >= self.tail.level, np.minimum(further, tries), further)
        if self.by_luck:
            further = np.minimum(further, SEVERAL * self._of_best(strength, cautious, controls))
        return np.where(count * m / self.controls >= TELLS, counted, np.minimum(further, counted) if cautious else further)

    def _shape(self, strength: Floats, cautious: bool, controls: int) -> Floats:
        """Falls with strength as the number of luck's finds does."""
        if self.tail is not None:
            return self.tail.expected(np.maximum(strength, self.tail.level), cautious, controls)
        return self._of_best(strength, cautious, controls)

    def _of_best(self, strength: Floats, cautious: bool, controls: int) -> Floats:
        """Chance that the strongest of another control is as strong, from the strongest of those that ran."""
        from scipy.special import ndtr, stdtr  # late

        if not self.by_luck:
            return np.ones(len(strength))
        middle, spread, degrees = _spread_of(self.by_luck, controls)
        if not cautious:
            return ndtr(-(strength - middle) / spread)
        return stdtr(degrees, -(strength - middle) / (spread * math.sqrt(1 + 1 / (controls or len(self.by_luck)))))

    def chance(self, strength: float, cautious: bool = True, controls: int = 0) -> float:
        """Chance that a search on noise finds anything as strong; NaN where it is not known."""
        if not self.controls or not math.isfinite(strength):
            return math.nan
        at = np.array([strength])
        known = [1.0]
        if self.by_luck:
            known.append(float(self._of_best(at, cautious, controls)[0]))
        if self.tail is not None and strength >= self.tail.level:
            known.append(float(self.tail.expected(at, cautious, controls)[0]))
        return min(known)

    # Shares

    @cached_property
    def _levels(self) -> tuple[Floats, Floats]:
        level = np.unique(self.found)
        return level, (len(self.found) - np.searchsorted(self.found, level, "left")).astype(np.float64)

    @cached_property
    def _shares(self) -> dict[tuple[bool, int], Floats]:
        return {}

    def _share(self, cautious: bool, controls: int) -> Floats:
        """At each level: the share of finds as strong that luck brings; it never rises with strength (Storey & Tibshirani
        2003)."""
        key = cautious, controls
        if key not in self._shares:
            level, count = self._levels
            self._shares[key] = np.minimum.accumulate(np.minimum(1.0, self.expected(level, cautious, controls) / count))
        return self._shares[key]

    @property
    def levels(self) -> tuple[Floats, Floats, Floats]:
        """Strengths that were found, rising; how many finds are as strong; and the share of these that luck brings."""
        level, count = self._levels
        return level, count, self._share(True, 0) if len(level) and self.controls else np.full(len(level), math.nan)

    def at(self, value: float, cautious: bool = True, controls: int = 0) -> float:
        """The share that luck brings of finds as strong as this; NaN where it is not known."""
        level, _ = self._levels
        if not len(level) or not self.controls or not math.isfinite(value):
            return math.nan
        return float(self._share(cautious, controls)[max(0, int(np.searchsorted(level, value, "right")) - 1)])

    def share_of(self, name: Hashable) -> float:
        """The share that luck brings of finds as strong as one; NaN where it is not known."""
        return self.at(self.of.get(name, math.nan))

    def shown(self) -> list[tuple[float, float, float, float]]:
        """At some levels: the level, so many found, so many by a control on average, the share that luck brings."""
        level, count, share = self.levels
        if not len(level) or not self.controls:
            return []
        some = np.unique(np.searchsorted(level, np.quantile(self.found, np.linspace(0, 1, LEVELS), method="lower")))
        expected = self.expected(level, False)
        return [(float(level[i]), float(count[i]), float(expected[i]), float(share[i])) for i in some.tolist()]


def strength_of(found: Floats, controls: Sequence[Floats], tries: Sequence[Floats] = (), best: Sequence[float] = (),
                apart: bool = True) -> Strength:
    """The curve over the finds of a search and of its controls. tries: t of what each control tried, as far as it comes near
    being a find; best: the strongest of all that each tried; of its finds where that is not known. apart: whether they were
    drawn one independently of the other."""
    kept = [c[np.isfinite(c)] for c in controls]
    known = tuple(b for b in best if math.isfinite(b)) or tuple(float(c.max()) for c in kept if len(c))
    lucky = np.sort(np.concatenate(kept)) if kept else np.zeros(0)
    tail = Tail.of(tries) if apart and len(tries) == len(kept) else None
    return Strength(np.sort(found[np.isfinite(found)]), lucky, len(kept), known, tail)


def _spread_of(best: Sequence[float], controls: int = 0) -> tuple[float, float, int]:
    """Mean and standard deviation of the strongest of a control, and the degrees of freedom that they are known by. What is
    usual stands beside it with the weight of PRIOR controls, as for counts (see luck.luck_of)."""
    m = len(best)
    middle, squares = float(np.mean(best)), float(((np.array(best) - np.mean(best)) ** 2).sum())
    own = squares / (m - 1) if m > 1 else USUAL_SPREAD**2
    as_if = max(controls, m)
    degrees = PRIOR + as_if - 1
    return middle, math.sqrt((PRIOR * USUAL_SPREAD**2 + own * (as_if - 1)) / degrees), degrees


def limits_of(best: Sequence[float]) -> tuple[float, float]:
    """What the strongest find of another control stays below in 95 and in 99 of 100, from those of some; NaN without any."""
    from scipy.special import stdtrit  # late

    if not best:
        return math.nan, math.nan
    middle, spread, degrees = _spread_of(best)
    wide = spread * math.sqrt(1 + 1 / len(best))
    return middle + float(stdtrit(degrees, 0.95)) * wide, middle + float(stdtrit(degrees, 0.99)) * wide
