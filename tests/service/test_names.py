"""Names that senders choose are bounded; what was named by mistake can be removed."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from obitus.store import grouping, names, releases, removing
from obitus.store.backups.verifying import verify
from obitus.store.names import OTHERS
from tests import kept
from tests.cli.shell import Shell
from tests.conftest import Running, failure, raised_in, until
from tests.service.test_grouping import done
from tests.service.test_releases import send, tally


@pytest.fixture
def shell(running: Running, tmp_path: Path) -> Shell:
    """A shell that is signed in."""
    made = Shell(tmp_path)
    made.environment |= {"OBITUS_URL": running.url, "OBITUS_TOKEN": running.token, "COLUMNS": "120"}
    return made


def test_entry_points_are_bounded(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """Runs of an entry point too many are counted with others, and the sender and the set-up page are told."""
    monkeypatch.setattr(names, "MOST_ENTRY_POINTS", 10)
    key = running.add_app()
    made = [tally("3.0.0", 2, 1, f"GET /passes/{number}") for number in range(25)]
    said = running.send(key, *made).json()
    assert said["stored"] == 25
    assert ["notes" in line for line in said["lines"]] == [False] * 10 + [True] * 15
    assert "counted with others" in said["lines"][-1]["notes"][0]
    runs = {
        row["entry_point"]: row["n"]
        for row in running.service.records.reader.rows("SELECT entry_point, SUM(runs) AS n FROM run_counts GROUP BY 1")
    }
    assert len(runs) == 11 and runs[OTHERS] == 30 and sum(runs.values()) == 50
    assert running.get("/api/apps/sailings")["last_remark"]["slug"] == "too-many-entry-points"


def test_environments_of_others_are_bounded(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """An OpenTelemetry sender that names an environment too many reports for its key's; a deploy there is refused."""
    monkeypatch.setattr(names, "MOST_ENVIRONMENTS", 4)
    running.add_app(may_deploy=True)
    made = running.ask("POST", "/api/apps/sailings/keys", {"environment": "production", "may_add_apps": True}).json()
    for number in range(8):
        attributes = [{"key": "deployment.environment.name", "value": {"stringValue": f"branch-{number}"}}]
        record = {"timeUnixNano": str(running.clock() * 1_000_000), "body": {"stringValue": "no berth"}}
        export = {"resourceLogs": [{"resource": {"attributes": attributes}, "scopeLogs": [{"logRecords": [record]}]}]}
        assert running.ask("POST", "/v1/logs", export, token=made["key"]).status == 200
    (day,) = running.service.records.days.known()
    counted = "SELECT text, COUNT(*) AS n FROM logs JOIN texts ON texts.id = environment_id GROUP BY 1"
    assert {row["text"]: row["n"] for row in running.service.records.days.rows(day.day, counted)} == {"branch-0": 1, "branch-1": 1, "branch-2": 1, "branch-3": 1, "production": 4}  # fmt: skip
    deploy = {"app": "sailings", "release": "3.0.0", "environment": "another"}
    answer = running.ask("POST", "/api/deploys", deploy)
    assert (answer.status, answer.json()["slug"]) == (409, "too-many")


def test_a_release_is_removed(running: Running, shell: Shell, monkeypatch: pytest.MonkeyPatch) -> None:
    """It is kept apart no longer and makes room; its failures stay and say its name; a report that names it brings it back."""
    monkeypatch.setattr(releases, "MOST_RELEASES", 3)
    key = running.add_app()
    send(running, key, failure(release="3.0.0"), failure(release="build-77"), failure(release="3.1.0"))
    running.ask("PATCH", "/api/apps/sailings/releases/3.1.0", {"after": "build-77"})
    assert "no release of its own" in shell.run("release", "remove", "build-77")

    def known() -> set[str]:
        return set(running.get("/api/apps/sailings")["releases"])

    assert known() == {"3.0.0", "3.1.0"}
    assert {row["release"] for row in running.get("/api/issues/1/failures?window=1d")["failures"]} == {"3.0.0", "build-77", "3.1.0"}  # fmt: skip
    assert running.get("/api/issues/1")["failures_in_all"] == 3
    assert "no release 'build-77'" in shell.run("release", "remove", "build-77", status=5)
    send(running, key, failure(release="3.2.0"))
    assert known() == {"3.0.0", "3.1.0", "3.2.0"}
    # There is no room for it any more.
    assert "notes" in running.send(key, failure(release="build-77")).json()["lines"][0]
    shell.run("release", "remove", "3.2.0")
    send(running, key, failure(release="build-77"))
    assert known() == {"3.0.0", "3.1.0", "build-77"}
    assert ("removed release", "sailings build-77") in {(act["act"], act["subject"]) for act in running.get("/api/acts")["acts"]}  # fmt: skip


