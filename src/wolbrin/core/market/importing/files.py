"""Files of others as streams of UTF-8 blocks: plain, gz and zip, with guards against what should not be opened."""

from __future__ import annotations

import codecs
import gzip
import io
import stat
import zipfile
import zlib
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path, PurePosixPath
from typing import BinaryIO

from wolbrin.core.errors import EnvironmentTrouble, UserError

TEXT_ENDINGS = (".csv", ".tsv", ".txt", ".prn", ".asc", ".dat")
ENDINGS = (*TEXT_ENDINGS, ".gz", ".zip", ".parquet")
BLOCK = 16 * 1024**2
LARGEST_TEXT = 24 * 1024**3
LARGEST_RATIO = 150.0
FREE_RATIO = 64 * 1024**2  # below this size no ratio is suspicious
LONGEST_LINE = 1024**2
MOST_FILES = 10_000


@dataclass(frozen=True)
class Piece:
    """One table to read: a file, or a member of a zip archive. size: bytes, of text where that is known."""

    path: Path
    member: str = ""
    size: int = 0

    @property
    def name(self) -> str:
        return f"{self.path.name}, {self.member}" if self.member else self.path.name

    @property
    def parquet(self) -> bool:
        return (self.member or self.path.name).lower().endswith(".parquet")


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
                inside = sorted(p for p in path.iterdir() if p.is_file() and p.name.lower().endswith(ENDINGS))
                if not inside:
                    raise UserError("this folder holds no history file", str(path),
                                    "Choose a folder with CSV, TSV, TXT, gz, zip or Parquet files.")
                for one in inside:
                    found += _pieces_of(one)
            else:
                found += _pieces_of(path)
        except OSError as err:
            raise _trouble(err, path) from None
    if not found:
        raise UserError("no file was chosen", "import", "Choose one or more history files.")
    if len(found) > MOST_FILES:
        raise UserError(f"these are {len(found):,} files, more than {MOST_FILES:,}", "import", "Import fewer at once.")
    return found


def _pieces_of(path: Path) -> list[Piece]:
    about = path.stat()
    if not stat.S_ISREG(about.st_mode):
        raise UserError("this is no ordinary file", str(path), "Choose a file of history.")
    size = about.st_size
    if size == 0:
        raise UserError("this file is empty", str(path), "Choose another file.")
    if not path.name.lower().endswith(".zip"):
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
    tables = [m for m in members if m.filename.lower().endswith((*TEXT_ENDINGS, ".parquet"))
              and not PurePosixPath(m.filename).name.startswith((".", "_"))]
    if not tables:
        raise UserError("this archive holds no history file", str(path), "It should hold CSV, TSV, TXT or Parquet files.")
    if any(m.filename.lower().endswith(".parquet") for m in tables):
        raise UserError("Parquet files are read unpacked", str(path), "Unpack the archive first.")
    return [Piece(path, m.filename, m.file_size) for m in sorted(tables, key=lambda m: m.filename)]


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
    try:
        yield from _text_blocks(piece, size)
    except OSError as err:
        if isinstance(err, gzip.BadGzipFile):
            raise UserError("this gz file is damaged", piece.name, "Get the file again.") from None
        raise _trouble(err, piece.path) from None
    except (EOFError, zlib.error, zipfile.BadZipFile, NotImplementedError, RuntimeError, KeyError) as err:
        raise UserError(f"this compressed file is damaged or cut off ({str(err).splitlines()[0] if str(err) else 'end'})",
                        piece.name, "Get the file again.") from None


def _text_blocks(piece: Piece, size: int) -> Iterator[tuple[bytes, int]]:
    with piece.path.open("rb") as plain:
        counter: _Counting | None = None
        stream: BinaryIO = plain
        if piece.member:
            stream = zipfile.ZipFile(plain).open(piece.member)  # type: ignore[assignment]  # noqa: SIM115
        elif plain.read(2) == b"\x1f\x8b":
            plain.seek(0)
            counter = _Counting(plain)
            stream = gzip.GzipFile(fileobj=io.BufferedReader(counter))  # type: ignore[type-var,assignment]
        else:
            plain.seek(0)
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
    for block, _ in text_blocks(piece, 256 * 1024):
        lines += block.decode("utf-8", errors="replace").split("\n")
        if len(lines) > most:
            break
    return lines[:most]
