"""Further forms of files, by `new` and by `import`: all terms are the truth, or a fair question, or a sentence and nothing
kept."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from tests.cli.test_own_files import WORTH, call, schedule
from tests.corpus.more import CASES, Case
from wolbrin.core.store.project import Project


def check(folder: Path, case: Case, source: str = "") -> None:
    """What is in the project is the truth: bars, interval, terms, sessions as instants and without phantom hours, rolls."""
    project, want = Project(folder), case.known.raw
    terms = case.known.terms
    code = "PW" if case.rolls else terms.code
    entry = project.market(code)
    got = project.sources.raw(project.sources.get(code, source or entry.source))
    kept = {s.name: s.interval for s in project.sources.of(code)}
    assumed, spread = project.settings.assumed_of(code), project.settings.costs_of(entry.terms).spread_ticks
    rolls = project.sources.get(code, entry.source).rolls
    project.close()
    assert (entry.terms.tick_size, entry.terms.kind, entry.terms.quote_currency) == (
        terms.tick_size, terms.kind, terms.quote_currency)
    assert entry.terms.point_value == terms.point_value or terms.kind == "currency pair"
    assert {n: i for n, i in kept.items() if n in dict(case.asides)} == dict(case.asides)
    if case.rolls:  # holidays of the sealed part are not learned
        terms = terms.model_copy(update={"closed": entry.terms.closed})
    assert schedule(entry.terms, want) == schedule(terms, want), "the same instants open and close"
    assert ("spread" not in assumed) if case.spread is not None or terms.kind == "future" else ("spread" in assumed)
    assert case.spread is None or spread == case.spread
    if case.rolls:
        assert [(r[1], r[2], r[3]) for r in rolls] == list(case.rolls)
        return
    assert (got.interval, len(got)) == (want.interval, len(want))
    np.testing.assert_array_equal(got.time, want.time)
    for mine, theirs in zip(got.prices, want.prices):
        np.testing.assert_allclose(mine, theirs, rtol=1e-7)


@pytest.mark.parametrize("name", CASES)
def test_every_delivery_is_read_rightly_asked_or_refused(tmp_path: Path, name: str) -> None:
    case = CASES[name](tmp_path)
    terms = case.known.terms
    asks = case.asks | ({} if terms.kind == "currency pair" else WORTH)
    whole, given = tmp_path / "new", [x for k, v in asks.items() for x in (k, v)]
    if case.refused:
        assert case.refused in call("new", whole, "--from", *case.paths, *given, "--yes", code=1)
        assert not whole.exists(), "nothing is taken in"
        return
    if asks:
        asked = call("new", whole, "--from", *case.paths, *case.options, "--yes", "--json", code=1)
        assert {q["option"] for q in asked["questions"]} == set(asks), "nothing is asked that the file answers"
        assert not whole.exists()
    made = call("new", whole, "--from", *case.paths, *case.options, *given, "--json")
    market = made["markets"][0]
    assert market["code"] == ("PW" if case.rolls else terms.code)
    assert market["read"].startswith(("15 min bars", "30 min bars", "60 min bars", "5 min bars"))
    check(whole, case)
    assert call("backtest", "-p", whole, "-s", made["strategy"], "--json")["ledger"]["number"], "a first result with trades"
    empty = tmp_path / "into"
    call("new", empty, "--currency", made["currency"])
    more = ("--months",) if case.rolls else ("--source", "first")
    call("import", *case.paths, "-p", empty, "-m", market["code"], *more, *case.options, *given, "--json")
    check(empty, case)
