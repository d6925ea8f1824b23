"""Tracepoints at the service: set, heard of by those that ask, counted, ended; who may, and what is refused."""

from __future__ import annotations

import threading
import time
import uuid
from datetime import UTC, datetime
from typing import Any

import pytest

from tests.conftest import Running
from tests.service.test_people import ask_as, invited

FARES: dict[str, Any] = {"file": "sailings/fares.py", "line": 24, "minutes": 30, "condition": "passengers > 4"}


def added(running: Running, app: str = "sailings", **more: Any) -> dict[str, Any]:
    answer = running.ask("POST", f"/api/apps/{app}/tracepoints", FARES | more)
    assert answer.status == 201, answer.data
    found: dict[str, Any] = answer.json()["tracepoint"]
    return found


def ask_as_client(running: Running, key: str, instance: str = "one", **more: Any) -> dict[str, Any]:
    """Ask as a process does, and return what it is to do."""
    body = {"instance": instance, "host": "pier-1", "pid": 7, "release": "2.9.0", "runtime": "Python 3.12.1"} | more
    headers = {"Authorization": f"Bearer {key}"}
    answer = running.http.request("POST", running.url + "/tracepoints", json=body, headers=headers)
    assert answer.status == 200, answer.data
    found: dict[str, Any] = answer.json()["tracepoints"]
    return found


def hit(number: int, **more: Any) -> dict[str, Any]:
    """Return the report of a hit."""
    seen = {
        "tracepoint": number,
        "values": {"passengers": "6"},
        "frames": [{"function": "quote", "file": "fares.py", "line": 24, "locals": {"base": "12.5"}}],
    }
    return {
        "kind": "log", "id": str(uuid.uuid4()), "time": datetime.now(UTC).isoformat(), "severity": "INFO", "logger": "fares",
        "message": "fare 12.5", "attributes": {"tracepoint.id": number}, "hit": seen,
    } | more  # fmt: skip


def test_from_the_order_to_the_hit(running: Running) -> None:
    """Clients get what they are to set; what they say of it and what they found is there for everybody, and asked for like any record."""
    key = running.add_app()
    number = added(running, values=["passengers"], message="fare {base}", hosts=["pier-*"])["id"]
    told = ask_as_client(running, key)
    (order,) = told["set"]
    assert (order["id"], order["file"], order["line"], order["condition"]) == (
        number,
        "sailings/fares.py",
        24,
        "passengers > 4",
    )
    assert order["values"] == ["passengers"] and order["hosts"] == ["pier-*"] and 1700 < order["seconds"] <= 1800
    assert told["environment"] == "production"

    states = [{"id": number, "state": "set", "why": "", "looked": 12, "hits": 1, "cost_ms": 0.4}]
    ask_as_client(running, key, states=states, version=told["version"])
    ask_as_client(
        running,
        key,
        "two",
        states=[{"id": number, "state": "not set", "why": "another version of the file runs here", "offers": [31]}],
    )
    assert running.send(key, hit(number)).status == 200
    answer = running.get(f"/api/tracepoints/{number}")
    one = answer["tracepoint"]
    assert (one["hits"], one["set_in"], one["not_set_in"], one["looked"], one["active"]) == (1, 1, 1, 12, True)
    assert [(state["state"], state["offers"]) for state in answer["states"]] == [("not set", [31]), ("set", [])]

    (row,) = running.get(f"/api/records/logs?question=tracepoint.id%3D{number}")["records"]
    report = running.get(f"/api/record/{row['number']}")["report"]
    assert report["hit"]["values"] == {"passengers": "6"} and report["hit"]["frames"][0]["locals"] == {"base": "12.5"}
    assert [one["instance"] for one in running.get("/api/tracepoints")["instances"]] == ["one", "two"]
    (act,) = [act for act in running.get("/api/acts")["acts"] if act["act"] == "set tracepoint"]
    assert act["subject"] == f"{number}: sailings sailings/fares.py:24 when passengers > 4, 30 min"


def test_who_waits_hears_at_once(running: Running) -> None:
    """A request that waits is answered when something is set, and when it is ended; without news after its time."""
    key = running.add_app()
    version = ask_as_client(running, key)["version"]
    begun_s = time.monotonic()
    assert ask_as_client(running, key, version=version, wait_s=0.3)["set"] == [] and time.monotonic() - begun_s >= 0.3

    heard: list[dict[str, Any]] = []
    waiting = threading.Thread(target=lambda: heard.append(ask_as_client(running, key, version=version, wait_s=30)))
    waiting.start()
    number = added(running)["id"]
    waiting.join(60)
    assert [one["id"] for one in heard[0]["set"]] == [number] and heard[0]["version"] > version

    waiting = threading.Thread(
        target=lambda: heard.append(ask_as_client(running, key, version=heard[0]["version"], wait_s=30))
    )
    waiting.start()
    assert running.ask("DELETE", f"/api/apps/sailings/tracepoints/{number}").status == 200
    waiting.join(60)
    assert heard[1]["set"] == [] and heard[1]["version"] > heard[0]["version"]
    one = running.get(f"/api/tracepoints/{number}")["tracepoint"]
    assert not one["active"] and one["over"] == "owner ended it"


