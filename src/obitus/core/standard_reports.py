"""Reports that browsers send by themselves, as reports of Obitus: crashes as failures, policy violations,
deprecations and interventions as logs, network errors as refused runs, so that they show up as quiet failures.

Sources: W3C Reporting API (``application/reports+json``: type, age, url, user_agent, body; crash, deprecation and intervention reports), W3C Content Security
Policy Level 3 (``csp-violation``, and the older ``csp-report``), W3C Network Error Logging (``network-error``).
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any, Final
from urllib.parse import urlsplit

from obitus.core.bounds import DURATIONS_MS
from obitus.core.clock import to_text
from obitus.core.entry_points import entry_point
from obitus.core.ids import derived_id

MOST_REPORTS: Final = 100
"""Most reports of one body; browsers send fewer."""
MOST_AGE_MS: Final = 7 * 86_400_000
"""Browsers keep reports that they cannot send for some days."""
MOST_WEIGHT: Final = 1000
_SAME_MS: Final = 2000
"""A repeated report has the same time to within this span."""
_CRASHES: Final = {"oom": "it ran out of memory", "unresponsive": "it did not respond any more"}
_LOGS: Final = {
    "csp-violation": "browser.content_policy", "deprecation": "browser.deprecation", "intervention": "browser.intervention",
    "permissions-policy-violation": "browser.permissions_policy", "integrity-violation": "browser.integrity",
    "coep": "browser.embedder_policy", "coop": "browser.opener_policy", "document-policy-violation": "browser.document_policy",
}  # fmt: skip

Report = dict[str, Any]


class NoReports(ValueError):
    """Raised for a body in no supported form; the message says why."""


def read(body: bytes, now_ms: int) -> list[Report]:
    """Return the reports of a body; raises NoReports. Unknown kinds are skipped."""
    try:
        reports = json.loads(body)
    except (ValueError, RecursionError) as error:
        raise NoReports(f"this is no JSON: {error}") from None
    if isinstance(reports, dict) and isinstance(reports.get("csp-report"), dict):
        reports = [_of_old_policy(reports["csp-report"])]
    if not isinstance(reports, list):
        raise NoReports("a list of reports is expected, as the Reporting API sends it")
    if len(reports) > MOST_REPORTS:
        raise NoReports(f"a body may hold {MOST_REPORTS} reports")
    reports_made: list[Report] = []
    for report in reports:
        if isinstance(report, dict) and isinstance(report.get("type"), str) and isinstance(report.get("body"), dict):
            reports_made += _reports(report, report["type"], report["body"], now_ms)
    return reports_made


def _reports(given: Mapping[str, Any], kind: str, body: Mapping[str, Any], now_ms: int) -> Sequence[Report]:
    age_ms = _number(given, "age")
    time_ms = (now_ms - int(min(max(age_ms, 0), MOST_AGE_MS))) // _SAME_MS * _SAME_MS
    url = _address(_text(given, "url"))
    attributes: dict[str, Any] = {
        "url.full": url,
        "user_agent.original": _text(given, "user_agent"),
        "browser.report": kind,
    }

    def report(what: str, **more: Any) -> Report:
        content = json.dumps([what, given.get("url"), body], sort_keys=True, default=str)
        return {"kind": what, "id": derived_id(time_ms, kind, content), "time": to_text(time_ms), **more}

    if kind == "crash":
        reason = _text(body, "reason")
        message = f"the page crashed: {_CRASHES.get(reason, reason or 'the browser does not say why')}"
        link = {"type": "PageCrash", "message": message}
        stack = _text(body, "stack", 16_000)
        exceptions = [link | ({"stack": stack} if stack else {})]
        return [
            report("failure", severity="FATAL", captured_by="browser", exceptions=exceptions, attributes=attributes)
        ]
    if kind == "network-error":
        return _of_network(body, url, attributes, report)
    message, template = _said(kind, body)
    for name, source in (
        ("code.file.path", "sourceFile"),
        ("code.line.number", "lineNumber"),
        ("code.column.number", "columnNumber"),
    ):
        value = body.get(source)
        if isinstance(value, int) or (isinstance(value, str) and value):
            attributes[name] = _address(value) if isinstance(value, str) else value
    return [report("log", severity="WARN", logger=_LOGS.get(kind, "browser.report"), message=message, template=template, attributes=attributes)]  # fmt: skip


def _said(kind: str, body: Mapping[str, Any]) -> tuple[str, str]:
    """Return a browser's text, and the same without its varying parts."""
    if kind == "csp-violation":
        directive = _text(body, "effectiveDirective") or "a directive"
        blocked = _address(_text(body, "blockedURL")) or "something"
        how = "would have blocked" if body.get("disposition") == "report" else "blocked"
        return f"content policy: {directive} {how} {blocked}", f"content policy: {directive} {how} {{address}}"
    message = _text(body, "message", 1000) or f"the browser reports {kind}"
    named = _text(body, "id") or _text(body, "policyId") or _text(body, "featureId")
    template = f"{kind}: {named}" if named else ""
    return message, template


