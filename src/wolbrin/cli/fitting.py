"""Fitting dated numbers again before anything is opened, with progress."""

from __future__ import annotations

from collections.abc import Sequence

from wolbrin.cli.common import run
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import State
from wolbrin.core.market.bars import Span
from wolbrin.core.store.project import Project
from wolbrin.core.work.fits_checked import fits_job
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.proving import case_of
from wolbrin.core.work.subject import Subject


def fit_again(project: Project, subjects: Sequence[Subject]) -> None:
    """Fit again what has dated numbers.

    Raises:
        UserError: it was stopped, or a fit is not what its procedure chooses; nothing was opened.
    """
    footing = Footing.of(project)
    job = fits_job(project, footing, [case_of(footing, s, Span()) for s in subjects if s.strategy.schedule is not None])
    if job is not None and run(job, "threads") is not State.DONE:
        raise UserError("fitting dated numbers again was stopped, and nothing was opened", "holdout", "Begin again.")
