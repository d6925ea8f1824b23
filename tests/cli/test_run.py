"""``obitus run``: any program, its output untouched, its bad end reported."""

from __future__ import annotations

import json
import os
import pty
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

from tests import kept
from tests.client.programs import environment_for, run, write
from tests.client.test_unhandled import failures
from tests.conftest import Running, until
from tests.left_over import children, command_of


def obitus_run(
    running: Running, key: str, folder: Path, *command: str, flags: tuple[str, ...] = (), **options: Any
) -> subprocess.CompletedProcess[bytes]:
    return subprocess.run(
        [sys.executable, "-m", "obitus", "run", *flags, "--", *command],
        env=environment_for(running, key, **options.pop("environment", {})),
        cwd=folder,
        capture_output=True,
        timeout=150,
        **options,
    )


def test_output_passes_through_untouched(running: Running, tmp_path: Path) -> None:
    """Standard output, standard error, standard input and the status are the program's own; a good end is a counted run."""
    code = "import sys; data = sys.stdin.buffer.read(); sys.stdout.buffer.write(data[::-1]); sys.stderr.buffer.write(b'\\xff\\x00 said\\n')"
    key = running.add_app()
    ended = obitus_run(running, key, tmp_path, sys.executable, "-c", code, input=b"\x00\xfetide")
    assert (ended.returncode, ended.stdout, ended.stderr) == (0, b"edit\xfe\x00", b"\xff\x00 said\n")
    assert failures(running, 0) == []
    # A healthy command does not wait for anybody: its count goes with the next process.
    run(running, key, tmp_path, "import obitus\nobitus.watch()\nobitus.flush(60)")
    rows = running.service.records.reader.rows("SELECT entry_point, outcome FROM run_counts")
    assert [tuple(row) for row in rows] == [(f"command {Path(sys.executable).name}", "ok")]


def test_a_python_program_that_dies_at_start(running: Running, tmp_path: Path) -> None:
    """Its stack trace is read into frames; its last words are the trail; names of the environment are told, values are not."""
    write(tmp_path, "import json, sys\ndef load():\n    return json.loads(open('gate.json').read())\nprint('starting', file=sys.stderr)\nload()\n", "gate.py")  # fmt: skip
    (tmp_path / "gate.json").write_text("{berth")
    ended = obitus_run(running, running.add_app(), tmp_path, sys.executable, "gate.py", "--token", "hunter2-3f9a77", environment={"TIDE_URL": "hunter2-3f9a77"})  # fmt: skip
    assert ended.returncode == 1 and b"JSONDecodeError" in ended.stderr
    (report,) = failures(running, 1)
    link = report["exceptions"][0]
    assert link["type"] == "json.decoder.JSONDecodeError" and report["captured_by"] == "obitus run"
    own = [frame["function"] for frame in link["frames"] if frame["own"]]
    assert own == ["<module>", "load"] and link["frames"][-1]["own"] is False
    assert report["trail"][0]["message"] == "starting" and report["attributes"]["process.exit.code"] == 1
    assert "TIDE_URL" in report["attributes"]["process.environment_names"]
    assert "hunter2" not in json.dumps(report) and report["run"]["duration_ms"] > 0
    assert report["severity"] == "FATAL" and report["handled"] is False


def test_a_program_in_any_language(running: Running, tmp_path: Path) -> None:
    """Without a stack trace it is how it ended and what it said last; ids in that make no new issue."""
    key = running.add_app()
    for number in (4711, 4712):
        ended = obitus_run(running, key, tmp_path, "sh", "-c", f"echo 'berth {number} is taken' >&2; exit 3")
        assert ended.returncode == 3
    (issue,) = running.issues()
    assert issue["failures"] == 2 and issue["type"] == "exit status 3"
    assert failures(running, 2)[1]["exceptions"][0]["message"] == "sh ended with exit status 3: berth 4712 is taken"


