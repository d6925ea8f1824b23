"""``obitus fingerprint``: which records would be one issue, without a service."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

from tests.conftest import Running, raised_in

TEXTS = Path(__file__).parents[1] / "core/stacks/texts"


def told(path: Path, status: int = 0) -> list[dict[str, Any]]:
    ended = subprocess.run([sys.executable, "-m", "obitus", "fingerprint", str(path)], capture_output=True, text=True)
    assert ended.returncode == status, ended.stderr
    return [json.loads(line) for line in ended.stdout.splitlines()]


def record(text: str, **more: str) -> str:
    return json.dumps({"exception.stacktrace": text} | {f"exception.{name}": value for name, value in more.items()})


def test_records_of_several_languages(tmp_path: Path) -> None:
    """One answer for each line, in order; the same fault on another line and with another id is the same group."""
    java = (TEXTS / "java.txt").read_text()
    moved = java.replace("Gate.java:4", "Gate.java:41").replace("x7", "x8")
    other = java.replace("Gate.berth", "Gate.moor")
    lines = [record(java), record((TEXTS / "go.txt").read_text()), record(moved), "{broken", record(other), json.dumps({"n": 1}),
             record("", type="TideError", message="no depth at pier 7"), record("", type="TideError", message="no depth at pier 8")]  # fmt: skip
    path = tmp_path / "records.ndjson"
    path.write_text("\n".join(lines) + "\n")
    first, go, again, broken, another, empty, bare, bare_again = told(path)
    assert first["group"] == again["group"] != another["group"] and go["group"] not in (None, first["group"])
    assert broken == {"group": None, "trouble": "the line is no JSON object"} and empty["group"] is None
    assert bare["group"] == bare_again["group"] and bare["innermost"] is None
    assert (first["language"], go["language"]) == ("java", "go")
    assert first["innermost"] == {"function": "forInputString", "file": "NumberFormatException.java", "line": 67}
    assert first["issue_title"] == "Gate$GangwayUp, from NumberFormatException in Gate.berth"
    assert any(part["counted"] and part["reason"] for part in first["parts"])


def test_text_with_stacks_in_it(tmp_path: Path) -> None:
    """A log is read as it is; a file that is not there is said in a line."""
    path = tmp_path / "gate.log"
    path.write_text("up\n" + (TEXTS / "perl.txt").read_text() + "down\n" + (TEXTS / "rust.txt").read_text())
    assert [answer["language"] for answer in told(path)] == ["perl", "rust"]
    assert told(tmp_path / "none.log", status=2) == []


def test_the_group_is_what_the_service_decides(running: Running, tmp_path: Path) -> None:
    """What is sent to the service as frames gets the very same fingerprint."""
    from obitus.core.stacks import find_stacks, report_form
    from tests.conftest import failure

    path = tmp_path / "one.ndjson"
    path.write_text(record((TEXTS / "node.txt").read_text()))
    (answer,) = told(path)
    chain = report_form(find_stacks((TEXTS / "node.txt").read_text())[0].chain)
    running.send(running.add_app(), failure(exceptions=chain), failure(exceptions=raised_in("m", "f")))
    issues = running.service.records.reader.rows("SELECT fingerprint FROM fingerprints ORDER BY issue_id")
    assert issues[0]["fingerprint"] == answer["fingerprint"]
    assert running.get("/api/issues/1")["title"] == answer["issue_title"]
