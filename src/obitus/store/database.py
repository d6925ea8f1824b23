"""The thin layer over ``sqlite3``: opening and reading. Its errors become those of ``store.errors``, with SQLite's
own name in them."""

from __future__ import annotations

import contextlib
import errno
import logging
import os
import sqlite3
import threading
import time
from collections.abc import Callable, Hashable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any, Final, TypeVar

from obitus.store import errors
from obitus.store.sight import MAIN, WHOLE, NarrowedConnection, ReadingConnection, Sight, narrow

try:
    import fcntl
except ImportError:  # Windows
    fcntl = None  # type: ignore[assignment]

_log = logging.getLogger("obitus.store")

LOCK_NAME: Final = "obitus.lock"
READ_LIMIT_S: Final = 10.0
BUSY_S: Final = 5.0
"""How long another process may hold the file before that is an error."""

Row = sqlite3.Row
Params = Sequence[Any] | dict[str, Any]


@contextmanager
def our_errors(path: Path) -> Iterator[None]:
    """Convert the driver's errors to those of ``store.errors``."""
    try:
        yield
    except sqlite3.Error as error:
        name = getattr(error, "sqlite_errorname", None) or type(error).__name__
        if name == "SQLITE_INTERRUPT":
            raise errors.QueryTooLong(
                f"reading took longer than {READ_LIMIT_S:g} s; choose a shorter window"
            ) from error
        for kind, names, advice in _TROUBLES:
            if name.startswith(names):
                raise kind(f"{path}: {advice} ({name})") from error
        raise errors.StoreBroken(f"{path}: {name}: {error}") from error


# By the names of SQLite's result codes (sqlite.org/rescode.html), extended ones included.
_TROUBLES: Final[tuple[tuple[type[errors.StoreTrouble], tuple[str, ...], str], ...]] = (
    (errors.StoreFull, ("SQLITE_FULL",), "the disk is full; nothing was taken. Free some space."),
    (
        errors.StoreFaulty,
        ("SQLITE_IOERR", "SQLITE_PROTOCOL", "SQLITE_NOMEM"),
        "the disk answers with errors; nothing was stored. Look at the disk and at the system's log.",
    ),
    (
        errors.StoreLocked,
        ("SQLITE_BUSY", "SQLITE_LOCKED"),
        "another process holds the file; nothing was stored. End the process that has it open.",
    ),
    (
        errors.StoreReadOnly,
        ("SQLITE_READONLY", "SQLITE_CANTOPEN", "SQLITE_PERM", "SQLITE_AUTH"),
        "the file cannot be opened or written, or was moved away; nothing was taken. Look at its rights, and start again.",
    ),
    (
        errors.StoreDamaged,
        ("SQLITE_CORRUPT", "SQLITE_NOTADB", "SQLITE_FORMAT"),
        "parts of the file are damaged; what can be read is shown. Stop, and bring a backup back.",
    ),
)


LARGE_CACHE: Final = "PRAGMA cache_size = -65536"
MIDDLE_CACHE: Final = "PRAGMA cache_size = -16384"
SMALL_CACHE: Final = "PRAGMA cache_size = -2048"
"""How many KiB of a file a connection keeps in memory."""
NO_FILES_ASIDE: Final = "PRAGMA temp_store = MEMORY"
"""The rollback journal of a savepoint stays in memory; otherwise each commit makes a file outside of the data folder."""


