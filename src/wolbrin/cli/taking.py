"""What commands that take files in have in common: their options, the questions they ask, what they tell as JSON."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import typer

from wolbrin.cli.common import FAILED, emit, error_console, run
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
from wolbrin.core.work.looking import Judged, Opened, Wishes, judge_months, known_zone_of, questions_of
from wolbrin.core.work.starting import Months, likely_rule
from wolbrin.core.work.told_files import read_parts, read_words

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


def tell_questions(judged: Sequence[Judged], source: str) -> None:
    """What has to be answered, and all that was found, as JSON."""
    emit({"questions": [{"market": code} | finding_json(f) for code, f in questions_of(judged)],
          "markets": [{"code": j.code, "source": j.aside or source, "read": read_words(j), "read_parts": parts_json(j),
                       "guesses": [finding_json(f) for f in j.findings]} for j in judged]})


def parts_json(judged: Judged) -> list[dict[str, str]]:
    """How files were read, part by part, with the option that changes each."""
    return [{"words": p.words, "option": p.option} for p in read_parts(judged)]


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


def market_json(judged: Judged, entry: Any) -> dict[str, Any]:
    """One market of `new` and `import` as plain data (docs/command-line.md)."""
    i = judged.imported
    return {"code": judged.code, "source": judged.aside or "file", "read": read_words(judged),
            "read_parts": parts_json(judged), "assumed": judged.assumed,
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


class Spoken:
    """What was said of markets with options, for all of them or one by one. said: values as given, by option.

    Raises:
        UserError: something cannot be meant.
    """

    def __init__(self, exchange: str, said: dict[str, list[str] | None]) -> None:
        self.exchange = exchange
        self._each = {option: Each.of(option, said.get(option)) for option in BY_MARKET}
        for option, known in (("--stamp", ("open", "close")), ("--kind", KINDS), ("--spread-unit", UNITS)):
            self._each[option].check(known)

    def wishes(self, code: str, base: Wishes) -> Wishes:
        """What holds for a market."""
        text = {option: one.text(code) for option, one in self._each.items()}
        rules, zone = spoken_sessions(text["--sessions"]) if text["--sessions"] is not None else (None, None)
        quote, clock = text["--quote-currency"], text["--zone"]
        said = Said(exchange=self.exchange, kind=text["--kind"], tick=self._each["--tick"].number(code),
                    point_value=self._each["--point-value"].number(code), quote=quote and quote.upper(),
                    spread_unit=text["--spread-unit"], sessions=rules, session_zone=zone)
        return replace(base, zone=known_zone_of(clock) if clock else base.zone, stamp=text["--stamp"] or base.stamp,
                       said=said)


def read_months(opened: Opened, base: Wishes, spoken: Spoken, roll: str, adjust: str) -> Months:
    """Read contract months, each for itself, under what all of them show.

    Raises:
        UserError: they cannot be read, or nothing tells how they are joined.
    """
    first = judge_months(opened, spoken.wishes(opened.code, base))
    outcome: list[list[tuple[str, Imported]]] = []
    if run(read_job(opened.pieces, first.layout, outcome.append, True), "threads") is not State.DONE:
        error_console.print("Stopped; nothing was kept.", markup=False)
        raise typer.Exit(FAILED)
    return Months(first, outcome[0], rule_of(roll, adjust) if roll else likely_rule(outcome[0], adjust_of(adjust)))
