"""Health, the live stream, the API's description, and fuzzing it against itself."""

from __future__ import annotations

import json
import subprocess
import sys
import threading
import time
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings

from obitus.service import describe
from obitus.service.alerting.rendering import GIVEN_UP_S
from obitus.service.intake import formats
from obitus.service.pages.description import FILE
from obitus.service.problems import PROBLEMS
from obitus.service.settings import Limits
from obitus.store.errors import StoreError
from tests.conftest import Running, failure, start

ROOT = Path(__file__).parents[2]


def test_health_tells_live_and_ready_apart(running: Running) -> None:
    """A service whose writer has stopped lives, but is not ready, and says why."""
    assert running.get("/health")["ready"] is True
    running.service.records.writer.close()
    answer = running.ask("GET", "/health")
    assert answer.status == 503
    assert answer.json()["live"] is True and answer.json()["ready"] is False and answer.json()["reasons"]


def test_live_stream_tells_of_a_commit(running: Running) -> None:
    """A listener hears of a new issue right after it was taken, and of decisions."""
    key = running.add_app()
    heard: list[dict[str, object]] = []
    opened, done = threading.Event(), threading.Event()

    def listen() -> None:
        answer = running.http.request(
            "GET",
            running.url + "/api/live",
            headers={"Authorization": f"Bearer {running.token}"},
            preload_content=False,
        )
        kind = ""
        for line in answer:
            text = line.decode().strip()
            if text.startswith("event: "):
                kind = text.removeprefix("event: ")
            if text.startswith("data: ") and kind == "open":
                opened.set()
            elif text.startswith("data: "):
                heard.append(json.loads(text.removeprefix("data: ")))
                if len(heard) == 5:
                    break
        answer.close()
        done.set()

    thread = threading.Thread(target=listen, daemon=True)
    thread.start()
    assert opened.wait(60)
    running.send(key, failure())
    running.send(key, b"{}")
    running.ask("POST", "/api/issues/1/accept")
    assert done.wait(60), heard
    # What is kept comes in its own order; what is only told comes in between.
    kinds = [str(message["type"]) for message in heard]
    assert sorted(kinds) == sorted(["reports", "refused", "release-seen", "issue-new", "issue-decided"])
    assert [kind for kind in kinds if "-" in kind] == ["release-seen", "issue-new", "issue-decided"]
    (reports,) = [message for message in heard if message["type"] == "reports"]
    assert reports["issues"] == [{"issue": 1, "failures": 1, "new": True, "regressed": False}]


def test_openapi_names_and_explains_everything() -> None:
    """Each operation has a summary and a description, each parameter is described, each answer has a model."""
    description = describe.openapi()
    for path, methods in description["paths"].items():
        for method, operation in methods.items():
            assert operation["summary"] and operation["description"], (method, path)
            assert any(status.startswith("2") for status in operation["responses"]), (method, path)
    assert len(description["paths"]) >= 20


def test_generated_files_are_current() -> None:
    """The console's description and the documented schema are those of this code. Else: make describe. Each model is known by its own name."""
    kept = json.loads(FILE.read_text("utf-8"))
    assert kept == describe.openapi(), "run: make describe"
    assert not [name for name in kept["components"]["schemas"] if "__" in name], "two models have one name"
    kept = json.loads((ROOT / "docs/report-format.schema.json").read_text("utf-8"))
    assert kept == formats.json_schema(), "run: make describe"


def test_every_error_of_the_store_is_a_known_problem() -> None:
    """No error of the store reaches a person without a slug that is documented."""
    kinds, found = [StoreError], []
    while kinds:
        kind = kinds.pop()
        found.append(kind.slug)
        kinds += kind.__subclasses__()
    assert set(found) <= set(PROBLEMS)


