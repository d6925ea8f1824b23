"""Periodic work: one step that fails stops no other."""

from __future__ import annotations

import logging
from pathlib import Path

import pytest

from obitus.service.jobs import housekeeping
from obitus.store.evidence import Evidence
from tests.conftest import start, until


def test_a_step_that_fails_stops_no_other(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    """The first one fails at each turn, which the log says; the others are done all the same."""

    def broken(_: Evidence) -> bool:
        raise OSError("no dictionary today")

    looked: list[int] = []
    look = housekeeping.quiet.look
    monkeypatch.setattr(housekeeping.quiet, "look", lambda *given: looked.append(1) or look(*given))
    monkeypatch.setattr(housekeeping, "EVERY_S", 0.02)
    monkeypatch.setattr(Evidence, "wants_training", broken)
    caplog.set_level(logging.ERROR, "obitus.service")
    service, running = start(tmp_path / "data")
    try:
        until(lambda: looked)
    finally:
        running.http.clear()
        service.stop()
    assert any("housekeeping failed at train" in record.message for record in caplog.records)
