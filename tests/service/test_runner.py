"""Jobs read events from positions of their own: in order, at least once, and none waits for another."""

from __future__ import annotations

import signal
import subprocess
import sys
import threading
from pathlib import Path
from typing import Any, ClassVar

import pytest

from obitus.service.jobs.runner import Interrupted, Job, Runner
from obitus.store import events
from obitus.store.errors import StoreFull
from obitus.store.records import OpenRecords, Records
from tests.conftest import until


class Reading(Job):
    """Notes what it is given; ``before`` may do something first."""

    name: ClassVar = "reading"

    def __init__(self) -> None:
        self.read: list[int] = []
        self.turns = 0

    def before(self, event: events.Event) -> None:
        """Go on."""

    def take(self, event: events.Event) -> None:
        self.before(event)
        self.read.append(event.id)

    def finish_turn(self) -> None:
        self.turns += 1


@pytest.fixture
def records(tmp_path: Path) -> Any:
    found = OpenRecords(tmp_path / "obitus.sqlite3", "http://localhost")
    yield found
    found.close()


def happen(records: Records, count: int, kind: events.Kind = "act") -> None:
    for number in range(count):
        records.writer.run(lambda c, number=number: events.add(c, kind, number, act=f"act {number}"))  # type: ignore[misc]


def run(records: Records, *jobs: Job) -> Runner:
    runner = Runner(records)
    runner.start(jobs)
    return runner


def test_in_order_and_on_from_there(records: Records) -> None:
    """What happened while no job ran is read first; a closed runner keeps its positions."""
    happen(records, 5)
    first = Reading()
    runner = run(records, first)
    happen(records, 700)
    until(lambda: first.read[-1:] == [705])
    runner.close()
    assert first.read == list(range(1, 706)) and first.turns >= 1
    assert events.position(records.reader, "reading") == 705
    happen(records, 3)
    second = Reading()
    runner = run(records, second)
    until(lambda: runner.is_idle("reading"))
    runner.close()
    assert second.read == [706, 707, 708]


def test_only_the_kinds_that_it_wants(records: Records) -> None:
    """What it does not want it is past, too: nothing that happened is kept for it."""

    class Choosy(Reading):
        kinds: ClassVar = frozenset[events.Kind]({"deploy"})

    job = Choosy()
    runner = run(records, job)
    happen(records, 3)
    happen(records, 1, "deploy")
    happen(records, 2)
    runner.look("reading")
    assert job.read == [4] and events.position(records.reader, "reading") == 6
    runner.close()


def test_from_newest(records: Records) -> None:
    """A job may leave out what happened before it ran for the first time, and only then."""

    class Late(Reading):
        from_newest: ClassVar = True

    happen(records, 4)
    job = Late()
    runner = run(records, job)
    runner.close()
    happen(records, 2)
    again = Late()
    runner = run(records, again)
    until(lambda: runner.is_idle("reading"))
    runner.close()
    assert job.read == [] and again.read == [5, 6]


def test_a_slow_job_holds_nobody_up(records: Records) -> None:
    """While one is in the middle of an event, another reads on, and things are written."""
    enough = threading.Event()

    class Slow(Reading):
        name: ClassVar = "slow"

        def before(self, event: events.Event) -> None:
            enough.wait(60)

    slow, quick = Slow(), Reading()
    runner = run(records, slow, quick)
    happen(records, 20)
    until(lambda: len(quick.read) == 20)
    assert slow.read == [] and not runner.is_idle("slow")
    enough.set()
    until(lambda: len(slow.read) == 20)
    runner.close()
    assert slow.read == quick.read


def test_one_event_that_cannot_be_handled_is_passed_over(
    records: Records, caplog: pytest.LogCaptureFixture, monkeypatch: pytest.MonkeyPatch
) -> None:
    """After some tries, in words; the others come all the same."""
    monkeypatch.setattr("obitus.service.jobs.runner.AGAIN_S", 0.01)
    tries: list[int] = []

    class Choking(Reading):
        def before(self, event: events.Event) -> None:
            if event.id == 3:
                tries.append(event.id)
                raise ValueError("no such issue")

    job = Choking()
    runner = run(records, job)
    happen(records, 5)
    until(lambda: job.read == [1, 2, 4, 5])
    runner.close()
    assert tries == [3, 3, 3]
    assert "passes over event 3 (act)" in caplog.text


def test_nothing_is_passed_over_while_nothing_can_be_written(records: Records, monkeypatch: pytest.MonkeyPatch) -> None:
    """A full disk is no fault of the event: the job tries until there is room."""
    monkeypatch.setattr("obitus.service.jobs.runner.AGAIN_S", 0.01)
    tries: list[int] = []

    class Writing(Reading):
        def before(self, event: events.Event) -> None:
            tries.append(event.id)
            if records.writer.trouble is not None:
                raise records.writer.trouble

    happen(records, 2)
    records.writer.trouble = StoreFull("the disk is full")
    job = Writing()
    runner = Runner(records)
    # What starts a runner is written too, so the trouble is said again after that.
    runner.start([job])
    records.writer.trouble = StoreFull("the disk is full")
    happened = len(tries)
    until(lambda: len(tries) > happened + 10 or bool(job.read))
    records.writer.trouble = None
    until(lambda: job.read == [1, 2])
    runner.close()


