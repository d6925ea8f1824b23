"""Following a stream of a service that starts again, or has too much to do for a moment."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice
from typing import ClassVar

import pytest

from obitus.cli.api import Api
from obitus.cli.errors import NotAllowed, Refused, Unreachable
from obitus.cli.following import follow
from obitus.cli.login import Login
from tests.client.programs import Answering, serving

OPENED = b'id: 7\nevent: open\ndata: {"after": "7"}\n\n'
PROBLEM = b'{"title": "Too much at once", "detail": "100 streams are open already", "status": 429}'


class Service(Answering):
    """Answers each request with the next of these."""

    answers: ClassVar[list[tuple[int, bytes]]]
    asked: ClassVar[list[str | None]]

    def do_GET(self) -> None:
        self.asked.append(self.headers.get("Last-Event-ID"))
        self.answer(*self.answers.pop(0))


@pytest.fixture
def asking(monkeypatch: pytest.MonkeyPatch) -> Iterator[Api]:
    monkeypatch.setattr("time.sleep", lambda _seconds: None)
    Service.answers, Service.asked = [], []
    with serving(Service) as server:
        yield Api(Login(f"http://127.0.0.1:{server.server_port}", "otok_x"))


@pytest.mark.parametrize(
    ("status", "body", "said"),
    [
        (429, PROBLEM, "100 streams are open already."),
        (503, PROBLEM, "100 streams are open already."),
        (502, b"<html>bad gateway</html>", "a proxy in front of it says so"),
    ],
)
def test_a_moment_without_service_is_waited_for(asking: Api, status: int, body: bytes, said: str) -> None:
    """Said once, however long it takes; then it goes on after the last event."""
    more = b'id: 9\nevent: records\ndata: {"records": []}\n\n'
    Service.answers = [(200, OPENED), (status, body), (status, body), (200, more)]
    events = list(islice(follow(asking, "/api/records/logs/tail", {}), 3))
    assert [name for name, _ in events] == ["open", "broken", "records"]
    assert Service.asked == [None, "7", "7", "7"]
    Service.answers = [(200, OPENED), (status, body), (200, more)]
    following = follow(asking, "/api/records/logs/tail", {})
    assert [next(following)[0] for _ in range(3)] == ["open", "broken", "records"]
    Service.answers = [(status, body)]
    with pytest.raises((Refused, Unreachable)) as raised:
        next(follow(asking, "/api/records/logs/tail", {}))
    assert said.removesuffix(".") in str(raised.value), "what cannot begin is said at once"


def test_what_is_refused_for_good_ends_it(asking: Api) -> None:
    """A token that was revoked meanwhile is no moment's trouble."""
    Service.answers = [(200, OPENED), (401, b'{"detail": "This token was revoked"}')]
    with pytest.raises(NotAllowed, match="revoked"):
        list(follow(asking, "/api/records/logs/tail", {}))
