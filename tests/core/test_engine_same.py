"""An engine whose code changed and whose bits did not stays the same engine, and so do the verdicts it gave."""

from __future__ import annotations

from tests.core.engine_bits import bits
from wolbrin.core.engine import codes as k
from wolbrin.core.engine.version import SAME, code_version, engine_version


def test_the_engine_of_today_is_listed_under_the_bits_it_gives() -> None:
    found, trades = bits()
    assert trades > 30_000
    assert found in SAME, f"the engine gives other bits than any listed ({found}): raise CONTRACT and list {code_version()}"
    assert code_version() in SAME[found], f"same bits, another code: add {code_version()} to what is listed under {found}"
    assert engine_version() == SAME[found][0]


def test_every_engine_stands_for_one_group() -> None:
    every = [one for known in SAME.values() for one in known]
    assert len(every) == len(set(every))


def test_a_fourth_kind_of_entry_would_be_no_exit() -> None:
    assert max(k.ENTRY.values()) + 1 < k.ENTRIES_END <= k.ORDER_EXIT
    assert k.ORDERS[k.ENTRIES_END - 1] == "", "room for more kinds of entry"
    assert k.ORDERS[k.ORDER_EXIT:] == ("exit", "stop", "target", "trail", "break even")
    assert [k.ORDERS[code] for code in k.ENTRY.values()] == ["market entry", "stop entry", "limit entry"]
