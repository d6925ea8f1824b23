"""The command line, run as a program of its own against a real service."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

import urllib3

from obitus.cli import show
from obitus.core.lifecycle import STATES
from obitus.service.settings import Limits
from tests.cli.shell import Shell, words
from tests.client import programs
from tests.conftest import Running, failure, now_text, raised_in, serving


def a_failure(running: Running, key: str, **changes: object) -> None:
    trail = [{"kind": "mark", "time": now_text(), "message": "places counted", "attributes": {"taken": 62}}]
    run = {"entry_point": "POST /sailings/{sailing_id}/boardings"}
    assert running.send(key, failure(trail=trail, run=run, **changes)).json()["stored"] == 1


def test_login_by_link(tmp_path: Path, running: Running) -> None:
    """A sign-in link becomes a token in a file that only its owner can read."""
    shell = Shell(tmp_path)
    assert "nobody is signed in" in shell.run("issues", "--url", running.url, status=4)
    assert "Signed in" in shell.run("login", running.service.passes.new_sign_in_link())
    assert (tmp_path / "login.json").stat().st_mode & 0o777 == 0o600
    assert "No issue failed in this window" in shell.run("issues")


def test_issues_fit_eighty_columns(shell: Shell, running: Running) -> None:
    """The list shows number, state, when, how often, what and since when, in 80 columns."""
    key = running.add_app()
    a_failure(running, key)
    a_failure(running, key, exceptions=raised_in("m" * 60, "f" * 60, "E" * 60))
    text = shell.run("issues")
    assert all(len(line) <= 80 for line in text.splitlines())
    for piece in ("○ untriaged", "just now", "1 failure", "TideUnavailable in sailings.tides.depth_at", "since 1.0.0"):
        assert piece in text
    assert "2 issues, 2 failures" in text


def test_one_issue_reads_as_a_report(shell: Shell, running: Running) -> None:
    """Every section of the report is there, top to bottom, with what to do next."""
    a_failure(running, running.add_app())
    text = shell.run("issue", "1")
    order = ["What failed", "What now", "obitus settle 1", "Where", "sailings.tides.depth_at", "Leading up to it", "places counted", "Since when", "Why this is one issue", "left out"]  # fmt: skip
    places = []
    for piece in order:
        places.append(text.index(piece, places[-1] if places else 0))
    assert places == sorted(places)


def test_a_failure_says_how_many_it_represents(tmp_path: Path) -> None:
    """Of an issue that fails very often, who reads one failure hears of those that were only counted."""
    shell = Shell(tmp_path)
    with serving(tmp_path / "data", Limits(whole_failures_at_once=1, whole_failures_a_second=0.001)) as running:
        shell.run("login", running.url, "--token", running.token)
        key = running.add_app()
        for _ in range(5):
            assert running.send(key, failure()).json()["stored"] == 1
        more = running.get("/api/issues/1")["latest"]["represents"] - 1
        assert more >= 3 and f"This failure represents {more} more like it within seconds." in words(
            shell.run("issue", "1")
        )


def test_decisions(shell: Shell, running: Running) -> None:
    """Accept, settle and park say what the issue is now, and why."""
    a_failure(running, running.add_app())
    assert "accepted" in shell.run("accept", "1")
    assert "fixed from 2.0.0 on" in " ".join(shell.run("settle", "1", "--from", "2.0.0").split())
    assert json.loads(shell.run("park", "1", "--json"))["done"] == [1]


def test_json_is_the_answer_of_the_api(shell: Shell, running: Running) -> None:
    """With --json a command prints what the API answers, to be read by other programs."""
    a_failure(running, running.add_app())
    assert json.loads(shell.run("issues", "--json"))["issues"][0]["number"] == 1
    assert json.loads(shell.run("issue", "1", "--json"))["latest"]["report"]["kind"] == "failure"
    assert json.loads(shell.run("app", "list", "--json"))["apps"][0]["name"] == "sailings"


def test_add_an_app_and_use_its_lines(shell: Shell, running: Running, tmp_path: Path) -> None:
    """The printed lines, pasted, report: the key is shown once, and `check` finds all right."""
    text = shell.run("app", "add", "net-loft", "--kind", "script")
    lines = [line.strip() for line in text.splitlines()]
    settings = dict(line.removeprefix("export ").split("=", 1) for line in lines if line.startswith("export "))
    assert set(settings) == {"OBITUS_URL", "OBITUS_KEY", "OBITUS_RELEASE"}
    program = "\n".join(line for line in lines if line.startswith(("import", "obitus.")))
    (tmp_path / "mend.py").write_text(f"{program}\nraise OSError('net is torn')\n")
    ended = subprocess.run(
        [sys.executable, str(tmp_path / "mend.py")], env=shell.environment | settings, capture_output=True
    )
    assert ended.returncode == 1
    assert "OSError in mend.<module>" in shell.run("issues")
    assert "A test report was stored" in shell.run("check", **settings)
    assert settings["OBITUS_KEY"][-4:] in shell.run("app", "list")
    assert "already" in shell.run("app", "add", "net-loft", status=6)


def test_how_much_came_today_and_may_come(shell: Shell, running: Running) -> None:
    """The keys of an app with what came with each today; a bound is said and taken back by number."""
    a_failure(running, running.add_app())
    assert "1 report," in words(shell.run("app", "bound", "sailings"))
    said = words(shell.run("app", "bound", "sailings", "1", "--reports", "1"))
    assert "1 report, 20.0 GB" in said and "nothing more" in said
    assert "nothing more" in words(shell.run("app", "list"))
    assert "5.0 GB" in shell.run("app", "bound", "sailings", "1", "--size", "5GB")
    assert json.loads(shell.run("app", "bound", "sailings", "1", "--usual", "--json"))["keys"][0]["today"]["part"] < 0.1
    assert "--size 5GB" in shell.run("app", "bound", "sailings", "1", status=2)
    assert "a size is expected" in shell.run("app", "bound", "sailings", "1", "--size", "much", status=2)


def test_check_names_what_is_wrong(shell: Shell, running: Running) -> None:
    """Off, no address, a wrong one, something else there, no key, a wrong, revoked or foreign key, a clock that is off."""
    key = running.add_app()
    good = {"OBITUS_URL": running.url, "OBITUS_KEY": key}

    def wrong(**settings: str) -> str:
        found = json.loads(shell.run("check", "--json", status=1, **(good | settings)))
        assert found["right"] is False
        last = found["findings"][-1]
        assert not last["right"]
        return f"{last['what']}: {last['said']}"

    assert wrong(OBITUS_OFF="1").startswith("switch: Reporting is switched off")
    assert wrong(OBITUS_URL="").startswith("address: OBITUS_URL is not set")
    assert wrong(OBITUS_URL="localhost:8611").startswith("address: OBITUS_URL is")
    assert "cannot be reached" in wrong(OBITUS_URL="http://127.0.0.1:9")
    assert "not Obitus" in wrong(OBITUS_URL=running.url + "/reports/schema")
    assert wrong(OBITUS_KEY="").startswith("key: OBITUS_KEY is not set")
    assert "No app has this reporting key" in wrong(OBITUS_KEY="okey_wrong")
    assert "personal token" in wrong(OBITUS_KEY=running.token)
    running.clock.ahead_ms = 3_600_000
    assert "behind" in wrong()
    running.clock.ahead_ms = 0
    number = running.get("/api/apps/sailings")["keys"][0]["id"]
    running.ask("DELETE", f"/api/apps/sailings/keys/{number}")
    assert "revoked" in wrong()


class AwayBehind(programs.Answering):
    """A proxy whose service is away."""

    def do_GET(self) -> None:
        self.answer(502, b"502 Bad Gateway")


def test_a_service_that_is_away_behind_its_proxy(shell: Shell) -> None:
    """What answers is not taken for something else: the check and the commands say that the service is away."""
    with programs.serving(AwayBehind) as proxy:
        url = f"http://127.0.0.1:{proxy.server_port}"
        said = f"{url} does not answer: a proxy in front of it says so (status 502)."
        assert said in shell.run("issues", "--url", url, status=3)
        found = json.loads(shell.run("check", "--json", status=1, OBITUS_URL=url, OBITUS_KEY="okey_x"))
        assert found["findings"][-1]["said"].startswith(said)


def test_exit_statuses(shell: Shell, running: Running) -> None:
    """Each kind of trouble is one line and its own exit status."""
    assert shell.run("issue", "99", status=5).startswith("obitus: There is no issue 99.")
    assert "cannot be reached" in shell.run("issues", "--url", "http://127.0.0.1:9", status=3)
    assert "no window" in shell.run("issues", "--window", "soon", status=2)
    assert "no address" in shell.run("issues", "--url", "here", status=2)
    assert "No such command" in shell.run("explode", status=2)
    assert "token is not known" in shell.run("issues", "--token", "otok_wrong", status=4)
    assert "Usage" in shell.run(status=2)


def test_a_token_goes_only_where_it_belongs(shell: Shell, running: Running) -> None:
    """The kept token is not sent to another address than the one it was made for."""
    other = running.url.replace("127.0.0.1", "localhost")
    assert "nobody is signed in" in shell.run("issues", OBITUS_URL=other, status=4)


def test_text_of_reports_is_no_markup_and_no_control(shell: Shell, running: Running) -> None:
    """A report cannot colour, clear or rewrite the terminal of who reads it."""
    chain = raised_in("m", "f", "[red]E[/red]", "\x1b[2J\x1b]0;owned\x07 \u202egnol")
    a_failure(running, running.add_app(), exceptions=chain)
    text = shell.run("issue", "1")
    assert "\x1b" not in text and "\x07" not in text and "\u202e" not in text and "[red]E[/red]" in text


def test_serve_refuses_to_be_reached_without_a_password(shell: Shell, tmp_path: Path) -> None:
    """Listening beyond this machine needs a password first; a password file has to hold a long enough one."""
    data = ["--data", str(tmp_path / "records"), "--port", "0"]
    open_wide = ["serve", "--host", "0.0.0.0", *data]
    assert "unencrypted" in shell.run(*open_wide, status=2)
    assert "will not listen on 0.0.0.0 without a password" in shell.run(*open_wide, "--plain-http", status=2)
    assert "without a password" in shell.run(*open_wide, "--public-url", "https://obitus.skerry.example", status=2)
    assert "--proxy harbour: give the address" in words(shell.run("serve", *data, "--proxy", "harbour", status=2))
    (tmp_path / "short").write_text("tide\n")
    assert "shorter" in shell.run("serve", *data, "--password-file", str(tmp_path / "short"), status=2)
    (tmp_path / "common").write_text("passwordpassword\n")
    assert "too easy to guess" in shell.run("serve", *data, "--password-file", str(tmp_path / "common"), status=2)


def test_a_link_while_the_service_runs(shell: Shell, tmp_path: Path) -> None:
    """`obitus serve --new-link` on the records of a running service prints a link that works there, once."""
    data = ["--data", str(tmp_path / "records"), "--port", "0"]
    serve = [sys.executable, "-u", "-m", "obitus", "serve", *data]
    service = subprocess.Popen(serve, stdout=subprocess.PIPE, text=True)
    try:
        assert service.stdout is not None and "answers at" in service.stdout.readline()
        (link,) = re.findall(r"http://\S+#\S+", shell.run("serve", *data, "--new-link"))
        url, _, secret = link.partition("/sign-in#")
        answers = [
            urllib3.request("POST", url + "/api/sign-in", json={"link": secret}, timeout=150).status for _ in range(2)
        ]
        assert answers == [200, 401]
    finally:
        service.kill()
        service.communicate()


def test_every_state_has_a_shape() -> None:
    """State is never said by colour alone."""
    assert set(show.SHAPES) == set(STATES) and len(set(show.SHAPES.values())) == len(STATES)


def test_a_sparkline_is_bounded() -> None:
    """A sparkline of any length fits its width, and something is never shown as nothing."""
    assert show.sparkline([0, 0]) == "" and len(show.sparkline(list(range(1000)))) <= 12
    assert show.sparkline([1000, 1], width=2) == "█▁"


def test_a_key_for_pages(running: Running, shell: Shell) -> None:
    """It is printed with the tag that a page's head takes, and says who may read it."""
    running.add_app("pierboard")
    said = words(shell.run("app", "key", "pierboard", "--page", "https://pier.skerry.example"))
    assert "it may only report" in said and "/browser.js" in said and 'data-key="opage_' in said
    wrong = shell.run("app", "key", "pierboard", "--page", "pier.skerry.example", status=6)
    assert "is no origin" in words(wrong)
