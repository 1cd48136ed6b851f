"""The command line through its real entry point: results, exit codes, one-sentence errors."""

from __future__ import annotations

import io
import json
import os
import subprocess
import sys
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from typing import Any
from unittest.mock import patch

import numpy as np
import pandas as pd
import pytest

from tests.build import SHORT
from wolbrin.cli.main import build, with_folder
from wolbrin.core.engine.ledger import LEDGER
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.csv_files import read_bars
from wolbrin.core.market.intervals import to_interval
from wolbrin.core.market.terms import load_terms
from wolbrin.core.rules.model import Filters, Window, load_strategy
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.study.answers import StudyAnswer, TrialAnswer
from wolbrin.core.unforeseen import sentence_of
from wolbrin.core.work.discover_answer import DiscoverAnswer, ShelfAnswer
from wolbrin.core.work.shelving import CandidateFile
from wolbrin.core.work.sweep_answer import SweepAnswer
from wolbrin.core.work.varying import axes_of
from wolbrin.core.work.walk_answer import WalkAnswer
from wolbrin.main import demo_folder, open_window

FILES = Path(__file__).parents[2] / "src/wolbrin/demo/files"


def wolbrin_apart(*arguments: object, code: int = 0) -> subprocess.CompletedProcess[str]:
    """The command as a process of its own, as users run it."""
    out = subprocess.run([sys.executable, "-m", "wolbrin", *map(str, arguments)], capture_output=True, text=True,
                         check=False, env=os.environ | {"COLUMNS": "200"})
    return _checked(out, code)


def wolbrin(*arguments: object, code: int = 0) -> subprocess.CompletedProcess[str]:
    """The command in this process, where nothing has to be loaded anew: the same but for who ends it."""
    words = [*map(str, arguments)]
    out, err, ended = io.StringIO(), io.StringIO(), 0
    with redirect_stdout(out), redirect_stderr(err), patch.dict(os.environ, COLUMNS="200"):
        try:
            build(open_window, demo_folder, list, words, lambda: None)(args=with_folder(words), prog_name="wolbrin")
        except SystemExit as end:
            ended = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
        except Exception as fault:
            print(sentence_of(fault), file=err)
            ended = 1
    return _checked(subprocess.CompletedProcess(words, ended, out.getvalue(), err.getvalue()), code)


def _checked(out: subprocess.CompletedProcess[str], code: int) -> subprocess.CompletedProcess[str]:
    assert out.returncode == code, out.stdout + out.stderr
    assert "Traceback" not in out.stderr
    return out


def result(*arguments: object) -> Any:
    return json.loads(wolbrin(*arguments, "--json").stdout)


def test_backtest_from_three_files_needs_no_project() -> None:
    got = json.loads(wolbrin_apart("backtest", "--bars", FILES / "npw-iso.csv", "--market", FILES / "market-npw.json",
                                   "--strategy", FILES / "strategy-tern.json", "--interval", 15, "--equity", "--json").stdout)
    terms = load_terms(FILES / "market-npw.json")
    from wolbrin.core.engine.brief import Brief
    from wolbrin.core.market.costs import Costs

    run = backtest(to_interval(read_bars(FILES / "npw-iso.csv", terms), 15), load_strategy(FILES / "strategy-tern.json"),
                   Brief(costs=Costs.of(terms)))
    assert got["fingerprint"] == run.fingerprint
    assert list(got["ledger"]) == [c.name for c in LEDGER]
    assert got["ledger"]["net"] == run.profits.tolist()
    assert got["ledger"]["entry_time"][0].endswith("Z")
    assert got["equity"]["net"] == run.net.tolist()
    assert got["counts"]["late"] == 0
    assert got["measures"]["trades"] == len(run)


