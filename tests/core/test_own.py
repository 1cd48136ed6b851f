"""Own indicators: read without running, run only when confirmed, bounded, checked for look-ahead."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from tests.build import walk_bars
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError
from wolbrin.core.indicators.own import OwnIndicators, check_own, read_own, run_own, user_folder
from wolbrin.core.rules.script import parse_strategy

BARS = walk_bars(400, seed=2)
GOOD = '''import numpy as np

def drift(close, *, length=5):
    """Change of the close over so many bars.

    Turns: centered
    """
    out = np.full(len(close), np.nan)
    out[length:] = close[length:] - close[:-length]
    return out
'''


def file(tmp_path: Path, text: str) -> Path:
    folder = tmp_path / "indicators"
    folder.mkdir(exist_ok=True)
    path = folder / "drift.py"
    path.write_text(text)
    return path


def test_a_confirmed_indicator_trades_and_an_edit_asks_again(tmp_path: Path) -> None:
    path, own = file(tmp_path, GOOD), OwnIndicators(tmp_path)
    read = read_own(path)
    assert (read.name, read.inputs, dict(read.settings)) == ("drift", ("close",), {"length": 5.0})
    text = "name = 'x'\nlong_entry = crosses_above(own('drift', length=8), 0)\nstop = 2 * atr(14)\n"
    with pytest.raises(UserError, match="confirmed"):
        parse_strategy(text, own.known())
    with pytest.raises(UserError, match="not confirmed"):
        own.values("drift", read.digest, {}, BARS)
    assert own.confirm(read, BARS) > 5
    np.testing.assert_array_equal(own.values("drift", read.digest, {"length": 8}, BARS)[8:], BARS.close[8:] - BARS.close[:-8])
    mine = parse_strategy(text, own.known())
    plain = parse_strategy(text.replace("own('drift', length=8)", "momentum(8)"))
    ours = backtest(Prepared.of(BARS, own=own.values), mine, Brief())
    assert len(ours) > 3
    assert ours.fingerprint == backtest(BARS, plain, Brief()).fingerprint
    with pytest.raises(UserError, match="knows no own indicator"):
        backtest(BARS, mine, Brief())
    path.write_text(GOOD.replace("- close[:-length]", "- 0"))
    assert own.known() == {}
    assert len(backtest(Prepared.of(BARS, own=own.values), mine, Brief())) == len(ours), "the confirmed text is kept"
    with pytest.raises(UserError, match="changed since"):
        own.confirm(read, BARS)


def test_a_project_that_somebody_sends_runs_nothing_unasked(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever stands in its folder, confirmations included: they are the user's."""
    sender = OwnIndicators(tmp_path)
    read = read_own(file(tmp_path, GOOD))
    sender.confirm(read, BARS)
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "other user"))
    got = OwnIndicators(tmp_path)
    assert (tmp_path / "indicators/confirmed" / f"{read.digest}.py").is_file()
    assert got.known() == {}
    assert got.waiting() == ["drift"]
    with pytest.raises(UserError, match="not confirmed by you"):
        got.values("drift", read.digest, {}, BARS)
    read.path.write_text(GOOD.replace("close[:-length]", "2 * close[:-length]"))
    assert len(got.files()) == 2, "the text that was tested with waits beside the one that has changed"
    old = next(read_own(p) for p in got.files() if p.stem == read.digest)
    got.confirm(old, BARS)
    assert got.is_confirmed(read.digest)
    assert len(got.files()) == 1
    assert not got.is_confirmed("../" + read.digest)


@pytest.mark.parametrize(("body", "words"), [
    ("return np.append(close[1:], close[-1])", "looks ahead"), ("return close - close.mean()", "looks ahead"),
    ("return np.random.rand(len(close))", "second run"), ("return close[1:]", "shape"),
    ("return 1 / 0", "line 6.*ZeroDivision"),
    ("raise SystemExit", "SystemExit"), ("return np.ones(10**10)", "memory"), ("import os; os._exit(3)", "without a result"),
    ("return 'text'", "could not convert")])
def test_faults_are_sentences(tmp_path: Path, body: str, words: str) -> None:
    text = f'import numpy as np\n\n\ndef drift(close):\n    """It."""\n    {body}\n'
    with pytest.raises(UserError, match=words):
        check_own(read_own(file(tmp_path, text)), BARS)


def test_time_is_bounded(tmp_path: Path) -> None:
    read = read_own(file(tmp_path, 'def drift(close):\n    """It."""\n    while True: pass\n'))
    with pytest.raises(UserError, match="longer than 1 seconds"):
        run_own(read, {"close": BARS.close}, {}, [400], seconds=1)


@pytest.mark.parametrize(("text", "words"), [
    ("def f(close): return close", "no description"), ("x = 1", "0 public functions"), ("def f(", "not Python"),
    ('def f(price):\n    """It."""', "arrays named"), ('def f(close, *, n):\n    """It."""', "plain number"),
    ('def f(close, *, n=open("x")):\n    """It."""', "plain number"), ("def f(): pass\ndef g(): pass", "2 public")])
def test_reading_never_runs_and_names_what_is_missing(tmp_path: Path, text: str, words: str) -> None:
    marker = tmp_path / "ran"
    with pytest.raises(UserError, match=words):
        read_own(file(tmp_path, f"{text}\nopen({str(marker)!r}, 'w')\n" if text != "def f(" else text))
    assert not marker.exists()


def test_a_kept_file_that_was_changed_is_refused(tmp_path: Path) -> None:
    path, own = file(tmp_path, GOOD), OwnIndicators(tmp_path)
    read = read_own(path)
    own.confirm(read, BARS)
    kept = user_folder() / f"{read.digest}.py"
    kept.write_text(GOOD.replace("length:] = close", "length:] = 2 * close"))
    with pytest.raises(UserError, match="was changed"):
        own.values("drift", read.digest, {}, BARS)
    kept.write_text(GOOD)
    with pytest.raises(UserError, match="no setting wide"):
        own.values("drift", read.digest, {"wide": 2}, BARS)
    path.write_bytes(b"\xff\xfe not text")
    with pytest.raises(UserError, match="UTF-8"):
        read_own(path)
    assert own.known() == {}, "a file that cannot be read stops nothing"
    with pytest.raises(UserError, match="too short"):
        check_own(read, BARS.take(20))
