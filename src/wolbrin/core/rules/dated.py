"""Reading a strategy's dated numbers: the strategy that decides from each date on."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from pydantic import ValidationError

from wolbrin.core.errors import Door, UserError
from wolbrin.core.faults import explain
from wolbrin.core.rules.identity import strategy_hash
from wolbrin.core.rules.model import Strategy
from wolbrin.core.rules.numbers import clock, tunables, with_values
from wolbrin.core.rules.schedule import Schedule, Spell

OFF = Door("Take the dated numbers off", "undated")


@dataclass(frozen=True)
class Step:
    """Who decides from a trading date on (None: from the start). strategy: without dated numbers; None where nothing is
    entered."""

    first: dt.date | None
    strategy: Strategy | None


def undated(strategy: Strategy) -> Strategy:
    """The same rules with the numbers they show, without dated ones."""
    return strategy if strategy.schedule is None else strategy.model_copy(update={"schedule": None})


def with_schedule(strategy: Strategy, schedule: Schedule) -> Strategy:
    """A strategy with dated numbers, which shows those in force last; the schedule is stamped with its rules.

    Raises:
        UserError: the strategy has no such numbers.
    """
    last = next((one for one in reversed(schedule.spells) if one.values), None)
    shown = undated(strategy)
    if last is not None:
        shown = _at(shown, schedule, last)
    return shown.model_copy(update={"schedule": schedule.model_copy(update={"rules": strategy_hash(shown)})})


def _at(strategy: Strategy, schedule: Schedule, spell: Spell) -> Strategy:
    where = f"{strategy.name}, numbers from {spell.first:%d %b %Y}"
    try:
        return with_values(strategy, dict(zip(schedule.keys, spell.values)))
    except (LookupError, TypeError, ValueError) as err:
        if isinstance(err, ValidationError):
            raise explain(err, where) from None
        raise UserError("these rules have no such number", where, "Walk the strategy again.", OFF) from None


def varied(strategy: Strategy, values: Mapping[str, float]) -> Strategy:
    """The strategy with other numbers (see `with_values`); dated ones move by as much on every date.

    Raises:
        ValidationError: the model refuses them.
    """
    schedule = strategy.schedule
    if schedule is None:
        return with_values(strategy, values)
    rules = undated(strategy)
    known = {t.key: t.value for t in tunables(rules)}
    moves = [values.get(key, known.get(key, 0.0)) - known.get(key, 0.0) for key in schedule.keys]
    spells = tuple(one.model_copy(update={"values": tuple(round(v + m, 10) for v, m in zip(one.values, moves))})
                   for one in schedule.spells)
    made = with_values(rules, values)
    return made.model_copy(update={"schedule": schedule.model_copy(update={"spells": spells, "rules": strategy_hash(made)})})


def changed(strategy: Strategy, change: Callable[[Strategy], Strategy], market: str, interval: int) -> Strategy:
    """The strategy as it is after a change of its rules, whose dated numbers change likewise, for another market or
    interval."""
    schedule = strategy.schedule
    if schedule is None:
        return change(strategy)
    rules = undated(strategy)

    def after(spell: Spell) -> Spell:
        if not spell.values:
            return spell
        known = {t.key: t.value for t in tunables(change(_at(rules, schedule, spell)))}
        return spell.model_copy(update={"values": tuple(known[key] for key in schedule.keys)})

    made = change(rules)
    return made.model_copy(update={"schedule": schedule.model_copy(update={
        "spells": tuple(after(s) for s in schedule.spells), "rules": strategy_hash(made), "market": market,
        "interval": interval})})


def steps_of(strategy: Strategy) -> list[Step]:
    """The strategies that decide one after the other; one alone without dated numbers.

    Raises:
        UserError: the numbers were fitted for other rules than these.
    """
    schedule, rules = strategy.schedule, undated(strategy)
    if schedule is None:
        return [Step(None, strategy)]
    if schedule.rules != strategy_hash(rules):
        raise UserError("the dated numbers were fitted for other rules than these: something was changed since",
                        strategy.name, "Walk the strategy again, or take the dated numbers off.", OFF)
    names = {f"parameters.{i}.value": p.name for i, p in enumerate(rules.parameters)}
    moved = next((t for key, t in zip(schedule.keys, schedule.titles) if key.startswith("parameters.")
                  and names.get(key) != t), None)
    if moved is not None:
        raise UserError(f'the number "{moved}" is not where it was when the dated numbers were fitted', strategy.name,
                        "Walk the strategy again, or take the dated numbers off.", OFF)
    return [Step(one.first, _at(rules, schedule, one) if one.values else None) for one in schedule.spells]


def check_place(strategy: Strategy, market: str, interval: int, interval_words: str) -> None:
    """Refuse dated numbers of another market or interval. Raises UserError."""
    schedule = strategy.schedule
    if schedule is not None and (schedule.market, schedule.interval) != (market, interval):
        raise UserError(f"the dated numbers were fitted on {schedule.market}, not on {market} {interval_words}",
                        strategy.name, "Walk the strategy there, or take the dated numbers off.", OFF)


def shown_values(strategy: Strategy, schedule: Schedule, values: Sequence[float]) -> str:
    """Dated values in words: "fast 14, slow 60"."""
    clocked = {t.key for t in tunables(undated(strategy)) if t.clock}
    return ", ".join(f"{title.split(',')[0].replace('_', ' ')} {clock(v) if key in clocked else f'{v:g}'}"
                     for key, title, v in zip(schedule.keys, schedule.titles, values))


def due_words(schedule: Schedule) -> str:
    """When numbers are to be fitted again."""
    if schedule.due is not None:
        return f"next fit due {schedule.due.day} {schedule.due:%b %Y}"
    return f"next fit due after {schedule.due_after}" if schedule.due_after else ""


def in_force_words(strategy: Strategy, day: dt.date) -> str:
    """Which dated numbers decide on a day, and when the next fit comes; "" without any."""
    schedule = strategy.schedule
    if schedule is None:
        return ""
    at = max((i for i, s in enumerate(schedule.spells) if s.first <= day), default=-1)
    if at < 0:
        return f"Before the first dated numbers ({schedule.spells[0].first:%d %b %Y}) nothing is entered."
    spell = schedule.spells[at]
    said = shown_values(strategy, schedule, spell.values) if spell.values else "nothing fitted, nothing is entered"
    after = schedule.spells[at + 1].first if at + 1 < len(schedule.spells) else schedule.due
    due = f"; next fit {after.day} {after:%b %Y}" if after is not None else ""
    if after is not None and day >= after:
        due = f"; the next fit was due {after.day} {after:%b %Y}"
    return f"In force from {spell.first.day} {spell.first:%b %Y}: {said}{due}."


def schedule_words(strategy: Strategy, most: int = 0) -> list[str]:
    """The schedule in words, newest first: "from 1 Jul 2021: fast 14, slow 60; next fit due 1 Jan 2026". most: how many
    spells, 0 for all."""
    schedule = strategy.schedule
    if schedule is None:
        return []
    lines = []
    for one in reversed(schedule.spells):
        said = shown_values(strategy, schedule, one.values) if one.values else "nothing fitted, nothing is entered"
        lines.append(f"from {one.first.day} {one.first:%b %Y}: {said}")
    if most and len(lines) > most:
        lines = [*lines[:most], f"and {len(lines) - most} earlier fits"]
    due = due_words(schedule)
    return [f"{lines[0]}; {due}" if due else lines[0], *lines[1:]]
