"""Files of others as streams of UTF-8 blocks: plain, packed and zip, with guards against what should not be opened."""

from __future__ import annotations

import bz2
import codecs
import gzip
import io
import lzma
import os
import stat
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path, PurePosixPath
from typing import Any, BinaryIO

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.market.importing.converted import HEAD_LINES, as_lines, head_of

TEXT_ENDINGS = (".csv", ".tsv", ".txt", ".prn", ".asc", ".dat")
CONVERTED = (".xlsx", ".json", ".jsonl", ".ndjson")
TABLES = (".parquet", ".feather", ".arrow")
PACKED = (".gz", ".bz2", ".xz")
ENDINGS = (*TEXT_ENDINGS, *PACKED, ".zip", *TABLES, *CONVERTED)
MARKS = {"gz": b"\x1f\x8b", "bz2": b"BZh", "xz": b"\xfd7zXZ\0"}
# Files that are no history as they are, by their first bytes, and what to do with them.
STRANGERS = ((b"SQLite format 3\0", "an SQLite database", 'Export its table as CSV, such as with `sqlite3 -header -csv FILE '
                                                           '"SELECT * FROM table" > bars.csv`.'),
             (b"\xd0\xcf\x11\xe0", "a workbook of an old or an encrypted form",
              "Save it as XLSX without a password, or as CSV."),
             (b"\x89HDF", "an HDF5 file", "Save its table as Parquet or CSV."),
             (b"7z\xbc\xaf", "a 7z archive", "Unpack it first."), (b"Rar!", "a RAR archive", "Unpack it first."),
             (b"\x28\xb5\x2f\xfd", "a file packed by zstd", "Unpack it first."),
             (b"%PDF", "a PDF document", "Choose the table as CSV."))
BLOCK = 16 * 1024**2
LARGEST_TEXT = 24 * 1024**3
LARGEST_RATIO = 150.0
FREE_RATIO = 64 * 1024**2  # below this size no ratio is suspicious
LONGEST_LINE = 1024**2
MOST_FILES = 10_000


@dataclass(frozen=True)
class Piece:
    """One table to read: a file, or a member of a zip archive. size: bytes, of text where that is known. folders: names of
    the folders it lies in, the nearest first, up to the one that was chosen."""

    path: Path
    member: str = ""
    size: int = 0
    folders: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        return f"{self.path.name}, {self.member}" if self.member else self.path.name

    @property
    def table(self) -> bool:
        """Whether it has typed columns, as Parquet and Feather files have."""
        return (self.member or self.path.name).lower().endswith(TABLES)

    @property
    def converted(self) -> bool:
        """Whether it is read by way of text made of it."""
        return not self.member and self.path.name.lower().endswith(CONVERTED)

    @property
    def plain(self) -> bool:
        """Whether its lines stand in the file as they are."""
        return not (self.member or self.converted or self.path.name.lower().endswith(PACKED))


def _trouble(err: OSError, path: Path) -> EnvironmentTrouble | UserError:
    if isinstance(err, FileNotFoundError):
        return UserError("this history file does not exist", str(path), "Check the path.")
    return EnvironmentTrouble(f"this file cannot be read ({err.strerror or err})", str(path), "Check the file.")


def pieces(paths: list[Path]) -> list[Piece]:
    """Every table in files, folders and archives, in order of name.

    Raises:
        UserError: nothing to read, an archive that reaches outside itself, is encrypted or would swell beyond reason.
    """
    found: list[Piece] = []
    for path in paths:
        try:
            if path.is_dir():
                inside = [p for p in _below(path) if not p.name.lower().endswith(CONVERTED) or _is_table(p)]
                if not inside:
                    raise UserError("this folder holds no history file", str(path),
                                    "Choose a folder with CSV, TXT, JSON, XLSX, Parquet or Feather files, packed or not.")
                for one in inside:
                    where = one.parent.relative_to(path).parts[::-1]
                    found += [replace(p, folders=(*p.folders, *where, path.resolve().name)) for p in _pieces_of(one)]
            else:
                found += _pieces_of(path)
        except OSError as err:
            raise _trouble(err, path) from None
    if not found:
        raise UserError("no file was chosen", "import", "Choose one or more history files.")
    if len(found) > MOST_FILES:
        raise UserError(f"these are {len(found):,} files, more than {MOST_FILES:,}", "import", "Import fewer at once.")
    return found


def _below(folder: Path) -> list[Path]:
    """History files in a folder and the folders in it, by name; hidden ones and links to folders are left out."""
    found: list[Path] = []
    for where, inside, names in os.walk(folder):
        inside[:] = sorted(n for n in inside if not n.startswith(".") and n != "__MACOSX")
        found += [Path(where, n) for n in sorted(names) if n.lower().endswith(ENDINGS) and not n.startswith((".", "~$"))
                  and Path(where, n).is_file()]
        if len(found) > MOST_FILES:
            break
    return found


