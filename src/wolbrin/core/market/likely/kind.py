"""What kind of market it is, in which currency, and starting values for what it is worth and costs. What a file cannot show
is marked: check with your broker."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

import numpy as np

from wolbrin.core.market.findings import Finding
from wolbrin.core.market.likely.grid import plain
from wolbrin.core.market.raw import Raw

# ISO 4217 codes of currencies that are traded, from the standard's list of active codes (from memory), with gold and silver.
_CODES = (
    "AED ARS AUD BGN BHD BRL CAD CHF CLP CNH CNY COP CRC CZK DKK EGP EUR GBP GEL HKD HUF IDR ILS INR ISK JOD JPY KES KRW "
    "KWD KZT LKR MAD MXN MYR NGN NOK NZD OMR PEN PHP PKR PLN QAR RON RSD RUB SAR SEK SGD THB TND TRY TWD UAH USD UYU VND "
    "XAG XAU XPD XPT ZAR")
CURRENCIES = frozenset(_CODES.split(" "))
CHECK = "A common starting value; check with your broker."
STEPS = (1.0, 2.0, 2.5, 5.0)
TICK_MONEY, MOST_NOTIONAL = 10.0, 250_000.0


@dataclass(frozen=True)
class Kind:
    """kind, quote currency and starting values, with the findings that say why."""

    kind: str
    quote: str
    values: dict[str, object]
    findings: tuple[Finding, ...]


def pair_of(name: str) -> tuple[str, str] | None:
    """The two currencies that a code names, or None."""
    found = re.search(r"(?<![A-Za-z])([A-Za-z]{3})[ /_.-]?([A-Za-z]{3})(?![A-Za-z])", name)
    if not found:
        return None
    base, quote = found[1].upper(), found[2].upper()
    return (base, quote) if {base, quote} <= CURRENCIES and base != quote else None


def _round_step(value: float) -> float:
    """The nearest of 1, 2, 2.5 and 5 times a power of ten."""
    power = 10.0 ** math.floor(math.log10(value))
    return float(plain(min((m * p for p in (power, power * 10) for m in STEPS), key=lambda s: abs(math.log(s / value)))))


def find_kind(code: str, raw: Raw, tick: float, currency: str, kind: str | None = None,
              quoted_spread: float | None = None) -> Kind:
    """Kind and starting values from a code, prices and volume.

    Args:
        raw: rows to learn from. tick: the price step. currency: of the account. kind: where the user has said it.
        quoted_spread: median distance of bid and ask where the file has both, in price.
    """
    pair = pair_of(code)
    price = float(np.median(np.abs(raw.close[-2000:]))) or 1.0
    volume = bool((raw.volume > 0).mean() > 0.2)
    if kind is None:
        kind = "currency pair" if pair else "future" if volume or raw.open_interest is not None else "index"
        if pair:
            why = f"Its code names two currencies, {pair[0]} and {pair[1]} (ISO 4217)."
        else:
            why = f"Its code names no two currencies, and its bars have {'volume' if volume else 'no volume'}."
        found = [Finding("kind", kind, why, pair is not None)]
    else:
        found = [Finding("kind", kind, "As you said.")]
    quote = pair[1] if pair else currency
    found.append(Finding("quote currency", quote, "The second currency of its code." if pair else
                         f"Taken as the account's. {CHECK}", pair is not None))
    ticks = None if quoted_spread is None else max(0.0, round(quoted_spread / tick, 1))
    values: dict[str, object]
    if kind == "currency pair":
        worth, lot = 100_000.0, 0.01
        decimals = len(plain(tick).split(".")[1]) if "." in plain(tick) and not plain(tick).endswith(".") else 0
        spread = 10.0 if decimals in (3, 5) else 1.0
        values = {"point_value": worth, "lot_step": lot, "minimum_lot": lot, "margin": {"leverage": 30.0},
                  "spread_ticks": spread, "slippage_ticks": 1.0}
        costs = f"a spread of {spread:g} ticks (one pip) and 1 tick of slippage"
    else:
        worth = _round_step(min(TICK_MONEY / tick, MOST_NOTIONAL / price) if kind == "future" else min(
            1.0 if price > 500 else 10.0, MOST_NOTIONAL / price))
        notional = worth * price
        values = {"point_value": worth, "lot_step": 1.0, "minimum_lot": 1.0, "slippage_ticks": 1.0}
        if kind == "future":
            fee = max(0.01, round(min(2.5, 2e-5 * notional), 2))
            margin = max(0.01, round(0.05 * notional, 2))
            values |= {"commission": {"per_contract": fee}, "margin": {"per_contract": margin}}
            costs = f"a commission of {fee:g} a contract and side and 1 tick of slippage"
        elif kind == "index":
            values |= {"spread_ticks": 2.0, "margin": {"leverage": 20.0}}
            costs = "a spread of 2 ticks and 1 tick of slippage"
        else:
            values |= {"commission": {"percent": 0.05}}
            costs = "a commission of 0.05% and 1 tick of slippage"
    if ticks is not None and ticks > 0:
        values["spread_ticks"] = ticks
        costs = f"a spread of {ticks:g} ticks, the median of bid and ask in the file, and 1 tick of slippage"
    found.append(Finding("point value", plain(worth).rstrip("."), CHECK, False))
    found.append(Finding("costs", costs, "Assumed until you set your own.", False))
    return Kind(kind, quote, values, tuple(found))
