"""Contract terms of a market: what a tick is worth, when it trades, what trading it costs."""

from __future__ import annotations

import datetime as dt
import re
from fractions import Fraction
from pathlib import Path
from typing import Annotated, Any, Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import Field, ValidationError, field_validator, model_validator

from wolbrin.core.faults import explain
from wolbrin.core.market.declared import Declared, Fact, at_default, declared
from wolbrin.core.models import Model, Name, read_json
from wolbrin.core.whole import whole_of

CLOSED_DAY = re.compile(r"^(?:\d{4}-)?\d{2}-\d{2}$")
WEEKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
Weekday = Literal["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"]
MINUTES_A_DAY = 24 * 60
MONEY_TERMS = ("point value", "quote currency")  # what all money rests on
COST_TERMS = ("spread", "slippage", "commission")
ASSUMABLE = (*MONEY_TERMS, "lots", "margin", *COST_TERMS)  # terms that may rest on nothing but custom


def minutes_of(clock: str) -> int:
    """Minutes after midnight of "HH:MM"; "24:00" is allowed and is 1440."""
    before, _, after = clock.partition(":")
    hours, minutes = whole_of(before), whole_of(after)
    if hours is None or minutes is None:
        raise ValueError(f'"{clock[:40]}" is not a time of day like 09:30')
    total = hours * 60 + minutes
    if minutes > 59 or total > MINUTES_A_DAY:
        raise ValueError(f'"{clock}" is not a time of day between 00:00 and 24:00')
    return total


def known_zone(value: str) -> str:
    """The name of a time zone, if the tz database has it."""
    try:
        ZoneInfo(value)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise ValueError(f'"{value}" is not a time zone of the tz database, such as Europe/Oslo') from None
    return value


class SessionRule(Model):
    """One session of the weekly schedule, in the market's time zone.

    `days` are the weekdays on which the session OPENS. A close at or before the open crosses midnight.
    """

    days: tuple[Weekday, ...] = Field(min_length=1)
    open: str
    close: str

    @field_validator("open", "close")
    @classmethod
    def _clock(cls, value: str) -> str:
        minutes_of(value)
        return value

    @property
    def open_minute(self) -> int:
        return minutes_of(self.open)

    @property
    def close_minute(self) -> int:
        """Minutes after the opening day's midnight; above 1440 when the session crosses midnight."""
        close = minutes_of(self.close)
        return close if close > self.open_minute else close + MINUTES_A_DAY


class Commission(Model):
    """Charged per side, in account currency."""

    per_contract: Annotated[float, Fact("commission", "account money", "a contract and side", term="commission")] = Field(
        0.0, ge=0)
    percent: Annotated[float, Fact("commission, % of notional", "% of notional", "a side", term="commission")] = Field(
        0.0, ge=0)
    minimum: Annotated[float, Fact("least commission", "account money", "least charge a side", term="commission")] = Field(
        0.0, ge=0)


class Financing(Model):
    """Ticks per night per contract, signed as brokers quote them: negative is paid by the holder."""

    long: Annotated[float, Fact("financing long", "ticks a night", "of a contract held long, negative is paid")] = 0.0
    short: Annotated[float, Fact("financing short", "ticks a night", "of a contract held short, negative is paid")] = 0.0
    time: Annotated[str, Fact("nights", "time of day", "when a night of financing begins, in the market's time zone",
                              "--rollover", hint="exchange time, three on")] = "17:00"
    triple: Annotated[Weekday, Fact("triple night", "weekday", "whose night counts three times", "--triple-night",
                                    beside=True)] = "Wed"

    @field_validator("time")
    @classmethod
    def _clock(cls, value: str) -> str:
        minutes_of(value)
        return value

    @property
    def active(self) -> bool:
        return self.long != 0.0 or self.short != 0.0


class Margin(Model):
    """Either money per contract (account currency) or leverage on notional; both empty means no margin check."""

    per_contract: Annotated[float | None, Fact(
        "margin", "account money", "a contract; or by leverage, or neither for no check", term="margin",
        hint="a contract, or 1 :")] = Field(None, gt=0)
    leverage: Annotated[float | None, Fact("leverage", "", "of notional: 30 for 1:30", term="margin", beside=True)] = Field(
        None, gt=0)

    @model_validator(mode="after")
    def _one(self) -> Margin:
        if self.per_contract is not None and self.leverage is not None:
            raise ValueError("give margin per contract or leverage, not both")
        return self


