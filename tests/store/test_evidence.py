"""Evidence: compressed, with a dictionary once there is one, and readable for ever."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import pytest

from obitus.service.jobs import housekeeping
from obitus.store.evidence import SAMPLES_TO_TRAIN, Evidence, add_dictionary
from tests.conftest import Running, failure, raised_in, start


@pytest.fixture
def unkept(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Running]:
    """A service whose housekeeping trains no dictionary of its own meanwhile."""
    monkeypatch.setattr(housekeeping, "EVERY_S", 3600)
    thread, found = start(tmp_path / "data")
    yield found
    found.http.clear()
    thread.stop()


@pytest.mark.long
def test_evidence_survives_a_dictionary(unkept: Running) -> None:
    """What was packed before a dictionary, and what is packed with it, reads the same; with it, it is smaller."""
    running = unkept
    service, key = running.service, running.add_app()
    before = failure(exceptions=raised_in("sailings.fares", "quote", message="no fare"))
    running.send(key, before)
    evidence = service.records.evidence
    for start_at in range(0, SAMPLES_TO_TRAIN, 500):
        running.send(
            key, *(failure(exceptions=raised_in("m", f"f{start_at + i}", message=f"row {i}")) for i in range(500))
        )
    assert evidence.wants_training()
    body = evidence.train()
    assert body is not None

    plain, _ = evidence.pack(json.dumps(before).encode())
    evidence.use(service.records.writer.run(lambda c: add_dictionary(c, body, 0)), body)
    assert not evidence.wants_training()
    packed, dictionary_id = evidence.pack(json.dumps(before).encode())
    assert dictionary_id == 1 and len(packed) < len(plain)
    after = failure(exceptions=raised_in("sailings.fares", "quote", message="no fare either"))
    running.send(key, after)
    for report in (before, after):
        assert running.get(f"/api/failures/{report['id']}")["report"]["exceptions"] == report["exceptions"]
    # A service that starts again finds the dictionary in the records.
    fresh = Evidence(service.records.reader, service.records.days)
    assert fresh.unpack(packed, 1) == json.dumps(before).encode() and fresh.pack(b"{}")[1] == 1


def test_records_outlive_a_restart(tmp_path: Path) -> None:
    """Everything is still there after the service was stopped and started."""
    thread, running = start(tmp_path / "data")
    report = failure()
    running.send(running.add_app(), report)
    thread.stop()
    thread, running = start(tmp_path / "data")
    try:
        assert running.get(f"/api/failures/{report['id']}")["report"]["id"] == report["id"]
    finally:
        thread.stop()
