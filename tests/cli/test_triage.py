"""Deciding on the command line: many at once, parked until something, taken back; lists, the shift, earlier ones, who gets what."""

from __future__ import annotations

import json
from pathlib import Path

from tests.cli.shell import Shell
from tests.conftest import Running, failure, raised_in, until
from tests.service.test_deciding import of
from tests.service.test_people import invited


def plain(text: str) -> str:
    return " ".join(text.split())


def test_many_at_once_and_taken_back(shell: Shell, running: Running) -> None:
    """What became of each is said, what was left and why, and how to take it back."""
    running.send(running.add_app(), *(of(n) for n in range(3)))
    said = plain(shell.run("park", "1", "2", "99", "--failures", "50", "--another", "release"))
    assert (
        "Issue 1: ‖ parked" in said
        and "owner parked it until 50 more failures or a failure in another release." in said
    )
    assert "1 issue left as it is: 99: There is no issue 99." in said and "obitus take-back 1" in said
    assert "50 more failures" in plain(shell.run("issues")) and "So far 0 of 50 failures." in plain(
        shell.run("issue", "1")
    )
    assert "Taken back: parked it until 50 more failures or a failure in another release, 2 issues." in plain(
        shell.run("take-back")
    )
    assert running.get("/api/issues/1")["state"] == "untriaged"
    assert "no decision 1" in shell.run("take-back", "1", status=5)
    assert "with owner" in plain(shell.run("take", "1", "3"))
    invited(running)
    assert "with Ida Moss, middle priority, waits for the tide" in plain(
        shell.run("hand-over", "3", "--to", "Ida Moss", "--waits-for", "the tide")
    )
    assert "Ida Moss" in plain(shell.run("hand-over", "3", "--to", "Ida Moss")), "nothing changes, and nothing breaks"
    assert json.loads(shell.run("accept", "1", "2", "--json"))["done"] == [1, 2]
    assert "There is no issue 99." in shell.run("accept", "99", status=5)


def test_times_until(shell: Shell, running: Running) -> None:
    """A span or a time, not both; what is none of what there is says so."""
    running.send(running.add_app(), of(0))
    assert "parked it until 20" in plain(shell.run("park", "1", "--for", "3d"))
    assert "parked it until 2099-01-01 09:00 UTC" in plain(shell.run("park", "1", "--until", "2099-01-01T09:00"))
    assert "not both" in shell.run("park", "1", "--for", "3d", "--until", "2099-01-01", status=2)
    assert "is no span of time" in shell.run("park", "1", "--for", "soon", status=2)
    assert "none of release, environment and app" in shell.run("park", "1", "--another", "planet", status=2)
    assert "must be in the future" in plain(shell.run("park", "1", "--until", "2020-01-01T00:00", status=6))


def test_the_shift_and_lists(shell: Shell, running: Running) -> None:
    """What the shift hands on, as a report and as Markdown; lists with counts, and what stands in one."""
    running.send(running.add_app(), *(of(n) for n in range(3)))
    shell.run("take", "1")
    shell.run("note", "1", "Not the | tide.")
    said = plain(shell.run("shift"))
    assert said.startswith(
        "In 8 h: 3 failures of 3 issues; 3 new; 2 decisions and notes by owner; 2 unassigned issues."
    )
    assert (
        said.index("Unassigned")
        < said.index("What waits")
        < said.index("What came in")
        < said.index("What was decided")
    )
    assert "Take them: obitus take" in said
    assert "Not the \\| tide." in shell.run("shift", "--markdown")
    assert json.loads(shell.run("shift", "--json"))["by_person"] == {"owner": 2}
    assert "No list is saved yet" in shell.run("lists")
    view = {"kind": "issues", "question": "with=me"}
    running.ask("POST", "/api/saved", {"name": "Mine", "for_all": True, "view": view})
    assert "1 Mine with=me" in plain(shell.run("lists"))
    assert "1 issue, 1 failure" in plain(shell.run("issues", "--list", "Mine"))
    assert "There are: Mine." in plain(shell.run("issues", "--list", "Yours", status=2))


def test_earlier_ones(shell: Shell, running: Running) -> None:
    """How an issue like it was settled, and what was found then."""
    key = running.add_app()
    running.send(key, failure(exceptions=raised_in("sailings.tides", "depth_at", "TideUnavailable", "no depth")))
    assert "Nothing like it was settled before." in shell.run("earlier", "1")
    shell.run("note", "1", "Late.", "--check", "tide service", "--found", "suspicious")
    shell.run("settle", "1", "--from", "now")
    running.send(key, failure(exceptions=raised_in("sailings.tides", "depth_at", "TideStale", "old depth")))
    said = plain(shell.run("earlier", "2"))
    assert "raised in the same function, sailings.tides.depth_at" in said
    assert "owner settled it as fixed from now on." in said and "tide service: suspicious. Late. (owner)" in said


def test_who_gets_what(shell: Shell, running: Running, tmp_path: Path) -> None:
    """A rule is tried, used and stopped; an owners' file is looked at, kept, and its names are said."""
    key = running.add_app()
    invited(running)
    running.send(key, of(0))
    rule = "hand to Ida Moss when app=sailings module~part"
    assert "No hand-over rule yet" in shell.run("handing", "rules")
    assert "1 issue would be handed over." in plain(shell.run("handing", "try", rule))
    assert "Rule 1 is active" in shell.run("handing", "add", rule)
    assert "1 issue handed over." in shell.run("handing", "apply")
    running.send(key, of(1))
    until(lambda: running.get("/api/issues/2")["holder"] == "Ida Moss")
    assert rule in plain(shell.run("handing", "rules"))
    assert "Rule 1 is stopped" in shell.run("handing", "stop", "1")
    file = tmp_path / "CODEOWNERS"
    file.write_text("* @skerry/line\n!odd\n/srv/ @ida-moss\n")
    assert "sailings has no CODEOWNERS yet" in shell.run("handing", "owners", "sailings")
    said = plain(shell.run("handing", "owners", "sailings", str(file)))
    assert "2 lines understood." in said and "Line 2 is left out" in said and "@skerry/line: nobody known" in said
    assert "Save it: the same command with --yes" in said
    assert "@ida-moss: Ida Moss" in shell.run("handing", "owners", "sailings", str(file), "--yes")
    assert "@skerry/line is owner." in shell.run("handing", "mean", "@skerry/line", "--to", "owner")
    assert "@skerry/line: owner" in shell.run("handing", "owners", "sailings")
    assert "cannot be read" in plain(shell.run("handing", "owners", "sailings", "/nowhere/CODEOWNERS", status=2))
    assert "is no hand-over rule" in plain(shell.run("handing", "add", "give it away", status=6))