def test_store_errors_answer_in_words(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """A full disk or queue is told to the sender, and nothing of that batch counts as taken."""
    from obitus.store.errors import StoreBusy, StoreFull

    key = running.add_app()
    for error, status, slug in (
        (StoreFull("the disk is full"), 507, "disk-full"),
        (StoreBusy("full"), 429, "queue-full"),
    ):

        def refuse(_: object, error: Exception = error) -> None:
            raise error

        with monkeypatch.context() as patch:
            patch.setattr(running.service.records.writer, "submit", refuse)
            answer = running.send(key, failure())
        assert (answer.status, answer.json()["slug"]) == (status, slug) and answer.headers["Retry-After"]
    assert running.issues() == []


SCHEMATHESIS = [
    Path(sys.executable).parent / "schemathesis",
    "--config-file",
    Path(__file__).parent / "schemathesis.toml",
    "run",
]
# What ends the token that asks is tried by itself. The streams have no end: test_live.py and test_records.py listen to them.
ENDS_ITSELF = r"^/api/(sign-out|me/(tokens|sessions)/)"
NOT_THESE = rf"{ENDS_ITSELF}|^/api/live$|/tail$|^/reports$|^/v1/"
MOST_S = GIVEN_UP_S + 15
"""What an answer may take: the slowest starts a process and renders a template in it, for which that has so long on a busy machine."""
RUNS = {
    "people who read": ("token", ["--exclude-path-regex", NOT_THESE, "--include-method", "GET"]),
    "people who change": ("token", ["--exclude-path-regex", NOT_THESE, "--exclude-method", "GET"]),
    "what ends itself": ("token", ["--include-path-regex", ENDS_ITSELF]),
    "senders": ("key", ["--include-path-regex", r"^/v1/"]),
}


@pytest.mark.timeout(600)
@pytest.mark.parametrize("which", RUNS)
def test_the_api_holds_against_its_own_description(tmp_path: Path, which: str) -> None:
    """Schemathesis makes requests from the OpenAPI description, right ones and wrong ones; with all its checks none breaks a promise."""
    many = replace(Limits(), sign_in_attempts=10**6, sign_in_attempts_for_a_name=10**6, refusals_at_once=1e9)
    thread, running = start(tmp_path, limits=many)
    try:
        key = running.add_app()
        running.send(key, failure(release="3.0.0"))
        description = tmp_path / "openapi.json"
        description.write_text(json.dumps(running.get("/api/openapi.json")))
        holder, chosen = RUNS[which]
        bearer = f"Authorization: Bearer {key if holder == 'key' else running.token}"
        words = [
            *SCHEMATHESIS, description, "--url", running.url, "--checks", "all", "--phases", "coverage,fuzzing", "-n", "6", "--seed", "1",
            "-H", bearer, "--no-color", "--continue-on-failure", "--request-timeout", "100", "--max-response-time", MOST_S, *chosen,
        ]  # fmt: skip
        done = subprocess.run([str(word) for word in words], capture_output=True, text=True, timeout=580, cwd=tmp_path)
        assert done.returncode == 0, done.stdout[done.stdout.find("= FAILURES") :][:9000]
        assert "generated" in done.stdout
    finally:
        running.http.clear()
        thread.stop()


def test_reports_hold_against_their_description(running: Running) -> None:
    """The same for the route whose content type schemathesis has to be taught."""
    # It takes seconds to load, and each of the processes that run tests collects all of them.
    import schemathesis
    from schemathesis.specs.openapi.checks import (
        content_type_conformance,
        response_schema_conformance,
        status_code_conformance,
    )

    @schemathesis.serializer("application/x-ndjson")
    def ndjson(_: object, value: object) -> bytes:
        """Send a made-up body as it is."""
        return value.encode("utf-8", "replace") if isinstance(value, str) else json.dumps(value).encode()

    key = running.add_app()
    schema = schemathesis.openapi.from_dict(running.get("/api/openapi.json")).include(path="/reports")
    (operation,) = [result.ok() for result in schema.get_all_operations()]
    checks = [schemathesis.checks.not_a_server_error, status_code_conformance, content_type_conformance, response_schema_conformance]  # fmt: skip

    @settings(max_examples=40, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True, database=None)
    @given(operation.as_strategy())
    def hold(case: schemathesis.Case) -> None:
        answer = case.call(base_url=running.url, headers={"Authorization": f"Bearer {key}"}, timeout=150)
        case.validate_response(answer, checks=checks)

    hold()


def test_what_blocks_the_loop_is_found(monkeypatch: pytest.MonkeyPatch, running: Running) -> None:
    """The guard that all tests of the service run under: sleeping on the loop, in our own code, is an error."""

    def sleeps(self: Limits) -> int:
        time.sleep(0.001)
        return 10**6

    key = running.add_app()
    monkeypatch.setattr(Limits, "body_bytes", property(sleeps), raising=False)
    assert running.send(key, failure()).status == 500
    monkeypatch.undo()
    assert running.send(key, failure()).status == 200
