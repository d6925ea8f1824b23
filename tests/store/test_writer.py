"""The single writer: many callers, one commit, nobody reported before it is on disk."""

from __future__ import annotations

import re
import sqlite3
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from obitus.store import errors
from obitus.store.database import Reader
from obitus.store.days.rows import ADD_ID
from obitus.store.migrations import MIGRATIONS, SCHEMA_VERSION, open_for_writing, statement_file
from obitus.store.writer import Writer


@pytest.fixture
def path(tmp_path: Path) -> Path:
    return tmp_path / "records.sqlite3"


@pytest.fixture
def writer(path: Path) -> Iterator[Writer]:
    made = Writer(path, most_waiting=50)
    yield made
    made.close()


def add(name: str) -> object:
    return lambda c: c.execute("INSERT INTO apps (name, kind, created_ms) VALUES (?, 'script', 0)", (name,)).lastrowid


def names(path: Path) -> list[str]:
    reader = Reader(path)
    try:
        return [row["name"] for row in reader.rows("SELECT name FROM apps ORDER BY name")]
    finally:
        reader.close()


def test_work_is_visible_once_it_is_done(writer: Writer, path: Path) -> None:
    """What the future promises, another connection reads."""
    assert writer.run(add("merrow")) == 1  # type: ignore[arg-type]
    assert names(path) == ["merrow"]


def test_work_that_raises_is_rolled_back_alone(writer: Writer, path: Path) -> None:
    """One caller's error leaves the others' work in the same commit in place."""
    hold = threading.Event()
    blocking = writer.submit(lambda c: hold.wait(60))

    def half(c: sqlite3.Connection) -> None:
        c.execute("INSERT INTO apps (name, kind, created_ms) VALUES ('half', 'script', 0)")
        raise ValueError("on the way")

    good, bad, also = writer.submit(add("good")), writer.submit(half), writer.submit(add("also"))  # type: ignore[arg-type]
    hold.set()
    assert blocking.result(5) and good.result(5) and also.result(5)
    with pytest.raises(ValueError, match="on the way"):
        bad.result(5)
    assert names(path) == ["also", "good"]


def test_the_first_work_of_a_commit_is_rolled_back_alone(writer: Writer, path: Path) -> None:
    """What it wrote is gone, in the main file and in a day's; what came after it in the same commit is kept."""
    writer.run(add("merrow"))  # type: ignore[arg-type]
    begun, hold = threading.Event(), threading.Event()

    def half(c: sqlite3.Connection) -> None:
        c.execute("INSERT INTO apps (name, kind, created_ms) VALUES ('half', 'script', 0)")
        file = writer.days.at(20_000)
        file.connection.execute(ADD_ID, (b"1" * 16, 1, file.take_place(0)))
        begun.set()
        hold.wait(60)
        raise ValueError("on the way")

    def whole(_: sqlite3.Connection) -> int:
        file = writer.days.at(20_000)
        return file.connection.execute(ADD_ID, (b"1" * 16, 1, file.take_place(0))).rowcount

    bad = writer.submit(half)
    assert begun.wait(60), "the writer does not take work"
    good, also = writer.submit(add("good")), writer.submit(whole)  # type: ignore[arg-type]
    hold.set()
    with pytest.raises(ValueError, match="on the way"):
        bad.result(5)
    assert good.result(5) and also.result(5) == 1
    assert names(path) == ["good", "merrow"]
    connection = sqlite3.connect(path)
    assert connection.execute("SELECT day, reports FROM days").fetchall() == [(20_000, 1)]
    connection.close()


def test_errors_of_sqlite_become_ours(writer: Writer) -> None:
    """The driver's errors carry the file and SQLite's own name."""
    writer.run(add("merrow"))  # type: ignore[arg-type]
    with pytest.raises(errors.StoreBroken, match="SQLITE_CONSTRAINT_UNIQUE"):
        writer.run(add("merrow"))  # type: ignore[arg-type]


