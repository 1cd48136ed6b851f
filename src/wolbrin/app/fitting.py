"""Fitting dated numbers again before anything is opened: as work that is seen and can be stopped."""

from __future__ import annotations

from collections.abc import Callable

from wolbrin.app.session import Session
from wolbrin.core.jobs import Job, State
from wolbrin.core.market.bars import Span
from wolbrin.core.work.fits_checked import fits_job
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.proving import case_of
from wolbrin.core.work.subject import Subject


def fit_first(session: Session, subjects: Callable[[], list[Subject]], then: Callable[[], object]) -> None:
    """Fit again what has dated numbers, then go on; stopped, or where a fit is not what its procedure chooses, nothing goes
    on and nothing is opened."""
    project = session.project

    def work() -> Job | None:
        footing = Footing.of(project)
        return fits_job(project, footing, [case_of(footing, one, Span()) for one in subjects()])

    def over(job: Job) -> None:
        if job.state is State.DONE:
            then()

    def begin(job: Job | None) -> None:
        if job is None:
            then()
        else:
            session.start(job, "threads", over)

    session.compute("Dated numbers", work, begin)
