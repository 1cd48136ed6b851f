"""The scan page: asked, answered, a strategy by one key, a study, an ingredient for Discover."""

from __future__ import annotations

from collections.abc import Callable

from pytestqt.qtbot import QtBot

from wolbrin.app.shell.window import MainWindow
from wolbrin.core.scan.moves import END
from wolbrin.core.store.searches import Searches


def test_a_scan_is_asked_looked_at_and_carried_on(qtbot: QtBot, window: MainWindow, settle: Callable[[], None]) -> None:
    s = window.session
    s.set_market("BBY")
    window.go("study")
    place = window.places["study"]
    page = place.scan
    page.horizons.setText("1")
    page.rows.setValue(60)
    page.start()  # while the last scan is still being looked for
    assert "stop it first" not in window.strip.message.text()
    settle()
    assert page.state.result is not None
    assert page.isVisible()
    assert page.chosen_words.text() == "usual ingredients"
    page.horizons.setText("1, soon")
    page.start()
    assert '"soon" is no horizon' in window.strip.message.text()
    page.horizons.setText("1, 4, end")
    page.tree.model.show(())
    for top in page.tree.model.tops:
        page.tree.model.tick(top, top.key in ("price", "weekday", "week"))
    assert page.chosen_words.text().startswith("3 of")
    page.rows.setValue(700)
    page.start()
    settle()
    result, told = page.state.result, page.state.told
    assert result is not None
    assert told is not None
    assert result.request.levels == (1, 4, END)
    assert result.answered
    assert told.something  # prices are pulled back to their average there
    assert "move price more than luck does" in page.answer.text()
    assert page.table.model.rowCount() > 20
    assert len(page.clock.cells.values) == 5 * len(page.week.hours)
    assert page.map.cells.outlined is not None
    assert page.map.cells.outlined.any()
    assert Searches(s.project).tried_on("BBY") == result.tries["BBY"] > 0
    # A filter, a cell of the map, the strongest row.
    page.show_only.set(True)
    page.fill()
    assert all(x[0].beyond for x in page.table.model.records)
    page.map.pick(0)
    line = page.table.current()[0]
    family = page.family_of(line)
    assert family == page.families[0]
    page.study_chosen()
    settle()
    assert place.study.shown_study is not None
    assert place.study.shown_study.side == line.side
    assert place.study.shown_study.firings > 60
    place.show_page("scan")
    page.tick_for_discover()
    assert "ticked for Discover" in window.strip.message.text()
    window.go("discover")
    settle()
    ticked = {c.key for c in window.places["discover"].setup.ingredients.chosen()}
    assert {k.partition(":")[0] for k in ticked} == {family}
    window.go("study")
    before = len(s.project.strategies())
    page.table.setFocus()
    page.begin_strategy()
    settle()
    assert len(s.project.strategies()) == before + 1
    made = s.strategy
    assert (made.long.mode == "off") == (line.side < 0)
    assert s.market == "BBY"
    s.undo.undo()
    assert len(s.project.strategies()) == before
    # Kept, and shown again after another one.
    window.go("study")
    s.set_market("ASL")
    page.start()
    settle()
    assert page.state.result is not result, window.strip.message.text()
    assert page.kept.count() == 3
    page.state.open(result.search)
    settle()
    assert page.state.result is not None
    assert page.state.result.search == result.search
    assert page.state.told is not None
    assert page.state.told.sentence == told.sentence
