"""The spool: append-only segments, torn writes, takeover, bounds, and folders that cannot be used."""

from __future__ import annotations

import logging
import os
from collections import Counter
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import obitus
from obitus.client.spool import SEGMENT_BYTES, Spool
from tests.conftest import Running


class Dropped(Counter[str]):
    def __call__(self, why: str, count: int) -> None:
        self[why] += count


def opened(folder: Path, dropped: Dropped | None = None, **bounds: float) -> Spool:
    limits = {"most_bytes": 64 * 1024 * 1024, "most_age_s": 3600} | bounds
    return Spool(folder, dropped=Dropped() if dropped is None else dropped, **limits)  # type: ignore[arg-type]


def drained(spool: Spool) -> list[bytes]:
    found: list[bytes] = []
    while (batch := spool.peek(7, 10_000)).lines:
        found += batch.lines
        spool.done(batch)
    return found


@given(st.lists(st.binary(max_size=200).map(lambda line: line + b"\n"), max_size=40))
def test_what_goes_in_comes_out_in_order(tmp_path_factory: pytest.TempPathFactory, lines: list[bytes]) -> None:
    """Whatever lines are written, in whatever batches, come out once, in order, and leave nothing behind."""
    folder = tmp_path_factory.mktemp("spool")
    spool = opened(folder)
    for start in range(0, len(lines), 3):
        spool.append(lines[start : start + 3])
    assert spool.waiting == len(lines)
    assert drained(spool) == lines and spool.waiting == spool.waiting_bytes == 0
    spool.close()
    assert list(folder.iterdir()) == []


@given(st.integers(0, 400))
def test_a_kill_in_the_middle_of_a_write(tmp_path_factory: pytest.TempPathFactory, cut: int) -> None:
    """However many bytes of the last write reached the disk, the whole lines before it come out and no half one does."""
    folder = tmp_path_factory.mktemp("spool")
    spool = opened(folder)
    spool.append([b"first\n", b"second\n"])
    before = spool.waiting_bytes
    spool.append([b"x" * 300 + b"\n"])
    (path,) = folder.iterdir()
    whole = path.read_bytes()
    # As a process that is gone leaves it: cut off, and its lock free.
    path.write_bytes(whole[: before + cut])
    spool.forget()
    later = opened(folder)
    later.adopt()
    assert drained(later) == [b"first\n", b"second\n", b"x" * 300 + b"\n"][: 3 if before + cut >= len(whole) else 2]
    later.close()


def test_two_processes_share_a_folder(tmp_path: Path) -> None:
    """What a living process holds is left alone; what a dead one left is taken over by one other, whole."""
    one, two, three = opened(tmp_path), opened(tmp_path), opened(tmp_path)
    one.append([b"one\n"])
    two.append([b"two\n"])
    assert two.adopt() == 0 and two.waiting == 1
    one.forget()
    assert (two.adopt(), three.adopt()) == (1, 0)
    assert drained(two) == [b"one\n", b"two\n"]
    for spool in (two, three):
        spool.close()
    assert list(tmp_path.iterdir()) == []


def test_what_was_sent_is_not_kept_by_a_close(tmp_path: Path) -> None:
    """Closed half-way, a segment holds only what was not sent yet."""
    spool = opened(tmp_path)
    spool.append([b"%d\n" % i for i in range(10)])
    spool.done(spool.peek(4, 10_000))
    spool.close()
    later = opened(tmp_path)
    assert later.adopt() == 6 and drained(later) == [b"%d\n" % i for i in range(4, 10)]
    later.close()


def test_size_is_bounded_and_the_oldest_go(tmp_path: Path) -> None:
    """Beyond the bound the oldest segments go, and every line of them is counted."""
    dropped = Dropped()
    spool = opened(tmp_path, dropped, most_bytes=3 * SEGMENT_BYTES)
    for i in range(100):
        spool.append([b"%06d" % i + b"x" * 100_000 + b"\n"])
    kept = drained(spool)
    assert len(kept) + dropped["the spool is full"] == 100 and kept[-1].startswith(b"000099")
    assert sum(len(line) for line in kept) <= 3 * SEGMENT_BYTES
    spool.close()


