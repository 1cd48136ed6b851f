"""A sweep as a job: blocks on threads; rows, daily results and where it stands are kept together as they come."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from wolbrin.core.batch.variants import Block
from wolbrin.core.engine.run import backtest, record_of
from wolbrin.core.jobs import Job, State, Work
from wolbrin.core.measures.catalogue import SUMMARY
from wolbrin.core.measures.inference import Tally
from wolbrin.core.rules.mirror import with_sides
from wolbrin.core.search.overfitting import block_sums
from wolbrin.core.search.planners import Known
from wolbrin.core.store.database import this_program
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.searches import ROWS, Searches
from wolbrin.core.store.tables import Columns
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.sweep_estimate import check_sets, count_of, first_set, seconds_a_set
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweep_results import (
    COLUMN,
    DAYS,
    KIND,
    REFUSED,
    SUMS,
    SweepResult,
    daily_table,
    named_columns,
    older_than,
    questions_again,
    read_sweep,
    reused_by,
)
from wolbrin.core.work.sweep_source import SetSource, Stored
from wolbrin.core.work.sweep_work import PARTS, Done, SweepWork, evaluate_block, questions_of

MOST_DAILY = 20_000  # sets of a sweep whose daily results are kept
SHARPE = SUMMARY.index("sharpe_daily")


def _job(project: Project, work: SweepWork, result: SweepResult, source: SetSource, counted: dict[str, list[int]],
         reused: int, notify: Callable[[SweepResult], None]) -> Job:
    """The job of a sweep that is on record. counted: searches that count what is tried, by market and interval; none where
    the sweep's own row does. reused: sets that older sweeps had simulated."""
    searches, request = Searches(project), work.request

    def commit(blocks: list[Done], cursor: dict[str, Any]) -> None:
        settings, figures = np.concatenate([b.settings for b in blocks]), np.concatenate([b.figures for b in blocks])
        refused = result.refused + sum(b.refused for b in blocks)
        gone = np.concatenate([b.gone for b in blocks])
        tables: dict[str, Columns] = {ROWS: named_columns(request, settings, figures), REFUSED: {"set": gone}}
        tables |= dict(_daily_parts(work, blocks))
        with project.transaction():
            for b in blocks:
                if len(b.settings):
                    place = request.place(tuple(b.settings[0].tolist()))
                    for id in counted.get(f"{place.market} {place.interval}", [result.search]):
                        searches.advance(id, len(b.settings), 0, [Tally.of(b.figures[:, SHARPE])])
            searches.commit(result.search, cursor | {"refused": refused, "total": reused + source.total}, tables)
        searches.tidy(result.search)
        result.refused, result.total = refused, reused + source.total
        result.refused_sets = np.concatenate([result.refused_sets, gone])
        result.add(settings, figures)
        notify(result)

    def finish(state: State) -> None:
        result.unfinished = state is not State.DONE
        result.total = reused + source.total
        work.let_go()
        for id in (result.search, *(i for ids in counted.values() for i in ids)):
            searches.end(id, state)

    return Job(request.title, "sets", source, Work(evaluate_block, work), commit=commit, finish=finish)


def _daily_parts(work: SweepWork, blocks: Sequence[Block]) -> list[tuple[str, Columns]]:
    """Tables of daily results, one a market."""
    request, found = work.request, []
    for market in request.markets:
        some = [b for b in blocks if len(b.settings) and b.daily.shape[1]
                and request.place(tuple(b.settings[0].tolist())).market == market]
        if not some:
            continue
        named = named_columns(request, np.concatenate([b.settings for b in some]), None)
        daily = np.concatenate([b.daily for b in some])
        if work.daily == "all":
            found.append((daily_table(request, market), named | {"daily": daily}))
        else:
            sums, squares, _ = block_sums(daily, PARTS)
            found.append((daily_table(request, market, SUMS),
                          named | {"sums": sums.astype(np.float32), "squares": squares.astype(np.float32)}))
    return found


