"""The Markets place, driven: a dirty file from import to treatment, terms and cost sets, two sources, contract months."""

from __future__ import annotations

import datetime as dt
import gzip
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QComboBox, QLineEdit, QPushButton
from pytestqt.qtbot import QtBot

from tests.app.conftest import put_away
from tests.build import WAIT
from wolbrin.app.parts import Popup
from wolbrin.app.session import Session
from wolbrin.app.shell import projects
from wolbrin.app.shell.window import MainWindow
from wolbrin.app.theme.theme import Theme
from wolbrin.core.jobs import Engine
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.intervals import Interval
from wolbrin.core.market.treatment import Treatment
from wolbrin.core.store.project import Project
from wolbrin.demo.markets import MARKETS

Settle = Callable[[], None]
FILES = Path(__file__).parents[2] / "src/wolbrin/demo/files"
COB = next(m for m in MARKETS if m.terms.code == "COB").terms


def put(box: QComboBox, value: object) -> None:
    """Choose as a person would: other code is told."""
    box.setCurrentIndex(next(i for i in range(box.count()) if box.itemData(i) == value))


@pytest.fixture
def place(window: MainWindow, settle: Settle):
    window.go("markets")
    settle()
    return window.places["markets"]


def worth(page, settle: Settle) -> None:
    """Say what a new future's point is worth: no file shows it."""
    page.questions.answered.emit("--point-value", "10")
    settle()


def taken_in(window: MainWindow, place, settle: Settle, file: Path, code: str) -> None:
    place.open_files([file])
    settle()
    page = place.pages["import"]
    page.market.setCurrentIndex(page.market.count() - 1)
    page.code.setText(code)
    page.start()
    settle()
    worth(page, settle)
    page.take()
    settle()


def test_a_newcomer_takes_the_dirty_file_in_and_makes_it_fit(window: MainWindow, place, settle: Settle, qtbot: QtBot) -> None:
    """From the dropped file to a treated market: bad rows listed, faults found, treated, recorded, undone."""
    s = window.session
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(FILES / "cob-dirty.csv.gz"))])
    place.dropEvent(QDropEvent(QPointF(5, 5), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton,
                               Qt.KeyboardModifier.NoModifier))
    settle()
    page = place.pages["import"]
    assert place.page is page
    assert page.preview.roles() == ["date", "clock", "open", "high", "low", "close", "volume"]
    assert page.form.delimiter.currentData() == ";"
    assert page.form.decimal.currentData() == ","
    put(page.market, "\0new")
    assert page.code.isVisible()
    page.code.setText("COB")
    page.form.zone.setEditText("Europe/Oslo")
    settle()
    page.start()
    settle()
    assert "4 rows could not be read" in page.result.text()
    assert [b.row for b in page.rows.bad.model.records] == [1002, 2002, 3002, 4002]
    assert not [m for m in s.markets if m.code == "COB"], "nothing is kept before it is taken in"
    page.take()
    assert "point value is not decided" in page.fault.text()
    worth(page, settle)
    page.take()
    settle()
    assert "COB" in [m.code for m in s.markets]
    assert place.page.key == "terms", "a new market's terms are to be looked over"
    terms = place.pages["terms"]
    terms.load_from(FILES / "market-cob.json")
    assert terms.worth[2].text() == "3 ticks on 2 contracts = 60.00 EUR"
    terms.save()
    settle()
    assert s.project.market("COB").terms == COB
    place.show_page("quality")
    settle()
    quality = place.pages["quality"]
    counts = {f.key: f.count for f in quality.report.findings}
    assert (counts["spikes"], counts["flat"], counts["repeated"], counts["outside"]) == (4, 14, 2, 6)
    assert len(s.fault_days()) > 3, "the ruler marks them"
    row = next(i for i in range(quality.findings.model.rowCount()) if quality.findings.model.record(i).key == "spikes")
    quality.findings.choose(row)
    quality.places.choose(0)
    settle()
    place_ = quality.places.current()
    bar, words = place.chart.pointed
    assert place.raw.time[bar] == place_.time
    assert words == place_.words
    quality.show_hour(0, 2)
    place.show_page("treatment")
    settle()
    page = place.pages["treatment"]
    put(page.flat, "leave out")
    put(page.spikes, "leave out")
    settle()
    assert "Preview" in page.said.text()
    assert {c.rule: len(c) for c in page.treated.changes} == {
        "repeated stamps": 2, "contradicting prices": 2, "bars without a range": 14, "spikes": 4}
    page.changes.choose(3)
    assert page.bars.model.rowCount() == 4
    before = s.project.market("COB").hash
    page.apply()
    settle()
    assert s.project.market("COB").hash != before
    assert s.project.sources.treatments("COB", "cob-dirty")[0]["hash"] == s.project.base("COB").hash
    assert place.pages["treatment"].said.text().startswith("In force")
    place.show_page("quality")
    place.pages["quality"].which.set(True)
    place.pages["quality"].activate()
    settle()
    assert place.pages["quality"].report.finding("spikes").count == 0
    s.undo.undo()
    settle()
    assert s.project.market("COB").hash == before
    assert s.project.sources.get("COB", "cob-dirty").treatment == Treatment()


