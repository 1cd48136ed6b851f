"""The record: everything that made a result. The same record gives the same bits, and a verdict holds only for its record."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
from collections.abc import Iterator, Mapping
from typing import Any

from pydantic import Field, ValidationError

from wolbrin.core.engine.brief import Brief, Role
from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.indicators.columns import Columns
from wolbrin.core.market.bars import Span
from wolbrin.core.market.costs import FREE, Costs
from wolbrin.core.market.declared import at_default
from wolbrin.core.market.intervals import interval_words
from wolbrin.core.market.terms import ASSUMABLE, COST_TERMS, Terms
from wolbrin.core.models import Model
from wolbrin.core.rules.model import Strategy

RECORD_VERSION = 1
NOT_RECORDED = "brief not recorded"
RATE = "conversion rate"


class Record(Model):
    """What made a result.

    version: 0 for results kept before records were whole; they are shown as "brief not recorded" and prove nothing.
    history: hash of the treated bars; histories: of every other history used, by what it was used for. own_indicators:
    digests by name. strategy: hash of the rules. first, last, role: the span and what it is. seeds: of whatever was drawn.
    tried: parameter sets, draws and trial cells among which this one could be chosen, on this market in this project.
    answers: what somebody said of other markets that go before this one by more than any market does, by market.
    assumed: terms on which the money rests although nobody has set them and no file shows them.
    charged: what the contract terms charge beside `costs`, by name: financing long and short in ticks a night where the costs
    leave it to them, and the conversion rate where it is fixed and not 1. The history's hash holds these, the key does not.
    note: why a stored record could not be read; such a one is of version 0.
    """

    version: int = RECORD_VERSION
    engine: str
    market: str
    source: str = ""
    interval: int
    history: str
    histories: dict[str, str] = {}
    own_indicators: dict[str, str] = {}
    strategy: str
    first: dt.date | None = None
    last: dt.date | None = None
    role: Role = "free"
    costs: Costs = Costs()
    costs_assumed: bool = False
    capital: float = 50_000.0
    most_bars: int | None = None
    fill: str = "next open"
    flat_by_session_end: bool = True
    fine_fills: bool = False
    seeds: tuple[int, ...] = ()
    tried: int = Field(1, ge=0)
    answers: dict[str, str] = {}
    assumed: tuple[str, ...] = ()
    charged: dict[str, float] = {}
    note: str = ""

    @property
    def whole(self) -> bool:
        """Whether this says everything that made the result."""
        return self.version > 0

    @property
    def key(self) -> str:
        """Digest of all that decides the result's bits; how many were tried does not."""
        # Answers came later, and do not count while there are none, so that evidence gathered before stays.
        left_out: set[str] = {"tried", "note", "assumed", "charged"} | (set() if self.answers else {"answers"})
        data = self.model_dump(mode="json", exclude=left_out)
        data["costs"] = {k: v for k, v in data["costs"].items() if k not in at_default(self.costs)}
        text = json.dumps(data, sort_keys=True)
        return hashlib.sha256(text.encode()).hexdigest()[:24]

    @property
    def span(self) -> Span:
        return Span(self.first, self.last)

    @property
    def brief(self) -> Brief:
        """The question this answers."""
        return Brief(self.span, self.costs, self.capital, self.most_bars, self.fine_fills, self.role,
                     self.assumed or (COST_TERMS if self.costs_assumed else ()))

    def __repr__(self) -> str:
        return f"Record({self.words()})"

    def words(self) -> str:
        """The brief in one line, as it stands under a result."""
        if not self.whole:
            return self.note or NOT_RECORDED
        rate = self.charged.get(RATE)
        beside = " + ".join(f"{what} {value:g} of the terms" for what, value in self.charged.items() if what != RATE)
        costs = " + ".join(part for part in ("" if self.costs.free else self.costs.words(), beside) if part)
        paid = (f"costs {costs}" if costs else FREE) + (f", converted at {rate:g}" if rate else "")
        guessed = assumed_words(self.assumed or (COST_TERMS if self.costs_assumed else ()))
        source = f" ({self.source})" if self.source else ""
        return (f"{self.market}{source} {interval_words(self.interval)}, {self.role} {self.span}, {paid}, capital "
                f"{self.capital:,.0f}, history {self.history[:8]}, rules {self.strategy[:8]}, {self.tried:,} "
                f"tried" + (f"; {guessed}" if guessed else "")
                + "".join(f"; {m} leads: {said}" for m, said in self.answers.items()))

    @classmethod
    def read(cls, data: dict[str, Any], where: str) -> Record:
        """A stored record. One written before records were whole becomes version 0.

        Raises:
            UserError: it is of a newer version, or damaged.
        """
        version = data.get("version", 0)
        if isinstance(version, int) and version > RECORD_VERSION:
            raise UserError(f"this record has version {version}, newer than this program knows ({RECORD_VERSION})", where,
                            "Open the project with a newer Wolbrin.")
        if not version:
            known = {k: v for k, v in data.items() if k in cls.model_fields}
            data = {"engine": "", "market": "", "interval": 1, "history": "", "strategy": ""} | known | {"version": 0}
        try:
            return cls.model_validate(data)
        except ValidationError as err:
            raise explain(err, where) from None


