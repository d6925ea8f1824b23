"""How much may come with a key in a day: counted on disk, seen before it is reached, refused beyond it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.service.intake.day_use import Use
from obitus.service.settings import Limits
from obitus.store import key_use
from obitus.store.errors import StoreBroken
from obitus.store.intake.taking import take
from tests.conftest import Running, failure, start

PIER = "https://pier.skerry.example"


def today(running: Running, app: str = "sailings") -> dict[str, Any]:
    """Return what is said of an app's latest key."""
    answer: dict[str, Any] = running.get(f"/api/apps/{app}")["keys"][-1]["today"]
    return answer


def key_number(running: Running) -> int:
    """Return the number of the key of ``sailings``."""
    return int(running.get("/api/apps/sailings")["keys"][0]["id"])


def test_a_day_is_full_and_the_next_is_not(tmp_path: Path) -> None:
    """Reports and bytes are counted as they are sent, also over a restart; what is beyond the bound is refused with a time, and seen in Set-up."""
    limits = Limits(reports_a_day_of_a_key=5)
    thread, running = start(tmp_path / "data", limits=limits)
    key = running.add_app()
    body = [failure() for _ in range(3)]
    assert running.send(key, *body).status == 200
    size = len(b"\n".join(json.dumps(one).encode() for one in body))
    said = today(running)
    assert (said["reports"], said["bytes"], said["most_reports"], said["part"]) == (3, size, 5, 0.6)
    running.http.clear()
    thread.stop()
    thread, running = start(tmp_path / "data", limits=limits)
    try:
        assert today(running)["reports"] == 3, "a restart forgets nothing"
        assert running.send(key, failure(), failure()).status == 200
        refused = running.send(key, failure())
        assert refused.status == 429 and refused.json()["type"].endswith("day-full"), refused.data
        assert 0 < int(refused.headers["Retry-After"]) <= 300
        assert "5 reports" in refused.json()["detail"] and today(running)["part"] == 1
        assert running.get("/api/apps/sailings")["last_refusal"]["slug"] == "day-full"
        for path, media in (("/v1/logs", "application/json"), ("/v1/traces", "application/x-protobuf")):
            headers = {"Authorization": f"Bearer {key}", "Content-Type": media}
            answer = running.http.request("POST", running.url + path, body=b"{}", headers=headers)
            assert answer.status == 429 and answer.headers["Retry-After"]
        # Other keys go on.
        assert running.send(running.add_app("gatekeeper"), failure()).status == 200
        running.clock.ahead_ms = DAY_MS
        assert today(running)["reports"] == 0
        assert running.send(key, failure()).status == 200 and today(running)["reports"] == 1
        assert [row.reports for row in key_use.of_day(running.service.records.reader, running.clock() // DAY_MS).values()] == [1]  # fmt: skip
    finally:
        running.http.clear()
        thread.stop()


def test_a_key_has_a_bound_of_its_own(running: Running) -> None:
    """Somebody who administers says how much may come with a key; it holds at once, is on record, and goes back to what holds for all."""
    key = running.add_app()
    assert running.send(key, failure()).status == 200
    path = f"/api/apps/sailings/keys/{key_number(running)}/day"
    usual = today(running)
    answer = running.ask("PUT", path, {"reports": None, "bytes": 100})
    assert answer.status == 200 and answer.json()["keys"][0]["today"]["part"] > 1
    assert "100 bytes as sent" in running.send(key, failure()).json()["detail"]
    assert "100 bytes a day" in next(act["subject"] for act in running.get("/api/acts")["acts"] if act["act"] == "bounded key")  # fmt: skip
    assert running.ask("PUT", path, {"reports": None, "bytes": None}).status == 200
    assert running.send(key, failure()).status == 200
    assert today(running)["most_bytes"] == usual["most_bytes"]
    for wrong in ({"reports": 0, "bytes": None}, {"reports": 1}, {"reports": "many", "bytes": None}):
        assert running.ask("PUT", path, wrong).status == 422
    assert running.ask("PUT", "/api/apps/sailings/keys/999/day", {"reports": 1, "bytes": None}).status == 404
    token = running.ask("POST", "/api/me/tokens", {"label": "reads", "scope": "read", "days": 1}).json()["token"]
    assert running.ask("PUT", path, {"reports": 1, "bytes": None}, token=token).status == 403


def test_a_key_for_pages_may_bring_a_tenth(running: Running) -> None:
    """Everybody can read it."""
    running.add_app("pierboard")
    whole = today(running, "pierboard")
    assert running.ask("POST", "/api/apps/pierboard/keys", {"origins": [PIER]}).status == 201
    found = [one["today"] for one in running.get("/api/apps/pierboard")["keys"] if one["origins"]]
    assert [(one["most_reports"], one["most_bytes"]) for one in found] == [(whole["most_reports"] // 10, whole["most_bytes"] // 10)]  # fmt: skip


def test_it_is_said_when_a_day_will_be_full(running: Running) -> None:
    """From a fifth of the bound on, at the pace of the day so far; not where the day ends before."""
    key = running.add_app()
    assert running.send(key, *[failure() for _ in range(10)]).status == 200
    path = f"/api/apps/sailings/keys/{key_number(running)}/day"
    # Six in the morning, UTC, of the same day.
    running.clock.ahead_ms = 6 * HOUR_MS - running.clock() % DAY_MS

    def said(most: int) -> Any:
        return running.ask("PUT", path, {"reports": most, "bytes": None}).json()["keys"][0]["today"]["full"]

    assert said(20)[11:16] in ("11:59", "12:00") and said(39)[11:13] == "23"
    assert said(45) is None and said(51) is None


def test_what_the_store_refused_does_not_count(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """The day's count is written with the reports, or not at all; what is tried again counts once."""
    key = running.add_app()
    real = take

    def breaks(connection: Any, days: Any, prepared: Any) -> Any:
        if len(prepared) > 1:
            raise StoreBroken("made up")
        return real(connection, days, prepared)

    body = [failure() for _ in range(3)]
    with monkeypatch.context() as patch:
        patch.setattr("obitus.service.intake.writing.take", breaks)
        assert running.send(key, *body).status == 200
    size = len(b"\n".join(json.dumps(one).encode() for one in body))
    assert (today(running)["reports"], today(running)["bytes"]) == (3, size)
    (row,) = key_use.of_day(running.service.records.reader, running.clock() // DAY_MS).values()
    assert (row.reports, row.bytes) == (3, size)


def test_bytes_count_with_the_first_report_that_is_kept(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """Also where the first of a body is one that the store refuses for itself."""
    key, body, real = running.add_app(), [failure() for _ in range(3)], take
    first = bytes.fromhex(body[0]["id"].replace("-", ""))

    def breaks(connection: Any, days: Any, prepared: Any) -> Any:
        if any(one.id == first for one in prepared):
            raise StoreBroken("made up")
        return real(connection, days, prepared)

    with monkeypatch.context() as patch:
        patch.setattr("obitus.service.intake.writing.take", breaks)
        assert running.send(key, *body).json()["stored"] == 2
    size = len(b"\n".join(json.dumps(one).encode() for one in body))
    assert (today(running)["reports"], today(running)["bytes"]) == (2, size)


def test_the_nearer_bound_counts() -> None:
    """Whichever of reports and bytes is nearer to its bound."""
    assert Use(1, 90, 10, 100).part == 0.9 and Use(7, 10, 10, 100).part == 0.7
