"""Sending what was read, through proxies and to whatever else answers at the address."""

from __future__ import annotations

import gzip
import json
from collections.abc import Iterator
from typing import ClassVar

import pytest

from obitus.reading.sending import Sending
from obitus.reading.troubles import SendingRefused, ServiceAway
from tests.client.programs import Answering, serving

REPORTS = [{"kind": "log", "message": f"gate {number}"} for number in range(9)]


class Front(Answering):
    """Answers in place of a service, or stands before it."""

    most_lines: ClassVar[int]
    """A body of more is too long."""
    before: ClassVar[list[int]]
    """The statuses of the first answers."""
    body: ClassVar[bytes | None]
    """What is answered in place of a count."""
    came: ClassVar[list[bytes]]

    def do_POST(self) -> None:
        lines = gzip.decompress(self.read_body()).split(b"\n")
        status = self.before.pop(0) if self.before else 413 if len(lines) > self.most_lines else 200
        body = b"<html>no</html>"
        if status == 200:
            self.came.extend(lines)
            body = (
                self.body or json.dumps({"stored": len(lines), "already_there": 0, "refused": 0, "lines": []}).encode()
            )
        moved = {"Location": "https://obitus.skerry.example/reports"} if 300 <= status < 400 else {}
        self.answer(status, body, moved)


@pytest.fixture
def url(monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    monkeypatch.setattr("time.sleep", lambda _seconds: None)
    Front.most_lines, Front.before, Front.body, Front.came = 1000, [], None, []
    with serving(Front) as server:
        yield f"http://127.0.0.1:{server.server_port}"


def send(to: Sending) -> None:
    for report in REPORTS:
        to.add(report)
    to.flush()


def test_a_proxy_that_takes_short_bodies_alone(url: str) -> None:
    """What is too long is sent in halves, each report once and in order; one that alone is too long is refused, and said."""
    Front.most_lines = 2
    to = Sending(url, "okey_x")
    send(to)
    assert [json.loads(line) for line in Front.came] == REPORTS and (to.stored, to.refused) == (9, 0)
    Front.most_lines = 0
    send(to)
    assert (to.stored, to.refused) == (9, 9) and "is too long: the service answered with status 413" in to.reasons[0]


def test_a_service_that_starts_again(url: str) -> None:
    """The answers of its proxy are no refusal."""
    Front.before = [502, 503, 504]
    to = Sending(url, "okey_x")
    send(to)
    assert to.stored == 9


def test_a_service_that_is_away_for_long(url: str) -> None:
    """Who reads once is told to read again; who follows waits, and says so."""
    Front.before = [503] * 60
    with pytest.raises(ServiceAway, match="status 503"):
        send(Sending(url, "okey_x"))
    said: list[str] = []
    to = Sending(url, "okey_x", away=said.append)
    send(to)
    assert said == ["the service answered with status 503."] and to.stored == 9 and not Front.before


@pytest.mark.parametrize("body", [b"<html>welcome</html>", b"[]", b'{"ok": true}', b"null"])
def test_something_else_answers(url: str, body: bytes) -> None:
    """A page that says yes to everything has stored nothing."""
    Front.body = body
    to = Sending(url, "okey_x")
    with pytest.raises(SendingRefused, match="something else than Obitus answers"):
        send(to)
    assert to.stored == 0


def test_an_address_that_has_moved(url: str) -> None:
    """The key is not sent to another host; it says which address to set."""
    Front.before = [308]
    with pytest.raises(SendingRefused, match="leads on to https://obitus"):
        send(Sending(url, "okey_x"))
    assert not Front.came
