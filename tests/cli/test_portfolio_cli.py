"""`wolbrin overlap` and `wolbrin portfolio` from the Shelf to a saved portfolio, its report and its holdout."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from typer.testing import CliRunner

from tests.build import cross
from wolbrin.cli.main import build
from wolbrin.core.engine.run import backtest
from wolbrin.core.proving.line import Line, Step
from wolbrin.core.rules.model import Distance
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.work.lines import use_line

EASY = Line(name="easy", steps=(Step(gate="monte_carlo", settings={
    "least_return_drawdown": -1e9, "largest_risk": 1.0, "paths": 100}),))


@pytest.fixture
def ids(demo: Path) -> list[str]:
    """Four candidates on two markets, all ready."""
    project, found = Project(demo), []
    use_line(project, EASY)
    for i, market in enumerate(("NPW", "BBY", "NPW", "BBY")):
        history = project.prepared(market, 60)
        what = cross(name=f"C{i}", stop=Distance(unit="atr", amount=1.5 + i))
        run = backtest(history, what, project.settings.brief(history.bars.terms))
        found.append(str(Dossiers(project).keep(candidate_of(run, what.name, "rules", 5))))
    project.close()
    return found


def call(*args: Any, code: int = 0) -> Any:
    """A command's JSON, or what it says where it fails."""
    made = CliRunner().invoke(build(lambda *_: 0, lambda: Path("/nowhere"), list), [str(a) for a in args])
    assert made.exit_code == code, made.output
    return json.loads(made.stdout) if "--json" in args and not code else made.output


def test_from_the_shelf_to_a_saved_portfolio_its_report_and_its_holdout(demo: Path, ids: list[str], tmp_path: Path) -> None:
    where = ("-p", demo)
    call("prove", *where)
    alike = call("overlap", *where, *ids, "--by", "week", "--empty", "zero", "--limit", 0.5, "--exact", "--markets", "--json")
    matrix = np.array(alike["correlation"])
    assert matrix[0, 2] > matrix[0, 1], "one market's strategies are more alike than two markets'"
    assert np.array(alike["p"])[0, 2] < 0.05
    assert sorted(alike["order"]) == sorted(int(i) for i in ids)
    assert alike["exact"]
    assert {d["for"] for d in alike["dropped"]} <= set(alike["distinct"])
    assert alike["prices"]["markets"] == ["NPW", "BBY"]
    plain = call("portfolio", *ids, *where, "--json")
    assert plain["measures"]["net"] == pytest.approx(sum(p["net"] for p in plain["parts"].values()))
    assert plain["holdout"] is None
    report = tmp_path / "r.html"
    made = call("portfolio", *ids, *where, "--weights", "erc", "--capital", 100_000, "--one-account", "--size", 12,
                "--leave-one-out",
                "--add-one", "--weights-table", "--daily-loss", "3%", "--rebalance", "10%", "--priority", f"{ids[1]}=2",
                "--costs",
                f"{ids[0]}=per_contract:9", "--save", "Mine", "--report", report, "--json")
    assert made["plan"]["weights"] == "erc"
    assert made["plan"]["limit"] == {"amount": 3.0, "percent": True}
    assert [c["priority"] for c in made["candidates"]] == [1, 2, 1, 1]
    assert made["candidates"][0]["record"]["costs"]["per_contract"] == 9.0
    assert sum(c["share"] for c in made["candidates"]) == pytest.approx(1.0)
    assert [c["name"] for c in made["leave_one_out"]] == ["C0", "C1", "C2", "C3"]
    assert made["weights"]["recommended"] in [s["key"] for s in made["weights"]["schemes"]]
    assert "Without each" in report.read_text()
    again = call("portfolio", *where, "--from", "Mine", "--json")
    assert again["measures"] == made["measures"]
    few = call("portfolio", *where, "--where", "market: NPW", "--weights", "equal", "--save", "Two", "--json")
    assert sorted(c["name"] for c in few["candidates"]) == ["C0", "C2"]
    more = call("portfolio", ids[1], *where, "--from", "Two", "--json")
    assert sorted(c["name"] for c in more["candidates"]) == ["C0", "C1", "C2"], "who is named joins the saved one"
    assert "named and filtered" in call("portfolio", ids[1], *where, "--where", "standing = ready", code=1)
    assert "there is no candidate among the 4" in call("overlap", *where, "--where", "standing = stands", code=1)
    assert len(call("overlap", *where, "--json")["candidates"]) == 4, "the proved ones where none is named"
    call("portfolio", "remove", "Two", *where)
    call("portfolio", "export", "Mine", tmp_path / "mine.json", *where)
    back = call("portfolio", "import", tmp_path / "mine.json", *where, "--json")
    assert (back["name"], back["new"]) == ("Mine (2)", [])
    found = call("portfolio", "find", "-k", 2, "--where", "standing = ready", "--controls", 3, *where, "--save", "Found",
                 "--json")
    assert (found["tried"], found["charged"], len(found["controls"]), len(found["apart"])) == (6, 6, 3, 3)
    assert found["best"][0]["measures"]["return_drawdown"] == pytest.approx(found["best"][0]["score"], rel=0.2)
    listed = call("portfolio", "list", *where, "--json")
    assert [p["name"] for p in listed["portfolios"]] == ["Mine", "Mine (2)", "Found"]
    assert "there is no portfolio" in call("portfolio", "open", "nobody", *where, code=1)
    opened = call("portfolio", "open", "Mine", *where, "--json")
    assert opened["verdict"] in ("passes", "falls")
    if opened["verdict"] == "falls":
        assert (opened["interval"], opened["figures"]) == ({}, {}), "of what falls nothing is told but that"
        shown = call("holdout", "--show", "Mine", *where, "--json")["shown"]
        opened = next(v for v in call("portfolio", "list", *where, "--json")["verdicts"] if v["name"] == "Mine")
        assert shown["figures"]["net"] == opened["figures"]["net"]
    assert opened["interval"]["net_low"] < opened["figures"]["net"] < opened["interval"]["net_high"]
    assert "not ready" in call("portfolio", "open", "Mine (2)", *where, code=1), "once"
    assert call("portfolio", *ids[:2], *where, "--json")["seen_members"] == ["C0", "C1"]


WRONG = ((("--share", "nobody=0.5"), 'no member is called "nobody"'), (("--share", "C0"), "says nothing about a member"),
    (("--contracts", "C0=-1"), "greater than 0"), (("--weights", "magic"), "no way to find weights"),
    (("--daily-loss", "much"), "is no number"), (("--rebalance", "weekly"), "is no number"), (("--zone", "Moon"), "zone"),
    (("--costs", "C0=luck:3"), "is no cost"), (("--most-market", "0.3", "--weights", "erc"), "at most 30% in one market "
                                                                                             "cannot be"),
    (("--capital", "-5"), "greater than 0"), (("--from", "nobody"), "there is no portfolio"),
    (("--report", "x.doc"), "is not written"), (("C0",), "named twice"))


def test_what_cannot_be_is_a_sentence(demo: Path, ids: list[str]) -> None:
    for args, said in WRONG:
        assert said in call("portfolio", *ids, *args, "-p", demo, code=1)


def test_capital_below_one_contract_is_told(demo: Path, ids: list[str]) -> None:
    tiny = call("portfolio", *ids, "-p", demo, "--capital", 1, "--json")
    assert tiny["trades"] == 0
    assert tiny["refused"] > 0
    assert any("It never traded" in c for c in tiny["cautions"])
