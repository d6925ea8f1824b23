"""OpenTelemetry in: the real SDKs for Python and JavaScript as senders, and bodies that no SDK would send."""

from __future__ import annotations

import gzip
import json
import logging
import subprocess
import time
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from opentelemetry.exporter.otlp.proto.http import Compression
from opentelemetry.exporter.otlp.proto.http._log_exporter import OTLPLogExporter
from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import (
    ExportTraceServiceRequest,
    ExportTraceServiceResponse,
)
from opentelemetry.sdk._logs import LoggerProvider, LoggingHandler
from opentelemetry.sdk._logs.export import BatchLogRecordProcessor
from opentelemetry.sdk.resources import Resource
from opentelemetry.sdk.trace import TracerProvider
from opentelemetry.sdk.trace.export import SimpleSpanProcessor
from opentelemetry.trace import SpanKind

from obitus.core import telemetry
from obitus.core.telemetry.steps import MOST_KEPT_BYTES_OF_A_SENDER
from obitus.service.intake.export_bounds import WireTrouble, bounded_export, message
from tests import kept
from tests.conftest import Running

SENDER = Path(__file__).parent / "telemetry_js/send.mjs"
TRACE = "5b8efff798038103d269b633813fc60c"


def quote(fares: dict[str, int], kind: str) -> int:
    return fares[kind]


def reports(running: Running, kind: str) -> list[dict[str, Any]]:
    return kept.reports(running.service, kind)


def export(running: Running, key: str, body: bytes | str, path: str = "/v1/traces", **headers: str) -> Any:
    sent = {"Authorization": f"Bearer {key}", "Content-Type": "application/json"} | {
        n.replace("_", "-"): v for n, v in headers.items()
    }
    return running.http.request("POST", running.url + path, body=body, headers=sent)


def spans(*made: dict[str, Any], **resource: str) -> str:
    attributes = [{"key": name.replace("_", "."), "value": {"stringValue": value}} for name, value in resource.items()]
    return json.dumps(
        {"resourceSpans": [{"resource": {"attributes": attributes}, "scopeSpans": [{"spans": list(made)}]}]}
    )


def span(**fields: Any) -> dict[str, Any]:
    now = time.time_ns()
    return {"traceId": TRACE, "spanId": "eee19b7ec3c1b174", "name": "GET /quote", "kind": 2, "startTimeUnixNano": str(now - 5_000_000), "endTimeUnixNano": str(now)} | fields  # fmt: skip


def test_the_python_sdk(running: Running) -> None:
    """A span's exception is a failure with its stack, the span a run with its calls as steps, a log record a log."""
    key = running.add_app()
    headers, kinds = {"Authorization": f"Bearer {key}"}, ("lorry", "horse")
    resource = Resource.create({"service.name": "sailings", "service.version": "3.0.0"})
    tracers = TracerProvider(resource=resource)
    tracers.add_span_processor(
        SimpleSpanProcessor(OTLPSpanExporter(f"{running.url}/v1/traces", headers=headers, compression=Compression.Gzip))
    )
    tracer = tracers.get_tracer("sailings")
    attributes = {"http.request.method": "GET", "http.route": "/quote/{kind}", "http.response.status_code": 500}
    with pytest.raises(KeyError), tracer.start_as_current_span("GET", kind=SpanKind.SERVER, attributes=attributes):
        with tracer.start_as_current_span(
            "SELECT fares",
            kind=SpanKind.CLIENT,
            attributes={"db.system.name": "sqlite", "db.query.text": "SELECT * FROM fares"},
        ):
            pass
        with tracer.start_as_current_span("inner"):
            quote({}, kinds[0])
    loggers = LoggerProvider(resource=resource)
    loggers.add_log_record_processor(
        BatchLogRecordProcessor(OTLPLogExporter(f"{running.url}/v1/logs", headers=headers))
    )
    logger = logging.Logger("sailings.fares")
    with pytest.warns(DeprecationWarning):
        logger.addHandler(LoggingHandler(logger_provider=loggers))
    logger.warning("tide is %s m", 3)
    try:
        quote({}, kinds[1])
    except KeyError:
        logger.exception("no fare")
    loggers.force_flush()
    tracers.shutdown()
    loggers.shutdown()  # type: ignore[no-untyped-call]
    (issue,) = running.issues()
    assert (issue["type"], issue["failures"]) == ("KeyError", 2) and issue["place"].endswith("quote"), issue
    from_span, from_log = reports(running, "failure")
    assert (
        from_span["exceptions"][0]["frames"][-1]["source"]["line"] == "return fares[kind]" and not from_span["handled"]
    )
    assert (
        from_span["release"] == "3.0.0" and from_log["handled"] and from_log["attributes"]["log.message"] == "no fare"
    )
    (run,) = reports(running, "run")
    assert (run["run"]["entry_point"], run["run"]["outcome"], run["request"]["status"]) == (
        "GET /quote/{kind}",
        "failed",
        500,
    )
    assert [(step["kind"], step["message"]) for step in run["trail"]] == [("statement", "SELECT * FROM fares")]
    (log,) = reports(running, "log")
    assert (log["severity"], log["message"], log["logger"]) == ("WARN", "tide is 3 m", "sailings.fares")
    assert running.service.records.reader.one("SELECT SUM(runs) AS n FROM run_counts")["n"] == 1