def test_fine_fills_conversion_and_orders_from_files(tmp_path: Path) -> None:
    """Finer bars, a market that quotes the conversion rate, and the order log, all from files."""
    terms = json.loads((FILES / "market-npw.json").read_text())
    (tmp_path / "npw.json").write_text(json.dumps(terms | {"conversion_market": "RATE", "conversion_inverse": True}))
    (tmp_path / "rate.json").write_text(json.dumps(terms | {"code": "RATE"}))
    base = ["backtest", "--bars", FILES / "npw-iso.csv", "--strategy", FILES / "strategy-tern.json", "--interval", 15]
    plain = result(*base, "--market", FILES / "market-npw.json")
    fine = result(*base, "--market", FILES / "market-npw.json", "--finer", FILES / "npw-iso.csv", "--orders")
    assert (plain["record"]["fine_fills"], fine["record"]["fine_fills"]) == (False, True)
    assert len(fine["orders"]["event"]) >= 3 * fine["measures"]["trades"]
    assert "orders" not in plain
    rated = result(*base, "--market", tmp_path / "npw.json", "--rates", FILES / "npw-iso.csv", "--rates-market",
                   tmp_path / "rate.json")
    rates = np.array(rated["ledger"]["conversion_rate"])
    np.testing.assert_allclose(rated["ledger"]["gross"], np.array(plain["ledger"]["gross"]) * rates, rtol=1e-9)
    missing = wolbrin(*base, "--market", tmp_path / "npw.json", code=1)
    assert "RATE, which is not at hand" in missing.stderr


def _file(folder: Path, text: str) -> Path:
    path = folder / "given.json"
    path.write_text(text)
    return path


def test_the_whole_job_headless(demo: Path, tmp_path: Path) -> None:
    """backtest, sweep, discover, prove, overlap and portfolio on one project, each result in the project afterwards."""
    one = result("backtest", "-p", demo, "-s", "Tern breakout")
    assert one["record"]["market"] == "NPW"
    again = result("backtest", "-p", demo, "-s", "Tern breakout")
    assert one == again
    swept = result("sweep", "-p", demo, "-s", "Tern breakout", "--vary", "stop.amount=2:3:0.5",
                   "--vary", "target.amount=2:3:1")
    assert swept["tried"] == swept["tried_on_market"] == 6
    assert (swept["record"]["tried"], swept["record"]["role"]) == (6, "training")
    same = next(r for r in swept["results"] if r["settings"] == {"stop.amount": 2.5, "target.amount": 3.0})
    assert same["measures"]["net"] == pytest.approx(one["measures"]["net"])
    found = result("discover", "-p", demo, "-m", "NPW", "--until", "tried=256", "--pool", 200, "--floor", "trades>=100",
                   "--floor", "profit_factor>=1.1", "--control", 1, "--method", "random")
    DiscoverAnswer.model_validate(found)
    assert (found["tried"], found["tried_on_market"], found["record"]["tried"]) == (256, {"NPW": 262}, 262)
    assert found["sharpe_daily"]["NPW"]["count"] > 40
    assert {c["tried"] for c in found["candidates"]} == {262}
    assert found["kept"] == len(found["candidates"]) > 2
    assert len(found["luck"]["controls"]) == 1
    assert sum(f["rejected"] for f in found["floors"]) + found["met"] + found["too_few_signals"] == 256
    ids = [c["id"] for c in found["candidates"]][:3]
    short = tmp_path / "short.json"
    short.write_text(SHORT.model_dump_json())
    wolbrin("line", "save", "short", short, "-p", demo)
    proved = result("prove", "-p", demo, *ids, "--line", "short")
    assert [g["gate"] for g in proved["funnel"]] == ["monte_carlo", "holdout"]
    assert all("monte_carlo" in c["gates"] and "holdout" not in c["gates"] for c in proved["candidates"])
    assert proved["openings"] == 0
    assert proved["next_opening"]["number"] == 1
    mixed = result("monte-carlo", "-p", demo, ids[0], "--paths", 200)[0]
    assert mixed["figures"]["drawdown_95"] >= mixed["figures"]["drawdown_median"] > 0
    assert mixed["capital"]["0.01"] >= mixed["capital"]["0.1"] > 0
    assert result("line", "show", "-p", demo)["name"] == result("line", "list", "-p", demo)["in_use"] == "short"
    assert "no gate" in wolbrin("line", "save", "x", _file(tmp_path, '{"steps": [{"gate": "y"}]}'), "-p", demo, code=1).stderr
    for command in ("overlap", "portfolio"):
        assert result(command, "-p", demo)["chosen"] == "all that are proved", "ready and still sealed"
    plan = result("prove", "-p", demo, *ids, "--plan")["plan"]
    assert plan["proposed"] in [c["key"] for c in plan["choices"]]
    assert plan["opening"] == 1
    assert result("holdout", "-p", demo)["openings"] == 0, "a plan opens nothing"
    assert sum(len(f["members"]) for f in plan["families"]) == sum(
        c["gates"]["monte_carlo"]["verdict"] == "passes" for c in proved["candidates"])
    every = f"families-{len(plan['families'])}"
    assert "no way" in wolbrin("prove", "-p", demo, *ids, "--open-holdout", "--opening", "x", code=1).stderr
    if next(c for c in plan["choices"] if c["key"] == every)["chance"] < 0.2:
        assert "--anyway" in wolbrin("prove", "-p", demo, *ids, "--open-holdout", "--opening", every, code=1).stderr
        assert result("holdout", "-p", demo)["openings"] == 0
    opened = result("prove", "-p", demo, *ids, "--open-holdout", "--opening", every, "--anyway")
    assert opened["plan"]["chosen"] == every
    passed = sum(c["gates"]["monte_carlo"]["verdict"] == "passes" for c in opened["candidates"])
    assert opened["openings"] == passed
    again = result("prove", "-p", demo, *ids, "--open-holdout")
    assert again["plan"] is None
    assert again["openings"] == passed, "a verdict is final"
    assert [c["stands"] for c in again["candidates"]] == [c["stands"] for c in opened["candidates"]]
    assert all(g["record"]["history"] and g["settings"] for c in again["candidates"] for g in c["gates"].values())
    overlap = result("overlap", "-p", demo, *ids)
    assert overlap["chosen"] == "named"
    assert 1 <= overlap["effective_bets"] <= 3
    assert [c["record"]["market"] for c in overlap["candidates"]] == ["NPW"] * 3
    assert {c["tried"] for c in overlap["candidates"]} == {262}
    matrix = np.array(overlap["correlation"])
    np.testing.assert_allclose(matrix, matrix.T)
    np.testing.assert_allclose(np.diag(matrix), 1.0)
    whole = result("portfolio", "-p", demo, *ids, "--save", "Three")
    assert whole["measures"]["net"] == pytest.approx(sum(p["net"] for p in whole["parts"].values()))
    project = Project(demo)
    assert len(project.rows("SELECT * FROM portfolios")) == 1
    assert [r["kind"] for r in project.rows("SELECT kind FROM searches ORDER BY id")] == ["sweep", "control", "discover"]
    project.close()


