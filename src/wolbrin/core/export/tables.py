"""Ledger and order log as CSV, XLSX and Parquet; measures as JSON."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pandas as pd

from wolbrin.core.cells import MOST_ROWS, plain
from wolbrin.core.engine.ledger import ledger, order_log
from wolbrin.core.engine.run import Run
from wolbrin.core.errors import UserError, unwritable
from wolbrin.core.measures.breakdown import side_facts
from wolbrin.core.measures.catalogue import MEASURES, measure
from wolbrin.core.measures.facts import Facts

KINDS = {".csv": "CSV", ".xlsx": "XLSX", ".parquet": "Parquet"}


def frame(columns: Mapping[str, Any]) -> pd.DataFrame:
    """Columns as a table; times keep their zone, UTC."""
    import pandas as pd  # late

    made = pd.DataFrame(dict(columns))
    for name in made.columns:
        if pd.api.types.is_datetime64_any_dtype(made[name]):
            made[name] = made[name].dt.tz_localize("UTC")
    return made


def write_table(columns: Mapping[str, Any], path: Path, sheet: str = "ledger") -> None:
    """Write named columns to a file; its ending says the kind.

    Raises:
        UserError: an unknown ending, or more rows than a sheet holds. EnvironmentTrouble: the file cannot be written.
    """
    made = frame(columns)
    kind = path.suffix.lower()
    if kind in (".csv", ".xlsx"):
        made = _as_text(made)
    if kind == ".xlsx" and len(made) > MOST_ROWS:
        raise UserError(f"{len(made):,} rows do not fit into a sheet, which holds {MOST_ROWS:,}", str(path),
                        "Write a .parquet or .csv file instead, or fewer rows.")
    if kind not in KINDS:
        raise UserError(f'files ending in "{path.suffix}" are not written', str(path), f"Choose one of {', '.join(KINDS)}.")
    try:
        if kind == ".csv":
            made.to_csv(path, index=False, date_format="%Y-%m-%dT%H:%M:%SZ")
        elif kind == ".parquet":
            made.to_parquet(path, index=False)
        else:
            # A spreadsheet knows no time zones; its header says UTC.
            import pandas as pd  # late

            times = [c for c in made.columns if isinstance(made[c].dtype, pd.DatetimeTZDtype)]
            plain = made.assign(**{c: made[c].dt.tz_localize(None) for c in times})
            plain.rename(columns={c: f"{c} (UTC)" for c in times}).to_excel(path, index=False, sheet_name=sheet)
    except OSError as err:
        raise unwritable(err, path) from None


def _as_text(made: pd.DataFrame) -> pd.DataFrame:
    """The table with names and words that no spreadsheet runs."""
    texts = [c for c in made.columns if made[c].dtype == object or str(made[c].dtype).startswith("str")]
    changed = {c: made[c].map(lambda x: plain(x) if isinstance(x, str) else x) for c in texts}
    return made.assign(**changed).rename(columns={c: plain(str(c)) for c in made.columns})


def write_ledger(run: Run, path: Path) -> None:
    """The ledger, one row a trade."""
    write_table(ledger(run), path, "ledger")


def write_orders(run: Run, path: Path) -> None:
    """The order log, one row an event."""
    write_table(order_log(run), path, "orders")


def measures_data(run: Run, tried: int = 1) -> dict[str, Any]:
    """Record, counts and measures of all trades and of each side as plain data; missing values are None."""
    def plain(values: dict[str, float]) -> dict[str, float | None]:
        return {key: None if math.isnan(v) else v for key, v in values.items()}

    return {"record": run.record(tried=tried).model_dump(mode="json"), "fingerprint": run.fingerprint, "counts": run.counts,
            "units": {m.key: m.unit for m in MEASURES}, "all": plain(measure(Facts.of(run))),
            "long": plain(measure(side_facts(run, 1))), "short": plain(measure(side_facts(run, -1)))}


def write_measures(run: Run, path: Path, tried: int = 1) -> None:
    """The measures as JSON."""
    try:
        path.write_text(json.dumps(measures_data(run, tried), indent=1, sort_keys=True) + "\n", encoding="utf-8")
    except OSError as err:
        raise unwritable(err, path) from None
