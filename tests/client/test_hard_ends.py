"""Hard ends: killed, crashed, out of disk. The next start tells what the process could not tell any more."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests import kept
from tests.client.programs import environment_for, run, write
from tests.client.test_unhandled import failures
from tests.conftest import Running

NEXT_START = "import obitus\nobitus.watch()\nassert obitus.flush(60)"


def start(running: Running, key: str, folder: Path, code: str) -> subprocess.Popen[str]:
    script = write(folder, code)
    return subprocess.Popen(
        [sys.executable, str(script)], env=environment_for(running, key), stdout=subprocess.PIPE, text=True, cwd=folder
    )


def test_a_killed_run_is_told_by_the_next_start(running: Running, tmp_path: Path) -> None:
    """kill -9 in the middle of a run: the next start reports that it never ended, with its trail and its release."""
    key = running.add_app()
    code = """
        import obitus, time
        obitus.watch(release="2.8.0")
        with obitus.run("job nightly-manifest", sailing="SK-4711"):
            obitus.mark("rows read", rows=62, password="hunter2-3f9a77")
            print("in it", flush=True)
            time.sleep(60)
    """
    process = start(running, key, tmp_path, code)
    assert process.stdout is not None and process.stdout.readline() == "in it\n"
    time.sleep(1.5)
    left = b"".join(path.read_bytes() for path in (tmp_path / "spool").rglob("*") if path.is_file())
    assert b"nightly-manifest" in left and b"hunter2" not in left
    process.send_signal(signal.SIGKILL)
    process.wait()
    process.stdout.close()
    assert run(running, key, tmp_path, NEXT_START).returncode == 0
    (report,) = failures(running, 1)
    assert report["exceptions"][0]["type"] == "Killed" and report["captured_by"] == "next start"
    assert report["run"]["entry_point"] == "job nightly-manifest" and report["release"] == "2.8.0"
    assert report["trail"][0]["message"] == "rows read" and report["attributes"]["process.pid"] == process.pid
    run(running, key, tmp_path, NEXT_START)
    assert len(failures(running, 1)) == 1
    assert not list((tmp_path / "spool").rglob("*.story"))


@pytest.mark.parametrize("sent", [True, False], ids=["sent", "on disk"])
def test_killed_as_a_failed_run_ends(running: Running, tmp_path: Path, sent: bool) -> None:
    """Killed before its notes of open runs were written again: the run's failure is there once, as it was captured."""
    key = running.add_app()
    code = f"""
        import contextlib, obitus, os, pathlib, signal, time
        from obitus.client.backlog import Backlog
        from obitus.client.spool import Batch
        if not {sent}:
            Backlog.next_batch = lambda *_, **__: Batch([], [])
        obitus.watch()
        spool = pathlib.Path(os.environ["OBITUS_SPOOL"])
        with contextlib.suppress(LookupError), obitus.run("job nightly-manifest"):
            while not (noted := list(spool.rglob("*.story"))):
                time.sleep(0.01)
            before = noted[0].read_bytes()
            raise LookupError("gangway is up")
        obitus.flush(60 if {sent} else 2)
        noted[0].write_bytes(before)
        os.kill(os.getpid(), signal.SIGKILL)
    """
    assert run(running, key, tmp_path, code).returncode == -signal.SIGKILL
    assert len(kept.numbers(running.service.records.days, "failure")) == sent
    assert run(running, key, tmp_path, NEXT_START).returncode == 0
    (report,) = failures(running, 1)
    assert report["exceptions"][0]["message"] == "gangway is up" and report["captured_by"] == "run"


def test_a_run_that_has_ended_is_not_told_as_cut_off(running: Running, tmp_path: Path) -> None:
    """Killed right after a long run failed and was reported: the next start knows that it had ended."""
    key = running.add_app()
    code = """
        import contextlib, obitus, os, signal, threading, time
        obitus.watch()
        def nightly():
            with contextlib.suppress(LookupError), obitus.run("job nightly-manifest"):
                time.sleep(1.2)
                raise LookupError("gangway is up")
        long = threading.Thread(target=nightly)
        long.start()
        time.sleep(1.17)
        # Written to the disk at once, with the story of the run that still goes on.
        with contextlib.suppress(ValueError), obitus.run("job short"):
            raise ValueError("no pier")
        long.join()
        assert obitus.flush(60)
        os.kill(os.getpid(), signal.SIGKILL)
    """
    assert run(running, key, tmp_path, code).returncode == -signal.SIGKILL
    assert run(running, key, tmp_path, NEXT_START).returncode == 0
    messages = [report["exceptions"][0]["message"] for report in failures(running, 2)]
    assert sorted(messages) == ["gangway is up", "no pier"]
    rows = running.service.records.reader.rows("SELECT outcome, SUM(runs) AS n FROM run_counts GROUP BY 1")
    assert [(row["outcome"], row["n"]) for row in rows] == [("failed", 2)]


