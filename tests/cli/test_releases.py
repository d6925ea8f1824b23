"""``obitus releases``, ``release``, ``compare``, ``deploy``, ``settle``, with real git repositories."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest

from tests.cli.shell import Shell
from tests.conftest import Running
from tests.service.test_releases import failed, send, tally

TIDES = """DEPTHS = {"merrow": 4}


def depth_at(pier):
    return DEPTHS[pier]


def is_high(pier):
    return depth_at(pier) > 3
"""


class Repository:
    """A git repository, made commit by commit."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir()
        self.git("init", "-q", "-b", "main")
        self.seconds = 1_790_000_000

    def git(self, *arguments: str) -> str:
        self.seconds = getattr(self, "seconds", 0) + 60
        who = {"NAME": "Ida Moss", "EMAIL": "ida@skerry.example", "DATE": f"{self.seconds} +0000"}
        environment = os.environ | {
            f"GIT_{part}_{name}": value for name, value in who.items() for part in ("AUTHOR", "COMMITTER")
        }
        done = subprocess.run(
            ["git", "-C", str(self.folder), *arguments], env=environment, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr
        return done.stdout.strip()

    def commit(self, subject: str, **files: str | bytes | None) -> str:
        """Write files (``__`` in a name is a slash, ``_dot_`` a dot; None removes) and commit them."""
        for name, content in files.items():
            path = self.folder / name.replace("__", "/").replace("_dot_", ".")
            path.parent.mkdir(parents=True, exist_ok=True)
            if content is None:
                path.unlink()
            else:
                path.write_bytes(content.encode() if isinstance(content, str) else content)
        self.git("add", "-A")
        self.git("commit", "-q", "--allow-empty", "-m", subject)
        return self.git("rev-parse", "HEAD")


@pytest.fixture
def repository(tmp_path: Path) -> Repository:
    made = Repository(tmp_path / "line")
    made.commit("Begin", sailings__tides_dot_py=TIDES, requirements_dot_txt="jinja2==3.1.2\n")
    made.git("tag", "v3.0.0")
    return made


@pytest.fixture
def shell(running: Running, tmp_path: Path) -> Shell:
    running.add_app()
    made = Shell(tmp_path)
    made.environment |= {"OBITUS_URL": running.url, "OBITUS_TOKEN": running.token, "COLUMNS": "120"}
    return made


def commits_of(running: Running, release: str) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = running.get(f"/api/apps/sailings/releases/{release}")["latest_commits"]
    return found


def test_a_named_repository_is_the_one_that_is_read(running: Running, shell: Shell, repository: Repository) -> None:
    """Also in a hook of another one, for which git has set where to look."""
    other = Repository(repository.folder.parent / "other")
    other.commit("Of another one")
    shell.environment |= {"GIT_DIR": str(other.folder / ".git"), "GIT_WORK_TREE": str(other.folder)}
    repository.commit("Of this one", tides_dot_txt="4\n")
    shell.run("release", "add", "3.1.0", "--git", str(repository.folder), "--since", "v3.0.0")
    assert [commit["subject"] for commit in commits_of(running, "3.1.0")] == ["Of this one"]


def test_a_git_that_warns_at_length(running: Running, shell: Shell, repository: Repository) -> None:
    """Nobody reads its warnings while its commits are read: it must not wait for that."""
    folder = repository.folder.parent / "bin"
    folder.mkdir()
    (folder / "git").write_text(
        f"#!/bin/sh\nhead -c 300000 /dev/zero | tr '\\0' w >&2\nexec {shutil.which('git')} \"$@\"\n"
    )
    (folder / "git").chmod(0o755)
    shell.environment["PATH"] = f"{folder}:{os.environ['PATH']}"
    repository.commit("Of this one", tides_dot_txt="4\n")
    shell.run("release", "add", "3.1.0", "--git", str(repository.folder), "--since", "v3.0.0")
    assert [commit["subject"] for commit in commits_of(running, "3.1.0")] == ["Of this one"]


def test_commits_of_a_release(running: Running, shell: Shell, repository: Repository) -> None:
    """Since the tag of the release before: lines moved along, renames, binary files, merges, libraries; and no source at all."""
    repository.commit(
        "Look up depths with a default", sailings__tides_dot_py=TIDES.replace("DEPTHS[pier]", "DEPTHS.get(pier, 0)")
    )
    repository.git("checkout", "-q", "-b", "pictures")
    repository.commit("Draw the piers", piers_dot_png=bytes(range(256)), sailings__piers_dot_py="PIERS = ['merrow']\n")
    repository.git("checkout", "-q", "main")
    repository.commit(
        "Say where this is from",
        sailings__tides_dot_py='"""Tides."""\n\nimport math\n\n' + TIDES.replace("DEPTHS[pier]", "DEPTHS.get(pier, 0)"),
    )
    repository.git("merge", "-q", "--no-ff", "-m", "Merge the pictures", "pictures")
    repository.git("mv", "sailings/tides.py", "sailings/water.py")
    repository.commit("Rename the tides", requirements_dot_txt="jinja2==3.1.4\n")
    repository.git("tag", "v3.1.0")
    said = shell.run("release", "add", "v3.1.0", "--git", str(repository.folder), "--since", "v3.0.0")
    assert "3.1.0 of sailings: 5 commits reported; made of its tag, since v3.0.0." in " ".join(said.split())
    again = " ".join(shell.run("release", "add", "3.1.0", "--git", str(repository.folder)).split())
    assert "0 commits reported, 5 were there already; made of its tag, since v3.0.0, the tag before it." in again
    assert {one["subject"] for one in commits_of(running, "3.1.0")} == {
        "Look up depths with a default", "Draw the piers", "Say where this is from", "Merge the pictures", "Rename the tides"
    }  # fmt: skip
    from obitus.store import commits

    release = running.service.records.reader.one("SELECT id FROM releases WHERE version = '3.1.0'")["id"]
    found = {
        one.subject: one
        for one in commits.candidates(
            running.service.records.reader, release, {"water.py", "piers.py", "piers.png"}, ["depth_at"]
        )
    }
    (tides,) = found["Look up depths with a default"].files
    assert (tides.path, list(tides.ranges), "depth_at" in tides.names) == ("sailings/water.py", [(9, 9)], True)
    assert found["Rename the tides"].libraries[0].after == "3.1.4"
    assert {file.path for file in found["Draw the piers"].files} == {"piers.png", "sailings/piers.py"}
    stored = (
        running.service.settings.database.read_bytes()
        + running.service.settings.database.with_suffix(".sqlite3-wal").read_bytes()
    )
    assert b"DEPTHS.get" not in stored and b"import math" not in stored


def test_a_release_without_a_known_beginning(running: Running, shell: Shell, repository: Repository) -> None:
    """Where the one before ended comes from the service, from tags, or from --since; else it is said that all is told."""
    said = shell.run("release", "add", "3.0.0", "--git", str(repository.folder))
    assert "1 commit reported" in said and "the beginning of the repository" in " ".join(said.split())
    repository.commit("Round depths", sailings__tides_dot_py=TIDES + "\n# rounded\n")
    said = " ".join(shell.run("release", "add", "3.0.1", "--git", str(repository.folder)).split())
    assert "3.0.1 of sailings: 1 commit reported" in said and "HEAD" in said and "since 3.0.0" in said
    answer = json.loads(shell.run("release", "add", "3.0.1", "--git", str(repository.folder), "--json"))
    assert (answer["added"], answer["already_there"]) == (0, 1)


def test_wrong_repositories(shell: Shell, repository: Repository, tmp_path: Path) -> None:
    """A path that is none, a folder without a repository, an empty one, revisions nobody knows, a shallow clone."""
    (tmp_path / "plain").mkdir()
    (tmp_path / "empty").mkdir()
    subprocess.run(["git", "init", "-q", str(tmp_path / "empty")], check=True)
    for path, said in (
        ("nowhere", "there is no such folder"),
        ("plain", "is no git repository"),
        ("empty", "no commit yet"),
    ):
        assert said in shell.run("release", "add", "3.1.0", "--git", str(tmp_path / path), status=2)
    where = str(repository.folder)
    assert "knows no v9" in shell.run("release", "add", "3.1.0", "--git", where, "--since", "v9", status=2)
    assert "knows no --all" in shell.run("release", "add", "3.1.0", "--git", where, "--revision=--all", status=2)
    assert "say --git PATH" in shell.run("release", "add", "3.1.0", "--since", "v3.0.0", status=2)
    repository.commit("Round depths", sailings__tides_dot_py=TIDES + "\n# rounded\n")
    subprocess.run(["git", "clone", "-q", "--depth", "1", f"file://{where}", str(tmp_path / "shallow")], check=True)
    said = " ".join(shell.run("release", "add", "3.1.0", "--git", str(tmp_path / "shallow")).split())
    assert "shallow clone" in said and "git fetch --unshallow" in said
    assert "git fetch --unshallow" in shell.run(
        "release", "add", "3.1.0", "--git", str(tmp_path / "shallow"), "--since", "v3.0.0", status=2
    )


def test_from_a_deploy_to_the_gate(running: Running, shell: Shell) -> None:
    """A pipeline tells of the deploy with a key that may, looks at what the release brought, and stops on new and worse."""
    plain = running.ask("POST", "/api/apps/sailings/keys", {}).json()["key"]
    said = shell.run("deploy", "3.1.0", status=4, OBITUS_KEY=plain, OBITUS_TOKEN="")
    assert "obitus app key sailings --may-deploy" in " ".join(said.split())
    key = running.ask("POST", "/api/apps/sailings/keys", {"may_deploy": True}).json()["key"]
    send(running, key, tally("3.0.0", 9000, 30), failed("3.0.0", 30, "sailings.old"))
    pipeline = {"OBITUS_KEY": key, "OBITUS_TOKEN": ""}
    said = shell.run("deploy", "3.1.0", **pipeline)
    assert "3.1.0 of sailings arrived in production at" in said
    assert "for production, not for staging" in " ".join(
        shell.run("deploy", "3.1.0", "--environment", "staging", status=4, **pipeline).split()
    )
    assert "is later than now" in shell.run("deploy", "3.1.0", "--at", "2099-01-01T00:00:00", status=6)
    send(running, key, tally("3.1.0", 4000, 0), failed("3.1.0", -0.01, "sailings.fresh"))
    said = shell.run("compare", "3.0.0", "3.1.0", "--fail-on", "new,worse", status=1)
    assert "3.1.0 against 3.0.0: 1 new, 1 cannot tell" in said and "has what --fail-on names: new" in said
    shell.run("compare", "3.0.0", "3.1.0", "--fail-on", "worse")
    assert "is none of new, regressed" in shell.run("compare", "3.0.0", "3.1.0", "--fail-on", "bad", status=2)
    assert "Its newest are: 3.1.0, 3.0.0" in " ".join(shell.run("compare", "3.0.0", "9.9", status=5).split())
    listed = shell.run("releases")
    assert (
        listed.index("3.1.0") < listed.index("3.0.0")
        and "live" in listed
        and "1 new" in listed
        and "from the first report" in listed
    )
    shown = shell.run("release", "3.1.0")
    assert "First seen in it: 1" in shown and "obitus release add 3.1.0 --app sailings --git PATH" in " ".join(
        shown.split()
    )
    issue = shell.run("issue", "2")
    assert "First in 3.1.0" in issue and "none in 3.0.0 over 9,000 runs" in issue
    assert "3.1.0 is 3.1.0-late now" in shell.run("release", "rename", "3.1.0", "3.1.0-late")
    assert "3.0.0 comes right after 3.1.0-late now" in shell.run("release", "move", "3.0.0", "--after", "3.1.0-late")
    assert "comes" in shell.run("release", "move", "3.0.0", "--reset")
    shell.run("release", "add", "hotfix: 50% off? #2/b")
    assert "has not arrived yet" in shell.run("release", "hotfix: 50% off? #2/b")
    shell.run("release", "move", "3.0.0", status=2)


def test_settle(running: Running, shell: Shell) -> None:
    """In a release, in the next one, now; in one environment or everywhere; and the verdict stands on the issue."""
    key = running.ask("POST", "/api/apps/sailings/keys", {}).json()["key"]
    send(running, key, tally("3.0.0", 9000, 30), *(failed("3.0.0", 30) for _ in range(5)))
    assert "owner settled it as fixed from 3.0.0 on." in shell.run("settle", "1")
    assert "settled it as fixed from the coming release on." in shell.run("settle", "1", "--from", "coming")
    assert "fixed from now on, production only." in shell.run(
        "settle", "1", "--from", "now", "--environment", "production"
    )
    assert "fixed from 3.1.0 on." in shell.run("settle", "1", "--from", "v3.1.0")
    other = running.add_app("gatekeeper")
    send(running, other, failed("8.1", 30, "gatekeeper.passes"))
    assert (
        shell.run("settle", "1", "2", "--from", "coming").count("settled it as fixed from the coming release on.") == 2
    )
    shell.run("settle", "1", "--from", "v3.1.0")
    said = " ".join(shell.run("issue", "1").split())
    assert "Did the fix hold?" in said and "too early to say" in said and "3.1.0 has not come yet" in said
    send(running, key, tally("3.1.0", 30_000, 0))
    said = " ".join(shell.run("issue", "1").split())
    assert "● held" in said and "No failure in 30,000 runs since 3.1.0" in said


def test_several_apps_need_a_name(running: Running, shell: Shell) -> None:
    """With one app none need be named; with two, it is asked for."""
    assert "No release yet" in shell.run("releases")
    running.add_app("gatekeeper")
    assert "Say which app: --app gatekeeper | sailings" in shell.run("releases", status=2)
    assert "No release yet" in shell.run("releases", "--app", "gatekeeper")
    assert "3.1.0 is known as a release of sailings" in shell.run("release", "add", "3.1.0", "--app", "sailings")
    assert "not yet" in shell.run("releases", "--app", "sailings")
