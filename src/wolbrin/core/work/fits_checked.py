"""Fitting dated numbers again before anything is opened: as a job that says how long and can be stopped; once is enough."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

from wolbrin.core.engine.run import record_of
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Chunk, Job, State
from wolbrin.core.proving.gate import Case
from wolbrin.core.store.project import Project
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.walk_schedule import check_fitted, spells_of

CHECKED = "dated numbers fitted again"
MOST = 500  # that are remembered
AT_ONCE = 4  # fits of a piece of work


def _key(case: Case) -> str:
    """Digest of all that decides what the fits are: rules with their dates, bars, costs and capital."""
    assert case.strategy.schedule is not None
    record = record_of(case.history, case.strategy, case.brief)
    return hashlib.sha256(f"{case.strategy.schedule.model_dump_json()}{record.key}".encode()).hexdigest()[:24]


def check_fits(project: Project, footing: Footing, case: Case) -> None:
    """As `check_fitted`, but not twice for the same. Raises UserError."""
    if not spells_of(case.strategy):
        return
    key = _key(case)
    if key not in project.get_value(CHECKED, []):
        check_fitted(footing, case.strategy, case.brief, case.history)
        _remember(project, [key])


def fits_job(project: Project, footing: Footing, cases: Sequence[Case]) -> Job | None:
    """Fits the dated numbers of some strategies again, fit by fit; None where there is nothing to do. The job fails with the
    sentence of the first that is not what its procedure chooses; stopped, nothing is opened and nothing remembered of what
    was not finished.

    Raises:
        UserError: dated numbers come without the procedure that fits them.
    """
    known = set(project.get_value(CHECKED, []))
    open_ = [(c, _key(c)) for c in cases if spells_of(c.strategy)]
    open_ = [(c, k) for c, k in open_ if k not in known]
    if not open_:
        return None
    chunks = [Chunk((case, begin), min(AT_ONCE, spells_of(case.strategy) - begin))
              for case, _ in open_ for begin in range(0, spells_of(case.strategy), AT_ONCE)]
    faults: list[UserError] = []

    def work(piece: tuple[Case, int]) -> UserError | None:
        case, begin = piece
        try:
            check_fitted(footing, case.strategy, case.brief, case.history, begin, AT_ONCE)
        except UserError as err:
            return err
        return None

    def finish(state: State) -> None:
        if faults:
            raise faults[0]
        if state is State.DONE:
            _remember(project, [k for _, k in open_])

    return Job("Fit dated numbers again", "fits", chunks, work, lambda fault: faults.append(fault) if fault else None, finish)


def _remember(project: Project, keys: Sequence[str]) -> None:
    with project.transaction():
        project.set_value(CHECKED, [*project.get_value(CHECKED, []), *keys][-MOST:])