def _of_network(body: Mapping[str, Any], url: str, attributes: dict[str, Any], report: Any) -> list[Report]:
    """Return the reports of a network error: requests are counted as runs, a failed one is a log record too."""
    kind = _text(body, "type") or "unknown"
    method, status = _text(body, "method") or "GET", int(_number(body, "status_code"))
    fraction = _number(body, "sampling_fraction")
    runs = min(MOST_WEIGHT, max(1, round(1 / fraction))) if 0 < fraction <= 1 else 1
    took = _number(body, "elapsed_time")
    below = next((one for one in DURATIONS_MS if took < one), None)
    is_fine = kind == "ok" or (kind == "http.error" and status < 400)
    tally = report(
        "tally", entry_point=entry_point(method, url), outcome="ok" if is_fine else "refused", runs=runs,
        **({"status": status} if 0 < status < 600 else {}), **({"duration_ms_below": float(below)} if took > 0 and below else {}),
    )  # fmt: skip
    if is_fine:
        return [tally]
    phase = _text(body, "phase")
    attributes |= {
        "network.error": kind,
        "network.phase": phase,
        "server.address": _text(body, "server_ip"),
        "http.request.method": method,
    }
    if status:
        attributes["http.response.status_code"] = status
    host = urlsplit(url).netloc
    how = f"answered {status}" if kind == "http.error" else f"no answer: {kind}"
    log = report(
        "log", severity="ERROR", logger="browser.network", message=f"{method} {url}: {how}"[:1000],
        template=f"{method} {host}: {'answered' if kind == 'http.error' else kind}"[:500], attributes=attributes,
    )  # fmt: skip
    return [tally, log]


def _of_old_policy(report: Mapping[str, Any]) -> Report:
    """Return a report in the form from before the Reporting API."""
    names = {"effective-directive": "effectiveDirective", "blocked-uri": "blockedURL", "disposition": "disposition", "source-file": "sourceFile", "line-number": "lineNumber", "column-number": "columnNumber"}  # fmt: skip
    body = {new: report[old] for old, new in names.items() if old in report}
    body.setdefault("effectiveDirective", str(report.get("violated-directive", "")).partition(" ")[0])
    return {"type": "csp-violation", "url": report.get("document-uri", ""), "body": body}


def _text(values: Mapping[str, Any], name: str, most: int = 300) -> str:
    value = values.get(name)
    return value[:most] if isinstance(value, str) else ""


def _number(values: Mapping[str, Any], name: str) -> float:
    value = values.get(name)
    if isinstance(value, bool) or not isinstance(value, int | float) or not abs(value) < 1e15:
        return 0.0
    return float(value)


def _address(text: str) -> str:
    """Return an address without its query, which may identify the person."""
    return text.partition("?")[0].partition("#")[0][:500]
