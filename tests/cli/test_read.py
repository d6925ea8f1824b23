"""``obitus read``: log files with stack traces, and access logs in three formats, into a real service."""

from __future__ import annotations

import gzip
import json
import os
import random
import signal
import subprocess
import sys
import time
from datetime import UTC
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.log_files import access
from obitus.core.log_files.common import Common
from obitus.core.log_files.stacks import Scanner
from obitus.core.log_files.times import time_of
from obitus.core.log_files.w3c import W3c
from obitus.reading import outcome as outcomes
from obitus.reading.access_file import AccessFile
from obitus.reading.files import zone_of
from obitus.reading.lines import LinesOfFile
from obitus.reading.log_file import LogFile, Titles
from obitus.reading.outcome import Outcome
from obitus.reading.reading import MANY_BYTES
from tests import kept
from tests.conftest import Running
from tests.core.log_files.test_forms import FORMS, bystander, known

TEXTS = Path(__file__).parents[1] / "core/stacks/texts"
JAVA = """\
java.lang.IllegalStateException: gate 7 is shut
\tat org.skerry.Gate.open(Gate.java:12)
\tat org.skerry.Quay.run(Quay.java:40)
"""


@pytest.fixture
def key(running: Running, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> str:
    made = running.add_app()
    monkeypatch.setenv("OBITUS_URL", running.url)
    monkeypatch.setenv("OBITUS_KEY", made)
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    monkeypatch.setenv("COLUMNS", "200")
    return made


def read(*arguments: Any, given: bytes | None = None, status: int = 0) -> dict[str, Any]:
    command = [sys.executable, "-m", "obitus", "read", "--json", *map(str, arguments)]
    ended = subprocess.run(command, capture_output=True, input=given)
    assert ended.returncode == status, ended.stderr.decode()
    answer: dict[str, Any] = json.loads(ended.stdout) if ended.stdout else {"said": ended.stderr.decode()}
    return answer


def today(clock: str) -> str:
    return time.strftime("%Y-%m-%d ", time.gmtime(time.time() - 86400)) + clock


def log(lines: int = 30) -> str:
    before = "".join(
        f"{today(f'10:00:{i:02d},000')} INFO [main] org.skerry.Gate - passenger p-{i} boarded\n" for i in range(lines)
    )
    return f"{before}{today('10:01:00,250')} ERROR [main] org.skerry.Gate - could not open\n{JAVA}{today('10:01:01,000')} INFO [main] next\n"


def test_a_log_becomes_failures_with_what_led_up_to_them(running: Running, key: str, tmp_path: Path) -> None:
    """The time, the severity and the lines before a trace come along; the zone is the one that is named."""
    path = tmp_path / "gate.log"
    path.write_text(log())
    told = read("--zone", "Europe/Oslo", "--release", "3.0.0", path)
    assert (told["failures"], told["stored"], told["unreadable"]) == (1, 1, 0) and told["files"] == {str(path): "log"}
    (issue,) = running.issues()
    failure = running.get(f"/api/issues/{issue['number']}")["latest"]
    assert (issue["title"], failure["release"], failure["severity"]) == (
        "IllegalStateException in org.skerry.Gate.open",
        "3.0.0",
        "ERROR",
    )
    # Oslo is one or two hours ahead of UTC.
    assert failure["time"][11:] in ("09:01:00.250Z", "08:01:00.250Z")
    assert (
        failure["report"]["trail"][-1]["message"].endswith("could not open") and len(failure["report"]["trail"]) == 20
    )


def test_reading_again_adds_nothing_and_a_grown_file_what_is_new(running: Running, key: str, tmp_path: Path) -> None:
    """Also under another name, packed, or when it was forgotten how far the file was read."""
    path = tmp_path / "gate.log"
    path.write_text(log())
    assert read(path)["stored"] == 1 and read(path)["stored"] == 0
    rotated = tmp_path / "gate.log.1.gz"
    rotated.write_bytes(gzip.compress(path.read_bytes()))
    assert read(rotated)["stored"] == 0
    for place in (tmp_path / "state/obitus").glob("read-*/*"):
        place.unlink()
    again = read(path)
    assert (again["stored"], again["already_there"]) == (0, 1)
    with path.open("a") as grown:
        grown.write(log(3).replace("Gate.open", "Gate.close"))
    assert read(path)["stored"] == 1
    assert sum(issue["failures"] for issue in running.issues()) == 2


def test_patterns_standard_input_and_a_dry_run(running: Running, key: str, tmp_path: Path) -> None:
    """Several files by a pattern; standard input; a dry run sends nothing and says what it would; no file is an error."""
    for name in ("java", "go", "perl"):
        (tmp_path / f"{name}.log").write_text((TEXTS / f"{name}.txt").read_text())
    dry = read("--dry-run", tmp_path / "*.log")
    assert dry["failures"] == 3 and "stored" not in dry and len(dry["issues"]) == 3 and running.issues() == []
    assert read("-", given=log().encode())["stored"] == 1
    assert "no such file" in read(tmp_path / "none*.log", status=2)["said"]
    assert "none of" in read("--format", "xml", tmp_path / "java.log", status=2)["said"]
    assert "no time zone" in read("--zone", "Mars/Base", tmp_path / "java.log", status=2)["said"]


COMMON = (
    '10.0.0.{i} - - [{day}:10:{i:02d}:00 +0200] "GET /sailings/SK-47{i:02d}/boardings?seat={i} HTTP/1.1" {status} 512'
)
AGENT = ' "https://pier.example/" "Mozilla/5.0 \\"pier\\""'


def access_log(agent: str = "", lines: int = 20) -> str:
    day = time.strftime("%d/%b/%Y", time.gmtime(time.time() - 86400))
    return "".join(
        COMMON.format(i=i, day=day, status=503 if i == 7 else 404 if i == 9 else 304 if i == 3 else 200) + agent + "\n"
        for i in range(lines)
    )


@pytest.mark.parametrize("agent", ["", AGENT], ids=["common", "combined"])
def test_an_access_log_becomes_runs(running: Running, key: str, tmp_path: Path, agent: str) -> None:
    """All are counted by entry point and outcome; those that did not go well are told whole; what is no request is shown."""
    path = tmp_path / "access.log"
    path.write_text(access_log(agent) + "not a request at all\n")
    told = read(path)
    assert (told["runs"], told["runs_reported"], told["unreadable"]) == (20, 2, 1) and told["examples"] == [
        "not a request at all"
    ]
    assert told["outcomes"] == {"ok": 18, "failed": 1, "refused": 1} and told["files"] == {str(path): "common"}
    counted = running.service.records.reader.rows(
        "SELECT entry_point, outcome, hour, SUM(runs) AS n FROM run_counts GROUP BY 1, 2, 3"
    )
    assert {(row["entry_point"], row["outcome"], row["n"]) for row in counted} == {("GET /sailings/{id}/boardings", o, n) for o, n in (("ok", 18), ("failed", 1), ("refused", 1))}  # fmt: skip
    assert {row["hour"] % 24 for row in counted} == {8}, "times are UTC, whatever the log's offset"
    well, failed, *_ = sorted(kept.reports(running.service, "run"), key=lambda run: run["time"])
    assert (
        told["runs_to_compare"] == 1
        and well["request"]["status"] == 200
        and well["attributes"]["access_log.name"] == "access.log"
    )
    assert failed["attributes"]["http.response.status_code"] == 503 and failed["request"]["url"].endswith("seat=7")
    assert (failed["attributes"].get("user_agent.original") is not None) is bool(agent)
    again = read(path)
    assert again["stored"] == again["already_there"] == again["runs"] == 0
    said = subprocess.run([sys.executable, "-m", "obitus", "read", str(path)], capture_output=True, text=True)
    assert "Nothing is new since the last reading." in said.stdout
    with path.open("a") as grown:
        grown.write(access_log(agent, 3))
    assert read(path)["runs"] == 3
    assert running.service.records.reader.one("SELECT SUM(runs) AS n FROM run_counts")["n"] == 23


def counted(running: Running) -> int:
    return int(running.service.records.reader.one("SELECT SUM(runs) AS n FROM run_counts")["n"])


def test_runs_of_a_grown_log_are_counted_once(running: Running, key: str, tmp_path: Path) -> None:
    """Whether or not it is known how far the log was read, under another name, packed, and however short it was."""
    path, short = tmp_path / "access.log", tmp_path / "short.log"
    path.write_text(access_log(lines=40))
    assert read(path)["stored"] > 0 and counted(running) == 40
    for place in (tmp_path / "state/obitus").glob("read-*/*"):
        place.unlink()
    with path.open("a") as grown:
        grown.write(access_log(lines=5))
    assert read(path)["runs"] == 45 and counted(running) == 45
    packed = tmp_path / "access.log.1.gz"
    packed.write_bytes(gzip.compress(path.read_bytes() + access_log(lines=2).encode()))
    assert read(packed)["runs"] == 2 and counted(running) == 47
    for lines in (1, 2, 30):
        with short.open("a") as grown:
            grown.write(access_log(AGENT, lines))
        assert read(short)["runs"] == lines
    assert counted(running) == 47 + 33


@given(st.lists(st.tuples(st.integers(0, 60), st.integers(0, 100)), min_size=1, max_size=8), st.sampled_from(["common", "w3c"]), st.integers(200, 3000))  # fmt: skip
def test_blocks_are_told_in_whole(steps: list[tuple[int, int]], form: str, size: int) -> None:
    """However a log grows, in whatever pieces it is read, and from wherever its reading goes on: the tallies say what is in it."""
    file = "#Fields: date time cs-method cs-uri-stem sc-status cs-bytes\n" if form == "w3c" else ""
    told: dict[str, int] = {}

    def send(report: dict[str, Any]) -> None:
        if report["kind"] == "tally":
            assert report["grows"] and told.get(report["id"], 0) < report["runs"], "only what is news is told"
            told[report["id"]] = report["runs"]

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(outcomes, "BLOCK_BYTES", size)
        total = new = known = 0
        for lines, behind in steps:
            for i in range(lines):
                path = f"/gates/{'x' * (i % 7)}{'y' * 200 if i == 5 else ''}"
                file += f"2026-11-25 10:00:{i:02d} GET {path} 200 5\n" if form == "w3c" else f'10.0.0.9 - - [25/Nov/2026:10:00:{i:02d} +0000] "GET {path} HTTP/1.1" 200 5\n'  # fmt: skip
            total += lines
            data, outcome = file.encode(), Outcome()
            # At times it is forgotten how far the log was read; then all is read, and told, once more.
            start = known if behind < 60 else 0
            earlier, told_before = dict(told), sum(told.values())
            told.clear()
            access = AccessFile(outcome, send, form, "log", "access.log", start, 0, UTC)
            if access.pass_over is not None:
                access.pass_over(data[: access.begin])
            for at in range(access.begin, len(data), 7 * behind + 1):
                access.feed(data[at : min(at + 7 * behind + 1, len(data))])
            access.feed(b"", end=True)
            for tally, runs in told.items():
                earlier[tally] = max(runs, earlier.get(tally, 0))
            told = earlier
            new = sum(told.values()) - told_before
            assert sum(told.values()) == total and new == lines
            assert outcome.runs == (lines if start == known else total) and access.settled == len(data)
            known = len(data)


W3C = """\
#Software: a web server
#Date: {day} 23:59:58
#Fields: date time s-ip cs-method cs-uri-stem cs-uri-query s-port cs-username c-ip cs(User-Agent) sc-status sc-substatus sc-win32-status time-taken
{day} 23:59:58 10.0.0.1 GET /gates/7 - 443 - 10.0.0.9 Mozilla/5.0+(pier) 200 0 0 15
{day} 23:59:59 10.0.0.1 POST /gates/7 - 443 odd 10.0.0.9 Mozilla/5.0+(pier) 500 19 5 31
#Fields: date time cs-method cs-uri-stem sc-status
{day} 23:59:59 GET /gates/8 404
{day} cut off
"""


def test_the_extended_format_with_its_fields(running: Running, key: str, tmp_path: Path) -> None:
    """The field header rules, also where it changes; times are UTC; the sub-status is told: below the app it says why."""
    path = tmp_path / "u_ex.log"
    path.write_text(W3C.format(day=time.strftime("%Y-%m-%d", time.gmtime(time.time() - 86400))).replace("\n", "\r\n"))
    told = read(path)
    assert (told["runs"], told["runs_reported"], told["unreadable"]) == (3, 2, 1) and told["files"] == {
        str(path): "w3c"
    }
    run = kept.reports(running.service, "run")[0]
    assert run["attributes"]["http.response.detail_code"] == "500.19.5" and run["attributes"]["user.id"] == "odd"
    assert (
        run["run"]["duration_ms"] == 31
        and run["run"]["entry_point"] == "POST /gates/{id}"
        and "23:59:59" in run["time"]
    )


def test_a_grown_file_keeps_its_fields(running: Running, key: str, tmp_path: Path) -> None:
    """They are named once, at the top: reading on behind them knows them still, packed or not."""
    path, day = tmp_path / "u_ex.log", time.strftime("%Y-%m-%d", time.gmtime(time.time() - 86400))
    line = f"{day} 10:00:00 GET /gates/{{}} 200\n"
    path.write_text("#Fields: date time cs-method cs-uri-stem sc-status\n" + "".join(map(line.format, range(3000))))
    assert read(path)["runs"] == 3000
    with path.open("a") as grown:
        grown.write(line.format(7) + line.format(8).replace(" 200", " 503"))
    told = read(path)
    assert (told["runs"], told["unreadable"], told["outcomes"]) == (2, 0, {"ok": 1, "failed": 1})
    packed = tmp_path / "u_ex.log.gz"
    packed.write_bytes(gzip.compress(path.read_bytes() + line.format(9).encode()))
    assert read(packed)["runs"] == 1


@pytest.mark.parametrize("form", ["common", "w3c", "log"])
def test_large_files_are_read_by_several(form: str, tmp_path: Path) -> None:
    """In several processes at once, what is read is what one process reads."""
    path, lines = tmp_path / "large.log", 400_000
    one = {
        "common": lambda i: f'10.0.0.{i % 9} - - [25/Nov/2026:{i // 40_000:02d}:{i % 60:02d}:00 +0000] "GET /gates/{i % 50}?n={i} HTTP/1.1" {503 if i % 1000 == 0 else 200} 5\n',
        "w3c": lambda i: f"2026-11-25 {i // 40_000:02d}:{i % 60:02d}:00 10.0.0.4 GET /gates/{i % 50} n={i} 443 - 10.0.0.9 - {500 if i % 1000 == 0 else 200} 19\n",
        "log": lambda i: (JAVA if i % 1000 == 0 else "") + f"2026-11-25 {i // 40_000:02d}:{i % 60:02d}:00 INFO  [gate-{i % 8}] skerry.Gate - passenger p-{i} boarded\n",
    }[form]  # fmt: skip
    fields = "#Fields: date time s-ip cs-method cs-uri-stem cs-uri-query s-port cs-username c-ip cs(Referer) sc-status sc-substatus\n"
    with path.open("w") as out:
        out.write(fields if form == "w3c" else "")
        out.writelines(map(one, range(lines)))
    assert path.stat().st_size > MANY_BYTES
    told = read(path, "--dry-run")
    if form == "log":
        assert told["failures"] == lines // 1000 and told["lines"] == lines + JAVA.count("\n") * lines // 1000
        assert len(told["issues"]) == 1
    else:
        assert told["runs"] == told["lines"] == lines and told["unreadable"] == 0
        assert (
            told["outcomes"] == {"ok": lines - lines // 1000, "failed": lines // 1000}
            and told["runs_reported"] == lines // 1000
        )


def test_following(running: Running, key: str, tmp_path: Path) -> None:
    """What is written to a file later arrives, also after it was replaced by a new one; Ctrl-C ends it well."""
    path = tmp_path / "gate.log"
    path.write_text("up\n")
    process = subprocess.Popen(
        [sys.executable, "-u", "-m", "obitus", "read", "--follow", str(path)], stdout=subprocess.PIPE, text=True
    )
    try:
        assert process.stdout is not None and "going on" in process.stdout.readline()
        for function in ("open", "close"):
            if function == "close":
                os.replace(path, tmp_path / "gate.log.1")
            with path.open("a") as grown:
                grown.write(log(2).replace("Gate.open", f"Gate.{function}"))
            ends = time.monotonic() + 60
            while not any(issue["place"].endswith(function) for issue in running.issues()):
                assert time.monotonic() < ends, f"{function} did not arrive"
                time.sleep(0.1)
    finally:
        process.send_signal(signal.SIGINT)
        assert process.wait(60) == 0
    with process.stdout:
        assert "2 failures found" in process.stdout.read()


def test_a_program_before_a_pipe(running: Running, key: str) -> None:
    """What it says arrives while it runs on; Ctrl-C ends it well, with the trace that was the last."""
    command = [sys.executable, "-u", "-m", "obitus", "read", "-"]
    process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    assert process.stdin is not None and process.stdout is not None
    with process.stdin, process.stdout:
        for function in ("open", "close"):
            process.stdin.write(log(2).replace("Gate.open", f"Gate.{function}").encode())
            process.stdin.flush()
            if function == "close":
                process.send_signal(signal.SIGINT)
            ends = time.monotonic() + 60
            while not any(issue["place"].endswith(function) for issue in running.issues()):
                assert time.monotonic() < ends, f"{function} did not arrive"
                time.sleep(0.1)
        assert process.wait(60) == 0 and b"2 failures found" in process.stdout.read()


def test_bad_files(running: Running, key: str, tmp_path: Path) -> None:
    """NUL bytes, a megabyte on one line, control and direction characters, a packed file cut off, two stacks interleaved."""
    (tmp_path / "nul.log").write_bytes(b"\0" * 100_000)
    (tmp_path / "long.log").write_bytes(b"x" * 1_000_000 + b"\n" + JAVA.encode())
    (tmp_path / "signs.log").write_text(JAVA.replace("gate 7", "gate \u202e7\x1b[31m\x07"))
    (tmp_path / "cut.log.gz").write_bytes(gzip.compress((log(3) + log(40) * 90).encode())[:-20])
    other = JAVA.replace("Gate", "Tide").splitlines()
    (tmp_path / "two.log").write_text(
        "\n".join(line for pair in zip(JAVA.splitlines(), other, strict=True) for line in pair)
    )
    (tmp_path / "empty.log").write_text("")
    told = read(tmp_path / "*.log", tmp_path / "cut.log.gz")
    assert told["unreadable"] == 2 and told["failures"] >= 4
    assert "no text" in told["examples"][0] and "cut.log.gz: the compressed file is cut off" in told["examples"][1]
    assert all("\x1b" not in issue["message"] or issue["message"] for issue in running.issues())
    gone = subprocess.run([sys.executable, "-m", "obitus", "read", str(tmp_path / "two.log")], capture_output=True, text=True, env=os.environ | {"OBITUS_KEY": "okey_wrong"})  # fmt: skip
    assert gone.returncode == 4 and "No app has this reporting key" in gone.stderr
    odd = subprocess.run([sys.executable, "-m", "obitus", "read", "--dry-run", str(tmp_path / "two.log")], capture_output=True, text=True, env=os.environ | {"OBITUS_HIDE": "nonsense"})  # fmt: skip
    assert odd.returncode == 2 and "'nonsense' is no redaction rule" in odd.stderr and "Traceback" not in odd.stderr


@given(st.lists(st.sampled_from([*JAVA.splitlines(), "", "Traceback (most recent call last):", '  File "a.py", line 1, in f', "    go()", "KeyError: 'x'", "x" * 300, "2026-01-02 03:04:05 INFO [a] b", "\t... 2 more", "goroutine 1 [running]:"]), max_size=60), st.integers(1, 400))  # fmt: skip
def test_blocks_make_no_difference(lines: list[str], size: int) -> None:
    """Wherever a file is cut into blocks, the same traces are found at the same places."""
    data = "\n".join(lines).encode()

    def found(blocks: list[bytes]) -> list[tuple[int, str]]:
        scanner = Scanner()
        told = [(one.offset, one.stack.chain[0].type) for block in blocks for one in scanner.feed(block)]
        return told + [(one.offset, one.stack.chain[0].type) for one in scanner.feed(b"", end=True)]

    assert found([data[i : i + size] for i in range(0, len(data), size)]) == found([data])


@pytest.mark.parametrize("seed", range(4))
def test_parts_make_no_difference(seed: int, tmp_path: Path) -> None:
    """Wherever a log is cut into parts that are read for themselves, each trace is found once, and whole."""
    draw, path = random.Random(seed), tmp_path / "mixed.log"
    forms = [form for form in FORMS if form != "others between"]
    lines: list[str] = []
    for number in range(150):
        lines += FORMS[draw.choice(forms)](draw.choice(known())[1])
        lines += map(bystander, range(number * 50, number * 50 + draw.choice((1, 30, 400))))
    data = ("\n".join(lines) + "\n").encode()
    path.write_bytes(data)
    file = LogFile(Outcome(), Titles(), lambda report: None, "mixed", 0, 0, UTC)
    cuts = sorted({0, len(data), *(data.index(b"\n", draw.randrange(len(data) - 1)) + 1 for _ in range(12))})
    parts = [file.part(str(path), start, end)() for start, end in pairwise(cuts)]
    assert sum(part.lines for part in parts) == len(lines)
    found = [(one.offset, one.stack.chain) for part in parts for one in part.found]
    assert found == [(one.offset, one.stack.chain) for one in Scanner().feed(data, end=True)]


def test_a_line_without_end_in_an_access_log() -> None:
    """What has no newline for megabytes is no request, and is not carried on; what comes behind it is read."""
    outcome, line = Outcome(), b'10.0.0.9 - - [25/Nov/2026:10:00:00 +0000] "GET /gates HTTP/1.1" 200 5\n'
    file = AccessFile(outcome, lambda report: None, "common", "log", "access.log", 0, 0, UTC)
    for block in (line, *(b"x" * 2_000_000 for _ in range(8)), b"\n", line, line):
        file.feed(block)
        assert len(file._rest) <= 2 * outcomes.READ_BYTES
    file.feed(b"", end=True)
    assert outcome.runs == 3 and 1 <= outcome.unreadable <= 8 and file.settled == 16_000_001 + 3 * len(line)


@given(st.binary(max_size=400))
def test_any_bytes_are_survived(data: bytes) -> None:
    """Whatever stands in a file, reading it ends."""
    scanner = Scanner()
    list(scanner.feed(data))
    list(scanner.feed(b"", end=True))
    access.recognise(data)
    counts = Common(zone_of("UTC"), 0).read(data)
    assert sum(counts.runs.values()) + counts.unreadable == counts.lines
    W3c().read(b"#Fields: date time sc-status\n" + data)
    W3c().read(b"#Fields: date time cs-method cs-uri-stem sc-status sc-bytes\n" + data)


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("2026-11-25T10:00:01.250Z", "2026-11-25T10:00:01.250"), ("2026-11-25 10:00:01,250", "2026-11-25T08:00:01.250"),
        ("25/Nov/2026:10:00:01 +0100", "2026-11-25T09:00:01.000"), ("Nov  5 10:00:01", "2026-11-05T08:00:01.000"),
        ("Dec 24 10:00:01", "2025-12-24T08:00:01.000"), ("1764064801", "2025-11-25T10:00:01.000"), ("1764064801250", "2025-11-25T10:00:01.250"),
        ("10:00:01", "2026-11-25T08:00:01.000"), ("23:00:00", "2026-11-24T21:00:00.000"), ("Wed Nov 25 10:00:01 2026", "2026-11-25T08:00:01.000"),
        ("2026-13-45 99:99:99", None), ("yesterday", None),
    ],
)  # fmt: skip
def test_times(text: str, wanted: str | None) -> None:
    """The forms that log writers use; without a zone in the one that is named, without a year the latest such day."""
    from datetime import UTC, datetime, timedelta, timezone

    about = datetime(2026, 11, 25, 12, tzinfo=UTC)
    found = time_of(text, timezone(timedelta(hours=2)), int(about.timestamp() * 1000))
    said = None if found is None else datetime.fromtimestamp(found / 1000, UTC).isoformat(timespec="milliseconds")[:-6]
    assert said == wanted