@pytest.mark.parametrize("form", ["json", "proto"])
def test_the_javascript_sdk(running: Running, form: str) -> None:
    """The same from JavaScript, in both encodings; a key that may make apps puts it where the resource says."""
    running.add_app()
    made = running.ask("POST", "/api/apps/sailings/keys", {"environment": "production", "may_add_apps": True}).json()
    subprocess.run(["node", SENDER, running.url, made["key"], form], check=True, timeout=150)
    names = {
        (row["app"], row["type"], row["place"].rpartition(".")[2]) for row in running.issues(environment="staging")
    }
    assert ("pierboard", "TypeError", "level") in names and len(names) == 2, names
    (run,) = reports(running, "run")
    assert run["run"]["entry_point"] == "GET /board/{pier}" and [step["kind"] for step in run["trail"]] == ["http"]
    assert run["release"] == "3.1.0" and run["attributes"]["user.id"] == "p-7"
    assert [log["message"] for log in reports(running, "log")] == ["the board shows yesterday"]


def test_sending_again_adds_nothing(running: Running) -> None:
    """A sender that missed the answer sends the same export again."""
    event = {"name": "exception", "attributes": [{"key": "exception.type", "value": {"stringValue": "TideError"}}]}
    body, key = spans(span(events=[event])), running.add_app()
    for _ in range(2):
        assert export(running, key, body).json() == {}
    assert sorted(report["kind"] for report in kept.reports(running.service)) == ["failure", "run", "tally"]


def test_a_key_without_that_right_makes_no_apps(running: Running) -> None:
    """What names another app is taken for the key's own app and environment, and says what it was called."""
    key = running.add_app()
    assert (
        export(running, key, spans(span(), service_name="gatekeeper", deployment_environment_name="lab")).status == 200
    )
    (run,) = reports(running, "run")
    assert run["attributes"]["service.name"] == "gatekeeper"
    assert [app["name"] for app in running.get("/api/apps")["apps"]] == ["sailings"]
    (day,) = running.service.records.days.known()
    named = "SELECT text FROM runs JOIN texts ON texts.id = environment_id"
    assert [row["text"] for row in running.service.records.days.rows(day.day, named)] == ["production"]


def test_partial_success(running: Running) -> None:
    """What cannot be read is counted and said; the rest is kept."""
    key = running.add_app()
    answer = export(
        running, key, spans(span(), span(traceId="nonsense"), span(spanId="aaa19b7ec3c1b174", startTimeUnixNano="-5"))
    )
    assert answer.status == 200 and answer.json()["partialSuccess"]["rejectedSpans"] == "2"
    assert "record 2" in answer.json()["partialSuccess"]["errorMessage"] and len(reports(running, "run")) == 1
    message = ExportTraceServiceRequest()
    message.resource_spans.add().scope_spans.add().spans.add(trace_id=b"short", span_id=b"12345678")
    answer = export(running, key, message.SerializeToString(), Content_Type="application/x-protobuf")
    told = ExportTraceServiceResponse.FromString(answer.data)
    assert told.partial_success.rejected_spans == 1 and told.partial_success.error_message


