"""Writes the small example files that ship with the demo (src/wolbrin/demo/files) and the digests of its markets."""

from __future__ import annotations

import datetime as dt
import gzip
import zipfile
from pathlib import Path

from wolbrin.core.market.bars import Span
from wolbrin.core.market.intervals import to_interval
from wolbrin.demo.build import TERN
from wolbrin.demo.dirty import contract_months, dirty_file, tick_file
from wolbrin.demo.markets import MARKETS, generate

ROOT = Path(__file__).parents[1]
FILES = ROOT / "src/wolbrin/demo/files"
HEADER = "time,open,high,low,close,volume\n"


def main() -> None:
    FILES.mkdir(exist_ok=True)
    made = {m.terms.code: generate(m) for m in MARKETS}
    (ROOT / "tests/demo/hashes.txt").write_text("".join(f"{code} {bars.hash}\n" for code, bars in made.items()))
    bars = made["NPW"]
    first, stop = bars.range_of(Span(dt.date(2021, 3, 1), dt.date(2021, 3, 28)))
    rows = [(bars.time[i], bars.open[i], bars.high[i], bars.low[i], bars.close[i], int(bars.volume[i]))
            for i in range(first, stop)]

    def stamp(ns: int) -> str:
        return f"{dt.datetime.fromtimestamp(ns / 1e9, tz=dt.UTC):%Y-%m-%dT%H:%M:%SZ}"

    iso = HEADER + "".join(f"{stamp(t)},{o:.2f},{h:.2f},{lo:.2f},{c:.2f},{v}\n" for t, o, h, lo, c, v in rows)
    epoch = HEADER + "".join(f"{t // 10**9},{o:.2f},{h:.2f},{lo:.2f},{c:.2f},{v}\n" for t, o, h, lo, c, v in rows)
    semicolon = "Date;Time;Open;High;Low;Close;Volume\n" + "".join(
        f"{stamp(t)[:10]};{stamp(t)[11:16]};" + ";".join(f"{x:.2f}".replace(".", ",") for x in p) + f";{v}\n"
        for t, *p, v in rows)
    for name, text in (("npw-iso.csv", iso), ("npw-epoch.csv", epoch), ("npw-semicolon.csv", semicolon)):
        (FILES / name).write_text(text)
    cob = next(m for m in MARKETS if m.dirty)
    clean = generate(cob, clean=True)
    dirty, _ = dirty_file(clean)
    (FILES / "cob-dirty.csv.gz").write_bytes(gzip.compress(dirty.encode(), mtime=0))
    with zipfile.ZipFile(FILES / "hfr-months.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        for name, text in contract_months(to_interval(made["HFR"], 60)).items():
            archive.writestr(zipfile.ZipInfo(name, (2025, 1, 1, 0, 0, 0)), text, zipfile.ZIP_DEFLATED)
    (FILES / "npw-ticks.csv.gz").write_bytes(gzip.compress(tick_file(bars).encode(), mtime=0))
    (FILES / "market-cob.json").write_text(cob.terms.model_dump_json(indent=2) + "\n")
    (FILES / "market-npw.json").write_text(bars.terms.model_dump_json(indent=2) + "\n")
    (FILES / "strategy-tern.json").write_text(TERN.model_dump_json(indent=2) + "\n")


if __name__ == "__main__":
    main()
