"""Every number that is shown has one definition, and nothing is shown without one."""

from __future__ import annotations

import ast
import json
from pathlib import Path

import numpy as np
import pytest
from tools import figures as page
from typer.testing import CliRunner

from tests.build import cross, walk_bars
from wolbrin.cli.main import build
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.errors import UserError
from wolbrin.core.figures.figure import Figure, by_key
from wolbrin.core.figures.runs import COUNTS
from wolbrin.core.market.bars import Span
from wolbrin.core.proving.gate import Case, Outcome
from wolbrin.core.proving.gate_names import OLD_KEYS
from wolbrin.core.proving.line import GATES, Line, Step
from wolbrin.core.rules.model import Distance
from wolbrin.core.work.figures import figure_named, figures

APP = Path(__file__).parents[2] / "src/wolbrin/app"


def test_no_column_of_numbers_without_a_figure() -> None:
    """In the source, since no test opens every page in every state; a column made without one refuses to be
    (model.Column)."""
    found = 0
    for path in APP.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "Column":
                named = {word.arg: word.value for word in node.keywords}
                sides = [*node.args[3:4], *([named["align"]] if "align" in named else [])]
                if any(isinstance(s, ast.Constant) and s.value == "right" for s in sides):
                    found += 1
                    assert "figure" in named, f"{path}:{node.lineno}"
    assert found > 100


def test_every_figure_says_what_it_is() -> None:
    for place, some in figures().items():
        by_key(some)
        for one in some:
            assert one.title, (place, one)
            assert len(one.definition) > 3, (place, one)
            assert not one.definition.endswith("."), (place, one)
            assert one.tip.endswith(".")
    assert {name.removeprefix("count.") for name in COUNTS} == {*k.COUNTS, "left out"}


def test_file_key_and_title_of_a_gate_agree() -> None:
    for gate in GATES:
        assert gate.key == gate.title.lower().replace(" ", "_").replace("-", "_")
        assert type(gate).__module__ == f"wolbrin.core.proving.{gate.key}"
        assert type(gate).__name__ == "".join(w.capitalize() for w in gate.key.split("_")) + "Gate"
    line = Line(steps=tuple(Step(gate=old) for old in OLD_KEYS))
    assert [s.gate for s in line.steps] == list(OLD_KEYS.values()), "lines written before are read"


def outcomes() -> list[Outcome]:
    bars = walk_bars(2_600, seed=4)
    history = Prepared.of(bars)
    rules = cross(stop=Distance(unit="atr", amount=1.5))
    case = Case(rules, history, Brief(), Span(), 20, others=lambda: [(Prepared.of(walk_bars(2_000, seed=5, code="TWO")),
                                                                      Brief())],
                opened=history)
    return [gate.judge(case) for gate in GATES if gate.key not in ("holdout", "walk_forward")]


def test_every_figure_and_table_of_a_gate_is_declared() -> None:
    gates = {g.key: g for g in GATES}
    seen = 0
    for outcome in outcomes():
        gate = gates[outcome.gate]
        for key in outcome.figures:
            assert gate.figure_of(key) is not None, f"{gate.title}: {key}"
        for key, table in outcome.tables.items():
            told = gate.table_of(key)
            assert told is not None, f"{gate.title}: table {key}"
            assert {f.key for f in told.columns} == set(table), f"{gate.title}: table {key}"
            seen += 1
        if gate.figure:
            assert gate.figure_of(gate.figure) is not None
    assert seen >= 6
    assert np.isfinite([gates["costs"].shown[0].scale]).all()


def test_figures_are_found_by_key_by_title_and_by_a_part_of_it() -> None:
    assert ("measures", "sharpe") in [(p, f.key) for p, f in figure_named("Sharpe ratio")]
    assert {f.key for _, f in figure_named("MAE")} == {"mae", "trade.worst"}
    assert figure_named("net_1.5")[0][0] == "gate Costs"
    with pytest.raises(UserError, match="no figure"):
        figure_named("nonsense")
    told = CliRunner().invoke(build(lambda *_: 0, lambda: Path("/nowhere"), list), ["figure", "break_even", "--json"])
    assert json.loads(told.stdout)[0]["definition"].endswith("gross / (spread + slippage + commission)")


def test_two_figures_of_one_place_do_not_share_a_key() -> None:
    with pytest.raises(ValueError, match="two figures"):
        by_key((Figure("a", "a", "", "b"), Figure("a", "c", "", "d")))


def test_the_page_of_figures_is_the_present_one() -> None:
    """docs/measures.md is written by tools/figures.py."""
    before = page.PAGE.read_text()
    assert page.page(before) == before
