"""``obitus logs``, ``runs``, ``failures``: lines, tables, summaries, files, and what comes in."""

from __future__ import annotations

import csv
import io
import json
import os
import subprocess
import sys
from pathlib import Path

from tests.cli.test_grouping import obitus
from tests.conftest import Running, start, until
from tests.service.test_calls import called, statement, whole
from tests.service.test_now import failed, tally
from tests.service.test_records import RUN, TRACE, fill, log
from tests.service.test_timeline import TRACE as TIMELINE_TRACE
from tests.service.test_timeline import story


def test_lines(running: Running) -> None:
    """One a record, the newest last, with what there is to do next."""
    key = fill(running)
    said = obitus(running, "logs", "user.id=p-101", "--limit", "3").splitlines()
    assert [line.split("no fare")[1] for line in said[1:4]] == [" for 21 cars", " for 25 cars", " for 29 cars"]
    assert "! WARN" in said[1] and "sailings.fares" in said[1] and said[4].startswith("The newest 3 are shown")
    older = obitus(running, "logs", "user.id=p-101", *said[5].split()).splitlines()
    assert "no fare for 17 cars" in older[-2] and "--summary" in older[-1]
    runs = obitus(running, "runs", "duration>=400ms")
    assert "GET /fares" in runs and "500 ms" in runs and "100 ms" not in runs
    failures = obitus(running, "failures")
    assert "skerry.TideUnavailable  no depth for eastholm" in failures and "issue 1" in failures
    running.send(key, log("odd", attributes={"gate": [2, "b"]}))
    assert 'gate = [2,"b"]' in obitus(running, "logs", "odd", "--whole")
    none = obitus(running, "logs", "fog")
    assert "No log record of the last 24 h matches" in none and "Words are found whole" in none
    assert "At character 10: a severity is expected" in obitus(running, "logs", "severity>LOUD", status=6)
    assert "no window" in obitus(running, "logs", "--window", "soon", status=2)
    assert "cannot be had together" in obitus(running, "logs", "--csv", "--follow", status=2)


def test_columns_and_files(running: Running) -> None:
    """A table of chosen fields; CSV and lines of JSON hold all that is meant, beyond one page too."""
    key = fill(running)
    table = obitus(running, "logs", "severity=WARN", "--columns", "user.id,wait_s", "--limit", "2").splitlines()
    assert [line.split() for line in table[:3]] == [["user.id", "wait_s"], ["p-100", "14"], ["p-101", "14.5"]]
    running.send(key, *(log(f"m{number}", 70) for number in range(600)))
    rows = list(csv.DictReader(io.StringIO(obitus(running, "logs", "--csv", "--columns", "message,user.id"))))
    assert len(rows) == 631 and set(rows[0]) == {"message", "user.id"}
    lines = [json.loads(line) for line in obitus(running, "logs", "m7", "--ndjson").splitlines()]
    assert [line["message"] for line in lines] == ["m7"] and lines[0]["app"] == "sailings"
    answer = json.loads(obitus(running, "logs", "m7", "--json"))
    assert answer["records"][0]["values"]["message"] == "m7"


def test_in_the_order_of_a_field(running: Running) -> None:
    """From the first on, and further with the cursor that it prints."""
    fill(running)
    said = obitus(running, "runs", "--sort=-duration", "--columns", "duration", "--limit", "2").splitlines()
    assert [line.strip() for line in said[1:3]] == ["500", "400"] and said[3].startswith("2 are shown")
    more = obitus(running, "runs", "--sort=-duration", "--columns", "duration", *said[4].split()).splitlines()
    assert [line.strip() for line in more[1:4]] == ["300", "200", "100"]
    assert "--sort is for a list" in obitus(running, "runs", "--sort=duration", "--csv", status=2)


def test_summaries(running: Running) -> None:
    """A line for each value, the greatest first, with its unit; bars over time; what it is not."""
    fill(running)
    said = obitus(running, "logs", "--summary", "count by user.id").splitlines()
    assert said[0] == "count by user.id  ·  31 log records" and said[1].split() == ["8", "p-101"]
    assert said[-1].split() == ["1", "(none)"]
    said = obitus(running, "runs", "--summary", "p95 duration by entry_point over time", "--window", "1h").splitlines()
    assert (
        "ms  in all  " in said[1]
        and "in slices of 1 min" in said[2]
        and "ms  GET /fares  5 runs" in said[3]
        and said[4].strip()
    )
    few = obitus(running, "logs", "--summary", "count by message", "--limit", "5")
    assert "26 more values with less. More of them: --limit 20" in few
    assert "At character 1: `count` or one of" in obitus(running, "logs", "--summary", "many", status=6)
    assert json.loads(obitus(running, "logs", "--summary", "count", "--json"))["records"] == 31


def test_templates(running: Running) -> None:
    """Many lines as few templates, the commonest first."""
    fill(running)
    said = obitus(running, "logs", "--templates").splitlines()
    assert said[0].split(maxsplit=3) == ["30", "!", "WARN", "no fare for %d cars"]
    assert said[1].split(maxsplit=3) == ["1", "·", "INFO", "gate … opens"] and said[2].startswith(
        "31 log records, 2 templates"
    )
    assert "Only logs have templates" in obitus(running, "runs", "--templates", status=2)
    assert json.loads(obitus(running, "logs", "gate", "--templates", "--json"))["records"] == 1