def test_a_crash_of_the_interpreter(running: Running, tmp_path: Path) -> None:
    """A segmentation fault is reported by the next start, with the Python frames that led to it and the run it was in."""
    key = running.add_app()
    code = """
        import ctypes, obitus, time
        obitus.watch()
        def board():
            ctypes.string_at(0)
        with obitus.run("job crash"):
            time.sleep(1.2)
            board()
    """
    assert run(running, key, tmp_path, code).returncode == -signal.SIGSEGV
    run(running, key, tmp_path, NEXT_START)
    (report,) = failures(running, 1)
    link = report["exceptions"][0]
    assert (link["type"], link["message"]) == ("FatalPythonError", "Segmentation fault")
    assert [frame["function"] for frame in link["frames"] if frame["own"]] == ["<module>", "board"]
    assert report["run"]["entry_point"] == "job crash" and report["severity"] == "FATAL"


def test_a_process_that_ends_well_leaves_nothing(running: Running, tmp_path: Path) -> None:
    """No mark, no segment, no story lies about after a clean end, and nothing is reported by the next start."""
    key = running.add_app()
    code = "import obitus\nobitus.watch()\nwith obitus.run('job fine'): pass\nobitus.record(ValueError('x'))"
    assert run(running, key, tmp_path, code).returncode == 0
    assert [path for path in (tmp_path / "spool").rglob("*") if path.is_file()] == []
    run(running, key, tmp_path, NEXT_START)
    assert len(failures(running, 1)) == 1


def test_a_failure_that_ends_the_process_is_on_disk(running: Running, tmp_path: Path) -> None:
    """With the service away, what a script dies of waits in the spool, and arrives with the next start; once."""
    key = running.add_app()
    code = "import obitus\nobitus.watch()\nraise RuntimeError('gangway is up')"
    ended = run(running, key, tmp_path, code, OBITUS_URL="http://127.0.0.1:9")
    assert ended.returncode == 1 and "Obitus" not in ended.stderr
    assert failures(running, 0) == []
    # The same service under the address that was set: only its reports lie in that part of the spool.
    folders = list((tmp_path / "spool").iterdir())
    assert len(folders) == 1
    ours = environment_for(running, key)
    import hashlib

    goal = hashlib.sha256(f"{ours['OBITUS_URL']} {key}".encode()).hexdigest()[:20]
    os.rename(folders[0], tmp_path / "spool" / goal)
    assert run(running, key, tmp_path, NEXT_START).returncode == 0
    assert run(running, key, tmp_path, NEXT_START).returncode == 0
    assert [report["exceptions"][0]["message"] for report in failures(running, 1)] == ["gangway is up"]


def test_kill_during_a_load_loses_nothing_written(running: Running, tmp_path: Path) -> None:
    """kill -9 of an app that reports without pause: all that was sent or on disk arrives once, with the next start."""
    key = running.add_app()
    code = """
        import obitus, sys
        obitus.watch(failures_per_second=100000)
        i = 0
        while True:
            obitus.record(ValueError(str(i)))
            i += 1
            if i % 100 == 0:
                status = obitus.status()
                print(status["spooled"] + status["sent"], flush=True)
    """
    process = start(running, key, tmp_path, code)
    assert process.stdout is not None
    ends = time.monotonic() + 2
    safe = 0
    for line in process.stdout:
        safe = int(line)
        if time.monotonic() > ends and safe:
            break
    process.send_signal(signal.SIGKILL)
    process.wait()
    process.stdout.close()
    assert run(running, key, tmp_path, NEXT_START).returncode == 0
    rows = running.service.records.reader.rows("SELECT message FROM failures")
    numbers = sorted(int(row["message"]) for row in rows)
    assert len(numbers) == len(set(numbers)) and len(numbers) >= safe > 0
