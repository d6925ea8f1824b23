"""Times as log writers put them before lines: each form of one moment is that moment, and what is none is none."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta, timezone
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.clock import to_ms
from obitus.core.log_files.times import time_of

OSLO = ZoneInfo("Europe/Oslo")
MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
MOMENTS = st.datetimes(datetime(2001, 9, 10), datetime(2100, 1, 1)).map(lambda at: at.replace(tzinfo=UTC, microsecond=at.microsecond // 1000 * 1000))  # fmt: skip
ZONES = st.sampled_from([0, 60, 120, 330, 345, -480, -210]).map(lambda minutes: timezone(timedelta(minutes=minutes)))


def offset(at: datetime, colon: str = "") -> str:
    written = at.strftime("%z")
    return written[:3] + colon + written[3:]


@given(MOMENTS, ZONES)
def test_forms_with_an_offset(moment: datetime, zone: timezone) -> None:
    """RFC 3339, the common log format, with a comma or a point, a blank or a T: whatever zone holds for others."""
    at, day = moment.astimezone(zone), moment.astimezone(zone)
    clock, fraction = at.strftime("%H:%M:%S"), f"{at.microsecond // 1000:03d}"
    for written in (
        f"{at:%Y-%m-%d}T{clock}.{fraction}{offset(at, ':')}", f"{at:%Y-%m-%d} {clock},{fraction} {offset(at)}", f"{at:%Y/%m/%d} {clock}.{fraction}000{offset(at)}",
        f"{moment:%Y-%m-%d}T{moment:%H:%M:%S}.{fraction}Z", f"{moment:%Y-%m-%d} {moment:%H:%M:%S}.{fraction} UTC", f"{moment.timestamp():.3f}", f"{int(moment.timestamp())}{fraction}", f"{int(moment.timestamp())}{fraction}000", f"{int(moment.timestamp())}{fraction}000000",
    ):  # fmt: skip
        assert time_of(written, OSLO, 0) == to_ms(moment), written
    whole = to_ms(moment) // 1000 * 1000
    for written in (
        f"{day.day:02d}/{MONTHS[day.month - 1]}/{day.year}:{clock} {offset(at)}",
        f"{int(moment.timestamp())}",
    ):
        assert time_of(written, OSLO, 0) == whole, written


@given(MOMENTS, st.sampled_from([UTC, OSLO, timezone(timedelta(hours=5, minutes=30))]))
def test_forms_without_an_offset(moment: datetime, zone: timezone) -> None:
    """They are in the zone that is said; in the hour that a change of clocks repeats, one of both is meant."""
    at = moment.astimezone(zone)
    month = MONTHS[at.month - 1]
    whole = to_ms(moment) // 1000 * 1000
    for written in (f"{at:%Y-%m-%d %H:%M:%S}", f"{at.day:02d}-{month}-{at.year} {at:%H:%M:%S}", f"{month} {at.day}, {at.year} {at:%H:%M:%S}", f"{month} {at.day:2d} {at:%H:%M:%S} {at.year}"):  # fmt: skip
        assert time_of(written, zone, 0) in (whole, whole - 3_600_000 * (at.fold or 0)), written


@given(MOMENTS, st.timedeltas(timedelta(0), timedelta(days=300)))
def test_a_year_that_is_not_said(moment: datetime, later: timedelta) -> None:
    """It is the latest such time before the file was last written."""
    written = f"{MONTHS[moment.month - 1]} {moment.day:2d} {moment:%H:%M:%S}"
    about = min(moment + later, datetime(2100, 1, 1, tzinfo=UTC))
    if (moment.month, moment.day) != (2, 29):
        assert time_of(written, UTC, to_ms(about)) == to_ms(moment) // 1000 * 1000


@given(MOMENTS, st.timedeltas(timedelta(0), timedelta(hours=22)))
def test_a_day_that_is_not_said(moment: datetime, later: timedelta) -> None:
    """Likewise."""
    assert time_of(f"{moment:%H:%M:%S}", UTC, to_ms(moment + later)) == to_ms(moment) // 1000 * 1000


@pytest.mark.parametrize("written", ["", "now", "2026-02-30 10:00:00", "2026-11-25 24:00:00", "25/Foo/2026:10:00:00 +0000", "123", "2026-11-25T10", "10:61", "99999999999999999"])  # fmt: skip
def test_what_is_no_time(written: str) -> None:
    """It has none."""
    assert time_of(written, UTC, 0) is None


@given(st.text(alphabet="0123456789-/: TZ.,+JanDec", max_size=40))
def test_any_text(written: str) -> None:
    """Nothing is raised."""
    found = time_of(written, OSLO, 1_800_000_000_000)
    assert found is None or isinstance(found, int)
