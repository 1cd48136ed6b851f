"""Tables of results with named columns: Parquet files, and the same as bytes for rows that are not in a file yet."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import EnvironmentTrouble
from wolbrin.core.written import digest_of, write_whole

if TYPE_CHECKING:
    import pyarrow as pa

Array = NDArray[Any]
Columns = dict[str, Array]


def rows_of(columns: Mapping[str, Array]) -> int:
    """Number of rows; all columns have as many."""
    return len(next(iter(columns.values()))) if columns else 0


def _arrow(columns: Mapping[str, Array]) -> pa.Table:
    import pyarrow as pa  # late

    made = {}
    for name, values in columns.items():
        if values.ndim == 2:
            flat = pa.array(np.ascontiguousarray(values).reshape(-1))
            made[name] = pa.FixedSizeListArray.from_arrays(flat, values.shape[1])
        else:
            made[name] = pa.array(values)
    return pa.table(made)


def _columns(table: pa.Table) -> Columns:
    import pyarrow as pa  # late

    found: Columns = {}
    for field in table.schema:
        column = table.column(field.name).combine_chunks()
        if isinstance(column, pa.ChunkedArray):  # what a table without rows gives
            column = column.chunk(0) if column.num_chunks else pa.array([], field.type)
        if pa.types.is_fixed_size_list(field.type):
            flat = column.flatten().to_numpy(zero_copy_only=False)
            found[field.name] = flat.reshape(-1, field.type.list_size)
        else:
            found[field.name] = column.to_numpy(zero_copy_only=False)
    return found


def write_table(path: Path, columns: Mapping[str, Array]) -> str:
    """Write a table; values are numbers, [n] or [n, width]. Returns the file's digest."""
    import pyarrow.parquet as pq  # late

    write_whole(path, lambda partial: pq.write_table(_arrow(columns), partial, compression="zstd",
                                                      write_page_checksum=True), "file of results")
    return digest_of(path)


def read_table(path: Path, digest: str, wanted: Sequence[str] | None = None) -> Columns:
    """Read a table back, or the columns that are wanted of it.

    Raises:
        EnvironmentTrouble: it is missing, cut short or changed.
    """
    import pyarrow as pa  # late
    import pyarrow.parquet as pq  # late

    remedy = "Restore it from a backup, or run that work again; all else stays in use."
    try:
        if digest_of(path) != digest:
            raise EnvironmentTrouble("this file of results is not the one that was written: it is damaged or cut short",
                                     str(path), remedy)
        return _columns(pq.read_table(path, columns=list(wanted) if wanted is not None else None))
    except FileNotFoundError:
        raise EnvironmentTrouble("this file of results is missing", str(path), remedy) from None
    except (OSError, pa.ArrowException, UnicodeDecodeError) as err:
        raise EnvironmentTrouble(f"this file of results cannot be read ({str(err).splitlines()[0]})", str(path),
                                 remedy) from None


def pack_table(columns: Mapping[str, Array]) -> bytes:
    """A table as bytes (Arrow's stream format, zstd)."""
    import pyarrow as pa  # late

    table = _arrow(columns)
    sink = pa.BufferOutputStream()
    with pa.ipc.new_stream(sink, table.schema, options=pa.ipc.IpcWriteOptions(compression="zstd")) as writer:
        writer.write_table(table)
    return bytes(sink.getvalue())


def unpack_table(data: bytes, wanted: Sequence[str] | None = None) -> Columns:
    """What `pack_table` made. Raises EnvironmentTrouble where it is damaged."""
    import pyarrow as pa  # late

    try:
        table = pa.ipc.open_stream(data).read_all()
    except (OSError, pa.ArrowException, UnicodeDecodeError) as err:
        raise EnvironmentTrouble(f"rows of results cannot be read ({next(iter(str(err).splitlines()), '')})", "",
                                 "Run that work again; all else stays in use.") from None
    return _columns(table.select([n for n in wanted if n in table.column_names]) if wanted is not None else table)


def joined(parts: Sequence[Columns]) -> Columns:
    """Parts one under another. A column that an earlier part lacks is NaN there."""
    if not parts:
        return {}
    names = list(dict.fromkeys(name for part in parts for name in part))
    whole: Columns = {}
    for name in names:
        like = next(part[name] for part in parts if name in part)
        whole[name] = np.concatenate([
            part[name] if name in part else np.full((rows_of(part), *like.shape[1:]), np.nan) for part in parts])
    return whole
