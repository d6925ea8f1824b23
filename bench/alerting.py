"""Alerts and passing on: how soon a message is at its server, what a thousand rules cost, what a target gets that was away, what is usual."""

from __future__ import annotations

import http.client
import json
import random
import re
import smtplib
import statistics
import sys
import threading
import time
import uuid
from collections import Counter
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from email.message import EmailMessage
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar, Final

import numpy as np

from bench.flooding import flood, paced
from bench.live import APPS, BATCH, Served, served
from bench.measuring import row
from obitus.core.alerting.amounts import Amount
from obitus.core.alerting.conditions import Measured, interval_ms, read_condition
from obitus.core.alerting.over_time import would_have_fired
from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.demo.receiver import Arrived, Receiver
from obitus.demo.story import DAYS, PLAYERS, acts_of

PARTS: Final = ("mailed", "rules", "away", "usual")
PROBES: Final = 200
RULES: Final = 1000
WATCHED_S: Final = 60
EVENTS: Final = 10_000
FORTNIGHTS: Final = 20
STEPS: Final = 3


def measure(folder: Path, bodies: Callable[[], list[bytes]], parts: Sequence[str] = PARTS) -> None:
    """Print the rows of some parts."""
    if "mailed" in parts:
        with served(folder / "mailed") as service:
            _mailed(service, folder / "mailed", bodies)
    if "rules" in parts:
        with served(folder / "rules") as service:
            _thousand_rules(service, bodies)
    if "away" in parts:
        with served(folder / "away") as service:
            _away(service, folder / "away")
    if "usual" in parts:
        _usual()


def _allow(folder: Path, *addresses: str) -> None:
    path = folder / "allowed.toml"
    path.write_text(f"addresses = {json.dumps(addresses)}\n", "utf-8")
    path.chmod(0o600)


def _new_issue(number: int, name: str = "") -> bytes:
    """Return a failure that is an issue of its own."""
    place = f"skerry.gates.gate_{uuid.UUID(int=random.Random(f'{name}{number}').getrandbits(128)).hex}"
    frame = {"function": "open_gate", "module": place, "file": f"/srv/{place}.py", "line": 7}
    report = {
        "kind": "failure", "id": str(uuid.uuid4()), "time": datetime.now(UTC).isoformat(timespec="milliseconds"), "release": "3.1.0",
        "exceptions": [{"type": f"{place}.GateStuck", "message": f"gate {number} is stuck", "frames": [frame]}],
    }  # fmt: skip
    return json.dumps(report).encode()


def _mailed(service: Served, folder: Path, bodies: Callable[[], list[bytes]]) -> None:
    """Report new issues at half of full load; take the time until the mail about each is at the server."""
    arrived: dict[str, float] = {}

    def heard(one: Arrived) -> None:
        arrived.setdefault(one.text + one.title, time.perf_counter())

    receiver = Receiver(on_arrival=heard)
    receiver.start()
    _allow(folder, "127.0.0.1")
    mail = {"host": "127.0.0.1", "port": receiver.mail_port, "tls": "none", "from": "obitus@skerry.example"}
    # One key alone may take up a share of the service, no more.
    probe_keys = [service.key("gatekeeper")]
    for number in range(3):
        order = {"environment": f"pier-{number}"}
        probe_keys.append(service.ask("POST", "/api/apps/gatekeeper/keys", order)["key"])
    loaded = service.key("sailings")
    flood(service.port, loaded, bodies(), BATCH)
    full = flood(service.port, loaded, bodies(), BATCH)
    service.ask(
        "POST", "/api/channels", {"name": "mail", "kind": "mail", "settings": mail | {"to": ["night@skerry.example"]}}
    )
    rule = {"name": "new", "when": "new issue where app=gatekeeper", "to": ["mail"], "at_most_an_hour": 1000}
    service.ask("POST", "/api/alert-rules", rule)
    keys = [service.key(f"pier-{number}") for number in range(APPS)]
    connection = http.client.HTTPConnection("127.0.0.1", service.port)
    reported: list[tuple[str, float]] = []
    with paced(service.port, keys, bodies, BATCH, full / 2) as sent:
        time.sleep(1)
        for number in range(PROBES):
            body = _new_issue(number)
            reported.append((json.loads(body)["exceptions"][0]["frames"][0]["module"], time.perf_counter()))
            key = probe_keys[number % len(probe_keys)]
            connection.request("POST", "/reports", body, {"Authorization": f"Bearer {key}"})
            answer = connection.getresponse()
            said = answer.read()
            assert answer.status == 200, said[:300]
            time.sleep(0.1)
        ends = time.perf_counter() + 60
        while len(arrived) < PROBES and time.perf_counter() < ends:
            time.sleep(0.05)
    waits = [
        min((at for said, at in arrived.items() if name in said), default=float("inf")) - then
        for name, then in reported
    ]
    floor = statistics.median(_handed_over(receiver.mail_port) for _ in range(50))
    receiver.stop()
    if missing := [name for name, _ in reported if not any(name in said for said in arrived)]:
        print(f"    {len(missing)} of {PROBES} did not arrive, the first of them {missing[0]}")
    last = statistics.quantiles(waits, n=100)[98]
    row(
        f"report to mail at the server at {sent.rate():,.0f}/s, p99 / SMTP alone (bound: 2 s)",
        f"{last * 1e3:.0f} ms",
        f"{floor * 1e3:.1f} ms",
        last / floor,
    )
    print(
        f"    median {statistics.median(waits) * 1e3:.0f} ms, slowest of {PROBES} {max(waits) * 1e3:.0f} ms; full load is {full:,.0f} reports/s"
    )


