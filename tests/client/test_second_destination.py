"""A file beside the service, or in its place: what an app reports is there, and is brought in later, exactly once."""

from __future__ import annotations

import gzip
import json
import os
import signal
import subprocess
import sys
from pathlib import Path

import pytest

from obitus.client.second_destination import AlsoFile
from obitus.client.settings import SettingTrouble, load
from tests.cli.shell import Shell
from tests.client.interpreters import SOURCE, interpreters, name_of
from tests.client.programs import run, write
from tests.conftest import Running, failure, until

FAILS = """
import obitus
obitus.watch()
try:
    1 / 0
except ZeroDivisionError as error:
    obitus.record(error, **{"berth": 4})
obitus.say("the pier is closed")
raise KeyError("p-102 password=" + "2retnuh"[::-1])
"""


def lines_of(path: Path) -> list[dict[str, object]]:
    return [json.loads(line) for line in path.read_bytes().splitlines()]


@pytest.mark.parametrize("python", interpreters(), ids=name_of)
def test_without_a_network_everything_is_in_the_file(tmp_path: Path, python: str) -> None:
    """No service is named: nothing is connected to, nothing waits elsewhere, secrets are hidden as ever."""
    file = tmp_path / "out" / "reports.ndjson"
    environment = {
        "PATH": os.environ["PATH"],
        "PYTHONPATH": str(SOURCE),
        "OBITUS_ALSO": f"file:{file}",
        "OBITUS_SPOOL": str(tmp_path / "spool"),
        "OBITUS_RELEASE": "2.9.0",
    }
    ended = subprocess.run(
        [python, str(write(tmp_path, FAILS))], env=environment, capture_output=True, text=True, timeout=150
    )
    assert "KeyError" in ended.stderr and "Obitus" not in ended.stderr
    found = lines_of(file)
    types = [one["exceptions"][0]["type"] for one in found if one["kind"] == "failure" and "exceptions" in one]  # type: ignore[index]
    assert (
        "ZeroDivisionError" in types
        and "KeyError" in types
        and len(types) == len({one["id"] for one in found if one["kind"] == "failure"})
    )
    assert "hunter2" not in file.read_text() and file.stat().st_mode & 0o077 == 0
    assert not list(tmp_path.glob("spool/**/*.reports"))


KILLED = """
import os, signal, obitus
obitus.watch()
with obitus.run("job gates"):
    try:
        {}["pier"]
    except KeyError as error:
        obitus.record(error)
    os.kill(os.getpid(), signal.SIGKILL)
"""


@pytest.mark.parametrize("has_service", [False, True])
def test_what_a_killed_process_recorded_is_in_the_file(running: Running, tmp_path: Path, has_service: bool) -> None:
    """What `record` was given is on disk when it returns; the next start has it in the file, and no twice over. With a service, there too."""
    file = tmp_path / "reports.ndjson"
    environment = {
        "PATH": os.environ["PATH"],
        "PYTHONPATH": str(SOURCE),
        "OBITUS_ALSO": f"file:{file}",
        "OBITUS_SPOOL": str(tmp_path / "spool"),
    }
    if has_service:
        environment |= {"OBITUS_URL": running.url, "OBITUS_KEY": running.add_app()}
    program = write(tmp_path, KILLED)
    assert subprocess.run([sys.executable, str(program)], env=environment, timeout=150).returncode == -signal.SIGKILL
    for _ in range(2):
        next_start = "import obitus; obitus.watch(); obitus.flush()"
        subprocess.run([sys.executable, "-c", next_start], env=environment, timeout=150, check=True)
    found = [one["exceptions"][0]["type"] for one in lines_of(file) if one["kind"] == "failure" and "exceptions" in one]  # type: ignore[index]
    assert found.count("KeyError") == 1
    if has_service:
        until(lambda: "KeyError" in [issue["type"] for issue in running.issues()])


