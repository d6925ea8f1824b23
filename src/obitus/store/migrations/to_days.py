"""To version 8: reports move from the main file into one file for each day.

The day files are written and committed first. As long as the main file does not have version 8 none of them counts:
an interrupted upgrade removes them and starts over.
"""

from __future__ import annotations

import json
import shutil
import sqlite3
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Final

import zstandard

from obitus.core.days import UNDATED, day_of, seq_of
from obitus.store.database import Row, let_go
from obitus.store.days import failures, logs, runs
from obitus.store.days.files import folder_beside, open_day, path_of
from obitus.store.days.rows import ADD_EVIDENCE, ADD_ID, ADD_WORDS
from obitus.store.days.texts import Texts
from obitus.store.days.writing import MOST_DAYS

ROWS_AT_ONCE: Final = 10_000
_MOVED: Final = "CREATE TABLE moved (old INTEGER PRIMARY KEY, new INTEGER NOT NULL, day INTEGER NOT NULL, place INTEGER NOT NULL) STRICT"
_BY_DAY: Final = "CREATE INDEX moved_by_day ON moved (day, place)"
_MOVE: Final = "INSERT INTO moved VALUES (?, ?, ?, ?)"
_DAYS: Final = "SELECT day, MAX(place) AS places FROM moved GROUP BY day ORDER BY day"
_REPORTS: Final = """
SELECT m.place, r.id, r.app_id, r.kind, r.environment, r.release_id, r.time_ms, r.received_ms, e.dictionary_id, e.body
FROM moved m JOIN reports r ON r.seq = m.old LEFT JOIN evidence e ON e.seq = m.old
WHERE m.day = ? AND m.place > ? ORDER BY m.place LIMIT ?"""
_DICTIONARIES: Final = "SELECT id, body FROM dictionaries"


def move(connection: sqlite3.Connection, path: Path) -> None:
    """Copy all reports into day files, and store their new numbers in a table ``moved``."""
    folder = folder_beside(path)
    shutil.rmtree(folder, ignore_errors=True)
    connection.execute(_MOVED)
    places: Counter[int] = Counter()
    for row in connection.execute("SELECT seq, id, time_ms FROM reports ORDER BY seq"):
        day = day_of(row["id"], row["time_ms"])
        if day not in places and len(places) >= MOST_DAYS:
            day = UNDATED
        places[day] += 1
        connection.execute(_MOVE, (row["seq"], seq_of(day, places[day]), day, places[day]))
    connection.execute(_BY_DAY)
    if not places:
        return
    dictionaries = {row["id"]: zstandard.ZstdCompressionDict(row["body"]) for row in connection.execute(_DICTIONARIES)}
    for row in connection.execute(_DAYS).fetchall():
        _fill(connection, path_of(folder, row["day"]), row["day"], row["places"], dictionaries)


def _fill(connection: sqlite3.Connection, path: Path, day: int, places: int, dictionaries: dict[int, zstandard.ZstdCompressionDict]) -> None:  # fmt: skip
    target = open_day(path)
    try:
        texts = Texts(target)
        for rows in _pages(connection, day):
            target.execute("BEGIN IMMEDIATE")
            for row in rows:
                target.execute(ADD_ID, (row["id"], row["app_id"], row["place"]))
                if row["body"] is None:
                    continue
                if row["kind"] != "log":
                    target.execute(
                        ADD_EVIDENCE, (row["place"], row["app_id"], row["kind"], row["dictionary_id"], row["body"])
                    )
                if row["kind"] == "tally":
                    continue
                unpacker = zstandard.ZstdDecompressor(dict_data=dictionaries.get(row["dictionary_id"] or 0))
                content = json.loads(unpacker.decompress(row["body"]))
                late_ms = row["received_ms"] - row["time_ms"]
                before = (row["place"], row["time_ms"], late_ms, row["app_id"], row["release_id"])
                if row["kind"] == "log":
                    log = logs.facts_of(content)
                    target.execute(logs.ADD, (*before, *logs.columns(log, texts, row["environment"])))
                    target.execute(ADD_WORDS, (row["place"], log.indexed))
                elif row["kind"] == "failure":
                    failure = failures.row_of(content)
                    target.execute(failures.ADD, (*before, *failures.columns(failure, texts, row["environment"])))
                    target.execute(ADD_WORDS, (row["place"], failure.indexed))
                else:
                    run = runs.facts_of(content)
                    target.execute(runs.ADD, (*before, *runs.columns(run, texts, row["environment"])))
                    target.execute(ADD_WORDS, (row["place"], run.indexed))
            target.execute("COMMIT")
        target.execute("UPDATE written SET place = ?", (places,))
    finally:
        let_go(target, path)


def _pages(connection: sqlite3.Connection, day: int) -> Iterator[list[Row]]:
    after = 0
    while rows := connection.execute(_REPORTS, (day, after, ROWS_AT_ONCE)).fetchall():
        yield rows
        after = rows[-1]["place"]
