"""The one list of commands. To add one: its file with `add`, and an entry here.

The file of a command is read when the command is given; its line of help stands here, so that listing all reads none.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import typer

if TYPE_CHECKING:
    from wolbrin.core.bench.figure import Measured


@dataclass(frozen=True)
class Wiring:
    """What commands are given from outside: the demo project's folder, and what measures the window."""

    demo: Callable[[], Path]
    window_figures: Callable[[], list[Measured]]


@dataclass(frozen=True)
class Commands:
    """One file of commands. lines: their names and what they do. add: puts them on an app."""

    lines: dict[str, str]
    add: Callable[[typer.Typer, Wiring], None]


def _backtest(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import backtest  # late
    backtest.add(app, wiring.demo)


def _figure(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import figure  # late
    figure.add(app)


def _sweep(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import sweep  # late
    sweep.add(app, wiring.demo)


def _walk_forward(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import walk_forward  # late
    walk_forward.add(app, wiring.demo)


def _study(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import study  # late
    study.add(app, wiring.demo)


def _scan(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import scan  # late
    scan.add(app, wiring.demo)


def _search(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import search  # late
    search.add(app, wiring.demo)


def _shelf(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import shelf  # late
    shelf.add(app, wiring.demo)


def _searches(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import searches  # late
    searches.add(app, wiring.demo)


def _prove(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import prove  # late
    prove.add(app, wiring.demo)


def _overlap(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import overlap  # late
    overlap.add(app, wiring.demo)


def _portfolio(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import portfolio, portfolio_kept  # late
    portfolio_kept.add(portfolio.add(app, wiring.demo), wiring.demo)


def _new(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import new  # late
    new.add(app)


def _check(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import check  # late
    check.add(app)


def _history(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import history  # late
    history.add(app, wiring.demo)


def _join(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import join  # late
    join.add(app, wiring.demo)


def _own(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import own  # late
    own.add(app, wiring.demo)


def _settings(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import settings  # late
    settings.add(app, wiring.demo)


def _strategies(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import strategies  # late
    strategies.add(app, wiring.demo)


def _holdout(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import holdout  # late
    holdout.add(app, wiring.demo)


def _bench(app: typer.Typer, wiring: Wiring) -> None:
    from wolbrin.cli import bench  # late
    bench.add(app, wiring.window_figures)


COMMANDS: list[Commands] = [
    Commands({"backtest": "Run a strategy over a history and print its measures."}, _backtest),
    Commands({"sweep": "Try sets of numbers of a strategy on the training span; find the broad hills and say how much is "
                       "luck."}, _sweep),
    Commands({"walk-forward": "Fit numbers on a stretch, trade the next with them, move on; say whether tuning carries over; "
                              "fit what is due."}, _walk_forward),
    Commands({"study": "What price does after a strategy's entry, or a condition, fires.",
              "trial": "Try many rules, or variants of a strategy, on many markets, beside shuffled histories."}, _study),
    Commands({"scan": "What price does after every row of the ingredients, beside luck: is there anything at all?"}, _scan),
    Commands({
        "discover": "Build candidates, test them, keep those above the floors; shuffled histories say how many luck keeps.",
    }, _search),
    Commands({"shelf": "List, filter, show, mark, group, compare, export and import candidates."}, _shelf),
    Commands({"searches": "List sweeps, trials and searches of a project, and where each stands.",
              "go-on": "Go on with a search that was stopped, or whose program ended under it.",
              "tidy": "List files of a project that nothing refers to any more; with --remove, remove them."}, _searches),
    Commands({"prove": "Walk candidates through the line of gates and keep every verdict.",
              "monte-carlo": "Play the training trades of candidates in other orders: drawdowns, capital for a risk. No "
                             "verdict is kept.",
              "line": "Lines of gates: list, show, use, save, and how often one is fooled."}, _prove),
    Commands({"overlap": "Correlate the results of candidates, cluster them and pick the distinct ones."}, _overlap),
    Commands({"portfolio": "Combine candidates on an account, weigh, find, save and open portfolios."}, _portfolio),
    Commands({"new": "Start a project: empty, or of history files with everything else guessed and explained."}, _new),
    Commands({"check": "Verify a project: database, files, digests, references. Ends with 1 where something is wrong."},
             _check),
    Commands({"import": "Read history files and take them into a market, there or new: all of it or nothing.",
              "quality": "Report what is wrong with a market's history, where, and its score."}, _history),
    Commands({"join": "Join contract months into one continuous future, or list months and rolls."}, _join),
    Commands({"set": "Change spans, the border, capital, currency, or a market's terms and costs; without options, show "
                     "them."},
             _settings),
    Commands({"own": "Own indicators of a project: list, show, confirm."}, _own),
    Commands({"strategy": "Add, list, show and export strategies."}, _strategies),
    Commands({
        "holdout": "Show what is sealed, what was opened and judged, and what the next opening asks; or move the border.",
    }, _holdout),
    Commands({"figure": "Say what a figure means: its definition with the formula, unit, which way is good, and source."},
             _figure),
    Commands({"bench": "Measure speed, every figure beside a reference on the same data in the same run."}, _bench),
]
NAMES = tuple(name for commands in COMMANDS for name in commands.lines)


def _nothing() -> None:
    """Stands for a command in the list of all."""


def add_wanted(app: typer.Typer, wiring: Wiring, arguments: list[str] | None) -> None:
    """Put on the app the command that is given, or only names and lines where none is. arguments: None for all of them."""
    wanted = next((a for a in arguments if a in NAMES), None) if arguments is not None else None
    for commands in COMMANDS:
        if arguments is None or wanted in commands.lines:
            commands.add(app, wiring)
        elif wanted is None:
            for name, line in commands.lines.items():
                app.command(name, help=line)(_nothing)
