"""How a history file is laid out: what each column is, how times and numbers are written. Data, never code."""

from __future__ import annotations

from pathlib import Path
from typing import Literal, get_args

from pydantic import Field, ValidationError, field_validator, model_validator

from wolbrin.core.errors import UserError
from wolbrin.core.faults import explain
from wolbrin.core.market.zones import known_clock
from wolbrin.core.models import Model, Name, read_json

Role = Literal["skip", "time", "date", "clock", "open", "high", "low", "close", "volume", "price", "bid", "ask",
               "ask close", "spread", "open interest", "market"]
ROLES: tuple[str, ...] = get_args(Role)
BAR_ROLES = ("open", "high", "low", "close")
EPOCHS = {"epoch s": 10**9, "epoch ms": 10**6, "epoch us": 10**3, "epoch ns": 1}
MOST_COLUMNS = 256


class Layout(Model):
    """A named way to read a file.

    columns: the role of each column of the file; bars may have a close alone, which is all of their prices then. "ask close"
    and "spread" stand beside bars of bids and tell what trading them costs.
    time_format: "iso", one of EPOCHS, "spreadsheet days", or the codes of C strptime over the time, or the date, a space
    and the clock. stamp: whether a bar carries the time of its open or its close.
    minutes: the rows' own interval, None for the most common step. build: for tick files, minutes of the bars built.
    market: where a column names markets, the one that is read; empty takes every row.
    """

    format: Literal["wolbrin.layout"] = "wolbrin.layout"
    version: Literal[1] = 1
    name: Name = Field("", max_length=80)
    delimiter: str = Field(",", min_length=1, max_length=1)
    decimal: Literal[".", ","] = "."
    skip: int = Field(0, ge=0, le=10_000, description="lines before the header, or before the first row")
    header: bool = True
    columns: tuple[Role, ...] = Field(min_length=1, max_length=MOST_COLUMNS)
    time_format: str = Field("iso", min_length=1, max_length=60)
    fraction: Literal[0, 8, 32, 64] = Field(0, description="parts of one that stand after ' or - in a price; 0: decimals")
    zone: str = "UTC"
    stamp: Literal["open", "close"] = "open"
    minutes: int | None = Field(None, ge=1, le=1440)
    build: int = Field(1, ge=1, le=1440)
    market: str = Field("", max_length=60, description="of a market column: the only rows that are taken")

    @field_validator("zone")
    @classmethod
    def _zone(cls, value: str) -> str:
        return known_clock(value)

    @model_validator(mode="after")
    def _complete(self) -> Layout:
        roles = [r for r in self.columns if r != "skip"]
        twice = next((r for r in roles if roles.count(r) > 1), None)
        if twice:
            raise ValueError(f'two columns are read as "{twice}"')
        if "time" not in roles and "date" not in roles:
            raise ValueError("no column is read as time or date")
        if "clock" in roles and "date" not in roles:
            raise ValueError("a clock column needs a date column")
        if "time" in roles and "date" in roles:
            raise ValueError("there is a time column and a date column; read the clock column as clock")
        bars = [r for r in BAR_ROLES if r in roles]
        if self.ticks:
            if bars:
                raise ValueError(f"price, bid or ask make this a tick file, but there is a column {bars[0]} too")
        elif len(bars) < 4 and bars != ["close"]:
            lack = ", ".join(r for r in BAR_ROLES if r not in roles)
            raise ValueError(f"no column is read as {lack}")
        if self.delimiter == self.decimal:
            raise ValueError("the delimiter and the decimal sign are the same")
        return self

    @property
    def ticks(self) -> bool:
        """Whether rows are single ticks: a price, or bid and ask whose middle is the price."""
        return bool({"price", "bid", "ask"} & set(self.columns))

    def place(self, role: str) -> int | None:
        """The column of a role, or None."""
        return self.columns.index(role) if role in self.columns else None


def make_layout(values: dict[str, object], where: str = "layout") -> Layout:
    """A layout from plain values, or one sentence that says what is wrong with them."""
    try:
        return Layout.model_validate(values)
    except ValidationError as err:
        raise explain(err, where) from None


def load_layout(path: Path) -> Layout:
    """Read a layout from a JSON file."""
    data = read_json(path, "layout file")
    if not isinstance(data, dict):
        raise UserError("this is not a layout", str(path), "Choose a layout file.")
    return make_layout(data, str(path))