def test_a_full_queue_says_so_at_once(writer: Writer) -> None:
    """Callers never pile up: beyond the bound they are told to come again, and what was queued is still done."""
    begun, hold = threading.Event(), threading.Event()
    writer.submit(lambda c: (begun.set(), hold.wait(60)))
    assert begun.wait(60), "the writer does not take work"
    queued = []
    with pytest.raises(errors.StoreBusy):
        for i in range(60):
            queued.append(writer.submit(add(f"a{i}")))  # type: ignore[arg-type]
    hold.set()
    assert len(queued) == 50 and all(future.result(5) for future in queued)


def test_a_full_disk_acknowledges_nothing(writer: Writer, path: Path) -> None:
    """When the file cannot grow, the whole commit fails and says why; with room again, it goes on."""
    pages = writer.run(lambda c: c.execute("PRAGMA page_count").fetchone()[0])
    writer._connection.execute(f"PRAGMA max_page_count = {pages + 2}")
    big = "x" * 200_000
    with pytest.raises(errors.StoreFull, match="Free some space"):
        writer.run(add(big))  # type: ignore[arg-type]
    writer._connection.execute("PRAGMA max_page_count = 1000000")
    writer.run(add("after"))  # type: ignore[arg-type]
    assert names(path) == ["after"]


def test_close_finishes_what_was_queued(path: Path) -> None:
    """Stopping loses nothing that was taken on; afterwards nothing more is."""
    writer = Writer(path)
    futures = [writer.submit(add(f"a{i}")) for i in range(40)]  # type: ignore[arg-type]
    writer.close()
    assert all(future.done() for future in futures) and len(names(path)) == 40
    with pytest.raises(errors.StoreBusy):
        writer.submit(add("late"))  # type: ignore[arg-type]


def test_the_schema_is_made_once_and_explained(path: Path) -> None:
    """A new file has the current version and is its owner's only; a second opening changes nothing."""
    open_for_writing(path).close()
    connection = open_for_writing(path)
    assert connection.execute("PRAGMA user_version").fetchone()[0] == SCHEMA_VERSION
    assert connection.execute("PRAGMA journal_mode").fetchone()[0] == "wal"
    assert connection.execute("PRAGMA synchronous").fetchone()[0] == 2
    tables = [row[0] for row in connection.execute("SELECT name FROM sqlite_schema WHERE type = 'table'")]
    connection.close()
    assert path.stat().st_mode & 0o077 == 0
    text = "\n".join(statement_file(name) for name in MIGRATIONS)
    made_as = {new: old for old, new in re.findall(r"ALTER TABLE (\w+) RENAME TO (\w+)", text)}
    for table in tables:
        before = text.split(f"CREATE TABLE {made_as.get(table, table)} ")[0].rstrip().splitlines()[-1]
        assert before.startswith("-- "), f"table {table} has no comment"


def test_a_file_of_the_first_version_is_brought_up(path: Path) -> None:
    """What an earlier release wrote is kept, and what came since is there."""
    path.parent.mkdir(parents=True, exist_ok=True)
    old = sqlite3.connect(path)
    old.executescript(f"{statement_file(MIGRATIONS[0])}\nPRAGMA user_version = 1;")
    old.execute("INSERT INTO apps (name, kind, created_ms) VALUES ('sailings', 'fastapi', 1)")
    old.commit()
    old.close()
    connection = open_for_writing(path)
    assert connection.execute("PRAGMA user_version").fetchone()[0] == SCHEMA_VERSION
    assert [row["name"] for row in connection.execute("SELECT name FROM apps")] == ["sailings"]
    assert connection.execute("SELECT COUNT(*) FROM redaction_rules").fetchone()[0] == 0
    connection.close()


