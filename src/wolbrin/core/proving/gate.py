"""What a gate is: one screening test with one interface, giving one outcome with a number and a reason in words."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from functools import cached_property
from typing import Any, ClassVar

from numpy.typing import NDArray

from wolbrin.core.batch.genomes import Genomes, genome_of
from wolbrin.core.batch.many import Many
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.figures.figure import Figure
from wolbrin.core.market.bars import Span
from wolbrin.core.market.costs import Costs
from wolbrin.core.measures.wording import number
from wolbrin.core.models import Model
from wolbrin.core.rules.model import Strategy
from wolbrin.core.search.deflated import Hurdle
from wolbrin.core.search.luck import Luck
from wolbrin.core.search.strength import Strength
from wolbrin.core.search.superior import Superior
from wolbrin.core.search.walked import WalkAsk, WalkTold

PASSES, FALLS, NOT_ENOUGH = "passes", "falls", "not enough"
ROOM = 24 * 1024**2  # bytes that the conditions of one candidate and its neighbors may take
Tables = dict[str, dict[str, NDArray[Any]]]


@dataclass(frozen=True)
class Origin:
    """What the search that found a candidate knows of luck. tried: by it on the candidate's place. strength: of the
    candidate, in whatever the search compares by, NaN where unknown. luck, curve: what its controls kept, and how strong;
    None where none ran. hurdle: the best daily Sharpe ratio that luck came to in it; universe: Hansen's test over all it
    tried, where the daily results of all were kept. note: why its controls say nothing, "" where they do."""

    search: int
    tried: int
    strength: float = math.nan
    luck: Luck | None = None
    curve: Strength | None = None
    hurdle: Hurdle | None = None
    universe: Superior | None = None
    note: str = ""
    scanned: int = 0
    reach: float = math.nan


@dataclass(frozen=True)
class Case:
    """What a gate judges: a strategy on its training history, the training brief, the sealed span, and how many alternatives
    were tried to find it. tried_on: on its market altogether by now. seed drives whatever is random. origin: of the search it
    came from, None where there was none. others: training histories of other markets and intervals with their briefs, made
    when asked for. opened: the history with its sealed bars, only while the holdout is open for this case; carried: the
    strategy as it trades them, where dated numbers are fitted on; walk: walks its strategy, None where that cannot be;
    unanswered: what somebody must answer for before it may be judged, in words, "" for nothing;
    t_needed: what the holdout then asks of it."""

    strategy: Strategy
    history: Prepared
    brief: Brief
    holdout: Span
    tried: int
    seed: int = 20260101
    origin: Origin | None = None
    others: Callable[[], Sequence[tuple[Prepared, Brief]]] = tuple
    opened: Prepared | None = None
    carried: Strategy | None = None
    walk: Callable[[WalkAsk], WalkTold] | None = None
    t_needed: float = 0.0
    tried_on: int = 0
    unanswered: Callable[[], str] = str

    @cached_property
    def run(self) -> Run:
        """The training run, which several gates read."""
        return backtest(self.history, self.strategy, self.brief, detail=False)

    @property
    def costs(self) -> Costs:
        """What its brief charges."""
        return self.brief.on(self.history.bars.terms).paid

    @cached_property
    def many(self) -> Many:
        """Where its neighbors and its moved entries run."""
        return Many(self.history, self.brief, ROOM)

    @cached_property
    def genome(self) -> Genomes:
        """The strategy in the pool of `many`; for rules that do not need a run of their own (batch.genomes.runs_alone)."""
        return genome_of(self.strategy, self.many.pool, self.brief)


@dataclass(frozen=True)
class Outcome:
    """figures: the numbers behind the verdict. headline: the one number to show, in words. settings: of the gate; a verdict
    holds for them only. tables: larger results (paths, distributions), named columns by name, kept with the verdict. enough:
    there was enough to judge; what was not judged does not pass. of: what it does not pass but belongs to, such as
    gatekeeping.OF_FAMILY, "" where there is nothing to say."""

    gate: str
    passed: bool
    reason: str
    headline: str
    inputs: dict[str, Any]
    figures: dict[str, float]
    settings: dict[str, Any] = field(default_factory=dict)
    tables: Tables = field(default_factory=dict, compare=False, repr=False)
    enough: bool = True
    of: str = ""

    @property
    def verdict(self) -> str:
        """PASSES, FALLS, NOT_ENOUGH or what `of` says."""
        return PASSES if self.passed else self.of or (FALLS if self.enough else NOT_ENOUGH)


@dataclass(frozen=True)
class Shown(Figure):
    """A figure of a gate's outcome that tables show. scale: what it is multiplied by."""

    scale: float = field(default=1.0, kw_only=True)

    @property
    def end(self) -> str:
        """What follows it."""
        return "%" if self.unit == "percent" else ""

    def text(self, value: float) -> str:
        words = number(value * self.scale, self.digits or 0)
        return words if words == "n/a" else f"{words}{self.end}"


