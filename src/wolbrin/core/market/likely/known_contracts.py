"""Futures that are known by the code they trade under: tick, point value, currency.

Facts of contract specifications as exchanges publish them; values from memory, and common practice. A code counts only where
the tick of the prices agrees with it.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

# code: tick, point value, currency
_LINES = """
ES 0.25 50 USD;MES 0.25 5 USD;NQ 0.25 20 USD;MNQ 0.25 2 USD;YM 1 5 USD;MYM 1 0.5 USD;RTY 0.1 50 USD;M2K 0.1 5 USD
CL 0.01 1000 USD;MCL 0.01 100 USD;QM 0.025 500 USD;NG 0.001 10000 USD;RB 0.0001 42000 USD;HO 0.0001 42000 USD
BZ 0.01 1000 USD;GC 0.1 100 USD;MGC 0.1 10 USD;SI 0.005 5000 USD;HG 0.0005 25000 USD;PL 0.1 50 USD;PA 0.5 100 USD
ZB 0.03125 1000 USD;UB 0.03125 1000 USD;ZN 0.015625 1000 USD;ZF 0.0078125 1000 USD;ZT 0.00390625 2000 USD
ZC 0.25 50 USD;ZW 0.25 50 USD;ZS 0.25 50 USD;ZM 0.1 100 USD;ZL 0.01 600 USD;KE 0.25 50 USD;ZO 0.25 50 USD
LE 0.025 400 USD;HE 0.025 400 USD;GF 0.025 500 USD
6E 0.00005 125000 USD;6B 0.0001 62500 USD;6A 0.00005 100000 USD;6C 0.00005 100000 USD;6S 0.00005 125000 USD
6J 0.0000005 12500000 USD;6N 0.00005 100000 USD;M6E 0.0001 12500 USD
FDAX 1 25 EUR;FDXM 1 5 EUR;FESX 1 10 EUR;FGBL 0.01 1000 EUR;FGBM 0.01 1000 EUR;FGBS 0.005 1000 EUR;FGBX 0.02 1000 EUR
FOAT 0.01 1000 EUR;FBTP 0.01 1000 EUR
"""
MONTH_OF = re.compile(r"^([A-Z0-9]{1,4}?)[-_ ]?[FGHJKMNQUVXZ](?:\d{1,2}|\d{4})$")
NEAREST = re.compile(r"^([A-Z0-9]*[A-Z])[-_ ]?\d{1,2}$")
MOST_COARSER = 4  # a short file may show every second or fourth tick alone


@dataclass(frozen=True)
class KnownContract:
    """code: the root it trades under. tick: price step. point_value: `currency` for a move of 1.00 on one contract."""

    code: str
    tick: float
    point_value: float
    currency: str


KNOWN = {c.code: c for c in (KnownContract(a, float(b), float(v), m) for a, b, v, m in (
    entry.split() for entry in _LINES.replace("\n", ";").split(";") if entry.strip()))}


def known_contract(code: str) -> KnownContract | None:
    """The contract of a code such as "ES", "ESH4", "ES_H2024" or "ES1" (the nearest month); None where it is not known."""
    wanted = code.strip().upper()
    for text in (wanted, *(m[1] for p in (MONTH_OF, NEAREST) if (m := p.match(wanted)))):
        if text in KNOWN:
            return KNOWN[text]
    return None


def agrees(known: KnownContract, tick: float) -> bool:
    """Whether prices that move by `tick` may be those of a contract: by its tick, or a few of them."""
    times = tick / known.tick
    return abs(times - round(times)) < 1e-6 and 1 <= round(times) <= MOST_COARSER
