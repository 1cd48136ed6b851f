"""`import wolbrin as wb`: docs/python.md runs block after block, nothing heavy is loaded, and the same bits come as
elsewhere."""

from __future__ import annotations

import datetime as dt
import doctest
import importlib
import re
import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import wolbrin as wb
from tests.build import cross, walk_bars
from tests.core.test_evidence import fresh
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.costs import Costs

PAGE = Path(__file__).parents[2] / "docs/python.md"
DAYS = 380
NOTEBOOK = "_repr_html_"  # what a notebook asks of an object


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Where prices.csv lies: two years of sessions in Oslo."""
    made = tmp_path_factory.mktemp("python")
    bars = walk_bars(DAYS * 32, seed=3, sigma=14.0)
    at = pd.to_datetime(bars.time).tz_localize("UTC") - pd.Timedelta(days=371)
    pd.DataFrame({"time": at.strftime("%Y-%m-%d %H:%M:%S"), "open": bars.open, "high": bars.high, "low": bars.low,
                  "close": bars.close, "volume": bars.volume}).to_csv(made / "prices.csv", index=False)
    return made


def test_every_example_of_the_page_runs_after_those_before_it(folder: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(folder)
    blocks = re.findall(r"```python\n(.*?)```", PAGE.read_text(), re.S)
    assert len(re.findall(r"^## \d+\. ", PAGE.read_text(), re.M)) == 10
    assert len(blocks) >= 10
    assert len([line for line in blocks[0].splitlines() if line.strip() and not line.startswith(" ")]) <= 6, "six lines"
    space: dict[str, object] = {}
    for block in blocks:
        exec(compile(block, str(PAGE), "exec"), space)
    run = space["run"]
    assert isinstance(run, wb.backtest.__globals__["Run"])
    assert (run.trades["commission"] > 0).all()
    for name in ("npw", "bars", "run", "found", "swept", "walked", "chance", "both", "finds"):
        words = repr(space[name])
        assert len(words) <= 200, (name, words)
        if name != "npw":
            assert "<b>" in getattr(space[name], NOTEBOOK)()


def test_the_same_bits_come_as_from_the_core(folder: Path) -> None:
    bars = walk_bars(2_000, seed=4, slippage_ticks=1)
    history = wb.bars(pd.DataFrame({"open": bars.open, "high": bars.high, "low": bars.low, "close": bars.close,
                                    "volume": bars.volume}, index=pd.to_datetime(bars.time, utc=True)), bars.terms)
    ours = wb.backtest(history, cross())
    assert ours.core.fingerprint == backtest(bars, cross(), Brief()).fingerprint
    assert ours.costs == Costs.of(bars.terms)
    assert list(ours.trades.columns[:2]) == ["side", "quantity"]
    assert ours.equity.index.tz is not None
    assert ours.daily.sum() == pytest.approx(ours.measures["net"])


def test_a_project_keeps_its_seal_from_python_too(tmp_path: Path) -> None:
    fresh(tmp_path / "p").close()
    with wb.project(tmp_path / "p") as desk:
        border = desk.settings.holdout_first
        history = desk.bars("AAA", 15)
        assert history.frame.index.max().date() < border
        with pytest.raises(UserError, match="sealed"):
            wb.backtest(history, cross(), last=str(border + dt.timedelta(days=3)))
        with pytest.raises(UserError, match="sealed"):
            desk.backtest(cross(), "AAA", 15, first=border)
        assert desk.openings == 0
        loose = wb.backtest(wb.bars(history.frame, desk.terms("AAA")), cross())
        with pytest.raises(UserError, match="this project's training span"):
            desk.keep(loose)
        before = desk.tried("AAA")
        wb.sweep(history, cross(), {"stop.amount": "1:2:0.5"} if cross().stop else {"long.entry.0.left.length": "3,5"}
                 if False else _first(cross()), shuffles=0)
        assert desk.tried("AAA") > before, "what is tried counts"
        kept = desk.keep(desk.backtest(cross(), "AAA", 15))
        assert kept.kept.candidate.tried == desk.tried("AAA")


def _first(rules: object) -> dict[str, str]:
    from wolbrin.core.rules.numbers import tunables

    one = tunables(rules)[0]  # type: ignore[arg-type]
    return {one.key: f"{one.value:g},{one.value + 2:g}"}


def test_importing_loads_no_window_and_nothing_heavy() -> None:
    code = ("import sys, time; t = time.perf_counter(); import wolbrin as wb; dir(wb); "
            "print([m for m in sys.modules if m.startswith(('PySide6', 'numpy', 'numba', 'pandas', 'matplotlib'))]); "
            "wb.bars; print([m for m in sys.modules if m.startswith(('PySide6', 'pyqtgraph', 'matplotlib', 'typer'))])")
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert ran.stdout.splitlines() == ["[]", "[]"]


@pytest.mark.parametrize(("spoil", "words"), [
    (lambda f: f.drop(columns="close"), "no column close"), (lambda f: f.reset_index(drop=True), "no times"),
    (lambda f: f.iloc[::-1], "out of order"), (lambda f: f.iloc[:1], "fewer than two"),
    (lambda f: pd.concat([f, f.tail(1)]), "repeated")])
def test_frames_that_are_none_say_so(spoil: object, words: str) -> None:
    bars = walk_bars(200, seed=4)
    frame = pd.DataFrame({"open": bars.open, "high": bars.high, "low": bars.low, "close": bars.close},
                         index=pd.to_datetime(bars.time, utc=True))
    with pytest.raises(UserError, match=words):
        wb.bars(spoil(frame), bars.terms)  # type: ignore[operator]
    assert np.isfinite(wb.bars(frame, bars.terms).frame["close"]).all()


def test_what_is_wrong_says_what_to_do() -> None:
    with pytest.raises(AttributeError, match="it has Costs, backtest"):
        wb.nonsense  # noqa: B018
    with pytest.raises(UserError, match="is no strategy"):
        wb.strategy("nonsense")
    with pytest.raises(UserError, match="tick"):
        wb.market("NPW", point_value=1)
    with pytest.raises(UserError, match="no project"):
        wb.project("/nowhere")
    history = wb.bars(pd.DataFrame({"open": [1.0] * 9, "high": [1.0] * 9, "low": [1.0] * 9, "close": [1.0] * 9},
                                   index=pd.date_range("2024-01-08 09:00", periods=9, freq="15min")),
                      wb.market("A", tick_size=0.5, point_value=1))
    with pytest.raises(UserError, match="no number is varied"):
        wb.sweep(history, "long_entry = close > sma(20)", {})


@pytest.mark.parametrize("name", ["histories", "runs", "searches", "together", "projects"])
def test_examples_in_docstrings_give_what_they_say(name: str) -> None:
    module = importlib.import_module(f"wolbrin.face.{name}")
    assert doctest.testmod(module, extraglobs={"wb": wb}).failed == 0


def test_every_name_of_the_face_says_what_it_takes_and_what_it_raises() -> None:
    for name in wb.__all__:
        about = getattr(wb, name).__doc__ or ""
        assert len(about) > 60, name
        if name not in ("Costs", "overlap", "portfolio"):
            assert "Raises" in about, name