def test_seeing_the_holdout_is_counted(demo: Path) -> None:
    for first, last in (("9999-12-31", None), ("2030-01-01", "2031-01-01"), ("2014-01-01", "2014-12-31"),
                        ("2021-05-01", "2021-04-01")):
        out = wolbrin("backtest", "-p", demo, "-s", 1, "--from", first, *(("--to", last) if last else ()), code=1)
        assert "bars in" in out.stderr or "before it begins" in out.stderr
    assert result("holdout", "-p", demo)["openings"] == 0, "what saw nothing is not counted"
    closed = result("backtest", "-p", demo, "-s", 1, "--from", "2022-01-01")
    assert (closed["record"]["role"], closed["record"]["last"]) == ("training", "2022-06-30")
    out = wolbrin("backtest", "-p", demo, "-s", 1, "--from", "2022-01-01", "--to", "2023-12-31", "--json")
    assert "The verdict is final" in out.stderr
    assert json.loads(out.stdout)["record"]["role"] == "whole"
    book = result("holdout", "-p", demo)
    assert (book["openings"], book["markets"]["NPW"]["openings"], book["next_opening"]["number"]) == (1, 1, 2)
    verdict = book["markets"]["NPW"]["judged"]
    assert len(verdict) == 1
    beyond = result("backtest", "-p", demo, "-s", 1, "--from", "2022-07-01")
    assert (beyond["record"]["role"], beyond["record"]["last"]) == ("holdout", "2025-12-31")
    again = result("holdout", "-p", demo)
    assert (again["openings"], again["markets"]["NPW"]["judged"]) == (1, verdict), "a second look judges nothing"
    assert "work was done" in wolbrin("holdout", "-p", demo, "--move", "2022-01-01", code=1).stderr
    assert "outside the data" in wolbrin("holdout", "-p", demo, "--move", "2016-01-02", "--spend", "x", code=1).stderr
    assert "not a date" in wolbrin("holdout", "-p", demo, "--move", "soon", code=1).stderr
    wolbrin("holdout", "-p", demo, "--spend", "x", code=2)
    moved = result("holdout", "-p", demo, "--move", "2022-01-01", "--spend", "the last year was odd")
    assert (moved["border"], moved["openings"], moved["moves"][0]["why"]) == ("2022-01-01", 2, "the last year was odd")


