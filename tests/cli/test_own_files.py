"""From a file to a backtest by the command line, for every form of file; settings and strategies without the window."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from typer.testing import CliRunner

from tests.corpus.forms import FORMS, float_noise, write
from tests.corpus.truth import Truth, truth
from wolbrin.cli.main import build
from wolbrin.core.market.raw import Raw
from wolbrin.core.market.sessions import NS_A_DAY, session_table
from wolbrin.core.market.terms import Terms
from wolbrin.core.store.project import Project

WORTH = {"--point-value": "10"}  # of a future: no file shows it
APP = build(lambda *_: 0, lambda: Path("/nowhere"), list)


def call(*arguments: object, code: int = 0) -> Any:
    """Run a command in this process; its JSON where it gives some, else what it said."""
    made = CliRunner().invoke(APP, [str(a) for a in arguments])
    assert made.exit_code == code, (arguments, made.output, made.exception)
    return json.loads(made.stdout) if "--json" in arguments and made.stdout.strip() else made.output


def schedule(terms: Terms, raw: Raw) -> tuple[list[int], list[int]]:
    table = session_table(terms, int(raw.time[0]), int(raw.time[-1]))
    return table.open.tolist(), table.close.tolist()


def check_market(folder: Path, known: Truth, tolerance: float) -> None:
    """What is in the project is the truth: bars, interval, grid, kind, sessions as instants, holidays."""
    project = Project(folder)
    entry, want = project.market(known.terms.code), known.raw
    got = project.sources.raw(project.sources.get(entry.code, entry.source))
    project.close()
    assert got.interval == want.interval
    np.testing.assert_array_equal(got.time, want.time)
    for mine, theirs in zip(got.prices, want.prices):
        np.testing.assert_allclose(mine, theirs, rtol=tolerance)
    np.testing.assert_array_equal(got.volume, want.volume)
    assert entry.terms.point_value == (10.0 if known.terms.kind == "future" else 100_000.0)
    assert (entry.terms.tick_size, entry.terms.kind) == (known.terms.tick_size, known.terms.kind)
    assert schedule(entry.terms, want) == schedule(known.terms, want), "the same instants open and close"
    assert set(entry.terms.closed) == set(known.terms.closed)
    assert (entry.left_out, entry.bars) == (0, len(want))


@pytest.mark.parametrize("name", FORMS)
def test_every_form_goes_from_file_to_backtest(tmp_path: Path, name: str) -> None:
    """Reading gives bars, grid, zone, sessions and interval back exactly, or asks where the truth cannot be known; then one
    command gives a first result. Forms of files: common practice, no source."""
    form, whole = FORMS[name], truth(FORMS[name].market)
    paths = write(form, whole, tmp_path)
    known = Truth(whole.terms, whole.raw.take(form.rows))
    folder = tmp_path / "project"
    answers: list[str] = []
    asks = form.asks | ({} if known.terms.kind == "currency pair" else WORTH)
    if asks:
        for more in ((), ("--yes",)) if form.asks else ((),):
            asked = call("new", folder, "--from", *paths, *more, "--json", code=1)
            assert {q["option"] for q in asked["questions"]} == set(asks)
        assert not folder.exists(), "where it asks, nothing is made"
        answers = [x for k, v in asks.items() for x in (k, known.terms.time_zone if v == "market" else v)]
    made = call("new", folder, "--from", *paths, *answers, "--json")
    market = made["markets"][0]
    assert (market["code"], market["rows"], market["treated"]["bad_rows"]) == (known.terms.code, len(known.raw), 0)
    assert all(g["why"] and not g["asks"] for g in market["guesses"])
    check_market(folder, known, 1e-7 if form.number is float_noise else 1e-14)
    spans = [np.datetime64(made["spans"][k]).astype(int) for k in ("training_first", "holdout_first", "last")]
    assert spans == sorted(spans)
    days = np.unique(known.raw.time // NS_A_DAY)
    assert 0.6 < np.mean(days < spans[1]) < 0.73, "about two thirds are trained on"
    assert market["treated"]["off_grid"] == 0 or "noise" in name
    run = call("backtest", "-p", folder, "-s", made["strategy"], "--json")
    assert run["ledger"]["number"], "a first result with trades"
    assert run["record"]["costs_assumed"] is True
    assert sum(run["ledger"]["slippage"]) > 0


def test_several_markets_convert_each_other_and_share_one_border(tmp_path: Path) -> None:
    """A pair converts the account's money for the market quoted in it; the later history keeps the border."""
    folder = tmp_path / "own"
    one, two = (truth(c) for c in ("GRN", "EURSEK"))
    files = [*write(FORMS["New York in UTC"], one, tmp_path), *write(FORMS["currency pair in UTC"], two, tmp_path)]
    made = call("new", folder, "--from", *files, "--holdout", "25%", "--currency", "EUR", "--capital", 80000, "--point-value",
                "GRN=10", "--json")
    assert {m["code"]: m["terms"]["conversion_market"] for m in made["markets"]} == {"GRN": "", "EURSEK": "EURSEK"}
    late = write(FORMS["one-minute bars"], truth("LWH"), tmp_path)
    took = call("import", *late, "-p", folder, "-m", "LWH", "--point-value", 10, "--json")
    assert any("on or after" in r or "not before" in r or "only" in r for r in took["remarks"]), took["remarks"]
    project = Project(folder)
    assert str(project.settings.holdout_first) == made["spans"]["holdout_first"]
    assert project.settings.capital == 80000
    assert set(project.settings.assumed) == {"GRN", "EURSEK", "LWH"}
    assert "point value" not in project.settings.assumed_of("GRN"), "it was said"
    project.close()
    assert "already" in call("new", folder, "--from", *late, code=1)


