"""When messages go out: quiet hours by zone, silences, pauses, digests."""

from __future__ import annotations

import random
from datetime import datetime
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.alerting.pacing import (
    LONGEST_PAUSE_S,
    PacingTrouble,
    Silence,
    is_above_rate,
    is_weekly,
    next_digest_ms,
    pause_s,
    read_quiet_hours,
)
from obitus.core.clock import DAY_MS, HOUR_MS


def ms(text: str, zone: str = "Europe/Oslo") -> int:
    return round(datetime.fromisoformat(text).replace(tzinfo=ZoneInfo(zone)).timestamp() * 1000)


@pytest.mark.parametrize(
    ("hours", "now", "ends"),
    [
        ("22:00-07:00", "2026-11-26T21:59", None),
        ("22:00-07:00", "2026-11-26T22:00", "2026-11-27T07:00"),
        ("22:00-07:00", "2026-11-27T06:59", "2026-11-27T07:00"),
        ("22:00-07:00", "2026-11-27T07:00", None),
        ("sat,sun 00:00-24:00", "2026-11-28T15:00", "2026-11-29T00:00"),
        ("sat,sun 00:00-24:00", "2026-11-27T15:00", None),
        ("fri 22:00-07:00", "2026-11-28T03:00", "2026-11-28T07:00"),
        ("sat 22:00-07:00", "2026-11-28T03:00", None),
        # The clock goes back in this night, and ahead in the other: the night is an hour longer, or shorter.
        ("22:00-07:00", "2026-10-25T02:30", "2026-10-25T07:00"),
        ("22:00-07:00", "2026-03-29T03:30", "2026-03-29T07:00"),
    ],
)
def test_quiet_hours_are_by_the_persons_own_clock(hours: str, now: str, ends: str | None) -> None:
    """They end in the morning of their zone, whatever the season."""
    found = read_quiet_hours(hours, "Europe/Oslo").ends_ms(ms(now))
    assert found == (None if ends is None else ms(ends))


def test_what_are_no_hours_or_no_zone_is_said() -> None:
    """With what can be written instead."""
    for text, zone in (
        ("22-7", "UTC"),
        ("22:60-07:00", "UTC"),
        ("someday 22:00-07:00", "UTC"),
        ("22:00-07:00", "Mars/North"),
        ("22:00-07:00", "../etc/passwd"),
    ):
        with pytest.raises(PacingTrouble):
            read_quiet_hours(text, zone)


def test_a_silence_covers_what_it_names() -> None:
    """Of what is not named it covers all; of something whose app is unknown only a silence of all apps does."""
    whole = Silence(1, 100, 200, None, None, None, None)
    of_app = Silence(2, 100, 200, None, "sailings", None, None)
    of_rule = Silence(3, 100, 200, "slow", None, None, None)
    of_issue = Silence(4, 100, 200, None, None, "production", 7)

    def covers(
        silence: Silence,
        now_ms: int = 150,
        rule: str = "slow",
        app: str = "sailings",
        issue: int | None = 7,
        where: str = "production",
    ) -> bool:
        return silence.covers(
            rule, now_ms, apps=[app] if app else [], environments=[where] if where else [], issue=issue
        )

    assert covers(whole) and not covers(whole, 99) and not covers(whole, 200)
    assert covers(of_app) and not covers(of_app, app="gatekeeper") and not covers(of_app, app="")
    assert covers(of_rule) and not covers(of_rule, rule="new")
    assert (
        covers(of_issue)
        and not covers(of_issue, issue=8)
        and not covers(of_issue, issue=None)
        and not covers(of_issue, where="")
    )


@given(st.integers(1, 10_000), st.integers())
def test_pauses_grow_to_a_bound(tries: int, seed: int) -> None:
    """Each is at least as long as the one before without chance, and never longer than the bound and a quarter."""
    found = pause_s(tries, random.Random(seed))
    assert 2 <= found <= LONGEST_PAUSE_S * 1.25
    assert found >= min(LONGEST_PAUSE_S, 2.0 ** min(tries, 15))


def test_so_many_an_hour() -> None:
    """What is older than an hour does not count."""
    now = 10 * HOUR_MS
    assert is_above_rate([now - 1, now - 2], now, 2) and not is_above_rate([now - 1, now - HOUR_MS], now, 2)


def test_a_digest_is_due_at_its_time_of_day() -> None:
    """Each day or each week, by the clock of its zone; the next one is never now."""
    now = ms("2026-11-28T09:00")
    assert next_digest_ms("08:00", "Europe/Oslo", now) == ms("2026-11-29T08:00")
    assert next_digest_ms("10:30", "Europe/Oslo", now) == ms("2026-11-28T10:30")
    assert next_digest_ms("mon 08:00", "Europe/Oslo", now) == ms("2026-11-30T08:00")
    assert next_digest_ms("sat 09:00", "Europe/Oslo", now) == ms("2026-12-05T09:00")
    assert is_weekly("mon 08:00") and not is_weekly("08:00")
    at = now
    for _ in range(400):
        following = next_digest_ms("02:30", "Europe/Oslo", at)
        assert 0 < following - at <= DAY_MS + HOUR_MS
        at = following
