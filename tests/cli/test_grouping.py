"""``obitus why``, ``merge``, ``split``, ``rules``, ``regroup``, ``undo``: a look first, then the step, then the way back."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from typing import Any

import pytest

from tests.conftest import Running, failure


def raised(code: str, pier: str) -> dict[str, Any]:
    frame = {"function": "quote", "module": "fares", "file": "/srv/fares.py", "line": 7, "own": True, "source": {"line": code}}  # fmt: skip
    return failure(exceptions=[{"type": "KeyError", "message": "'x'", "frames": [frame]}], attributes={"pier": pier})


@pytest.fixture
def two(running: Running) -> Running:
    key = running.add_app()
    running.send(key, *(raised("return fares[kind]", pier) for pier in ("eastholm", "eastholm", "merrow")), raised("return fares[pier]", "merrow"))  # fmt: skip
    return running


def obitus(running: Running, *arguments: str, status: int = 0) -> str:
    environment = os.environ | {"OBITUS_URL": running.url, "OBITUS_TOKEN": running.token, "COLUMNS": "160"}
    ended = subprocess.run(
        [sys.executable, "-m", "obitus", *arguments], capture_output=True, text=True, env=environment
    )
    assert ended.returncode == status, ended.stderr + ended.stdout
    return ended.stdout + ended.stderr


def test_why(two: Running) -> None:
    """What counted and what did not, each with its reason, the nearest other issue, and what to do next."""
    said = obitus(two, "why", "1")
    assert (
        "counts   function: fares.quote" in said and "own code, innermost on the stack" in said and "left out" in said
    )
    assert "another line of code" in said and "Merge: obitus merge 1 2" in said
    answer = json.loads(obitus(two, "why", "1", "--json"))
    assert answer["perhaps"][0]["number"] == 2 and answer["why"][0]["parts"]


def test_merge_and_undo(two: Running) -> None:
    """Without --yes only the look; with it the step and how to undo it."""
    assert "3 failures of issue 1 would go to issue 2, which then has 4" in obitus(two, "merge", "1", "2")
    assert "3 failures moved. Undo: obitus undo 1" in obitus(two, "merge", "1", "2", "--yes")
    assert "Undone" in obitus(two, "undo", "1")
    assert "is undone" in obitus(two, "undo", "1", status=6)


def test_split(two: Running) -> None:
    """The parts with their failures first; nothing parts where all have one value; what is no order is explained."""
    said = obitus(two, "split", "1", "--by", "pier")
    assert "would become 2 issues" in said and "eastholm" in said and "same command with --yes" in said
    assert "Nothing would be split" in obitus(two, "split", "1", "--by", "vessel")
    assert "1 failure moved" in obitus(two, "split", "1", "--by", "pier", "--yes")
    assert "either" in obitus(two, "split", "1", status=6)
    assert "stay apart" in obitus(two, "never-together", "1", "2")


def test_rules_and_history(two: Running) -> None:
    """A rule is tried, added, listed, applied to history and ended."""
    rule = "together when type=KeyError"
    assert "issues 1, 2" in obitus(two, "rules", "try", rule)
    assert "Rule 1 is active" in obitus(two, "rules", "add", rule) and rule in obitus(two, "rules", "list")
    assert "1 would change" in obitus(two, "regroup", "sailings")
    assert "1 failure moved" in obitus(two, "regroup", "sailings", "--yes")
    assert [issue["failures"] for issue in two.issues()] == [4]
    assert "has ended" in obitus(two, "rules", "stop", "1") and "No grouping rule" in obitus(two, "rules", "list")
    assert "nothing that a rule does" in obitus(two, "rules", "try", "type=KeyError", status=6)


def test_a_key_for_many_apps(running: Running) -> None:
    """A key of an app that may make others; for OpenTelemetry nothing is to be installed."""
    running.add_app()
    assert (
        json.loads(obitus(running, "app", "key", "sailings", "--may-add-apps", "--json"))["environment"] == "production"
    )
    assert [key["may_add_apps"] for key in running.get("/api/apps/sailings")["keys"]] == [False, True]
    said = obitus(running, "app", "add", "collector", "--kind", "opentelemetry")
    assert "OTEL_EXPORTER_OTLP_HEADERS" in said and "pip install" not in said
