"""``obitus doctor``: each thing that can be wrong with an installation is found, named, and said what to do about."""

from __future__ import annotations

import json
import os
import shutil
import socket
import sqlite3
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import pytest

from obitus.store.backups import taken
from obitus.store.database import lock_folder
from obitus.store.migrations import SCHEMA_VERSION
from tests.cli.shell import Shell, words
from tests.conftest import Running, failure
from tests.end_to_end.test_nothing_is_lost import free_port


@pytest.fixture(scope="module")
def copied(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    """A folder of records that no service runs on, in which nothing is wrong."""
    from tests.conftest import start

    folder = tmp_path_factory.mktemp("copied") / "data"
    service, running = start(folder)
    running.send(running.add_app(), failure())
    running.http.clear()
    service.stop()
    for path in (folder, *folder.rglob("*")):
        path.chmod(0o700 if path.is_dir() else 0o600)
    taken.note(folder, taken.Latest(int(time.time() * 1000), "/mnt/depot", 1))
    yield folder


def found(shell: Shell, data: Path, *more: str, status: int = 0) -> dict[str, tuple[str, str, str]]:
    said = json.loads(
        shell.run("doctor", "--data", str(data), "--json", "--port", str(free_port()), *more, status=status)
    )
    return {one["what"]: (one["grade"], one["said"], one["to_do"]) for one in said["found"]}


def test_all_is_well(shell: Shell, running: Running, tmp_path: Path) -> None:
    """Beside a running service with a backup of today there is nothing to do."""
    data = running.service.settings.data
    shell.run("backup", str(tmp_path / "kept"), "--data", str(data))
    for path in (data, *data.rglob("*")):
        path.chmod(0o700 if path.is_dir() else 0o600)
    (data / "obitus.lock").write_text(f"{os.getpid()}\n{running.url}\n")
    said = words(shell.run("doctor", "--data", str(data)))
    assert f"ready at {running.url}" in said and "wrong" not in said
    assert "of the last day, in" in said


def _forward(data: Path) -> None:
    with closing(sqlite3.connect(data / "obitus.sqlite3")) as main:
        main.execute("UPDATE days SET latest_ms = latest_ms + 1e12")
        main.commit()


def _newer(data: Path) -> None:
    with closing(sqlite3.connect(data / "obitus.sqlite3")) as main:
        main.execute(f"PRAGMA user_version = {SCHEMA_VERSION + 1}")


def _older(data: Path) -> None:
    with closing(sqlite3.connect(data / "obitus.sqlite3")) as main:
        main.execute("PRAGMA user_version = 3")


def _sealed(data: Path) -> None:
    with closing(sqlite3.connect(data / "obitus.sqlite3")) as main:
        rows = [row for row in main.execute("PRAGMA table_info(channels)") if row[3] and row[4] is None and not row[5]]
        names, marks = ", ".join(row[1] for row in rows), ", ".join("?" for _ in rows)
        values = [1 if row[2] == "INTEGER" else "webhook" for row in rows]
        main.execute("PRAGMA foreign_keys = OFF")
        main.execute(f"INSERT INTO channels ({names}) VALUES ({marks})", values)
        main.commit()
    (data / "channels.key").unlink(missing_ok=True)


def _damaged(data: Path) -> None:
    (data / "obitus.sqlite3").write_bytes(os.urandom(8192))


TROUBLE: dict[str, tuple[Callable[[Path], object], str, str, str]] = {
    "others may read": (lambda data: (data / "obitus.sqlite3").chmod(0o644), "rights", "soon", "others may read"),
    "a day is gone": (lambda data: [path.unlink() for path in (data / "days").glob("*.sqlite3")], "days", "wrong", "is missing"),
    "no database": (_damaged, "records", "wrong", "cannot be read"),
    "a newer version": (_newer, "version", "wrong", f"this Obitus knows up to {SCHEMA_VERSION}"),
    "an older version": (_older, "version", "soon", "at its next start"),
    "the clock went back": (_forward, "clock", "soon", "ahead of this machine's clock"),
    "no backup": (lambda data: (data / taken.NAME).unlink(), "backup", "soon", "none was taken"),
    "an old backup": (lambda data: taken.note(data, taken.Latest(int(time.time() * 1000) - 9 * 86_400_000, "/mnt/depot", 1)), "backup", "soon", "9 days old, in /mnt/depot"),
    "the key of secrets": (_sealed, "keys", "wrong", "cannot be opened"),
    "a service was killed": (lambda data: (data / "obitus.sqlite3-wal").write_bytes(b"x" * 5000), "log of writes", "right", "left by a service that was killed"),
    "no records": (lambda data: (data / "obitus.sqlite3").unlink(), "records", "soon", "no records yet"),
}  # fmt: skip


@pytest.mark.parametrize("name", TROUBLE)
def test_trouble_is_found(shell: Shell, copied: Path, tmp_path: Path, name: str) -> None:
    """One thing is wrong: that is said, with what to do; nothing else is, and nothing is changed."""
    act, what, grade, words_of_it = TROUBLE[name]
    data = tmp_path / "own"
    shutil.copytree(copied, data)
    before = found(shell, data)
    assert {one[0] for one in before.values()} == {"right"}, before
    act(data)
    held = {path: path.read_bytes() for path in data.rglob("*") if path.is_file() and path.name != "obitus.lock"}
    after = found(shell, data, status=1 if grade == "wrong" else 0)
    assert after[what][0] == grade and words_of_it in after[what][1], after[what]
    assert after[what][2] or grade == "right"
    if name != "a service was killed":
        assert {path: path.read_bytes() for path in held} == held


def test_the_port_and_a_service_that_does_not_answer(shell: Shell, copied: Path, tmp_path: Path) -> None:
    """A port that another program has, and a lock that is held while nobody answers."""
    data = tmp_path / "own"
    shutil.copytree(copied, data)
    with socket.create_server(("127.0.0.1", 0)) as taken_port:
        port = taken_port.getsockname()[1]
        assert found(shell, data, "--port", str(port))["port"][0] == "soon"
    with lock_folder(data) as held:
        assert "starting, or stopping" in found(shell, data)["service"][1]
        held.write(f"\nhttp://127.0.0.1:{free_port()}")
        held.flush()
        assert "does not answer" in found(shell, data, status=1)["service"][1]
    assert found(shell, tmp_path / "nowhere")["folder"][0] == "soon"