def charged_by(terms: Terms, costs: Costs) -> dict[str, float]:
    """What contract terms charge beside the costs, see `Record.charged`."""
    own = {"financing long": (costs.financing_long, terms.financing.long),
           "financing short": (costs.financing_short, terms.financing.short)}
    found = {name: rate for name, (said, rate) in own.items() if said is None and rate}
    fixed = terms.conversion_rate != 1.0 and not terms.conversion_market
    return found | ({RATE: terms.conversion_rate} if fixed else {})


def assumed_words(assumed: tuple[str, ...]) -> str:
    """What money rests on that nobody has set, in words: "assumed: point value, spread"; empty where there is none."""
    return "assumed: " + ", ".join(n for n in ASSUMABLE if n in assumed) if assumed else ""


def read_record(data: dict[str, Any], where: str) -> Record:
    """A stored record as `Record.read` gives it; one that cannot be read says why in its note and proves nothing, so that
    everything beside it stays in use."""
    try:
        return Record.read(data, where)
    except UserError as err:
        return Record(version=0, engine="", market="", interval=1, history="", strategy="", note=err.sentence())


def _used(node: Any) -> Iterator[dict[str, Any]]:
    """Operands of a dumped strategy that take part: rows and sides switched off do not."""
    if isinstance(node, dict):
        if node.get("on") is False or node.get("mode") == "off":
            return
        if node.get("kind") in ("field", "indicator", "custom"):
            yield node
        for value in node.values():
            yield from _used(value)
    elif isinstance(node, list):
        for value in node:
            yield from _used(value)


def others_read(strategy: Strategy, columns: Columns) -> dict[str, str]:
    """Hashes of the other markets' histories that the rules read, by market and interval."""
    found = {}
    for operand in _used(strategy.model_dump(mode="json", exclude={"schedule"})):
        market = operand.get("market")
        if market and market != columns.bars.terms.code:
            interval = operand.get("interval") or columns.bars.interval
            found[f"operand {market} {interval_words(interval)}"] = columns.other(market, interval)[0].bars.hash
    return found


def markets_in(histories: Mapping[str, str]) -> set[str]:
    """Other markets among the histories of a record that rules read."""
    return {name.split(" ")[1] for name in histories if name.startswith("operand ")}


def own_read(strategy: Strategy) -> dict[str, str]:
    """Digests of the user's own indicators that the rules use, by name."""
    data = strategy.model_dump(mode="json", exclude={"schedule"})
    return {o["name"]: o["digest"] for o in _used(data) if o["kind"] == "custom"}
