"""The ferry line: the story is played whole, through the real client, and is the same every time."""

from __future__ import annotations

import json
import os
import re
import signal
import sqlite3
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path

import pytest

from obitus.core.clock import DAY_MS
from obitus.demo.story import DAYS, PLAYERS, acts_of

# Hours are counted by the clock on the wall: played a minute later, the story has the same failures under other ids.
UNTIL = datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%S")


def play(folder: Path, *more: str) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "obitus", "demo", "--data", str(folder), "--port", "0", "--until", UNTIL, *more]
    return subprocess.run(command, capture_output=True, text=True, timeout=110)


@pytest.fixture(scope="module")
def loaded(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("ferry") / "demo"
    ended = play(folder, "--load-only")
    assert ended.returncode == 0, ended.stderr
    return folder


def issues(folder: Path) -> dict[tuple[str, str, str], sqlite3.Row]:
    connection = sqlite3.connect(folder / "obitus.sqlite3")
    connection.row_factory = sqlite3.Row
    rows = connection.execute("SELECT apps.name AS app, issues.* FROM issues JOIN apps ON apps.id = app_id").fetchall()
    connection.close()
    return {
        (row["app"], row["type"].rpartition(".")[2], row["place"].rpartition(".")[2] + str(row["id"])): row
        for row in rows
    }


def test_the_story_is_told(loaded: Path) -> None:
    """One issue regresses, one has only stragglers since, one helper has two faults, one app dies at its start."""
    found = issues(loaded)
    by_type = {(app, kind): row for (app, kind, _), row in found.items()}
    fare = by_type["sailings", "FareUnknown"]
    assert (fare["state"], fare["settled_in"], fare["cause"]) == ("regressed", "2.9.0", "KeyError")
    passes = by_type["gatekeeper", "UnicodeEncodeError"]
    assert passes["state"] == "settled" and passes["stragglers"] > 0
    assert sum(row["place"] == "gatekeeper.manifests.field" for row in found.values()) == 2
    assert by_type["gatekeeper", "NoOptionError"]["place"] == "gatekeeper.config.load"
    assert by_type["sailings", "TideUnavailable"]["cause"] == "TimeoutError"
    assert by_type["sailings", "SailingFull"]["failures"] > 20, "ids in its messages do not split it"
    assert by_type["sailings", "RecursionError"]["state"] == "untriaged"
    assert 9 <= len(found) <= 14


def test_every_failure_is_a_real_one(loaded: Path) -> None:
    """Each failure was raised by the line's own code: its innermost own frame is a line of that code."""
    connection = sqlite3.connect(loaded / "obitus.sqlite3")
    count = connection.execute("SELECT COUNT(*) FROM failures").fetchone()[0]
    assert count == connection.execute("SELECT SUM(failures) FROM issue_counts").fetchone()[0] > 400
    assert connection.execute("SELECT COUNT(*) FROM issues WHERE place NOT GLOB '*.*'").fetchone()[0] == 0
    connection.close()
    for place in {row["place"] for row in issues(loaded).values()}:
        app, module = place.split(".")[:2]
        assert any((loaded / "deploys" / release / app / f"{module}.py").exists() for release in ("2.8.0", "2.9.0")), (
            place
        )


def test_it_is_the_same_every_time(loaded: Path, tmp_path: Path) -> None:
    """Played again up to the same moment, the same failures happen, down to their ids."""
    assert play(tmp_path / "again", "--load-only").returncode == 0

    def told(folder: Path) -> list[tuple[object, ...]]:
        connection = sqlite3.connect(folder / "obitus.sqlite3")
        rows = connection.execute(
            "SELECT substr(hex(reports.id), 13), message, entry_point FROM failures JOIN reports USING (seq) ORDER BY reports.id"
        ).fetchall()
        connection.close()
        return rows

    assert told(loaded) == told(tmp_path / "again")


def test_traffic_follows_from_the_seed() -> None:
    """Acts of a day are in order, inside the day, and depend on nothing but seed, player and day."""
    for player in PLAYERS:
        for day in range(player.first_day, player.end_day):
            acts = list(acts_of(player, day, 0))
            assert acts == list(acts_of(player, day, 0)) and len(acts) == player.acts_a_day
            assert all(day * DAY_MS <= act.time_ms < (day + 1) * DAY_MS for act in acts)
    assert max(player.end_day for player in PLAYERS) == DAYS


def test_a_folder_with_something_else_in_it_is_left_alone(tmp_path: Path) -> None:
    """The demo removes its own records only."""
    (tmp_path / "catch.txt").write_text("herring")
    ended = play(tmp_path)
    assert ended.returncode == 1 and "not a demo" in ended.stderr and (tmp_path / "catch.txt").exists()


def test_it_prints_one_link_that_works(tmp_path: Path) -> None:
    """`obitus demo` ends its loading with one link; the link signs in; Ctrl-C ends it cleanly."""
    import urllib3

    command = [sys.executable, "-u", "-m", "obitus", "demo", "--data", str(tmp_path / "demo"), "--port", "0"]
    running = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=os.environ | {"COLUMNS": "200"})  # fmt: skip
    assert running.stdout is not None
    printed = ""
    for line in running.stdout:
        printed += line
        if "Ctrl-C" in line:
            break
    (link,) = re.findall(r"http://\S+#\S+", printed)
    url, _, secret = link.partition("/sign-in#")
    answer = urllib3.request("POST", url + "/api/sign-in", json={"link": secret})
    cookie = answer.headers["Set-Cookie"].split(";")[0]
    listed = urllib3.request("GET", url + "/api/desk", headers={"Cookie": cookie}).json()
    assert listed["regressed"] and listed["new"] and listed["loud"]
    login = json.loads((tmp_path / "demo/login.json").read_text())
    assert login["url"] == url
    running.send_signal(signal.SIGINT)
    assert running.wait(20) == 0
    running.stdout.close()
    assert running.stderr is not None
    running.stderr.close()
