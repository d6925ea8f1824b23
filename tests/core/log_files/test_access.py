"""Access logs are counted many lines at a time; whatever stands in one, that must come to what reading line by line does."""

from __future__ import annotations

from collections import Counter
from datetime import UTC, timedelta, timezone, tzinfo
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.clock import DAY_MS
from obitus.core.log_files import common, meanings, requests
from obitus.core.log_files.common import Common
from obitus.core.log_files.meanings import meaning
from obitus.core.log_files.requests import Counts, LineForm
from obitus.core.log_files.w3c import Header, W3c

OFFSETS = st.sampled_from(["+0000", "+0200", "+0100", "-0800", "+0530", "+0545"])
SEGMENTS = st.sampled_from(
    ["sailings", "SK-4711", "SK-12", "v1", "v2", "v123", "a1", "b2!", "77", "5", "", "deadbeef", "d3adb33f", "x.js", "y2.css", "%41", "é7", "٣"]
)  # fmt: skip
TARGETS = st.sampled_from(["/", "/sailings/SK-4711/boardings?seat=1", "/a.js", "/gates[]=1", "/[01/Nov/2026:00"]) | st.builds(
    lambda parts, query: "/" + "/".join(parts) + query, st.lists(SEGMENTS, max_size=5), st.sampled_from(["", "?a=1", "?b?c", "#d"])
)  # fmt: skip
STATUSES = st.sampled_from([200, 200, 200, 200, 204, 206, 301, 304, 404, 503])
ODD = st.sampled_from(
    [
        "",
        "not a request",
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET /cut',
        '10.0.0.1 - - [99/Foo/2026:10:00:00 +0000] "GET / HTTP/1.1" 200 5',
        '10.0.0.1 - - [2026-11-25T10:00:00+01:00] "GET /tides HTTP/1.1" 503 5',
        '10.0.0.1 - - [25/Nov/2026:10:00:00] "GET /no/offset HTTP/1.1" 200 5',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "-" 400 0',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "\\x16\\x03" 400 0 "-" "-"',
        '10.0.0.1 - odd [user] [25/Nov/2026:10:00:00 +0000] "GET / HTTP/1.1" 200 5',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET / HTTP/1.1" 200 5 "-" "a" "b" 502 0.1',
        '"quoted" and no more',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET /a\\" 404 7 HTTP/1.1" 200 5',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET /a\\\\" 404 7',
        *(
            f'10.0.0.1 - - [25/Nov/2026:10:{minute}:00 +0000] "GET / HTTP/1.1" {status} 5'
            for minute in ("10", "/0", "1/", "-1", "60", "5:", "٣٣")
            for status in ("200", "2/0", "20:", "2 0", "50*")
        ),
        '10.0.0.1 - - [25/Nov/2026:10:61:00 +0000] "GET / HTTP/1.1" 200 5',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET / HTTP/1.1" 200 many',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET /no/protocol" 200 5',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "get /low HTTP/1.1" 200 5',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET  HTTP/1.1" 200 -',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "PROPFIND /dir/a HTTP/1.1" 207 -',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "MOVING /eight/l HTTP/1.1" 200 -',
        f'10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET /{"long/" * 200} HTTP/1.1" 500 -',
        f'10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET /{"long/" * 200}end HTTP/1.1" 200 -',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET /tab\tand\x01 HTTP/1.1" 200 -',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET /\u00e9?a=b?c HTTP/1.1" 200 -',
        '10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET /carriage HTTP/1.1" 200 -\r',
    ]
)


@st.composite
def common_lines(draw: st.DrawFn) -> list[str]:
    """Lines of several hours, mostly in order, in blocks of one offset, with odd ones between them."""
    lines = []
    for _ in range(draw(st.integers(1, 5))):
        offset, hour, times = draw(OFFSETS), draw(st.integers(0, 23)), draw(st.integers(1, 12))
        for i in range(times):
            target, status = draw(TARGETS), draw(STATUSES)
            agent = draw(st.sampled_from(["", ' "-" "Mozilla/5.0 (X11)"', ' "-" "say \\"hi\\" 404 "']))
            at = f"25/Nov/2026:{hour:02d}:{i * 5 % 60:02d}:07 {offset}"
            lines.append(f'10.0.0.{i} - - [{at}] "GET {target} HTTP/1.1" {status} {i}{agent}')
            if draw(st.integers(0, 9)) == 0:
                lines.append(draw(ODD))
    return lines