def test_what_the_file_does_not_take_waits_for_the_next_start(tmp_path: Path) -> None:
    """The file's disk is full: what it refused is put down in the spool, and brought over once there is room."""
    environment = {
        "PATH": os.environ["PATH"],
        "PYTHONPATH": str(SOURCE),
        "OBITUS_SPOOL": str(tmp_path / "spool"),
    }
    (tmp_path / "full").symlink_to("/dev/full")
    program = write(tmp_path, FAILS)
    said = subprocess.run(
        [sys.executable, str(program)],
        env=environment | {"OBITUS_ALSO": f"file:{tmp_path}/full"},
        capture_output=True,
        text=True,
        timeout=150,
    ).stderr
    assert "cannot be written" in said and "Free some space there" in said
    (tmp_path / "full").unlink()
    subprocess.run(
        [sys.executable, "-c", "import obitus; obitus.watch()"],
        env=environment | {"OBITUS_ALSO": f"file:{tmp_path}/full"},
        timeout=150,
        check=True,
    )
    found = [one["exceptions"][0]["type"] for one in lines_of(tmp_path / "full") if "exceptions" in one]  # type: ignore[index]
    assert {"KeyError", "ZeroDivisionError"} <= set(found)


def test_both_destinations_get_the_same(running: Running, tmp_path: Path) -> None:
    """With a service too, each report is in the file and at the service, under one id; sending the file adds nothing."""
    key = running.add_app()
    file = tmp_path / "reports.ndjson"
    run(running, key, tmp_path, FAILS, OBITUS_ALSO=f"file:{file}")
    until(lambda: len(running.issues()) >= 2)
    before = running.get("/api/desk?window=24h")["failures"]
    shell = Shell(tmp_path)
    said = " ".join(shell.run("send", str(file), OBITUS_URL=running.url, OBITUS_KEY=key).split())
    assert said.startswith("0 reports of 1 file stored; ") and "were there already" in said
    assert running.get("/api/desk?window=24h")["failures"] == before


def test_files_are_brought_in_exactly_once(running: Running, tmp_path: Path) -> None:
    """Again, grown, compressed, cut off, or with lines that are no reports: nothing is doubled, and nothing lost."""
    key = running.add_app()
    file = tmp_path / "reports.ndjson"
    reports = [json.dumps(failure(message=f"late {number}")).encode() + b"\n" for number in range(30)]
    file.write_bytes(b"".join(reports[:20]) + reports[20][:50])
    shell = Shell(tmp_path)

    def send(name: Path, status: int = 0) -> str:
        return " ".join(shell.run("send", str(name), status=status, OBITUS_URL=running.url, OBITUS_KEY=key).split())

    assert send(file).startswith("20 reports of 1 file stored.")
    assert "Nothing is new since they were sent last." in send(file)
    file.write_bytes(b"".join(reports[:25]))
    assert send(file).startswith("5 reports of 1 file stored.")
    packed = tmp_path / "reports-1.ndjson.gz"
    packed.write_bytes(gzip.compress(b"".join(reports[10:])))
    assert send(packed).startswith("5 reports of 1 file stored; 15 were there already.")
    packed.write_bytes(gzip.compress(b"".join(reports))[:-12])
    cut = send(packed, status=1)
    assert "of 1 file stored" in cut and "the compressed file is cut off or damaged here" in cut
    packed.write_bytes(gzip.compress(b"".join(reports)))
    assert send(packed).startswith("0 reports of 1 file stored; 30 were there already.")
    odd = tmp_path / "odd.ndjson"
    odd.write_bytes(
        b"not a report\n" + b"x" * 1_500_000 + b"\n" + b'{"kind": "failure"}\n' + json.dumps(failure()).encode() + b"\n"
    )
    said = send(odd, status=1)
    assert (
        "1 report of 1 file stored." in said
        and "line 1: no report in JSON" in said
        and "line 2: longer than any report" in said
        and "1 were refused" in said
    )
    shell.run("send", str(tmp_path / "gone.ndjson"), status=2, OBITUS_URL=running.url, OBITUS_KEY=key)
    shell.run("send", str(file), status=2, OBITUS_URL=running.url)
    assert running.get("/api/desk?window=24h")["failures"] == 31