def open_as_writer(path: Path, cache: str) -> sqlite3.Connection:
    """Open (or make) a file for the one writer; commits are synced to disk. Readable by its owner only. Raises the driver's errors."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        if not path.exists():
            path.touch(mode=0o600)
    except OSError as error:
        kind = errors.StoreFull if error.errno in (errno.ENOSPC, errno.EDQUOT) else errors.StoreReadOnly
        raise kind(
            f"{path} cannot be made ({error.strerror}); nothing was taken. Look at the folder's rights and at the disk."
        ) from error
    connection = sqlite3.connect(path, isolation_level=None, check_same_thread=False, timeout=BUSY_S)
    try:
        connection.row_factory = sqlite3.Row
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("PRAGMA synchronous = FULL")
        connection.execute("PRAGMA foreign_keys = ON")
        connection.execute(cache)
        connection.execute("PRAGMA journal_size_limit = 67108864")
    except BaseException:
        # An open connection would hold the lock of an interrupted step.
        connection.close()
        raise
    return connection


def open_as_reader(path: Path, cache: str, tables: dict[str, str], sight: Sight) -> ReadingConnection:
    """Open an existing file for reading alone, from any thread. Raises the driver's errors. ``tables`` lists a
    file's tables with records of apps; of these only what ``sight`` allows is visible.
    """
    address = f"{path.absolute().as_uri()}?mode=ro"
    factory = ReadingConnection if sight.is_whole else NarrowedConnection
    connection = sqlite3.connect(address, uri=True, isolation_level=None, check_same_thread=False, factory=factory)
    connection.row_factory = sqlite3.Row
    if not sight.is_whole:
        narrow(connection, tables, sight)
    # After the views: from here on nothing can be created any more.
    connection.execute("PRAGMA query_only = ON")
    connection.execute(cache)
    return connection


def let_go(connection: sqlite3.Connection, path: Path) -> None:
    """Close a writer's file, with everything in one file: a copy needs no second one."""
    try:
        connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        connection.execute("PRAGMA journal_mode = DELETE")
    except sqlite3.Error as error:
        # It may be open for reading.
        _log.debug("%s could not be put into one file (%s); whoever writes it next does it", path, error)
    finally:
        connection.close()


def file_identity(path: Path) -> tuple[int, int] | None:
    """Return the identity of the file at a path, None where there is none."""
    try:
        status = path.stat()
    except OSError:
        return None
    return status.st_dev, status.st_ino


def lock_folder(folder: Path) -> IO[str]:
    """Lock a folder of records for this process, as long as the returned file is open; raises StoreInUse."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    path = folder / LOCK_NAME
    opened = os.fdopen(os.open(path, os.O_RDWR | os.O_CREAT | os.O_APPEND, 0o600), "a+", encoding="ascii")
    if path.stat().st_mode & 0o077:
        # Earlier versions made it readable for all; it may belong to another user.
        with contextlib.suppress(OSError):
            path.chmod(0o600)
    if fcntl is None:
        return opened
    try:
        fcntl.flock(opened, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        opened.seek(0)
        holder = opened.readline(20).strip()
        opened.close()
        raise errors.StoreInUse(
            f"another service runs on {folder}{f' (process {holder})' if holder else ''}. Stop it first, or give another --data."
        ) from None
    opened.truncate(0)
    opened.write(str(os.getpid()))
    opened.flush()
    return opened


def service_on(folder: Path) -> str | None:
    """Return the address of the service that runs on a folder of records, None where none does."""
    if not (folder / LOCK_NAME).exists():
        return None
    try:
        lock_folder(folder).close()
    except errors.StoreInUse:
        _, _, address = (folder / LOCK_NAME).read_text("ascii", "replace").partition("\n")
        return address.strip()
    return None


def beside(path: Path, work: Callable[[sqlite3.Connection], None]) -> None:
    """Do one small piece of work in a transaction while a service runs on the file."""
    with (
        our_errors(path),
        contextlib.closing(sqlite3.connect(path, isolation_level=None, timeout=BUSY_S)) as connection,
    ):
        connection.row_factory = sqlite3.Row
        connection.execute("PRAGMA foreign_keys = ON")
        connection.execute("BEGIN IMMEDIATE")
        work(connection)
        connection.execute("COMMIT")


Kept = TypeVar("Kept")
MOST_REMEMBERED: Final = 100
"""A thread's cache for the present state of the file."""


def typed(cursor: sqlite3.Cursor, kind: Callable[..., Kept]) -> list[Kept]:
    """Return a cursor's rows as records of a type; raises TypeError where its columns are not the type's fields, in their order."""
    fields: tuple[str, ...] = getattr(kind, "_fields")  # noqa: B009 - of a NamedTuple
    columns = tuple(column[0] for column in cursor.description)
    if columns != fields:
        raise TypeError(f"{kind!r} has the fields {fields}, the statement gives {columns}")
    return [kind(*row) for row in cursor.fetchall()]


def column_of(cursor: sqlite3.Cursor, kind: type[Kept]) -> list[Kept]:
    """Return the only column of a cursor's rows; raises TypeError where there are more, or a value is of another type."""
    if len(cursor.description) != 1:
        raise TypeError(f"the statement gives {len(cursor.description)} columns")
    values = [row[0] for row in cursor.fetchall()]
    for value in values:
        if not isinstance(value, kind):
            raise TypeError(f"the statement gives {value!r}, which is no {kind.__name__}")
    return values


