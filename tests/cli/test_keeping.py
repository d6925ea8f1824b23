"""``obitus backup``, ``restore`` and ``verify``: what they say, and how they end."""

from __future__ import annotations

import json
import sqlite3
from contextlib import closing
from pathlib import Path

from tests.cli.shell import Shell, words
from tests.conftest import Running, failure


def test_copied_brought_back_looked_at(shell: Shell, running: Running, tmp_path: Path) -> None:
    """From a running service to a folder that another one starts on; what is wrong is named, mended, or refused in words."""
    running.send(running.add_app(), failure(), failure())
    data, kept, back = str(running.service.settings.data), str(tmp_path / "kept"), str(tmp_path / "back")
    said = words(shell.run("backup", kept, "--data", data))
    assert "2 files of" in said and "each was checked" in said and f"obitus restore {kept} --data NEW-FOLDER" in said
    assert json.loads(shell.run("backup", kept, "--data", data, "--json"))["files"] == 2
    assert "All is whole" in shell.run("verify", "--data", data)
    assert "holds records already" in shell.run("restore", kept, "--data", data, status=1)
    assert f"obitus serve --data {back}" in words(shell.run("restore", kept, "--data", back))
    with closing(sqlite3.connect(tmp_path / "back/obitus.sqlite3")) as main:
        main.execute("UPDATE issue_days SET failures = 5")
        main.commit()
    wrong = words(shell.run("verify", "--data", back, status=1))
    assert "× failures of issues by day (issue_days): 1 differ" in wrong and "obitus verify --repair" in wrong
    assert "✓ mended failures of issues by day" in words(shell.run("verify", "--data", back, "--repair"))
    assert json.loads(shell.run("verify", "--data", back, "--json")) == {"differences": []}
    assert "another service runs on" in words(shell.run("verify", "--data", data, "--repair", status=1))
    assert "holds no records" in shell.run("backup", kept, "--data", str(tmp_path / "nowhere"), status=1)


def test_for_how_long(shell: Shell, running: Running) -> None:
    """What is usual, what was said, what a try would remove; what cannot be understood is said before anything is asked."""
    running.add_app()
    shown = words(shell.run("keep", "show"))
    assert "failures: 90 days (usual) logs: 14 days (usual) healthy runs: 3 days (usual)" in shown
    assert "Nothing is due to be removed." in shown
    assert "Nothing would be removed." in shell.run("keep", "set", "logs", "--days", "1", "--preview")
    assert "It is kept so from now on." in shell.run("keep", "set", "healthy-runs", "--days", "0", "--app", "sailings")
    assert "healthy runs of sailings: for ever" in words(shell.run("keep", "show"))
    shell.run("keep", "set", "all", "--most", "50GB")
    assert " of 50.0 GB" in words(shell.run("keep", "show"))
    for wrong in (
        ("tides", "--days", "3"),
        ("logs",),
        ("all",),
        ("all", "--most", "much"),
        ("logs", "--days", "3", "--usual"),
    ):
        shell.run("keep", "set", *wrong, status=2)
