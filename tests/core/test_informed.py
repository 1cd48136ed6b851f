"""Discover that begins with what was seen: what it draws, what a filter must add, what it is charged, families."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from tests.core.scan_markets import edge, noise
from wolbrin.core.bits import pack
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.bars import Span
from wolbrin.core.proving.gate import Case
from wolbrin.core.proving.line import usual_line, walk_line
from wolbrin.core.rules.model import Condition
from wolbrin.core.scan.families import SCANNED
from wolbrin.core.scan.informed import InformedExplorer
from wolbrin.core.scan.informed_drawing import InformedDrawer
from wolbrin.core.scan.moves import END
from wolbrin.core.search.breeding import class_of, of_controls
from wolbrin.core.search.drawing import step_code
from wolbrin.core.search.filters import CLEAR, Shuffled, Taken
from wolbrin.core.search.genotype import FACING, STOP, TARGET, TIME, Plan, rows_at, turned
from wolbrin.core.search.ingredients import AT, MOST_AT, NOT, PLAIN, ROWS, TURNED, Pantry, Sources
from wolbrin.core.search.limits import SIDES, informed_limits
from wolbrin.core.search.objective import Floor
from wolbrin.core.search.simpler import Simplifier
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.store.wanted import Wanted
from wolbrin.core.work.discover_beside import QUIET, Beside
from wolbrin.core.work.discover_request import DiscoverRequest
from wolbrin.core.work.discover_results import DiscoverResult, kept_rows
from wolbrin.core.work.discover_said import said_of
from wolbrin.core.work.discover_seen import chosen_after
from wolbrin.core.work.discovering import discover_job, read_discover, resume_discover
from wolbrin.core.work.finding_families import families_in
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.origins import Origins
from wolbrin.core.work.proving import case_of
from wolbrin.core.work.scan_request import ScanRequest
from wolbrin.core.work.scan_tries import scanned_on
from wolbrin.core.work.scanning import scan_job
from wolbrin.core.work.subject import Subject

LIMITS = informed_limits().model_copy(update={"pool": 240})
PANTRY = Pantry(SCANNED, Sources(15))
LONG, SHORT = SIDES.index("long"), SIDES.index("short")


def project_of(folder: Path, history: Prepared, ticks: float = 0.5) -> Project:
    """A project of one generated market, at a slippage of so many ticks a side."""
    made = Project.create(folder, Settings(training_first=dt.date(2010, 1, 1), holdout_first=dt.date(2038, 1, 1),
                                           last=dt.date(2040, 1, 1)))
    terms = history.bars.terms.model_copy(update={"spread_ticks": 0.0, "slippage_ticks": ticks})
    made.add_market(terms, replace(history.bars, terms=terms), "generated")
    return made


def asked(seed: int = 1, count: int = 768, controls: int = 2, rows: int = 700, **other: Any) -> DiscoverRequest:
    return DiscoverRequest((("TST", 15),), LIMITS, method="informed", count=count, controls=controls, rows=rows, seed=seed,
                           **other)


def searched(project: Project, request: DiscoverRequest, threads: int = 2) -> DiscoverResult:
    engine = Engine(threads)
    job, result = discover_job(project, request)
    state = engine.start(job, "threads").wait()
    engine.close()
    assert state is State.DONE, job.error
    return read_discover(project, result.search)


def explorer_of(history: Prepared, seed: int = 3, rows: int = 700) -> InformedExplorer:
    return InformedExplorer(history, Brief(), Plan(LIMITS.on(history.bars.terms)), PANTRY, seed, rows)


@pytest.fixture(scope="module")
def opening() -> InformedExplorer:
    made = explorer_of(edge("opening momentum", 5.0, 4).history)
    made.prepare()
    return made


# What is drawn


def test_what_is_drawn_follows_what_was_seen(opening: InformedExplorer) -> None:
    drawer, seen = opening.prepare(), opening.evidence
    assert isinstance(drawer, InformedDrawer)
    assert seen is not None
    assert seen.strength.max() > 1.2
    drawn = np.concatenate([drawer.batch((5, b)) for b in range(8)])
    assert np.array_equal(drawn[:256], drawer.batch((5, 0))), "same key, same candidates"
    entries = rows_at(0)[0]
    strengths: list[float] = []
    for one in drawn:
        code = int(one[entries.start])
        at = seen.of(code & ~(TURNED | NOT))
        assert at >= 0, "entries begin with rows that were looked at"
        strengths.append(seen.strength[at])
        if one[FACING] in (LONG, SHORT):  # in the direction in which price went
            assert (seen.t[at] > 0) == (one[FACING] == LONG)
            flipped = bool(code & TURNED)
            assert flipped == (one[FACING] == SHORT and not seen.clock[at])
    share = Counter("beyond" if s >= 1 else "near" if s >= 0.75 else "far" for s in strengths)
    assert share["beyond"] > 2 * share["far"] > 0, "those beyond luck most, all others still a little"
    # Exits fit: no time exit where it was held to the session's end, one about the horizon else, stops and targets or none.
    times = drawer.options["time_exit"]
    for one in drawn:
        at = seen.of(int(one[entries.start]) & ~(TURNED | NOT))
        near = {level for level, t in zip(seen.levels, seen.every[at]) if abs(t) >= 0.79 * abs(seen.t[at])}
        if one[TIME] > 0:
            assert any(h != END and h / 2.3 <= times[one[TIME]] <= 2.3 * h for h in near)
    assert 0.1 < float((drawn[:, STOP] == 0).mean()) < 0.6
    assert 0.3 < float((drawn[:, TARGET] == 0).mean()) < 0.9


def test_a_row_of_one_bar_turned_over_or_denied_is_what_its_code_says(opening: InformedExplorer) -> None:
    seen, rng = opening.evidence, np.random.default_rng(8)
    assert seen is not None
    back = 0
    some = rng.permutation(len(seen.codes))[:300]
    for at in some:
        code = int(seen.codes[at])
        node = opening.node(code)
        assert node is not None
        mirror = opening.node(code | TURNED)
        assert mirror is not None
        assert mirror == turned(node)
        back += turned(mirror) == node
        denied = opening.node(code | NOT)
        assert isinstance(denied, Condition)
        assert denied.match == "none"
        assert denied.rows == (node,)
        moved = step_code(rng, PANTRY, code | TURNED)
        assert moved & TURNED
        assert (moved & PLAIN) >> ROWS == (code & PLAIN) >> ROWS
        before, after = (code >> AT) & MOST_AT, (moved >> AT) & MOST_AT
        assert abs(before - after) <= 1
        assert (not before or after)
    assert back >= 0.97 * len(some), "what is turned over twice is what it was"


# What a filter must add


def _plain_p(shuffled: Shuffled, taken: Taken, flags: np.ndarray, start: np.ndarray, session: np.ndarray,
             source: np.ndarray) -> tuple[float, int]:
    """The same by hand: how much what a filter lets through earns beyond the mean, beside moved ones."""
    off, n = taken.earned - taken.earned.mean(), len(taken.bar)

    def beyond(lets: np.ndarray) -> float:
        out = n - lets.sum()
        return float(off[lets].sum() / np.sqrt(out * lets.sum() / n)) if 0 < lets.sum() < n else 0.0

    actual, as_bad = beyond(flags[taken.bar]), 0
    done = 0
    for row in source:
        done += 1
        at = start[row[session[taken.bar]]] + taken.bar - start[session[taken.bar]]
        as_bad += beyond(flags[at]) >= actual - 1e-12
        if as_bad >= CLEAR:
            break
    return (1 + as_bad) / (1 + done), done


def test_a_filter_is_held_against_itself_moved_by_sessions() -> None:
    """Of filters that know nothing 5 in 100 reach p of 5%; one that knows does; twins by hand."""
    bars = noise("plain", 5, 300).bars
    rng = np.random.default_rng(11)
    shuffled = Shuffled(bars, 0, len(bars), 7)
    sessions, start, session = np.unique(bars.session, return_index=True, return_inverse=True)
    low = 0
    for i in range(300):
        bar = np.sort(rng.choice(len(bars), 400, replace=False))
        taken = Taken(bar, np.zeros(400, np.int8), rng.standard_t(4, 400))
        by_day = rng.random(len(sessions)) < 0.5  # such as a filter that holds for days
        flags = by_day[session] ^ (rng.random(len(bars)) < 0.2)
        words = pack((flags.view(np.uint8),), len(bars))[:, 0]
        p = shuffled.p(taken, (words, None))
        low += p <= 0.05
        if i < 12:
            source = np.random.default_rng((7, 39))
            table = np.tile(np.arange(len(sessions)), (199, 1))
            for row in table:
                row[:] = source.permutation(len(sessions))
            assert p == pytest.approx(_plain_p(shuffled, taken, flags, start, session, table)[0])
    assert 2 <= low <= 33, low  # 15 are expected: one in 10,000 lies outside
    knows = taken.earned > 0
    flags = rng.random(len(bars)) < 0.5
    flags[taken.bar] = knows
    words = pack((flags.view(np.uint8),), len(bars))[:, 0]
    assert shuffled.p(taken, (words, None)) == pytest.approx(1 / 200)
    assert shuffled.p(taken, (None, None)) == 1.0, "what leaves out nothing adds nothing"
    hours = (np.arange(len(bars)) - start[session]) < 8  # of the clock: hours are turned round, not sessions moved
    taken = replace(taken, earned=np.where(hours[taken.bar], 1.0, -1.0) + 0.1 * rng.normal(size=400))
    assert shuffled.p(taken, (pack((hours.view(np.uint8),), len(bars))[:, 0], None)) < 0.02


def test_a_find_is_as_simple_as_it_trades(opening: InformedExplorer) -> None:
    """An idle filter, and exits that change nothing, are left out; a row that makes the edge stays."""
    drawer, seen = opening.prepare(), opening.evidence
    assert seen is not None
    simplify = Simplifier(opening, drawer, 0.95)
    best = int(np.argmax(np.where((seen.t > 0) & ~seen.clock, seen.strength, 0)))
    one = np.full(len(drawer.batch((1, 0))[0]), -1, np.int64)
    one[:] = np.where(one < 0, -1, one)
    one[0] = one[rows_at(1)[0].start - 1] = 0
    for side in range(2):
        one[rows_at(side)[0].start - 1] = one[rows_at(side)[1].stop] = 0
    one[STOP:] = 0
    one[FACING] = LONG
    entries = rows_at(0)[0]
    one[entries.start] = seen.codes[best]
    assert np.array_equal(simplify.of(one).genotype, one), "a single row stays"
    always = [int(c) for c, s, strength in zip(seen.codes, seen.state, seen.strength) if s and strength < 0.5][:40]
    kept = 0
    for idle in always:
        two = one.copy()
        two[entries.start + 1] = idle
        two[TIME] = len(drawer.options["time_exit"]) - 1  # 40 bars, in sessions of 32
        simpler = simplify.of(two)
        kept += int((simpler.genotype[entries] >= 0).sum()) == 2
        assert simpler.genotype[TIME] == 0
        assert int(seen.codes[best]) in simpler.genotype[entries]
    assert kept <= 9, kept  # 2 of 40 are expected; a filter that leaves out the weaker part of an edge may add


# Beside the controls


def test_selection_goes_by_what_is_beyond_controls_of_as_many_rows() -> None:
    assert of_controls([(1.0, 2.0, float("nan")), (2.0, 3.0, 5.0), (1.5, float("nan"), 4.0)]) == (1.5, 2.5, 4.5)
    assert of_controls([]) == ()
    assert of_controls([(float("nan"),) * 3]) == ()
    genotypes = np.full((3, len(PLACES)), -1, np.int64)
    genotypes[1, rows_at(0)[0].start:rows_at(0)[0].start + 2] = 5
    genotypes[2, rows_at(1)[0].start:rows_at(1)[0].start + 4] = 5
    assert class_of(genotypes).tolist() == [0, 1, 2]


PLACES = range(rows_at(1)[1].stop + 7)


def test_a_search_ends_where_generations_bring_nothing_beyond_their_controls() -> None:
    beside = Beside(1, 2)
    for turn in range(6 * (1 + QUIET)):
        for stream in range(3):
            assert beside.luck(stream, turn) is not None
            new = [5.0] if stream == 0 and turn == 2 else [4.0] if stream and turn == 3 else []
            beside.tell(stream, turn, (1.0 + stream, 2.0, float("nan")), new)
        beside = Beside.from_json(beside.as_json())  # as after a kill
        if turn < 6 * QUIET:
            assert not beside.words
    assert beside.luck(0, 6) == (2.5, 2.0, 2.0), "the middle of the controls"
    assert beside.luck(1, 6 * QUIET + 6)[0] == 3.0, "a control beside the other"  # type: ignore[index]
    assert beside.quiet == QUIET
    assert "beyond what its controls had found" in beside.words


# Whole searches


@pytest.fixture
def project(tmp_path: Path) -> Iterator[Project]:
    made = project_of(tmp_path / "p", edge("opening momentum", 5.0, 12).history)
    yield made
    made.close()


def _told(project: Project, result: DiscoverResult) -> list[tuple[Any, ...]]:
    tables = kept_rows(project, result)
    return [(result.tried, result.met, result.kept, result.twins, result.alike, result.idle, result.counts),
            *((t["number"].tolist(), t["m_t_daily"].tolist()) for t in tables if t)]


def test_same_bits_for_any_number_of_threads_and_after_a_stop(project: Project, tmp_path: Path) -> None:
    request = asked(count=1_600)
    whole = searched(project, request)
    again = project_of(tmp_path / "two", edge("opening momentum", 5.0, 12).history)
    engine = Engine(1)
    seen: list[int] = []

    def stop(result: DiscoverResult) -> None:
        seen.append(result.tried)
        if result.tried >= 500 and len(seen) > 2:
            job.stop()

    job, result = discover_job(again, request, stop)
    engine.start(job, "threads").wait()
    assert 0 < result.tried < request.count
    job, _ = resume_discover(again, result.search)
    assert engine.start(job, "threads").wait() is State.DONE
    engine.close()
    ended = read_discover(again, result.search)
    assert _told(project, whole) == _told(again, ended)
    assert whole.scans == ended.scans
    assert whole.scans[0].beyond > 0
    again.close()


def test_what_is_found_is_the_planted_edge_in_families_and_becomes_ready(project: Project) -> None:
    result = searched(project, asked(controls=4))
    assert result.kept
    assert result.luck.beyond
    families = families_in(project, result.search)
    shelf = Shelf(project)
    ids = shelf.ids(Wanted(search=result.search)).tolist()
    assert sorted(i for f in families.families for i in f.members) == sorted(ids)
    assert 1.0 <= families.bets <= len(ids)
    assert len(families.families) <= len(ids)
    first = families.families[0]
    lines = {line.id: line for line in shelf.lines(ids)}
    assert all(lines[i].marks.leads == f.leads for f in families.families for i in f.members)
    assert lines[first.leads].marks.behind == len(first.members) - 1
    assert shelf.ids(Wanted(search=result.search, representatives=True, sort="t_daily", down=True)).tolist() == sorted(
        (f.leads for f in families.families), key=lambda i: -lines[i].figures["t_daily"])
    # The strongest reads like the truth: held into the close after the session's first half hour, in its direction.
    kept = shelf.body(first.leads)
    assert kept is not None
    said = said_of(project, result.request, result.search, lines[first.leads])
    assert "beyond luck" in said[0], said
    fresh = edge("opening momentum", 5.0, 99_012).history
    case = case_of(Footing.of(project), Subject.of(kept), Span(), Origins(project))
    outcomes = walk_line(case, usual_line().gates())
    assert outcomes[-1].passed, outcomes[-1].reason
    terms = case.history.bars.terms
    other = Prepared.of(replace(fresh.bars, terms=terms))
    assert backtest(other, case.strategy, replace(case.brief, span=Span()), detail=False).profits.sum() > 0
    shelf.remove([first.leads])
    if len(first.members) > 1:
        assert set(first.members[1:]) <= set(shelf.ids(Wanted(representatives=True)).tolist()), "whoever led it is gone"


def test_noise_ends_early_with_nothing(tmp_path: Path) -> None:
    made = project_of(tmp_path / "n", noise("plain", 31, 500))
    result = searched(made, asked(count=6_144))
    assert result.tried <= 6_144
    assert (result.ended or result.kept)
    assert result.kept <= 12
    assert not made.rows("SELECT id FROM candidates WHERE stands = 'ready'")
    made.close()


# What it is charged


def test_scans_are_not_charged_unless_something_was_chosen_after_them(project: Project) -> None:
    def scan(request: ScanRequest) -> None:
        engine = Engine(2)
        job, _ = scan_job(project, request)
        assert engine.start(job, "threads").wait() is State.DONE
        engine.close()

    def case_and(request: DiscoverRequest) -> tuple[Case, float]:
        result = searched(project, request)
        kept = Shelf(project).bodies(Shelf(project).ids(Wanted("t_daily", True, search=result.search))[:1].tolist())[0]
        case = case_of(Footing.of(project), Subject.of(kept), Span(), Origins(project))
        return replace(case, tried_on=Searches(project).tried_on("TST")), chosen_after(project, result.search, request, "TST")

    where = (("TST", 15),)
    scan(ScanRequest(where, count=400, draws=100))
    assert scanned_on(project, "TST") > 500
    whole = replace(asked(count=256), rows=DiscoverRequest(where).rows)
    case, reach = case_and(whole)
    assert np.isnan(reach)
    assert case.origin is not None
    assert np.isnan(case.origin.reach)
    own = list(Searches(project).all(["scan place"]))
    assert own
    assert own[-1].tried + Searches(project).all(["scan"])[-1].tried == scanned_on(project, "TST")
    assert case.origin is not None
    assert case.origin.scanned == scanned_on(project, "TST")
    assert case.tried_on == case.origin.tried + case.origin.scanned
    luck = next(g for g in usual_line().gates() if g.key == "luck")
    assert luck.judge(case).figures["others"] == 1.0
    # Fewer rows, after scans were seen: it must reach what their strongest row of luck passes in 10 of 100 draws.
    case, reach = case_and(asked(seed=2, count=256))
    assert 3.0 < reach < 6.0
    assert case.origin is not None
    assert case.origin.reach == reach
    assert case.origin is not None
    weak = replace(case, origin=replace(case.origin, strength=reach - 0.01))
    told = luck.judge(weak)
    assert not told.passed
    assert "after a scan was seen" in told.reason
    # Other floors, and further controls, look at nothing anew.
    counted = Searches(project).tried_on("TST")
    engine = Engine(2)
    for change in ({"floors": (Floor(key="profit_factor", value=1.05),)}, {"controls": 3}):
        job, _ = resume_discover(project, case.origin.search, **change)
        assert engine.start(job, "threads").wait() is State.DONE, job.error
    engine.close()
    assert Searches(project).tried_on("TST") == counted
    ended = read_discover(project, case.origin.search)
    assert len({c.tried for c in ended.counts}) == 1, "those that were added tried as many"
    # A search that does not look is charged for all of it.
    plain = searched(project, DiscoverRequest(where, LIMITS, method="random", count=512, controls=2, seed=5))
    origin = Origins(project).of(plain.search, "TST", 15, 0)
    assert origin is not None
    assert origin.scanned == 0
