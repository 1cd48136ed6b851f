"""A small project with something in every table, made as users make it, and everything that is read of one."""

from __future__ import annotations

import datetime as dt
import shutil
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np

from tests.build import cross, walk_bars
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import EnvironmentTrouble
from wolbrin.core.jobs import Engine, State
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.treatment import Treatment
from wolbrin.core.proving.gate import Gate
from wolbrin.core.proving.holdout import HoldoutGate
from wolbrin.core.rules.axes import Axis
from wolbrin.core.rules.numbers import tunables
from wolbrin.core.rules.script import parse_strategy
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.store.brought import bring
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.plans import Plans
from wolbrin.core.store.portfolios import Portfolios
from wolbrin.core.store.project import Project, now
from wolbrin.core.store.results import Results
from wolbrin.core.store.searches import KINDS, Searches
from wolbrin.core.store.settings import OwnSpan, Settings
from wolbrin.core.store.shelf import Shelf
from wolbrin.core.store.views import SavedView, save_view, views
from wolbrin.core.store.wanted import EVERYTHING, Wanted
from wolbrin.core.work.funnel import funnel
from wolbrin.core.work.lines import gates_of, saved_lines
from wolbrin.core.work.portfolios import plan_of
from wolbrin.core.work.proving import prove_job
from wolbrin.core.work.standing import Standings, restand
from wolbrin.core.work.subject import Subject
from wolbrin.core.work.sweep_request import SweepRequest
from wolbrin.core.work.sweeping import sweep_job
from wolbrin.core.work.whole import portfolio_verdicts

SETTINGS = Settings(training_first=dt.date(2024, 1, 1), holdout_first=dt.date(2024, 8, 1), last=dt.date(2024, 12, 31))
ALONE: tuple[Gate, ...] = (HoldoutGate(),)


def _kept(project: Project, length: int) -> int:
    strategy = parse_strategy(f"name = 'trend {length}'\nlong_entry = crosses_above(close, ema({length}))\n"
                              "stop = 3 * atr(14)\n")
    run = backtest(project.prepared("AAA", 15), strategy, project.settings.brief(project.market("AAA").terms))
    Dossiers(project).keep_run(run, strategy.name)
    id = Dossiers(project).keep(candidate_of(run, strategy.name, "rules", 1), search=1, own=OwnSpan(last=dt.date(2024, 7, 1)))
    assert id is not None
    return id


def make_full(folder: Path) -> Path:
    """The project, closed."""
    engine = Engine(2)
    p = Project.create(folder, SETTINGS)
    for code, seed in (("AAA", 3), ("BBB", 4)):
        bars = walk_bars(7_000, seed=seed, code=code)
        p.add_market(bars.terms, bars, "test")
    p.sources.treat("AAA", "test", Treatment())
    p.sources.keep_layout(Layout(name="mine", columns=("time", "open", "high", "low", "close")))
    first = p.save_strategy(cross(name="one"), "AAA", 15)
    p.save_strategy(cross(name="two"), "BBB", 30, parent=first, own=OwnSpan(last=dt.date(2024, 7, 1)))
    axes = tuple(Axis(t.key, t.title, (5.0, 9.0)) for t in tunables(cross()) if not t.clock)[:2]
    job = sweep_job(p, SweepRequest(cross(name="one"), "AAA", 15, axes))[0]
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    begun = Searches(p).begin(now(), "trial", "broken off", {"version": 2}, market="AAA", interval=15, cursor={"first": 0})
    Results(p).add(f"search {begun}", "rows", {"a": np.arange(3.0)})
    with p.transaction() as db:
        db.execute("UPDATE searches SET state = 'interrupted' WHERE id = ?", (begun,))
        db.execute("INSERT INTO marks VALUES (1, 'a1')")
        db.execute("INSERT INTO answers (created, about, answer) VALUES (?, 'lead AAA BBB', 'known before')", (now(),))
        db.execute("INSERT INTO left_aside (created, what, why, body) VALUES (?, 'the run \"x\"', 'torn', '{}')", (now(),))
    bring(p, cross(name="brought"), "AAA", 15, None)
    ids = [_kept(p, n) for n in (8, 12)]
    shelf = Dossiers(p).shelf()
    job = prove_job(p, [Subject.of(k) for k in shelf], open_holdout=True, gates=ALONE)
    assert engine.start(job, "threads").wait() is State.DONE, job.error
    p.book.judge(now(), "AAA", "f" * 16, "gone", "falls", "It fell.", None)
    p.book.move(now(), SETTINGS.holdout_first, SETTINGS.holdout_first, "to try")
    ids.append(_kept(p, 20))
    plan = plan_of(Dossiers(p).shelf(), "Both")
    Portfolios(p).keep(plan, {"net": 1.0}, [k.candidate.record for k in Dossiers(p).shelf()])
    Shelf(p).set_clusters({ids[0]: 1})
    Shelf(p).star(ids[:1])
    save_view(p, "mine", SavedView())
    for key, value in (("place", "rules"), ("drawer", {"rules": True}), ("splitter", [300, 200]), ("share", 0.5),
                       ("strategy", first), ("distinct", ids), ("faults AAA test", [19_800]), ("conditions", "")):
        p.set_value(key, value)
    restand(p)
    p.journal.write()
    p.rows("PRAGMA wal_checkpoint(TRUNCATE)")
    p.close()
    engine.close()
    shutil.rmtree(folder / "copies", ignore_errors=True)
    return folder


def read_all(p: Project) -> dict[str, Any]:
    """Everything that windows and commands read of a project; what must never grow less for a wrong value."""
    restand(p)
    searches, dossiers, shelf = Searches(p), Dossiers(p), Shelf(p)
    for one in searches.all((*KINDS, "study", "brought")):
        searches.get(one.id), searches.record(one.id)
        with suppress(EnvironmentTrouble):  # files that are not what was written are named when they are read
            searches.rows(one.id)
    searches.interrupted(), [searches.last(k) for k in KINDS], searches.sharpe_on("AAA")
    for market in p.markets():
        p.book.judged(market.code), p.book.shown(market.code), Plans(p).before(market.code), p.sources.of(market.code)
        [p.sources.treatments(s.market, s.name) for s in p.sources.of(market.code)]
    ids = shelf.ids(EVERYTHING)
    lines = shelf.lines(ids)
    for key in ("tried", "name", "t", "created", "cluster"):
        shelf.ids(Wanted(key))
    shelf.groups("family", EVERYTHING), shelf.tags(), shelf.packed(list(ids)), shelf.stored(list(ids))
    kept = dossiers.shelf()
    standings = Standings(p, gates_of(p))
    stands = {k.hash: standings.of(k).stands for k in kept}
    [dossiers.evidence(k.hash, k.candidate.market, k.candidate.interval) for k in kept]
    dossiers.runs(), dossiers.counts(), funnel(p), Portfolios(p).all(), Plans(p).all(), p.sources.layouts(), views(p)
    p.strategies(), saved_lines(p), portfolio_verdicts(p), p.ground(), p.book.all(), p.book.moves(), p.journal.elsewhere()
    for key in ("place", "drawer", "splitter", "share", "strategy", "distinct", "faults AAA test", "conditions"):
        p.get_value(key)
    assert len(lines) == len(ids)
    border = p.settings.holdout_first
    return {"tried": searches.tried_on("AAA"), "openings": p.book.count(), "number": p.book.next_batch(),
            "falls": {key for key, (verdict, *_) in p.book.finals().items() if verdict == "falls"},
            "unseen": p.book.unseen_first(border), "border": border, "stands": stands}