def _is_table(path: Path) -> bool:
    """Whether a workbook or JSON file in a folder holds a table; settings and notes lie there too, and are no history."""
    try:
        about = path.stat()
        return bool(as_lines(path, about.st_size, about.st_mtime_ns).strip())
    except (UserError, EnvironmentTrouble):
        return False


def _pieces_of(path: Path) -> list[Piece]:
    about = path.stat()
    if not stat.S_ISREG(about.st_mode):
        raise UserError("this is no ordinary file", str(path), "Choose a file of history.")
    size = about.st_size
    if size == 0:
        raise UserError("this file is empty", str(path), "Choose another file.")
    if not path.name.lower().endswith(".zip"):
        _known_stranger(path)
        return [Piece(path, "", size)]
    try:
        with zipfile.ZipFile(path) as archive:
            members = [m for m in archive.infolist() if not m.is_dir()]
    except (zipfile.BadZipFile, EOFError, ValueError, NotImplementedError, UnicodeDecodeError) as err:
        raise UserError(f"this zip archive is damaged ({err})", str(path), "Get the file again.") from None
    for member in members:
        where = PurePosixPath(member.filename.replace("\\", "/"))
        if where.is_absolute() or ".." in where.parts or (where.parts and ":" in where.parts[0]):
            raise UserError(f'"{member.filename}" in this archive points outside it', str(path),
                            "Do not use this archive; unpack it elsewhere and look at it first.")
        if member.flag_bits & 1:
            raise UserError("this archive is encrypted", str(path), "Unpack it with its password first.")
        check_swelling(f'"{member.filename}"', member.file_size, member.compress_size, path)
    # Together as each: many small members swell as a large one does, and those that share their bytes as none of them.
    check_swelling("this archive", sum(m.file_size for m in members), min(size, sum(m.compress_size for m in members)), path)
    if len(members) > MOST_FILES:
        raise UserError(f"this archive holds {len(members):,} files, more than {MOST_FILES:,}", str(path),
                        "Unpack it elsewhere and import fewer at once.")
    tables = [m for m in members if m.filename.lower().endswith((*TEXT_ENDINGS, *TABLES, *CONVERTED))
              and not PurePosixPath(m.filename).name.startswith((".", "_"))]
    if not tables:
        raise UserError("this archive holds no history file", str(path), "It should hold CSV, TSV, TXT or Parquet files.")
    if any(m.filename.lower().endswith((*TABLES, *CONVERTED)) for m in tables):
        raise UserError("files of Parquet, Feather, JSON and XLSX are read unpacked", str(path), "Unpack the archive first.")
    return [Piece(path, m.filename, m.file_size, PurePosixPath(m.filename.replace("\\", "/")).parts[-2::-1])
            for m in sorted(tables, key=lambda m: m.filename)]


def _known_stranger(path: Path) -> None:
    """Raises UserError where a file is of a kind that is told by its first bytes and holds no lines."""
    with path.open("rb") as handle:
        head = handle.read(16)
    for mark, what, remedy in STRANGERS:
        if head.startswith(mark):
            raise UserError(f"this is {what}", str(path), remedy)


def check_swelling(what: str, whole: int, packed: int, path: Path) -> None:
    """Raises UserError where bytes would become far more bytes than any history does."""
    if (whole > FREE_RATIO and whole > LARGEST_RATIO * max(1, packed)) or whole > LARGEST_TEXT:
        raise UserError(f"{what} would swell to {whole / 1e9:,.1f} GB", str(path),
                        "Unpack it elsewhere and look at it first.")


class _Counting(io.RawIOBase):
    """Counts the bytes taken from a file, to tell how much a compressed stream has swollen."""

    def __init__(self, inner: BinaryIO) -> None:
        super().__init__()
        self.inner = inner
        self.taken = 0

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: bytearray) -> int:  # type: ignore[override]
        data = self.inner.read(len(buffer))
        buffer[:len(data)] = data
        self.taken += len(data)
        return len(data)

    def close(self) -> None:
        self.inner.close()
        super().close()


def _utf8(blocks: Iterator[bytes], encoding: str) -> Iterator[bytes]:
    """Blocks of another encoding as UTF-8."""
    decoder = codecs.getincrementaldecoder(encoding)(errors="replace")
    for block in blocks:
        yield decoder.decode(block).encode("utf-8")
    yield decoder.decode(b"", final=True).encode("utf-8")


def _encoding(head: bytes, where: str) -> tuple[str, int]:
    """Encoding by the first bytes, and how many of them are a mark to skip."""
    for mark, name in ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF32_LE, "utf-32-le"), (codecs.BOM_UTF32_BE, "utf-32-be"),
                       (codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be")):
        if head.startswith(mark):
            return name, len(mark)
    if b"\0" in head:
        zeros = [head[k::2].count(0) for k in (0, 1)]
        if len(head) >= 64 and max(zeros) > 0.4 * len(head) / 2 and min(zeros) < 0.02 * len(head):
            return ("utf-16-be" if zeros[0] > zeros[1] else "utf-16-le"), 0
        raise UserError("this is not a text file", where, "Choose a CSV, TSV, TXT or Parquet file.")
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head)
        return "utf-8", 0
    except UnicodeDecodeError:
        return "cp1252", 0


