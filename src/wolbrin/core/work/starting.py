"""A project from files: its one border, its markets with their terms, and a first strategy on them."""

from __future__ import annotations

import datetime as dt
import shutil
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.market.contracts import Adjust, Month, Rule, join_months
from wolbrin.core.market.importing.append import Joined
from wolbrin.core.market.importing.layout import Layout
from wolbrin.core.market.importing.read import Imported
from wolbrin.core.market.intervals import DAILY
from wolbrin.core.market.likely.terms_of import check_worth
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.terms import Terms
from wolbrin.core.market.treatment import Treatment, treat
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.templates import Template, templates
from wolbrin.core.store.project import DATABASE, HISTORY, MarketEntry, Project
from wolbrin.core.store.settings import Settings
from wolbrin.core.store.sources import CONTINUOUS, Source
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.importing import month_name, take_in, take_in_all
from wolbrin.core.work.looking import LEAST_BARS, LEAST_DAYS, Judged, Opened, days_of
from wolbrin.core.work.markets import join_contracts, month_rows

EPOCH = dt.date(1970, 1, 1)
SEALED_SHARE = 1 / 3
WHOLE_MONTHS = 550  # days of history from which the border falls on the first of a month
FIRST_MINUTES = 15


@dataclass(frozen=True)
class Spans:
    """The first day of training, the border, the last day."""

    first: dt.date
    border: dt.date
    last: dt.date


def likely_spans(days: list[NDArray[np.int64]], sealed: float | dt.date = SEALED_SHARE) -> Spans:
    """Spans from the days on which markets have bars: about two thirds to train on, the rest sealed.

    Args:
        days: of each market, int64 days since 1970. sealed: the share of market days that is sealed, or the border.
    Raises:
        UserError: there is too little to divide, or the border asked for lies outside.
    """
    pooled = np.sort(np.concatenate(days))
    first, last = int(pooled[0]), int(pooled[-1])
    if len(np.unique(pooled)) < LEAST_DAYS:
        raise UserError(f"this history holds bars on {len(np.unique(pooled))} days, too few to train on and to seal some of "
                        "them", "history", f"At least {LEAST_DAYS} days are needed; import a longer file.")
    if isinstance(sealed, dt.date):
        border = (sealed - EPOCH).days
        if not first < border <= last:
            raise UserError(f"the border {sealed} lies outside the data, which reaches from {_date(first)} to {_date(last)}",
                            "--holdout", "Choose a day inside it.")
        return Spans(_date(first), sealed, _date(last))
    border = int(pooled[min(len(pooled) - 1, int(len(pooled) * (1 - sealed)))])
    if sealed == SEALED_SHARE and last - first > WHOLE_MONTHS:
        day = _date(border)
        months = [day.replace(day=1), (day.replace(day=28) + dt.timedelta(days=10)).replace(day=1)]
        border = (min(months, key=lambda d: abs((d - day).days)) - EPOCH).days
    return Spans(_date(first), _date(max(first + 1, min(border, last))), _date(last))


def _date(day: int) -> dt.date:
    return EPOCH + dt.timedelta(days=day)


