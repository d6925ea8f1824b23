"""Rewriting a day's file without records that are over their time: smaller, and complete at every moment. The new
file is made beside the old one, which is still read and written; it replaces the old one in one commit, unless
something was written meanwhile.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Collection, Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Final

from obitus.store.database import MIDDLE_CACHE, our_errors, typed
from obitus.store.days import failures, logs, runs
from obitus.store.days.files import DAY_SCHEMA_VERSION, bring_up_to_date, schema
from obitus.store.days.removed import THINNER
from obitus.store.days.rows import ADD_WORDS
from obitus.store.rows.records import LogRow

KINDS: Final = ("failures", "logs", "healthy runs", "other runs")
AT_ONCE: Final = 500
Unpack = Callable[[bytes, int | None], bytes]

_RUN_KIND: Final = "CASE WHEN r.outcome IN ('', 'ok') THEN 'healthy runs' ELSE 'other runs' END"
_COPY: Final = (
    "INSERT INTO ids SELECT * FROM old.ids",
    "INSERT INTO texts SELECT * FROM old.texts",
    "UPDATE written SET place = (SELECT place FROM old.written)",
    "INSERT INTO logs SELECT r.* FROM old.logs r WHERE r.place IN kept OR NOT EXISTS (SELECT 1 FROM gone WHERE kind = 'logs' AND app_id = r.app_id)",
    "INSERT INTO failures SELECT r.* FROM old.failures r WHERE r.place IN kept OR NOT EXISTS (SELECT 1 FROM gone WHERE kind = 'failures' AND app_id = r.app_id)",
    f"INSERT INTO runs SELECT r.* FROM old.runs r WHERE r.place IN kept OR NOT EXISTS (SELECT 1 FROM gone WHERE kind = {_RUN_KIND} AND app_id = r.app_id)",  # noqa: S608 - of constants
    """
    INSERT INTO evidence SELECT r.* FROM old.evidence r WHERE CASE r.kind
      WHEN 'failure' THEN r.place IN (SELECT place FROM failures)
      WHEN 'run' THEN r.place IN (SELECT place FROM runs)
      ELSE NOT EXISTS (SELECT 1 FROM gone WHERE kind = 'healthy runs' AND app_id = r.app_id) END""",
)
_LOGS: Final = f"SELECT {', '.join(LogRow._fields)} FROM logs WHERE place > ? ORDER BY place LIMIT {AT_ONCE}"  # noqa: S608 - columns, of a type
_EVIDENCE: Final = f"""
SELECT place, kind, dictionary_id, body FROM evidence WHERE place > ? AND kind IN ('failure', 'run') ORDER BY place LIMIT {AT_ONCE}"""  # noqa: S608 - a number of ours
_TEXT: Final = "SELECT text FROM texts WHERE id = ?"


@dataclass(frozen=True)
class Thinner:
    """A rewritten day's file."""

    path: Path
    written: int
    """The last place of the file that it was made from."""
    rows: int
    """Numbers of failures, logs and runs that are still in it."""
    removed: int
    """And of those that are not."""


def make(source: Path, gone: Mapping[str, Collection[int]], kept: Collection[int], unpack: Unpack) -> Thinner:
    """Make a file without the kinds of apps in ``gone``, except the places in ``kept``; return it. Raises StoreError."""
    bring_up_to_date(source)
    target = source.with_name(source.name + THINNER)
    target.unlink(missing_ok=True)
    target.touch(mode=0o600)
    try:
        return _made(source, target, gone, kept, unpack)
    except BaseException:
        # The disk may be full.
        target.unlink(missing_ok=True)
        raise


def _made(
    source: Path, target: Path, gone: Mapping[str, Collection[int]], kept: Collection[int], unpack: Unpack
) -> Thinner:
    with our_errors(source), closing(sqlite3.connect(target, isolation_level=None, uri=True)) as new:
        new.row_factory = sqlite3.Row
        new.execute(MIDDLE_CACHE)
        # An interrupted file is made again: nothing has to be synced before it is complete.
        new.execute("PRAGMA synchronous = OFF")
        new.executescript(f"BEGIN;\n{schema()}\nPRAGMA user_version = {DAY_SCHEMA_VERSION};\nCOMMIT;")
        new.execute("ATTACH ? AS old", (f"{source.absolute().as_uri()}?mode=ro",))
        new.execute("CREATE TEMP TABLE kept (place INTEGER PRIMARY KEY)")
        new.execute("CREATE TEMP TABLE gone (kind TEXT, app_id INTEGER, PRIMARY KEY (kind, app_id))")
        new.executemany("INSERT OR IGNORE INTO kept VALUES (?)", ((place,) for place in kept))
        pairs = [(kind, app) for kind, apps in gone.items() for app in apps]
        new.executemany("INSERT INTO gone VALUES (?, ?)", pairs)
        new.execute("BEGIN")
        for statement in _COPY:
            new.execute(statement)
        for words in _words(new, unpack):
            new.executemany(ADD_WORDS, words)
        written = int(new.execute("SELECT place FROM written").fetchone()[0])
        before, after = _rows(new, "old."), _rows(new, "main.")
        new.execute("COMMIT")
        new.execute("DETACH old")
        new.execute("PRAGMA synchronous = FULL")
        new.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        return Thinner(target, written, after, before - after)


def _rows(connection: sqlite3.Connection, of: str) -> int:
    counts = (f"SELECT COUNT(*) FROM {of}{table}" for table in ("failures", "logs", "runs"))  # noqa: S608 - of constants
    return sum(int(connection.execute(count).fetchone()[0]) for count in counts)


def _words(new: sqlite3.Connection, unpack: Unpack) -> Iterator[list[tuple[int, str]]]:
    """Yield the words of all kept rows, some at a time: the index itself cannot be read back."""
    numbers: dict[int, str] = {0: ""}

    def text_of(number: int) -> str:
        if number not in numbers:
            row = new.execute(_TEXT, (number,)).fetchone()
            numbers[number] = str(row[0]) if row is not None else ""
        return numbers[number]

    after = 0
    while rows := typed(new.execute(_LOGS, (after,)), LogRow):
        after = rows[-1].place
        yield [(row.place, logs.facts_of(logs.report_of(row, text_of)).indexed) for row in rows]
    after = 0
    while packed := new.execute(_EVIDENCE, (after,)).fetchall():
        after = packed[-1]["place"]
        yield [
            (row["place"], _indexed(row["kind"], json.loads(unpack(row["body"], row["dictionary_id"]))))
            for row in packed
        ]


def _indexed(kind: str, content: dict[str, Any]) -> str:
    return failures.row_of(content).indexed if kind == "failure" else runs.facts_of(content).indexed
