"""What is added to one list is found everywhere: a toy gate, measure, ledger column, exporter, place and command."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
import typer
from PySide6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot
from typer.testing import CliRunner

from tests.app.conftest import shown
from wolbrin.app.places.place import Place
from wolbrin.app.places.registry import PLACES, Entry
from wolbrin.app.shell.window import MainWindow
from wolbrin.cli.main import build
from wolbrin.cli.registry import COMMANDS, Commands
from wolbrin.core.engine.ledger import LEDGER, LedgerColumn
from wolbrin.core.engine.run import Run, backtest
from wolbrin.core.export.exporters import EXPORTERS, Exporter
from wolbrin.core.export.steps import Steps
from wolbrin.core.jobs import Engine
from wolbrin.core.measures.catalogue import MEASURES, SUMMARY, Measure
from wolbrin.core.models import Model
from wolbrin.core.proving.gate import Case, Gate, Outcome, Shown
from wolbrin.core.proving.line import GATES
from wolbrin.core.search.candidate import candidate_of
from wolbrin.core.store.project import Project

Settle = Callable[[], None]


class ToySettings(Model):
    least: int = 3


@dataclass(frozen=True)
class ToyGate(Gate):
    """Asks for a few trades."""

    options: ToySettings = ToySettings()
    key = "toy"
    title = "Toy gate"
    shown = (Shown("toys", "toys seen", "count", "trades that are toys", digits=0),)

    def describe(self) -> str:
        return f"{self.options.least} trades"

    def judge(self, case: Case) -> Outcome:
        trades = len(backtest(case.history, case.strategy, case.brief, detail=False))
        return Outcome(self.key, trades >= self.options.least, "Enough toys.", f"{trades} toys", self.settings,
                       {"toys": float(trades)}, self.settings)


class ToyPlace(Place):
    key = "toy"


def toy_steps(run: Run, path: Path, currency: str, tried: int) -> Steps:
    yield
    path.write_text(f"{len(run)} toys")


TOY = Measure("toy", "toy measure", "count", "a number of toys", lambda f: float(len(f.profits)) + 0.5, digits=1)
LISTS: tuple[tuple[list[Any], int, Any], ...] = (
    (GATES, 0, ToyGate()), (MEASURES, len(MEASURES), TOY), (SUMMARY, len(SUMMARY), "toy"),
    (LEDGER, len(LEDGER), LedgerColumn("toy_number", "toys", "count", "seven, always", lambda run: run.profits * 0.0 + 7.0,
                                        shown=True)),
    (EXPORTERS, len(EXPORTERS), Exporter("toy", "Toy file", {".toy": "Toy"}, toy_steps)),
    (PLACES, len(PLACES), Entry("toy", "Toys", "=", lambda c: "no toys", ToyPlace)),
    (COMMANDS, len(COMMANDS), Commands({"toy": "Say toy."}, lambda app, wiring: app.command("toy", help="Say toy.")(
        lambda: typer.echo("toy")))))


@pytest.fixture
def toys() -> Iterator[None]:
    for where, at, what in LISTS:
        where.insert(at, what)
    yield
    for where, _, what in LISTS:
        where.remove(what)


@pytest.fixture
def window(toys: None, qtbot: QtBot, demo: Path, engine: Engine) -> Iterator[MainWindow]:
    yield from shown(Project(demo), engine)


def said(widget: Any) -> str:
    return " ".join(label.text() for label in widget.findChildren(QLabel))


def test_what_joins_a_list_is_in_window_command_line_dossier_and_files(window: MainWindow, settle: Settle, demo: Path,
                                                                       tmp_path: Path) -> None:
    settle()
    s = window.session
    run = s.run
    assert run is not None
    id = s.shelf.keep(candidate_of(run, "Toy one", "rules", 1))
    assert id is not None
    s.select([id])
    for key in [e.key for e in PLACES]:
        window.go(key)
        settle()
    assert window.rail.items["toy"].count == "no toys"
    assert window.stack.currentWidget() is window.places["toy"]
    titles = lambda place: [c.title for c in window.places[place].table.model.columns]  # type: ignore[attr-defined] # noqa: E731
    assert "toy measure" in titles("shelf")
    assert s.shelf.lines([id])[0].figures["toy"] == len(run) + 0.5
    window.go("proving")
    window.places["proving"].state.start()  # type: ignore[attr-defined]
    settle()
    assert "toys seen" in titles("proving")
    record = window.places["proving"].state.line.records[0]  # type: ignore[attr-defined]
    assert record.evidence["toy"].outcome == {"toys": float(len(run))}
    window.drawer.refresh()
    assert "Toy gate" in said(window.drawer)
    window.go("backtest")
    settle()
    place: Any = window.places["backtest"]
    assert any(c.title == "toys" for c in place.ledger.model.columns)
    assert place.ledger.model.record(0).more == (7.0,)
    place.look("measures")
    settle()
    assert any(r["title"] == "toy measure" for r in place.measures.table.model.records)
    place.export("toy", tmp_path / "a.toy")
    settle()
    assert (tmp_path / "a.toy").read_text() == f"{len(run)} toys"
    app = build(lambda *_: 0, lambda: demo, list)

    def call(*arguments: str) -> str:
        made = CliRunner().invoke(app, list(arguments))
        assert made.exit_code == 0, made.output
        return made.stdout

    assert call("toy") == "toy\n"
    where = ("--project", str(demo))
    told = json.loads(call("backtest", "--strategy", str(s.strategy_id), *where, "--json", "--write",
                           f"toy={tmp_path}/b.toy"))
    assert told["measures"]["toy"] == len(run) + 0.5
    assert told["ledger"]["toy_number"][0] == 7.0
    assert (tmp_path / "b.toy").read_text() == f"{len(run)} toys"
    proved = json.loads(call("prove", str(id), *where, "--json"))["candidates"][0]
    assert proved["gates"]["toy"]["figures"] == {"toys": float(len(run))}
    assert proved["gates"]["toy"]["settings"] == {"least": 3}
    window.go("portfolio")
    settle()


def test_every_command_says_in_the_list_what_it_says_itself() -> None:
    app = build(lambda *_: 0, lambda: Path("/nowhere"), list)
    told = {c.name: (c.help or (c.callback.__doc__ or "").strip()) for c in app.registered_commands if c.callback}
    told |= {g.name: g.typer_instance.info.help for g in app.registered_groups if g.typer_instance}
    assert {name: line for one in COMMANDS for name, line in one.lines.items()} == told