def test_many_processes_share_a_file_that_is_set_aside_when_it_is_full(tmp_path: Path) -> None:
    """Every line is whole; the oldest full files go, and what went with them is counted."""
    file = tmp_path / "reports.ndjson"
    program = write(
        tmp_path,
        """
        import json, sys
        from pathlib import Path
        from obitus.client.second_destination import AlsoFile
        also = AlsoFile(Path(sys.argv[1]), lambda why, n: None, most_bytes=20_000, most_files=1000)
        for number in range(200):
            also.write([json.dumps({"from": sys.argv[2], "number": number, "text": "x" * 300}).encode() + b"\\n"])
        """,
    )
    started = [
        subprocess.Popen(
            [sys.executable, str(program), str(file), str(number)], env=os.environ | {"PYTHONPATH": str(SOURCE)}
        )
        for number in range(4)
    ]
    assert [one.wait(60) for one in started] == [0] * 4
    found = [one for path in tmp_path.glob("reports*.ndjson") for one in lines_of(path)]
    assert {(one["from"], one["number"]) for one in found} == {
        (str(process), number) for process in range(4) for number in range(200)
    }
    assert len(found) == 800 and len(list(tmp_path.glob("reports-*.ndjson"))) > 5
    lost: list[int] = []
    few = AlsoFile(tmp_path / "few.ndjson", lambda _, count: lost.append(count), most_bytes=1000, most_files=2)
    others = [tmp_path / name for name in ("few-gate.ndjson", "few-20260101.ndjson", "few-0.ndjson")]
    for other in others:
        other.write_text("of another app\n")
    for number in range(40):
        few.write([b'{"number": %d, "text": "%s"}\n' % (number, b"x" * 100)])
    for other in others:
        assert other.read_text() == "of another app\n"
        other.unlink()
    kept = sum(len(lines_of(path)) for path in tmp_path.glob("few*.ndjson"))
    assert kept + sum(lost) == 40 and len(list(tmp_path.glob("few-*.ndjson"))) == 2


def test_a_disk_that_takes_nothing_costs_the_app_nothing(tmp_path: Path) -> None:
    """It is said once, the reports are counted, and the app goes on."""
    program = write(
        tmp_path,
        """
        import obitus
        obitus.watch(also="file:/dev/full")
        for number in range(3):
            try:
                {}["pier"]
            except KeyError as error:
                obitus.record(error)
        obitus.flush(5)
        from obitus.client import state
        print(state.active.status()["dropped"])
        """,
    )
    environment = {"PATH": os.environ["PATH"], "PYTHONPATH": str(SOURCE), "OBITUS_SPOOL": "off"}
    ended = subprocess.run([sys.executable, str(program)], env=environment, capture_output=True, text=True, timeout=150)
    assert ended.returncode == 0 and "'the file cannot be written': 3" in ended.stdout, ended
    assert ended.stderr.count("cannot be written") == 1


def test_what_is_no_file_is_said() -> None:
    """A relative path or another kind is refused with what to write."""
    for text in ("reports.ndjson", "file:reports.ndjson", "ftp:/x", "file:"):
        with pytest.raises(SettingTrouble, match=r"Say file:/var/spool/ferry/reports.ndjson"):
            load(environ={"OBITUS_ALSO": text})
    found = load(environ={"OBITUS_ALSO": "file:///var/spool/x.ndjson"})
    assert found.also == Path("/var/spool/x.ndjson") and found.only_file and found.missing is None
    assert load(environ={"OBITUS_ALSO": "file:/x", "OBITUS_URL": "http://a"}).missing == "OBITUS_KEY"
