"""Ledger and order log as CSV, XLSX and Parquet; measures as JSON."""

from __future__ import annotations

import io
import json
import math
from collections.abc import Callable, Mapping
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pandas as pd

from wolbrin.core.cells import MOST_ROWS, plain
from wolbrin.core.engine.ledger import ledger, order_log
from wolbrin.core.engine.run import Run
from wolbrin.core.errors import UserError
from wolbrin.core.export.steps import STEPS, Steps, portions
from wolbrin.core.measures.breakdown import side_facts
from wolbrin.core.measures.catalogue import MEASURES, measure
from wolbrin.core.measures.facts import Facts
from wolbrin.core.written import replacing, write_text

AT_ONCE = 500  # rows that pandas writes without letting other threads in
GROUP = 100_000  # least rows of a group in a Parquet file
KINDS = {".csv": "CSV", ".xlsx": "XLSX", ".parquet": "Parquet"}


def frame(columns: Mapping[str, Any]) -> pd.DataFrame:
    """Columns as a table; times keep their zone, UTC."""
    import pandas as pd  # late

    made = pd.DataFrame(dict(columns))
    for name in made.columns:
        if pd.api.types.is_datetime64_any_dtype(made[name]):
            made[name] = made[name].dt.tz_localize("UTC")
    return made


def table_steps(columns: Callable[[], Mapping[str, Any]], path: Path, sheet: str = "ledger") -> Steps:
    """Write named columns, worked out in the first step, to a file; its ending says the kind.

    Raises:
        UserError: an unknown ending, or more rows than a sheet holds. EnvironmentTrouble: the file cannot be written.
    """
    kind = path.suffix.lower()
    if kind not in KINDS:
        raise UserError(f'files ending in "{path.suffix}" are not written', str(path), f"Choose one of {', '.join(KINDS)}.")
    made = frame(columns())
    if kind == ".xlsx" and len(made) > MOST_ROWS:
        raise UserError(f"{len(made):,} rows do not fit into a sheet, which holds {MOST_ROWS:,}", str(path),
                        "Write a .parquet or .csv file instead, or fewer rows.")
    yield
    with replacing(path) as partial:
        yield from {".csv": _csv, ".xlsx": _sheet, ".parquet": _parquet}[kind](made, partial, sheet)


def _csv(made: pd.DataFrame, path: Path, _: str) -> Steps:
    with path.open("w", encoding="utf-8", newline="") as file:
        for low, high in portions(len(made)):
            _as_text(made[low:high]).to_csv(file, index=False, header=low == 0, date_format="%Y-%m-%dT%H:%M:%SZ",
                                            chunksize=AT_ONCE)
            yield


def _parquet(made: pd.DataFrame, path: Path, _: str) -> Steps:
    import pyarrow as pa  # late
    import pyarrow.parquet as pq  # late

    schema = pa.Schema.from_pandas(made, preserve_index=False)
    with pq.ParquetWriter(path, schema) as file:
        step = max(GROUP, len(made) // STEPS + 1)
        for low in range(0, max(1, len(made)), step):
            file.write_table(pa.Table.from_pandas(made[low:low + step], schema, preserve_index=False))
            yield


def _sheet(made: pd.DataFrame, path: Path, sheet: str) -> Steps:
    """A spreadsheet knows no time zones; its header says UTC."""
    import pandas as pd  # late
    from openpyxl import Workbook  # type: ignore[import-untyped]  # late

    times = [c for c in made.columns if isinstance(made[c].dtype, pd.DatetimeTZDtype)]
    made = made.assign(**{c: made[c].dt.tz_localize(None) for c in times}).rename(columns={c: f"{c} (UTC)" for c in times})
    book = Workbook(write_only=True)
    page = book.create_sheet(sheet)
    try:
        for low, high in portions(len(made)):
            part = _as_text(made[low:high])
            if low == 0:
                page.append(list(part.columns))
            whole = part.astype(object)
            for row in whole.where(part.notna(), None).to_numpy().tolist():
                page.append(row)
            yield
        held = io.BytesIO()
        book.save(held)
        path.write_bytes(held.getvalue())
    finally:
        with suppress(Exception):  # a page that was not saved leaves a file of its own behind
            page.close()
        book.close()


def _as_text(made: pd.DataFrame) -> pd.DataFrame:
    """The table with names and words that no spreadsheet runs."""
    texts = [c for c in made.columns if made[c].dtype == object or str(made[c].dtype).startswith("str")]
    changed = {c: made[c].map(lambda x: plain(x) if isinstance(x, str) else x) for c in texts}
    return made.assign(**changed).rename(columns={c: plain(str(c)) for c in made.columns})


def ledger_steps(run: Run, path: Path) -> Steps:
    """Write the ledger, one row a trade."""
    return table_steps(lambda: ledger(run), path, "ledger")


def order_steps(run: Run, path: Path) -> Steps:
    """Write the order log, one row an event."""
    return table_steps(lambda: order_log(run), path, "orders")


def measures_data(run: Run, tried: int = 1) -> dict[str, Any]:
    """Record, counts and measures of all trades and of each side as plain data; missing values are None."""
    def plain(values: dict[str, float]) -> dict[str, float | None]:
        return {key: None if math.isnan(v) else v for key, v in values.items()}

    return {"record": run.record(tried=tried).model_dump(mode="json"), "fingerprint": run.fingerprint, "counts": run.counts,
            "units": {m.key: m.unit for m in MEASURES}, "all": plain(measure(Facts.of(run))),
            "long": plain(measure(side_facts(run, 1))), "short": plain(measure(side_facts(run, -1)))}


def measure_steps(run: Run, path: Path, tried: int = 1) -> Steps:
    """Write the measures as JSON."""
    text = json.dumps(measures_data(run, tried), indent=1, sort_keys=True) + "\n"
    yield
    write_text(path, text)