def test_from_an_idea_to_the_shelf_headless(demo: Path, tmp_path: Path) -> None:
    """study, trial, sweep with everything around it: the same numbers by every way, answers as their schemas say."""
    base = ("-p", demo, "-s", "Tern breakout")
    studied = StudyAnswer.model_validate(result("study", *base, "--side", "both", "--horizon", 5, "-c", "close > ema(20)"))
    assert [s.side for s in studied.studies] == ["long", "long", "short", "short"]
    assert len(studied.studies[0].mean) == 5
    tried = TrialAnswer.model_validate(result(
        "trial", "-p", demo, "-c", "crosses_above(close, highest(20))", "--markets", "NPW,ASL", "--sides", "both",
        "--shuffles", 1, "--threshold", -9, "--shelf"))
    assert tried.tried_on_market == {"NPW": 1, "ASL": 1}
    assert all(c.passes for c in tried.cells)
    varied = ("--vary", "stop ATR multiple=2:3:0.5", "--vary", "target.amount=2,3", "--link",
              "stop.length = 8 * target.amount")
    assert 0 < result("sweep", *base, *varied, "--estimate")["seconds"] < 60
    swept = SweepAnswer.model_validate(result(
        "sweep", *base, *varied, "--constraint", "target.amount >= 0.8 * stop.amount", "--floor", "trades>=100",
        "--objective", "0.5*net + 0.5*t_daily", "--shuffles", 2, "--name", "small", "--out",
        tmp_path / "all.parquet", "--shelf", "best",
        "--apply", "1", "--save-set", tmp_path / "center.json"))
    assert (swept.tried, swept.total, swept.title) == (5, 5, "small"), "a target of 2 is too near for a stop of 3"
    assert swept.luck[0].shuffles == 2
    assert swept.statistics[0].tried_on_market == 6
    assert swept.center is not None
    table = pd.read_parquet(tmp_path / "all.parquet")
    assert table["score"].tolist() == [r.score for r in swept.results]
    project = Project(demo)
    now = project.strategy("Tern breakout").strategy
    assert swept.best is not None
    assert now.stop is not None
    best = swept.best.settings
    assert (now.stop.amount, now.stop.length) == (best["stop.amount"], 8 * best["target.amount"])
    assert len(Dossiers(project).shelf()) == 3
    project.close()
    again = SweepAnswer.model_validate(result("sweep", "-p", demo, "--show", swept.search, "--shuffles", 2))
    assert (again.results, again.luck) == (swept.results, swept.luck)
    finer = SweepAnswer.model_validate(result("sweep", "-p", demo, "--show", swept.search, "--zoom", "stop.amount=2:2.5",
                                              "--shuffles", 0, "--no-checks"))
    assert (finer.simulated, finer.tried) == (2, 7)
    assert "no sweep" in wolbrin("sweep", "-p", demo, "--show", 1, code=1).stderr
    many = [x for key in ("stop.amount", "target.amount", "stop.length") for x in ("--vary", f"{key}=1:1000:1")]
    assert "1,000,000,000 sets are more than" in wolbrin("sweep", *base, *many, code=1).stderr


