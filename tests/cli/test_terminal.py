"""Whatever reports hold, no command lets a control code through to the terminal."""

from __future__ import annotations

import json
import re
import uuid
from pathlib import Path
from typing import Any

from obitus.cli.safe import cleaned
from tests.cli.shell import Shell
from tests.conftest import Running, failure, now_text

EVIL = "\x1b[2J\x1b]0;owned\x07\x9b31m\u202egnol\r\b"
CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


def evil(release: str) -> dict[str, Any]:
    frame = {
        "function": f"quote{EVIL}", "module": f"fares{EVIL}", "file": f"fares{EVIL}.py", "line": 7, "own": True,
        "source": {"line": f"return fares{EVIL}", "before": [EVIL], "after": [EVIL]}, "locals": {f"kind{EVIL}": EVIL},
    }  # fmt: skip
    return failure(
        release=release,
        exceptions=[{"type": f"KeyError{EVIL}", "message": EVIL, "frames": [frame]}, {"type": f"Cause{EVIL}", "message": EVIL, "relation": "cause", "frames": [frame]}],
        run={"entry_point": f"GET /fares{EVIL}"},
        request={"method": f"GET{EVIL}", "url": f"/fares{EVIL}", "client": EVIL, "headers": [[f"x{EVIL}", EVIL]]},
        attributes={"user.id": EVIL, f"pier{EVIL}": EVIL},
        trail=[{"kind": "mark", "time": now_text(), "message": EVIL, "attributes": {f"taken{EVIL}": EVIL}}],
        captured_by=f"run{EVIL}",
    )  # fmt: skip


def test_no_command_lets_control_codes_through(shell: Shell, running: Running, tmp_path: Path) -> None:
    """Every command that shows something, on reports that try; so does --json."""
    key = running.add_app()
    for release in (f"3.0.0{EVIL}", "3.1.0"):
        assert running.send(key, evil(release), evil(release)).json()["stored"] == 2
    log = {
        "kind": "log",
        "severity": "WARN",
        "logger": f"pier{EVIL}",
        "message": EVIL,
        "attributes": {f"gate{EVIL}": EVIL},
    }
    at_run = {
        "run": {"entry_point": f"page{EVIL}", "outcome": "ok"},
        "kind": "run",
        "request": {"method": f"GET{EVIL}"},
    }
    for report in (log, at_run):
        more = {"id": str(uuid.uuid4()), "time": now_text(), "trace_id": "0af7651916cd43dd8448eb211c80319c"}
        assert running.send(key, report | more).json()["stored"] == 1
    releases = running.get("/api/apps/sailings")["releases"]
    running.ask("POST", "/api/deploys", {"release": releases[0], "app": "sailings"})
    running.http.request("POST", running.url + "/api/sign-in", json={"name": EVIL, "password": "guess"})
    file = tmp_path / f"gate{EVIL[:4]}.log"
    trace = f'Traceback (most recent call last):\n  File "fares{EVIL}.py", line 7, in quote{EVIL}\nKeyError{EVIL[:4]}: {EVIL}\n'
    file.write_text(trace.replace("\r", "") * 3)
    commands = [
        ("issues",), ("issue", "1"), ("issue", "1", "--all"), ("why", "1"), ("releases",), ("release", "3.1.0", "--app", "sailings"),
        ("release", releases[-1], "--app", "sailings"), ("compare", releases[0], releases[-1], "--app", "sailings"), ("app", "list"), ("acts",),
        ("rules",), ("fingerprint", str(file)), ("read", str(file), "--dry-run"), ("accept", "1"), ("issues", "--release", releases[-1]),
        ("issues", "--text", EVIL[:3]), ("issue", "99"), ("why", "99"), ("issues", "--app", EVIL[:6].replace("\x1b", "")), ("park", "1"),
        ("now",), ("logs",), ("logs", "--whole"), ("failures",), ("failures", "--whole"), ("failures", "--columns", f"type,pier{EVIL[:4]},user.id"), ("runs",),
        ("failures", "--summary", "count by user.id, type"), ("failures", EVIL[:3]), ("logs", "--run", "7"), ("logs", "--summary", EVIL[:5]),
        ("logs", "--trace", "0af7651916cd43dd8448eb211c80319c"),
    ]  # fmt: skip
    shown = 0
    for command in commands:
        for more in ((), ("--json",)):
            text = shell.run(*command, *more, status=None)
            assert CONTROL.search(text) is None, (command, more, CONTROL.search(text), text[:400])
            shown += "gnol" in text
    # What was tried is shown, without what it was to do.
    assert shown >= 10


def test_what_a_service_answers_is_cleaned_whole() -> None:
    """Names and values, however deep."""
    given = {EVIL: [EVIL, {"deep": [{EVIL: EVIL}]}, 1, None, True]}
    assert CONTROL.search(json.dumps(cleaned(given), ensure_ascii=False)) is None
    assert cleaned("line\n\tand tab") == "line\n\tand tab"
