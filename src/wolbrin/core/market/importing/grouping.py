"""Which market a file is of, by its name: files of several years are one market, and a folder may hold several."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from wolbrin.core.market.importing.files import PACKED, Piece
from wolbrin.core.market.likely.kind import pair_of

# Words in names of history files that name no market; common practice, no source.
_NO_MARKET = (
    "bars bar data history hist prices price ticks tick minute minutes min hour hourly daily day eod intraday export quotes "
    "part to from ohlc ohlcv csv txt utc local continuous cont adjusted adj unadjusted full all new jan feb mar apr may jun "
    "jul aug sep oct nov dec bid ask final clean raw file my the of january february march april june july august september "
    "october november december year month week quarter symbol ticker market instrument downloads desktop documents tmp temp "
    "imports exports archive archives")
WORDS = frozenset(_NO_MARKET.split(" "))
INTERVAL = re.compile(r"^(?:\d+(?:min|minutes|m|h|s|sec|d|t)|[mhd]\d+)$", re.IGNORECASE)
PAIR_AND_INTERVAL = re.compile(r"^([A-Z]{6})(?:[MHD]|MIN)?(?:1|2|3|4|5|6|10|12|15|20|30|60|120|240|480|1440)(?:[MHD]|MIN)?$",
                               re.IGNORECASE)
MONTH = re.compile(r"^([A-Z]{1,4})[-_ ]?([FGHJKMNQUVXZ])(\d{1,2}|\d{4})$")  # futures month letters, as exchanges use them


@dataclass(frozen=True)
class Group:
    """Files of one market. code: what their names call it, empty where they name none."""

    code: str
    pieces: tuple[Piece, ...]


def stem_of(piece: Piece) -> str:
    """A file's name without its endings."""
    name = Path(piece.member).name if piece.member else piece.path.name
    for packing in PACKED:
        name = name.removesuffix(packing)
    return Path(name).stem


def code_in(name: str) -> str:
    """The market's code in a file's name, without dates, intervals and words that name no market; may be empty."""
    kept = []
    for token in re.split(r"[-_. ()\[\],/=]+", name):
        if not token or token.isdigit() or INTERVAL.match(token) or token.lower() in WORDS:
            continue
        short = re.sub(r"(?:19|20)\d{2}(?:[-_]?\d{2}){0,2}$", "", token)
        if re.fullmatch(r"Q[1-4]|v\d+", token) or not short:
            continue
        if pair_of(short) and len(short) == 6:
            return short.upper()
        pair = PAIR_AND_INTERVAL.match(short)
        if pair and pair_of(pair[1]):
            return pair[1].upper()
        kept.append(short)
    return clean_code("".join(kept[:1]) if not _is_split_pair(kept) else "".join(kept[:2]))


def _is_split_pair(tokens: list[str]) -> bool:
    return len(tokens) >= 2 and all(len(t) == 3 for t in tokens[:2]) and pair_of("".join(tokens[:2])) is not None


def clean_code(text: str) -> str:
    """A text as a market code: capitals and digits, at most 24."""
    return re.sub(r"[^A-Z0-9._-]", "", text.upper())[:24].strip("._-")


def group_files(pieces: list[Piece]) -> list[Group]:
    """Files by the market their names call, in order of first appearance. Files without a name of their own belong
    together, and so do contract months."""
    if are_months(pieces):
        first = MONTH.match(_head_of(pieces[0]))
        return [Group(first[1] if first else "", tuple(pieces))]
    found: dict[str, list[Piece]] = {}
    for piece in pieces:
        found.setdefault(code_in(stem_of(piece)) or _code_of_folders(piece.folders), []).append(piece)
    return [Group(code, tuple(mine)) for code, mine in found.items()]


def _code_of_folders(folders: tuple[str, ...]) -> str:
    """What the folders of a file call its market, the nearest first; the chosen one counts where it looks like a code."""
    for i, folder in enumerate(folders):
        code = code_in(folder)
        if code and (i + 1 < len(folders) or (folder == folder.upper() and len(folder) >= 2) or pair_of(code)):
            return code
    return ""


def without_interval(code: str, minutes: int) -> str:
    """A code that ends in the files' own interval, such as PWR15 for bars of 15 minutes, without it. Two letters and fewer
    are left alone: they may be an index of so many shares."""
    found = re.match(r"^([A-Z]{3,})(?:M|MIN)?(\d{1,4})(?:M|MIN)?$", code)
    known = {1440: (1440, 1), 60: (60, 1), 240: (240, 4)}.get(minutes, (minutes,))
    return found[1] if found and int(found[2]) in known and minutes > 1 else code


def _head_of(piece: Piece) -> str:
    """A file's name up to the first sign that parts it, with root and month together."""
    stem = stem_of(piece).upper()
    return stem if MONTH.match(stem) else re.split(r"[-_. ]", stem)[0]


def are_months(pieces: list[Piece]) -> bool:
    """Whether files are contract months of one future, by their names: a root, a month's letter, a year."""
    roots = [MONTH.match(_head_of(p)) for p in pieces]
    return len(pieces) > 1 and all(roots) and len({m[1] for m in roots if m}) == 1
