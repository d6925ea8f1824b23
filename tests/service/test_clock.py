"""A jump of the service's own clock: right senders stay right, and a clock that was put right is followed."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
import urllib3

from obitus.core.clock import DAY_MS, to_text
from obitus.service.clock import FOLLOWED_MS, WAIT_MS, SteadyClock
from obitus.service.settings import system_clock_ms
from tests.conftest import failure, start


class Times:
    """A wall clock and a running time that a test moves."""

    def __init__(self) -> None:
        self.wall_ms, self.running_ms = 1_000_000_000_000, 5_000
        self.clock = SteadyClock(lambda: self.wall_ms, lambda: self.running_ms)

    def go_on(self, ms: int) -> int:
        """Let time go by, and return what time it is then."""
        self.wall_ms += ms
        self.running_ms += ms
        return self.clock()


def test_a_clock_that_is_corrected_bit_by_bit_is_followed() -> None:
    """However much that comes to."""
    times = Times()
    for _ in range(100):
        times.wall_ms += FOLLOWED_MS
        assert times.go_on(1000) == times.wall_ms


@pytest.mark.parametrize("jump_ms", [400 * DAY_MS, -DAY_MS])
def test_a_jump_waits_for_a_sender(jump_ms: int) -> None:
    """Who agrees with the time before keeps it; who agrees with the new one makes it hold; without any it holds in the end."""
    times = Times()
    before_ms = times.go_on(1000)
    times.wall_ms += jump_ms
    assert times.go_on(1000) == before_ms + 1000
    for _ in range(5):
        times.clock.note_sender(times.wall_ms - jump_ms + 500)
        assert times.go_on(WAIT_MS - 1) == times.wall_ms - jump_ms
    times.clock.note_sender(12)
    assert times.go_on(2) == times.wall_ms
    times.wall_ms += jump_ms
    assert times.go_on(1000) == times.wall_ms - jump_ms
    times.clock.note_sender(times.wall_ms - 500)
    assert times.go_on(1000) == times.wall_ms


def test_right_senders_are_not_corrected(tmp_path: Path) -> None:
    """The service's clock jumps 400 days ahead: who sends with the right time is taken as before, at the right time."""
    ahead_ms = 0
    clock = SteadyClock(lambda: system_clock_ms() + ahead_ms)
    thread, running = start(tmp_path)
    running.service._clock = clock
    try:
        key = running.add_app()

        def send() -> dict[str, object]:
            headers = {"Authorization": f"Bearer {key}", "Obitus-Clock": to_text(system_clock_ms())}
            body = json.dumps(failure()).encode()
            answer: dict[str, object] = urllib3.request(
                "POST", running.url + "/reports", body=body, headers=headers
            ).json()
            return answer

        assert send()["stored"] == 1
        ahead_ms = 400 * DAY_MS
        for _ in range(2):
            said = send()
            assert said["stored"] == 1 and "notes" not in said["lines"][0]  # type: ignore[index]
        (issue,) = running.get("/api/issues?window=1h")["issues"]
        assert issue["failures"] == 3
    finally:
        running.http.clear()
        thread.stop()