def test_a_stack_trace_of_another_language(running: Running, tmp_path: Path) -> None:
    """What Node writes as it dies is read into frames, causes included, and decides the issue."""
    (tmp_path / "gate.js").write_text(
        "function berth(n) {\n  throw new RangeError('no berth ' + n);\n}\nberth(process.argv[2]);\n"
    )
    key = running.add_app()
    for number in ("7", "8"):
        assert obitus_run(running, key, tmp_path, "node", "gate.js", number).returncode == 1
    (issue,) = running.issues()
    assert issue["failures"] == 2 and issue["place"].endswith("gate.js.berth")
    frame = failures(running, 2)[0]["exceptions"][0]["frames"][-1]
    assert (frame["function"], frame["line"], frame["own"]) == ("berth", 2, True)


def test_the_lines_that_a_program_prints(running: Running, tmp_path: Path) -> None:
    """Off unless asked for; passed through untouched; each a log record of the run, with what it says of itself."""
    key = running.add_app()
    program = (
        "printf 'berth 4\\n2026-11-26T08:00:00Z WARN fog\\n\\n\\033[31mred\\033[0m\\nno end'; echo oops >&2; exit 4"
    )
    quiet = obitus_run(running, key, tmp_path, "sh", "-c", program)
    assert kept.reports(running.service, "log") == []
    said = obitus_run(running, key, tmp_path, "sh", "-c", program, flags=("--lines",))
    assert (said.stdout, said.stderr, said.returncode) == (quiet.stdout, quiet.stderr, 4)
    found = kept.reports(running.service, "log")
    lines = {(log["attributes"]["log.iostream"], log["severity"], log["message"]) for log in found}
    assert lines == {
        ("stdout", "INFO", "berth 4"), ("stdout", "WARN", "fog"), ("stdout", "INFO", "red"), ("stdout", "INFO", "no end"), ("stderr", "INFO", "oops"),
    }  # fmt: skip
    ran = kept.reports(running.service, "run")[-1]
    assert {log["run"]["id"] for log in found} == {ran["run"]["id"]} and {log["logger"] for log in found} == {"sh"}


def test_a_reader_that_has_gone(running: Running, tmp_path: Path) -> None:
    """Where nobody reads the standard error any more, the program learns of it as it would without us; it does not wait for ever."""
    code = "import sys\nfor _ in range(200_000): print('said at length', file=sys.stderr)"
    command = [sys.executable, "-m", "obitus", "run", "--", sys.executable, "-c", code]
    environment = environment_for(running, running.add_app())
    process = subprocess.Popen(command, env=environment, cwd=tmp_path, stderr=subprocess.PIPE)
    with process:
        assert process.stderr is not None
        process.stderr.read(10)
        process.stderr.close()
        assert process.wait(150) == 1
    (report,) = failures(running, 1)
    assert report["attributes"]["process.end"] == "exit status 1"


def test_a_stream_that_others_have_set_not_to_wait(running: Running, tmp_path: Path) -> None:
    """It is full for a moment; everything arrives all the same."""
    inner, outer = os.pipe()
    os.set_blocking(outer, False)
    code = "import sys\nsys.stderr.write('said at length ' * 50_000)"
    command = [sys.executable, "-m", "obitus", "run", "--", sys.executable, "-c", code]
    environment = environment_for(running, running.add_app())
    with open(inner, "rb") as read, subprocess.Popen(command, env=environment, cwd=tmp_path, stderr=outer) as process:
        os.close(outer)
        assert len(read.read()) == 15 * 50_000
        assert process.wait(150) == 0


def test_a_program_that_is_killed(running: Running, tmp_path: Path) -> None:
    """A signal is named, and the status is what a shell would give; being asked to end is no failure."""
    key = running.add_app()
    assert obitus_run(running, key, tmp_path, "sh", "-c", "kill -SEGV $$").returncode == 128 + signal.SIGSEGV
    assert failures(running, 1)[0]["exceptions"][0]["type"] == "signal SIGSEGV"
    process = subprocess.Popen(
        [sys.executable, "-m", "obitus", "run", "--", "sleep", "60"], env=environment_for(running, key), cwd=tmp_path
    )
    until(lambda: any(command_of(child) == "sleep 60" for child in children(process.pid)))
    process.send_signal(signal.SIGTERM)
    assert process.wait(60) == 128 + signal.SIGTERM
    assert len(failures(running, 1)) == 1