class Reader:
    """Read-only connections, one for each thread that lives. Each statement has a time limit. With a limited sight they show
    nothing of other apps.
    """

    def __init__(self, path: Path, sight: Sight = WHOLE) -> None:
        self.path, self.sight = path, sight
        self._local = threading.local()
        self._by_thread: dict[threading.Thread, sqlite3.Connection] = {}
        self._lock = threading.Lock()
        self._closed = False

    def rows(self, sql: str, params: Params = ()) -> list[Row]:
        """Run one reading statement and return all its rows."""
        with self.lend() as connection:
            return connection.execute(sql, params).fetchall()

    def all(self, kind: Callable[..., Kept], sql: str, params: Params = ()) -> list[Kept]:
        """Run one reading statement and return all its rows as ``kind``, a type of ``store.rows``."""
        with self.lend() as connection:
            return typed(connection.execute(sql, params), kind)

    def first(self, kind: Callable[..., Kept], sql: str, params: Params = ()) -> Kept | None:
        """Return the first row, or None."""
        rows = self.all(kind, sql, params)
        return rows[0] if rows else None

    def only(self, kind: Callable[..., Kept], sql: str, params: Params = (), *, what: str = "record") -> Kept:
        """Return exactly one row; raises NotThere, naming ``what``, when there is none."""
        row = self.first(kind, sql, params)
        if row is None:
            raise errors.NotThere(f"there is no {what}")
        return row

    def column(self, kind: type[Kept], sql: str, params: Params = ()) -> list[Kept]:
        """Run one reading statement that has one column, and return its values."""
        with self.lend() as connection:
            return column_of(connection.execute(sql, params), kind)

    def value(self, kind: type[Kept], sql: str, params: Params = (), *, what: str = "record") -> Kept:
        """Return the only value of the first row; raises NotThere, naming ``what``, when there is none."""
        values = self.column(kind, sql, params)
        if not values:
            raise errors.NotThere(f"there is no {what}")
        return values[0]

    @contextmanager
    def lend(self) -> Iterator[sqlite3.Connection]:
        """Lend this thread's connection, with the time limit of one statement."""
        connection = self._connection()
        ends = time.monotonic() + READ_LIMIT_S
        with our_errors(self.path):
            connection.set_progress_handler(lambda: time.monotonic() > ends, 10_000)
            yield connection

    def remembered(self, what: Hashable, read: Callable[[], Kept]) -> Kept:
        """Return the result of ``read`` on the file, cached for each thread until the file is written."""
        with self.lend() as connection:
            state = int(connection.execute("PRAGMA data_version").fetchone()[0])
        values: dict[Hashable, Any]
        at, values = getattr(self._local, "known", (state, {}))
        if at != state or len(values) > MOST_REMEMBERED:
            values = {}
        if what not in values:
            values[what] = read()
        self._local.known = (state, values)
        found: Kept = values[what]
        return found

    def row(self, sql: str, params: Params = ()) -> Row | None:
        """Return the first row, or None."""
        rows = self.rows(sql, params)
        return rows[0] if rows else None

    def one(self, sql: str, params: Params = (), *, what: str = "record") -> Row:
        """Return exactly one row; raises NotThere, naming ``what``, when there is none."""
        row = self.row(sql, params)
        if row is None:
            raise errors.NotThere(f"there is no {what}")
        return row

    def close(self) -> None:
        """Close every connection that was opened here."""
        with self._lock:
            self._closed = True
            for connection in self._by_thread.values():
                connection.interrupt()
                connection.close()
            self._by_thread.clear()
            self._local = threading.local()

    def _connection(self) -> sqlite3.Connection:
        connection: sqlite3.Connection | None = getattr(self._local, "connection", None)
        if connection is None:
            with our_errors(self.path):
                connection = open_as_reader(self.path, MIDDLE_CACHE, MAIN, self.sight)
            with self._lock:
                if self._closed:
                    connection.close()
                    raise errors.StoreBusy("the service is stopping; ask again")
                # Some threads live for one message only: each would leave its connection, with two open files.
                for thread in [thread for thread in self._by_thread if not thread.is_alive()]:
                    self._by_thread.pop(thread).close()
                self._by_thread[threading.current_thread()] = connection
            self._local.connection = connection
        return connection
