"""Scan: where in this market is anything at all? What price does after every row, beside luck."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QSpinBox, QSplitter, QStackedWidget, QWidget

from wolbrin.app.charts.scanned import LuckMap
from wolbrin.app.ingredients import Ingredients
from wolbrin.app.parts import Choice, Empty, Popup, button, column, label, link, row
from wolbrin.app.picker import Picker
from wolbrin.app.places.study.scan_state import ScanState
from wolbrin.app.session import Session
from wolbrin.app.tables.model import Column
from wolbrin.app.tables.view import Table
from wolbrin.core.errors import UserError
from wolbrin.core.figures.searches import SCANS
from wolbrin.core.measures.wording import number, percent
from wolbrin.core.scan.families import SCANNED, TITLES, searched_as
from wolbrin.core.scan.moves import USUAL
from wolbrin.core.scan.told import horizon_text
from wolbrin.core.search.families import WEEKDAYS
from wolbrin.core.search.ingredients import Chosen
from wolbrin.core.store.searches import Searches
from wolbrin.core.work.readable import own_conditions, own_operands, readable
from wolbrin.core.work.scan_pictures import Map, Week
from wolbrin.core.work.scan_request import COUNT, MOST_ROWS, ScanRequest, horizon_words, read_horizons
from wolbrin.core.work.scan_results import Line

MAP_ROW = 15  # pixels
ABOUT = ("A scan looks at every row of the ingredients, one by one, and at what price does after it, beside what luck alone "
         "would show. It says whether there is anything here at all, before you search.")
Told = tuple[Line, str]


def _money(value: float) -> str:
    return "" if value != value else number(value)


def _sign(value: float) -> str | None:
    return "gain" if value > 0 else "loss" if value < 0 else None


class _IngredientPopup(Popup):
    """The tree of ingredients under the words that say what is chosen."""

    def __init__(self, parent: QWidget, tree: Ingredients) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose, False)
        tree.setMinimumSize(440, 420)
        self.body.addWidget(tree)


class ScanPage(QWidget):
    """study_wanted: a line is to be studied."""

    study_wanted = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.state = ScanState(session)
        self.markets = Picker("on", lambda: [m.code for m in session.markets], none="the present market")
        self.tree = Ingredients(SCANNED)
        self._popup = _IngredientPopup(self, self.tree)
        self.chosen_words = link("", self._open_tree, tip="Which ingredients are scanned")
        self.rows = QSpinBox()
        self.rows.setRange(50, MOST_ROWS)
        self.rows.setSingleStep(1_000)
        self.rows.setGroupSeparatorShown(True)
        self.rows.setValue(COUNT)
        self.rows.setSuffix(" rows")
        self.rows.setFixedWidth(116)
        self.rows.setAccessibleName("rows looked at")
        self.rows.setToolTip("Small families whole, the others by an even grid over their settings")
        self.horizons = QLineEdit(", ".join("end" if not h else str(h) for h in USUAL))
        self.horizons.setFixedWidth(144)
        self.horizons.setAccessibleName("bars held after a row")
        self.horizons.setToolTip("Bars held from the next open; end: to the session's end")
        self.over_sessions = QCheckBox("over sessions")
        self.over_sessions.setToolTip("Hold over the session's end, too; else positions end with their session")
        self.pairs = QCheckBox("pairs")
        self.pairs.setChecked(True)
        self.pairs.setToolTip("Ask the strongest rows together, too: one that fires while another holds")
        self.run = button("Scan", self.start, main=True, tip="Ctrl+Return")
        self.more = button("Go on", self.state.go_on, tip="Go on with the scan below where it was")
        self.more.hide()
        self.kept = QComboBox()
        self.kept.setAccessibleName("scans that are kept")
        self.kept.setMinimumWidth(110)
        self.kept.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.kept.activated.connect(lambda at: self.state.open(self.kept.itemData(at)))
        self.kept.hide()
        self.name = button("Name \u2026", self.rename, tip="Give the scan shown a name of its own")
        self.name.hide()
        self.answer = label("", "heading", wrap=True)
        self.words = label("", "small", wrap=True)
        self.notes = label("", "caution", wrap=True)
        self.map = LuckMap(session.theme, "Families of rows by how long they are held", 176)
        self.map.picked.connect(self._pick_cell)
        self.clock = LuckMap(session.theme, "Clock of the week", 44)
        self.clock.picked.connect(self._pick_hour)
        self.show_only = Choice([("all shown", False), ("beyond luck", True)], False, "Rows shown")
        self.show_only.chosen.connect(lambda *_: self.fill())
        self.table = Table(self._columns(), session.theme, "Rows of the scan", filters=True, stretch=4)
        self.table.opened.connect(lambda told: self.begin_strategy())
        self.table.chosen.connect(lambda told: self._tell_chosen())
        self.begin = button("Begin a strategy", self.begin_strategy, tip="B")
        self.study = button("Study it", self.study_chosen, tip="Y")
        self.tick = button("Tick it for Discover", self.tick_for_discover, tip="D")
        self.search = button("Discover from here", self.discover, main=True,
                             tip="G: search this market, beginning with what a scan shows")
        upper = QWidget()
        charts = row(self.map, self.clock, spacing=10)
        charts.setStretch(0, 56)
        charts.setStretch(1, 44)
        upper.setLayout(charts)
        lower = QWidget()
        self.chosen = label("", "small")
        lower.setLayout(column(self.table, row(self.begin, self.study, self.tick, self.search, 10, self.chosen, None,
                                               self.show_only),
                               spacing=4))
        split = QSplitter(Qt.Orientation.Vertical)
        split.addWidget(upper)
        split.addWidget(lower)
        split.setSizes([330, 300])
        result = QWidget()
        result.setLayout(column(self.answer, self.words, self.notes, split, spacing=3))
        self.empty = Empty(ABOUT, "Scan", self.start)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.empty)
        self.stack.addWidget(result)
        self.setLayout(column(
            row(self.markets, self.chosen_words, 4, self.rows, 4, label("held", "muted"), self.horizons, self.over_sessions,
                self.pairs, None, self.kept, self.name, self.more, self.run, margins=(0, 0, 8, 0)), self.stack, spacing=5,
            margins=(0, 0, 8, 0)))
        self._filled: object = None
        self.families: tuple[str, ...] = ()
        self.week: Week | None = None
        self.tree.changed.connect(self._tell_ingredients)
        session.brief_changed.connect(self._brief_moved)
        session.markets_changed.connect(self.markets.tell)
        self.state.taken.connect(self._take)
        self.state.grown.connect(self._grow)
        self.state.drawn.connect(self.draw)
        self.state.said.connect(self.fill)
        self.state.kept.connect(self._list_kept)
        self.state.preparing.connect(lambda on: self.run.setEnabled(not on))
        self._brief_moved()

    def _columns(self) -> list[Column]:
        def line(told: Told) -> Line:
            return told[0]

        def market(told: Told) -> str:
            r = self.state.result
            return r.request.places[told[0].place][0] if r is not None else ""

        return [
            Column("", lambda x: 0 if line(x).beyond else 1, lambda x: "beyond luck" if line(x).beyond else "", width=98,
                   tint=lambda x: "accent"),
            Column("t", lambda x: line(x).t, lambda x: number(line(x).t, 1), "right", 44, bold=True, figure=SCANS["scan.t"]),
            Column("p", lambda x: line(x).p, lambda x: "" if line(x).p != line(x).p else number(line(x).p, 3), "right", 54,
                   figure=SCANS["scan.p"]),
            Column("luck", lambda x: line(x).luck, lambda x: percent(line(x).luck), "right", 50, figure=SCANS["scan.luck"]),
            Column("row", lambda x: x[1], width=330),
            Column("price", lambda x: line(x).side, lambda x: ("up " if line(x).side > 0 else "down ") + horizon_text(
                line(x).horizon, line(x).state), width=142, tint=lambda x: _sign(line(x).side)),
            Column("market", market, width=62),
            Column("times", lambda x: line(x).trades, lambda x: number(line(x).trades) if line(x).trades else "", "right",
                   58, figure=SCANS["scan.times"]),
            Column("money", lambda x: line(x).money, lambda x: _money(line(x).money), "right", 78,
                   figure=SCANS["scan.money"]),
            Column("after costs", lambda x: line(x).net, lambda x: _money(line(x).net), "right", 84,
                   lambda x: _sign(line(x).net), figure=SCANS["scan.net"]),
            Column("t by time held", self._spark, width=96, kind="spark", tip="t at each horizon, with sign")]

    def _spark(self, told: Told) -> Any:
        result, x = self.state.result, told[0]
        if result is None or x.holds >= 0:
            return None
        f = result.places[x.place]
        return np.nan_to_num(f.t[x.number].astype(np.float64)) * f.side[x.number]

    # Asking

    def _brief_moved(self) -> None:
        s = self.session
        key = s.interval, s.market, tuple(m.code for m in s.markets)
        if key != self._filled:
            self._filled = key
            others = tuple(m.code for m in s.markets if m.code != s.market)
            self.tree.fill(readable(s.interval, others, own_operands(Path(s.project.folder)), own_conditions(s.project)))
        self._tell_ingredients()

    def _open_tree(self) -> None:
        self._popup.open_under(self.chosen_words)

    def _tell_ingredients(self) -> None:
        tops = [t for t in self.tree.model.tops if t.children]
        on = [t for t in tops if t.on]
        if self.tree.usual:
            text = "usual ingredients"
        elif not on:
            text = "no ingredients"
        else:
            text = on[0].title if len(on) == 1 else f"{len(on)} of {len(tops)} families"
        self.chosen_words.setText(text)

    def ingredients(self) -> tuple[Chosen, ...]:
        """What is ticked; nothing where it is the usual."""
        return () if self.tree.usual else self.tree.chosen()

    def request(self) -> ScanRequest:
        """What stands here. Raises UserError where it is nothing."""
        s = self.session
        markets = self.markets.chosen() or [s.market]
        made = ScanRequest(tuple((m, s.interval) for m in markets), self.ingredients(), self.rows.value(),
                           read_horizons(self.horizons.text()), not self.over_sessions.isChecked(), self.pairs.isChecked())
        made.check()
        if not self.tree.usual and not made.ingredients:
            raise UserError("no ingredient is ticked", "ingredients", "Tick at least one family.")
        return made

    def start(self) -> None:
        """Scan in the background."""
        made = self.session.attempt(self.request)
        if made is not None:
            self.state.start(made)

    def load_last(self) -> None:
        """Show the newest scan, if there is one."""
        self._list_kept()
        self.state.restore()

    def _list_kept(self) -> None:
        found = self.session.attempt(self.state.scans) or []
        self.kept.blockSignals(True)
        self.kept.clear()
        for stored in found:
            self.kept.addItem(self.state.title_of(stored), stored.id)
        if self.state.result is not None:
            self.kept.setCurrentIndex(self.kept.findData(self.state.result.search))
        self.kept.blockSignals(False)
        self.kept.setVisible(len(found) > 0)
        self.name.setVisible(self.state.result is not None)

    def rename(self) -> None:
        """Give the scan shown a name of its own."""
        found = next((x for x in self.session.attempt(self.state.scans) or []
                      if self.state.result is not None and x.id == self.state.result.search), None)
        if found is None:
            return
        popup, edit = Popup(self), QLineEdit(found.title)
        edit.setAccessibleName("name of the scan")
        edit.setMaxLength(80)
        edit.setMinimumWidth(260)

        def keep() -> None:
            text = edit.text().strip()
            if text:
                self.session.attempt(lambda: Searches(self.session.project).rename(found.id, text))
                self._list_kept()
            popup.close()

        edit.returnPressed.connect(keep)
        popup.body.addLayout(row(edit, button("Keep", keep, main=True)))
        popup.open_under(self.name)
        edit.setFocus()
        edit.selectAll()

    # Showing

    def _take(self) -> None:
        self.stack.setCurrentIndex(1)
        self.map.chosen = self.clock.chosen = -1
        self.table.set_records([])
        for at in range(len(self.table.model.columns)):
            self.table.set_filter(at, "")
        result = self.state.result
        assert result is not None
        self.words.setToolTip("\n".join(r.words() for r in result.records))

    def _grow(self) -> None:
        """How far the scan has come."""
        result = self.state.result
        if result is None:
            return
        self.more.setVisible(self.state.unfinished)
        left = result.left_out()
        out = sum(left.values())
        where = ", ".join(f"{m}" for m, _ in result.request.places)
        luck = f"Luck: {number(result.draws)} draws of a random sign for each date. " if result.answered else ""
        why = "; ".join(f"{number(n)}: {w}" for w, n in left.items())
        self.words.setText(
            f"{number(result.rows)} of {number(result.total)} rows on {where}, training span, "
            f"{number(result.places[0].days)} days; {number(out)} left out ({why}). "
            f"{luck}Counts as {number(max(result.tries.values(), default=0))} tries on its market so far, other searches "
            "included.")
        self.notes.setText(". ".join(f"{n[:1].upper()}{n[1:]}" for n in result.notes))
        self.notes.setVisible(bool(result.notes))
        if self.state.told is None:
            self.answer.setText(f"{number(result.rows)} of {number(result.total)} rows so far")

    def _draw_map(self, told: Map) -> None:
        result = self.state.result
        assert result is not None
        levels = result.request.levels
        room = max(6, int(self.map.height() - 54) // MAP_ROW)  # each with its name beside it
        self.families = told.families[:room]
        if not self.families:
            return
        titles = [TITLES.get(k, k) for k in self.families]
        names = [f"{title}, {horizon_words(h)}" for title in titles for h in levels]
        held = ["to the end" if not h else str(h) for h in levels]
        self.map.show_t(told.t[:room], told.hurdles[:room], names, held, titles, "bars held from the next open",
                        "strongest row of each family, t")

    def _draw_clock(self, told: Week) -> None:
        result = self.state.result
        assert result is not None
        self.week = told
        days = [d[:3] for d in WEEKDAYS]
        if not len(told.hours):
            none = np.full((len(days), 1), np.nan)
            self.clock.show_t(none, none, [""] * len(days), [""], days,
                              "not looked at yet" if self.state.running else "no hours of the week were scanned", "")
            return
        names = [f"{day}, {h:02d}:00 to {h + 1:02d}:00" for day in WEEKDAYS for h in told.hours]
        self.clock.show_t(told.t, np.full(told.t.shape, told.hurdle), names, [f"{h:02d}" for h in told.hours], days,
                          f"hour, exchange time, {result.request.places[0][0]}", "t of the hour")

    def draw(self) -> None:
        """The pictures."""
        if self.state.pictures is not None:
            self._draw_map(self.state.pictures[0])
            self._draw_clock(self.state.pictures[1])

    def fill(self) -> None:
        """The answer, and the rows in words."""
        told, result = self.state.told, self.state.result
        if told is None or result is None:
            return
        text = told.sentence
        self.answer.setText(f"{text}{'' if text.endswith('.') else '.'}")
        lines = [x for x in told.lines if x[0].beyond or not self.show_only.value]
        self.table.set_records(lines)
        if lines and self.table.current() is None:
            self.table.choose(0)
        self._tell_chosen()

    def _tell_chosen(self) -> None:
        told = self.table.current()
        for one in (self.begin, self.study, self.tick):
            one.setEnabled(told is not None)
        text = ""
        if told is not None and told[0].holds < 0 and self.state.result is not None:
            f, line = self.state.result.places[told[0].place], told[0]
            text = f"fires on {number(int(f.firing[line.number]))} of {number(f.days)} days"
        self.chosen.setText(text)

    def _pick_cell(self, cell: int) -> None:
        """Show the rows of a family and horizon: filters of the table."""
        result = self.state.result
        if result is None or not self.families:
            return
        at, level = divmod(cell, len(result.request.levels))
        wanted = self.families[at], result.request.levels[level]
        self._choose_line(lambda x: x[0].holds < 0 and self.family_of(x[0]) == wanted[0] and x[0].horizon == wanted[1],
                          lambda x: x[0].holds < 0 and self.family_of(x[0]) == wanted[0])

    def family_of(self, line: Line) -> str:
        """Key of the family of a line's row."""
        result = self.state.result
        assert result is not None
        which = int(result.places[line.place].ingredient[line.number])
        return result.keys[line.place][which].partition(":")[0] if which >= 0 else ""

    def _choose_line(self, *tests: Any) -> None:
        """Choose the first line of the table that passes one of the tests, those before it first."""
        shown = [self.table.model.record(i) for i in range(self.table.model.rowCount())]
        for test in tests:
            for at, told in enumerate(shown):
                if told is not None and test(told):
                    self.table.choose(at)
                    return
        self.session.note("None of the rows listed here is of that kind: they are weaker.", "note")

    def _pick_hour(self, cell: int) -> None:
        week = self.week
        if week is not None and len(week.hours):
            row_number = int(week.rows.reshape(-1)[cell])
            self._choose_line(lambda x: x[0].place == 0 and x[0].number == row_number and x[0].holds < 0)

    # Carrying on

    def _current(self) -> Line | None:
        told = self.table.current()
        if told is None:
            self.session.note("No row is chosen; click one.", "caution")
            return None
        return told[0]

    def begin_strategy(self) -> None:
        """Begin a strategy with the chosen row: entry, held as long as it was seen, its stop far away."""
        line, names, s = self._current(), self.state.names, self.session
        if line is None or names is None or self.state.result is None:
            return
        strategy = s.attempt(lambda: names.strategy(line))
        if strategy is not None:
            market, interval = self.state.result.request.places[line.place]
            s.add_strategy(strategy, market, interval)
            s.place_wanted.emit("rules")

    def study_chosen(self) -> None:
        """Study the chosen row."""
        line, names, s = self._current(), self.state.names, self.session
        if line is None or names is None or self.state.result is None:
            return
        strategy = s.attempt(lambda: names.strategy(line))
        if strategy is not None:
            self.study_wanted.emit((strategy, *self.state.result.request.places[line.place], line))

    def discover(self) -> None:
        """Begin a search on the market of the chosen row, or of the scan, by what a scan shows."""
        result, s = self.state.result, self.session
        if result is None:
            s.note("Run a scan first.", "caution")
            return
        line = self._current()
        s.look_at(*result.request.places[line.place if line is not None else 0])
        s.laid.seek = True
        s.place_wanted.emit("discover")

    def tick_for_discover(self) -> None:
        """Have Discover search with the ingredient of the chosen row."""
        line, result = self._current(), self.state.result
        if line is None or result is None:
            return
        rows = [n for n in (line.number, line.holds) if n >= 0]
        keys = [result.keys[line.place][int(result.places[line.place].ingredient[n])] for n in rows]
        s = self.session
        s.look_at(*result.request.places[line.place])
        ticked = tuple(dict.fromkeys((*s.laid.ingredients, *(k for key in keys for k in searched_as(key)))))
        s.laid.ingredients = ticked
        s.note(f"{len(ticked)} ingredient{'s are' if len(ticked) != 1 else ' is'} ticked for Discover: {', '.join(ticked)}.")


