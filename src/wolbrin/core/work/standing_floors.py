"""The floor of trades that stands in every search of sets, unless it is taken out by name."""

from __future__ import annotations

from collections.abc import Sequence

from wolbrin.core.search.floors import DAYS_A_YEAR, standing
from wolbrin.core.search.folds import Length
from wolbrin.core.search.objective import Floor
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import OwnSpan

A_YEAR = {"days": DAYS_A_YEAR, "months": 12.0, "years": 1.0}


def years_trained(project: Project, own: OwnSpan | None = None) -> float:
    """Calendar years of the training span (of a strategy's own one), as it is set."""
    settings = project.settings
    span = settings.of(own).training
    first, last = span.first or settings.training_first, span.last or settings.holdout_first
    return max(0.0, (last - first).days / DAYS_A_YEAR)


def floors_of_sets(project: Project, floors: Sequence[Floor], without: Sequence[str] = (), own: OwnSpan | None = None,
                   lengths: Sequence[Length] = ()) -> tuple[Floor, ...]:
    """The floors of a sweep, or of a walk that trains on such lengths. Raises UserError where `without` names none."""
    years = years_trained(project, own)
    for one in lengths:
        years = min(years, one.number / A_YEAR[one.unit] if one.unit in A_YEAR else 0.0)
    return standing(floors, years, without, drift=False)
