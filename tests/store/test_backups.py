"""Backups: taken while reports come in, brought back to a moment, refused where they are not whole; records that are looked at and mended."""

from __future__ import annotations

import json
import shutil
import sqlite3
import threading
import time
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from obitus.service.settings import Settings
from obitus.service.wiring import Parts
from obitus.store import errors
from obitus.store.backups import listing
from obitus.store.backups.restoring import check, restore
from obitus.store.backups.taking import MAIN, take
from obitus.store.backups.verifying import verify
from tests.conftest import Running, failure, now_text, raised_in

pytestmark = pytest.mark.long

NOW_MS = 1_795_900_000_000


def filled(running: Running, count: int = 5) -> str:
    """Report failures and logs of two days; return the key."""
    key = running.add_app()
    send(running, key, count)
    return key


def send(running: Running, key: str, count: int) -> None:
    reports: list[dict[str, Any]] = [
        failure(
            attributes={"user.id": f"p-{number % 3}"},
            exceptions=raised_in("sailings.tides", f"at_{number % 4}", "Late"),
        )
        for number in range(count)
    ]
    reports += [
        {"kind": "log", "id": failure()["id"], "time": now_text(), "severity": "WARN", "message": f"berth {number}"}
        for number in range(count)
    ]
    assert running.send(key, *reports).status == 200


def data_of(running: Running) -> Path:
    return running.service.settings.data


def counted(data: Path) -> tuple[int, int]:
    """Return how many failures the main file counts, and how many the files of its days hold."""
    with closing(sqlite3.connect(data / MAIN)) as main:
        failures = int(main.execute("SELECT SUM(failures) FROM issues").fetchone()[0] or 0)
    held = 0
    for path in (data / "days").glob("*.sqlite3"):
        with closing(sqlite3.connect(path)) as day:
            held += int(day.execute("SELECT COUNT(*) FROM failures").fetchone()[0])
    return failures, held


def test_a_backup_of_a_running_service_is_brought_back(running: Running, tmp_path: Path) -> None:
    """All of it is there again, a service starts on it, and what was sent twice is known there too."""
    key = filled(running)
    found = take(data_of(running), tmp_path / "kept", NOW_MS)
    assert {one.path.split("/")[0] for one in found.files} == {MAIN, "days"} and found.made_ms == NOW_MS
    send(running, key, 3)
    restore(tmp_path / "kept", tmp_path / "back")
    assert verify(tmp_path / "back") == [] and counted(tmp_path / "back") == (5, 5)
    parts = Parts(Settings(data=tmp_path / "back", port=0))
    try:
        assert parts.records.reader.column(int, "SELECT COUNT(*) FROM failures") == [5]
    finally:
        parts.close()
    assert all((tmp_path / "back" / one.path).stat().st_mode & 0o077 == 0 for one in found.files)


def test_while_reports_come_in(running: Running, tmp_path: Path) -> None:
    """Taken in the middle of a load, again and again: each is the state of one moment, whole, and counts what it holds."""
    key = filled(running)
    going = threading.Event()

    def load() -> None:
        while not going.is_set():
            send(running, key, 20)

    sender = threading.Thread(target=load)
    sender.start()
    try:
        seen = []
        for turn in range(4):
            take(data_of(running), tmp_path / "kept", NOW_MS)
            restore(tmp_path / "kept", tmp_path / f"back-{turn}")
            assert verify(tmp_path / f"back-{turn}") == []
            in_main, in_days = counted(tmp_path / f"back-{turn}")
            assert in_main == in_days
            seen.append(in_main)
            time.sleep(0.1)
    finally:
        going.set()
        sender.join()
    assert seen == sorted(seen) and seen[-1] > seen[0]


def test_only_what_has_changed_is_copied_again(running: Running, tmp_path: Path) -> None:
    """The file of a day that is over stays as it is; the main file comes anew."""
    filled(running)
    running.service.close()
    data = data_of(running)
    take(data, tmp_path / "kept", NOW_MS)
    copied: list[str] = []
    take(data, tmp_path / "kept", NOW_MS + 1, said=lambda name, _: copied.append(name))
    assert copied == [MAIN]
    assert check(tmp_path / "kept").made_ms == NOW_MS + 1


def test_source_maps(running: Running, tmp_path: Path) -> None:
    """They are copied once; the copy of one that was damaged later is kept, and what is no map is left out."""
    filled(running)
    running.service.close()
    maps = data_of(running) / "maps"
    maps.mkdir()
    for name in ("aa.map.zst", "bb.map.zst", "cc.map.zst.partial"):
        (maps / name).write_text(name)

    def kept() -> dict[str, str]:
        take(data_of(running), tmp_path / "kept", NOW_MS)
        check(tmp_path / "kept")
        return {path.name: path.read_text() for path in (tmp_path / "kept" / "maps").iterdir()}

    both = {name: name for name in ("aa.map.zst", "bb.map.zst")}
    assert kept() == both
    (maps / "bb.map.zst").rename(maps / "bb.map.damaged")
    assert kept() == both
    (maps / "aa.map.zst").unlink()
    assert kept() == {"bb.map.zst": "bb.map.zst"}