def test_a_strategy_is_walked_kept_traded_and_carried_on(demo: Path, tmp_path: Path) -> None:
    """Grid, the pair that works, the dated strategy in a backtest, the next fit once the border has moved; and what is wrong
    in a sentence."""
    base = ("walk-forward", "-p", demo, "-s", "Tern breakout", "--vary", "stop.amount=1.5,2.5,3.5", "--vary",
            "target.amount=2,4")
    grid = WalkAnswer.model_validate(result(*base, "--grid", "18m,24m", "x", "6m,9m", "--shuffles", 1, "--out",
                                            tmp_path / "folds.csv", "--keep", "Tern dated"))
    assert len(grid.grid.cells) == 4
    assert (grid.grid.shuffles, grid.tried) == (1, 6 + 4)
    assert grid.grid.center is not None
    assert grid.lengths == grid.grid.cells[grid.grid.center].lengths
    assert grid.figures["folds"] == len(grid.folds) == len(pd.read_csv(tmp_path / "folds.csv"))
    assert sum(f.test_net for f in grid.folds) == pytest.approx(grid.figures["net"])
    assert grid.sentence.startswith("Earned ")
    assert grid.now is not None
    assert str(grid.next_fit) > str(grid.now.first) > str(grid.now.fitted_last)
    traded = result("backtest", "-p", demo, "-s", "Tern dated")
    assert traded["measures"]["net"] == pytest.approx(grid.figures["net"])
    assert set(traded["ledger"]["numbers_from"]) == {str(f.test_first) for f in grid.folds}
    shown = wolbrin("walk-forward", "-p", demo, "--show", grid.id, "--cell", "24m,6m", "--figure", "efficiency").stdout
    assert "fitted on 24 months before it, tested on 6 months" in shown
    assert "next fit due" in shown
    assert "Nothing is due" in wolbrin("walk-forward", "-p", demo, "--extend", "Tern dated").stdout
    wolbrin("set", "-p", demo, "--holdout", "2024-01-01", "--spend", "to see the fits that come due")
    carried = result("walk-forward", "-p", demo, "--extend", "Tern dated")
    assert carried["added"] >= 2
    assert carried["schedule"][carried["added"]:] == [line.split(";")[0] for line in grid.schedule]
    grown = WalkAnswer.model_validate(result("walk-forward", "-p", demo, "--extend", grid.id))
    assert grown.folds[:len(grid.folds)] == grid.folds
    assert len(grown.folds) > len(grid.folds)
    for arguments, word in (((*base, "--train", "99y"), "no fold fits"), ((*base, "--train", "soon"), "is no length"),
                            ((*base[:5], "--vary", "nose=1,2"), 'no number "nose"'),
                            (("walk-forward", "-p", demo, "--extend", "Eider fade"), "no dated numbers"),
                            (("walk-forward", "-p", demo, "--show", 999), "no search 999")):
        assert word in wolbrin(*arguments, code=1).stderr


def test_ranges_constraints_and_places_that_cannot_be_read_are_a_sentence() -> None:
    rules = load_strategy(FILES / "strategy-tern.json")
    axes = axes_of(rules, ["stop.amount=1,2,1", "target stop=2:3:0.5"], ["stop.length = 10 * stop.amount"], "A,B", "15,daily",
                   "long,both")
    assert [(a.key, a.values) for a in axes[:2]] == [("stop.amount", (1.0, 2.0)), ("target.amount", (2.0, 2.5, 3.0))]
    assert [a.kind for a in axes[2:]] == ["market", "interval", "sides"]
    assert [a.names for a in axes[2:]] == [("A", "B"), (), ()]
    for vary, link, sides, words in (
            ("stop.amount=3:2:1", "", "", "ends before it begins"), ("stop.amount=1:2:0", "", "", "above zero"),
            ("stop.amount=nan:2:1", "", "", "needs numbers"), ("stop.amount=a:b:c", "", "", "not FROM:TO:STEP"),
            ("stop.amount=", "", "", "no value"), ("height=1:2:1", "", "", "no number"),
            ("stop.amount=1:2:1", "stop.length = target.amount", "", "not varied"),
            ("stop.amount=1:2:1", "", "up", "no choice")):
        with pytest.raises(UserError, match=words):
            axes_of(rules, [vary], [link] if link else [], "", "", sides)
    hours = rules.model_copy(update={"filters": Filters(windows=(Window(first="09:00", last="12:00"),))})
    key = "filters.windows.0.first"
    for written, values in (("09:30:10:30:30", (570.0, 600.0, 630.0)), ("0930:1030:30", (570.0, 600.0, 630.0)),
                            ("9:30", (570.0,)), ("930, 10:15", (570.0, 615.0))):
        made, = axes_of(hours, [f"{key}={written}"], [], "", "", "")
        assert (made.kind, made.values) == ("clock", values)
    for wrong in ("10:60", "9:30:12:00", "25:00:26:00:30", "09:30:10:30:x"):
        with pytest.raises(UserError, match="not FROM:TO:STEP"):
            axes_of(hours, [f"{key}={wrong}"], [], "", "", "")


