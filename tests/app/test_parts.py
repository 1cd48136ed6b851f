"""Theme, tables, charts, start and damage: the parts of the window on their own."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PySide6.QtGui import QFontDatabase
from pytestqt.qtbot import QtBot

from tests.build import walk_bars
from wolbrin.app.charts.axes import LINE, NumberAxis
from wolbrin.app.charts.lines import Curve, CurveChart, thinned
from wolbrin.app.charts.price import Mark, PriceChart, TradeMarks
from wolbrin.app.charts.pyramid import Pyramid
from wolbrin.app.shell.brief_line import cost_words
from wolbrin.app.shell.ruler import shift_month
from wolbrin.app.shell.strip import time_words
from wolbrin.app.start import open_window, prepare
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.app.theme.theme import MONO, SANS, Theme
from wolbrin.app.theme.tokens import COLOR_FIELDS, THEMES, contrast, luminance
from wolbrin.core.figures.runs import TRADES
from wolbrin.core.jobs import Engine
from wolbrin.core.market.costs import Costs

ROOT = Path(__file__).parents[2]


@pytest.mark.parametrize("tokens", THEMES.values(), ids=lambda t: t.name)
def test_text_is_readable_on_every_ground(tokens) -> None:
    """WCAG 2.1, success criterion 1.4.3: at least 4.5 to 1 for text."""
    for ground in (tokens.background, tokens.surface):
        for text in (tokens.ink, tokens.muted, tokens.accent, tokens.gain, tokens.loss_text, tokens.caution_text):
            assert contrast(text, ground) >= 4.5, (text, ground)
    assert contrast(tokens.ink, tokens.selected) >= 4.5
    assert contrast(tokens.accent, tokens.holdout) >= 4.5
    assert all(getattr(tokens, f).startswith("#") and len(getattr(tokens, f)) == 7 for f in COLOR_FIELDS)


def test_contrast_follows_wcag() -> None:
    """WCAG 2.1 definitions: white on black is 21, a color on itself 1; the luminance of pure green is 0.7152."""
    assert contrast("#FFFFFF", "#000000") == pytest.approx(21.0)
    assert contrast("#6A3D7C", "#6A3D7C") == 1.0
    assert luminance("#00FF00") == pytest.approx(0.7152)


def test_shipped_fonts_are_there(qapp) -> None:
    families = QFontDatabase.families()
    assert SANS in families
    assert MONO in families


ROWS = [{"name": f"r{i}", "x": float(x)} for i, x in enumerate([3, 1, np.nan, 2, -5])]
COLUMNS = [Column("name", lambda r: r["name"]), Column("x", lambda r: r["x"], lambda r: f"{r['x']:g}", "right",
                                                       figure=TRADES["trade.net"])]


def test_tables_sort_with_missing_values_last_and_filter(qtbot: QtBot, tmp_path: Path) -> None:
    table = Table(COLUMNS, Theme(), "T", filters=True)
    qtbot.addWidget(table)
    table.set_records(ROWS)
    order = lambda: [table.model.record(i)["x"] for i in range(table.model.rowCount())]  # noqa: E731
    table.sort_by(1)
    assert order()[:4] == [3, 2, 1, -5]
    assert np.isnan(order()[4])
    table.sort_by(1)
    assert order()[:4] == [-5, 1, 2, 3]
    for text, want in (("> 1", [2, 3]), ("<=1", [-5, 1]), ("= 2", [2]), ("\u2212", []), ("", [-5, 1, 2, 3, np.nan])):
        table.model.set_filter(1, text)
        np.testing.assert_array_equal(order(), want)
    table.model.set_filter(0, "R4")
    assert order() == [-5]
    table.write_csv(tmp_path / "t.csv")
    assert (tmp_path / "t.csv").read_text().splitlines() == ["name,x", "r4,-5"]
    table.menu().actions()[0].setChecked(False)
    assert table.grid.isColumnHidden(0)


def test_ten_thousand_rows_are_shown_without_copies(qtbot: QtBot) -> None:
    table = Table(COLUMNS, Theme(), "T", multi=True)
    qtbot.addWidget(table)
    table.resize(400, 300)
    records = [{"name": str(i), "x": float(i)} for i in range(10_000)]
    table.set_records(records)
    table.show()
    assert table.model.records is records
    table.choose(9_999)
    assert table.current() is records[-1]
    table.set_records(records[:50])
    assert table.current() is None or table.current() in records[:50]


@given(st.integers(2, 5000), st.integers(0, 2**31))
@settings(max_examples=60, deadline=None)
def test_thinning_keeps_every_extreme(n: int, seed: int) -> None:
    y = np.random.default_rng(seed).normal(size=n).cumsum()
    x, kept = thinned(np.arange(n, dtype=float), y, 300)
    assert len(kept) <= max(n if n <= 300 else 0, 310)
    assert kept.min() == pytest.approx(y[: len(y)].min()) or y.argmin() >= n - (n % (-(-2 * n // 300)))
    assert (np.diff(x) >= 0).all()
    assert kept[-1] == y[-1]


@pytest.mark.parametrize(("first", "stop", "most"), [(0, 40_000, 50), (17, 39_803, 200), (5, 6, 10), (1_030, 39_000, 700)])
def test_chart_columns_hold_the_true_range(first: int, stop: int, most: int) -> None:
    """Every bar of the stretch lies inside the column it is drawn in, and the extent is exact."""
    rng = np.random.default_rng(3)
    high = rng.normal(size=40_000).cumsum()
    low = high - rng.random(40_000)
    made = Pyramid(high, low)
    x, top, bottom = made.columns(first, stop, most)
    assert len(x) <= most + 2
    assert top.max() >= high[first:stop].max()
    assert bottom.min() <= low[first:stop].min()
    near = np.abs(np.arange(first, stop)[:, None] - x[None, :]).argmin(axis=1) if stop - first < 5_000 else None
    if near is not None:
        assert (top[near] >= high[first:stop]).all()
    assert made.extent(first, stop) == (low[first:stop].min(), high[first:stop].max())


def test_charts_draw_in_both_themes_and_keep_count_of_none(qtbot: QtBot) -> None:
    """Drawing for long must not use up references to None (bindings that miscount end the program)."""
    theme = Theme()
    chart, curve = PriceChart(theme), CurveChart(theme, "c")
    for widget in (chart, curve):
        qtbot.addWidget(widget)
        widget.resize(500, 300)
        widget.show()
    bars = walk_bars(2000)
    chart.show_bars(bars, 1500)
    x = np.arange(1000.0)
    before = sys.getrefcount(None)
    for name in ("dusk", "paper"):
        theme.use(name)
        for i in range(60):
            chart.set_lines({"a": (bars.close, "accent")})
            chart.set_marks([Mark(i, 100.0, 1), Mark(i + 9, 100.0, -1)])
            chart.set_trade(TradeMarks((i, 100.0), (i + 5, 101.0), 1, 99.0, float("nan"), True, "session"))
            chart.look(i, i + 100 + 10 * i)
            curve.show_curves([Curve(x, x, fill="depth")], (200.0, 900.0, "sealed"))
        assert not chart.grab().isNull()
        assert not curve.grab().isNull()
    assert sys.getrefcount(None) > before - 200
    chart.look_all()
    assert chart.plotItem.vb.viewRange()[0][1] >= len(bars) - 1


def test_words() -> None:
    import datetime as dt

    assert cost_words(Costs(per_contract=2.4, slippage_ticks=1)) == "2.40 + 1 tick"
    assert cost_words(Costs()) == "none"
    words = [time_words(s) for s in (float("nan"), 7.2, 600, 10_000)]
    assert words == ["estimating", "7 s left", "10 min left", "2.8 h left"]
    assert shift_month(dt.date(2022, 1, 15), -1) == dt.date(2021, 12, 1)


def test_first_start_work_shows_progress_and_failures(qapp, capsys: pytest.CaptureFixture[str]) -> None:
    engine, theme = Engine(1), Theme()
    seen: list[int] = []

    def build(report) -> None:
        for i in range(8):
            report("Compiling", i, 8)
            seen.append(i)
            time.sleep(0.08)

    def fail(report) -> None:
        from wolbrin.core.errors import EnvironmentTrouble
        raise EnvironmentTrouble("no space is left", "/data", "Free some.")

    assert prepare(engine, theme, [build], "Wolbrin")
    assert seen == list(range(8))
    assert not prepare(engine, theme, [fail], "Wolbrin")
    assert "/data: no space is left. Free some." in capsys.readouterr().err
    engine.close()


def test_a_missing_or_damaged_project_is_told_and_left_alone(qapp, tmp_path: Path,
                                                             capsys: pytest.CaptureFixture[str]) -> None:
    assert open_window(tmp_path / "nothing", []) == 1
    assert "no project in this folder" in capsys.readouterr().err
    (tmp_path / "project.sqlite").write_bytes(b"\x00garbage" * 999)
    assert open_window(tmp_path, []) == 1
    assert "is damaged" in capsys.readouterr().err
    assert (tmp_path / "project.sqlite").read_bytes() == b"\x00garbage" * 999


def test_one_start_in_a_real_window(demo: Path, tmp_path: Path) -> None:
    """The program as installed, in a real window on a virtual screen (Xvfb), leaving a picture of itself."""
    picture = tmp_path / "window.png"
    env = {k: v for k, v in os.environ.items() if k not in ("DISPLAY", "WAYLAND_DISPLAY")} | {"QT_QPA_PLATFORM": "xcb"}
    out = subprocess.run(["xvfb-run", "-a", "-s", "-screen 0 1280x800x24", sys.executable, "-m", "wolbrin", str(demo),
                          "--picture", str(picture)], capture_output=True, text=True, timeout=150, check=False, env=env)
    assert out.returncode == 0, out.stderr
    assert "Window opened: Wolbrin" in out.stdout
    from PySide6.QtGui import QImage

    image = QImage(str(picture))
    assert (image.width(), image.height()) == (1280, 800)
    shades = {image.pixel(x, y) for x in range(0, 1280, 7) for y in range(0, 800, 7)}
    assert len(shades) > 20, "something is drawn"


@given(st.floats(-1e6, 1e6), st.floats(1e-3, 1e7), st.integers(20, 900))
def test_labels_of_an_upright_axis_stand_apart(low: float, extent: float, size: int) -> None:
    """By at least a line of text, whatever the range and however low the chart."""
    levels = NumberAxis("right").tickValues(low, low + extent, size)
    shown = sorted(v for _, values in levels for v in values)
    assert all((b - a) / extent * size > LINE - 1 or b == a for a, b in pairwise(shown))