def test_a_file_of_a_later_version_is_left_alone(path: Path) -> None:
    """An older program refuses a newer file in words, and does not touch it."""
    connection = open_for_writing(path)
    connection.execute(f"PRAGMA user_version = {SCHEMA_VERSION + 1}")
    connection.close()
    with pytest.raises(errors.StoreTooNew, match="newer version"):
        open_for_writing(path)


def test_a_step_and_its_mark_are_one_transaction(path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A migration that breaks half-way leaves the file as it was, and works the next time."""
    good = statement_file(MIGRATIONS[0])
    with monkeypatch.context() as patch:
        patch.setattr("obitus.store.migrations.statement_file", lambda _: good + "\nCREATE TABLE apps (twice);")
        with pytest.raises(errors.StoreBroken):
            open_for_writing(path)
    connection = open_for_writing(path)
    assert connection.execute("SELECT COUNT(*) FROM apps").fetchone()[0] == 0
    connection.close()


def test_a_reader_cannot_write_and_not_ask_for_ever(path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Reading connections are read-only, and a question has a time limit."""
    open_for_writing(path).close()
    reader = Reader(path)
    with pytest.raises(errors.StoreReadOnly, match="SQLITE_READONLY"):
        reader.rows("DELETE FROM apps")
    monkeypatch.setattr("obitus.store.database.READ_LIMIT_S", 0.05)
    with pytest.raises(errors.QueryTooLong, match="shorter window"):
        reader.rows("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT MAX(i) FROM n")
    with pytest.raises(errors.NotThere, match="no app"):
        reader.one("SELECT 1 FROM apps", what="app")
    reader.close()


def test_who_waits_for_a_commit_comes_before_who_watches_commits(writer: Writer) -> None:
    """Jobs are woken once the sender has its answer."""
    done: list[bool] = []
    waiting = threading.Event()
    writer.committed = lambda: done.append(future.done())
    future = writer.submit(lambda _: waiting.wait(30))
    waiting.set()
    assert future.result(30)
    writer.run(lambda _: None)
    assert done[0] is True


def test_changes_are_announced_before_work_is_done(writer: Writer) -> None:
    """Once for each commit with one of the changes that were named, and for no other; what waits for the commit comes later."""
    seen: list[int] = []
    writer.run(add("merrow"))  # type: ignore[arg-type]
    triggers = [
        f"CREATE TEMP TRIGGER noted_{number} AFTER {change} ON apps BEGIN SELECT apps_changed(); END"
        for number, change in enumerate(("UPDATE OF limited", "DELETE"))
    ]
    writer.call_after(triggers, "apps_changed", lambda: seen.append(len(seen)))
    writer.run(add("skerry"))  # type: ignore[arg-type]
    writer.run(lambda c: c.execute("UPDATE apps SET kind = 'fastapi'"))
    assert seen == []
    for count, statement in enumerate(("UPDATE apps SET limited = 1", "DELETE FROM apps WHERE name = 'skerry'"), 1):
        by_then: list[int] = []
        future = writer.submit(lambda c, statement=statement: c.execute(statement))  # type: ignore[misc]
        future.add_done_callback(lambda _, by_then=by_then: by_then.append(len(seen)))  # type: ignore[misc]
        future.result(60)
        writer.run(lambda c: None)
        assert len(seen) == count and by_then == [count]

    def fails(connection: sqlite3.Connection) -> None:
        connection.execute("DELETE FROM apps")
        raise ValueError

    with pytest.raises(ValueError):
        writer.run(fails)
    # The flag is not part of what is taken back: one call too many does no harm.
    assert len(seen) == 3


def test_a_job_that_fails_leaves_no_file_outside_of_the_folder(writer: Writer) -> None:
    """What it is taken back with is kept in memory, not in a file of the system's temporary folder: evidence stays where it belongs."""
    in_memory = "PRAGMA temp_store"
    assert writer.run(lambda c: c.execute(in_memory).fetchone()[0]) == 2
    assert writer.run(lambda _: writer.days.at(20_000).connection.execute(in_memory).fetchone()[0]) == 2
