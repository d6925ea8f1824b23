"""The day of a report follows from the report alone; its number holds both, and both come back."""

from __future__ import annotations

import uuid

from hypothesis import given
from hypothesis import strategies as st

from obitus.core.clock import DAY_MS
from obitus.core.days import UNDATED, day_and_place, day_named, day_of, day_text, seq_of

MILLISECONDS = st.integers(-(2**60), 2**60)


def version_7(time_ms: int, rest: int = 0) -> bytes:
    """Return a UUIDv7 of that time."""
    return time_ms.to_bytes(6, "big") + bytes([0x70, rest % 256, 0x80, 1, 2, 3, 4, 5, 6, 7])


@given(st.integers(946_684_800_000, 4_102_444_799_999), MILLISECONDS)
def test_the_time_in_the_id_decides(made_ms: int, time_ms: int) -> None:
    """Whatever the report says about when it happened, and whatever is corrected of that later."""
    assert day_of(version_7(made_ms), time_ms) == made_ms // DAY_MS


@given(st.uuids(version=4), MILLISECONDS)
def test_other_ids_say_nothing(one: uuid.UUID, time_ms: int) -> None:
    """Then the report's own time counts, and a time that is none leads to the undated day."""
    day = day_of(one.bytes, time_ms)
    assert day == (time_ms // DAY_MS if 946_684_800_000 <= time_ms < 4_102_444_800_000 else UNDATED)
    assert day_named(day_text(day)) == day


def test_an_id_of_the_year_1970_says_nothing() -> None:
    """A clock that was never set makes ids that are no times; the report's time may have been corrected by its app."""
    assert day_of(version_7(5), 1_790_000_000_000) == 1_790_000_000_000 // DAY_MS
    assert day_of(version_7(2**48 - 1), -1) == UNDATED


@given(st.integers(0, 47_000), st.integers(1, 2**32 - 1))
def test_a_number_is_a_day_and_a_place(day: int, place: int) -> None:
    """Numbers of later days are greater, and stay below what a JavaScript number holds exactly."""
    seq = seq_of(day, place)
    assert day_and_place(seq) == (day, place) and seq < seq_of(day + 1, 1) and seq < 2**53


def test_names_of_files() -> None:
    """What is no day's name is none."""
    assert day_text(20_783) == "2026-11-26" and day_named("2026-11-26") == 20_783
    assert [day_named(name) for name in ("obitus", "2026-13-01", "20261126", "undated")] == [None, None, None, 0]
