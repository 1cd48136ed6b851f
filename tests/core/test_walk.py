"""Walk-forward: folds on toy calendars."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.build import any_seed, cross, walk_bars
from tests.core.test_evidence import SETTINGS, fresh
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.bars import make_bars
from wolbrin.core.rules.axes import Axis
from wolbrin.core.search.folds import Fold, Length, Lengths, lay, moved
from wolbrin.core.search.objective import Floor
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.sweep_reading import read
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweeping import sweep_job
from wolbrin.core.work.walk_fits import fit_span, spans_to_fit, work_on

ONE = dt.timedelta(days=1)


def day(text: str) -> dt.date:
    return dt.date.fromisoformat(text)


def spans(folds: list[Fold]) -> list[tuple[str, str, str, str]]:
    return [(str(f.training_first), str(f.training_last), str(f.test_first), str(f.test_last)) for f in folds]


def of(training: str, test: str, gap: str = "", **more: bool) -> Lengths:
    return Lengths(Length.parse(training), Length.parse(test), Length.parse(gap) if gap else None, **more)


def test_folds_by_hand_over_months_of_different_length() -> None:
    """2024 is a leap year; the end of March is no day of February, and moves no later edge."""
    assert spans(lay(day("2023-12-01"), day("2024-03-31"), of("1m", "1m"))) == [
        ("2023-12-01", "2023-12-31", "2024-01-01", "2024-01-31"), ("2024-01-01", "2024-01-31", "2024-02-01", "2024-02-29"),
        ("2024-02-01", "2024-02-29", "2024-03-01", "2024-03-31")]
    assert spans(lay(day("2023-12-30"), day("2024-03-30"), of("1m", "1m"))) == [
        ("2023-12-31", "2024-01-30", "2024-01-31", "2024-02-28"), ("2024-01-29", "2024-02-28", "2024-02-29", "2024-03-30")]
    assert spans(lay(day("2020-02-29"), day("2023-06-30"), of("2y", "6m", backward=False))) == [
        ("2020-02-29", "2022-02-27", "2022-02-28", "2022-08-27"), ("2020-08-28", "2022-08-27", "2022-08-28", "2023-02-27")]


def test_anchored_gaps_and_both_ways() -> None:
    first, last = day("2020-01-01"), day("2022-12-31")
    assert spans(lay(first, last, of("1y", "6m", "1m", anchored=True))) == [
        ("2020-01-01", "2021-05-31", "2021-07-01", "2021-12-31"), ("2020-01-01", "2021-11-30", "2022-01-01", "2022-06-30"),
        ("2020-01-01", "2022-05-31", "2022-07-01", "2022-12-31")]
    assert spans(lay(first, last, of("1y", "6m", "1m", backward=False))) == [
        ("2020-01-01", "2020-12-31", "2021-02-01", "2021-07-31"), ("2020-07-01", "2021-06-30", "2021-08-01", "2022-01-31"),
        ("2021-01-01", "2021-12-31", "2022-02-01", "2022-07-31")]
    assert spans(lay(first, last, of("365d", "400d"))) == [("2020-11-27", "2021-11-26", "2021-11-27", "2022-12-31")]


def test_lengths_of_trades_count_entries() -> None:
    """Ten entries, one every tenth day: tests of three, fits of four before them."""
    entries = [day("2024-01-05") + dt.timedelta(days=10 * i) for i in range(10)]
    found = lay(day("2024-01-01"), day("2024-04-30"), of("4t", "3t"), entries)
    assert [(f.test_first, f.test_last) for f in found] == [(entries[4], entries[7] - ONE), (entries[7], day("2024-04-30"))]
    assert [f.training_first for f in found] == [entries[0], entries[3]]
    forward = lay(day("2024-01-01"), day("2024-04-30"), of("4t", "3t", backward=False), entries)
    assert [(f.test_first, f.test_last) for f in forward] == [(entries[3] + ONE, entries[6]), (entries[6] + ONE, entries[9])]


@settings(max_examples=300, deadline=None)
@given(st.dates(dt.date(2000, 1, 1), dt.date(2030, 1, 1)), st.integers(30, 4000), st.sampled_from(["30d", "2m", "7m", "1y"]),
       st.sampled_from(["17d", "1m", "5m", "1y"]), st.sampled_from(["", "3d", "1m"]), st.booleans(), st.booleans())
def test_test_spans_follow_each_other_and_no_fit_sees_them(first: dt.date, size: int, training: str, test: str, gap: str,
                                                           anchored: bool, backward: bool) -> None:
    last, lengths = first + dt.timedelta(days=size), of(training, test, gap, anchored=anchored, backward=backward)
    try:
        folds = lay(first, last, lengths)
    except UserError as err:
        assert "no fold fits" in str(err)
        return
    for f in folds:
        assert first <= f.training_first <= f.training_last < f.test_first <= f.test_last <= last
        assert (f.test_first == f.training_last + ONE) == (not gap)
        assert not anchored or f.training_first == first
    assert all(b.test_first == a.test_last + ONE for a, b in pairwise(folds))
    if backward:
        assert folds[-1].test_last == last
    rolling = lay(first, last, of(training, test, gap, backward=backward))
    assert [(f.training_last, f.test_first) for f in folds] == [(f.training_last, f.test_first) for f in rolling]


@given(st.dates(dt.date(1990, 1, 1), dt.date(2040, 1, 1)), st.integers(-600, 600))
def test_months_as_pandas_counts_them(at: dt.date, months: int) -> None:
    assert moved(at, months) == (pd.Timestamp(at) + pd.DateOffset(months=months)).date()


@pytest.mark.parametrize("text", ["", "m", "0m", "-3m", "3.5y", "12q", "nan", "99999999d"])
def test_lengths_that_are_none(text: str) -> None:
    with pytest.raises(UserError, match="is no length"):
        Length.parse(text)


def test_what_does_not_fit_is_said() -> None:
    with pytest.raises(UserError, match="no fold fits: fitted on 5 years before it, tested on 1 year"):
        lay(day("2020-01-01"), day("2024-12-31"), of("5y", "1y"))
    with pytest.raises(UserError, match="0 trades"):
        lay(day("2020-01-01"), day("2024-12-31"), of("5t", "1y"))
    with pytest.raises(UserError, match="at most 1,000 folds"):
        lay(day("2000-01-01"), day("2024-12-31"), of("5d", "1d"))
    with pytest.raises(UserError, match="a gap is of days"):
        lay(day("2020-01-01"), day("2024-12-31"), of("1y", "1y", "3t"))


# Fits


FAST, SLOW = "long.entry.rows.0.left.params.length", "long.entry.rows.0.right.params.length"


def asked(project: Project) -> SweepRequest:
    axes = (Axis(FAST, "fast", tuple(float(v) for v in range(2, 9))),
            Axis(SLOW, "slow", tuple(float(v) for v in range(10, 30, 3))))
    return SweepRequest(cross(), "AAA", 15, axes, floors=(Floor(key="trades", value=5.0),))


def test_a_fold_is_fitted_as_a_sweep_of_its_span_alone(tmp_path: Path) -> None:
    """Bit for bit what Sweep chooses on that span; spans that folds share are fitted once."""
    project, engine = fresh(tmp_path / "p"), Engine(2)
    request, footing = asked(project), Footing.of(project)
    training = project.settings
    days = project.prepared("AAA", 15).bars.trading_date
    first, last = (dt.date(1970, 1, 1) + dt.timedelta(days=int(d)) for d in (days[0], days[-1]))
    folds = lay(max(first, training.training_first), min(last, training.holdout_first - ONE), of("20d", "10d"))
    assert len(folds) >= 2
    assert len(spans_to_fit([*folds, *folds])) == len(folds)
    for one in spans_to_fit(folds)[:3]:
        job, result = sweep_job(project, replace(request, own=OwnSpan(first=one[0], last=one[1])))
        assert engine.start(job, "threads").wait() is State.DONE, job.error
        reading = read(result)
        for choice, row in (("center", reading.center if reading.center >= 0 else reading.best), ("best", reading.best)):
            fit = fit_span(work_on(footing, request, *one), choice)
            assert fit.values == (reading.values(row) if row >= 0 else None)
            assert fit.tried == len(reading)
            if row >= 0:
                assert fit.figures == pytest.approx({k: c[row] for k, c in reading.columns.items()}, nan_ok=True, abs=0)
                assert all(low <= v <= high for v, (low, high) in zip(fit.values or (), fit.near))
    engine.close()
    project.close()


def test_nothing_after_a_training_span_changes_what_it_chooses(tmp_path: Path) -> None:
    """Other bars from the next day on: the same set with the same figures."""
    seed = any_seed()
    rng, fits = np.random.default_rng(seed), []
    whole = walk_bars(2600, seed=int(rng.integers(1000)), code="AAA")
    days = np.unique(whole.trading_date)
    sealed = (SETTINGS.holdout_first - dt.date(1970, 1, 1)).days
    cut = days[int(rng.integers(25, np.searchsorted(days, sealed)))]
    last = dt.date(1970, 1, 1) + dt.timedelta(days=int(cut))
    for turn in range(2):
        project = Project.create(tmp_path / str(turn), SETTINGS)
        later = whole.trading_date > cut
        moved_by = np.where(later, rng.integers(-30, 30, len(whole)) * turn, 0) * whole.terms.tick_size
        prices = (whole.open + moved_by, whole.high + moved_by, whole.low + moved_by, whole.close + moved_by)
        bars = make_bars(whole.terms, whole.interval, whole.time, prices, whole.volume)
        project.add_market(bars.terms, bars, "test")
        fits.append(fit_span(work_on(Footing.of(project), asked(project), last - dt.timedelta(days=24), last)))
        project.close()
    assert (fits[0].values, fits[0].near) == (fits[1].values, fits[1].near)
    assert fits[0].figures == pytest.approx(fits[1].figures, nan_ok=True, abs=0)
