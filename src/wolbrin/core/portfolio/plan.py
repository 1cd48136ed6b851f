"""What a portfolio is: its members, how much of each, and the account they trade on. A file of its own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, field_validator, model_validator

from wolbrin.core.engine.account import DailyLimit, Resize
from wolbrin.core.errors import UserError
from wolbrin.core.market.costs import Costs
from wolbrin.core.market.terms import known_zone
from wolbrin.core.models import Model, Name
from wolbrin.core.portfolio.limits import Limits
from wolbrin.core.rules.model import Strategy

Floats = NDArray[np.float64]
MOST_MEMBERS = 500


class LossLimit(Model):
    """A loss in a day, from which on all is closed and nothing entered until the next date: money, or percent of the
    account."""

    amount: float = Field(gt=0, le=1e12)
    percent: bool = False

    def as_limit(self) -> DailyLimit:
        """As the simulator takes it."""
        return DailyLimit(self.amount, self.percent)


class Member(Model):
    """A strategy in a portfolio. candidate: its id on the Shelf, 0 where it is on none; hash, market, interval: what it is.
    share: of the whole; the shares of all that are on are made to sum to 1. contracts: fixed, instead of its share.
    priority: 1 takes capital and margin first. costs: own, else those of the project."""

    candidate: int = Field(0, ge=0, le=2**62)
    name: Name = Field(min_length=1, max_length=80)
    hash: str = Field(max_length=128)
    market: Name = Field(max_length=40)
    interval: int = Field(ge=-10**12, le=10**12)
    share: float = Field(1.0, ge=0, le=1e6)
    contracts: float | None = Field(None, gt=0, le=1e9)
    priority: int = Field(1, ge=1, le=1000)
    on: bool = True
    costs: Costs | None = None
    limit: LossLimit | None = None

    @property
    def key(self) -> tuple[str, str, int]:
        """What it is: rules, market, interval."""
        return self.hash, self.market, self.interval


class Plan(Model):
    """A portfolio. capital: of the account, None for the project's. one_account: all on one purse, else each on an account
    of its own whose capital is its share. size: how much is traded in all, in members at their own size; None for as many as
    there are. weights: the scheme its shares are from. resize: when sizes follow the account, by month or by `step` percent.
    tried: combinations it was chosen from."""

    format: Literal["wolbrin.portfolio"] = "wolbrin.portfolio"
    version: Literal[1] = 1
    name: Name = Field("Portfolio", min_length=1, max_length=80)
    members: tuple[Member, ...] = Field(max_length=MOST_MEMBERS)
    capital: float | None = Field(None, gt=0, le=1e12)
    one_account: bool = True
    size: float | None = Field(None, gt=0, le=1e6)
    weights: str = Field("equal", max_length=20)
    limits: Limits = Limits()
    resize: Literal["none", "monthly", "steps"] = "none"
    step: float = Field(10.0, gt=0, le=1000, description="percent")
    limit: LossLimit | None = None
    zone: str = Field("UTC", max_length=60)
    tried: int = Field(1, ge=1)

    @model_validator(mode="after")
    def _distinct(self) -> Plan:
        keys = [m.key for m in self.members]
        twice = next((m.name for m, k in zip(self.members, keys) if keys.count(k) > 1), None)
        if twice is not None:
            raise ValueError(f"{twice} is in it twice; give it a larger share instead")
        return self

    @field_validator("zone")
    @classmethod
    def _known(cls, name: str) -> str:
        return known_zone(name)

    @property
    def on(self) -> tuple[Member, ...]:
        """Members that trade."""
        return tuple(m for m in self.members if m.on)

    @property
    def split(self) -> Floats:
        """float64[n] shares of those that are on, summing to 1; zeros where none has one."""
        shares = np.array([m.share for m in self.on])
        return shares / shares.sum() if shares.sum() > 0 else np.zeros(len(shares))

    @property
    def shares(self) -> Floats:
        """As `split`, for what is to be traded.

        Raises:
            UserError: none is on, or none has a share.
        """
        if not self.on:
            raise UserError("a portfolio needs at least one strategy", "portfolio", "Select candidates first.")
        shares = self.split
        if not shares.any():
            raise UserError("no member has a share above zero", "portfolio", "Give one of them a share.")
        return shares

    @property
    def resizing(self) -> Resize | None:
        """When sizes follow the account, as the simulator takes it."""
        return None if self.resize == "none" else Resize(self.resize == "monthly", self.step / 100.0)

    def scales(self, strategies: Sequence[Strategy]) -> Floats:
        """float64[n]: by what the own size of each that is on is multiplied.

        strategies: theirs. Raises UserError: contracts are fixed for one whose size follows equity.
        """
        size = len(self.on) if self.size is None else self.size
        out = self.shares * size
        for at, (member, strategy) in enumerate(zip(self.on, strategies)):
            if member.contracts is not None:
                if strategy.sizing.kind != "fixed":
                    raise UserError(f"{member.name} sizes its trades by {strategy.sizing.kind}, so that it has no fixed "
                                    "number of contracts", "portfolio", "Give it a share, or change its sizing in Rules.")
                out[at] = member.contracts / strategy.quantity
        return out

    def with_shares(self, shares: Sequence[float], scheme: str) -> Plan:
        """Other shares for those that are on."""
        left = iter([float(s) for s in shares])
        members = tuple(m.model_copy(update={"share": next(left)}) if m.on else m for m in self.members)
        return self.model_copy(update={"members": members, "weights": scheme})

    def without(self, at: int) -> Plan:
        """The same, one of those that are on being off; the sizes of the others stay."""
        size = float(len(self.on)) if self.size is None else self.size
        gone = self.on[at]
        left = self.shares[at]
        members = tuple(m.model_copy(update={"on": False}) if m is gone else m for m in self.members)
        return self.model_copy(update={"members": members, "size": max(size * (1.0 - float(left)), 1e-12)})

    def with_member(self, member: Member, scale: float = 1.0) -> Plan:
        """The same and one more at `scale` of its own size; the sizes of the others stay."""
        size = float(len(self.on)) if self.size is None else self.size
        shares = iter(self.shares * size / (size + scale))
        members = tuple(m.model_copy(update={"share": float(next(shares))}) if m.on else m for m in self.members)
        more = member.model_copy(update={"share": scale / (size + scale), "on": True})
        return self.model_copy(update={"members": (*members, more), "size": size + scale})

    def words(self) -> str:
        """How it trades, in words."""
        account = "one account" if self.one_account else "an account for each"
        sizes = {"none": "sizes as they are", "monthly": "sizes follow the account by the month",
                 "steps": f"sizes follow the account in steps of {self.step:g}%"}[self.resize]
        return f"{account}, weights {self.weights}, {sizes}"


@dataclass(frozen=True)
class Whole:
    """What is asked of `size` in words: contracts of each at the capital. asked, whole: float64[n]."""

    asked: Floats
    whole: Floats

    @property
    def lost(self) -> float:
        """Share of what is asked that rounding takes; 0 where nothing is asked."""
        total = float(self.asked.sum())
        return 1.0 - float(self.whole.sum()) / total if total > 0 else 0.0
