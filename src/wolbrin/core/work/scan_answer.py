"""A scan as an answer for machines."""

from __future__ import annotations

from pydantic import Field

from wolbrin.core.engine.record import Record
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.models import Model
from wolbrin.core.rules.model import Strategy
from wolbrin.core.scan.luck import LEVEL, passed_in, tries_worth
from wolbrin.core.scan.scanner import GROUPS
from wolbrin.core.search.ingredients import ROWS
from wolbrin.core.store.project import Project
from wolbrin.core.store.searches import Searches
from wolbrin.core.study.answers import Value, value
from wolbrin.core.work.footing import Footing
from wolbrin.core.work.scan_names import ScanNames, ordered, sentence
from wolbrin.core.work.scan_pictures import week_of
from wolbrin.core.work.scan_results import Line, ScanResult

QUESTIONS = ("clock, calendar and session", "all others")


class ScanLine(Model):
    """A row, or a pair of rows, at its strongest horizon. horizon: bars held, 0 to the session's end; state: it holds
    rather than fires. p: stepwise over all, null while luck is not known; share_of_luck: among all rows as strong. money:
    of one contract in its direction before costs, net after the market's; trades: positions. t_by_horizon: with sign, in
    the order of `horizons`; null for pairs. strategy: what one begins with it."""

    market: str
    interval: int
    family: str
    ingredient: str
    words: str
    pair: bool
    question: str
    side: str
    horizon: int
    state: bool
    t: float
    p: Value
    share_of_luck: Value
    beyond_luck: bool
    trades: int
    firing_days: int
    money: Value
    net: Value
    t_by_horizon: tuple[Value, ...] = ()
    strategy: Strategy | None = None


class ScanHour(Model):
    """An hour of a weekday (Monday 1), exchange time: t with sign of the bars that open in it."""

    market: str
    weekday: int
    hour: int
    t: Value


class ScanAnswer(Model):
    """What `wolbrin scan --json` gives. rows: looked at; told: that fire often enough; left_out: the others by reason.
    luck_reaches: by question the |t| that luck's strongest passes in its share of 5 of 100 draws; draws: of which all is
    known. tries: what this scan alone counts for; tried_on_market: all alternatives by now."""

    search: int
    title: str
    state: str
    sentence: str
    something: bool
    notes: tuple[str, ...]
    horizons: tuple[int, ...]
    rows: int
    told: int
    left_out: dict[str, int]
    draws: int
    luck_reaches: dict[str, Value]
    tries: int
    tried_on_market: dict[str, int]
    beyond: int = Field(description="rows and pairs that move price more than luck does")
    lines: tuple[ScanLine, ...]
    week: tuple[ScanHour, ...]
    records: dict[str, Record]


def line_of(result: ScanResult, names: ScanNames, line: Line, with_strategy: bool = False) -> ScanLine:
    """One line for machines."""
    market, interval = result.request.places[line.place]
    f = result.places[line.place]
    which = int(f.code[line.number]) >> ROWS
    key = result.keys[line.place][which]
    by_horizon = tuple(value(float(t) * s) for t, s in zip(f.t[line.number], f.side[line.number])) if line.holds < 0 else ()
    return ScanLine(market=market, interval=interval, family=key.partition(":")[0], ingredient=key, words=names.words(line),
                    pair=line.holds >= 0, question=QUESTIONS[line.group], side="up" if line.side > 0 else "down",
                    horizon=line.horizon, state=line.state, t=line.t, p=value(line.p), share_of_luck=value(line.luck),
                    beyond_luck=line.beyond, trades=line.trades, firing_days=line.firing, money=value(line.money),
                    net=value(line.net), t_by_horizon=by_horizon,
                    strategy=names.strategy(line) if with_strategy else None)


def scan_answer(project: Project, result: ScanResult, state: str, top: int = 50) -> ScanAnswer:
    """The whole of a scan; lines: those beyond luck and the strongest others, `top` in all."""
    names, title = ScanNames(Footing.of(project), result), Searches(project).get(result.search).title
    lines, hurdles = ordered(result, names), result.hurdles()
    most = result.most().max(axis=0)
    readable = names.history(0) is not None
    return ScanAnswer(
        search=result.search, title=title, state=state, sentence=sentence(result, names),
        something=bool(result.beyond()), notes=tuple(result.notes), horizons=result.request.levels, rows=result.rows,
        told=result.told, left_out=result.left_out(), draws=result.draws,
        luck_reaches={QUESTIONS[g]: value(hurdles[g]) for g in range(GROUPS)},
        tries=tries_worth(passed_in(most, LEVEL)), tried_on_market=result.tries, beyond=len(result.beyond()),
        lines=tuple(line_of(result, names, x, readable) for x in lines[:top]),
        week=tuple(ScanHour(market=result.request.places[p][0], weekday=d + 1, hour=h, t=value(t))
                   for p in range(len(result.places)) for d, h, t in week_of(result, p)),
        records={f"{m} {interval_words(i)}": r for (m, i), r in zip(result.request.places, result.records)})
