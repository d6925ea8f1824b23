"""Set-up: the lines for each kind of app, and what is wrong when reports do not arrive as they should."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest

from obitus.core.kinds import KINDS
from obitus.core.version import VERSION, media_type
from tests.conftest import Running, failure


@pytest.mark.parametrize("kind", KINDS)
def test_each_kind_has_its_lines(running: Running, kind: str) -> None:
    """A new app's answer holds its settings with its key, what to install, what to paste where, and how to see it work."""
    made = running.ask("POST", "/api/apps", {"name": f"net-{kind}", "kind": kind}).json()
    assert made["key"] in made["settings"] and running.url in made["settings"]
    assert (
        made["install"].startswith("obitus") is (kind != "opentelemetry")
        and made["steps"]
        and made["then"].endswith(".")
    )
    again = running.ask("POST", f"/api/apps/net-{kind}/keys", {"environment": "staging"}).json()
    assert again["steps"] == made["steps"] and again["key"] != made["key"]
    assert kind in [one["name"] for one in running.get("/api/apps")["kinds"]]


def test_what_is_wrong_is_told(running: Running) -> None:
    """A clock that is off, a format of another day, a revoked key, a strange key, something too large: each is named."""
    key = running.add_app()
    app = running.get("/api/apps/sailings")
    assert (app["last_remark"], app["last_refusal"], app["last_unknown_key"]) == (None, None, None)
    wrong = (datetime.now(UTC) - timedelta(minutes=7)).isoformat()
    assert running.send(key, failure(time=wrong), headers={"Obitus-Clock": wrong}).status == 200
    remark = running.get("/api/apps/sailings")["last_remark"]
    assert remark["slug"] == "clock-off" and "420 s behind" in remark["reason"]
    assert running.get("/api/apps/sailings")["client"] is None
    assert running.send(key, failure(), headers={"Content-Type": media_type("python")}).status == 200
    assert running.get("/api/apps/sailings")["client"] == f"python-{VERSION}"
    answer = running.send(key, failure(), headers={"Content-Type": "application/x-ndjson; version=9"})
    assert answer.status == 400 and answer.json()["slug"] == "format-not-supported" and "'9'" in answer.json()["detail"]
    assert running.get("/api/apps/sailings")["last_refusal"]["slug"] == "format-not-supported"
    running.send(key, b'{"kind": "failure", "x": "' + b"x" * 2_000_000 + b'"}')
    assert running.get("/api/apps/sailings")["last_refusal"]["slug"] in ("line-too-long", "all-refused")
    running.send("okey_" + "x" * 40, failure())
    assert running.get("/api/apps/sailings")["last_unknown_key"] is not None
    number = running.get("/api/apps/sailings")["keys"][0]["id"]
    running.ask("DELETE", f"/api/apps/sailings/keys/{number}")
    running.send(key, failure())
    assert running.get("/api/apps/sailings")["last_refusal"]["slug"] == "revoked-key"


def test_a_small_difference_of_clocks_is_no_remark(running: Running) -> None:
    """Up to five minutes nobody is bothered."""
    key = running.add_app()
    near = (datetime.now(UTC) - timedelta(minutes=4)).isoformat()
    running.send(key, failure(time=near), headers={"Obitus-Clock": near})
    assert running.get("/api/apps/sailings")["last_remark"] is None