def test_wrong_settings_are_told_beside_the_preview(window: MainWindow, place, settle: Settle, tmp_path: Path) -> None:
    place.open_files([FILES / "npw-semicolon.csv"])
    settle()
    page = place.pages["import"]
    assert page.market.currentData() == "NPW", "the file's name tells the market"
    assert any("that are there already agree" in f.why for f in page.look.judged[0].findings)
    assert page.take_button.isVisibleTo(page)
    page.preview.boxes[2].setCurrentText("skip")
    assert "no column is read as open" in page.fault.text()
    assert not page.read_button.isEnabled()
    page.preview.boxes[2].setCurrentText("open")
    page.form.zone.setEditText("Moon/Sea")
    assert "time zone" in page.fault.text()
    page.form.zone.setEditText("UTC")
    page.form.minutes.setText("abc")
    assert "number of minutes" in page.fault.text()
    page.form.minutes.setText("")
    put(page.form.delimiter, ",")
    assert not page.read_button.isEnabled()
    put(page.form.delimiter, ";")
    page.form.time_format.setEditText("%Y/%m/%d %H:%M")
    assert "cannot be read" in page.fault.text()
    page.form.time_format.setEditText("iso")
    assert page.fault.text() == ""
    page.layout_name.setText("desk")
    page.edited()
    page.remember()
    assert [x.name for x in window.session.project.sources.layouts()] == ["desk"]
    bad = tmp_path / "no.csv"
    bad.write_bytes(b"\x00\x01\x02\x03")
    page.open([bad])
    settle()
    assert "not a text file" in page.fault.text()
    page.open([tmp_path / "absent.csv"])
    settle()
    assert "does not exist" in page.fault.text()


def test_importing_again_appends_and_shows_disagreements(window: MainWindow, place, settle: Settle, tmp_path: Path) -> None:
    s = window.session
    lines = (FILES / "npw-iso.csv").read_text().splitlines()
    first, second = tmp_path / "feed.csv", tmp_path / "more.csv"
    first.write_text("\n".join(lines[:1000]))
    changed = lines[990:]
    changed[2] = changed[2].replace(changed[2].split(",")[4], "99.99")
    second.write_text("\n".join([lines[0], *changed]))
    page = place.pages["import"]
    for file in (first, second):
        place.open_files([file])
        settle()
        put(page.market, "NPW")
        page.source.setText("feed")
        page.target_changed()
        page.start()
        settle()
        if file == second:
            assert "1 are there with other prices" in page.result.text()
            assert page.rows.differ.model.rowCount() == 1
            assert page.keep.isVisibleTo(page)
        page.take()
        settle()
    assert s.project.sources.get("NPW", "feed").rows == len(lines) - 1
    assert place.looked.source.name == "feed"
    assert s.market == "NPW"
    assert s.entry.source == "skx", "the market is still tested on its first source"
    place.use()
    settle()
    assert s.entry.source == "feed"
    s.undo.undo()
    settle()
    assert s.entry.source == "skx"
    place.looked.look_at(s.project.sources.get("NPW", "feed"))
    place.remove()
    settle()
    assert [x.name for x in s.project.sources.of("NPW")] == ["skx"]
    s.undo.undo()
    settle()
    assert len(s.project.sources.of("NPW")) == 2


