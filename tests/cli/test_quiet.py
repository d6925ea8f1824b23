"""``obitus quiet`` and ``person``: when nothing was raised."""

from __future__ import annotations

import json

from obitus.service.jobs import quiet
from tests.cli.shell import Shell
from tests.conftest import Running
from tests.service.test_quiet import POINT, refused, rise


def test_when_nothing_was_raised(shell: Shell, running: Running) -> None:
    """What is refused more than usual, with the question that finds it; an issue made of it; what happened to one person."""
    key = running.add_app()
    assert "Nothing is refused or warned of more than usual" in shell.run("quiet")
    rise(running, key)
    running.send(key, *(refused(number) for number in range(2, 6)))
    quiet.look(running.service.records, running.clock())
    text = " ".join(shell.run("quiet").split())
    assert f"▽ refused sailings: {POINT} 20 of 100 runs were refused (20.0%) in release 3.1.0" in text
    assert "obitus runs 'app=sailings entry_point=" in text and "obitus quiet --make-issue N" in text
    assert "It is issue 1: obitus issue 1" in shell.run("quiet", "--make-issue", "1")
    assert "issue 1 collects it" in shell.run("quiet")
    assert f"Refused in {POINT}" in shell.run("issue", "1")
    assert "It is dismissed" in shell.run("quiet", "--leave", "1")
    shell.run("quiet", "--leave", "1", status=5)
    shell.run("quiet", "--leave", "1", "--make-issue", "1", status=2)
    met = shell.run("person", "p-102")
    assert "4 records of 1 app; 4 refused, 0 failed." in met and f"▽ refused  sailings  {POINT}  422" in met
    assert "Nothing is kept of them then" in " ".join(shell.run("person", "nobody", "--at", "10:00").split())
    shell.run("person", "p-102", "--at", "teatime", status=2)
    assert json.loads(shell.run("person", "p-102", "--json"))["refused"] == 4