def test_the_bound_is_the_folders(tmp_path: Path) -> None:
    """Several processes together stay within it."""
    spools = [opened(tmp_path, most_bytes=3 * SEGMENT_BYTES) for _ in range(3)]
    for i in range(60):
        spools[i % 3].append([b"x" * 200_000 + b"\n"])
    assert sum(path.stat().st_size for path in tmp_path.iterdir()) <= 3 * SEGMENT_BYTES + 3 * SEGMENT_BYTES
    for spool in spools:
        spool.close()


def test_age_is_bounded(tmp_path: Path) -> None:
    """What is older than the bound, and could not be sent, goes, and is counted."""
    now = [1_000_000.0]
    dropped = Dropped()
    spool = Spool(tmp_path, most_bytes=10**9, most_age_s=60, dropped=dropped, clock_s=lambda: now[0])
    spool.append([b"x" * (SEGMENT_BYTES - 30) + b"\n"])
    now[0] += 100
    # The clock may have been wrong when it was written: it is tried once before it goes.
    spool.append([b"new\n"])
    assert dropped == {} and spool.peek(1, 10).lines
    spool.append([b"newer\n"])
    assert dropped == {"too old in the spool": 1} and drained(spool) == [b"new\n", b"newer\n"]
    spool.close()


def test_damage_is_counted_and_passed_over(tmp_path: Path) -> None:
    """A segment in which bytes were changed gives what comes before them; the rest is counted."""
    spool = opened(tmp_path)
    spool.append([b"good\n", b"bad\n", b"lost\n"])
    (path,) = tmp_path.iterdir()
    path.write_bytes(path.read_bytes().replace(b"bad\n", b"b@d\n"))
    dropped = Dropped()
    spool._dropped = dropped
    assert drained(spool) == [b"good\n"] and sum(dropped.values()) == 2
    spool.append([b"after\n"])
    assert drained(spool) == [b"after\n"]
    spool.close()


@pytest.mark.parametrize("trouble", ["a file is in the way", "no right to write", "the disk is full"])
def test_a_spool_that_cannot_be_used(
    running: Running, tmp_path: Path, caplog: pytest.LogCaptureFixture, monkeypatch: pytest.MonkeyPatch, trouble: str
) -> None:
    """The app never notices, the log says once what is wrong and what to do, and reports arrive all the same."""
    place = tmp_path / "place"
    if trouble == "a file is in the way":
        place.write_text("x")
    elif trouble == "no right to write":
        opens = os.open

        def refuses(path: Any, *given: Any, **named: Any) -> int:
            if str(path).startswith(str(place)):
                raise PermissionError(13, "Permission denied")
            return opens(path, *given, **named)

        monkeypatch.setattr(os, "open", refuses)
    else:
        real = os.pwrite
        monkeypatch.setattr(os, "pwrite", lambda *a: (_ for _ in ()).throw(OSError(28, "No space left on device")))
        assert real is not os.pwrite
    with caplog.at_level(logging.WARNING, "obitus"):
        obitus.watch(url=running.url, key=running.add_app(), spool=place)
        for i in range(5):
            obitus.record(ValueError(str(i)))
        assert obitus.flush(60)
    texts = [record.getMessage() for record in caplog.records if record.name == "obitus"]
    assert sum("reports wait in memory" in text for text in texts) == 1, texts
    assert len(running.issues()) == 1 and running.issues()[0]["failures"] == 5


def test_a_wrong_clock_loses_nothing(tmp_path: Path) -> None:
    """What was written while the clock stood years ago is sent once it is right, and not thrown away for its age."""
    written = Spool(tmp_path, most_bytes=10**9, most_age_s=60, dropped=Dropped(), clock_s=lambda: 1_000.0)
    written.append([b"from long ago\n"])
    written.put_down(b"and beside it\n")
    written.forget()
    dropped = Dropped()
    right = Spool(tmp_path, most_bytes=10**9, most_age_s=60, dropped=dropped, clock_s=lambda: 2_000_000_000.0)
    assert right.adopt() == 2 and sorted(drained(right)) == [b"and beside it\n", b"from long ago\n"] and dropped == {}
    right.close()


def test_half_files_do_not_pile_up(tmp_path: Path) -> None:
    """What a process left that was killed while it put a report down is removed after a while, and not before."""
    spool = opened(tmp_path)
    old, new = tmp_path / "000000000000001-1-a-b.partial", tmp_path / "000000000000002-1-a-b.partial"
    for path in (old, new):
        path.write_bytes(b"half")
    os.utime(old, (1, 1))
    spool.adopt()
    assert not old.exists() and new.exists()
    spool.close()
