"""Links in messages: each asks before it acts, does one thing once, and is on record."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import pytest

from obitus.core.clock import DAY_MS
from tests.conftest import Running, failure
from tests.service.alerting.helpers import fired, rule, settle, webhook
from tests.service.alerting.receivers import Receiver, receiving


@pytest.fixture
def receiver() -> Iterator[Receiver]:
    """Where messages go."""
    with receiving() as found:
        yield found


def told(running: Running, receiver: Receiver, **channel: Any) -> dict[str, str]:
    """Let an issue fire; return the secrets of its message's links, by what they do."""
    key = running.add_app()
    webhook(running, receiver, **channel)
    rule(running, "new issue")
    running.send(key, failure())
    settle(running)
    acts = receiver.got[-1].json()["data"]["parts"][0]["acts"]
    return {act["label"].split()[0].lower(): act["link"].rpartition("#")[2] for act in acts}


def follow(running: Running, secret: str, use: bool = False) -> Any:
    """Follow a link as somebody who is not signed in."""
    path = "/api/alert-link/use" if use else "/api/alert-link"
    return running.http.request("POST", running.url + path, json={"secret": secret})


def test_a_link_asks_first_and_is_good_once(running: Running, receiver: Receiver) -> None:
    """Looking changes nothing, however often; of two who use it one does; the history says that it was a link, and to which channel."""
    links = told(running, receiver)
    for _ in range(2):
        look = follow(running, links["accept"]).json()
        assert (look["asks"], look["good"], look["state"]) == ("Accept issue 1?", True, "Issue 1 is untriaged.")
    assert running.get("/api/issues/1")["state"] == "untriaged"
    assert follow(running, links["accept"], use=True).json()["said"].startswith("Issue 1 is accepted.")
    again = follow(running, links["accept"], use=True)
    assert again.status == 404 and "Each works once" in again.json()["detail"]
    assert not follow(running, links["accept"]).json()["good"]
    issue = running.get("/api/issues/1")
    assert issue["state"] == "accepted"
    assert issue["history"][-1]["reason"] == "The link in a message to ops accepted it."
    assert fired(running)[0]["accepted_by"] == "The link in a message to ops"
    acts = [one["act"] for one in running.get("/api/acts")["acts"]]
    assert "used link to accept" in acts


def test_park_and_silence_by_a_link(running: Running, receiver: Receiver) -> None:
    """Parked for a day, silent for a day: it ends by itself."""
    links = told(running, receiver, person="owner")
    assert "Issue 1 is parked until " in follow(running, links["park"], use=True).json()["said"]
    issue = running.get("/api/issues/1")
    assert issue["state"] == "parked" and issue["history"][-1]["person"] == "owner", "the channel is one person's"
    assert "silent until" in follow(running, links["silence"], use=True).json()["said"]
    silence = running.get("/api/silences")["silences"][0]
    assert (silence["issue"], silence["said_by"]) == (1, "owner")


def test_links_end_and_cannot_be_guessed(running: Running, receiver: Receiver) -> None:
    """After three days, for another secret, and for what is not there any more."""
    links = told(running, receiver)
    assert len(links["accept"]) == 64 and len(set(links.values())) == 3
    assert follow(running, "0" * 64).status == 404 and follow(running, "short").status == 422
    running.clock.ahead_ms += 3 * DAY_MS + 1000
    look = follow(running, links["accept"]).json()
    assert not look["good"] and "was valid until" in look["why_not"]
    assert follow(running, links["accept"], use=True).status == 404


def test_no_secret_of_a_link_is_kept_or_sent_to_the_server_by_its_address(running: Running, receiver: Receiver) -> None:
    """It stands behind the sign #, which browsers keep to themselves; only its hash is kept."""
    links = told(running, receiver)
    address = receiver.got[0].json()["data"]["parts"][0]["acts"][0]["link"]
    assert re.fullmatch(r"http://[^/]+/alerts/link#[0-9a-f]{64}", address)
    stored = b"".join(path.read_bytes() for path in running.service.settings.data.glob("obitus.sqlite3*"))
    assert not any(secret.encode() in stored for secret in links.values())