def test_answers_to_reports_carry_them(running: Running) -> None:
    """Who sends reports hears of them too, where it asks for that; who does not gets nothing of it."""
    key = running.add_app()
    number = added(running)["id"]
    assert "tracepoints" not in running.send(key, hit(999)).json()
    told = running.send(key, hit(999), headers={"Obitus-Tracepoints": "1"}).json()["tracepoints"]
    assert [one["id"] for one in told["set"]] == [number]


def test_only_the_environment_that_is_meant(running: Running) -> None:
    """A key of another environment, or of another app, is told nothing of it, and cannot count as its hit."""
    key = running.add_app()
    staging = running.ask("POST", "/api/apps/sailings/keys", {"environment": "staging"}).json()["key"]
    other = running.add_app("gatekeeper")
    number = added(running, environment="production")["id"]
    assert [len(ask_as_client(running, one)["set"]) for one in (key, staging, other)] == [1, 0, 0]
    running.send(other, hit(number))
    ask_as_client(running, other, states=[{"id": number, "state": "set"}])
    answer = running.get(f"/api/tracepoints/{number}")
    assert answer["tracepoint"]["hits"] == 0 and answer["states"] == []


def test_enough_hits_end_it(running: Running) -> None:
    """With as many as were asked for it is over for all; the same hit sent twice counts once."""
    key = running.add_app()
    number = added(running, hits=2)["id"]
    first = hit(number)
    running.send(key, first)
    running.send(key, first)
    assert (
        running.get(f"/api/tracepoints/{number}")["tracepoint"]["hits"] == 1
        and len(ask_as_client(running, key)["set"]) == 1
    )
    running.send(key, hit(number))
    one = running.get(f"/api/tracepoints/{number}")["tracepoint"]
    assert not one["active"] and one["over"] == "it was hit 2 times, as often as was asked for"
    assert ask_as_client(running, key)["set"] == []


def test_its_time_ends_it(running: Running) -> None:
    """Nobody is told of it any more when its time is over; it is listed as that."""
    key = running.add_app()
    number = added(running, minutes=1)["id"]
    running.clock.ahead_ms += 61_000
    assert ask_as_client(running, key)["set"] == []
    assert running.get(f"/api/tracepoints/{number}")["tracepoint"]["over"] == "its time is over"


@pytest.mark.parametrize(
    ("more", "said"),
    [
        (
            {"condition": "quote(4)"},
            "condition: the condition cannot be read. At character 6: nothing of the app is called",
        ),
        ({"condition": "().__class__"}, "condition"),
        ({"condition": "1 <"}, "condition"),
        ({"values": ["passengers", "a +"]}, "values: the value 'a +' cannot be read"),
        ({"message": "fare {base"}, "message: At character 6: `{` is not closed"),
        ({"line": 0}, "line"),
        ({"minutes": 0}, "minutes"),
        ({"minutes": 60 * 25}, "minutes"),
        ({"hits": 0}, "hits"),
        ({"collect": ["tide"]}, "collect"),
        ({"hash": "xyz"}, "hash"),
    ],
)
def test_what_is_refused_before_it_reaches_any_app(running: Running, more: dict[str, Any], said: str) -> None:
    """A condition that cannot be read, a time to live that is none: the answer says which field, and nothing is set."""
    running.add_app()
    answer = running.ask("POST", "/api/apps/sailings/tracepoints", FARES | more)
    assert answer.status == 422 and answer.json()["slug"] == "bad-field" and said in answer.json()["detail"]
    assert running.get("/api/tracepoints")["tracepoints"] == []


def test_a_time_to_live_cannot_be_left_out(running: Running) -> None:
    """There is no tracepoint for ever, and no more than fifty in an app."""
    running.add_app()
    without = {name: value for name, value in FARES.items() if name != "minutes"}
    assert running.ask("POST", "/api/apps/sailings/tracepoints", without).status == 422
    for _ in range(50):
        added(running)
    answer = running.ask("POST", "/api/apps/sailings/tracepoints", FARES)
    assert answer.status == 409 and "end one first" in answer.json()["detail"]


def test_who_may(running: Running) -> None:
    """Readers see them, members set them, who does not see an app sees none of it, and a reporting key asks for nothing else."""
    key = running.add_app()
    running.add_app("gatekeeper")
    number = added(running)["id"]
    reader, member = invited(running, "reader", "Ishbel Ray"), invited(running, "member", "Una Rae")
    narrowed = invited(running, "member", "Tor Lind")
    assert running.ask("PUT", "/api/apps/sailings/people", {"people": ["Ishbel Ray", "Una Rae"]}).status == 200
    path = "/api/apps/sailings/tracepoints"
    assert ask_as(running, reader, "GET", f"/api/tracepoints/{number}").status == 200
    assert ask_as(running, narrowed, "GET", f"/api/tracepoints/{number}").status == 404
    assert ask_as(running, narrowed, "GET", "/api/tracepoints").json() == {"tracepoints": [], "instances": []}
    assert [ask_as(running, one, "POST", path, FARES).status for one in (reader, member, narrowed)] == [403, 201, 404]
    assert running.ask("GET", "/api/tracepoints", token=key).status == 403
    assert running.http.request("POST", running.url + "/tracepoints", json={"instance": "x"}).status == 401
