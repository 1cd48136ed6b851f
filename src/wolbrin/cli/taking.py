"""What commands that take files in have in common: their options, the questions they ask, what they tell as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import typer

from wolbrin.cli.common import FAILED, error_console, run
from wolbrin.cli.each import Each
from wolbrin.cli.rolls import adjust_of, rule_of
from wolbrin.core.errors import UserError
from wolbrin.core.jobs import State
from wolbrin.core.market.findings import Finding
from wolbrin.core.market.importing.grouping import clean_code
from wolbrin.core.market.importing.read import Imported
from wolbrin.core.market.likely.spread import UNITS
from wolbrin.core.market.likely.terms_of import Said, spoken_sessions
from wolbrin.core.market.quality import stamp as stamp_of
from wolbrin.core.store.project import Project
from wolbrin.core.store.sources import Source
from wolbrin.core.work.importing import month_name, read_job
from wolbrin.core.work.looking import Opened, Wishes, judge_months, known_zone_of
from wolbrin.core.work.starting import Months, likely_rule
from wolbrin.core.work.told_files import read_words

ORDER = "Order of dates that may be read two ways: dmy, mdy or ymd."
YES = typer.Option(False, "--yes", "-y", help="Take what is odd about the rows as it is told; no choice between answers.")
ZONE = ("Clock of stamps without an offset: Europe/Oslo, UTC+2, America/New_York+7; also as CODE=ZONE.")
STAMP = "open or close: which end of the bar carries the time; also as CODE=open."
TIME_FORMAT = 'How times are written, in the codes of strptime: "%d.%m.%Y %H:%M".'
POINT_VALUE = "Money for a move of 1.00 on one contract, also as CODE=VALUE."
SESSIONS = 'Such as "Mon-Fri 09:00-17:00 Europe/Oslo", "none", "around the clock"; also as "CODE=...".'
SPREAD_UNIT = "Of a spread column: points, pips or price; also as CODE=pips."
KINDS = ("future", "currency pair", "index", "other")
BY_MARKET = ("--zone", "--stamp", "--tick", "--point-value", "--kind", "--sessions", "--spread-unit", "--quote-currency")
KINDS_OF = "future, currency pair, index or other; also as CODE=VALUE."


def finding_json(f: Finding) -> dict[str, Any]:
    return {"what": f.what, "value": f.value, "why": f.why, "sure": f.sure, "asks": f.ask, "option": f.option,
            "answers": [{"value": a.value, "means": a.means} for a in f.answers]}


def open_questions(questions: Sequence[tuple[str, Finding]], yes: bool) -> list[tuple[str, Finding]]:
    """What has to be answered before anything is made. yes: what is odd is taken as it is told; between answers nobody
    chooses for the user."""
    return [(code, f) for code, f in questions if not (yes and f.option == "--yes")]


def ask(questions: Sequence[tuple[str, Finding]], yes: bool) -> None:
    """Say what the data does not decide, and stop there."""
    several = len({code for code, _ in questions}) > 1
    for code, f in open_questions(questions, yes):
        error_console.print(f"{code}: {f.sentence()}", markup=False)
        own = f"{code}=" if several and f.option in BY_MARKET else ""
        for a in f.answers:
            error_console.print(f"    {f.option} {own}{a.value}" + (f": {a.means}" if a.means else ""), markup=False)
        error_console.print(f"  Answer with {f.option}{f' {own}...' if own else ''}.", markup=False)
    if open_questions(questions, yes):
        raise typer.Exit(FAILED)


def check_code(text: str) -> str:
    """A market's code as it is kept; empty where none was said. Raises UserError where it holds signs that no code has."""
    code = clean_code(text)
    if code != text.strip().upper():
        raise UserError(f'there is no market "{text}", and a new one cannot be called so', "--market",
                        f'Use letters, digits, points and dashes{f", such as {code}" if code else ""}.')
    return code


def check_choice(option: str, value: str | None, known: tuple[str, ...]) -> None:
    if value is not None and value not in known:
        raise UserError(f'"{value}" is not known', option, f"Write {', '.join(known[:-1])} or {known[-1]}.")


