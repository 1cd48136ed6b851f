"""Own indicators: read without running, run only when confirmed, bounded, checked for look-ahead."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from tests.build import walk_bars
from wolbrin.core.engine.brief import Brief
from wolbrin.core.engine.prepare import Prepared
from wolbrin.core.engine.run import backtest
from wolbrin.core.errors import UserError, WolbrinError
from wolbrin.core.indicators.own import OwnIndicators, check_own, read_own, run_own, user_folder
from wolbrin.core.indicators.own_run import shut_off
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
    ("raise SystemExit", "SystemExit"), ("return np.ones(10**10)", "memory"), ("import os; os._exit(3)", 'loads "os"'),
    ("return 'text'", "could not convert")])
def test_faults_are_sentences(tmp_path: Path, body: str, words: str) -> None:
    text = f'import numpy as np\n\n\ndef drift(close):\n    """It."""\n    {body}\n'
    with pytest.raises(UserError, match=words):
        check_own(read_own(file(tmp_path, text)), BARS)


def test_time_is_bounded(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    read = read_own(file(tmp_path, 'def drift(close):\n    """It."""\n    while True: pass\n'))
    with pytest.raises(UserError, match="longer than 1 seconds"):
        run_own(read, {"close": BARS.close}, {}, [400], seconds=1)
    monkeypatch.setattr("wolbrin.core.indicators.own_run.PATIENCE", 10**6)  # what it waited ends it, no other limit
    waits = read_own(file(tmp_path, "import contextlib\n\n\ndef drift(close):\n    \"\"\"It.\"\"\"\n"
                          "    lock = contextlib.contextmanager.__globals__['sys'].modules['_thread'].allocate_lock()\n"
                          "    lock.acquire()\n    lock.acquire()\n    return close\n"))
    with pytest.raises(UserError, match="longer than 2 seconds"):
        run_own(waits, {"close": BARS.close}, {}, [400, 400], seconds=2)


@pytest.mark.parametrize("body", [
    "if len(close) > LONG:\n        return np.append(close[1:], close[-1])\n    return close",
    "if length == 7:\n        return np.append(close[1:], close[-1])\n    return close",
    "if len(close) == LONG + 1:\n        return close - close.mean()\n    return close"])
def test_what_looks_ahead_only_on_long_histories_or_with_some_settings_is_found(tmp_path: Path, body: str) -> None:
    """At confirming where the history is long enough, else when it has grown; with settings when they are first used."""
    long = walk_bars(2_000, seed=3)
    text = f'import numpy as np\n\n\ndef drift(close, *, length=5):\n    """It."""\n    {body.replace("LONG", "1500")}\n'
    own = OwnIndicators(tmp_path)
    read = read_own(file(tmp_path, text))
    if "> LONG" in body:
        with pytest.raises(UserError, match="looks ahead"):
            own.confirm(read, long)
    own.confirm(read, long.take(1_500))
    np.testing.assert_array_equal(own.values("drift", read.digest, {"length": 5}, long.take(1_500)), long.close[:1_500])
    with pytest.raises(UserError, match="looks ahead"):
        own.values("drift", read.digest, {"length": 7.0}, long.take(1_501))


@pytest.mark.parametrize("default", ["1" * 400, "-" + "9" * 400, "1e999", "2 ** 99999999", "'5'", "10 ** 16"])
def test_no_default_of_a_setting_stops_the_reading(tmp_path: Path, default: str) -> None:
    """The function alone, and beside it a number that would be read for a date."""
    path = file(tmp_path, f'def drift(close, *, length={default}):\n    """It."""\n    return close\n')
    with pytest.raises(UserError, match="plain number"):
        read_own(path)
    assert OwnIndicators(tmp_path).known() == {}
    assert OwnIndicators(tmp_path).waiting() == []
    path.write_text(f'def drift(close):\n    """It."""\n    return close * {"7" * 400}\n')
    assert read_own(path).dates == ()


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


@pytest.mark.parametrize(("body", "words"), [
    ("return np.lib.stride_tricks.as_strided(close, shape=(10**12,))[10**11:][:len(close)] + 0",
     "ended by a segmentation fault after [0-9.]+ s"),
    ("return np.array(list(open))", "NameError"), ("return eval('close')", "NameError"),
    ("return np.loadtxt('/etc/hostname')", "OSError|FileNotFound|PermissionError"),
    ("np.save('/tmp/wolbrin-own', close); return close", "PermissionError|OSError"),
    ("return __import__('os')", "ImportError"), ("import numpy.ctypeslib; return close", "loads \"numpy.ctypeslib\""),
    ("np.ctypeslib; return close", "ImportError|AttributeError"), ("from . import other; return close", 'loads "\\."'),
    ("import socket; return close", 'line 6: it loads "socket"'),
    # Around the names: the modules that NumPy has loaded are within reach, and the kernel says no.
    ("return FIND('os').open('/etc/hostname', 0)", "PermissionError|OSError"),
    ("return FIND('os').fork()", "PermissionError|BlockingIOError"),
    ("FIND('os').kill(FIND('os').getppid(), 9)", "Permission"),
    ("FIND('os').execv('/bin/true', ['true'])", "PermissionError"), ("return FIND('os')._exit(3)", "exit code 3 after"),
    ("FIND('os').write(int(ARGS[3]), b'{\"kind\": [[')\n    FIND('os')._exit(0)", "exit code 0 after .*without a result"),
    ("FIND('os').write(int(ARGS[2]), b'x' * 4)\n    return close", "exit code 0 after .*without a result"),
    ("FIND('os').abort()", "ended by an abort")])
def test_the_process_is_a_cage(tmp_path: Path, body: str, words: str) -> None:
    """Files, network, processes, signals, other code: refused by imports, and by the kernel where those are gone around."""
    assert shut_off(), "the kernels this runs on have the filter"
    find = ("def _find(name):\n    mods = np.poly1d.__init__.__globals__['__builtins__']\n"
            "    imp = mods['__import__'] if isinstance(mods, dict) else mods.__import__\n    return imp(name)\n")
    text = f'import numpy as np\n\n\ndef drift(close):\n    """It."""\n    {body}\n'
    text = text.replace("FIND(", "_find(").replace("ARGS", "_find('sys').argv") + find
    with pytest.raises(UserError, match=words):
        run_own(read_own(file(tmp_path, text)), {"close": BARS.close}, {}, [400])


def test_an_indicator_ends_with_the_program_that_asked_for_it(tmp_path: Path) -> None:
    text = 'def drift(close):\n    """It."""\n    while True: pass\n'
    code = ("import sys, numpy as np\nfrom pathlib import Path\n"
            "from wolbrin.core.indicators.own import read_own, run_own\n"
            f"run_own(read_own(Path({str(file(tmp_path, text))!r})), {{'close': np.zeros(9)}}, {{}}, [9], 30)")
    parent = subprocess.Popen([sys.executable, "-c", code])
    try:
        for _ in range(600):
            below = Path(f"/proc/{parent.pid}/task/{parent.pid}/children").read_text().split()
            if below and b"own_worker" in Path(f"/proc/{below[0]}/cmdline").read_bytes():
                break
            time.sleep(0.05)
        parent.kill()
        parent.wait()
        for _ in range(600):
            if not Path(f"/proc/{below[0]}/cmdline").exists() or not Path(f"/proc/{below[0]}/cmdline").read_bytes():
                return
            time.sleep(0.05)
        raise AssertionError("it goes on")
    finally:
        parent.kill()


def test_only_ordinary_files_are_read(tmp_path: Path) -> None:
    path = file(tmp_path, GOOD)
    path.unlink()
    path.symlink_to("/dev/zero")
    os.mkfifo(path.with_name("pipe.py"))
    (path.parent / "folder.py").mkdir()
    (path.parent / "gone.py").symlink_to(tmp_path / "nothing")
    own = OwnIndicators(tmp_path)
    assert own.known() == {}
    assert own.waiting() == []
    for one in own.files():
        with pytest.raises(WolbrinError):
            read_own(one)
