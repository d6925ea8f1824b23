"""``obitus demo``: the service with the ferry line's two weeks in it."""

from __future__ import annotations

import json
import shutil
import signal
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC
from importlib import resources
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

import urllib3
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

from obitus.cli.errors import CliError
from obitus.cli.git import Repository
from obitus.cli.login import Login, write
from obitus.cli.release_commands import commit_body
from obitus.cli.show import console, say
from obitus.core.alerting.conditions import Happens, read_condition
from obitus.core.alerting.wanted import read_file
from obitus.core.clock import DAY_MS, HOUR_MS, to_text
from obitus.core.version import media_type
from obitus.demo import front, pier, repository, ticket_desk
from obitus.demo.receiver import Receiver
from obitus.demo.recording import lay_out
from obitus.demo.replaying import Replaying
from obitus.demo.story import (
    APPS,
    CHECK_LIST,
    CHOICES,
    DAYS,
    DEPLOYS,
    LISTS,
    LIVE,
    OWNERS,
    PEOPLE,
    PLAYERS,
    TICKETS,
    WRITTEN,
    Choice,
)
from obitus.demo.ticket_desk import TicketDesk
from obitus.reading.access_file import AccessFile
from obitus.reading.outcome import Outcome
from obitus.reading.sending import Sending
from obitus.service.run import InThread, listen
from obitus.service.settings import Limits, Settings, system_clock_ms
from obitus.service.wiring import Parts
from obitus.store import team
from obitus.store.days.thinning import KINDS

_MARK = ".obitus-demo"
ALERTS = "alerts.toml"


class _Clock:
    """The service's clock: the story's day while it is loaded, then the real time."""

    def __init__(self) -> None:
        self.story_ms: int | None = None

    def __call__(self) -> int:
        return self.story_ms if self.story_ms is not None else system_clock_ms()


def run(data: Path, port: int, replaying: Replaying, *, load_only: bool) -> None:
    """Replace the demo's records by the recorded reports of the line's apps, and serve them."""
    _empty(data)
    try:
        opened = listen("127.0.0.1", port)
    except OSError as error:
        raise CliError(f"cannot listen on port {port}: {error.strerror}. Choose another --port.") from error
    clock = _Clock()
    # Two weeks come in within seconds, with one key for each app.
    limits = Limits(burst_seconds=120.0)
    # Nobody else sends, so nobody has to go first.
    service = Parts(Settings(data=data, port=opened.getsockname()[1], clock_ms=clock, limits=limits, nice=0))
    service.passes.ensure_owner()
    # SIGTERM ends it like Ctrl-C: with the programs that it started.
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    running = InThread(service, opened)
    running.start()
    service.intake.processes.warm()
    receiver = _receiver(opened.getsockname()[1])
    desk: TicketDesk | None = None
    try:
        receiver.start()
        story = _Story(service, data, clock, replaying)
        story.play(receiver)
        clock.story_ms = None
        story.read_front()
        story.watch_windows()
        # Quiet failures of the middle of the story are over.
        service.housekeeping.look_soon()
        token = service.passes.add("token", 1, "demo command line", None)
        login = write(Login(service.settings.url, token), data / "login.json")
        if load_only:
            return
        desk = story.open_desk()
        console.print()
        say("The ferry line is loaded. Sign in once with this link:")
        console.print(f"  {service.passes.new_sign_in_link()}", soft_wrap=True, markup=False)
        say("On the command line, in another shell:")
        say(f"  export OBITUS_LOGIN={login.absolute()}")
        say("  obitus issues --window 14d")
        say(f"What the alerts send arrives at http://127.0.0.1:{receiver.port}/")
        say("The ticket desk goes on selling. Look into it while it does:")
        say("  obitus tracepoint add ticketdesk fares.py:24 --when 'passengers > 4' --for 10m")
        say("Ctrl-C ends it.")
        running.wait()
    except KeyboardInterrupt:
        say("Ended.")
    finally:
        if desk is not None:
            desk.stop()
        running.stop()
        receiver.stop()


def _receiver(port: int) -> Receiver:
    """Return the receiver of the demo's messages, on the port after the service's where that is free."""
    try:
        return Receiver(port + 1, port + 2)
    except OSError:
        return Receiver()


