"""What kind of market it is, in which currency, and starting values for what it is worth and costs. What a file cannot show
is marked: check with your broker."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from wolbrin.core.market.findings import Answer, Finding
from wolbrin.core.market.likely.grid import plain
from wolbrin.core.market.likely.known_contracts import KnownContract, agrees, known_contract
from wolbrin.core.market.likely.spread import pip_of
from wolbrin.core.market.raw import Raw

# ISO 4217 codes of currencies that are traded, from the standard's list of active codes (from memory), with gold and silver.
_CODES = (
    "AED ARS AUD BGN BHD BRL CAD CHF CLP CNH CNY COP CRC CZK DKK EGP EUR GBP GEL HKD HUF IDR ILS INR ISK JOD JPY KES KRW "
    "KWD KZT LKR MAD MXN MYR NGN NOK NZD OMR PEN PHP PKR PLN QAR RON RSD RUB SAR SEK SGD THB TND TRY TWD UAH USD UYU VND "
    "XAG XAU XPD XPT ZAR")
CURRENCIES = frozenset(_CODES.split(" "))
CHECK = "A common starting value; check with your broker."
WORTHS = (1.0, 2.0, 5.0, 10.0, 20.0, 25.0, 50.0, 100.0, 250.0, 500.0, 1000.0)  # point values to choose among
LOT_OF = {"XAU": 100.0, "XAG": 5_000.0, "XPT": 100.0, "XPD": 100.0}  # troy ounces; common practice, from memory
LOTS, MARGIN = "lots", "margin"


@dataclass(frozen=True)
class Kind:
    """kind, quote currency and starting values, with the findings that say why. assumed: terms that no file shows and nobody
    has said, as `market.terms.ASSUMABLE` calls them."""

    kind: str
    quote: str
    values: dict[str, object]
    findings: tuple[Finding, ...]
    assumed: tuple[str, ...]


@dataclass(frozen=True)
class Told:
    """What the user has said of a market's terms; None where nothing. spread: ticks that the file itself shows."""

    kind: str | None = None
    point_value: float | None = None
    quote: str | None = None
    spread: float | None = None


def pair_of(name: str) -> tuple[str, str] | None:
    """The two currencies that a code names, or None."""
    found = re.search(r"(?<![A-Za-z])([A-Za-z]{3})[ /_.-]?([A-Za-z]{3})(?![A-Za-z])", name)
    if not found:
        return None
    base, quote = found[1].upper(), found[2].upper()
    return (base, quote) if {base, quote} <= CURRENCIES and base != quote else None


def find_kind(code: str, raw: Raw, tick: float, currency: str, told: Told = Told()) -> Kind:
    """Kind and starting values from a code, the grid of prices and volume. The point value of a future is that of a known
    contract or asked for: prices do not show it.

    Args:
        raw: rows to learn from. tick: the price step. currency: of the account.
    """
    pair = pair_of(code)
    price = float(np.median(np.abs(raw.close[-2000:]))) or 1.0
    volume = bool((raw.volume > 0).mean() > 0.2)
    known = known_contract(code) if pair is None and told.kind in (None, "future") else None
    other = known is not None and not agrees(known, tick)
    known = None if other else known
    traded = known is not None or volume or raw.open_interest is not None
    kind = told.kind or ("currency pair" if pair else "future" if traded else "index")
    why = ("As you said." if told.kind else f"Its code names two currencies, {pair[0]} and {pair[1]} (ISO 4217)." if pair else
           f"{known.code} is a contract known by its code." if known else
           f"Its code names no two currencies, and its bars have {'volume' if volume else 'no volume'}.")
    found = [Finding("kind", kind, why, bool(told.kind or pair or known))]
    quote = told.quote or (pair[1] if pair else known.currency if known else currency)
    sure = bool(told.quote or pair or known)
    found.append(Finding("quote currency", quote, "As you said." if told.quote else "The second currency of its code." if pair
                         else f"As {known.code} is quoted. {CHECK}" if known else f"Taken as the account's. {CHECK}", sure))
    assumed = [] if sure else ["quote currency"]
    worth, about = _worth(kind, known, tick, told.point_value, code if other else "", quote, pair[0] if pair else "")
    found.append(about)
    if not about.sure and not about.ask:
        assumed.append("point value")
    values = _starting(kind, worth, price, tick)
    fee = values.get("commission")
    assumed += [LOTS, MARGIN, "slippage", *(["commission"] if fee else [])]
    parts = [] if not isinstance(fee, dict) else [
        f"a commission of {fee['percent']:g}%" if "percent" in fee else
        f"a commission of {fee['per_contract']:g} a contract and side"]
    if told.spread is not None:
        values["spread_ticks"] = told.spread
        parts.append(f"the file's spread of {told.spread:g} ticks")
    elif "spread_ticks" in values:
        assumed.append("spread")
        parts.append(f"a spread of {values['spread_ticks']:g} ticks" + (" (one pip)" if kind == "currency pair" else ""))
    found.append(Finding("costs", f"{' and '.join(parts)} and 1 tick of slippage", "Assumed until you set your own.", False))
    return Kind(kind, quote, {"point_value": worth, **values}, tuple(found), tuple(assumed))


def _worth(kind: str, known: KnownContract | None, tick: float, said: float | None, other: str,
           quote: str, base: str) -> tuple[float, Finding]:
    """The point value, and how it is known. other: a code that is known with another tick."""
    if said is not None:
        return said, Finding("point value", plain(said).rstrip("."), "As you said.")
    if kind == "currency pair":
        lot = LOT_OF.get(base, 100_000.0)
        of = f"{lot:,.0f} {'ounces of it' if base in LOT_OF else 'of its first currency'}"
        why = f"One lot is {of}. Common practice; check with your broker."
        return lot, Finding("point value", plain(lot).rstrip("."), why, base not in LOT_OF)
    if known is not None:
        why = f"As {known.code} has it, whose tick is {plain(known.tick)}. {CHECK}"
        return known.point_value, Finding("point value", plain(known.point_value).rstrip("."), why)
    if kind != "future":
        return 1.0, Finding("point value", "1", f"One unit of money a point, as one share or one contract for difference has "
                            f"it. {CHECK}", False)
    why = (f"{other} is known with another tick, so these are prices of another contract. " if other else "")
    answers = tuple(Answer(plain(v).rstrip("."), f"a tick of {plain(tick).rstrip('.')} is worth "
                           f"{plain(round(v * tick, 8)).rstrip('.')} {quote}") for v in WORTHS)
    why += ("What a move of 1.00 is worth on one contract stands in its specification and in no prices. Where these are "
            "shares or an index, say its kind instead.")
    return 1.0, Finding("point value", "?", why, False, True, "--point-value", answers)


def _starting(kind: str, worth: float, price: float, tick: float) -> dict[str, object]:
    """Lots, margin and costs to begin with."""
    if kind == "currency pair":
        return {"lot_step": 0.01, "minimum_lot": 0.01, "margin": {"leverage": 30.0},
                "spread_ticks": round(pip_of(tick, True) / tick, 1), "slippage_ticks": 1.0}
    values: dict[str, object] = {"lot_step": 1.0, "minimum_lot": 1.0, "slippage_ticks": 1.0}
    if kind == "future":
        notional = worth * price
        return values | {"commission": {"per_contract": max(0.01, round(min(2.5, 2e-5 * notional), 2))},
                         "margin": {"per_contract": max(0.01, round(0.05 * notional, 2))}}
    if kind == "index":
        return values | {"spread_ticks": 2.0, "margin": {"leverage": 20.0}}
    return values | {"commission": {"percent": 0.05}}
