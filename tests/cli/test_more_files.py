"""Further forms of files, by `new` and by `import`: all terms are the truth, or a fair question, or a sentence and nothing
kept."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from tests.cli.test_own_files import WORTH, call, schedule
from tests.corpus.more import CASES, Case, rows, text
from tests.corpus.truth import Truth, truth
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


def test_months_are_joined_listed_and_never_tested_alone(tmp_path: Path) -> None:
    case = CASES["contract months"](tmp_path)
    folder = tmp_path / "own"
    call("new", folder, "--from", *case.paths, "--point-value", 10)
    project = Project(folder)
    project.sources.activate("PW", "M19")
    project.close()
    alone = call("backtest", "-p", folder, "--template", "Trend cross", "-m", "PW", code=1)
    assert "contract months that are not joined" in alone
    assert "wolbrin join -m PW" in alone
    assert "are not joined" not in call("join", "-p", folder, "-m", "PW", "--list")
    dates = tmp_path / "rolls.csv"
    dates.write_text("month,first\nM19,2019-03-04\nU19,2019-06-03\nZ19,2019-09-02\n")
    expiries = tmp_path / "expiries.csv"
    expiries.write_text("\n".join(f"{m},{d}" for m, d in (("H19", "2019-03-15"), ("M19", "2019-06-14"), ("U19",
                                                                                                         "2019-09-13"))))
    for options, first, note in ((("--roll", dates), "2019-03-04", ""), (("--roll", "days:3"), "2019-03-14",
                                                                         "counted from the last"),
                                 (("--roll", "days:3", "--expiries", expiries), "2019-03-12", ""),
                                 (("--adjust", "ratio"), "2019-03-14", "fall between ticks"), (("--adjust", "none"),
                                                                                               "2019-03-14", "")):
        made = call("join", "-p", folder, "-m", "PW", *options, "--json")
        assert made["joined"][0]["rolls"][0]["time"][:10] == first, options
        assert note in " ".join(made["notes"])
        assert made["tested_on"] == "continuous"
    for options, words in ((("--roll", "soon"), "no way to roll"), (("--adjust", "up"),
                                                                                                           "not known"),
                           (("--months", "X19"), "no contract month X19"), (("--roll", tmp_path / "no.csv"),
                                                                            "cannot be read")):
        assert words in call("join", "-p", folder, "-m", "PW", *options, code=1)
    call("backtest", "-p", folder, "--template", "Trend cross", "-m", "PW")


def test_zones_are_said_by_market_and_remembered_with_a_source(tmp_path: Path) -> None:
    """Several markets in one call, each in its own clock; more rows of a pair whose clock was said before are not asked
    again."""
    own, york = (truth(c) for c in ("PWR", "GRN"))
    files = [*text(tmp_path, rows(own, clock="Europe/Oslo"), "PWR.csv"),
             *text(tmp_path, rows(york, clock="America/New_York"), "GRN.csv")]
    answers = ("--zone", "PWR=Europe/Oslo", "--zone", "GRN=America/New_York", "--point-value", "10")
    call("new", tmp_path / "two", "--from", *files, *answers)
    for known in (own, york):
        check(tmp_path / "two", Case([], known))
    assert "twice" in call("new", tmp_path / "no", "--from", *files, "--zone", "UTC", "--zone", "UTC", code=1)
    whole = truth("EURSEK")
    parts = [Truth(whole.terms, whole.raw.take(part)) for part in (slice(0, 4000), slice(4000, 6000))]
    first, more = (text(tmp_path, rows(part, clock="America/New_York+7"), f"EURSEK {i}.csv") for i, part in enumerate(parts))
    call("new", tmp_path / "pair", "--from", *first, "--zone", "New York + 7")
    assert "Answer with --zone" in call("import", *more, "-p", tmp_path / "pair", "-m", "EURSEK", "--source", "other", code=1)
    call("import", *more, "-p", tmp_path / "pair", "-m", "EURSEK")
    check(tmp_path / "pair", Case([], Truth(whole.terms, whole.raw.take(slice(0, 6000)))))


def test_terms_are_set_said_before_and_refused_where_work_rests_on_them(tmp_path: Path) -> None:
    folder = tmp_path / "own"
    case = CASES["parquet, pandas index"](tmp_path)
    call("new", folder, "--from", *case.paths, "--point-value", 10)
    after = call("set", "-p", folder, "-m", "PWR", "--point-value", 50, "--tick", 0.25, "--currency", "usd", "--sessions",
                 "Mon-Fri 10:00-16:00 Europe/Oslo", "--holidays", "12-24,2019-05-17", "--margin", "1:20", "--lot", 0.5,
                 "--minimum-lot", 1, "--json")
    terms = after["terms"]["PWR"]
    assert (terms["point_value"], terms["quote_currency"]) == (50, "USD")
    assert (terms["margin"]["leverage"], terms["lot_step"]) == (20, 0.5)
    assert terms["closed"] == ["12-24", "2019-05-17"]
    assert any("multiplied by 5" in x for x in after["changes"])
    assert any("lie outside them" in x for x in after["changes"])
    assert after["assumed"]["PWR"] == ["slippage", "commission"], "each term for itself"
    call("sweep", "-p", folder, "-s", 1, "--vary", "fast=8,12", "--shuffles", 0, "--no-checks")
    refused = call("set", "-p", folder, "-m", "PWR", "--point-value", 20, code=1)
    assert "1 search" in refused
    assert "--spend" in refused
    call("set", "-p", folder, "-m", "PWR", "--point-value", 20, "--spend", "the specification says so")
    assert call("set", "-p", folder, "-m", "PWR", "--confirm", "--json")["assumed"]["PWR"] == []
    for options, words in ((("--point-value", 0.001), "a tick would be worth"), (("--margin", "lots"), "no margin"),
                           (("--zone", "Moon"), "time zone"), (("--holidays", "soon"), "not a day"), (("--kind", "bond"),
                                                                                                      "kind")):
        assert words in call("set", "-p", folder, "-m", "PWR", *options, "--spend", "x", code=1)


def test_own_indicators_are_listed_shown_and_confirmed(tmp_path: Path) -> None:
    folder = tmp_path / "own"
    call("new", folder, "--from", *CASES["parquet, pandas index"](tmp_path).paths, "--point-value", 10)
    assert "There is none" in call("own", "list", "-p", folder)
    (folder / "indicators").mkdir()
    (folder / "indicators" / "drift.py").write_text(
        "import numpy as np\n\n\ndef drift(close, *, length=20):\n"
        '    """Change of the close.\n\n    Turns: centered\n    """\n'
        "    out = np.full(len(close), np.nan)\n"
        "    out[length:] = close[length:] - close[:-length]\n    return out\n")
    listed = call("own", "list", "-p", folder, "--json")["own"]
    assert [(x["name"], x["state"]) for x in listed] == [("drift", "to be confirmed")]
    assert "def drift(close" in call("own", "show", "drift", "-p", folder)
    assert "May exactly this text run" in call("own", "confirm", "drift", "-p", folder, code=1), "nobody said yes"
    made = call("own", "confirm", "drift", "-p", folder, "--digest", listed[0]["digest"], "--json")
    assert made["confirmed"]
    assert call("own", "list", "-p", folder, "--json")["own"][0]["state"] == "confirmed"
    assert "no own indicator" in call("own", "show", "drifts", "-p", folder, code=1)


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
