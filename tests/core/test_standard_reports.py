"""What browsers report by themselves: each kind in the form that its standard gives, and whatever else comes."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.standard_reports import NoReports, read
from obitus.service.intake.formats import REPORT

NOW = 1_795_867_200_000
PAGE = "https://pier.skerry.example/sailings/4711?pass=p-102"


def told(kind: str, body: dict[str, Any], age: int = 0) -> bytes:
    """Return a body as a browser sends it."""
    return json.dumps([{"type": kind, "age": age, "url": PAGE, "user_agent": "Browser/1.0", "body": body}]).encode()


def test_a_crash_is_a_failure() -> None:
    """With its reason in words, at the time when it was, without what the address asked."""
    (found,) = read(
        told("crash", {"reason": "oom", "stack": "    at load (https://pier.skerry.example/app.js:3:4)"}, 60_000), NOW
    )
    assert (found["kind"], found["severity"]) == ("failure", "FATAL")
    assert (
        found["exceptions"][0]["message"] == "the page crashed: it ran out of memory"
        and "app.js" in found["exceptions"][0]["stack"]
    )
    assert (
        found["time"].startswith("2026-11-28T11:59")
        and found["attributes"]["url.full"] == "https://pier.skerry.example/sailings/4711"
    )
    assert "p-102" not in json.dumps(found)


POLICY = {"effectiveDirective": "script-src-elem", "blockedURL": "https://ads.example/x.js?who=p-102", "disposition": "enforce", "sourceFile": f"{PAGE}&a", "lineNumber": 4}  # fmt: skip
OLD_POLICY = {"csp-report": {"document-uri": PAGE, "violated-directive": "script-src-elem 'self'", "blocked-uri": "https://ads.example/x.js?who=p-102", "disposition": "enforce", "source-file": PAGE, "line-number": 4}}  # fmt: skip


@pytest.mark.parametrize("body", [told("csp-violation", POLICY), json.dumps(OLD_POLICY).encode()])
def test_a_breach_of_the_policy_is_a_log(body: bytes) -> None:
    """The older form too; the template leaves out what was blocked."""
    (found,) = read(body, NOW)
    assert (found["kind"], found["logger"], found["severity"]) == ("log", "browser.content_policy", "WARN")
    assert found["message"] == "content policy: script-src-elem blocked https://ads.example/x.js"
    assert (
        found["template"] == "content policy: script-src-elem blocked {address}"
        and found["attributes"]["code.line.number"] == 4
    )
    assert "p-102" not in json.dumps(found)


def test_old_and_unwise_code_is_a_log() -> None:
    """Deprecation and intervention, and kinds that nobody knows yet."""
    (old,) = read(
        told(
            "deprecation",
            {
                "id": "tide-sync",
                "message": "tideSync() goes away",
                "sourceFile": "https://pier.skerry.example/a.js",
                "lineNumber": 3,
            },
        ),
        NOW,
    )
    assert (old["logger"], old["message"], old["template"]) == (
        "browser.deprecation",
        "tideSync() goes away",
        "deprecation: tide-sync",
    )
    (new,) = read(told("berth-violation", {}), NOW)
    assert (new["logger"], new["message"]) == ("browser.report", "the browser reports berth-violation")


def test_a_request_that_never_arrived_is_a_refused_run_and_a_log() -> None:
    """Counted as often as the browser says that it stands for; one that arrived is counted alone."""
    tally, log = read(told("network-error", {"type": "tcp.timed_out", "phase": "connection", "method": "GET", "elapsed_time": 30_000, "sampling_fraction": 0.25}), NOW)  # fmt: skip
    assert (tally["entry_point"], tally["outcome"], tally["runs"]) == ("GET /sailings/{id}", "refused", 4)
    assert (
        log["message"] == "GET https://pier.skerry.example/sailings/4711: no answer: tcp.timed_out"
        and log["severity"] == "ERROR"
    )
    (fine,) = read(told("network-error", {"type": "ok", "method": "GET", "status_code": 200, "elapsed_time": 8, "sampling_fraction": 0.01}), NOW)  # fmt: skip
    assert (fine["outcome"], fine["runs"], fine["status"], fine["duration_ms_below"]) == ("ok", 100, 200, 10.0)
    tally, log = read(told("network-error", {"type": "http.error", "status_code": 503, "method": "POST"}), NOW)
    assert tally["status"] == 503 and log["message"].endswith("answered 503")


def test_sent_again_it_is_the_same() -> None:
    """A browser that tries again says a greater age: the id is the same."""
    body = {"reason": "unresponsive"}
    first, again, other = (
        read(told("crash", body, 100), NOW),
        read(told("crash", body, 45_100), NOW + 45_000),
        read(told("crash", body, 100), NOW + 45_000),
    )
    assert first[0]["id"] == again[0]["id"] != other[0]["id"]


@pytest.mark.parametrize("body", [b"{", b"7", b'{"type": "crash"}', b"[" * 5000, json.dumps([{}] * 101).encode()])
def test_what_is_no_report_is_refused(body: bytes) -> None:
    """In words."""
    with pytest.raises(NoReports, match=r"JSON|list|hold"):
        read(body, NOW)


JSON = st.recursive(st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=8), lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3), max_leaves=8)  # fmt: skip
NAMES = st.sampled_from(["reason", "stack", "type", "phase", "method", "status_code", "elapsed_time", "sampling_fraction", "message", "id", "effectiveDirective", "blockedURL", "sourceFile", "lineNumber", "server_ip"])  # fmt: skip
KINDS = st.sampled_from(["crash", "network-error", "csp-violation", "deprecation", "intervention", "x"])


@given(KINDS, st.dictionaries(NAMES, JSON, max_size=6), JSON, JSON)
def test_whatever_a_browser_says_can_be_taken(kind: str, body: dict[str, Any], age: Any, url: Any) -> None:
    """What comes of it is a report of this product's own form."""
    given_ = json.dumps([{"type": kind, "age": age, "url": url, "body": body}]).encode()
    for one in read(given_, NOW):
        REPORT.validate_json(json.dumps(one))