def line_by_line(form: LineForm, data: bytes) -> tuple[Counter[tuple[int, str, int]], list[int], int]:
    """Return counts, places of what did not go well, and how many lines cannot be read: the slow and simple way."""
    runs: Counter[tuple[int, str, int]] = Counter()
    told, unreadable, place = [], 0, 0
    for line in data.split(b"\n"):
        request = form.request(line) if line.strip() else None
        if request is not None:
            runs[request.hour_ms, request.entry_point, request.status] += 1
            if request.status >= 400:
                told.append(place)
        elif line.strip():
            unreadable += 1
        place += len(line) + 1
    return runs, told, unreadable


def first_well(form: LineForm, data: bytes) -> dict[tuple[int, str], int]:
    """Return by day and entry point the place of the first line that went well: the slow and simple way."""
    found: dict[tuple[int, str], int] = {}
    place = 0
    for line in data.split(b"\n"):
        request = form.request(line) if line.strip() else None
        if request is not None and request.status < 400:
            found.setdefault((request.hour_ms // DAY_MS, request.entry_point), place)
        place += len(line) + 1
    return found


def seen_in(counts: Counts) -> tuple[Counter[tuple[int, str, int]], list[int], int]:
    """Return the same of what was counted many lines at a time."""
    return counts.runs, sorted(told.place for told in counts.whole_lines), counts.unreadable


@pytest.mark.parametrize("zone", [UTC, ZoneInfo("Europe/Oslo"), timezone(timedelta(hours=5, minutes=30))], ids=str)
def test_many_at_a_time_is_one_at_a_time(zone: tzinfo, monkeypatch: pytest.MonkeyPatch) -> None:
    """Hours in any order, offsets that change and are no whole hours, garbage between: the same runs, told at the same places."""

    @given(common_lines(), st.integers(60, 4000))
    def same(lines: list[str], step: int) -> None:
        monkeypatch.setattr(requests, "STEP_BYTES", step)
        data, form = ("\n".join(lines) + "\n").encode(), Common(zone, 1_800_000_000_000)
        counts, only_counted = form.read(data), form.read(data, tells=False)
        assert seen_in(counts) == line_by_line(form, data)
        assert only_counted.runs == counts.runs and only_counted.whole_lines == []
        assert only_counted.not_well == counts.not_well == len(counts.whole_lines)
        assert counts.lines == sum(1 for line in lines if line.strip()) or counts.unreadable == 0
        assert all(told.form.request(told.line) is not None for told in counts.whole_lines)
        assert {which: told.place for which, told in counts.well.items()} == first_well(form, data)
        assert only_counted.well == {}

    same()


def test_a_line_without_its_end() -> None:
    """The last line of a file may have no newline; it counts."""
    line = b'10.0.0.1 - - [25/Nov/2026:10:00:00 +0000] "GET / HTTP/1.1" 503 5'
    counts = Common(UTC, 0).read(line + b"\n" + line)
    assert counts.lines == 2 and counts.runs.total() == 2 and [told.line for told in counts.whole_lines] == [line, line]
    assert common.is_line(line) and not common.is_line(b"another")


FIELDS = st.sampled_from(
    [
        "date time s-ip cs-method cs-uri-stem cs-uri-query sc-status sc-substatus sc-win32-status time-taken",
        "date time cs-method cs-uri sc-status",
        "time cs-method cs-uri-stem sc-status sc-bytes",
        "time c-ip cs-method cs-uri-stem sc-status",
        "cs-method date time cs-uri-stem sc-status",
        "time date cs-method cs-uri-stem sc-status sc-bytes",
        "date time cs-method cs-uri-stem sc-status sc-status sc-bytes",
        "date time cs-method cs-uri cs-uri-stem sc-status sc-bytes",
        "date time c-ip",
    ]
)
W3C_ODD = st.sampled_from(
    [
        "",
        "2026-11-25",
        "2026-11-25 10:00:00",
        "2026-13-45 10:00:00 GET / 200",
        "x y",
        "- - - - -",
        "\t",
        "#",
        "2026-11-25 10:00:00 10.0.0.4 GET /a\tb - 200 0 0 15",
        "2026-11-25 10:00:00 10.0.0.4 GET /a  200 0 0 15",
        "2026-11-25 10:00:00 10.0.0.4 GET /a\u00a0b n=1 404 0 0 15",
        "2026-11-25 10:00:00.125 10.0.0.4 GET /a?b - 200 0 0 15",
        "2026-11-25 10:00:00 10.0.0.4 GET /a - 200 0  15",
        "2026-11-25 10:00:00 GET /a?b 200 ",
        "2026-11-25 10:60:00 GET /a?b 200",
    ]
)


@st.composite
def w3c_lines(draw: st.DrawFn) -> list[str]:
    """Blocks, each behind a header of its own; the first may have none."""
    lines: list[str] = []
    for block in range(draw(st.integers(1, 4))):
        fields = draw(FIELDS).split()
        if block or draw(st.booleans()):
            lines += ["#Date: 2026-11-24 08:00:00", f"#Fields: {' '.join(fields)}"]
        hour = draw(st.integers(0, 25))
        for i in range(draw(st.integers(0, 10))):
            value = {
                "date": "2026-11-25", "time": f"{hour:02d}:{i * 7 % 63:02d}:01", "cs-method": draw(st.sampled_from(["GET", "POST", "-"])),
                "cs-uri-stem": draw(st.sampled_from(["/gates/7", "/", "-", "/a.css"])), "cs-uri": draw(st.sampled_from(["/fares/3?x=1", "/fares/4", "-", "http://pier/x"])), "sc-status": str(draw(STATUSES)),
            }  # fmt: skip
            lines.append(" ".join(value.get(name, "0") for name in fields))
            if draw(st.integers(0, 9)) == 0:
                lines.append(draw(W3C_ODD))
    return lines


@pytest.mark.parametrize("end", ["\n", "\r\n"], ids=["unix", "windows"])
def test_fields_in_any_order(end: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """Whatever fields a header names, and where it changes: what is counted is what each line says."""

    @given(w3c_lines(), st.integers(40, 3000))
    def same(lines: list[str], step: int) -> None:
        monkeypatch.setattr(requests, "STEP_BYTES", step)
        data = "".join(line + end for line in lines).encode()
        wanted_runs: Counter[tuple[int, str, int]] = Counter()
        wanted_told, unreadable, place, header = [], 0, 0, Header()
        for line in data.split(b"\n"):
            if line.startswith(b"#"):
                header = header.after(line)
            else:
                runs, told, odd = line_by_line(header, line)
                wanted_runs += runs
                wanted_told += [place for _ in told]
                unreadable += odd
            place += len(line) + 1
        form = W3c()
        counts = form.read(data)
        assert seen_in(counts) == (wanted_runs, wanted_told, unreadable) and counts.not_well == len(wanted_told)
        assert form.header == header
        cut = data.rfind(b"\n", 0, len(data) // 2) + 1
        form, behind = W3c(), W3c()
        behind.pass_over(data[:cut])
        before = seen_in(form.read(data[:cut]))
        assert behind.header == form.header
        rest = seen_in(form.read(data[cut:]))
        places = before[1] + [cut + place for place in rest[1]]
        assert (before[0] + rest[0], places, before[2] + rest[2]) == seen_in(counts)

    same()


def test_what_statuses_mean() -> None:
    """By the sub-status where it is known, also with the system's own code behind it; else by the status; else nothing."""
    assert "configuration file" in meaning(500, "500.19") == meaning(500, "500.19.5")
    assert meaning(500, "500.77") == meaning(500) == "something failed" and meaning(299) == meaning(599, "x") == ""
    assert all(
        said == said.strip() and said[-1] != "." for said in (*meanings.STATUSES.values(), *meanings.DETAILS.values())
    )