def test_spans_capital_costs_and_currency_are_set(tmp_path: Path) -> None:
    folder = tmp_path / "own"
    call("new", folder, "--from", *write(FORMS["iso, UTC told"], truth("PWR"), tmp_path), "--point-value", 10)
    after = call("set", "-p", folder, "--holdout", "40%", "--capital", 70_000, "--currency", "nok", "--json")
    assert (after["capital"], after["currency"]) == (70_000, "NOK")
    after = call("set", "-p", folder, "-m", "PWR", "--spread", 2, "--commission", 3.5, "--slippage", 1, "--json")
    assert after["assumed"]["PWR"] == ["quote currency", "lots", "margin"], "only what was set is no longer assumed"
    assert (after["costs"]["PWR"]["spread_ticks"], after["costs"]["PWR"]["per_contract"]) == (2, 3.5)
    run = call("backtest", "-p", folder, "--template", "channel", "-m", "PWR", "--json")
    assert run["record"]["costs_assumed"] is False
    assert run["record"]["capital"] == 70_000
    for arguments, words in (
            (("--capital", -5), "must be greater than 0"),
            (("--holdout", "2031-01-01", "--last", "2032-01-01"), "lies outside the data"),
            (("--holdout", "most"), "is not a date"), (("--spread", 1), "costs belong to a market"),
            (("--tick", 1), "belong to a market"),
            (("--training-first", "2021-01-01"), "training span must begin before")):
        assert words in call("set", "-p", folder, *arguments, code=1)
    call("sweep", "-p", folder, "-s", "1", "--vary", "slow=20:40:10", code=1)


def test_strategies_are_added_listed_shown_and_exported(tmp_path: Path) -> None:
    folder = tmp_path / "own"
    call("new", folder, "--from", *write(FORMS["iso, UTC told"], truth("PWR"), tmp_path), "--point-value", 10)
    formula = "name = 'Mine'\nlong_entry = crosses_above(close, sma(20))\nstop = 2 * atr(14)\n"
    added = call("strategy", "add", "-p", folder, "--formula", formula, "--json")
    assert (added["name"], added["market"], added["interval"]) == ("Mine", "PWR", "15 min")
    call("strategy", "add", "-p", folder, "--template", "Opening range", "-i", 30)
    assert [s["name"] for s in call("strategy", "list", "-p", folder, "--json")["strategies"]][-2:] == ["Mine",
                                                                                                        "Opening range"]
    for ending, text in (("json", ()), ("txt", ("--text",))):
        file = tmp_path / f"mine.{ending}"
        call("strategy", "export", "Mine", file, "-p", folder, *text)
        again = call("strategy", "add", file, "-p", folder, "--json")
        assert again["hash"] == added["hash"], "what is exported comes back the same"
    assert "SMA(20)" in call("strategy", "show", "Mine", "-p", folder)
    assert "there is no template" in call("strategy", "add", "-p", folder, "--template", "Nothing", code=1)
    assert "comes from one of three" in call("strategy", "add", "-p", folder, code=1)


def test_a_failing_start_leaves_nothing(tmp_path: Path) -> None:
    for name, text, words in (("A.csv", "time,open,high,low,close\n2020-01-02 10:00,1,1,1,1\n", "one bar does not tell"),
                              ("B.csv", "no,table\n", "no"), ("C.csv", "", "empty")):
        (tmp_path / name).write_text(text)
        assert words in call("new", tmp_path / "p", "--from", tmp_path / name, "--yes", code=1)
        assert not (tmp_path / "p").exists()
    path = write(FORMS["iso, UTC told"], truth("PWR"), tmp_path)[0]
    for option, value, words in (("--exchange", "XXXX", "no exchange"), ("--zone", "Moon", "time zone"),
                                 ("--sessions", "Mon-Fri late", "is not a session"), ("--holdout", "99%", "share"),
                                 ("--market", "Ä Ö", "")):
        assert words in call("new", tmp_path / "p", "--from", path, option, value, code=1)
        assert not (tmp_path / "p").exists()


def test_an_exchange_gives_zone_sessions_and_holidays(tmp_path: Path) -> None:
    """Stamps in the exchange's own clock need no question where it is named."""
    path = write(FORMS["iso, no zone, market's clock"], truth("PWR"), tmp_path)
    made = call("new", tmp_path / "p", "--from", *path, "--exchange", "XETR", "--point-value", 10, "--json")
    assert (made["markets"][0]["terms"]["calendar"], made["markets"][0]["layout"]["zone"]) == ("XETR", "Europe/Berlin")
