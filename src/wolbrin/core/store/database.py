"""A project's database: one writer, readers beside it, every change a transaction, and troubles as sentences."""

from __future__ import annotations

import datetime as dt
import json
import logging
import os
import sqlite3
import tempfile
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from threading import RLock
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from wolbrin.core.errors import EnvironmentTrouble, UserError
from wolbrin.core.store.aside import Aside, why
from wolbrin.core.store.columns import COLUMNS
from wolbrin.core.store.copies import CannotWriteError, copies_at, make_copy, to_read
from wolbrin.core.store.holding import Looked, copy_elsewhere, identity, let_go, share
from wolbrin.core.store.mending import check_ours, drop_foreign, mend
from wolbrin.core.store.recovering import is_damage, recover
from wolbrin.core.store.schema import SCHEMA_VERSION, migrate, version_of
from wolbrin.core.store.typed import LARGE, Mending, prepare
from wolbrin.core.store.values import check_value
from wolbrin.core.whole import whole_of

T = TypeVar("T")
log = logging.getLogger("wolbrin")
DATABASE = "project.sqlite"
READER_CACHE = 16_000  # kB that one reader keeps
A_DAY = 86_400.0
PATIENCE = 20.0  # seconds that a change waits for another program's
HURRY = 0.1  # seconds that one waits which the window makes itself
PAUSE = 0.01  # seconds between two tries
NOT_TEXT = "decode to UTF-8"  # as the database says it
GONE = ("this project's database is gone from its place: another program moved, replaced or deleted it, and nothing that is "
        "changed here is kept")
GONE_REMEDY = "Put it back, or put what is not saved elsewhere and open the project again."


def is_there(path: Path) -> bool:
    """Whether an ordinary file stands in a place, whatever the place may be."""
    try:
        return path.is_file()
    except (OSError, ValueError):
        return False


def with_marks(data: bytes) -> str:
    """Text, with marks in the place of what is none."""
    return data.decode("utf-8", "replace")


def _as_text(value: Any) -> Any:
    """A value as the database takes it: what is no text (half a character, a file's name) has marks in its place."""
    return value.encode("utf-8", "replace").decode() if isinstance(value, str) and not value.isascii() else value


def now() -> str:
    return dt.datetime.now(dt.UTC).isoformat(timespec="seconds")


def trouble(err: sqlite3.Error, path: Path) -> EnvironmentTrouble:
    """What the database said, as a sentence."""
    text = str(err)
    if "full" in text:
        return CannotWriteError("the disk is full: this change was not kept", str(path),
                                "Free some space and try again; what was kept before is unharmed.")
    if "locked" in text or "busy" in text:
        return EnvironmentTrouble("another program holds this project's database: this change was not kept", str(path),
                                  "Close the other program or wait, and try again; what was kept before is unharmed.")
    if "malformed" in text or "not a database" in text:
        return EnvironmentTrouble(f"this project's database is damaged ({text})", str(path),
                                  "`wolbrin check FOLDER` says what is wrong; with --restore it puts the newest sound copy "
                                  "back.")
    if "disk I/O" in text:
        return CannotWriteError("the disk cannot be read or written: this change was not kept", str(path),
                                "Check the disk and its free space; what was kept before is unharmed.")
    if "readonly" in text or "read-only" in text or "unable to open" in text:
        if not path.exists():
            return EnvironmentTrouble(GONE, str(path), GONE_REMEDY)
        return CannotWriteError("this project's database cannot be written: its folder or file is read-only", str(path),
                                "Change the permissions, or copy the project to another folder.")
    return EnvironmentTrouble(f"this project's database cannot be used ({text})", str(path),
                              "Restore it from a backup; nothing was changed.")