class _Story:
    """Sends the recorded reports, day after day; at the end of each day people make decisions."""

    def __init__(self, service: Parts, data: Path, clock: _Clock, replaying: Replaying) -> None:
        self._service, self._clock = service, clock
        self._data, self._deploys, self._depot = data, data / "deploys", data / "passed-on"
        self._replaying, self._start_ms = replaying, replaying.start_ms
        self._http = urllib3.PoolManager(retries=False)
        self._token = ""
        self._keys: dict[tuple[str, str], str] = {}
        self._alerts = resources.files("obitus.demo").joinpath(ALERTS).read_text("utf-8")

    def play(self, receiver: Receiver) -> None:
        """Load everything. Messages of alerts go to a receiver."""
        self._clock.story_ms = self._start_ms
        self._token = self._service.passes.add("token", 1, "demo loader", DAYS * 2 * DAY_MS)
        for app, kind in APPS:
            self._keys[app, "production"] = self._post("/api/apps", {"name": app, "kind": kind})["key"]
        staging = self._post("/api/apps/gatekeeper/keys", {"environment": "staging"})
        self._keys["gatekeeper", "staging"] = staging["key"]
        for kind in KINDS:
            # All of the two weeks stays.
            self._ask("PUT", "/api/kept", {"kind": kind, "days": 0})
        lay_out(self._deploys)
        self._commit()
        self._receive_alerts(receiver)
        days = self._replaying.days()
        columns = (TextColumn("Loading the ferry line, day {task.fields[day]}"), BarColumn(), TimeElapsedColumn())
        # Two bodies on the way: one is prepared while the other is written.
        with Progress(*columns, console=console) as progress, ThreadPoolExecutor(2) as sending:
            task = progress.add_task("", total=sum(len(bodies.others) for bodies in days), day=1)
            for day, bodies in enumerate(days):
                self._clock.story_ms = self._start_ms + (day + 1) * DAY_MS
                progress.update(task, day=day + 1)
                self._tell_deploys(day)
                if day == DAYS - 1:
                    # Not before: two weeks of records take seconds to pass on, and all of them look alike.
                    self._pass_on()
                for player, body in bodies.failures:
                    self._report(player, body)
                for _ in sending.map(lambda part: self._report(*part), bodies.others):
                    progress.advance(task)
                self._service.runner.look("watching")
                self._service.runner.look("alerting")
                for choice in CHOICES:
                    if choice.day == day:
                        self._decide(choice)
            self._show_pier()
            self._write_down()

    def _show_pier(self) -> None:
        """Send the source maps and the recorded reports of the page on the pier."""
        recorded = pier.read()
        key = self._post(f"/api/apps/{pier.APP}/keys", {"origins": [pier.ORIGIN]})["key"]
        url = self._service.settings.url
        for release, maps in recorded.maps.items():
            for path, text in maps.items():
                asked = urlencode({"release": release, "path": path})
                headers = {"Authorization": f"Bearer {self._token}"}
                answer = self._http.request(
                    "POST", f"{url}/api/apps/{pier.APP}/maps?{asked}", headers=headers, body=text.encode()
                )
                _loaded(answer, 201)
        for _, page, service in pier.replayed(recorded, self._start_ms):
            headers = {"Origin": pier.ORIGIN, "Content-Type": "text/plain"}
            _loaded(self._http.request("POST", f"{url}/page?key={key}", headers=headers, body=page), 200)
            if service:
                self._send("sailings", "production", service)

    def _receive_alerts(self, receiver: Receiver) -> None:
        """Add channels, and rules over events: rules over windows do not work while the story's time leaps."""
        allowed = self._data / "allowed.toml"
        self._depot.mkdir(exist_ok=True, mode=0o700)
        lines = [f'addresses = ["127.0.0.1:{receiver.port}"]', f"folders = [{json.dumps(str(self._depot))}]"]
        allowed.write_text("\n".join(lines) + "\n", "utf-8")
        allowed.chmod(0o600)
        mail = {"host": "127.0.0.1", "port": receiver.mail_port, "tls": "none", "from": "obitus@skerry.example"}
        self._post(
            "/api/channels",
            {
                "name": "night-mail",
                "kind": "mail",
                "settings": mail | {"to": ["night@skerry.example"]},
                "digest_at": "07:00",
                "digest_zone": "Europe/Oslo",
            },
        )
        self._post(
            "/api/channels", {"name": "lead-mail", "kind": "mail", "settings": mail | {"to": ["lead@skerry.example"]}}
        )
        hook = {"url": f"http://127.0.0.1:{receiver.port}/ops"}
        self._post(
            "/api/channels", {"name": "ops-hook", "kind": "webhook", "settings": hook, "secrets": {"secret": "berth-4"}}
        )
        self._post("/api/channels", {"name": "screen", "kind": "console"})
        of_events = [
            one for one in read_file(self._alerts, ALERTS) if isinstance(read_condition(one.condition, 0), Happens)
        ]
        for rule in of_events:
            order = {"name": rule.name, "when": rule.condition, "to": list(rule.to), "priority": rule.priority}
            self._post("/api/alert-rules", order)

    def _pass_on(self) -> None:
        """Add a target, which gets what comes from now on."""
        self._post(
            "/api/targets",
            {
                "name": "depot",
                "kind": "file",
                "settings": {"path": str(self._depot / "records.ndjson")},
                "passes": ["failure", "issue", "alert"],
                "hides": ["name passenger"],
            },
        )

    def watch_windows(self) -> None:
        """Use the team's file of rules, like ``obitus alerts apply``."""
        order = {"text": self._alerts, "source": ALERTS, "only_plan": False}
        self._post("/api/alert-rules/apply", order)
        self._service.alert_windows.look()
        self._service.delivering.settle()

    def open_desk(self) -> TicketDesk:
        """Run the ticket desk as long as the demo runs."""
        key = self._post("/api/apps", {"name": ticket_desk.APP, "kind": "script"})["key"]
        return TicketDesk(self._data.absolute(), self._service.settings.url, key)

    def read_front(self) -> None:
        """Read the access log of the web server in front, like ``obitus read``."""
        file = self._data / front.FILE
        file.write_text(front.access_log(self._start_ms), "utf-8")
        key = self._post("/api/apps", {"name": front.APP, "kind": "script"})["key"]
        sending = Sending(self._service.settings.url, key)
        read = AccessFile(Outcome(), sending.add, "w3c", front.FILE, front.FILE, 0, system_clock_ms(), UTC)
        read.feed(file.read_bytes(), end=True)
        sending.flush()
        if sending.refused:
            raise CliError(f"the demo could not be loaded: {'; '.join(sending.reasons)}")

    def _report(self, player: int, body: bytes) -> None:
        self._send(PLAYERS[player].app, PLAYERS[player].environment, body)

    def _send(self, app: str, environment: str, body: bytes) -> None:
        headers = {
            "Authorization": f"Bearer {self._keys[app, environment]}",
            "Content-Type": media_type("demo"),
        }
        answer = self._http.request("POST", f"{self._service.settings.url}/reports", headers=headers, body=body)
        _loaded(answer, 200)

    def _commit(self) -> None:
        """Make the line's repository, and report the commits of each release like a pipeline; without git there are none."""
        folder = self._data / "repository"
        if not repository.make(folder, self._deploys, self._start_ms):
            say("There is no git here: the demo goes without commits.")
            return
        named_repository = Repository(folder)
        before: str | None = None
        for release in LIVE:
            revision = named_repository.tag_of(release) or ""
            found = named_repository.commits(before, revision)
            body = {"revision": revision, "commits": [commit_body(commit) for commit in found.commits]}
            for app, _ in APPS:
                self._post(f"/api/apps/{app}/commits/{release}", body)
            before = revision

    def _tell_deploys(self, day: int) -> None:
        for deploy in DEPLOYS:
            if day * 24 <= deploy.hour < (day + 1) * 24:
                time = to_text(self._start_ms + int(deploy.hour * HOUR_MS))
                for app, _ in APPS if not deploy.canary else APPS[:1]:
                    order = {"app": app, "release": deploy.release, "time": time, "canary": deploy.canary}
                    self._post("/api/deploys", order)

    def _decide(self, choice: Choice) -> None:
        found = self._get(f"/api/issues?window=14d&app={choice.app}&limit=200")["issues"]
        for row in found:
            if row["type"].rpartition(".")[2] == choice.type and row["place"] == choice.place:
                self._post(f"/api/issues/{row['number']}/{choice.decision}", dict(choice.order))

    def _write_down(self) -> None:
        """Add people, CODEOWNERS, saved lists and notes."""
        for person in PEOPLE:
            self._service.records.writer.run(lambda c, name=person: team.add(c, name, "member", self._clock()))  # type: ignore[misc]
        self._ask("PUT", "/api/apps/sailings/owners", {"text": OWNERS})
        for listed, view in LISTS:
            self._post("/api/saved", {"name": listed, "for_all": True, "view": {"kind": "issues"} | view})
        pattern, address = TICKETS
        self._post("/api/link-patterns", {"pattern": pattern, "address": address})
        name, app, items = CHECK_LIST
        looked = [{"look_at": what, "command": command} for what, command in items]
        self._post("/api/check-lists", {"name": name, "app": app, "items": looked})
        found = self._get("/api/issues?window=14d&limit=200")["issues"]
        for written in WRITTEN:
            number = next(row["number"] for row in found if row["type"].rpartition(".")[2] == written.type)
            order = {
                "text": written.text,
                "looked_at": written.looked_at,
                "found": written.found,
                "output": written.output,
            }
            self._post(f"/api/issues/{number}/notes", order)

    def _get(self, path: str) -> Any:
        return self._ask("GET", path, None)

    def _post(self, path: str, body: dict[str, Any]) -> Any:
        return self._ask("POST", path, body)

    def _ask(self, method: str, path: str, body: dict[str, Any] | None) -> Any:
        headers = {"Authorization": f"Bearer {self._token}"}
        answer = self._http.request(method, self._service.settings.url + path, headers=headers, json=body)
        if answer.status >= 300:
            raise CliError(f"the demo could not be loaded: {answer.data.decode('utf-8', 'replace')}")
        return answer.json()


def _loaded(answer: urllib3.BaseHTTPResponse, status: int) -> None:
    """Raise CliError where a part of the demo was not stored."""
    if answer.status != status or any(line["verdict"] != "stored" for line in answer.json().get("lines", [])):
        raise CliError(f"the demo could not be loaded: {answer.data.decode('utf-8', 'replace')[:2000]}")


def _empty(data: Path) -> None:
    """Remove the records of an earlier demo; a folder that holds anything else is left alone."""
    if data.exists() and any(data.iterdir()):
        if not (data / _MARK).exists():
            raise CliError(f"{data} holds something that is not a demo. Choose another --data.")
        shutil.rmtree(data)
    data.mkdir(parents=True, exist_ok=True, mode=0o700)
    (data / _MARK).write_text(time.strftime("%Y-%m-%d"), "utf-8")