@dataclass(frozen=True)
class GateTable:
    """A table of an outcome. picture: how it is drawn: "fan", "distribution", "capital", "equity", "compare", or "rows" for
    bars, one a row, or their distribution where they are many."""

    key: str
    title: str
    columns: tuple[Figure, ...]
    picture: str = "rows"


class NoSettings(Model):
    """For a gate on which nothing can be set."""


@dataclass(frozen=True)
class Gate(ABC):
    """One screening test. options: what is set on it, a model with defaults and bounds; a verdict holds for them only.

    key and title name the gate, in dossiers, tables and on the command line. opens_holdout: running it spends the holdout.
    shown: figures of its outcome that tables show; more: all others that it may have; tables: those of its outcome,
    with their
    pictures. figure, setting: the figure by which it mostly judges, and the option that
    is its threshold; "" where there is no such pair. picture: table and column of its outcome that a small chart shows, and
    the figure that is marked in it, "" for none.
    """

    options: Model = NoSettings()
    key: ClassVar[str]
    title: ClassVar[str]
    opens_holdout: ClassVar[bool] = False
    shown: ClassVar[tuple[Shown, ...]] = ()
    more: ClassVar[tuple[Figure, ...]] = ()
    tables: ClassVar[tuple[GateTable, ...]] = ()
    figure: ClassVar[str] = ""
    setting: ClassVar[str] = ""
    picture: ClassVar[tuple[str, str, str] | None] = None

    def figure_of(self, key: str) -> Figure | None:
        """What a figure of its outcome is."""
        return next((f for f in (*self.shown, *self.more) if fnmatchcase(key, f.key)), None)

    def table_of(self, key: str) -> GateTable | None:
        """What a table of its outcome is."""
        return next((t for t in self.tables if t.key == key), None)

    @property
    def settings(self) -> dict[str, Any]:
        """What is set on it, by name, as JSON."""
        return self.options.model_dump(mode="json")

    @abstractmethod
    def describe(self) -> str:
        """The threshold in a few words."""

    @abstractmethod
    def judge(self, case: Case) -> Outcome:
        """Run the test. Pure: the same case gives the same outcome."""

    def asks_again(self, case: Case, figures: Mapping[str, float]) -> bool:
        """Whether there is enough by now where it said before, with these figures, that there was not."""
        return False

    def clause(self, figures: dict[str, float]) -> str:
        """What its pass says, as a clause of the sentence that sums a candidate up; "" for nothing worth saying there."""
        return ""

    def passes(self, case: Case, reason: str, figures: dict[str, float], tables: Tables | None = None) -> Outcome:
        """The verdict that lets a case go on."""
        return Outcome(self.key, True, reason, self._headline(figures), self._inputs(case), figures, self.settings,
                       tables or {})

    def falls(self, case: Case, reason: str, figures: dict[str, float], tables: Tables | None = None) -> Outcome:
        """The verdict that ends it."""
        return Outcome(self.key, False, reason, self._headline(figures), self._inputs(case), figures, self.settings,
                       tables or {})

    def unsure(self, case: Case, reason: str, figures: dict[str, float], tables: Tables | None = None) -> Outcome:
        """There is not enough to judge, which is no pass."""
        return Outcome(self.key, False, f"Not enough to judge: {reason[:1].lower()}{reason[1:]}", "not enough to judge",
                       self._inputs(case), figures, self.settings, tables or {}, False)

    def _inputs(self, case: Case) -> dict[str, Any]:
        return self.settings | {"seed": case.seed, "tried": case.tried}

    def _headline(self, figures: dict[str, float]) -> str:
        for one in self.shown:
            if one.key in figures:
                return f"{one.title} {one.text(figures[one.key])}"
        return ""