def test_everything_of_a_run_and_of_a_trace(running: Running) -> None:
    """Of all kinds, with the app where there are several, and the issue that it led to."""
    fill(running)
    of_run = obitus(running, "logs", "--run", RUN)
    assert of_run.count("no fare") == 3 and "TideUnavailable" in of_run and "It failed: issue 1" in of_run
    of_trace = obitus(running, "failures", "--trace", TRACE).splitlines()
    assert of_trace[-2].startswith("gatekeeper") and "gate 2 opens" in of_trace[-2]
    assert "Nothing is known of that id" in obitus(running, "logs", "--run", "00000000-0000-4000-8000-000000000001")


def test_follow(tmp_path: Path) -> None:
    """The latest first, then each as it comes, through a restart of the service; an interrupt ends it quietly."""
    thread, running = start(tmp_path / "data")
    port = int(running.url.rpartition(":")[2])
    key = running.add_app()
    running.send(key, log("before", severity="WARN"), log("quiet before"))
    told = tmp_path / "told"
    environment = os.environ | {"OBITUS_URL": running.url, "OBITUS_TOKEN": running.token, "COLUMNS": "160", "PYTHONUNBUFFERED": "1"}  # fmt: skip
    with told.open("w") as file:
        following = subprocess.Popen(
            [sys.executable, "-m", "obitus", "logs", "severity>=WARN", "--follow"],
            stdout=file,
            stderr=file,
            env=environment,
        )
    try:
        until(lambda: "before" in told.read_text())
        running.send(key, log("quiet"), log("during", severity="ERROR"))
        until(lambda: "during" in told.read_text())
        running.http.clear()
        thread.stop()
        until(lambda: "It continues as soon as" in told.read_text())
        thread, running = start(tmp_path / "data", port=port)
        running.send(key, log("afterwards", severity="FATAL"))
        until(lambda: "afterwards" in told.read_text())
        following.send_signal(2)
        assert following.wait(60) == 0
    finally:
        following.kill()
        following.wait()
        running.http.clear()
        thread.stop()
    lines = told.read_text().splitlines()
    assert [line.split()[-1] for line in lines if "  " in line[10:16]] == ["before", "during", "afterwards"], lines


def test_now(running: Running) -> None:
    """What fails, where, how much more than before, and what is new; then what to do next."""
    key = running.add_app()
    assert "Nothing was reported" in obitus(running, "now")
    running.send(
        key, tally(90, 9), tally(10, 9, outcome="failed", status=500), *(failed(number) for number in (5, 6, 50))
    )
    running.send(key, failed(7, "OSError"), log("no confirmation", 60, severity="WARN", logger="sailings.mail"))
    said = obitus(running, "now").splitlines()
    assert [line.split()[0] for line in said[1:4]] == ["3", "10", "100"] and "before: 1" in said[1]
    text = "\n".join(said)
    assert "1  OSError in sailings.fares.oserror" in text and "issue 2" in text
    point = next(line for line in said if "GET /fares" in line)
    assert point.split()[:4] == ["10", "100", "100", "–"] and "25 ms" in point
    assert "200 90" in text and "500 10" in text and "sailings.mail" in text and "obitus issue NUMBER" in said[-1]
    assert json.loads(obitus(running, "now", "--json"))["runs"]["now"] == 100
    assert "no window" in obitus(running, "now", "--window", "soon", status=2)


def test_calls(running: Running) -> None:
    """Who calls whom, what that costs an entry point, and what to do next."""
    key = running.add_app()
    assert "No calls are known" in obitus(running, "calls")
    slow = called("https://tides.example/depth", 2600, "ERROR")
    running.send(
        key, tally(9, 3), *(whole("GET /fares", slow, statement(), ms=2700, outcome="failed") for _ in range(3))
    )
    said = obitus(running, "calls").splitlines()
    line = next(line for line in said if "tides.example" in line)
    assert line.split() == ["3", "3", "100.0%", "5,000", "ms", "5,000", "ms", "sailings", "→", "tides.example", "host"]
    assert "96% tides.example" in next(line for line in said if "GET /fares" in line) and "obitus runs" in said[-1]
    assert json.loads(obitus(running, "calls", "--json"))["whole"] == 3
    assert "tides.example  by sailings" in obitus(running, "now")
    assert "no window" in obitus(running, "calls", "--window", "soon", status=2)


def test_timeline(running: Running) -> None:
    """Of a failure, a run, a trace, an issue, a person; what led up to it, in lanes, with the last step that worked."""
    id, runs = story(running)
    said = obitus(running, "timeline", id).splitlines()
    assert said[0].startswith("What led up to a failure in gatekeeper")
    assert any("The clock of gate-1 is 39.9" in line for line in said)
    assert "│ │ 3" in said[-2] and "OutOfPaper: 40 mm of paper left  issue 1" in said[-2]
    assert next(line for line in said if "last that worked" in line).split("·")[1].strip().startswith("pass laid out")
    for what in ("1", TIMELINE_TRACE):
        assert obitus(running, "timeline", what).splitlines()[1:] == said[1:]
    assert "Everything" not in obitus(running, "timeline", runs["gatekeeper"])
    assert json.loads(obitus(running, "timeline", id, "--json"))["ends_with"]
    assert "page /pass" in obitus(running, "timeline", "--user", "p-118", "--around", "1h")
    assert "Say one" in obitus(running, "timeline", status=2) and "no time" in obitus(running, "timeline", "--user", "x", "--at", "noon", status=2)  # fmt: skip