def test_terms_are_judged_as_one_types_and_cost_sets_reach_the_brief(window: MainWindow, place, settle: Settle,
                                                                     tmp_path: Path) -> None:
    s = window.session
    place.show_page("terms")
    settle()
    page = place.pages["terms"]
    assert page.worth[0].text() == "1 tick on 1 contract = 2.50 EUR"
    page.fields["point_value"].setText("500")
    assert page.worth[0].text() == "1 tick on 1 contract = 5.00 EUR"
    page.fields["conversion_market"].setText("BBY")
    page.inverse.setChecked(True)
    assert (page.read_terms().conversion_market, page.read_terms().conversion_inverse) == ("BBY", True)
    page.fields["conversion_market"].setText("")
    page.inverse.setChecked(False)
    page.fields["tick_size"].setText("0")
    assert "tick" in page.fault.text()
    assert page.fields["tick_size"].property("state") == "wrong"
    assert not page.save_button.isEnabled()
    page.fields["tick_size"].setText("a tenth")
    assert '"a tenth" is not a number' in page.fault.text()
    page.fields["tick_size"].setText("0.01")
    page.sessions.setPlainText("Mon-Fri 9 to 5")
    assert "is not a session" in page.fault.text()
    page.sessions.setPlainText("Mon-Fri 09:00-12:00\nMon-Fri 13:00-17:00")
    page.calendar.setEditText("NOWHERE")
    assert "no exchange" in page.fault.text()
    page.calendar.setEditText("")
    assert page.save_button.isEnabled()
    bars = s.entry.bars
    page.save()
    settle()
    assert s.entry.terms.point_value == 500
    assert s.entry.bars < bars, "the bars of the pause are out of session now"
    s.undo.undo()
    settle()
    assert s.entry.terms.point_value == 250
    assert s.entry.bars == bars
    page.new_name.setText("stressed")
    page.add()
    page.fields["slippage_ticks"].setText("4")
    page.fields["roll_ticks"].setText("2.5")
    page.save()
    settle()
    put(page.which, "stressed")
    page.use_set()
    settle()
    assert s.settings.costs_of(s.entry.terms) == Costs.of(s.entry.terms).model_copy(
        update={"slippage_ticks": 4.0, "roll_ticks": 2.5})
    assert "stressed" in window.brief.costs.text()
    assert s.run.brief.costs.slippage_ticks == 4
    page.export_to(tmp_path / "npw.json")
    assert "wolbrin.market" in (tmp_path / "npw.json").read_text()
    put(page.which, "stressed")
    page.remove_set()
    settle()
    assert s.settings.costs_of(s.entry.terms) == Costs.of(s.entry.terms), "a set that is gone gives way to the terms"


def test_contract_months_are_joined_and_their_rolls_shown(window: MainWindow, place, settle: Settle) -> None:
    s = window.session
    place.open_files([FILES / "hfr-months.zip"])
    settle()
    page = place.pages["import"]
    assert page.months.isChecked()
    page.market.setCurrentIndex(page.market.count() - 1)
    page.code.setText("HFR")
    page.start()
    settle()
    worth(page, settle)
    for option, value in (("--zone", "UTC"), ("--stamp", "open")):
        page.questions.answered.emit(option, value)
        settle()
    page.take()
    settle()
    assert [x.name for x in s.project.sources.of("HFR")] == ["2021-03", "2021-06", "2021-09", "2021-12", "continuous"]
    assert s.project.market("HFR").source == "continuous", "a market is made of its months"
    place.show_page("contracts")
    settle()
    page = place.pages["contracts"]
    put(page.by, "dates")
    assert page.dates_line.isVisibleTo(page)
    page.dates.setText("soon")
    page.join()
    assert "is not a date" in page.fault.text()
    put(page.by, "volume")
    page.join()
    settle()
    made = s.project.sources.get("HFR", "continuous")
    assert [r[3] for r in made.rolls] == [38.0, 38.0, 38.0]
    assert page.rolls.model.rowCount() == 3
    assert [w for _, w in place.chart.uprights] == ["2021-06", "2021-09", "2021-12"]
    page.rolls.choose(1)
    settle()
    assert place.raw.time[place.chart.pointed[0]] == made.rolls[1][0]


def test_two_sources_are_compared_on_screen(window: MainWindow, place, settle: Settle, tmp_path: Path) -> None:
    s = window.session
    place.show_page("compare")
    settle()
    page = place.pages["compare"]
    assert page.pages.currentIndex() == 0, "with one source the page says what to do"
    raw = s.project.sources.raw(s.project.sources.get("NPW", "skx"))
    rng = np.random.default_rng(1)
    moved = raw.close + np.where(rng.random(len(raw)) < 0.01, 0.01, 0.0)
    other = type(raw)(raw.interval, raw.time, raw.open, np.maximum(raw.high, moved), raw.low, moved, raw.volume)
    s.project.sources.put(s.entry.terms, "tide", other.take(np.flatnonzero(np.arange(len(raw)) % 5000 != 7)))
    s.reload_markets()
    settle()
    page.start()
    settle()
    figures = {f[0]: f[1:] for f in page.figures.model.records}
    training = len(s.project.base("NPW"))  # what is sealed is not compared
    assert figures["bars in one only"] == (str(np.count_nonzero(np.arange(training) % 5000 == 7)), "0")
    assert page.made.runs is not None
    assert figures["trades matched"][0] == f"{page.made.runs.count('both'):,}"
    for kind in ("only", "spikes", "trades", "apart"):
        page.kinds.set(kind)
        page.fill_list()
    page.moments.choose(0)
    settle()
    assert place.chart.pointed is not None