def test_bad_bodies(running: Running) -> None:
    """Broken, cut off, huge or lying bodies get a status message in the sender's own encoding, and nothing is held."""
    key = running.add_app()
    proto = {"Content_Type": "application/x-protobuf"}
    # Field 1, two gigabytes announced, ten bytes sent.
    assert export(running, key, b"\x0a\xff\xff\xff\xff\x07" + b"x" * 10, **proto).status == 400
    broken = export(running, key, "{")
    assert broken.status == 400 and broken.json()["code"] == 3 and "not-otlp" in broken.json()["message"]
    assert export(running, key, "[" * 100_000).status == 400
    assert export(running, key, json.dumps({"resourceSpans": 7})).json() == {}
    bomb = gzip.compress(b" " * (40 * 1024 * 1024))
    assert export(running, key, bomb, Content_Encoding="gzip").status == 413
    assert export(running, key, gzip.compress(spans(span()).encode())[:-9], Content_Encoding="gzip").status == 400
    assert export(running, key, "{}", Content_Type="text/html").status == 415
    denied = export(running, "okey_wrong", b"", **proto)
    assert (
        denied.status == 401
        and denied.headers["content-type"] == "application/x-protobuf"
        and b"unknown-key" in denied.data
    )
    assert export(running, key, b"", "/v1/logs", **proto).status == 200
    assert running.service.intake.gate.bytes == 0 and running.service.intake.gate.requests == 0


JSON = st.recursive(st.none() | st.booleans() | st.integers() | st.text(max_size=8), lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(["spans", "scopeSpans", "resource", "attributes", "key", "value", "stringValue", "intValue", "traceId", "events", "status", "body", "logRecords", "scopeLogs"]), inner, max_size=4), max_leaves=20)  # fmt: skip


@given(JSON)
def test_any_shape_is_survived(shape: Any) -> None:
    """Whatever stands where the protocol wants lists and objects, translating ends with records or refusals."""
    for translate, name in ((telemetry.traces, "resourceSpans"), (telemetry.logs, "resourceLogs")):
        for wrapped in (
            {name: shape},
            {name: [shape]},
            {name: [{"scopeSpans": [{"spans": [shape]}], "scopeLogs": [{"logRecords": [shape]}]}]},
        ):
            list(translate(wrapped, 1_700_000_000_000, telemetry.Steps().of_sender("k")))


def test_earlier_names_and_runs_that_come_later(running: Running) -> None:
    """Spans with the names of before, exported one by one as they end: the run knows the failure of its inner step."""
    key = running.add_app()
    trace = "5b8aa5a2d2c872e8321cf37308d69df2"
    now_ns = time.time_ns()

    def export(span: dict[str, object]) -> None:
        common = {"traceId": trace, "startTimeUnixNano": str(now_ns), "endTimeUnixNano": str(now_ns + 5_000_000)}
        resource = {"attributes": [{"key": "service.name", "value": {"stringValue": "sailings"}}]}
        body = {"resourceSpans": [{"resource": resource, "scopeSpans": [{"spans": [common | span]}]}]}
        answer = running.ask("POST", "/v1/traces", body, token=key)
        assert answer.status == 200, answer.data

    def attribute(name: str, value: object) -> dict[str, object]:
        return {"key": name, "value": {"intValue" if isinstance(value, int) else "stringValue": value}}

    raised = [attribute("exception.type", "TypeError"), attribute("exception.message", "no level")]
    event = {"name": "exception", "timeUnixNano": str(now_ns), "attributes": raised}
    export({"spanId": "051581bf3cb55c13", "parentSpanId": "5fb397be34d26b51", "name": "handler", "kind": 1, "events": [event], "status": {"code": 2}})  # fmt: skip
    named = [attribute("http.method", "GET"), attribute("http.route", "/board/{pier}"), attribute("http.status_code", 500), attribute("http.url", "https://pier.example/board/eastholm")]  # fmt: skip
    export({"spanId": "5fb397be34d26b51", "name": "GET", "kind": 2, "attributes": named, "status": {"code": 2}})
    found = {report["kind"]: report for report in kept.reports(running.service)}
    assert found["run"]["run"]["entry_point"] == "GET /board/{pier}" and found["run"]["run"]["outcome"] == "failed"
    assert found["run"]["run"]["failures"] == [found["failure"]["id"]]
    assert found["run"]["request"]["method"] == "GET" and found["run"]["request"]["status"] == 500
    assert found["run"]["request"]["url"] == "https://pier.example/board/eastholm"


