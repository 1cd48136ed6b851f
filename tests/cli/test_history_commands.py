"""`wolbrin new`, `import` and `quality` on the files that ship with the demo."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.cli.test_cli import FILES, result, wolbrin


@pytest.fixture
def own(tmp_path: Path) -> Path:
    folder = tmp_path / "own"
    wolbrin("new", folder)
    return folder


def test_a_project_grows_from_the_command_line(own: Path, tmp_path: Path) -> None:
    """The dirty file with its bad rows, its faults, bars by activity out of it, and a backtest on daily bars."""
    bad = tmp_path / "bad.csv"
    result("set", "-p", own, "--holdout", "2022-07-02")
    took = result("import", FILES / "cob-dirty.csv.gz", "-p", own, "-m", FILES / "market-cob.json", "--source", "desk",
                  "--zone", "Europe/Oslo", "--bad", bad)
    assert (took["market"], took["source"], took["taken"], took["bad"]) == ("COB", "desk", 10_568, 4)
    assert took["interval"] == "5 min"
    assert len(bad.read_text().splitlines()) == 5
    found = result("quality", "-p", own, "-m", "COB")
    counts = {f["key"]: f["bars"] for f in found["findings"]}
    assert (counts["spikes"], counts["flat"], counts["repeated"], counts["days"]) == (4, 14, 2, 1)
    assert 80 < found["score"] < 90
    assert all(p["time"].endswith("Z") for f in found["findings"] for p in f["places"])
    told = wolbrin("quality", "-p", own, "-m", "COB", "--treated").stdout
    assert "missing days" in told
    assert "repeated" not in told
    again = result("import", FILES / "cob-dirty.csv.gz", "-p", own, "-m", "COB", "--source", "desk", "--zone",
                   "Europe/Oslo")
    assert again["taken"] == 10_568
    for interval in ("daily", "200t", "60"):
        run = result("backtest", "-p", own, "-s", FILES / "strategy-tern.json", "-m", "COB", "-i", interval,
                     "--from", "2021-02-01")
        assert run["record"]["market"] == "COB"
    assert run["record"]["interval"] == 60


def test_contract_months_and_ticks(own: Path) -> None:
    took = result("import", FILES / "npw-ticks.csv.gz", "-p", own, "-m", FILES / "market-npw.json")
    assert (took["taken"], took["interval"]) == (2_880, "1 min")
    months = result("import", FILES / "hfr-months.zip", "-p", own, "-m", "NPW", "--months", "--stamp", "open")
    assert months["taken"] == 4_158


@pytest.mark.parametrize(("arguments", "word"), [
    (("import", FILES / "npw-iso.csv", "-m", "N/W?", "--months"), 'no market "N/W?"'),
    (("import", FILES / "none.csv", "-m", FILES / "market-npw.json"), "does not exist"),
    (("import", FILES / "market-npw.json", "-m", FILES / "market-npw.json"), "this JSON mixes rows"),
    (("import", FILES / "npw-iso.csv", "-m", FILES / "market-npw.json", "--zone", "Moon"), "time zone"),
    (("import", FILES / "npw-iso.csv", "-m", FILES / "market-npw.json", "--stamp", "middle"), "stamp"),
    (("import", FILES / "npw-iso.csv", "-m", FILES / "market-npw.json", "--layout", "none"), 'no layout "none"'),
    (("quality", "-m", "NPW"), 'no market "NPW"'),
    (("backtest", "-s", FILES / "strategy-tern.json", "-m", "NPW", "-i", "soon"), "not a bar interval")])
def test_failures_are_sentences_and_nothing_is_kept(own: Path, arguments: tuple[object, ...], word: str) -> None:
    out = wolbrin(*arguments, "-p", own, code=1)
    assert word in out.stderr
    assert list((own / "history").iterdir()) == []


def test_a_second_project_in_a_folder_is_refused(own: Path) -> None:
    assert "a project in this folder already" in wolbrin("new", own, code=1).stderr
