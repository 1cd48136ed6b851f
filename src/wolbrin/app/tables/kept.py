"""Columns for candidates, the same on every place that lists them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from wolbrin.app.tables.model import Column
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.measures.catalogue import BY_KEY
from wolbrin.core.measures.wording import number, worded
from wolbrin.core.rules.words import describe
from wolbrin.core.store.dossier import Evidence, Kept

FIGURES = ("trades", "net", "profit_factor", "win_rate", "average", "max_drawdown", "return_drawdown", "t_daily", "sharpe")
WIDTHS = {"trades": 58, "net": 74, "profit_factor": 84, "win_rate": 66, "average": 86, "max_drawdown": 112,
          "return_drawdown": 82, "t_daily": 72, "sharpe": 86}
SHORT = {"return_drawdown": "ret/dd", "max_drawdown": "max drawdown", "t_daily": "t of days", "average": "average trade"}


@dataclass
class Standing:
    """A kept candidate with its latest verdicts and where it stands; `ticked` for the shared selection."""

    kept: Kept
    evidence: dict[str, Evidence]
    stands: str
    ticked: bool


def figure(key: str, get: Callable[[Any], Kept]) -> Column:
    """A summary measure as a column."""
    m = BY_KEY[key]

    def value(record: Any) -> float:
        return get(record).candidate.summary.get(key, float("nan"))

    def tint(record: Any) -> str | None:
        return ("gain" if value(record) > 0 else "loss") if key == "net" else None

    return Column(SHORT.get(key, m.title), value, lambda r: worded(key, value(r)), "right", WIDTHS[key], tint,
                  tip=m.definition)


def naming(get: Callable[[Any], Kept], name_width: int = 150) -> list[Column]:
    """Name, market and equity columns."""
    return [Column("candidate", lambda r: get(r).candidate.name, width=name_width, bold=True),
            Column("market", lambda r: f"{get(r).candidate.market} {interval_words(get(r).candidate.interval)}", width=104),
            Column("equity", lambda r: get(r).candidate.spark, width=120, kind="spark")]


def tried_column(get: Callable[[Any], Kept]) -> Column:
    return Column("tried", lambda r: get(r).candidate.tried, lambda r: number(get(r).candidate.tried), "right", 66,
                  tip="parameter sets, draws and trial cells looked at on its market in this project")


def record_column(get: Callable[[Any], Kept]) -> Column:
    return Column("made by", lambda r: get(r).candidate.record.words(), width=520)


def words_column(get: Callable[[Any], Kept]) -> Column:
    return Column("rules in words", lambda r: describe(get(r).candidate.strategy), width=520)


def stand_tint(text: str) -> str | None:
    if text.startswith(("falls", "fell")):
        return "loss"
    return {"stands": "gain", "sealed": "accent"}.get(text, "muted")
