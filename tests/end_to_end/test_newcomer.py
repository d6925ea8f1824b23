"""A newcomer's whole story: from the wheel to an app that somebody else wrote, which breaks, is understood, mended, and holds; and a disk that is lost."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
import urllib3
import werkzeug

from tests.client.programs import free_port
from tests.conftest import until
from tests.end_to_end.test_wheel import call, install, wheels, whole
from tests.service.alerting.receivers import MailServer, mail_server

__all__ = ["wheels", "whole"]

SERVE = """\
import sys
import obitus
obitus.watch()
from werkzeug.serving import run_simple
from testapp import test_app
run_simple("127.0.0.1", int(sys.argv[1]), obitus.WsgiMiddleware(test_app), threaded=True)
"""
BROKEN = """
log = logging.getLogger("testapp.language")


def first_language(accepted):
    return accepted.split(",")[0].strip()


def language_of(req):
    log.info("looking for the language of a visitor")
    return first_language(req.environ.get("HTTP_ACCEPT_LANGUAGE"))
"""
GERMAN = {"Accept-Language": "de-AT, en"}


class Newcomer:
    """What one has at hand: programs of a fresh environment, a login, a repository, and an app that is served."""

    def __init__(self, tmp: Path, wheels: Path) -> None:
        self.tmp, self.data, self.repo = tmp, tmp / "records", tmp / "testapp"
        self.server = install(tmp / "server", wheels, "obitus[server]")
        self.client = install(tmp / "client", wheels, "obitus", "urllib3")
        # The app's own library, as it lies here: no part of what is tried.
        for name in ("werkzeug", "markupsafe", "werkzeug-*.dist-info", "markupsafe-*.dist-info", "MarkupSafe-*.dist-info"):  # fmt: skip
            for found in Path(werkzeug.__file__).parents[1].glob(name):
                shutil.copytree(found, next((tmp / "client/lib").glob("python*/site-packages")) / found.name)
        self.port, self.app_port, self.key = free_port(), free_port(), ""
        self.home = {"HOME": str(tmp), "XDG_CONFIG_HOME": str(tmp / "config"), "OBITUS_LOGIN": str(tmp / "login.json")}

    def obitus(self, *words: str | Path, status: int = 0, **environment: str) -> str:
        """Run a command of the fresh environment; return what it printed."""
        return call(self.server / "obitus", *words, status=status, **(self.home | environment))

    def asked(self, *words: str) -> Any:
        """Return a command's answer as JSON."""
        return json.loads(self.obitus(*words, "--json"))

    @contextmanager
    def service(self, *more: str) -> Iterator[subprocess.Popen[str]]:
        """Run the service, and end it as a machine that goes down does."""
        command = [str(self.server / "obitus"), "serve", "--data", str(self.data), "--port", str(self.port), *more]
        with subprocess.Popen(command, env={"PATH": "/usr/bin:/bin", "PYTHONUNBUFFERED": "1"} | self.home, stdout=subprocess.PIPE, text=True) as served:  # fmt: skip
            try:
                until(lambda: _is_up(f"http://127.0.0.1:{self.port}/health"))
                yield served
            finally:
                served.kill()

    @contextmanager
    def app(self, release: str) -> Iterator[None]:
        """Run the app as a release; what it reported is sent when it ends."""
        here = {"OBITUS_URL": f"http://127.0.0.1:{self.port}", "OBITUS_KEY": self.key, "OBITUS_RELEASE": release, "OBITUS_SPOOL": str(self.tmp / "spool"), "PATH": "/usr/bin:/bin"}  # fmt: skip
        command = [str(self.client / "python"), "serve.py", str(self.app_port)]
        with subprocess.Popen(command, cwd=self.repo, env=here, stderr=subprocess.DEVNULL) as served:
            try:
                until(lambda: _is_up(f"http://127.0.0.1:{self.app_port}/", GERMAN))
                yield
            finally:
                served.send_signal(signal.SIGINT)
                served.wait(60)

    def visit(self, times: int, **headers: str) -> list[int]:
        """Visit the app's page; return what it answered."""
        found = []
        for _ in range(times):
            answer = urllib3.request("GET", f"http://127.0.0.1:{self.app_port}/", headers=headers, retries=False, timeout=60)  # fmt: skip
            found.append(answer.status)
        return found

    def git(self, *words: str) -> None:
        """Run git in the app's repository."""
        who = {"GIT_AUTHOR_NAME": "Somebody Else", "GIT_AUTHOR_EMAIL": "else@pier.example", "GIT_COMMITTER_NAME": "Somebody Else", "GIT_COMMITTER_EMAIL": "else@pier.example"}  # fmt: skip
        call("git", "-C", self.repo, *words, status=0, **who)

    def write(self, *changes: tuple[str, str], subject: str, tag: str) -> None:
        """Change the app, commit it and tag it as a release."""
        path = self.repo / "testapp.py"
        text = path.read_text("utf-8")
        for old, new in changes:
            assert text.count(old) == 1, old
            text = text.replace(old, new)
        path.write_text(text, "utf-8")
        self.git("add", "-A")
        self.git("commit", "-q", "-m", subject)
        self.git("tag", tag)