def text_blocks(piece: Piece, size: int = BLOCK) -> Iterator[tuple[bytes, int]]:
    """Blocks of whole lines of UTF-8 text, each with the bytes of the file (as stored) it took.

    Raises:
        UserError: not text, damaged, or swelling beyond reason. EnvironmentTrouble: the file cannot be read.
    """
    if piece.converted:
        try:
            about = piece.path.stat()
        except OSError as err:
            raise _trouble(err, piece.path) from None
        yield from _in_blocks(as_lines(piece.path, about.st_size, about.st_mtime_ns), about.st_size, size, piece.name)
        return
    try:
        yield from _text_blocks(piece, size)
    except OSError as err:
        if isinstance(err, gzip.BadGzipFile) or err.errno is None:
            raise UserError("this packed file is damaged", piece.name, "Get the file again.") from None
        raise _trouble(err, piece.path) from None
    except (EOFError, zlib.error, lzma.LZMAError, ValueError, zipfile.BadZipFile, NotImplementedError, RuntimeError,
            KeyError) as err:
        raise UserError(f"this compressed file is damaged or cut off ({str(err).splitlines()[0] if str(err) else 'end'})",
                        piece.name, "Get the file again.") from None


def _in_blocks(text: bytes, whole: int, size: int, name: str) -> Iterator[tuple[bytes, int]]:
    """Text in blocks of whole lines, each with its share of the bytes of the file it was made of."""
    if not text.strip():
        raise UserError("this file is empty", name, "Choose another file.")
    at = 0
    while at < len(text):
        stop = len(text) if at + size >= len(text) else text.rfind(b"\n", at, at + size) + 1 or len(text)
        yield text[at:stop], (stop - at) * whole // len(text)
        at = stop


def _unpacked(packing: str, stream: Any) -> Any:
    """A stream of what a packed stream holds."""
    if packing == "gz":
        return gzip.GzipFile(fileobj=stream)
    return bz2.BZ2File(stream) if packing == "bz2" else lzma.LZMAFile(stream)


def _text_blocks(piece: Piece, size: int) -> Iterator[tuple[bytes, int]]:
    with piece.path.open("rb") as plain:
        counter: _Counting | None = None
        stream: BinaryIO = plain
        if piece.member:
            stream = zipfile.ZipFile(plain).open(piece.member)  # type: ignore[assignment]  # noqa: SIM115
        else:
            head = plain.read(6)
            plain.seek(0)
            packing = next((p for p, mark in MARKS.items() if head.startswith(mark)), "")
            if packing:
                counter = _Counting(plain)
                stream = _unpacked(packing, io.BufferedReader(counter))
        out, taken = 0, 0

        def read() -> bytes:
            nonlocal out
            data = stream.read(size)
            out += len(data)
            if out > LARGEST_TEXT:
                raise UserError("this file holds more than 24 GB of text", piece.name, "Split it by year.")
            if counter is not None and out > FREE_RATIO and out > LARGEST_RATIO * max(1, counter.taken):
                raise UserError("this file swells beyond reason when unpacked", piece.name,
                                "Unpack it elsewhere and look at it first.")
            return data

        first = read()
        if not first.strip():
            raise UserError("this file is empty", piece.name, "Choose another file.")
        encoding, mark = _encoding(first[:65_536], piece.name)

        def raw() -> Iterator[bytes]:
            yield first[mark:]
            while data := read():
                yield data

        rest = b""
        for block in raw() if encoding == "utf-8" else _utf8(raw(), encoding):
            whole = rest + block
            cut = max(whole.rfind(b"\n"), whole.rfind(b"\r") if b"\n" not in whole else -1) + 1
            if not cut and len(whole) > LONGEST_LINE:
                raise UserError("this file has a line of more than a million characters", piece.name,
                                "It is probably not a table; choose another file.")
            now = counter.taken if counter is not None else out
            if cut:
                yield whole[:cut].replace(b"\r\n", b"\n").replace(b"\r", b"\n"), now - taken
                taken = now
            rest = whole[cut:]
        if rest.strip():
            yield rest.replace(b"\r", b"\n"), (counter.taken if counter is not None else out) - taken


def first_lines(piece: Piece, most: int = 400) -> list[str]:
    """The first lines of a text file."""
    lines: list[str] = []
    if piece.converted and most <= HEAD_LINES:
        try:
            about = piece.path.stat()
        except OSError as err:
            raise _trouble(err, piece.path) from None
        return list(head_of(piece.path, about.st_size, about.st_mtime_ns)[:most])
    for block, _ in text_blocks(piece, 256 * 1024):
        lines += block.decode("utf-8", errors="replace").split("\n")
        if len(lines) > most:
            break
    return lines[:most]