@pytest.mark.parametrize(("arguments", "code", "word"), [
    (("backtest",), 2, "--strategy"), (("sweep", "--nonsense"), 2, "No such option"),
    (("backtest", "-s", "x.json", "--bars", "y.csv"), 2, "--market"),
    (("backtest", "-p", "/nowhere", "-s", "x"), 1, "no project"),
    (("discover", "-m", "NPW", "--sides", "up"), 2, "--sides"),
    (("backtest", "-s", "none.json", "--bars", FILES / "npw-iso.csv", "--market", FILES / "market-npw.json"), 1, "none.json"),
    (("backtest", "-s", FILES / "strategy-tern.json", "--bars", FILES / "market-npw.json", "--market",
      FILES / "market-npw.json"), 1, "this JSON mixes rows"),
    (("backtest", "-s", FILES / "market-npw.json", "--bars", FILES / "npw-iso.csv", "--market", FILES / "market-npw.json"),
     1, "field")])
def test_exit_codes_and_sentences(arguments: tuple[object, ...], code: int, word: str) -> None:
    out = wolbrin(*arguments, code=code)
    assert word in out.stderr
    assert out.stdout == ""


def test_project_troubles_are_told(demo: Path) -> None:
    assert 'no strategy "Ghost"' in wolbrin("backtest", "-p", demo, "-s", "Ghost", code=1).stderr
    assert 'no market "XXX"' in wolbrin("discover", "-p", demo, "-m", "XXX", code=1).stderr
    assert "Shelf is empty" in wolbrin("prove", "-p", demo, code=1).stderr
    assert 'no number "stop.size"' in wolbrin("sweep", "-p", demo, "-s", "1", "--vary", "stop.size=1:2:1", code=1).stderr
    keys = wolbrin("sweep", "-p", demo, "-s", "1", code=2).stderr
    assert "stop.amount" in keys
    (demo / "project.sqlite").write_bytes(b"torn" * 500)
    assert "is damaged" in wolbrin("prove", "-p", demo, code=1).stderr


