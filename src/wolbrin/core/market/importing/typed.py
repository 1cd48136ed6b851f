"""Files of typed columns, Parquet and Feather: their names and batches of their rows."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.feather
import pyarrow.parquet as pq

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.market.importing.files import Piece

BATCH_ROWS = 262_144
STRETCHES, STRETCH_ROWS = 40, 120


class Typed:
    """names: of the columns. rows: how many there are.

    Raises:
        UserError: it is no such file. EnvironmentTrouble: it cannot be read.
    """

    def __init__(self, piece: Piece) -> None:
        self._piece = piece
        feather = piece.path.name.lower().endswith((".feather", ".arrow"))
        self._what = "Feather" if feather else "Parquet"
        self._file: Any = None
        self._table: pa.Table | None = None
        try:
            if feather:
                self._table = pyarrow.feather.read_table(piece.path, memory_map=True)
                self.rows, names = self._table.num_rows, self._table.column_names
            else:
                self._file = pq.ParquetFile(piece.path, memory_map=True)
                self.rows, names = self._file.metadata.num_rows, self._file.schema_arrow.names
        except FileNotFoundError:
            raise UserError("this history file does not exist", str(piece.path), "Check the path.") from None
        except (OSError, pa.ArrowException, UnicodeDecodeError) as err:
            raise self._trouble(err) from None
        self.names = [str(n) for n in names]

    def _trouble(self, err: Exception) -> Exception:
        if isinstance(err, OSError) and not isinstance(err, pa.ArrowException) and err.errno:
            return EnvironmentTrouble(f"this file cannot be read ({err.strerror})", str(self._piece.path), "Check it.")
        first = str(err).splitlines()[0][:90] if str(err) else type(err).__name__
        return UserError(f"this is not a {self._what} file, or it is damaged ({first})", self._piece.name,
                         "Get the file again.")

    def batches(self, columns: list[str]) -> Iterator[pa.RecordBatch]:
        """The rows of some columns, a batch at a time."""
        try:
            if self._table is not None:
                yield from self._table.select(columns).to_batches(max_chunksize=BATCH_ROWS)
            else:
                yield from self._file.iter_batches(BATCH_ROWS, columns=columns)
        except (pa.ArrowException, OSError, ValueError) as err:
            raise self._trouble(err) from None

    def sample(self) -> list[list[str]]:
        """Texts of rows from everywhere in the file, a row a list, as they would stand in a text file."""
        out: list[list[str]] = []
        step = max(1, self.rows // STRETCHES)
        try:
            parts = self._table.to_batches(max_chunksize=BATCH_ROWS) if self._table is not None else self._some_groups()
            for batch in parts:
                for begin in range(0, batch.num_rows, step if self.rows > STRETCHES * STRETCH_ROWS else STRETCH_ROWS):
                    columns = [_texts(batch.column(i).slice(begin, STRETCH_ROWS)) for i in range(batch.num_columns)]
                    out += [list(row) for row in zip(*columns)]
        except (pa.ArrowException, OSError, ValueError) as err:
            raise self._trouble(err) from None
        return out

    def _some_groups(self) -> Iterator[pa.RecordBatch]:
        """Batches of the first, the last and some groups of rows between."""
        count = self._file.metadata.num_row_groups
        some = sorted({0, count - 1, *range(0, count, max(1, count // 6))} - {-1})
        yield from self._file.iter_batches(BATCH_ROWS, row_groups=some)


def _texts(column: pa.Array) -> list[str]:
    kind = column.type
    if pa.types.is_date(kind):
        column, kind = column.cast(pa.timestamp("ms")), pa.timestamp("ms")
    if pa.types.is_timestamp(kind):
        zone = "Z" if kind.tz is not None else ""
        whole = column.cast(pa.timestamp(kind.unit)).cast(pa.int64(), safe=False)
        scale = {"s": 10**9, "ms": 10**6, "us": 10**3, "ns": 1}[kind.unit]
        return ["" if v is None else _iso(v * scale) + zone for v in whole.to_pylist()]
    return ["" if v is None else str(v) for v in column.to_pylist()]


def _iso(ns: int) -> str:
    return str(np.datetime64(ns, "ns").astype("datetime64[s]"))
