"""Columns for candidates, the same on every place that lists them. A record is a `Line` of the Shelf, or holds one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from wolbrin.app.tables.model import Column
from wolbrin.core.figures.searches import FINDS, SWEEPS
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import BY_KEY, SUMMARY
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.store.dossier import Evidence
from wolbrin.core.store.shelf import Line

FIRST = ("trades", "net", "profit_factor", "win_rate", "average", "max_drawdown", "return_drawdown", "t_daily", "sharpe")
ASIDE = ("t", "sharpe_daily")  # kept for inference, and shown where that is done
WIDTHS = {"trades": 58, "net": 74, "profit_factor": 84, "win_rate": 66, "average": 86, "max_drawdown": 112,
          "return_drawdown": 82, "t_daily": 72, "sharpe": 86}
SHORT = {"return_drawdown": "ret/dd", "max_drawdown": "max drawdown", "t_daily": "t of days", "average": "average trade"}
Getter = Callable[[Any], Line]


@dataclass(frozen=True)
class Standing:
    """A kept candidate with its latest verdicts. words: one sentence that sums it up."""

    line: Line
    evidence: dict[str, Evidence]
    words: str = ""

    @property
    def stands(self) -> str:
        return self.line.stands


def figures() -> list[str]:
    """Keys of the figures that tables of candidates show: the usual ones, then what joined the summary since."""
    return [*FIRST, *(key for key in SUMMARY if key not in (*FIRST, *ASIDE))]


def itself(record: Any) -> Line:
    """The line of a record that is one."""
    return record


def figure(key: str, get: Getter = itself) -> Column:
    """A summary measure as a column."""
    m = BY_KEY[key]

    def value(record: Any) -> float:
        return get(record).figures.get(key, float("nan"))

    def tint(record: Any) -> str | None:
        return ("gain" if value(record) > 0 else "loss") if key == "net" else None

    return Column(SHORT.get(key, m.title), value, lambda r: worded(key, value(r)), "right", WIDTHS.get(key, 90), tint,
                  key=key, figure=m)


def naming(get: Getter = itself, name_width: int = 150) -> list[Column]:
    """Name, market and equity columns."""
    def hover(record: Any) -> str:
        line = get(record)
        return f"{line.name}\n{line.words}" + (f"\n\n{line.marks.notes}" if line.marks.notes else "")

    return [Column("candidate", lambda r: get(r).name, width=name_width, bold=True, key="name", hover=hover),
            Column("market", lambda r: f"{get(r).market} {interval_words(get(r).interval)}", width=104, key="market"),
            Column("equity", lambda r: get(r).spark, width=120, kind="spark")]


def verdict_column(get: Getter = itself) -> Column:
    return Column("verdict", lambda r: get(r).stands, width=128, tint=lambda r: stand_tint(get(r).stands), key="stands")


def family_column(get: Getter = itself) -> Column:
    """How many variants stand behind a candidate; "variant" for one that another represents."""
    def words(record: Any) -> str:
        line = get(record)
        other = line.marks.leads is not None and line.marks.leads != line.id
        return "variant" if other else number(line.marks.behind) if line.marks.behind else ""

    return Column("behind it", lambda r: get(r).marks.behind, words, "right", 70, key="behind", figure=FINDS["find.behind"])


def tried_column(get: Getter = itself) -> Column:
    return Column("tried", lambda r: get(r).tried, lambda r: number(get(r).tried), "right", 66, key="tried",
                  figure=SWEEPS["search.tried"])


def record_column(get: Getter = itself) -> Column:
    return Column("made by", lambda r: get(r).made, width=520, key="made")


def words_column(get: Getter = itself) -> Column:
    return Column("rules in words", lambda r: get(r).words, width=520, key="words")


def stand_tint(text: str) -> str | None:
    if text.startswith(("falls", "fell")):
        return "loss"
    if text.startswith("of a "):
        return "accent"
    return {"stands": "gain", "ready": "accent", "not enough": "caution_text"}.get(text, "muted")
