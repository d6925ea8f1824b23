"""Connections for reading: one for each thread that lives."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from obitus.store.database import Reader
from obitus.store.writer import Writer


@pytest.fixture
def reader(tmp_path: Path) -> Iterator[Reader]:
    """A reader of an empty store."""
    writer = Writer(tmp_path / "obitus.sqlite3")
    found = Reader(tmp_path / "obitus.sqlite3")
    yield found
    found.close()
    writer.close()


def in_thread(reader: Reader) -> None:
    """Read in a thread that ends after that."""
    thread = threading.Thread(target=lambda: reader.rows("SELECT COUNT(*) FROM apps"))
    thread.start()
    thread.join()


def test_threads_that_end_leave_no_files_open(reader: Reader) -> None:
    """However many read, one after the other; a thread that lives keeps its connection."""
    reader.rows("SELECT 1")
    in_thread(reader)
    few = len(os.listdir("/proc/self/fd"))
    for _ in range(40):
        in_thread(reader)
    assert len(os.listdir("/proc/self/fd")) <= few + 2
    with reader.lend() as connection, reader.lend() as again:
        assert connection is again


def test_one_that_reads_keeps_its_connection_while_others_come_and_go(reader: Reader) -> None:
    """Nobody's connection is closed under them."""
    began, goes_on = threading.Event(), threading.Event()
    answers: list[int] = []

    def read() -> None:
        with reader.lend() as connection:
            began.set()
            assert goes_on.wait(60)
            answers.append(int(connection.execute("SELECT 7").fetchone()[0]))

    thread = threading.Thread(target=read)
    thread.start()
    assert began.wait(60)
    for _ in range(5):
        in_thread(reader)
    goes_on.set()
    thread.join()
    assert answers == [7]