def _is_up(url: str, headers: dict[str, str] | None = None) -> bool:
    try:
        return urllib3.request("GET", url, headers=headers, retries=False, timeout=60).status == 200
    except urllib3.exceptions.HTTPError:
        return False


@pytest.mark.timeout(900)
def test_the_whole_story(wheels: Path, tmp_path: Path) -> None:
    """Install, start, add, watch, break, mail, turning point, test, fix, release, hold, back up, lose the disk, restore, go on."""
    one = Newcomer(tmp_path, wheels)
    with mail_server(tls="none") as mails:
        with one.service("--new-link") as served:
            assert served.stdout is not None
            link = next(found[0] for line in served.stdout if (found := re.search(r"http://\S+#\S+", line)))
            one.obitus("login", link)
            _set_up(one, mails)
            _first_release(one)
            _broken_release(one, mails)
            _understood(one)
            _mended(one)
            backup = one.obitus("backup", tmp_path / "backup", "--data", one.data, "--with-keys")
            assert "obitus restore" in backup, backup
        _lost_and_restored(one, mails)


def _set_up(one: Newcomer, mails: MailServer) -> None:
    """An app of somebody else's in a repository, a key for it, a mail for what is new."""
    added = one.asked("app", "add", "testapp", "--kind", "flask")
    one.key = added["key"]
    allowed = one.data / "allowed.toml"
    allowed.touch(mode=0o600)
    allowed.write_text('addresses = ["127.0.0.1"]\n', "utf-8")
    sets = {"host": "127.0.0.1", "port": str(mails.port), "tls": "none", "from": "obitus@pier.example", "to": "night@pier.example"}  # fmt: skip
    one.obitus("channel", "add", "night", "mail", *(word for name, value in sets.items() for word in ("--set", f"{name}={value}")))  # fmt: skip
    one.obitus("alerts", "add", "new", "new issue where app=testapp", "--to", "night")
    one.repo.mkdir()
    source = (Path(werkzeug.__file__).parent / "testapp.py").read_text("utf-8")
    (one.repo / "testapp.py").write_text(source.replace("from .", "from werkzeug."), "utf-8")
    (one.repo / "serve.py").write_text(SERVE, "utf-8")
    (one.repo / ".gitignore").write_text("__pycache__/\n", "utf-8")
    one.git("init", "-q", "-b", "main")
    one.write(subject="Show what a server hands on", tag="1.0.0")


def _first_release(one: Newcomer) -> None:
    one.obitus("deploy", "1.0.0", "--app", "testapp")
    with one.app("1.0.0"):
        assert set(one.visit(30)) == {200} and set(one.visit(30, **GERMAN)) == {200}
        until(lambda: one.asked("now")["runs"]["now"] >= 60)


