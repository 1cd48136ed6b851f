"""One set of a sweep: its strategy, a candidate for the Shelf, a named file of numbers."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal

from pydantic import Field, ValidationError

from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.models import Model, read_json
from wolbrin.core.rules.axes import PLACES, Values, numbers_at, variant
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import tunables, with_values
from wolbrin.core.search.candidate import Candidate, candidate_of
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.work.briefs import brief_again
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import SweepResult
from wolbrin.core.written import write_whole

FORMAT, VERSION = "wolbrin.parameters", 1


def strategy_of(request: SweepRequest, values: Values, of: Strategy | None = None) -> Strategy:
    """The strategy of a set, or another one (a later edit of it) with the set's numbers and sides.

    Raises:
        UserError: the model refuses it, or the numbers are not there any more.
    """
    if of is not None:
        mine, its = ({t.key: t.title for t in tunables(s)} for s in (request.strategy, of))
        if any(mine.get(key) != its.get(key) for key in numbers_at(request.axes, values)):
            raise UserError(f"{of.name} is another strategy than this sweep's, or has changed since", "sweep",
                            f"Open {request.strategy.name}, or sweep again.")
    try:
        one = variant(of or request.strategy, request.axes, values)
    except (KeyError, IndexError, TypeError):
        raise UserError("the strategy has changed since and does not take these numbers any more", "sweep",
                        "Sweep it again.") from None
    if one is None:
        raise UserError("the strategy's model refuses these numbers", "sweep", "Choose another set.")
    return one


def candidate_from_sweep(project: Project, result: SweepResult, values: Values) -> Candidate:
    """Make a candidate of one combination, under the brief of its sweep."""
    request = result.request
    place = request.place(values)
    brief = brief_again(project, result.record_of(place), place.market, place.interval)
    run = backtest(project.prepared(place.market, place.interval), strategy_of(request, values), brief, detail=False)
    label = ", ".join(a.shown(v) for a, v in zip(request.axes, values) if a.kind not in PLACES)
    name = f"{request.strategy.name} ({label})" if label else request.strategy.name
    return candidate_of(run, name[:80], "sweep", max(1, Searches(project).tried_on(place.market)))


class ParameterSet(Model):
    """Numbers of a strategy under a name. values: by the numbers' keys; times of day as minutes past midnight. titles: what
    the numbers were called, for people."""

    format: Literal["wolbrin.parameters"] = "wolbrin.parameters"
    version: int = Field(VERSION, ge=1)
    name: str = Field(min_length=1, max_length=120)
    strategy: str = Field("", max_length=80)
    values: dict[str, float] = Field(min_length=1, max_length=500)
    titles: dict[str, str] = Field({}, max_length=500)

    @classmethod
    def of(cls, request: SweepRequest, values: Values, name: str) -> ParameterSet:
        """The numbers of a set."""
        numbers = numbers_at(request.axes, values)
        if not numbers:
            raise UserError("this sweep varied no number of the rules", request.title, "There is nothing to save.")
        known = {t.key: t.title for t in tunables(request.strategy)}
        return cls(name=name[:120] or "Set", strategy=request.strategy.name, values=numbers,
                   titles={k: known[k] for k in numbers if k in known})

    def write(self, path: Path) -> None:
        """Write the file."""
        write_whole(path, lambda partial: partial.write_text(self.model_dump_json(indent=1), encoding="utf-8"),
                    "file of parameters")

    def applied(self, strategy: Strategy, where: str = "parameters") -> Strategy:
        """The strategy with these numbers. Raises UserError where it has not all of them, or refuses them."""
        known = {t.key for t in tunables(strategy)}
        missing = [self.titles.get(k, k) for k in self.values if k not in known]
        if missing:
            raise UserError(f'{strategy.name} has no number "{missing[0]}"'
                            + (f" and {len(missing) - 1} more" if len(missing) > 1 else ""), where,
                            f"These are numbers of {self.strategy or 'another strategy'}.")
        try:
            return with_values(strategy, self.values)
        except ValidationError:
            raise UserError("the strategy's model refuses these numbers", where, "Choose other ones.") from None


def read_parameters(path: Path) -> ParameterSet:
    """Read a file of parameters. Raises UserError for one that is none, damaged, or of a newer version."""
    data: Any = read_json(path, "file of parameters")
    if not isinstance(data, dict) or data.get("format") != FORMAT:
        raise UserError("this is not a file of parameters", str(path), "Choose one that was saved from a sweep.")
    version = data.get("version")
    if isinstance(version, int) and version > VERSION:
        raise UserError(f"this file has version {version}, newer than this program reads ({VERSION})", str(path),
                        "Open it with a newer Wolbrin.")
    try:
        return ParameterSet.model_validate(data)
    except ValidationError as err:
        raise explain(err, str(path)) from None
