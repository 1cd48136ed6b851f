"""Looking into files before anything is kept: reading them whole, judging stamps and terms, with reasons.

Only what the layout needs is judged over the whole file. Tick, sessions, kind and costs are learned from the rows before the
border, like everything else.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import UserError
from wolbrin.core.jobs import Job, Until
from wolbrin.core.market.bars import day_number
from wolbrin.core.market.exchanges import exchange_zone
from wolbrin.core.market.findings import Finding
from wolbrin.core.market.importing.columns import Guess, SaidOfLayout
from wolbrin.core.market.importing.files import Piece
from wolbrin.core.market.importing.fit import Fit, fit_to_bars, fit_to_sessions
from wolbrin.core.market.importing.grouping import Group, are_months, clean_code, group_files, without_interval
from wolbrin.core.market.importing.guess import guess
from wolbrin.core.market.importing.kinds import UNKNOWN, Kind, by_kind
from wolbrin.core.market.importing.layout import Layout, make_layout
from wolbrin.core.market.importing.preview import overlap
from wolbrin.core.market.importing.read import Imported, Reader
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.market.likely.clock import Clock, find_clock
from wolbrin.core.market.likely.kind import pair_of
from wolbrin.core.market.likely.terms_of import Quoted, Said, likely_terms
from wolbrin.core.market.raw import Raw, ticks_to_bars
from wolbrin.core.market.sessions import NS_A_DAY
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.zones import clock_words, known_clock

LEAST_LEARNED = 200
LEAST_BARS, LEAST_DAYS = 100, 10


@dataclass(frozen=True)
class Wishes:
    """What the user has said before or after a look; empty where nothing. terms: of a market that is there already; old: its
    rows, to compare with; before: the clock its files were read in. border: of the project, where it has one."""

    code: str = ""
    zone: str | None = None
    stamp: str | None = None
    order: str = ""
    time_format: str = ""
    decimal: str = ""
    minutes: int | None = None
    layout: Layout | None = None
    said: Said = Said()
    currency: str = "EUR"
    terms: Terms | None = None
    old: Raw | None = None
    before: str = ""
    border: dt.date | None = None


@dataclass
class Opened:
    """Files of one market, read, not yet judged. months: they are contract months of a future, by names or by overlap. aside:
    the source they become beside the main one of that market, such as "daily"; empty for the main one."""

    code: str
    pieces: list[Piece]
    guess: Guess
    reader: Reader
    read: Imported | None = None
    months: bool = False
    aside: str = ""

    @property
    def clock(self) -> Imported:
        """The rows as if their stamps were opens in UTC."""
        if self.read is None:
            self.read = self.reader.read_all()
        return self.read


@dataclass(frozen=True)
class Judged:
    """Files of one market, read and judged. findings: all guesses. assumed: terms that rest on nothing but custom."""

    code: str
    layout: Layout
    imported: Imported
    clock: Clock
    terms: Terms
    findings: tuple[Finding, ...]
    pieces: tuple[Piece, ...] = field(default=(), compare=False)
    assumed: tuple[str, ...] = ()
    aside: str = ""

    @property
    def questions(self) -> list[Finding]:
        """What the user has to decide."""
        return [f for f in self.findings if f.ask]

    @property
    def bars(self) -> Raw:
        """The rows as bars."""
        raw = self.imported.raw
        return raw if raw.interval else ticks_to_bars(raw, self.layout.build)


def open_files(found: list[Piece], wishes: Wishes) -> list[Opened]:
    """Guess the layouts of files, each market's for itself; nothing is read yet.

    Raises:
        UserError: a file is no table.
    """
    out: list[Opened] = []
    groups = group_files(found)
    wanted = clean_code(wishes.code)
    if wanted and all(g.code != wanted for g in groups):
        groups = [Group(wanted, tuple(found))]  # the user has said of which market all of them are
    if wishes.zone:
        known_zone_of(wishes.zone)
    for group, kind, aside in _kinds(groups, wishes):
        mine = list(kind.pieces)
        made = guess(mine, SaidOfLayout(wishes.order, wishes.time_format))
        layout = wishes.layout or made.layout
        if wishes.decimal:
            layout = make_layout(layout.model_dump() | {"decimal": wishes.decimal})
            made = replace(made, findings=tuple(f for f in made.findings if f.what != "decimal sign"))
        layout = make_layout(layout.model_dump() | {"zone": "UTC", "stamp": "open"} | (
            {} if wishes.minutes is None else {"build" if layout.ticks else "minutes": wishes.minutes}))
        names = made.markets if len(made.markets) > 1 else ("",)
        for name in names:
            code = clean_code(name) or group.code or clean_code(made.markets[0] if made.markets else "")
            if wishes.code and len(groups) == 1 and len(names) == 1:
                code = clean_code(wishes.code)
            elif code == group.code:
                code = without_interval(code, kind.minutes)
            reading = layout.model_copy(update={"market": name})
            months = not name and not aside and (are_months(mine) or overlap(mine, reading))
            out.append(Opened(code, mine, made, Reader(mine, reading), months=months, aside=aside))
    if wishes.code and len({o.code for o in out}) > 1:
        keep = [o for o in out if o.code == clean_code(wishes.code)]
        if not keep:
            raise UserError(f"these files hold {len(out)} markets, and none is called {wishes.code}",
                            ", ".join(o.code or "?" for o in out), "Name one of them, or none.")
        return keep
    return out


def _kinds(groups: list[Group], wishes: Wishes) -> list[tuple[Group, Kind, str]]:
    """Files of each market by interval: those of the most bytes are the main source, the others are sources of their own."""
    if wishes.layout is not None:
        return [(group, Kind(UNKNOWN, group.pieces), "") for group in groups]
    found = [(g, [Kind(UNKNOWN, g.pieces)] if are_months(list(g.pieces)) else by_kind(list(g.pieces))) for g in groups]
    # Names such as PWR30 and PWR1440 are one market at two intervals.
    merged: dict[str, list[Piece]] = {}
    for group, kinds in found:
        merged.setdefault(without_interval(group.code, kinds[0].minutes), []).extend(group.pieces)
    if len(merged) < len(groups):
        groups = [Group(code, tuple(mine)) for code, mine in merged.items()]
        found = [(g, by_kind(list(g.pieces))) for g in groups]
    return [(group, kind, kind.words if i else "") for group, kinds in found for i, kind in enumerate(kinds)]


def known_zone_of(zone: str) -> str:
    """A clock as it is kept. Raises UserError when there is none of that name."""
    try:
        return known_clock(zone)
    except ValueError as err:
        raise UserError(str(err), "--zone", "Name one.") from None


def reopened(opened: Opened, layout: Layout) -> Opened:
    """The same files to be read under another layout; its zone and end of the bar are decided after reading."""
    reading = layout.model_copy(update={"zone": "UTC", "stamp": "open", "market": opened.reader.layout.market})
    return Opened(opened.code, opened.pieces, opened.guess, Reader(opened.pieces, reading), months=opened.months,
                  aside=opened.aside)


def look_job(found: list[Piece], wishes: Wishes, done: Callable[[list[Opened]], None],
             at_hand: list[Opened] | None = None) -> Job:
    """Read files whole, with progress in kB; done(opened) on the job's thread. Nothing is kept.

    at_hand: the files with their layouts, where these are decided already.
    """
    opened: list[Opened] = list(at_hand or ())
    at = 0

    def step(_: None) -> int:
        nonlocal at
        if not opened:
            opened.extend(open_files(found, wishes))
        one = opened[at]
        taken = one.reader.step()
        if one.reader.done:
            one.read = one.reader.finish()
            at += 1
        return taken // 1024

    def over() -> bool:
        return bool(opened) and at >= len(opened)

    def finish(_: int) -> None:
        if over():
            done(opened)

    total = max(1, sum(p.size for p in found) // 1024)
    return Job("Read history", "kB", Until(total, over, lambda taken: taken), step, finish, width=1)


def days_of(opened: list[Opened]) -> list[NDArray[np.int64]]:
    """Days since 1970 on which each market has rows."""
    return [np.unique(o.clock.raw.time // NS_A_DAY) for o in opened]


def before(raw: Raw, border: dt.date | None) -> Raw:
    """The rows before the border; all of them where that leaves too few to learn anything of."""
    if border is None:
        return raw
    stop = int(np.searchsorted(raw.time, day_number(border) * NS_A_DAY))
    return raw.take(slice(0, stop)) if stop >= LEAST_LEARNED else raw


def judge_all(opened: list[Opened], wishes: Callable[[str], Wishes]) -> list[Judged]:
    """Decide everything about files of one or several markets; further sources of a market are judged under its terms.

    Args:
        wishes: what was said of a market, by its code.
    Raises:
        UserError: nothing can be made of some of them.
    """
    main: dict[str, Judged] = {}
    out = []
    for one in sorted(opened, key=lambda o: bool(o.aside)):
        said = wishes(one.code)
        first = main.get(one.code)
        if one.aside and first is not None:
            said = replace(said, terms=first.terms, old=None)
        made = judge(one, said)
        if not one.aside:
            main[one.code] = made
        out.append(made if made.code != "NEW" or first is None else replace(made, code=first.code))
    return out


def judge(opened: Opened, wishes: Wishes) -> Judged:
    """Decide zone, end of the bar and terms of files that were read.

    Raises:
        UserError: nothing can be made of them.
    """
    read = opened.clock
    layout = opened.reader.layout
    bars = read.raw if read.raw.interval else ticks_to_bars(read.raw, layout.build)
    seen = before(bars, wishes.border)
    code = opened.code
    fit = _fit(seen, layout, wishes, read.told_zone)
    stamp = wishes.stamp or (fit.stamp if fit else None) or (None if read.raw.interval else "open")
    zone = wishes.zone or (fit.zone if fit else None)
    pair = pair_of(code) is not None
    clock = find_clock(seen, read.told_zone, zone, stamp, opened.guess.end, opened.guess.offsets, pair)
    told = next((t for t in ((wishes.before, "So this source was read before, and its bars fit."),
                             (opened.guess.clock, "The header names it, and the bars do not speak against it."))
                 if t[0] in clock.asked), None)
    if told is not None:
        again = find_clock(seen, False, told[0], stamp, opened.guess.end, (), pair)
        clock = replace(again, findings=(Finding("stamps are in", clock_words(told[0]), told[1]), *again.findings[1:]))
    if fit is not None:
        clock = replace(clock, findings=(
            Finding("stamps are in", clock.zone, fit.why), Finding("bars are stamped at", f"the {clock.stamp}", fit.why)))
    final = make_layout(layout.model_dump() | {"zone": clock.zone, "stamp": clock.stamp})
    imported = opened.reader.finish(final)
    own = imported.raw if imported.raw.interval else ticks_to_bars(imported.raw, final.build)
    known = before(own, wishes.border)
    if wishes.terms is None:
        likely = likely_terms(code or "NEW", known, clock, wishes.currency, wishes.said,
                              _quoted_before(imported, known, final.ticks))
        terms, about, assumed = likely.terms, likely.findings, likely.assumed
    else:
        terms, about, assumed = wishes.terms, (), ()
    named = Finding("market", code, "As you said." if wishes.code else "So its file or its column calls it.") if code else (
        Finding("market", "?", "Neither name nor column of the file says which market it is.", False, True, "--market"))
    step = Finding("interval", interval_words(own.interval),
                   "The most common step between rows." if imported.raw.interval else "Bars are built from ticks.")
    head = () if wishes.terms is not None else (named,)
    if opened.aside:
        names = ", ".join(p.name for p in opened.pieces[:3]) + (" ..." if len(opened.pieces) > 3 else "")
        head = (Finding("source", f"{code or terms.code}, {opened.aside}",
                        f"{names} hold {opened.aside} rows and are not mixed "
                        "with the others; they become a source of their own."),)
    findings = (*head, *opened.guess.findings, step, *clock.findings, *about, *imported.findings)
    return Judged(terms.code, final, imported, clock, terms, tuple(dict.fromkeys(findings)), tuple(opened.pieces), assumed,
                  opened.aside)


def _quoted_before(imported: Imported, known: Raw, middle: bool) -> Quoted:
    """What the file holds beside its prices, of the time of the rows that may be learned from."""
    if imported.quotes is not None:
        time, bid, ask = imported.quotes
        mine = time <= known.ends[-1]
        return Quoted(bid[mine], ask[mine], middle=middle)
    if imported.spreads is not None:
        time, spread = imported.spreads
        return Quoted(spread=spread[time <= known.ends[-1]])
    return Quoted()


@dataclass(frozen=True)
class _Fitted:
    zone: str | None
    stamp: str
    why: str


def _fit(seen: Raw, layout: Layout, wishes: Wishes, told: bool) -> _Fitted | None:
    """Zone and end of the bar by what is known of the market already: its bars, else its sessions."""
    terms = wishes.terms
    if wishes.old is not None and len(wishes.old) and seen.interval == wishes.old.interval:
        zones = (terms.time_zone,) if terms else ()
        found = fit_to_bars(seen, wishes.old, zones, told)
        if found is not None:
            return _Fitted(None if told else found.zone, found.stamp,
                           f"Read so, {found.inside:.1%} of the bars that are there already agree.")
    if terms is None and wishes.said.exchange:
        terms = Terms(code="X", tick_size=1.0, point_value=1.0, calendar=wishes.said.exchange,
                      time_zone=exchange_zone(wishes.said.exchange))
    if terms is None or not terms.scheduled or seen.interval >= 1440 or (terms.kind == "currency pair" and not told):
        return None  # the week of currencies tells the clock of a pair
    sample = seen.take(np.arange(0, len(seen), max(1, len(seen) // 100_000)))
    fitted: Fit = fit_to_sessions(sample, layout, terms, told)
    if fitted.inside < 0.6 or not fitted.sure:
        return None  # two clocks fit as well: the bars themselves are asked, else the user
    return _Fitted(None if told else fitted.zone, fitted.stamp,
                   f"Read so, {fitted.inside:.1%} of the bars lie in {terms.calendar or terms.code}'s sessions.")


def judge_months(opened: Opened, wishes: Wishes) -> Judged:
    """Zone, end of the bar and terms of contract months, judged by all of them: one alone may span no change of clocks."""
    try:
        read = opened.clock
        first = np.append(True, np.diff(read.raw.time) > 0)  # of months that overlap one bar a time
        return judge(replace(opened, read=replace(read, raw=read.raw.take(first))), wishes)
    except UserError:  # such as prices too far apart for one market
        piece = max(opened.pieces, key=lambda p: p.size)
        return judge(Opened(opened.code, [piece], opened.guess, Reader([piece], opened.reader.layout)), wishes)


def questions_of(judged: Sequence[Judged]) -> list[tuple[str, Finding]]:
    """All questions of all markets."""
    return [(j.code, f) for j in judged for f in j.questions]