def sweep_job(project: Project, request: SweepRequest,
              notify: Callable[[SweepResult], None] = lambda result: None) -> tuple[Job, SweepResult]:
    """Prepare a sweep over the training span. Raises UserError before anything runs when it cannot be run.

    notify: called on the job's thread after rows were kept.
    """
    searches, footing = Searches(project), Footing.of(project)
    questions = questions_of(footing, request)
    history, question = next(iter(questions.values()))
    some = first_set(request)
    sides = next((p.sides for p in request.places), "")
    backtest(history, with_sides(some, sides) if sides else some, question.brief, detail=False)
    older = older_than(project, request, questions)
    request = replace(request, base=request.base if older else 0,
                      count=0 if request.method == "every" else count_of(request))
    at, figures = reused_by(request, older)
    known = Known(request.measures, request.objective, request.floors)
    if len(at):
        known.add(at, figures)
    plan = check_sets(request, known, lambda: seconds_a_set(footing, request))
    several = len(questions) > 1
    tried = searches.tried()
    records = {p: record_of(h, request.strategy, g.brief, tried=tried.get(p[0], 0) + plan.total, seeds=_seeds(request))
               for p, (h, g) in questions.items()}
    with project.transaction():
        search = searches.begin(now(), KIND, request.title, request.as_json(), record=next(iter(records.values())),
                                market="" if several else request.places[0].market,
                                interval=0 if several else request.places[0].interval, columns=request.measures,
                                cursor={"first": 0, "refused": 0, "total": len(at) + plan.total})
        counted = {f"{m} {i}": [searches.begin(now(), COLUMN, request.title, {"sweep": search}, record=records[m, i],
                                               market=m, interval=i)] for m, i in (questions if several else ())}
        for market in request.markets:
            days = next(g.market_days for (m, _), (_, g) in questions.items() if m == market)
            searches.add(search, daily_table(request, market, DAYS), {"day": days})
        if len(at):
            searches.add(search, ROWS, named_columns(request, request.space.values(at), figures))
    result = SweepResult(request, next(iter(records.values())), search, len(at) + plan.total,
                         records=records if several else {}, older=older)
    if len(at):
        result.add(request.space.values(at), figures)
    work = SweepWork(footing, request, tuple((p, g) for p, (_, g) in questions.items()),
                     "all" if plan.total <= MOST_DAILY else "sums")
    source = SetSource(plan, request.space.inner, Stored.of(at, figures))
    return _job(project, work, result, source, counted, len(at), notify), result


def _seeds(request: SweepRequest) -> tuple[int, ...]:
    return () if request.method == "every" else (request.seed,)


def resume_sweep(project: Project, search: int,
                 notify: Callable[[SweepResult], None] = lambda result: None) -> tuple[Job, SweepResult]:
    """Go on with a sweep where it was. Raises UserError when it cannot be, such as on another history."""
    searches, footing = Searches(project), Footing.of(project)
    result = read_sweep(project, search)
    request = result.request
    questions = questions_again(project, footing, result)
    with project.transaction() as db:
        stored = searches.take_up(search)
        counted: dict[str, list[int]] = {}
        if len(questions) > 1:
            for r in project.rows("SELECT id, market, interval FROM searches WHERE kind = ? AND "
                                  "json_extract(request, '$.sweep') = ?", COLUMN, search):
                counted[f"{r['market']} {r['interval']}"] = [r["id"]]
                db.execute("UPDATE searches SET state = 'running', program = ? WHERE id = ?", (this_program(), r["id"]))
    result.unfinished = False
    cursor = stored.cursor or {}
    settings, figures = result.table()
    at = request.space.find(settings)
    known = Known(request.measures, request.objective, request.floors)
    reused, its = reused_by(request, result.older)
    if len(reused):
        known.add(reused, its)
    plan = check_sets(request, known, lambda: 0.0)
    work = SweepWork(footing, request, tuple((p, g) for p, (_, g) in questions.items()),
                     "all" if plan.total <= MOST_DAILY else "sums")
    source = SetSource(plan, request.space.inner, Stored.of(at, figures), cursor.get("first", 0))
    return _job(project, work, result, source, counted, len(reused), notify), result