LINES = """\
{time} INFO sailings.fares: fare of SK-4711 is 4300
  with two cars
plain words
{time2} ERROR gate: cannot open
Traceback (most recent call last):
  File "/srv/gate.py", line 3, in open
    raise OSError("stuck")
OSError: stuck
{{"time": "{time3}", "level": "warn", "msg": "no berth", "logger": "pier", "berth": 7, "deep": {{"x": 1}}}}

"""


def test_every_line_is_kept_if_asked_for(running: Running, key: str, tmp_path: Path) -> None:
    """Records with what goes on in the next lines, once, also read in pieces, again, and after it has grown; fields of JSON are attributes."""
    times = {name: today(clock).replace(" ", "T") + "Z" for name, clock in (("time", "08:00:00.000"), ("time2", "08:00:01.000"), ("time3", "08:00:02.000"))}  # fmt: skip
    text = LINES.format(**times)
    file = tmp_path / "pier.log"
    file.write_text(text)
    assert (answer := read(file))["records"] == 0 and answer["failures"] == 1
    assert read("--dry-run", "--lines", file)["records"] == 4
    answer = read("--lines", file)
    assert (answer["records"], answer["stored"], answer["already_there"]) == (4, 4, 1)
    assert read("--lines", file)["stored"] == 0
    with file.open("a") as more:
        more.write(f"{times['time3']} INFO one more\n")
    assert read("--lines", file)["stored"] == 1
    found = kept.reports(running.service, "log")
    assert [log["message"] for log in found] == [
        "fare of SK-4711 is 4300\n  with two cars", "plain words",
        'cannot open\nTraceback (most recent call last):\n  File "/srv/gate.py", line 3, in open\n    raise OSError("stuck")\nOSError: stuck',
        "no berth", "one more",
    ]  # fmt: skip
    assert [log["severity"] for log in found] == ["INFO", "INFO", "ERROR", "WARN", "INFO"]
    assert found[1]["time"] == found[0]["time"] == times["time"]
    assert found[3]["logger"] == "pier" and found[3]["attributes"] == {"log.file.name": "pier.log", "berth": 7}
    assert len(kept.reports(running.service, "failure")) == 1


@given(st.integers(1, 60), st.integers(0, 6))
def test_lines_do_not_depend_on_pieces(size: int, cut: int) -> None:
    """In whatever pieces a file is read, and wherever reading stopped: the same records, at the same places."""
    data = LINES.format(
        time="2026-11-26T08:00:00Z", time2="2026-11-26T08:00:01Z", time3="2026-11-26T08:00:02Z"
    ).encode()

    def made(pieces: list[bytes], start: int = 0) -> tuple[dict[str, str], int]:
        found: dict[str, str] = {}
        send = lambda report: found.__setitem__(report["id"], report["message"])  # noqa: E731
        lines = LinesOfFile(Outcome(), send, "x", "pier.log", start, 0, UTC)
        for piece in pieces:
            lines.feed(piece)
        settled = lines.settled
        lines.feed(b"", end=True)
        return found, settled

    whole, _ = made([data])
    pieces = [data[place : place + size] for place in range(0, len(data), size)]
    found, settled = made(pieces)
    assert found == whole and len(whole) == 4
    part = pieces[: max(0, len(pieces) - cut)]
    some, settled = made(part)
    rest, _ = made([data[settled:]], settled)
    assert set(whole) <= set(some) | set(rest)