def check_enough(raw: Raw, where: str) -> None:
    """Raises UserError where a market's rows are too few to test on."""
    rows, days = len(raw), len(np.unique(raw.time // (86_400 * 10**9)))
    if rows < LEAST_BARS or days < LEAST_DAYS:
        raise UserError(f"this history holds {rows:,} rows on {days:,} {'day' if days == 1 else 'days'}, too few to train on "
                        "and to seal some of", where,
                        f"At least {LEAST_BARS} bars on {LEAST_DAYS} days are needed; choose a longer file.")


def side_words(entry: MarketEntry, border: dt.date) -> str:
    """What a market lacks on one side of the border, in a sentence; empty when it has enough on both."""
    first, last = dt.date.fromisoformat(entry.first[:10]), dt.date.fromisoformat(entry.last[:10])
    if last < border:
        return f"{entry.code} ends on {last}, before the border of {border}: nothing is sealed, so it cannot be proved."
    if first >= border:
        return f"{entry.code} begins on {first}, not before the border of {border}: all is sealed, nothing to train on."
    span = (last - first).days
    if (border - first).days < 0.15 * span:
        return f"{entry.code} begins on {first}: only {(border - first).days:,} days of it lie before the border of {border}."
    if (last - border).days < 0.1 * span:
        return f"{entry.code} ends on {last}: only {(last - border).days:,} days of it are sealed."
    return ""


def likely_conversion(terms: Terms, account: str, known: list[Terms]) -> Terms:
    """Terms whose quote money is converted into account money by a currency pair of the project, where one serves."""
    if terms.quote_currency == account or terms.conversion_market or terms.conversion_rate != 1.0:
        return terms
    for pair in [*known, terms]:
        if pair.kind != "currency pair" or len(pair.code) < 6:
            continue
        base, quote = pair.code[:3], pair.quote_currency
        if (base, quote) == (account, terms.quote_currency):
            return terms.model_copy(update={"conversion_market": pair.code, "conversion_inverse": True})
        if (base, quote) == (terms.quote_currency, account):
            return terms.model_copy(update={"conversion_market": pair.code, "conversion_inverse": False})
    return terms


def fits(strategy: Strategy, terms: Terms) -> Strategy:
    """A strategy as it can be run on a market: flat by session end only where there are sessions."""
    if strategy.flat_by_session_end and not terms.scheduled:
        return strategy.model_copy(update={"flat_by_session_end": False})
    return strategy


def first_interval(minutes: int) -> int:
    """Bars to begin with: a quarter of an hour where bars are finer and divide it."""
    return FIRST_MINUTES if minutes < FIRST_MINUTES and FIRST_MINUTES % minutes == 0 else minutes


def first_strategy(project: Project, code: str) -> tuple[Strategy, int]:
    """The first template that can be traded on a market, and the interval to trade it on. Which one it is does not depend on
    what it would have earned, only on whether it trades at all."""
    entry = project.market(code)
    interval = first_interval(entry.minutes)
    footing = Footing.of(project)
    fallback: Strategy | None = None
    for template in templates():
        strategy = fits(template.strategy(), entry.terms)
        if interval >= DAILY and ("windows" in template.text or "opening_range" in template.text or "interval=" in
                                  template.text):
            continue  # about times of day, which daily bars do not have
        fallback = fallback or strategy
        try:
            history = footing.histories.prepared(code, interval)
            run = backtest(history, strategy, footing.brief(history.bars.terms))
        except WolbrinError:
            continue
        if len(run.trades_i):
            return strategy, interval
    return fallback or Strategy(), interval


def template_named(name: str) -> Template:
    """A template by its name, or by the beginning of it. Raises UserError when there is none."""
    wanted = name.strip().lower()
    found = [t for t in templates() if t.name.lower() == wanted] or [t for t in templates() if t.name.lower().startswith(
        wanted)]
    if not found:
        raise UserError(f'there is no template "{name}"', "--template", "Templates are: "
                        + ", ".join(t.name for t in templates()) + ".")
    return found[0]


@dataclass
class Started:
    """What was made: the open project, its spans, and sentences about what lacks."""

    project: Project
    spans: Spans
    strategy: str = ""
    remarks: list[str] = field(default_factory=list)


def spans_for(project: Project, opened: list[Opened]) -> Spans | None:
    """Spans to propose from files that were read; None where the project has its border already, or where there is too little
    to divide."""
    if project.markets() or project.worked() or project.settings.holdout_first != Settings().holdout_first:
        return None
    try:
        return likely_spans(days_of(opened))
    except UserError:
        return None


def take_in_judged(project: Project, judged: Judged, source: str = "file", keep: str = "old",
                   spans: Spans | None = None) -> tuple[Source, Joined, list[str]]:
    """Keep files that were judged, as a source of a market that is there or of a new one. What no file shows
    of a new market and nobody has said is marked as assumed. Returns the source, what was joined, and sentences about what
    lacks.

    Args:
        spans: the project's, where this is its first history.
    Raises:
        UserError: the rows give no bar under the terms; nothing was changed then.
    """
    origin = ", ".join(p.name for p in judged.pieces[:20])
    if judged.assumed or not any(m.code == judged.code for m in project.markets()):
        check_worth(judged.terms.tick_value, judged.terms.quote_currency, judged.code)
    terms, settings = _welcome(project, judged.terms, spans, judged.assumed)
    made, joined = take_in(project, terms, source, judged.imported.raw, keep=keep, origin=origin, layout=judged.layout,
                           settings=settings)
    entry = project.market(judged.code)
    last = dt.date.fromisoformat(entry.last[:10])
    settings = project.settings
    if last > settings.last and not project.worked():
        project.update_settings(settings.model_copy(update={"last": last}))
    remarks = [side_words(entry, settings.holdout_first)]
    if terms.quote_currency != settings.currency and not terms.conversion_market and terms.conversion_rate == 1.0:
        remarks.append(f"1 {terms.quote_currency} is taken as 1 {settings.currency} for {terms.code}; set the rate in its "
                       "terms.")
    return made, joined, [r for r in remarks if r]


def take_in_every(project: Project, judged: Sequence[Judged], source: str = "file", keep: str = "old",
                  spans: Spans | None = None) -> tuple[Source, list[str]]:
    """Keep files of one or several markets: the main source of each before what stands beside it, pairs first, since they
    convert the others. Returns the first one judged, and sentences about what lacks.

    Raises:
        UserError: some rows give no bar under their terms; nothing was changed then.
    """
    for j in judged:
        check_bars(j)
    remarks: list[str] = []
    made: dict[int, Source] = {}
    for at, j in sorted(enumerate(judged), key=lambda p: (bool(p[1].aside), p[1].terms.kind != "currency pair")):
        made[at], _, lack = take_in_judged(project, j, j.aside or source, keep, None if j.aside else spans)
        remarks += [] if j.aside else lack
    return made[0], remarks


def _welcome(project: Project, terms: Terms, spans: Spans | None, assumed: tuple[str, ...]) -> tuple[Terms, Settings | None]:
    """Terms and settings with which a market comes in: of a new one some terms are assumed, and the first brings the
    border; None where nothing changes."""
    there, settings = project.markets(), project.settings
    if any(m.code == terms.code for m in there):
        return terms, None
    changes: dict[str, object] = {"assumed": settings.assumed | ({terms.code: assumed} if assumed else {})}
    if spans is not None and not there and not project.worked():
        changes |= {"training_first": spans.first, "holdout_first": spans.border, "last": spans.last, "training_last": None}
    terms = likely_conversion(terms, settings.currency, [*(m.terms for m in there), terms])
    return terms, Settings.model_validate(settings.model_dump() | changes)


def check_bars(judged: Judged) -> None:
    """Raises UserError where the rows give no bar under the terms."""
    treat(judged.bars, judged.terms, Treatment(), judged.code)


def take_in_months(project: Project, terms: Terms, read: list[tuple[str, Imported]], layout: Layout, origin: str,
                   keep: str = "old", assumed: tuple[str, ...] = (), rule: Rule | None = None,
                   spans: Spans | None = None) -> tuple[Source, tuple[str, ...]]:
    """Keep contract months of a market that is there or new, each as a source of its own: all of them, or none.

    Args:
        rule: by which they are joined at once, with the months that are there already; None to leave them.
    Returns:
        The source that was made last, and what is to be known of it, in sentences.
    Raises:
        UserError: they cannot be kept, or not be joined; nothing was changed then.
    """
    every = month_rows(project, terms.code) | {month_name(stem, terms.code): i.raw for stem, i in read}
    rule = rule if len(every) > 1 else None
    if rule is not None:  # before anything is kept
        join_months([Month(n, raw) for n, raw in every.items()], terms, rule)
    days = [np.unique(i.raw.time // (86_400 * 10**9)) for _, i in read]
    empty = spans is None and not project.markets() and not project.worked() and (
        project.settings.holdout_first == Settings().holdout_first)
    spans = likely_spans([np.unique(np.concatenate(days))]) if empty else spans
    terms, settings = _welcome(project, terms, spans, assumed)
    made = take_in_all(project, terms, [(stem, i.raw) for stem, i in read], keep=keep, origin=origin, layout=layout,
                       months=True, settings=settings)
    return (made, ()) if rule is None else join_contracts(project, terms.code, list(every), rule, CONTINUOUS)


def add_first_strategy(project: Project, code: str) -> tuple[int, str]:
    """Keep the first template that fits as the project's strategy; its id and name."""
    strategy, interval = first_strategy(project, code)
    named = strategy.model_copy(update={"name": project.free_name(strategy.name)})
    id = project.save_strategy(named, code, interval)
    project.set_value("strategy", id)
    return id, named.name


@dataclass(frozen=True)
class Months:
    """Contract months of one future: what was judged by all of them, the rows of each by its file's name, and the
    rule by which they are joined."""

    judged: Judged
    read: list[tuple[str, Imported]]
    rule: Rule

    @property
    def days(self) -> NDArray[np.int64]:
        """Days since 1970 on which any of them has rows."""
        return np.unique(np.concatenate([i.raw.time // (86_400 * 10**9) for _, i in self.read]))


def likely_rule(read: list[tuple[str, Imported]], adjust: Adjust = "difference") -> Rule:
    """How contract months are joined where nothing was said: by volume, else by open interest.

    Raises:
        UserError: they hold neither.
    """
    raws = [i.raw for _, i in read]
    if all((r.volume > 0).any() for r in raws):
        return Rule("volume", adjust)
    if all(r.open_interest is not None and (r.open_interest > 0).any() for r in raws):
        return Rule("open interest", adjust)
    raise UserError("these contract months hold neither volume nor open interest, by which one is left for the next",
                    "--roll",
                    "Say how many days before a month's end: --roll days:5, or name a file of dates.")


def start_project(folder: Path, judged: list[Judged], spans: Spans, currency: str, capital: float,
                  months: Sequence[Months] = ()) -> Started:
    """Make a project of files that were judged: markets, border, what is assumed marked so, and a first strategy. When
    anything fails, nothing stays.

    Raises:
        UserError: a market cannot be taken in. EnvironmentTrouble: the folder cannot be written.
    """
    there = folder.exists()
    project = Project.create(folder, Settings(currency=currency, capital=capital, training_first=spans.first,
                                              holdout_first=spans.border, last=spans.last))
    try:
        started = Started(project, spans)
        if judged:
            started.remarks += take_in_every(project, judged)[1]
        for m in months:
            notes = take_in_months(project, m.judged.terms, m.read, m.judged.layout, ", ".join(n for n, _ in m.read[:20]),
                                   assumed=m.judged.assumed, rule=m.rule, spans=spans)[1]
            started.remarks += [f"{m.judged.code}: {n}." for n in notes]
        every = [*(j.code for j in judged), *(m.judged.code for m in months)]
        first = next((code for code in every if _trains(project, code)), None)
        if first is not None:
            started.strategy = add_first_strategy(project, first)[1]
        return started
    except BaseException:
        project.close()
        for name in (DATABASE, f"{DATABASE}-wal", f"{DATABASE}-shm"):
            (folder / name).unlink(missing_ok=True)
        shutil.rmtree(folder / HISTORY, ignore_errors=True)
        if not there:
            shutil.rmtree(folder, ignore_errors=True)
        raise


def _trains(project: Project, code: str) -> bool:
    return dt.date.fromisoformat(project.market(code).first[:10]) < project.settings.holdout_first