def test_a_job_that_is_interrupted_gets_the_event_again(records: Records) -> None:
    """It breaks off because the service stops; what it was at is not read yet."""

    class Breaking(Reading):
        def before(self, event: events.Event) -> None:
            if event.id == 2:
                assert runner.stopping.wait(60)
                raise Interrupted

    job = Breaking()
    runner = run(records, job)
    happen(records, 3)
    until(lambda: job.read == [1])
    runner.close()
    assert events.position(records.reader, "reading") == 1


def test_a_stop_while_a_commit_is_looked_at(records: Records) -> None:
    """The word to stop comes right before what was said of a commit is forgotten: it is not forgotten with it."""
    forgetting, go_on = threading.Event(), threading.Event()

    class Held(threading.Event):
        stopped = False

        def set(self) -> None:
            super().set()
            self.stopped = runner.stopping.is_set()

        def clear(self) -> None:
            forgetting.set()
            assert go_on.wait(60)
            super().clear()

    runner = Runner(records)
    runner._committed = held = Held()
    runner.start([Reading()])
    happen(records, 1)
    assert forgetting.wait(60)
    closing = threading.Thread(target=runner.close)
    closing.start()
    until(lambda: held.stopped)
    go_on.set()
    closing.join(60)
    assert not closing.is_alive()


def test_the_position_of_a_job_that_is_no_more_goes(records: Records) -> None:
    """Else it would keep all events for good."""
    records.writer.run(lambda c: events.move(c, "long ago", 0))
    happen(records, 3)
    runner = run(records, Reading())
    runner.look("reading")
    assert events.position(records.reader, "long ago") is None
    assert records.writer.run(lambda c: events.prune(c, 10**12)) == 2
    runner.close()


KILLED = """
import os, signal, sys, time
from pathlib import Path
from obitus.service.jobs import runner
from obitus.store import events
from obitus.store.records import OpenRecords

at, kept = int(sys.argv[2]), len(sys.argv) > 3
runner.KEPT_EVERY_S = 0.0 if kept else 60.0

class Reading(runner.Job):
    name = "reading"
    def take(self, event):
        with open(sys.argv[1] + "/read", "a") as file:
            file.write(f"{event.id}\\n")
        if event.id == at:
            os.kill(os.getpid(), signal.SIGKILL)

records = OpenRecords(Path(sys.argv[1]) / "obitus.sqlite3", "http://localhost")
running = runner.Runner(records)
running.start([Reading()])
for number in range(40):
    records.writer.run(lambda c: events.add(c, "act", number, act="one"))
while not running.is_idle("reading"):
    time.sleep(0.01)
running.close()
records.close()
"""


@pytest.mark.parametrize("kept", [(), ("kept",)], ids=["kept now and then", "kept at once"])
def test_killed_in_the_middle(tmp_path: Path, kept: tuple[str, ...]) -> None:
    """Each start reads on, without a gap; what was read again is in order too."""
    for at in (3, 17, 38, 0):
        child = subprocess.run(
            [sys.executable, "-c", KILLED, str(tmp_path), str(at), *kept], capture_output=True, text=True
        )
        assert child.returncode == (-signal.SIGKILL if at else 0), child.stderr
    read = [int(line) for line in (tmp_path / "read").read_text().split()]
    known = 0
    for number in read:
        assert number <= known + 1, read
        known = max(known, number)
    records = OpenRecords(tmp_path / "obitus.sqlite3", "http://localhost")
    assert known == events.newest(records.reader) == events.position(records.reader, "reading")
    records.close()


class Plain(Job):
    """Only reads events."""

    name: ClassVar = "plain"

    def __init__(self) -> None:
        self.read: list[int] = []

    def take(self, event: events.Event) -> None:
        self.read.append(event.id)


def test_a_commit_without_an_event_wakes_only_who_looks_at_commits(records: Records) -> None:
    """Most commits bring no event: a job that only reads events sleeps through them, and gets the next one all the same."""
    plain, looking = Plain(), Reading()
    runner = run(records, plain, looking)
    try:
        until(lambda: runner.is_idle("plain") and runner.is_idle("reading"))
        asleep = runner._runs["plain"].woken
        until(lambda: not asleep.is_set())
        before = looking.turns
        for _ in range(3):
            records.writer.run(lambda c: c.execute("UPDATE apps SET name = name"))
        until(lambda: looking.turns > before)
        assert not asleep.is_set()
        happen(records, 1)
        until(lambda: len(plain.read) == 1 and len(looking.read) == 1)
    finally:
        runner.close()