def market_json(judged: Any, entry: Any) -> dict[str, Any]:
    """One market of `new` and `import` as plain data (docs/command-line.md)."""
    i = judged.imported
    return {"code": judged.code, "source": judged.aside or "file", "read": read_words(judged), "assumed": judged.assumed,
            "terms": entry.terms, "layout": judged.layout, "rows": len(i.raw), "first": entry.first,
            "last": entry.last, "interval": judged.bars.interval, "bars": len(judged.bars) if judged.aside else entry.bars,
            "guesses": [finding_json(f) for f in judged.findings], "notes": list(i.notes),
            "treated": {"left_out": entry.left_out, "off_grid": entry.off_grid, "bad_rows": i.bad_count, "late": i.late,
                        "repeated": int((i.raw.time[1:] == i.raw.time[:-1]).sum()) if i.raw.interval else 0}}


def months_json(months: Months, entry: Any, project: Project) -> dict[str, Any]:
    """A market made of contract months: as `market_json`, with its months and rolls."""
    source = project.sources.get(entry.code, entry.source)
    return market_json(months.judged, entry) | {
        "rows": sum(len(i.raw) for _, i in months.read),
        "months": [month_name(name, entry.code) for name, _ in months.read],
        "rolls": rolls_json(source), "adjust": source.adjust, "rolled_by": months.rule.by}


def rolls_json(source: Source) -> list[dict[str, Any]]:
    """Rolls of a joined future as plain data."""
    return [{"time": f"{stamp_of(r[0])}Z".replace(" ", "T"), "left": r[1], "entered": r[2], "difference": r[3],
             "ratio": r[4]} for r in source.rolls]


@dataclass(frozen=True)
class Spoken:
    """What was said of markets with options, for all of them or one by one. Raises UserError where it cannot be meant."""

    exchange: str
    zones: list[str] | None = None
    stamps: list[str] | None = None
    ticks: list[str] | None = None
    worths: list[str] | None = None
    quotes: list[str] | None = None
    kinds: list[str] | None = None
    sessions: list[str] | None = None
    units: list[str] | None = None

    def __post_init__(self) -> None:
        Each.of("--stamp", self.stamps).check(("open", "close"))
        Each.of("--kind", self.kinds).check(KINDS)
        Each.of("--spread-unit", self.units).check(UNITS)

    def wishes(self, code: str, base: Wishes) -> Wishes:
        """What holds for a market."""
        spoken = Each.of("--sessions", self.sessions).text(code)
        rules, zone = spoken_sessions(spoken) if spoken is not None else (None, None)
        quote = Each.of("--quote-currency", self.quotes).text(code)
        said = Said(exchange=self.exchange, kind=Each.of("--kind", self.kinds).text(code),
                    tick=Each.of("--tick", self.ticks).number(code),
                    point_value=Each.of("--point-value", self.worths).number(code), quote=quote and quote.upper(),
                    spread_unit=Each.of("--spread-unit", self.units).text(code), sessions=rules, session_zone=zone)
        clock = Each.of("--zone", self.zones).text(code)
        return replace(base, zone=known_zone_of(clock) if clock else base.zone,
                       stamp=Each.of("--stamp", self.stamps).text(code) or base.stamp, said=said)


def read_months(opened: Opened, base: Wishes, spoken: Spoken, roll: str, adjust: str) -> Months:
    """Read contract months, each for itself, under what the largest of them shows.

    Raises:
        UserError: they cannot be read, or nothing tells how they are joined.
    """
    first = judge_months(opened, spoken.wishes(opened.code, base))
    outcome: list[list[tuple[str, Imported]]] = []
    if run(read_job(opened.pieces, first.layout, outcome.append, True), "threads") is not State.DONE:
        error_console.print("Stopped; nothing was kept.", markup=False)
        raise typer.Exit(FAILED)
    return Months(first, outcome[0], rule_of(roll, adjust) if roll else likely_rule(outcome[0], adjust_of(adjust)))