class Database:
    """An open database in a project's folder. Safe to use from several threads.

    only_read: why nothing can be written there, in words; "" where it can. A copy elsewhere is read then, and whatever
    somebody changes is refused.

    Raises:
        UserError: the folder is not a project. EnvironmentTrouble: the database is damaged or newer.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._lock = RLock()
        self._depth = 0
        self._owner = 0  # the thread whose transaction is open
        self._free: list[sqlite3.Connection] = []
        self._hurried: set[int] = set()  # threads that do not wait
        self._shut = False  # whether what somebody changes is refused
        self._sound = False  # whether all that was looked at was in order, or mended
        self.aside = Aside()
        self.path = folder / DATABASE
        self.only_read = ""
        if not is_there(self.path):
            raise UserError("there is no project in this folder", str(folder),
                            "Choose a folder that holds project.sqlite, or start with --demo.")
        if not self.path.stat().st_size:
            raise EnvironmentTrouble("this project's database is empty: what it held is gone from this file", str(self.path),
                                     f"{copies_at(folder)} Opening it would make a new project over the old one.")
        if self.path.is_symlink():
            raise EnvironmentTrouble("this project's database is a link to another file", str(self.path),
                                     "Open the folder in which the database itself stands.")
        self._elsewhere: tempfile.TemporaryDirectory[str] | None = None
        self._hold = share(folder)
        try:
            self._begin_or_read()
        except BaseException:
            self.close()
            raise

    @property
    def read_words(self) -> str:
        """That nothing can be kept, in words; "" where it can."""
        return (f"This project is open to be read only ({self.only_read}): what is changed is not kept in it."
                if self.only_read else "")

    @property
    def home(self) -> Path:
        """The folder in which the database stands that is used: the project's, or one for a copy that is only read."""
        return self.folder if self._elsewhere is None else Path(self._elsewhere.name)

    def _begin_or_read(self) -> None:
        """Open the database where it stands; a copy of it where it cannot be written."""
        try:
            if not (os.access(self.path, os.W_OK) and os.access(self.folder, os.W_OK)):
                raise CannotWriteError("this project's database cannot be written: its folder or file is read-only",
                                       str(self.path), "Change the permissions, or copy the project to another folder.")
            self._begin()
            return
        except CannotWriteError as err:
            self.only_read = err.what.removesuffix(": this change was not kept")
        self._close()
        try:
            self._elsewhere = copy_elsewhere(self.folder, DATABASE)
        except OSError as err:
            raise EnvironmentTrouble(f"{self.only_read}, and there is no room for a copy to read ({err.strerror or err})",
                                     str(self.path), "Free some space, or copy the project to another folder.") from None
        try:
            self._begin()
        except EnvironmentTrouble as err:
            if err.__context__ is None or not is_damage(err.__context__):
                raise
            self.recover_here()

    def recover_here(self) -> None:
        """Make the database anew from what can be read of it. Raises EnvironmentTrouble where that is nothing."""
        self._close()
        recover(self.home / DATABASE, self.aside)
        self._begin()

    def _begin(self) -> None:
        path = self.home / DATABASE
        try:
            self._db = sqlite3.connect(path, isolation_level=None, check_same_thread=False, timeout=PATIENCE)
            self._db.row_factory = sqlite3.Row
            self._db.execute("PRAGMA trusted_schema = OFF")
            prepare(self._db)
            self._file = identity(path)
            check_ours(self._db, self.path)
            self._copy()
            self._db.execute("PRAGMA journal_mode = WAL")
            self._db.execute("PRAGMA foreign_keys = ON")
            drop_foreign(self._db, self.aside)
            migrate(self._db, str(self.path))
            mend(self._db, self.home, self.aside)
            self._db.execute("PRAGMA foreign_keys = ON")
            self._mend_values()
            self._db.execute("PRAGMA busy_timeout = 0")  # whoever waits does so without keeping others from the connection
            self._sound = True
        except sqlite3.Error as err:
            raise trouble(err, self.path) from err

    def _mend_values(self) -> None:
        """Put something else in the place of values that are not what their column holds, or leave their rows aside."""
        looked = Looked(self.home / DATABASE)
        self._version = self._data_version()
        tables = [t for t in COLUMNS if t not in LARGE or not looked.before]
        mending = Mending(self._db, self.home, self.folder, tables)
        if mending.wanted:
            mending.do(self.aside)
        self.lost_lines, self.stale_markets = mending.book, mending.entries

    def _data_version(self) -> int:
        """A number that changes when somebody else has written."""
        return int(self._db.execute("PRAGMA data_version").fetchone()[0])

    def _copy(self) -> None:
        """Keep a copy: once a day, and before the schema changes. That a copy cannot be made is no reason to stay shut, but
        for a change of the schema it is."""
        _, version = version_of(self._db)
        if not version or self._elsewhere is not None:
            return  # a project that is being made, or a copy already
        older = version < SCHEMA_VERSION
        try:
            make_copy(self._db, self.folder, 0.0 if older else A_DAY)
        except (OSError, sqlite3.Error) as err:
            if older:
                raise CannotWriteError("this project is of an older version and cannot be copied before it is changed "
                                       f"({err})", str(self.folder), "Free some space or check the folder's permissions; "
                                       "nothing was changed.") from None
            log.warning("no copy of %s could be made: %s", self.path, err)

    def close(self) -> None:
        """Let go of the database; what is in it is looked through again when somebody else has written to it meanwhile."""
        with self._lock:
            sound = False
            with suppress(AttributeError, sqlite3.Error):
                sound = self._sound and self._data_version() == self._version and self._elsewhere is None
            self._close()
            if sound:
                Looked(self.path).note()
            let_go(self._hold)
            self._hold = None
            if self._elsewhere is not None:
                self._elsewhere.cleanup()

    def _close(self) -> None:
        while self._free:
            self._free.pop().close()
        with suppress(AttributeError):
            self._db.close()

    @contextmanager
    def transaction(self, derived: bool = False) -> Iterator[sqlite3.Connection]:
        """All changes inside are kept together or not at all; transactions nest into the outermost. derived: nothing is
        changed, or only what can be worked out again, which a copy that is only read takes too.

        Raises:
            EnvironmentTrouble: they could not be kept.
        """
        outer = self._enter()
        if outer:
            try:
                self._check_place(derived)
            except BaseException:
                self._db.execute("ROLLBACK")
                self._owner = 0
                self._lock.release()
                raise
        try:
            self._depth += 1
            try:
                yield self._db
            finally:
                self._depth -= 1
            if outer:
                self._db.execute("COMMIT")
        except BaseException as err:
            if outer and self._db.in_transaction:
                self._db.execute("ROLLBACK")
            if isinstance(err, sqlite3.OperationalError | sqlite3.DatabaseError) and not isinstance(
                    err, sqlite3.IntegrityError | sqlite3.ProgrammingError):
                raise trouble(err, self.path) from err
            if isinstance(err, UnicodeEncodeError):
                raise UserError("a name holds characters that are no text", repr(err.object)[:80],
                                "Rename it; nothing of this change was kept.") from None
            raise
        finally:
            if outer:
                self._owner = 0
            self._lock.release()

    def _check_place(self, derived: bool) -> None:
        """Make sure that what is kept now can be found again. Raises EnvironmentTrouble otherwise."""
        if derived:
            return
        if self._shut:
            raise EnvironmentTrouble(f"this project is open to be read only ({self.only_read}): this change was not kept",
                                     str(self.path), "Make its folder writable and open it again, or put what is not saved "
                                     "elsewhere.")
        if identity(self.home / DATABASE) != self._file:
            raise EnvironmentTrouble(GONE, str(self.path), GONE_REMEDY)

    def hurry(self) -> None:
        """From now on the calling thread does not wait for other programs: what cannot be changed at once is refused."""
        self._hurried.add(threading.get_ident())

    @property
    def _patience(self) -> float:
        return HURRY if threading.get_ident() in self._hurried else PATIENCE

    def _enter(self) -> bool:
        """Take the connection, and begin where nothing was begun (true then). Another program's change is waited for with
        the connection free, so that nobody waits for whoever waits."""
        until = time.monotonic() + self._patience
        while True:
            self._lock.acquire()
            try:
                if self._depth:
                    return False
                self._db.execute("BEGIN IMMEDIATE")
                self._owner = threading.get_ident()
                return True
            except sqlite3.ProgrammingError:  # our own mistake stays what it is
                self._lock.release()
                raise
            except sqlite3.Error as err:
                self._lock.release()
                if "locked" not in str(err) or time.monotonic() > until:
                    raise trouble(err, self.path) from err
            except BaseException:
                self._lock.release()
                raise
            time.sleep(PAUSE)

    def rows(self, sql: str, *values: Any) -> list[sqlite3.Row]:
        """Rows as they are: inside a transaction with its changes, else as they were last committed, without waiting for
        whoever changes something."""
        if self._owner == threading.get_ident() or sql.startswith("PRAGMA"):
            values = tuple(map(_as_text, values))
            with self._lock:
                try:
                    return self._told(lambda: self._db.execute(sql, values).fetchall())
                except EnvironmentTrouble as err:
                    if NOT_TEXT not in err.what:
                        raise
                    self._db.text_factory = with_marks
                    try:
                        return self._told(lambda: self._db.execute(sql, values).fetchall())
                    finally:
                        self._db.text_factory = str
        return self.read(sql, *values)

    def read(self, sql: str, *values: Any) -> list[sqlite3.Row]:
        """Rows as they were last committed, beside whatever writes: never waits for a change or for another reader."""
        values = tuple(map(_as_text, values))
        try:
            reader = self._free.pop()
        except IndexError:
            reader = self._told(self._new_reader)
        try:
            reader.execute(f"PRAGMA busy_timeout = {round(1000 * self._patience)}")
            return self._told(lambda: reader.execute(sql, values).fetchall())
        except EnvironmentTrouble as err:
            if NOT_TEXT not in err.what:
                raise
        finally:
            self._free.append(reader)
        return self._marked(sql, values)

    def _marked(self, sql: str, values: Sequence[Any]) -> list[sqlite3.Row]:
        """Rows in which marks stand for what is no text."""
        self.aside.add("some text of the project", "it is not in UTF-8; marks stand where it cannot be read")
        reader = self._told(self._new_reader)
        reader.text_factory = with_marks
        try:
            return self._told(lambda: reader.execute(sql, values).fetchall())
        finally:
            reader.close()

    def table(self, name: str, order: str) -> list[sqlite3.Row]:
        """All rows of a small table in order; those that can be reached where its pages are damaged, which is told."""
        try:
            return self.rows(f"SELECT * FROM {name} ORDER BY {order}")
        except EnvironmentTrouble as err:
            if "damaged" not in err.what:
                raise
            self.aside.add(f"part of the {name}", err.what)
            found = self._reachable(name)
            return sorted(found, key=lambda r: tuple((r[c] is not None, r[c]) for c in order.split(", ")))

    def _reachable(self, name: str) -> list[sqlite3.Row]:
        """Rows of a table from both ends, as far as its pages can be read; text that is none has marks in its place."""
        found: dict[int, sqlite3.Row] = {}
        reader = self._told(self._new_reader)
        reader.text_factory = with_marks
        try:
            for way in ("", " DESC"):
                with suppress(sqlite3.Error):
                    for row in reader.execute(f"SELECT rowid AS at, * FROM {name} ORDER BY rowid{way}"):
                        found[row["at"]] = row
        finally:
            reader.close()
        return list(found.values())

    def read_ids(self, sql: str, *values: Any) -> NDArray[np.int64]:
        """The column `id` of what `read` would give, int64[n], in its order; for very many rows.

        It comes as one text, a third of the time of as many rows. The limit keeps the order of the inner query.
        """
        found = self.read(f"SELECT group_concat(id) ids FROM ({sql} LIMIT -1)", *values)[0]["ids"]
        return np.fromstring(found, np.int64, sep=",") if found is not None else np.zeros(0, np.int64)

    def _told(self, act: Callable[[], T]) -> T:
        """What `act` gives; what the database says against it as a sentence. Our own mistakes stay what they are."""
        try:
            return act()
        except (sqlite3.OperationalError, sqlite3.DatabaseError) as err:
            if isinstance(err, sqlite3.ProgrammingError) or "syntax" in str(err):
                raise
            raise trouble(err, self.path) from err

    def _new_reader(self) -> sqlite3.Connection:
        if identity(self.home / DATABASE) != self._file:  # another database may stand there by now
            raise EnvironmentTrouble(GONE, str(self.path), GONE_REMEDY)
        reader = sqlite3.connect(to_read(self.home / DATABASE), uri=True, isolation_level=None,
                                 check_same_thread=False, timeout=PATIENCE)
        reader.row_factory = sqlite3.Row
        reader.execute(f"PRAGMA cache_size = -{READER_CACHE}")
        return reader

    def get_value(self, key: str, default: Any = None) -> Any:
        """A small piece of remembered state (window layout, last place)."""
        found = self.rows("SELECT value FROM settings WHERE key = ?", f"value:{key}")
        try:
            return check_value(key, json.loads(found[0]["value"])) if found else default
        except (ValueError, TypeError, RecursionError) as err:
            self.aside.add(f'the remembered "{key}"', why(err))
            return default

    def set_value(self, key: str, value: Any) -> None:
        with self.transaction() as db:
            db.execute("INSERT OR REPLACE INTO settings VALUES (?, ?)", (f"value:{key}", json.dumps(value)))


def unsettle(db: sqlite3.Connection, hash: str = "", market: str = "") -> None:
    """Where candidates stand is worked out anew: those of some rules on a market, or all. Whoever writes a verdict calls
    this in the same transaction."""
    if hash:
        db.execute("UPDATE candidates SET stands = NULL WHERE hash = ? AND market = ?", (hash, market))
    else:
        db.execute("UPDATE candidates SET stands = NULL")


def this_program() -> str:
    """Who this is, so that another program can tell whether it still lives: process id and when it began."""
    return f"{os.getpid()} {_began(os.getpid())}"


def lives(program: str) -> bool:
    """Whether the program that `this_program` named is still running."""
    id, _, began = program.partition(" ")
    number = whole_of(id)
    return number is not None and bool(began) and _began(number) == began


def _began(id: int) -> str:
    """When a process began, in ticks since the machine did; "" where there is none."""
    try:
        return Path(f"/proc/{id}/stat").read_text().rpartition(")")[2].split()[19]
    except (OSError, IndexError):
        return ""
