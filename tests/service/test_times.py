"""Times at the edges: what is taken can be shown again, on every page; what cannot be is refused; old records are mended."""

from __future__ import annotations

import sqlite3
from datetime import UTC, datetime, timedelta, timezone
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from obitus.core.clock import FIRST_MS, LAST_MS, clock_skew_ms, to_ms, to_text
from obitus.store.migrations import MIGRATIONS, statement_file
from tests.conftest import Running, failure, start

ODD = [
    "0001-01-01T00:00:00Z", "0001-01-01T00:00:00+14:00", "9999-12-31T23:59:59.999Z", "9999-12-31T23:59:59-14:00", "1969-12-31T23:59:59Z",
    "2100-01-01T00:00:00Z", "2026-11-20T10:00:00", "2026-11-20", 1700000000, "now", "", None, [], "2026-02-30T00:00:00Z", "2026-11-20T10:00:00+99:00",
]  # fmt: skip
PAGES = ("/api/apps", "/api/issues?window=14d", "/api/releases?app=sailings", "/api/apps/sailings/releases/3.0.0", "/api/issues/1", "/api/apps/sailings/revisions")  # fmt: skip


def is_readable(running: Running) -> None:
    """Every page of the app answers."""
    for path in PAGES:
        answer = running.ask("GET", path)
        assert answer.status in (200, 404), (path, answer.data)


@given(st.datetimes(timezones=st.just(UTC)), st.integers(-1439, 1439))
def test_every_time_has_a_text(moment: datetime, minutes: int) -> None:
    """Year 1 to 9999, with any offset: to milliseconds, to text, and back where it has a year at all."""
    shown = moment.replace(tzinfo=timezone(timedelta(minutes=minutes)))
    ms = to_ms(shown)
    assert datetime.fromisoformat(to_text(ms)).tzinfo is not None
    assert isinstance(clock_skew_ms(shown.isoformat(), 1_700_000_000_000), int)
    if FIRST_MS <= ms < LAST_MS:
        assert to_ms(datetime.fromisoformat(to_text(ms))) == ms


@pytest.mark.parametrize("odd", ODD, ids=repr)
def test_odd_times_everywhere(running: Running, odd: Any) -> None:
    """In a deploy, a commit, a window, a sender's clock: refused in words or taken, never an error of ours, and all pages go on."""
    key = running.add_app()
    running.send(key, failure(release="3.0.0"))
    deploy = {"release": "3.0.0", "app": "sailings", "time": odd}
    commit = {"commits": [{"id": "a" * 40, "time": odd}]}
    for path, body in (("/api/deploys", deploy), ("/api/apps/sailings/commits/3.0.0", commit)):
        answer = running.ask("POST", path, body)
        assert answer.status in (201, 422), (path, answer.data)
        assert answer.status == 201 or answer.json()["slug"] in ("bad-field", "deploy-ahead")
    text = odd if isinstance(odd, str) else "x"
    for name in ("start", "end"):
        assert running.http.request(
            "GET",
            running.url + "/api/issues",
            fields={name: text},
            headers={"Authorization": f"Bearer {running.token}"},
        ).status in (200, 422)
    for header in (text, "x" * 5000):
        answer = running.send(key, failure(release="3.0.0"), headers={"Obitus-Clock": header})
        assert answer.status in (200, 422) and "verdict" in answer.json()["lines"][0], answer.data
    if isinstance(odd, str):
        for report in (failure(time=odd), failure(run={"entry_point": "x", "started": odd})):
            assert running.send(key, report).status in (200, 422)
    is_readable(running)


@settings(max_examples=30, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(moment=st.datetimes(min_value=datetime(1, 1, 2), max_value=datetime(9999, 12, 30)), hours=st.integers(-23, 23))
def test_what_is_stored_is_readable_again(running: Running, moment: datetime, hours: int) -> None:
    """Whatever time a deploy or a commit is told with, taken or not, all pages go on."""
    if not running.get("/api/apps")["apps"]:
        running.send(running.add_app(), failure(release="3.0.0"))
    text = moment.replace(tzinfo=timezone(timedelta(hours=hours))).isoformat()
    running.ask("POST", "/api/deploys", {"release": "3.0.0", "app": "sailings", "time": text})
    running.ask("POST", "/api/apps/sailings/commits/3.0.0", {"commits": [{"id": "b" * 40, "time": text}]})
    is_readable(running)


def test_old_records_are_mended(tmp_path: Path) -> None:
    """A store of version 5 that has a deploy of the year 1 opens again, and its pages do; what it has in older words is in today's."""
    connection = sqlite3.connect(tmp_path / "obitus.sqlite3")
    for step in MIGRATIONS[:5]:
        connection.executescript(statement_file(step))
    connection.executescript("""
        INSERT INTO apps (id, name, kind, created_ms) VALUES (1, 'sailings', 'fastapi', 1);
        INSERT INTO people (id, name, role, created_ms) VALUES (1, 'owner', 'owner', 1);
        INSERT INTO passes (hash, id, kind, person_id, label, created_ms) VALUES (x'01', 'a', 'token', 1, 'old', 1);
        INSERT INTO reporting_keys (app_id, environment, hash, hint, created_ms) VALUES (1, 'production', x'02', 'abcd', 1);
        INSERT INTO releases (id, app_id, version, first_ms) VALUES (1, 1, '3.0.0', -62135596800000);
        INSERT INTO deploys (app_id, release_id, environment, time_ms, inferred, canary, told_by)
          VALUES (1, 1, 'production', -62135596800000, 0, 0, 'owner');
        INSERT INTO issues (id, app_id, type, cause, place, message, entry_point, state, state_ms, settled_ms, first_ms, last_ms,
            first_seq, last_seq, failures, stragglers)
          VALUES (1, 1, 'Fog', '', '', '', '', 'settled', 1, 1, 1, 1, 1, 1, 1, 1);
        INSERT INTO settlings (issue_id, environment, how, time_ms) VALUES (1, '', 'next', 1);
        INSERT INTO grouping_rules (rule, person_id, created_ms) VALUES ('app=sailings type=Fog -> ignore frames */wrap.py', 1, 1);
        PRAGMA user_version = 5;""")
    connection.close()
    thread, running = start(tmp_path)
    try:
        is_readable(running)
        rows = running.service.records.reader.rows("SELECT time_ms FROM deploys")
        assert all(FIRST_MS <= row["time_ms"] < LAST_MS for row in rows)
        keys = running.service.records.reader.rows("SELECT may_deploy FROM reporting_keys")
        assert [row["may_deploy"] for row in keys] == [1]
        ends = running.service.records.reader.rows(
            "SELECT expires_ms FROM passes WHERE kind = 'token' ORDER BY created_ms"
        )
        assert ends[0]["expires_ms"] is not None
        (rule,) = running.get("/api/grouping-rules")["rules"]
        assert rule["rule"] == "skip frames */wrap.py when app=sailings type=Fog"
        assert running.service.intake.preparer.rules[0].text == rule["rule"]
        (row,) = running.service.records.reader.rows("SELECT how FROM settlings")
        assert row["how"] == "coming"
    finally:
        running.http.clear()
        thread.stop()
