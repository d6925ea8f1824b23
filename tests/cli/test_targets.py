"""``obitus target``: records are passed on, seen in trouble, tried again, on the command line."""

from __future__ import annotations

import json
from pathlib import Path

from tests.cli.shell import Shell
from tests.cli.test_alerts import words
from tests.conftest import Running, failure, until
from tests.service.alerting.helpers import allow


def test_from_nothing_to_a_target_that_took_all(shell: Shell, running: Running, tmp_path: Path) -> None:
    """What the owner of the machine has to do first is said; a target in trouble says why; nothing that came meanwhile is missing."""
    key = running.add_app()
    folder = tmp_path / "depot"
    assert "obitus target add depot file --set" in words(shell.run("target", "list"))
    add = ("target", "add", "depot", "file", "--set", f"path={folder}/records.ndjson", "--pass", "failure")
    assert "roll_mb is a number" in shell.run(*add, "--set", "roll_mb=many", status=2)
    # The terminal breaks a path where its width asks for that.
    assert "allowed.toml" in words(shell.run(*add, "--hide", "name vessel")).replace(" ", "")
    allow(running, folders=[str(folder)])
    running.send(key, failure(attributes={"vessel": "m-s-kestrel"}))
    until(lambda: "is not there: make it" in words(shell.run("target", "list")))
    folder.mkdir()
    assert "depot is tried now." in shell.run("target", "try-now", "depot")
    until(lambda: "1 record passed on, last" in words(shell.run("target", "list")))
    record = json.loads((folder / "records.ndjson").read_text("utf-8"))
    assert record["kind"] == "failure" and "kestrel" not in json.dumps(record)
    listed = json.loads(shell.run("target", "list", "--json"))["targets"]
    assert [(one["name"], one["passed"], one["lost"], one["trouble"]) for one in listed] == [("depot", 1, 0, "")]
    assert "already" in shell.run(*add, status=6)
    assert "any more" in shell.run("target", "remove", "depot")
    shell.run("target", "try-now", "depot", status=5)


def test_what_cannot_be_a_target_says_what_to_do(shell: Shell, running: Running) -> None:
    """A question that is none, an address that is private, a rule that cannot be: each is refused, and nothing is kept."""
    for more, said in (
        (("syslog", "--set", "host=logs.skerry.example", "--question", "severity>="), "is expected"),
        (("webhook", "--set", "url=http://127.0.0.1:9/"), "allowed.toml"),
        (("otlp",), "the address of a collector is expected"),
        (("syslog", "--set", "host=logs.skerry.example", "--hide", "pattern ("), "pattern"),
        (("pigeon",), "file"),
    ):
        assert said in words(shell.run("target", "add", "depot", *more, status=6)), more
    assert running.get("/api/targets")["targets"] == []
