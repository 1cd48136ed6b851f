"""A sweep as an answer for machines: one schema, and the same rows as a table for files."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from wolbrin.core.engine.record import Record
from wolbrin.core.models import Model
from wolbrin.core.search.deflated import Deflated
from wolbrin.core.search.overfitting import Rule
from wolbrin.core.store.searches import Searches
from wolbrin.core.work.sweep_luck import Luck, LuckResult
from wolbrin.core.work.sweep_reading import Reading
from wolbrin.core.work.sweep_results import SweepResult
from wolbrin.core.work.sweep_statistics import Statistics

Value = float | None  # null where there is none


class SetRow(Model):
    """One set. settings: by key; where that is no number (market, sides, interval, a time of day) as it is read. score: of
    what was looked for, higher is better. plateau_median, plateau_worst: over the sets within one step, null where not all
    are known. at_end: keys whose value stands at an end of its range."""

    settings: dict[str, float | str]
    measures: dict[str, Value]
    score: Value
    passes: bool
    plateau_median: Value
    plateau_worst: Value
    at_end: tuple[str, ...] = ()


class EdgeRow(Model):
    """A range at whose end the best lies."""

    key: str
    end: str
    value: float | str
    further: tuple[float, ...]
    words: str


class ImportanceRow(Model):
    """Shares of the objective's variance that a number explains: by itself, and with all others."""

    key: str
    main: Value
    total: Value


class LuckRow(Model):
    """What luck brought on a market: best values on shuffled histories, the real one, p and the finest p of so many. percent:
    what is in percent of price, and so of other amounts there, in words."""

    market: str
    shuffles: int
    best: tuple[Value, ...]
    actual: Value
    p: Value
    finest_p: Value
    words: str
    percent: str = ""


class DeflatedRow(Model):
    """Probabilistic Sharpe ratio of one set against luck's best; per day. chance: probability that the true one is above the
    hurdle. trials: sets tried; controls: whose best ones the hurdle is the mean of, 0 where it follows from the number."""

    sharpe: Value
    hurdle: Value
    chance: Value
    above_zero: Value
    days: int
    days_needed: Value
    trials: int
    controls: int


class OverfittingRow(Model):
    """A rule of choosing by combinatorially symmetric cross-validation."""

    rule: str
    probability: Value
    probability_of_loss: Value
    sharpe_inside: Value
    sharpe_outside: Value
    blocks: int
    cuts: int


class StatisticsRow(Model):
    """What speaks against the winner, of one market."""

    market: str
    tried: int
    tried_on_market: int
    best: DeflatedRow | None
    center: DeflatedRow | None
    overfitting: tuple[OverfittingRow, ...] = ()
    words: tuple[str, ...] = ()


class BasketRow(Model):
    """One set for all places. value: by the rule; by_place: scores in the order of `places`."""

    settings: dict[str, float | str]
    value: Value
    by_place: tuple[Value, ...]


class SweepAnswer(Model):
    """What `wolbrin sweep --json` gives."""

    search: int
    title: str
    state: str
    method: str
    objective: str
    tried: int = Field(description="sets whose results are here")
    simulated: int = Field(description="of them, those run by this sweep and not taken over from one that it refines")
    tried_on_market: int = Field(description="alternatives tried on the first market altogether")
    total: int
    refused: int
    constraints: tuple[str, ...]
    floors: dict[str, int] = Field(description="sets that each floor rejects")
    record: Record | None
    sharpe_daily: dict[str, Value]
    best: SetRow | None
    center: SetRow | None
    reason: str
    edges: tuple[EdgeRow, ...]
    importance: tuple[ImportanceRow, ...]
    importance_words: str
    luck: tuple[LuckRow, ...]
    statistics: tuple[StatisticsRow, ...]
    best_by_place: dict[str, SetRow] = {}
    basket_rule: str = ""
    basket: tuple[BasketRow, ...] = ()
    results: tuple[SetRow, ...]


def _value(x: float) -> Value:
    return float(x) if math.isfinite(x) else None


def order_of(reading: Reading, most: int | None = None) -> NDArray[np.int64]:
    """Rows from best to worst, those that pass the floors first; the best `most`, or as many as the request keeps."""
    score = np.where(np.isfinite(reading.score), reading.score, -np.inf)
    order = np.lexsort((np.arange(len(score)), -score, ~reading.passes))
    keep = reading.request.keep if most is None else most
    return order[:keep] if keep else order


def settings_of(reading: Reading, row: int) -> dict[str, float | str]:
    """A row's set by its keys."""
    return {a.key: v if a.kind == "number" else a.shown(v) for a, v in zip(reading.request.axes, reading.values(row))}


def row_of(reading: Reading, row: int) -> SetRow:
    """One set."""
    figures = dict(zip(reading.request.measures, reading.figures[row].tolist()))
    return SetRow(settings=settings_of(reading, row), measures={k: _value(v) for k, v in figures.items()},
                  score=_value(reading.score[row]), passes=bool(reading.passes[row]),
                  plateau_median=_value(reading.median[row]), plateau_worst=_value(reading.worst[row]),
                  at_end=tuple(a.key for a, end in zip(reading.request.axes, reading.ended[row]) if end))


