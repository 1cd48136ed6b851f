"""What the window is about: project, current strategy, brief, selection. Places read it and are told of changes."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterable
from contextlib import suppress
from typing import Any

from PySide6.QtCore import QObject, Signal
from PySide6.QtGui import QUndoCommand, QUndoStack

from wolbrin.app.current import CurrentRun
from wolbrin.app.keeping import Keeping
from wolbrin.app.laid import Laid
from wolbrin.app.lane import Lane
from wolbrin.app.theme.theme import Theme
from wolbrin.app.undo import Act
from wolbrin.app.unsaved import Unsaved
from wolbrin.app.works import Works
from wolbrin.core.engine.run import Run
from wolbrin.core.errors import Door, EnvironmentTrouble, WolbrinError
from wolbrin.core.faults import words_of
from wolbrin.core.jobs import Engine, Job, Kind
from wolbrin.core.market.intervals import Interval
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.dossier import Dossiers
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import OwnSpan, Settings
from wolbrin.core.store.shelf import Kept
from wolbrin.core.store.sources import intervals_for
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.going_on import go_on
from wolbrin.core.work.one_run import OneRun
from wolbrin.core.work.standing import restand
from wolbrin.core.work.subject import Subject


class _EditStrategy(QUndoCommand):
    """One edit of a strategy; edits of the same kind in a row melt into one."""

    def __init__(self, session: Session, id: int, before: Strategy, after: Strategy, text: str) -> None:
        super().__init__(text)
        self._session, self._id, self._before, self._after = session, id, before, after

    def redo(self) -> None:
        self._session.put_strategy(self._id, self._after)

    def undo(self) -> None:
        self._session.put_strategy(self._id, self._before)


class Session(QObject):
    """State shared by the places. Every change goes through a method here and is announced by a signal."""

    strategy_changed = Signal()
    strategies_changed = Signal()
    brief_changed = Signal()
    counts_changed = Signal()
    shelf_changed = Signal()
    evidence_changed = Signal()
    selection_changed = Signal()
    subject_changed = Signal()
    markets_changed = Signal()
    place_wanted = Signal(str)
    border_asked = Signal(object)
    resumed = Signal(str, object, object)
    grown = Signal(str, object)
    door_wanted = Signal(str)

    def __init__(self, project: Project, engine: Engine, theme: Theme) -> None:
        super().__init__()
        project.hurry()  # this is the interface thread
        self.laid = Laid()
        self.project = project
        self.dossiers = Dossiers(project)
        self.shelf = self.dossiers.on_shelf
        self.works = Works(engine)
        self.theme = theme
        self.undo = QUndoStack(self)
        self.project_settings: Settings = project.settings
        self.markets = project.markets()
        self.subject: Subject | None = None
        self.works.engine.share = float(project.get_value("share", 1.0))
        self.going: dict[int, Any] = {}  # results of searches that go on, by number
        self._faults: dict[tuple[str, str], list[int]] = {}
        self.unsaved = Unsaved(self.works.note)
        self.lane = Lane(self.works, self.unsaved, self.reload_markets)
        self.keeping = Keeping(project, self.unsaved)
        self.current = CurrentRun(self.works, self._question)
        self.run_changed = self.current.changed
        entries = project.strategies()
        if not entries and self.markets:
            with suppress(EnvironmentTrouble):  # what cannot be kept is no reason not to open
                project.save_strategy(Strategy(), self.markets[0].code, self.markets[0].minutes)
            entries = project.strategies()
        wanted = project.get_value("strategy")
        chosen = next((e for e in entries if e.id == wanted), entries[0] if entries else None)
        self.strategy_id = chosen.id if chosen else 0
        self.keeping.know(entries)
        self.strategy = chosen.strategy if chosen else Strategy()
        self.own: OwnSpan | None = chosen.own if chosen else None
        codes = [m.code for m in self.markets]
        self.market = chosen.market if chosen and chosen.market in codes else (codes[0] if codes else "")
        self.interval = chosen.interval if chosen else 15
        for signal in (self.strategy_changed, self.brief_changed):
            signal.connect(self.current.soon)
        self.works.compute("Standing", self._standings, lambda changed: self.evidence_changed.emit() if changed else None)

    # Work beside the window; see works.Works

    @property
    def noted(self) -> Any:
        return self.works.noted

    @property
    def job_started(self) -> Any:
        return self.works.started

    def on_ui(self, act: Callable[..., None]) -> Callable[..., None]:
        return self.works.on_ui(act)

    def note(self, text: str, kind: str = "note", door: Door | None = None) -> None:
        self.works.note(text, kind, door)

    def attempt(self, act: Callable[[], Any]) -> Any:
        return self.works.attempt(act)

    def start(self, job: Job, kind: Kind, then: Callable[[Job], None] | None = None, quiet: bool = False) -> Job:
        return self.works.start(job, kind, then, quiet)

    def compute(self, title: str, function: Callable[[], Any], then: Callable[[Any], None], slot: str = "",
                refused: Callable[[WolbrinError], None] | None = None) -> None:
        self.works.compute(title, function, then, slot, refused)

    @property
    def busy(self) -> bool:
        return self.works.busy

    def stop_all(self) -> None:
        self.unsaved.stop()
        self.works.stop_all()

    def set_share(self, share: float) -> None:
        """How much of the processor long work may take, 0 to 1; what runs follows at once."""
        self.works.engine.share = share
        self.remember("share", self.works.engine.share)

    def go_on(self, search: int) -> None:
        """Go on with an unfinished search; the place it belongs to shows it."""
        notify: dict[str, Callable[[Any], None]] = {}
        made = self.attempt(lambda: go_on(self.project, search, lambda result: notify["grown"](result)))
        if made is not None:
            tool, job, result = made
            notify["grown"] = self.on_ui(lambda grown: self.grown.emit(tool.kind, grown))
            self.going[search] = result
            self.place_wanted.emit(tool.place)  # first: whoever is to show it must be there to hear of it
            self.resumed.emit(tool.kind, job, result)
            self.start(job, tool.lane, lambda _: self._gone_on(search, tool.kind, result))

    def _gone_on(self, search: int, kind: str, result: Any) -> None:
        del self.going[search]
        self.grown.emit(kind, result)

    def go_on_newest(self) -> None:
        """Go on with the newest search whose program ended under it."""
        found = self.dossiers.searches.interrupted()
        if found:
            self.go_on(found[0].id)
        else:
            self.note("No search was interrupted.")

    def _standings(self) -> int:
        return restand(self.project)

    # Strategy

    def put_strategy(self, id: int, strategy: Strategy) -> None:
        """Store and show a strategy (used by undo and redo)."""
        if id != self.strategy_id:
            self.open_strategy(id)
        renamed = strategy.name != self.strategy.name
        self.strategy = strategy
        self._keep_strategy()
        self.strategy_changed.emit()
        if renamed:
            self.strategies_changed.emit()

    def _keep_strategy(self) -> None:
        """Keep the current strategy with its market and interval; what cannot be kept now waits."""
        id, strategy, market, interval = self.strategy_id, self.strategy, self.market, self.interval

        def as_new() -> None:
            self.add_strategy(strategy, market, interval)  # first: what cannot be added still waits
            self.keeping.drop_strategy(id)

        def theirs() -> None:
            there = [e.id for e in self.project.strategies()]
            if not there:
                as_new()  # somebody has deleted the last one
                return
            self.keeping.drop_strategy(id)
            self._strategies_moved(id if id in there else there[0])

        self.keeping.strategy(id, strategy, market, interval, as_new, theirs)

    def remember(self, key: str, value: Any) -> None:
        """Keep a small piece of state; when that cannot be now, later, and nobody is asked about it."""
        self.keeping.remember(key, value)

    def edit(self, after: Strategy, text: str) -> None:
        """Change the current strategy, undoably."""
        if after != self.strategy:
            self.undo.push(_EditStrategy(self, self.strategy_id, self.strategy, after, text))

    def do(self, text: str, act: Callable[[], None], undo: Callable[[], None]) -> None:
        self.undo.push(Act(text, act, undo))

    def open_strategy(self, id: int) -> None:
        self.strategy, market, interval, self.own = self.keeping.opened(id)
        self.strategy_id = id
        self.remember("strategy", id)
        if market in [m.code for m in self.markets]:
            self.market, self.interval = market, interval
        self.subject = None
        self.brief_changed.emit()
        self.strategy_changed.emit()
        self.subject_changed.emit()

    def add_strategy(self, strategy: Strategy, market: str | None = None, interval: int | None = None,
                     parent: int | None = None, own: OwnSpan | None = None) -> int:
        """Add a strategy under a free name, undoably, and make it the current one. parent: what it is a variant of; own: the
        training span it has of its own, the parent's where there is none."""
        named = strategy.model_copy(update={"name": self.project.free_name(strategy.name)})
        before = self.strategy_id
        id = self.project.save_strategy(named, market or self.market, interval or self.interval, parent=parent,
                                        own=own)
        entry = self.project.strategy(id)
        first = True

        def add() -> None:
            nonlocal first
            if not first:
                self.project.put_back_strategy(entry)
            first = False
            self._strategies_moved(id)

        def take_away() -> None:
            self.project.delete_strategy(id)
            others = [e.id for e in self.project.strategies()]
            self._strategies_moved(before if before in others else others[0])

        self.do(f"add {named.name}", add, take_away)
        return id

    def look_at(self, market: str, interval: int) -> None:
        """Make a market at an interval what the brief is about."""
        if market != self.market:
            self.set_market(market)
        if interval != self.interval:
            self.set_interval(interval)

    def _strategies_moved(self, show: int) -> None:
        self.open_strategy(show)
        self.strategies_changed.emit()
        self.counts_changed.emit()

    def delete_strategy(self) -> None:
        """Remove the current strategy, undoably; the last one stays."""
        entries = self.project.strategies()
        if len(entries) < 2:
            self.note("The last strategy stays; make another one first.", "caution")
            return
        entry = next((e for e in entries if e.id == self.strategy_id), None)
        if entry is None:
            self.note("Another program has deleted this strategy already.", "caution")
            return

        def remove() -> None:
            self.project.delete_strategy(entry.id)
            self._strategies_moved(next(e.id for e in self.project.strategies()))

        def put_back() -> None:
            self.project.put_back_strategy(entry)
            self._strategies_moved(entry.id)

        self.do(f"delete {entry.strategy.name}", remove, put_back)

    # Brief

    def set_market(self, code: str) -> None:
        if code != self.market:
            self.market = code
            if self.interval not in self.intervals():
                self.interval = self.entry.minutes
            self._brief_moved()

    def set_interval(self, minutes: int) -> None:
        if minutes != self.interval:
            self.interval = minutes
            self._brief_moved()

    def _brief_moved(self) -> None:
        if self.strategy_id:
            self._keep_strategy()
        self.subject = None
        self.brief_changed.emit()
        self.subject_changed.emit()

    @property
    def settings(self) -> Settings:
        """The project's settings as they hold for the current strategy, which may train on less."""
        try:
            return self.project_settings.of(self.own)
        except WolbrinError:  # its own span holds nothing of the project's any more; the run says so
            return self.project_settings

    @property
    def own_span(self) -> bool:
        """Whether the current strategy has a training span of its own."""
        return self.own is not None

    def set_own_span(self, own: OwnSpan | None) -> bool:
        """Give the current strategy a training span of its own, or take it back; False, with a note, when it cannot be."""
        def act() -> bool:
            self.project.set_own_span(self.strategy_id, own)
            self.own = own
            self.brief_changed.emit()
            return True

        return bool(self.attempt(act))

    def terms_are_told(self, code: str, *terms: str) -> None:
        """The user has said some terms of a market; from now on these are not assumed."""
        before = self.project_settings
        after = before.told(code, *terms)
        if after != before:
            self.change_settings(assumed=after.assumed)

    def keep_spans(self, first: dt.date, own_last: dt.date | None, border: dt.date, last: dt.date, months: int,
                   bars: int) -> bool:
        """Keep spans and limit. own_last: where the current strategy's training ends early; None where it has no span of its
        own. False, with a note, when they cannot be."""
        if own_last is not None:
            try:
                wanted = OwnSpan(first=first, last=own_last)
            except ValueError:
                self.note("The strategy's own training span ends before it begins.", "error")
                return False
            if wanted != self.own and not self.set_own_span(wanted):
                return False
        elif self.own_span and not self.set_own_span(None):
            return False
        changes: dict[str, Any] = {"holdout_first": border, "last": last, "most_months": months or None,
                                   "most_bars": bars or None}
        return self.change_settings(**changes if own_last is not None else changes | {"training_first": first})

    def intervals(self) -> list[int]:
        """Intervals offered for the current market, the present one among them where it is by activity."""
        offered = list(intervals_for(self.project.sources.get(self.market, self.entry.source)))
        if self.interval not in offered and Interval.of(self.interval).by_activity:
            offered.append(self.interval)
        return offered

    def settings_moved(self) -> None:
        """Read the settings again after the core has changed them."""
        self.project_settings = self.project.settings
        self.brief_changed.emit()

    def set_theme(self, name: str) -> None:
        self.attempt(lambda: self._keep_settings({"theme": name}))
        self.theme.use(name)

    def _keep_settings(self, changes: dict[str, Any], spend: str = "") -> None:
        self.project_settings = self.keeping.settings(changes, spend)

    def alter(self, title: str, function: Callable[[], Any], then: Callable[[Any], None] | None = None) -> None:
        """Change markets or sources in the background, one change after another in the order asked for, and read the
        markets again; then(result) where it worked."""
        self.lane.ask(title, function, then)

    def fault_days(self) -> list[int]:
        """Days (since 1970-01-01) with faults by the last quality report on the source tested on, at most a few hundred."""
        if not self.market:
            return []
        key = self.market, self.entry.source
        if key not in self._faults:  # asked for at every painting of the ruler
            self._faults[key] = [int(d) for d in self.project.get_value(f"faults {key[0]} {key[1]}", [])]
        return self._faults[key]

    def keep_fault_days(self, market: str, source: str, days: list[int]) -> None:
        """Remember where a quality report found faults, for the ruler."""
        days = [int(d) for d in days]
        self.remember(f"faults {market} {source}", days)
        self._faults[market, source] = days
        self.markets_changed.emit()

    def reload_markets(self) -> None:
        """Read markets and sources again after one of them changed; runs are made anew."""
        self.markets = self.project.markets()
        codes = [m.code for m in self.markets]
        if self.market not in codes:
            self.market = codes[0] if codes else ""
            self.interval = self.markets[0].minutes if codes else 15
        if not self.strategy_id and self.markets:
            entries = self.project.strategies()
            if not entries:
                self.project.save_strategy(self.strategy, self.market, self.interval)
                entries = self.project.strategies()
            self.open_strategy(entries[0].id)
            self.strategies_changed.emit()
        if self.market and self.interval not in self.intervals():
            self.interval = self.entry.minutes
        self.markets_changed.emit()
        self.counts_changed.emit()
        self._brief_moved()

    def change_settings(self, spend: str = "", **changes: Any) -> bool:
        """Change project settings; False, with a note, when they cannot be. The begin of training goes to the current
        strategy where it has a span of its own. A border that moves after work was done is asked about first."""
        if self.own is not None and "training_first" in changes:
            first = changes.pop("training_first")
            if first != self.own.first and not self.set_own_span(OwnSpan(first=first, last=self.own.last)):
                return False
        border = changes.get("holdout_first", self.project_settings.holdout_first)
        if border != self.project_settings.holdout_first and self.project.worked() and not spend:
            del changes["holdout_first"]
            self.border_asked.emit(border)
        try:
            self._keep_settings(changes, spend)
        except ValueError as err:
            self.note(f"That cannot be set: {words_of(err)}.", "error")
            return False
        except WolbrinError as err:
            self.note(err.sentence(), "error")
            self.brief_changed.emit()  # what was written goes back to what is kept
            return False
        self.brief_changed.emit()
        if spend:
            self.note("The border was moved; the holdout is spent for everything found before.", "caution")
            self.evidence_changed.emit()
            self.counts_changed.emit()
        return True

    @property
    def entry(self) -> Any:
        return next(m for m in self.markets if m.code == self.market)

    # The current run

    @property
    def run(self) -> Run | None:
        return self.current.run

    @property
    def run_error(self) -> str:
        return self.current.error

    @property
    def run_door(self) -> Door | None:
        return self.current.door

    def _question(self) -> OneRun | None:
        if not self.market:
            return None
        histories = self.project.histories
        footing = Footing(self.project_settings, histories.ground, histories)
        return OneRun(footing, self.strategy, self.market, self.interval, self.own)

    # Shelf and ticks

    @property
    def selection(self) -> list[int]:
        """Ids of the ticked candidates."""
        return self.shelf.ticked()

    def select(self, ids: Iterable[int]) -> None:
        """Tick these candidates for Proving, Overlap and Portfolio, and no others."""
        self.shelf.tick_only(ids)
        self.selection_changed.emit()

    def tick(self, ids: Iterable[int], on: bool = True) -> None:
        """Tick candidates beside those that are, or take their ticks away."""
        self.shelf.tick(ids, on)
        self.selection_changed.emit()

    def selected(self) -> list[Kept]:
        """The ticked candidates whole."""
        return self.shelf.bodies(self.shelf.ticked())

    def show_subject(self, subject: Subject | None) -> None:
        """Choose whose dossier the drawer shows; None is the current strategy."""
        self.subject = subject
        self.subject_changed.emit()