def test_an_app_is_removed(running: Running, shell: Shell, monkeypatch: pytest.MonkeyPatch) -> None:
    """It is gone at once, with its issues and keys; all that it reported is deleted; others are as they were; its name is free."""
    monkeypatch.setattr(removing, "ROWS_AT_ONCE", 7)
    key, other = running.add_app(), running.add_app("gatekeeper")
    chains = [[{"type": f"skerry.Fog{number}", "message": "no sight"}] for number in range(9)]
    send(running, key, *(failure(exceptions=chain) for chain in chains * 4), tally("3.0.0", 5, 1))
    send(running, other, failure(), tally("3.0.0", 5, 1))
    assert running.ask("POST", "/api/issues/1/settle", {"how": "release", "release": "3.0.0"}).status == 200
    merged = running.ask("POST", "/api/issues/2/merge", {"into": 3}).json()
    until(lambda: running.get(f"/api/regroupings/{merged['id']}")["state"] == "done")
    assert "cannot be undone" in shell.run("app", "remove", "sailings", status=1)
    shell.run("app", "remove", "sailings", "--yes")
    assert [one["name"] for one in running.get("/api/apps")["apps"]] == ["gatekeeper"]
    assert {issue["app"] for issue in running.issues()} == {"gatekeeper"}
    assert running.ask("GET", "/api/issues/1").status == 404
    assert running.send(key, failure()).json()["slug"] == "revoked-key"
    connection = sqlite3.connect(running.service.settings.database)

    def count(table: str) -> int:
        return int(connection.execute(f"SELECT COUNT(*) FROM {table}").fetchone()[0])

    until(lambda: (len(kept.ids(running.service.records.days)), count("issues"), count("run_counts")) == (2, 1, 1))
    assert (count("failures"), count("fingerprints"), count("issue_releases")) == (1, 1, 1)
    assert len(kept.reports(running.service)) == 2
    until(lambda: connection.execute("SELECT COUNT(*) FROM apps WHERE emptied_ms IS NOT NULL").fetchone()[0] == 1)
    assert connection.execute("PRAGMA foreign_key_check").fetchall() == []
    connection.close()
    send(running, running.add_app(), failure())
    assert running.get("/api/apps/sailings")["name"] == "sailings"


def test_issues_are_bounded(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """An app that has as many issues as one may have: what would be new is collected in one that says so, and nothing is lost."""
    monkeypatch.setattr(grouping, "MOST_ISSUES", 4)
    key = running.add_app()
    for number in range(9):
        one = failure() | {"exceptions": raised_in("sailings.tides", f"function_{number}", f"Tide{number}Error")}
        assert running.send(key, one).json()["refused"] == 0
    found = {one["title"]: one for one in running.get("/api/issues")["issues"]}
    assert len(found) == 5
    (collecting,) = [one for title, one in found.items() if "Too many new issues" in title]
    assert collecting["failures"] == 5
    history = running.get(f"/api/issues/{collecting['number']}")["history"]
    assert "20,000 of them" in str(history) and "grouping rule" in str(history)
    # What is known goes on as before, and so does another app.
    again = failure() | {"exceptions": raised_in("sailings.tides", "function_1", "Tide1Error")}
    assert running.send(key, again).json()["lines"][0]["issue"] != collecting["number"]
    assert running.send(running.add_app("gatekeeper"), failure()).status == 200
    assert "Too many" not in str(running.get("/api/issues?app=gatekeeper"))


def raised_elsewhere(user: str) -> dict[str, Any]:
    """Return a failure of another issue that somebody met."""
    return failure(attributes={"user.id": user}) | {"exceptions": raised_in("sailings.decks", "board", "DeckFull")}


def test_users_beyond_the_bound_are_counted_together(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """So many users of an issue are kept apart; of the others the failures are counted, and the issue says that there are more."""
    for module in ("store.issue_users", "service.api.views"):
        monkeypatch.setattr(f"obitus.{module}.MOST_USERS", 5)
    key = running.add_app()
    for _ in range(2):
        body = [failure(attributes={"user.id": f"p-{number}"}) for number in range(9)]
        assert running.send(key, *body).json()["stored"] == 9
    issue = running.get("/api/issues/1")
    assert issue["users"] == 5 and "for at least 5 users" in issue["what_failed"]
    data = running.service.settings.data
    with closing(sqlite3.connect(data / "obitus.sqlite3")) as main:
        counts = dict(main.execute("SELECT user_id, failures FROM issue_users").fetchall())
    assert counts == {f"p-{number}": 2 for number in range(5)} | {"…": 8}
    assert verify(data) == []
    # Moved to another issue and back again, they are counted by the rows, and keep to the bound.
    assert running.send(key, *(raised_elsewhere(f"p-{number}") for number in range(6, 13))).json()["stored"] == 7
    merged = done(running, running.ask("POST", "/api/issues/1/merge", {"into": 2}))
    assert verify(data) == [] and running.get("/api/issues/2")["users"] == 5
    done(running, running.ask("POST", f"/api/regroupings/{merged['id']}/undo", {}))
    assert verify(data) == [] and running.get("/api/issues/2")["failures"] == 7
    # What is counted again by the rows keeps to the bound, too: those who met it most often are the ones by name.
    assert running.send(key, failure(attributes={"user.id": "p-8"})).json()["stored"] == 1
    running.service.close()
    with closing(sqlite3.connect(data / "obitus.sqlite3")) as main:
        main.execute("UPDATE issues SET users = 9")
        main.execute("DELETE FROM issue_users WHERE issue_id = 1 AND user_id IN ('p-2', '…')")
        main.commit()
    assert any(one.mended for one in verify(data, repair=True))
    assert verify(data) == []
    with closing(sqlite3.connect(data / "obitus.sqlite3")) as main:
        mended = dict(main.execute("SELECT user_id, failures FROM issue_users WHERE issue_id = 1").fetchall())
        assert mended == {"p-8": 3} | {f"p-{number}": 2 for number in range(4)} | {"…": 8}
        assert main.execute("SELECT users FROM issues").fetchall() == [(5,), (5,)]
