"""Ids, times, severities and wording."""

from __future__ import annotations

from datetime import datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core import clock, wording
from obitus.core.ids import time_ms_of, uuid7
from obitus.core.severity import SEVERITIES, from_python_level


@given(st.integers(0, 2**48 - 1), st.binary(min_size=10, max_size=10))
def test_uuid7_carries_its_time(time_ms: int, noise: bytes) -> None:
    """A UUIDv7 says its version and variant, and gives its time back."""
    made = uuid7(time_ms, noise)
    assert made.version == 7 and made.variant == "specified in RFC 4122" and time_ms_of(made) == time_ms


def test_uuid7_needs_ten_bytes() -> None:
    """Too little randomness is an error, not a weak id."""
    with pytest.raises(ValueError, match="10 random bytes"):
        uuid7(1, b"short")


@given(st.integers(0, 4_000_000_000_000))
def test_times_survive_being_written(time_ms: int) -> None:
    """To text and back is the same millisecond."""
    assert clock.to_ms(datetime.fromisoformat(clock.to_text(time_ms))) == time_ms


@pytest.mark.parametrize(("text", "hours"), [("1h", 1), ("24h", 24), ("2d", 48), ("1w", 168), ("60m", 1), (" 6 H ", 6)])
def test_spans(text: str, hours: int) -> None:
    """Windows are said in minutes, hours, days or weeks."""
    assert clock.span_ms(text) == hours * clock.HOUR_MS


@given(st.text(max_size=8))
def test_what_is_no_span_is_none(text: str) -> None:
    """Anything else is None, never an error, never zero."""
    found = clock.span_ms(text)
    assert found is None or found > 0


def test_severities_follow_the_order_of_levels() -> None:
    """Python's levels fall onto the six severities, in their order."""
    found = [from_python_level(level) for level in (5, 10, 20, 25, 30, 40, 50, 99)]
    assert found == ["TRACE", "DEBUG", "INFO", "INFO", "WARN", "ERROR", "FATAL", "FATAL"]
    assert [SEVERITIES.index(s) for s in found] == sorted(SEVERITIES.index(s) for s in found)


def test_wording() -> None:
    """Counts and times as people say them."""
    assert wording.count_of(1, "failure") == "1 failure"
    assert wording.count_of(1204, "failure") == "1,204 failures"
    sizes = (1, 900, 1024, 1_500_000, 150 * 1024**2, 5000 * 1024**3)
    assert [wording.size(count) for count in sizes] == [
        "1 byte",
        "900 bytes",
        "1 KiB",
        "1.43 MiB",
        "150 MiB",
        "5,000 GiB",
    ]
    assert [wording.ago(0, ms) for ms in (0, 45_000, 720_000, 18_000_000, 260_000_000)] == ["just now", "45 s ago", "12 min ago", "5 h ago", "3 days ago"]  # fmt: skip
    assert wording.ago(120_000, 0) == "in 2 min"