def test_discover_is_resumed_asked_again_and_the_shelf_is_kept_in_order(demo: Path, tmp_path: Path) -> None:
    """Two markets, several stops, an evolution beside a control; other floors; then list, mark, compare, out and in again."""
    asked = ("discover", "-p", demo, "-m", "NPW,BBY", "--ingredients", "trend,session,weekday*2,library:breakout", "--stop",
             "atr:1..4|ticks:20..100", "--floor", "trades_per_year>=40", "--floor", "profit_factor>=1.2", "--method",
             "evolve", "--until", "tried=256", "--control", 1, "--pool", 150, "--seed", 4)
    found = result(*asked)
    DiscoverAnswer.model_validate(found)
    assert found["tried"] == 512
    assert found["tried_on_market"] == {"NPW": 256, "BBY": 256}
    assert found["kept"] > 0
    project = Project(demo)
    with project.transaction() as db:
        db.execute("UPDATE searches SET state = 'interrupted'")
    project.close()
    again = result(*asked, "--resume")
    assert (again["search"], again["kept"], again["luck"]) == (found["search"], found["kept"], found["luck"])
    looser = result("discover", "-p", demo, "--again", found["search"], "--without-floor", "above_drift", "--floor",
                    "trades_per_year>=40", "--floor",
                    "profit_factor>=1.1")
    assert looser["kept"] >= found["kept"]
    assert looser["tried_on_market"] == found["tried_on_market"]
    assert [f["floor"] for f in looser["floors"]] == ["trades_per_year>=40", "profit_factor>=1.1"]
    more = result("discover", "-p", demo, "--more-controls", 2, "--search", found["search"])
    assert (len(more["luck"]["controls"]), more["tried_on_market"]) == (2, found["tried_on_market"])
    assert more["luck"]["controls"][0] == looser["luck"]["controls"][0]
    assert "2 controls already" in wolbrin("discover", "-p", demo, "--more-controls", 1, "--search", found["search"],
                                           code=1).stderr
    seen = result("discover", "-p", demo, "-m", "ASL", "--until", "tried=256", "--control", 1, "--scan-rows", 300,
                  "--pool", 80, "--floor", "trades>=100", "--floor", "profit_factor>=1.05", "--without-floor", "above_drift")
    assert (seen["method"], seen["scanned"][0]["market"], seen["tried"]) == ("informed", "ASL", 256)
    assert seen["tried_on_market"]["ASL"] == 256 + seen["scanned"][0]["worth"]
    members = [i for f in seen["families"] for i in f["members"]]
    assert sorted(members) == sorted(c["id"] for c in seen["candidates"])
    assert {c["leads"] for c in seen["candidates"]} == {f["leads"] for f in seen["families"]}
    if members:
        assert seen["families"][0]["said"]
        shown = result("shelf", "list", "-p", demo, "--search", seen["search"], "--filter", "behind>=0", "--limit", 500)
        assert len(shown["candidates"]) == len(members)
        wolbrin("shelf", "remove", "-p", demo, *members)
    listed = result("shelf", "list", "-p", demo, "--sort", "profit_factor", "--down", "--save-view", "best",
                    "--limit", 500)
    ShelfAnswer.model_validate(listed)
    rows = listed["candidates"]
    factors = [r["measures"]["profit_factor"] for r in rows]
    assert factors == sorted(factors, reverse=True)
    assert len({r["name"] for r in rows}) == len(rows) == listed["total"]
    assert {r["tried"] for r in rows} == {256}
    one, two = rows[0]["id"], rows[1]["id"]
    wolbrin("shelf", "tag", "-p", demo, one, "--add", "first idea", "--star", "--note", "Watch it.", "--rename", "Mine")
    mine = result("shelf", "list", "-p", demo, "--tag", "first-idea", "--starred")["candidates"]
    assert [(m["id"], m["name"], m["notes"]) for m in mine] == [(one, "Mine", "Watch it.")]
    word = rows[1]["words"].split(" when ")[1].split()[0]
    assert two in [r["id"] for r in result("shelf", "list", "-p", demo, "--view", "best", "--limit", 500)["candidates"]]
    assert two in [r["id"] for r in result("shelf", "list", "-p", demo, "--rules", word, "--limit", 500)["candidates"]]
    beside = result("shelf", "compare", "-p", demo, one, two)
    assert len(beside["correlation"]) == 2
    groups = result("shelf", "group", "-p", demo)["clusters"]
    assert sum(len(g["candidates"]) for g in groups) == len(rows)
    wolbrin("shelf", "export", "-p", demo, tmp_path / "out", one, two)
    (tmp_path / "out/bad.json").write_text('{"format": "wolbrin.candidate", "version": 99}')
    wolbrin("shelf", "remove", "-p", demo, one, two)
    back = result("shelf", "import", "-p", demo, tmp_path / "out")
    assert len(back["ids"]) == 2
    assert "newer than this program reads" in back["faults"][0]
    shown = result("shelf", "show", "-p", demo, back["ids"][0])["candidates"][0]
    CandidateFile.model_validate({k: v for k, v in shown.items() if k != "id"})
    assert shown["tags"] == ["first-idea"] or shown["name"] != "Mine"
    for arguments, words in ((("discover", "-m", "NPW", "--ingredients", "nonsense"), "no ingredient"),
                             (("discover", "-m", "NPW", "--floor", "trades>=9000000"), "floors ask for 9,000,000 trades"),
                             (("discover", "-m", "NPW", "--until", "someday"), "is no end"),
                             (("discover", "--again", 99, "--floor", "trades>=1"), "no search 99"),
                             (("discover", "-m", "NPW", "--keep", "entry"), "which strategy"),
                             (("shelf", "list", "--filter", "speed>3"), "is not a filter"),
                             (("shelf", "compare", one), "there is no candidate")):
        assert words in wolbrin(*arguments, "-p", demo, code=1).stderr, arguments