class Terms(Model):
    """Everything the simulator must know of a market. See docs/market-file.md.

    `sessions` is the weekly schedule; `calendar`, where given, takes opens, closes and holidays from a listed exchange
    instead. `closed` names days without trading: "12-25" every year, "2024-03-29" once.
    """

    format: Literal["wolbrin.market"] = "wolbrin.market"
    version: Literal[1, 2] = 2
    code: Annotated[str, Fact("code", "", "letters, digits, dots, hyphens")] = Field(
        min_length=1, max_length=24, pattern=r"^[A-Za-z0-9._-]+$")
    name: Annotated[Name, Fact("name", "", "of the market in full", "--name")] = ""
    kind: Annotated[Literal["future", "currency pair", "index", "other"], Fact(
        "kind", "", "future, currency pair, index or other", "--kind")] = "future"
    tick_size: Annotated[float, Fact("tick size", "price", "smallest price step, as an exact decimal", "--tick",
                                     hint="smallest price step")] = Field(gt=0)
    point_value: Annotated[float, Fact(
        "point value", "quote money", "for a move of 1.00 on one contract; of a currency pair the lot", "--point-value",
        term="point value", hint="quote money for 1.00")] = Field(gt=0)
    quote_currency: Annotated[str, Fact("quote currency", "", "in which prices are quoted", term="quote currency",
                                        hint="1 unit is")] = "EUR"
    conversion_rate: Annotated[float, Fact("conversion rate", "account money", "for one unit of quote money, fixed",
                                           "--conversion-rate", hint="account money", beside=True)] = Field(1.0, gt=0)
    conversion_market: Annotated[str, Fact("converted at", "", "code of a market whose last close is that rate",
                                           "--conversion-market")] = Field("", max_length=24)
    conversion_inverse: Annotated[bool, Fact("inverse", "", "that market quotes quote money for one unit of account money",
                                             "--conversion-inverse/--conversion-direct", beside=True)] = False
    lot_step: Annotated[float, Fact("lot step", "contracts", "quantities are rounded down to it", "--lot",
                                    term="lots", hint="at least")] = Field(1.0, gt=0)
    minimum_lot: Annotated[float, Fact("smallest quantity", "contracts", "below it entries are refused", "--minimum-lot",
                                       term="lots", hint="contracts", beside=True)] = Field(1.0, gt=0)
    spread_ticks: Annotated[float, Fact("spread", "ticks", "the whole spread; half is paid at each fill",
                                        term="spread")] = Field(0.0, ge=0)
    slippage_ticks: Annotated[float, Fact("slippage", "ticks", "paid at each market or stop fill",
                                          term="slippage")] = Field(0.0, ge=0)
    commission: Commission = Commission()
    financing: Financing = Financing()
    margin: Margin = Margin()
    time_zone: Annotated[str, Fact("time zone", "", "of the tz database; sessions and nights are in it", "--zone")] = "UTC"
    sessions: Annotated[tuple[SessionRule, ...], Fact(
        "weekly sessions", "", "Mon-Fri 09:00-17:00 Europe/Oslo, around the clock, or none; days are those of the open, a "
        "close at or before it crosses midnight",
        "--sessions")] = ()
    calendar: Annotated[str, Fact("exchange", "", "code of a listed exchange (ISO 10383) whose opens, closes and "
                                  "holidays replace the sessions", "--exchange")] = Field("", max_length=24)
    closed: Annotated[tuple[str, ...], Fact("closed days", "", "without trading: 12-25 every year, 2024-03-29 once, or none",
                                            "--holidays")] = Field((), max_length=2000)
    price_digits: Annotated[int | None, Fact("price decimals", "decimals", "shown; as the tick needs when absent",
                                             "--price-decimals", hint="empty: as the tick needs")] = Field(None, ge=0, le=10)

    @model_validator(mode="before")
    @classmethod
    def _upgrade(cls, data: Any) -> Any:
        # A file of version 1 lacks only fields that have defaults.
        return data | {"version": 2} if isinstance(data, dict) and data.get("version") == 1 else data

    @field_validator("tick_size")
    @classmethod
    def _tick(cls, value: float) -> float:
        if not 1e-10 <= value <= 1e9:
            raise ValueError("the tick must lie between 0.0000000001 and 1,000,000,000")
        return value

    @field_validator("closed")
    @classmethod
    def _closed(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        for day in value:
            try:
                if not CLOSED_DAY.match(day):
                    raise ValueError
                dt.date.fromisoformat(day if len(day) > 5 else f"2024-{day}")
            except ValueError:
                raise ValueError(f'"{day}" is not a day like 12-25 or 2024-03-29') from None
        return tuple(sorted(set(value)))

    @field_validator("time_zone")
    @classmethod
    def _zone(cls, value: str) -> str:
        return known_zone(value)

    @model_validator(mode="after")
    def _sessions_apart(self) -> Terms:
        week = 7 * MINUTES_A_DAY
        spans = []
        for rule in self.sessions:
            for day in rule.days:
                base = WEEKDAYS.index(day) * MINUTES_A_DAY
                spans.append((base + rule.open_minute, base + rule.close_minute))
        spans.sort()
        for (_, end), (start, _) in zip(spans, [*spans[1:], *((a + week, b + week) for a, b in spans[:1])]):
            if end > start and len(spans) > 1:
                raise ValueError("two sessions of the weekly schedule overlap")
        return self

    @property
    def zone(self) -> ZoneInfo:
        return ZoneInfo(self.time_zone)

    @property
    def scheduled(self) -> bool:
        """Whether it is known when this market trades."""
        return bool(self.sessions or self.calendar)

    def identity(self) -> str:
        """The terms as text for hashes; fields that came later do not count while they stand at their defaults."""
        later = at_default(self) | ({"conversion_market", "conversion_inverse"} if not self.conversion_market else set())
        return self.model_dump_json(exclude=later)

    @property
    def tick_fraction(self) -> Fraction:
        """The tick as the exact decimal the user wrote, so that 1.10005 is on the grid or it is not."""
        return Fraction(repr(self.tick_size))

    @property
    def pip_ticks(self) -> int:
        """Ticks in a pip of a currency pair: 10 where it is quoted in tenths of a pip (3 or 5 decimals), 1 with 2 or 4, else
        0. Common practice, no source."""
        if self.kind != "currency pair":
            return 0
        return {3: 10, 5: 10, 2: 1, 4: 1}.get(self.digits, 0)

    @property
    def tick_value(self) -> float:
        """Quote money for one tick on one contract."""
        return self.tick_size * self.point_value

    @property
    def digits(self) -> int:
        """Decimals prices are written with: as told, else what the tick grid needs."""
        if self.price_digits is not None:
            return self.price_digits
        text = format(self.tick_size, ".10f").rstrip("0")
        return len(text.split(".")[1])

    def __repr__(self) -> str:
        return (f"Terms({self.code}, {self.kind}: tick {self.tick_size:g} worth {self.tick_value:g} {self.quote_currency}, "
                f"{'sessions as scheduled' if self.scheduled else 'no sessions'})")

    def format_price(self, price: float) -> str:
        return f"{price:,.{self.digits}f}".replace("-", "\u2212")


def terms_told(before: Terms, after: Terms) -> tuple[str, ...]:
    """Which of ASSUMABLE differ between two states of a market's terms: somebody has said them."""
    told = {d.fact.term for d in term_facts() if d.of(before) != d.of(after)}
    return tuple(name for name in ASSUMABLE if name in told)


def term_facts() -> tuple[Declared, ...]:
    """The declared list of contract terms, those of commission, financing and margin in their places."""
    return declared(Terms)


def load_terms(path: Path) -> Terms:
    """Read contract terms from a JSON file (docs/market-file.md)."""
    data = read_json(path, "market file")
    try:
        return Terms.model_validate(data)
    except ValidationError as err:
        raise explain(err, str(path)) from None