def _broken_release(one: Newcomer, mails: MailServer) -> None:
    """A release looks for the visitor's language, and forgets those who name none: they fail, and somebody gets a mail."""
    one.write(
        ("import importlib.metadata\n", "import importlib.metadata\nimport logging\n"),
        ("\n\n@Request.application\n", f"\n{BROKEN}\n\n@Request.application\n"),
        ("    context = {\n", '    context = {\n        "language": language_of(req),\n'),
        subject="Say what language a visitor speaks",
        tag="1.1.0",
    )
    one.obitus("release", "add", "1.1.0", "--app", "testapp", "--git", one.repo, "--since", "1.0.0")
    one.obitus("deploy", "1.1.0", "--app", "testapp")
    with one.app("1.1.0"):
        assert set(one.visit(30, **GERMAN)) == {200} and set(one.visit(20)) == {500}
    until(lambda: mails.mails)
    mail = mails.mails[0]
    assert "AttributeError" in str(mail["subject"]) and mails.to == [["night@pier.example"]]
    body = mail.get_body(("plain",))
    assert body is not None and f"http://127.0.0.1:{one.port}/issues/1" in body.get_content()


def _understood(one: Newcomer) -> None:
    """Where it left the good path, what failing visits have in common, which commit it may be, and a test that fails the same way."""
    issue = one.obitus("issue", "1")
    assert "first_language" in issue and "Say what language a visitor speaks" in issue, issue
    turning = one.obitus("turning", "1")
    assert "Turning point" in turning or "healthy runs" in turning, turning
    one.obitus("common", "1")
    one.obitus("reproduce", "1", "--write", one.repo)
    (test,) = one.repo.glob("test_*.py")
    assert _tried(one, test).returncode == 1


def _tried(one: Newcomer, test: Path) -> subprocess.CompletedProcess[str]:
    site = next((one.tmp / "client/lib").glob("python*/site-packages"))
    with_app = os.environ | {"PYTHONPATH": f"{one.repo}:{site}"}
    return subprocess.run([sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "--rootdir", str(one.repo), str(test)], cwd=one.repo, env=with_app, capture_output=True, text=True)  # fmt: skip


def _mended(one: Newcomer) -> None:
    """The fix passes the test, is released, and holds."""
    one.write(
        ('req.environ.get("HTTP_ACCEPT_LANGUAGE")', 'req.environ.get("HTTP_ACCEPT_LANGUAGE", "en")'),
        ("    return accepted.split", '    return (accepted or "en").split'),
        subject="Take English for visitors who name no language",
        tag="1.1.1",
    )
    (test,) = one.repo.glob("test_*.py")
    tried = _tried(one, test)
    assert tried.returncode == 0, tried.stdout
    one.obitus("settle", "1", "--from", "1.1.1")
    one.obitus("deploy", "1.1.1", "--app", "testapp")
    with one.app("1.1.1"):
        assert set(one.visit(60)) == {200}
        until(lambda: "held" in one.obitus("issue", "1"))
    assert one.asked("issue", "1")["state"] == "settled"


def _lost_and_restored(one: Newcomer, mails: MailServer) -> None:
    """The disk is lost; the backup brings all back, and the old version of the app, still running somewhere, is told from the new one."""
    shutil.rmtree(one.data)
    one.obitus("restore", one.tmp / "backup", "--data", one.data)
    assert "whole" in one.obitus("verify", "--data", one.data).lower()
    with one.service():
        issue = one.asked("issue", "1")
        assert issue["state"] == "settled" and issue["failures_in_all"] == 20
        one.git("checkout", "-q", "1.1.0")
        with one.app("1.1.0"):
            assert one.visit(1) == [500]
        until(lambda: one.asked("issue", "1")["failures_in_all"] == 21)
        assert one.asked("issue", "1")["state"] == "settled", "a straggler is no regression"
        one.git("checkout", "-q", "main")
        with one.app("1.2.0"):
            one.visit(1)
        assert len(mails.mails) == 1