def test_intervals_spans_and_limits(window: MainWindow, place, settle: Settle, qtbot: QtBot) -> None:
    s = window.session
    place.show_page("span")
    settle()
    page = place.pages["span"]
    rows = dict(page.table.model.records)
    assert rows[5] == len(s.project.base("NPW")) < s.entry.bars, "bars to train on"
    assert rows[1440] > 1_500
    page.other.setText("range 12")
    page.count_other()
    assert "not a bar interval" in page.fault.text()
    page.other.setText("12 range")
    page.count_other()
    settle()
    code = Interval("range", 12).code
    assert dict(page.table.model.records)[code] > 1_000
    page.use(code)
    settle()
    assert s.interval == code
    assert window.brief.interval.text() == "range 12"
    assert s.run.bars.interval == code
    page.use(1440)
    settle()
    assert "daily" in window.brief.interval.text()
    page.use(15)
    settle()
    page.own.setChecked(True)
    assert page.until.isEnabled()
    page.until.setDate(dt.date(2019, 12, 31))
    page.months.setValue(12)
    page.set()
    settle()
    assert s.own_span
    assert s.settings.training.first == dt.date(2019, 1, 1)
    assert s.project_settings.holdout_first == dt.date(2022, 7, 1)
    assert s.run.brief.span == s.settings.training
    renamed = s.strategy.model_copy(update={"name": "Renamed"})
    s.edit(renamed, "rename")
    settle()
    assert s.own_span, "it is the strategy's, whatever its name"
    s.undo.undo()
    settle()
    page.bars.setValue(500)
    page.set()
    assert "not both" in page.said.text()
    page.months.setValue(0)
    page.set()
    settle()
    assert s.run.last - s.run.first == 500
    assert "last 500 bars" in window.brief.span.text()


def test_other_intervals_are_written_into_the_brief(window: MainWindow, settle: Settle, qtbot: QtBot) -> None:
    settle()
    window.brief.other_interval(window.brief.interval)
    popup = window.findChild(Popup)
    edit = popup.findChild(QLineEdit)
    edit.setText("7 min")
    qtbot.mouseClick(_set_button(popup), Qt.MouseButton.LeftButton)
    assert window.session.interval == 15, "7 minutes are no multiple of 5"
    edit.setText("45")
    qtbot.mouseClick(_set_button(popup), Qt.MouseButton.LeftButton)
    settle()
    assert window.session.run.bars.interval == 45


def _set_button(popup: Popup) -> QPushButton:
    return next(b for b in popup.findChildren(QPushButton) if b.text() == "Set")


def test_an_empty_project_begins_with_an_import(qtbot: QtBot, tmp_path: Path, engine: Engine, monkeypatch) -> None:
    """A project of one's own: no market yet, then one from a file; every place can be visited before and after."""
    theme = Theme()
    theme.apply()
    opened: list[Path] = []
    monkeypatch.setattr(projects, "open_elsewhere", lambda folder: opened.append(folder) or True)
    Project.create(tmp_path / "own").close()
    project = Project(tmp_path / "own")
    window = MainWindow(Session(project, engine, theme))
    window.show()

    def settle() -> None:
        qtbot.waitUntil(lambda: not window.session.busy, timeout=WAIT)
        qtbot.wait(80)

    settle()
    for key in window.places:
        window.go(key)
        settle()
    window.go("markets")
    settle()
    place = window.places["markets"]
    assert place.page.key == "import"
    packed = tmp_path / "abc.csv.gz"
    packed.write_bytes(gzip.compress((FILES / "npw-iso.csv").read_bytes()))
    taken_in(window, place, settle, packed, "abc")
    assert [m.code for m in window.session.markets] == ["ABC"]
    assert window.session.market == "ABC"
    for key in window.places:
        window.go(key)
        settle()
    projects.make_project(window.session, tmp_path / "another")
    projects.make_project(window.session, tmp_path / "another")
    assert opened == [tmp_path / "another"]
    assert "a project in this folder already" in window.strip.message.text()
    put_away(window)
    project.close()


def test_other_terms_say_first_what_they_change_where_work_rests_on_them(window: MainWindow, place, settle: Settle) -> None:
    s = window.session
    window.go("backtest")
    settle()
    window.places["backtest"].keep_on_shelf()
    settle()
    window.go("markets")
    place.look_at_brief()
    place.show_page("terms")
    settle()
    page = place.pages["terms"]
    code, before = s.market, s.entry.terms.point_value
    page.fields["point_value"].setText(f"{before * 2:g}")
    page.save()
    settle()
    assert "rest on the old terms" in page.fault.text()
    assert "multiplied by 2" in page.fault.text()
    assert s.project.market(code).terms.point_value == before
    assert page.save_button.text() == "Save all the same"
    page.save()
    settle()
    assert s.project.market(code).terms.point_value == before * 2