def test_a_scheduled_job_is_a_run(running: Running) -> None:
    """Nothing has called it, so its span is an internal one without a parent; spans inside of it are no runs."""
    key = running.add_app()
    now_ns = time.time_ns()
    times = {"startTimeUnixNano": str(now_ns), "endTimeUnixNano": str(now_ns + 5_000_000)}
    job, inner, called = "5fb397be34d26b51", "051581bf3cb55c13", "1f3a1e6f0d2b4c5e"
    raised = [{"key": "exception.type", "value": {"stringValue": "TideUnknown"}}]
    event = {"name": "exception", "timeUnixNano": str(now_ns), "attributes": raised}
    spans = [
        {"spanId": inner, "parentSpanId": job, "name": "write", "kind": 1, "events": [event], "status": {"code": 2}},
        {"spanId": called, "parentSpanId": job, "name": "GET", "kind": 3},
        {"spanId": job, "parentSpanId": "", "name": "nightly-manifest", "kind": "SPAN_KIND_INTERNAL", "status": {"code": 2}},
        {"spanId": "2" * 16, "parentSpanId": "not an id", "name": "cut off", "kind": 1},
        {"spanId": "3" * 16, "name": "HEAD", "kind": 3},
    ]  # fmt: skip
    traces = ["5b8aa5a2d2c872e8321cf37308d69df2"] * 3 + ["6" * 32, "7" * 32]
    body = {"resourceSpans": [{"scopeSpans": [{"spans": [{"traceId": trace} | times | span for trace, span in zip(traces, spans, strict=True)]}]}]}  # fmt: skip
    assert running.ask("POST", "/v1/traces", body, token=key).status == 200
    (run,) = kept.reports(running.service, "run")
    (failure,) = kept.reports(running.service, "failure")
    assert (run["run"]["entry_point"], run["run"]["outcome"]) == ("job nightly-manifest", "failed")
    assert run["run"]["failures"] == [failure["id"]] and failure["run"]["entry_point"] == "job nightly-manifest"
    rows = running.service.records.reader.rows("SELECT entry_point, outcome, runs FROM run_counts")
    assert [tuple(row) for row in rows] == [("job nightly-manifest", "failed", 1)]


def empties(levels: tuple[int, int, int]) -> bytes:
    """Return an export of so many resources with so many scopes with so many empty records, in protobuf."""

    resources, scopes, records = levels
    return message(1, message(2, b"\x12\x00" * records) * scopes) * resources


@pytest.mark.timeout(600)
@pytest.mark.parametrize("path", ["/v1/logs", "/v1/traces"])
@pytest.mark.parametrize("levels", [(1, 1, 400_000), (1, 20_000, 20), (50_000, 1, 5), (300, 300, 6)], ids=repr)
def test_exports_of_nothing(running: Running, path: str, levels: tuple[int, int, int]) -> None:
    """A million empty records cost what thousands cost, and partial success says that they were left out."""
    key = running.add_app()
    proto = {"Content_Type": "application/x-protobuf", "Content_Encoding": "gzip"}
    answer = export(running, key, gzip.compress(empties(levels)), path, **proto)
    assert answer.status in (200, 413), answer.data
    if answer.status == 200:
        assert b"left out" in answer.data
    assert len(kept.ids(running.service.records.days)) <= telemetry.MOST_RECORDS
    member = (
        '{"resourceLogs": [{"scopeLogs": [{"logRecords": ['
        if "logs" in path
        else '{"resourceSpans": [{"scopeSpans": [{"spans": ['
    )
    body = (member + ",".join(["{}"] * 300_000) + "]}]}]}").encode()
    answer = export(running, key, gzip.compress(body), path, Content_Encoding="gzip")
    assert answer.status in (200, 413)
    assert answer.status == 413 or "left out" in answer.json()["partialSuccess"]["errorMessage"]