def _handed_over(port: int) -> float:
    mail = EmailMessage()
    mail["From"], mail["To"], mail["Subject"] = "obitus@skerry.example", "night@skerry.example", "a gate is stuck"
    mail.set_content("gate 4 is stuck\n" * 60)
    started = time.perf_counter()
    with smtplib.SMTP("127.0.0.1", port) as server:
        server.send_message(mail)
    return time.perf_counter() - started


def _conditions() -> list[str]:
    """Return a thousand conditions, as many teams would have them: of failures, logs and runs, fixed and usual, by groups; each asks something else."""
    forms = (
        "count of failures > {n}00000 in 10m by issue where app={app} message!=case-{n}",
        "count of failures > {n}00000 in 5m by entry_point where app={app} severity>=ERROR type!=case.{n}",
        "count of people > {n}00000 in 1h by issue where app={app} entry_point!=case-{n}",
        "count of logs > {n}00000 in 10m by logger where app={app} severity>=WARN logger!=case.{n}",
        'count of logs > {n}00000 in 15m where app={app} "pier {n}"',
        "p95 wait_s of logs > {n}00000 in 15m where app={app} berth!={n}",
        "share of failed runs > {n}% in 15m by entry_point where app={app} entry_point~boardings entry_point!=case-{n}",
        "failures per thousand runs > {n}00 in 1h where app={app} entry_point!=case-{n}",
        "p95 duration of runs > {n}m in 15m by entry_point where app={app} entry_point!=case-{n}",
        "count of failures > {n} times usual in 1h where app={app} entry_point!=case-{n}",
        "count of runs < usual in 2h where app={app} entry_point!=case-{n}",
        "no runs for {n}h by entry_point where app={app} entry_point!=case-{n}",
    )
    return [forms[number % len(forms)].format(n=2 + number // len(forms), app=f"pier-{number % APPS}") for number in range(RULES)]  # fmt: skip


def _thousand_rules(service: Served, bodies: Callable[[], list[bytes]]) -> None:
    """Use a thousand rules while reports come in; take what they use of a core, and whether they are looked at as often as they should."""
    keys = [service.key(f"pier-{number}") for number in range(APPS)]
    full = flood(service.port, service.key("sailings"), bodies(), BATCH)
    conditions = _conditions()
    text = "".join(
        f"[[alert]]\nname = \"rule-{number}\"\nwhen = '{when}'\nto = []\n" for number, when in enumerate(conditions)
    )
    service.ask("POST", "/api/alert-rules/apply", {"text": text, "source": "alerts.toml", "only_plan": False})
    with paced(service.port, keys, bodies, BATCH, full / 4) as sent:
        time.sleep(60)
        before_s, looked_before = _spent(service)
        started = time.perf_counter()
        time.sleep(WATCHED_S)
        spent_s, looked = _spent(service)
        watched_s = time.perf_counter() - started
    wanted = sum(watched_s * 1000 / interval_ms(read_condition(when, 0)) for when in conditions)  # type: ignore[arg-type]
    took_s = spent_s - before_s
    row(
        f"{RULES:,} rules over windows at {sent.rate():,.0f} reports/s / one core (bound: 0.1)",
        f"{took_s:.1f} s",
        f"{watched_s:.0f} s",
        took_s / watched_s,
    )
    print(
        f"    {looked - looked_before:,.0f} looks, {(looked - looked_before) / wanted:.0%} of those that their intervals ask for"
    )


def _spent(service: Served) -> tuple[float, float]:
    """Return the seconds of processor time that rules over windows have used, and how often they were looked at."""
    connection = http.client.HTTPConnection("127.0.0.1", service.port)
    connection.request("GET", "/metrics", headers={"Authorization": f"Bearer {service.token}"})
    text = connection.getresponse().read().decode()
    found = [
        re.search(rf"^obitus_alert_{name}_total (\S+)$", text, re.MULTILINE)
        for name in ("rules_cpu_seconds", "rule_looks")
    ]
    return tuple(float(one[1]) for one in found if one is not None)  # type: ignore[return-value]


class _Target(BaseHTTPRequestHandler):
    """Takes batches of CloudEvents; while it is away it refuses all."""

    protocol_version = "HTTP/1.1"
    away = True
    got: ClassVar[list[int]] = []

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
        if not self.away:
            self.got.extend(event["data"]["attributes"]["gate"] for event in json.loads(body))
        self.send_response(503 if self.away else 204)
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, *_: Any) -> None:
        """Say nothing."""


def _away(service: Served, folder: Path) -> None:
    """Let ten thousand records come while a target is away; when it is back it gets each once, in order."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Target)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, args=(0.1,), daemon=True).start()
    port = int(server.server_address[1])
    _allow(folder, "127.0.0.1")
    order = {"name": "desk", "kind": "webhook", "settings": {"url": f"http://127.0.0.1:{port}/"}, "passes": ["failure"]}
    service.ask("POST", "/api/targets", order)
    key = service.key("gatekeeper")
    connection = http.client.HTTPConnection("127.0.0.1", service.port)
    for first in range(0, EVENTS, BATCH):
        lines = []
        for number in range(first, first + BATCH):
            report = json.loads(_new_issue(number % 40)) | {"attributes": {"gate": number}}
            lines.append(json.dumps(report).encode())
        connection.request("POST", "/reports", b"\n".join(lines), {"Authorization": f"Bearer {key}"})
        said = connection.getresponse().read()
        assert json.loads(said)["stored"] == BATCH, said[:300]
    (state,) = service.ask("GET", "/api/targets")["targets"]
    assert state["passed"] == 0 and state["trouble"].startswith("503"), state
    _Target.away = False
    service.ask("POST", "/api/targets/desk/try-now", {})
    started = time.perf_counter()
    while len(_Target.got) < EVENTS and time.perf_counter() < started + 120:
        time.sleep(0.01)
    took_s = time.perf_counter() - started
    time.sleep(2)
    whole = _Target.got == list(range(EVENTS))
    (state,) = service.ask("GET", "/api/targets")["targets"]
    again = [{"data": json.loads(_new_issue(number)) | {"attributes": {"gate": number}}} for number in range(EVENTS)]
    straight = http.client.HTTPConnection("127.0.0.1", port)
    started = time.perf_counter()
    for first in range(0, EVENTS, 500):
        straight.request("POST", "/", json.dumps(again[first : first + 500]).encode())
        straight.getresponse().read()
    floor_s = time.perf_counter() - started
    server.shutdown()
    row(
        f"{EVENTS:,} that a target missed / posted alone",
        f"{EVENTS / took_s:,.0f}/s",
        f"{EVENTS / floor_s:,.0f}/s",
        floor_s / took_s,
    )
    print(f"    each once, in order: {'yes' if whole else 'NO'}; {state['passed']:,} passed on, {state['lost']} lost")


def _usual() -> None:
    """Play fortnights of the demo's traffic with noise; count the planted steps that a rule beside what is usual finds, and what else it says.

    Each app is looked at in the shortest window in which thirty runs are usual: of few, three times as many come by chance.
    A step lasts two windows, and three hours at least.
    """
    rates: dict[str, Counter[int]] = {}
    for player in PLAYERS:
        if player.environment == "production":
            of_app = rates.setdefault(player.app, Counter())
            for day in range(DAYS):
                of_app.update(act.time_ms % DAY_MS // HOUR_MS for act in acts_of(player, day, 0))
    dice = np.random.default_rng(19)
    for app, of_app in rates.items():
        window = next(hours for hours in (1, 2, 3, 6, 12, 24) if of_app.total() / DAYS / 24 * hours >= 30)
        condition = read_condition(f"count of runs > usual in {window}h", 0)
        assert isinstance(condition, Measured)
        steps_of, lasts = STEPS if window < 12 else 1, max(3, 2 * window)
        found = others = 0
        for _ in range(FORTNIGHTS):
            # Three times as many most of the time would be usual.
            begins = [24 * (DAYS + 1 + 4 * step) + int(dice.integers(24)) for step in range(steps_of)]
            steps = {hour + more for hour in begins for more in range(lasts)}
            hours = {}
            for hour in range(2 * DAYS * 24):
                rate = of_app[hour % 24] / DAYS * (3 if hour in steps else 1)
                if n := int(dice.poisson(rate * dice.gamma(100, 0.01))):
                    hours[hour] = Amount(n)
            slots: dict[tuple[str, ...], dict[int, Amount]] = {(): hours}
            fired = would_have_fired(condition, slots, slots, DAYS * DAY_MS, 2 * DAYS * DAY_MS, 0)
            told = [one.begun_ms // HOUR_MS for one in fired]
            ends = lasts + window
            found += sum(any(hour <= at <= hour + ends for at in told) for hour in begins)
            others += sum(not any(hour <= at <= hour + ends for hour in begins) for at in told)
        planted = FORTNIGHTS * steps_of
        row(
            f"{app} beside usual in {window} h: steps by three found / planted",
            f"{found}",
            f"{planted}",
            found / planted,
        )
        print(f"    {others} others in {FORTNIGHTS * 2} weeks (bound: one a week)")


def main() -> None:
    """Measure this alone."""
    import tempfile

    from bench.__main__ import bodies

    with tempfile.TemporaryDirectory() as place:
        measure(Path(place), bodies, sys.argv[1:] or PARTS)


if __name__ == "__main__":
    main()