def table_of(reading: Reading) -> dict[str, Any]:
    """All rows as named columns, best first, for files: settings, measures, score and plateaus."""
    order = order_of(reading)
    out: dict[str, Any] = {}
    for i, axis in enumerate(reading.request.axes):
        values = reading.settings[order, i]
        out[axis.key] = values if axis.kind == "number" else [axis.shown(v) for v in values.tolist()]
    out |= {key: values[order] for key, values in reading.columns.items()}
    return out | {"score": reading.score[order], "passes": reading.passes[order], "plateau_median": reading.median[order],
                  "plateau_worst": reading.worst[order], "at_end": reading.ended[order].any(axis=1)}


def _deflated(d: Deflated | None) -> DeflatedRow | None:
    if d is None:
        return None
    return DeflatedRow(sharpe=_value(d.sharpe), hurdle=_value(d.hurdle.value), chance=_value(d.chance),
                       above_zero=_value(d.above_zero), days=d.days, days_needed=_value(d.needed), trials=d.hurdle.tried,
                       controls=d.hurdle.controls)


def _statistics(s: Statistics) -> StatisticsRow:
    rules: tuple[OverfittingRow, ...] = ()
    if s.overfitting is not None:
        def made(rule: Rule) -> OverfittingRow:
            assert s.overfitting is not None
            return OverfittingRow(rule=rule.name, probability=_value(rule.overfitting), probability_of_loss=_value(rule.loss),
                                  sharpe_inside=_value(rule.inside), sharpe_outside=_value(rule.outside),
                                  blocks=s.overfitting.blocks, cuts=s.overfitting.choices)
        rules = made(s.overfitting.largest), made(s.overfitting.plateau)
    return StatisticsRow(market=s.market, tried=s.tried, tried_on_market=s.tried_on, best=_deflated(s.best),
                         center=_deflated(s.center), overfitting=rules, words=tuple(s.lines()))


def _luck(one: Luck, reading: Reading, percent: str) -> LuckRow:
    return LuckRow(market=one.market, shuffles=one.shuffles, best=tuple(_value(v) for v in one.best.tolist()),
                   actual=_value(one.actual), p=_value(one.p), finest_p=_value(one.finest) if one.shuffles else None,
                   words=one.words(reading.request.objective.value_words), percent=percent)


def answer(searches: Searches, result: SweepResult, reading: Reading, luck: LuckResult | None, stats: list[Statistics],
           state: str, percent: str = "") -> SweepAnswer:
    """All that is known of a sweep. percent: see controls.percent_note."""
    r = reading.request
    first = r.places[0].market
    sharpe = searches.sharpe_on(first)
    importance = reading.importance if len(reading) > 1 else None
    basket = reading.basket
    titles = {a.key: a.short for a in r.axes}
    places = [" ".join(str(x) for x in (p.market, p.interval, p.sides) if x != "") for p in r.places]
    return SweepAnswer(
        search=result.search, title=r.title, state=state, method=r.method, objective=r.objective.words(), tried=len(reading),
        simulated=searches.get(result.search).tried or result.count, tried_on_market=searches.tried_on(first),
        total=result.total, refused=result.refused, constraints=tuple(c.words(titles) for c in r.constraints),
        floors=reading.rejected, record=result.record,
        sharpe_daily={"count": sharpe.count, "mean": _value(sharpe.mean) if sharpe.count else None,
                      "variance": _value(sharpe.variance)},
        best=row_of(reading, reading.best) if reading.best >= 0 else None,
        center=row_of(reading, reading.center) if reading.center >= 0 else None, reason=reading.reason(),
        edges=tuple(EdgeRow(key=(a := r.axes[e.axis]).key, end="high" if e.high else "low",
                            value=a.values[-1 if e.high else 0], further=e.further, words=e.words(a)) for e in reading.edges),
        importance=tuple(ImportanceRow(key=a.key, main=_value(importance.main[i]), total=_value(importance.total[i]))
                         for i, a in enumerate(r.axes)) if importance else (),
        importance_words=importance.words([a.short for a in r.axes], r.space.places) if importance else "",
        luck=tuple(_luck(luck.of(m), reading, percent) for m in r.markets) if luck is not None else (),
        statistics=tuple(_statistics(s) for s in stats),
        best_by_place={name: row_of(reading, int(row)) for name, row in zip(places, basket.best if basket else ())
                       if row >= 0},
        basket_rule=r.basket if basket else "",
        basket=tuple(BasketRow(settings={a.key: v if a.kind == "number" else a.shown(v) for a, v in zip(
            r.space.numbers, r.space.values(basket.sets[i:i + 1])[0, r.space.places:].tolist())},
            value=_value(basket.value[i]), by_place=tuple(_value(x) for x in basket.by_place[i].tolist()))
            for i in range(min(20, len(basket.sets)))) if basket else (),
        results=tuple(row_of(reading, int(row)) for row in order_of(reading)))