def test_a_bounded_export_is_the_first_part_of_the_whole() -> None:
    """What is cut on the wire is what parsing the whole and taking the first would give."""
    from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest

    whole = ExportLogsServiceRequest()
    for r in range(3):
        resource = whole.resource_logs.add(schema_url=f"r{r}")
        for s in range(2):
            scope = resource.scope_logs.add(schema_url=f"s{s}")
            for n in range(5):
                scope.log_records.add(severity_text=f"{r}{s}{n}")
    data = whole.SerializeToString()
    assert bounded_export(data, 30, 3) == (data, 0)
    for most in range(31):
        cut, left_out = bounded_export(data, most, 3)
        read = ExportLogsServiceRequest.FromString(cut)
        texts = [record.severity_text for r in read.resource_logs for s in r.scope_logs for record in s.log_records]
        every = [record.severity_text for r in whole.resource_logs for s in r.scope_logs for record in s.log_records]
        assert texts == every[:most] and left_out == 30 - most
        assert [r.schema_url for r in read.resource_logs] == ["r0", "r1", "r2"]
    for broken in (b"\x0a\xff", b"\x0a\x05\x12", b"\xff" * 12, b"\x0b"):
        with pytest.raises(WireTrouble):
            bounded_export(broken, 5, 5)


def test_steps_are_bounded_by_bytes_and_by_key(running: Running) -> None:
    """However many steps one key sends, under whatever names, memory stays bounded, and another key keeps its own."""
    greedy, other = running.add_app("greedy"), running.add_app("other")
    kept = span(traceId="a" * 32, spanId="b" * 16, kind=3)
    assert export(running, other, spans(kept)).status == 200
    for n in range(12):
        calls = [span(traceId=f"{n * 1000 + i:032x}", spanId=f"{i + 1:016x}", kind=3, name="x" * 300, attributes=[{"key": "db.query.text", "value": {"stringValue": "y" * 1900}}, {"key": "db.system.name", "value": {"stringValue": "sqlite"}}]) for i in range(400)]  # fmt: skip
        assert export(running, greedy, spans(*calls)).status == 200
    steps = running.service.intake.steps
    assert steps.kept_bytes <= MOST_KEPT_BYTES_OF_A_SENDER + 10_000
    keys = {row["app"]: row["id"] for row in running.service.records.reader.rows("SELECT k.id, apps.name AS app FROM reporting_keys k JOIN apps ON apps.id = k.app_id")}  # fmt: skip
    assert any(steps.of_sender(str(keys["other"])).of(app, "a" * 32) for app in ("", "sailings", "pierboard", "other"))


@pytest.mark.parametrize(
    "resource",
    [
        {"attributes": [{"key": "service.name", "value": {"intValue": "abc"}}]},
        {"attributes": [{"key": "service.name", "value": {"stringValue": "\ud800"}}]},
        {"attributes": [{"key": "service.name", "value": {"stringValue": "1e-308"}}]},
        {"attributes": [{"key": "service.name", "value": {"kvlistValue": {"values": [{"key": "\ud800"}]}}}]},
        {"attributes": [{"key": "service.name", "value": {"stringValue": "../.."}}]},
        {"attributes": [{"key": "deployment.environment.name", "value": {"stringValue": "x" * 5000}}]},
    ],
    ids=repr,
)
def test_odd_names_of_services(running: Running, resource: Any) -> None:
    """What a service calls itself never breaks us, and the app that is made of it can be opened."""
    running.add_app()
    made = running.ask("POST", "/api/apps/sailings/keys", {"environment": "production", "may_add_apps": True}).json()
    body = json.dumps({"resourceLogs": [{"resource": resource, "scopeLogs": [{"logRecords": [{"body": {"stringValue": "x"}}]}]}]})  # fmt: skip
    answer = export(running, made["key"], body, "/v1/logs")
    assert answer.status == 200, answer.data
    for app in running.get("/api/apps")["apps"]:
        assert running.ask("GET", f"/api/apps/{app['name']}").status == 200, app["name"]


def test_one_export_makes_few_apps(running: Running) -> None:
    """A key that makes apps makes so many at once and so many in all; what else it names is reported for its own, and it is said."""
    running.add_app()
    made = running.ask("POST", "/api/apps/sailings/keys", {"environment": "production", "may_add_apps": True}).json()
    part = [
        {"resource": {"attributes": [{"key": "service.name", "value": {"stringValue": f"pier {n}"}}]}, "scopeLogs": [{"logRecords": [{"body": {"stringValue": "x"}}]}]}
        for n in range(100)
    ]  # fmt: skip
    assert export(running, made["key"], json.dumps({"resourceLogs": part}), "/v1/logs").status == 200
    assert len(running.get("/api/apps")["apps"]) == 21
    assert "new ones in one export" in running.get("/api/apps/sailings")["last_remark"]["reason"]
