"""Work on markets as jobs: reading files, quality, comparing sources, joining contract months, counting bars."""

from __future__ import annotations

from dataclasses import dataclass, replace

from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.market.bars import Span, day_number, day_of
from wolbrin.core.market.contracts import Month, Rule, join_months
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.intervals import to_interval
from wolbrin.core.market.likely.clock import find_clock
from wolbrin.core.market.likely.week import Week
from wolbrin.core.market.quality import Report, report
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_DAY
from wolbrin.core.market.treatment import Treated, Treatment, treat
from wolbrin.core.market.two_sources import Compared, compare_sources
from wolbrin.core.measures.two_runs import TwoRuns, match_runs
from wolbrin.core.rules.model import Strategy
from wolbrin.core.store.project import Project
from wolbrin.core.store.settings import OwnSpan
from wolbrin.core.store.sources import CONTINUOUS, MONTH, Source

MOST_STEPS = 1_000_000


def quality(project: Project, source: Source, treated: bool = False) -> Report:
    """The report of a source's rows before the border, or of its bars after treatment; the former's score is kept with it.
    What is sealed is not looked at."""
    terms = project.market(source.market).terms
    if treated:
        return report(Raw.of(project.base(source.market, source.name)), terms, source.treatment.deviations)
    made = report(project.sources.training_raw(source), terms, source.treatment.deviations)
    project.sources.set_score(source.market, source.name, made.score)
    return made


def preview_treatment(project: Project, source: Source, treatment: Treatment) -> Treated:
    """What a treatment would do to the rows before the border; nothing is kept."""
    terms = project.market(source.market).terms
    return treat(project.sources.training_raw(source), terms, treatment, f"{source.market}, {source.name}")


@dataclass(frozen=True)
class Comparison:
    """Two sources, and the same strategy on both."""

    prices: Compared
    runs: TwoRuns | None
    costs: tuple[Costs, Costs]
    problem: str = ""


def compare(project: Project, market: str, first: str, second: str, strategy: Strategy, interval: int,
            own: OwnSpan | None = None) -> Comparison:
    """Compare two sources at their own interval up to the border, and one strategy on both over the common training span,
    each under its source's cost set."""
    one, two = (project.sources.get(market, name) for name in (first, second))
    terms = project.market(market).terms
    settings = project.settings.of(own)
    costs = settings.costs_of(terms, one.cost_set), settings.costs_of(terms, two.cost_set)
    bars = project.base(market, first), project.base(market, second)
    common = max(b.interval for b in bars)
    prices = compare_sources(*(to_interval(b, common) for b in bars))
    brief = settings.brief(terms)
    dates = [(int(b.trading_date[0]), int(b.trading_date[-1])) for b in bars]
    begin, end = max(d[0] for d in dates), min(d[1] for d in dates)
    day = day_of(begin), day_of(end)
    span = Span(max(day[0], brief.span.first or day[0]), min(day[1], brief.span.last or day[1]))
    try:
        ready = [project.prepared(market, interval, name) for name in (first, second)]
        runs = [backtest(h, strategy, replace(brief, span=span, costs=c))
                for h, c in ((ready[0], costs[0]), (ready[1], costs[1]), (ready[1], costs[0]))]
    except UserError as err:
        return Comparison(prices, None, costs, err.sentence())
    return Comparison(prices, match_runs(*runs), costs)


def months_of(project: Project, market: str) -> list[Source]:
    """Contract months of a market, in order of their last bar."""
    return sorted((s for s in project.sources.of(market) if s.kind == MONTH), key=lambda s: s.last)


def month_rows(project: Project, market: str) -> dict[str, Raw]:
    """Rows of the contract months of a market by name, sealed ones too: for joining them. Empty for a market that is not
    there."""
    return {m.name: project.sources.raw(m) for m in months_of(project, market)}


def join_contracts(project: Project, market: str, months: list[str], rule: Rule, name: str) -> tuple[Source, tuple[str, ...]]:
    """Build a continuous future from contract months of a market and keep it as a source; a market that was tested on one of
    its months is tested on it from now on. Returns also what is to be known of it, in sentences.

    Raises:
        UserError: they cannot be joined so; nothing was changed then.
    """
    entry = project.market(market)
    terms = entry.terms
    taken = [s for s in project.sources.of(market) if s.name == name and s.kind != CONTINUOUS]
    if taken:
        raise UserError(f'{market} has a source "{name}" that is no continuous future', "--name", "Write another name.")
    made = join_months([Month(m, project.sources.raw(project.sources.get(market, m))) for m in months], terms, rule,
                       day_number(project.settings.holdout_first) * NS_A_DAY)
    rolls = tuple((r.time, r.left, r.entered, 0.0 if r.difference != r.difference else r.difference,
                   1.0 if r.ratio != r.ratio else r.ratio) for r in made.rolls)
    words = f"{len(months)} contract months, rolled by {rule.by}, {rule.adjust}"
    alone = project.sources.get(market, entry.source).kind == MONTH
    source = project.sources.put(terms, name, made.raw, kind=CONTINUOUS, origin=words, rolls=rolls,
                                 adjust=rule.adjust, activate=True if alone else None)
    return source, made.notes


def week_of(project: Project, source: Source) -> Week | None:
    """The weekly schedule as it shows in a source's rows before the border; None for daily bars.

    Raises:
        UserError: all rows are sealed.
    """
    raw = project.sources.training_raw(source)
    zone = project.market(source.market).terms.time_zone
    return find_clock(raw, True, zone, "open").week


def count_bars(project: Project, source: Source, interval: int) -> int:
    """How many bars a source has at an interval up to the border."""
    return len(project.prepared(source.market, interval, source.name).bars)