def test_broken_off_at_any_file(running: Running, tmp_path: Path) -> None:
    """Whatever was copied when it was killed: what lies there is still brought back, and the next one goes on."""
    key = filled(running)
    take(data_of(running), tmp_path / "kept", NOW_MS)
    for stop_at in (1, 2):
        send(running, key, 2)

        def stop(_: str, __: int, at: int = stop_at, left: list[int] = []) -> None:  # noqa: B006 - counts its own calls
            left.append(1)
            if len(left) % 10 == at:
                raise KeyboardInterrupt

        with pytest.raises(KeyboardInterrupt):
            take(data_of(running), tmp_path / "kept", NOW_MS, said=stop)
        shutil.rmtree(tmp_path / "back", ignore_errors=True)
        restore(tmp_path / "kept", tmp_path / "back")
        assert counted(tmp_path / "back") == (5, 5) and verify(tmp_path / "back") == []
    take(data_of(running), tmp_path / "kept", NOW_MS)
    shutil.rmtree(tmp_path / "back")
    restore(tmp_path / "kept", tmp_path / "back")
    assert counted(tmp_path / "back") == (9, 9)
    assert not list((tmp_path / "kept").rglob("*.new"))


def test_what_is_no_backup_is_refused(running: Running, tmp_path: Path) -> None:
    """Another folder's content, the data folder itself, files that were changed, records that are there: nothing is overwritten."""
    filled(running)
    data = data_of(running)
    (tmp_path / "photos").mkdir()
    (tmp_path / "photos/pier.jpg").write_bytes(b"x")
    with pytest.raises(errors.StoreReadOnly, match="no backup"):
        take(data, tmp_path / "photos", NOW_MS)
    with pytest.raises(errors.StoreReadOnly, match="data folder itself"):
        take(data, data / "kept", NOW_MS)
    with pytest.raises(errors.NotThere, match="holds no records"):
        take(tmp_path / "photos", tmp_path / "kept", NOW_MS)
    with pytest.raises(errors.NotThere, match="holds no backup"):
        restore(tmp_path / "photos", tmp_path / "back")
    found = take(data, tmp_path / "kept", NOW_MS)
    with pytest.raises(errors.StoreReadOnly, match="holds records already"):
        restore(tmp_path / "kept", data)
    day = tmp_path / "kept" / next(one.path for one in found.files if one.path.startswith("days/"))
    octets = bytearray(day.read_bytes())
    octets[len(octets) // 2] ^= 1
    day.write_bytes(octets)
    with pytest.raises(errors.StoreDamaged, match="differs from its checksum"):
        restore(tmp_path / "kept", tmp_path / "back")
    day.unlink()
    with pytest.raises(errors.StoreDamaged, match="is missing"):
        restore(tmp_path / "kept", tmp_path / "back")
    assert not (tmp_path / "back" / MAIN).exists()
    later = json.loads((tmp_path / "kept" / listing.NAME).read_text()) | {"schema": 999}
    (tmp_path / "kept" / listing.NAME).write_text(json.dumps(later))
    with pytest.raises(errors.StoreTooNew, match="Start the newer version"):
        restore(tmp_path / "kept", tmp_path / "back")


def test_a_store_of_another_version(running: Running) -> None:
    """What cannot be compared is not called whole."""
    running.service.close()
    with closing(sqlite3.connect(data_of(running) / MAIN)) as main:
        main.execute("PRAGMA user_version = 20")
    with pytest.raises(errors.StoreTooNew, match="has schema version 20"):
        verify(data_of(running))


def test_counts_that_differ_are_named_and_mended(running: Running) -> None:
    """A count that does not follow from its rows: which, by how much; mended by its rows, and only while no service runs."""
    filled(running)
    data = data_of(running)
    assert verify(data) == []
    with pytest.raises(errors.StoreInUse):
        verify(data, repair=True)
    running.service.close()
    with closing(sqlite3.connect(data / MAIN)) as main:
        main.execute("UPDATE issue_counts SET failures = failures + 7 WHERE issue_id = 1")
        main.execute("UPDATE issues SET users = 99 WHERE id = 2")
        main.execute("DELETE FROM issue_days WHERE issue_id = 3")
        main.execute("UPDATE release_hours SET failures = failures + 1 WHERE failures")
        main.commit()
    named = {one.what.split("(")[1].rstrip(")"): one for one in verify(data)}
    assert set(named) == {"issue_counts", "issues.users", "issue_days", "release_hours"}
    assert "9 kept, 2 by its rows" in named["issue_counts"].said and not any(one.mended for one in named.values())
    assert {one.what.split("(")[1].rstrip(")") for one in verify(data, repair=True) if one.mended} == set(named)
    assert verify(data) == []


@pytest.mark.parametrize("broken", ["missing", "cut", "overwritten", "older"])
def test_a_day_that_is_broken(running: Running, tmp_path: Path, broken: str) -> None:
    """A file that is gone, cut, overwritten in the middle, or an older one: it is named; what cannot be read is put aside."""
    key = filled(running, 200)
    data = data_of(running)
    (path,) = (data / "days").glob("*.sqlite3")
    take(data, tmp_path / "kept", NOW_MS)
    send(running, key, 10)
    running.service.close()
    octets = bytearray(path.read_bytes())
    if broken == "missing":
        path.unlink()
    elif broken == "cut":
        path.write_bytes(octets[: len(octets) // 2])
    elif broken == "overwritten":
        page = 4096
        for at in range(2 * page, len(octets), 3 * page):
            octets[at : at + page] = b"\x7f" * page
        path.write_bytes(octets)
    else:
        shutil.copyfile(tmp_path / "kept/days" / path.name, path)
    found = [one for one in verify(data) if one.what.startswith("days/")]
    assert found and all(path.name in one.what and one.said for one in found)
    mended = verify(data, repair=True)
    if broken == "older":
        assert "replaced by an older file" in found[0].said
    assert mended[0].mended and [one for one in verify(data) if one.what.startswith("days/")] == []
    if broken in ("cut", "overwritten"):
        assert list((data / "days").glob("*.damaged-1"))
    parts = Parts(Settings(data=data, port=0))
    parts.close()