def test_a_signal_as_it_starts(running: Running, tmp_path: Path) -> None:
    """It comes in the moment in which the program is there and nothing was done with it yet: it is the program's, too."""
    code = """
        import os, signal, subprocess, sys
        class Late(subprocess.Popen):
            def __init__(self, *given, **more):
                super().__init__(*given, **more)
                os.kill(os.getpid(), signal.SIGTERM)
        subprocess.Popen = Late
        sys.argv = ["obitus", "run", "--", "sleep", "60"]
        from obitus.cli import main
        main()
    """
    assert run(running, running.add_app(), tmp_path, code).returncode == 128 + signal.SIGTERM


def test_a_watched_program_is_not_reported_twice(running: Running, tmp_path: Path) -> None:
    """A program that reports its end itself is left to do so, in the same trace."""
    write(tmp_path, "import obitus\nobitus.watch()\nraise ValueError('once')", "watched.py")
    assert obitus_run(running, running.add_app(), tmp_path, sys.executable, "watched.py").returncode == 1
    time.sleep(0.5)
    (report,) = failures(running, 1)
    assert report["captured_by"] == "main thread"
    (around,) = kept.reports(running.service, "run")
    assert around["trace_id"] == report["trace_id"] and around["run"]["outcome"] == "failed"


def test_a_program_that_does_not_exist(running: Running, tmp_path: Path) -> None:
    """It is said, reported, and ends with status 2."""
    ended = obitus_run(running, running.add_app(), tmp_path, "no-such-gate")
    assert ended.returncode == 2 and b"cannot be started: No such file" in ended.stderr
    assert failures(running, 1)[0]["exceptions"][0]["type"] == "CannotStart"


def test_without_settings_it_still_runs(tmp_path: Path, running: Running) -> None:
    """Switched off, or with nothing set, the program runs as ever."""
    ended = obitus_run(running, "", tmp_path, "sh", "-c", "exit 4", environment={"OBITUS_OFF": "1"})
    assert (ended.returncode, ended.stderr) == (4, b"")


def test_a_terminal_stays_a_terminal(running: Running, tmp_path: Path) -> None:
    """Where standard error is a terminal, the program sees one, and writes as it would."""
    ours, theirs = pty.openpty()
    code = "import sys; sys.stderr.write(f'{sys.stderr.isatty()}\\n')"
    process = subprocess.Popen(
        [sys.executable, "-m", "obitus", "run", "--", sys.executable, "-c", code], env=environment_for(running, running.add_app()), cwd=tmp_path, stderr=theirs, stdin=subprocess.DEVNULL
    )  # fmt: skip
    os.close(theirs)
    said = b""
    while process.poll() is None and b"\n" not in said:
        said += os.read(ours, 1000)
    process.wait(60)
    os.close(ours)
    assert said == b"True\r\n"


def test_nobody_is_there(running: Running, tmp_path: Path) -> None:
    """Where the connection is refused it leaves at once, with the program's status and not a word of its own."""
    key, away = running.add_app(), {"environment": {"OBITUS_URL": "http://127.0.0.1:9"}}

    def longer_s() -> float:
        """How much longer a program takes that fails than one that does not."""
        started = time.monotonic()
        healthy = obitus_run(running, key, tmp_path, "true", **away)
        between = time.monotonic()
        ended = obitus_run(running, key, tmp_path, "false", **away)
        assert (healthy.returncode, healthy.stderr, ended.returncode, ended.stderr) == (0, b"", 1, b"")
        return time.monotonic() - between - (between - started)

    # Once is enough: a machine that was busy for a moment is no reason to wait.
    until(lambda: longer_s() < 1.5)
    assert list((tmp_path / "spool").rglob("*.reports"))
