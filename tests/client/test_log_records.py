"""Log records: sent and kept by logger name and severity; an exception that is logged is one failure."""

from __future__ import annotations

import logging
from typing import Any

import pytest

import obitus
from tests import kept
from tests.client.conftest import Reported
from tests.conftest import Running

log = logging.getLogger("skerry.fares")


@pytest.fixture(autouse=True)
def _levels() -> None:
    logging.getLogger("skerry").setLevel(logging.DEBUG)


def fail() -> None:
    raise ValueError("no fare")


def test_a_log_report(reported: Reported) -> None:
    """Template, arguments and extra stay apart; file, line and function that logged are kept; the run is named."""
    with obitus.run("job fares"):
        log.warning("fare of %s is %d", "SK-4711", 4300, extra={"deck": "car", "password": "hunter2-3f9a77"})
    report = reported.one("log")
    assert (report["message"], report["template"]) == ("fare of SK-4711 is 4300", "fare of %s is %d")
    assert report["severity"] == "WARN" and report["logger"] == "skerry.fares"
    attributes = report["attributes"]
    assert (attributes["log.argument.0"], attributes["log.argument.1"]) == ("SK-4711", 4300)
    assert attributes["deck"] == "car" and attributes["password"] == "[hidden: password]"
    assert attributes["code.function.name"] == "test_a_log_report" and attributes["code.file.path"] == __file__
    assert report["run"]["entry_point"] == "job fares" and len(report["trace_id"]) == 32


def test_thresholds_by_logger_name(running: Running) -> None:
    """Dotted names inherit; `off` silences; breadcrumbs have their own thresholds; no code is touched for it."""
    obitus.watch(
        url=running.url,
        key=running.add_app(),
        logs="ERROR, skerry=DEBUG, skerry.noisy=off",
        breadcrumbs="WARN, skerry.fares=DEBUG",
    )
    reported = Reported(running, "")
    for name in ("skerry.fares", "skerry.fares.deep", "skerry.noisy", "skerry.noisy.deep", "elsewhere"):
        logging.getLogger(name).setLevel(logging.DEBUG)
        logging.getLogger(name).debug("said by %s", name)
        logging.getLogger(name).warning("warned by %s", name)
    obitus.record(ValueError("x"))
    sent = [report["message"] for report in reported.all("log")]
    assert sent == [
        "said by skerry.fares",
        "warned by skerry.fares",
        "said by skerry.fares.deep",
        "warned by skerry.fares.deep",
    ]
    kept = [crumb["message"] for crumb in reported.one()["trail"] if crumb["kind"] == "log"]
    assert kept[:4] == sent and "warned by elsewhere" in kept and "said by elsewhere" not in kept


@pytest.mark.parametrize(
    "settings", [{"logs": "LOUD"}, {"breadcrumbs": "=INFO"}, {"leave_out": ["all"]}, {"hide": ["nothing"]}]
)
def test_settings_that_cannot_be_understood(caplog: pytest.LogCaptureFixture, settings: dict[str, Any]) -> None:
    """Nothing is reported then (what was to be hidden is not known), and the log says what to write."""
    obitus.watch(url="http://127.0.0.1:9", key="okey_x", **settings)
    assert obitus.status() == {"reporting": False}
    assert "nothing is reported" in caplog.text


def test_a_logged_exception_is_one_failure(reported: Reported) -> None:
    """Logged, logged again further up, and then what its run ended of: one report, and nobody handled it."""
    with pytest.raises(ValueError), obitus.run("job fares"):
        try:
            try:
                fail()
            except ValueError:
                log.exception("could not say the fare")
                raise
        except ValueError:
            logging.getLogger("skerry").error("again", exc_info=True)
            raise
    report = reported.one()
    assert report["handled"] is False and report["captured_by"] == "run"
    assert report["attributes"]["log.message"] == "could not say the fare"
    logs = reported.all("log")
    assert [entry["attributes"].get("failure.id") for entry in logs] == [report["id"], report["id"]]


def test_messages_that_do_not_fit_are_the_apps_to_complain_about(reported: Reported) -> None:
    """A record whose arguments do not fit is passed on as it is: whoever handles it complains, as before."""
    with pytest.raises(TypeError):
        log.warning("%d berths", "many")
    assert reported.all("log") == []


def test_say(reported: Reported) -> None:
    """From ERROR on it is a failure with the stack that leads to it; below it is a log record; ids in it do not count."""
    for sailing in (4711, 4712):
        obitus.say(f"manifest of SK-{sailing} is empty", pier="merrow")
    obitus.say("weights are missing", "FATAL")
    obitus.say("manifest is late", "WARN", minutes=7)
    first, second, third = reported.all()
    assert (
        first["exceptions"][0]["type"] == "Reported message"
        and first["handled"] is True
        and first["attributes"]["pier"] == "merrow"
    )
    assert first["exceptions"][0]["frames"][-1]["function"] == "test_say" and third["severity"] == "FATAL"
    issues = {row["message"]: row["failures"] for row in reported.running.issues()}
    assert issues == {"manifest of SK-4712 is empty": 2, "weights are missing": 1}
    late = next(entry for entry in reported.all("log") if entry["message"] == "manifest is late")
    assert late["attributes"]["minutes"] == 7 and late["attributes"]["code.function.name"] == "test_say"
    assert second["id"] != first["id"]


def test_edit_may_change_or_drop(running: Running, caplog: pytest.LogCaptureFixture) -> None:
    """What edit returns is sent; None drops it; when it raises, the report is dropped, counted and said so."""

    def edit(report: dict[str, Any]) -> dict[str, Any] | None:
        if report["kind"] != "failure":
            return report
        message = report["exceptions"][0]["message"]
        if message == "drop":
            return None
        if message == "raise":
            raise KeyError(message)
        report["exceptions"][0]["frames"].clear()
        report["exceptions"][0]["message"] = "token=hunter2-3f9a77 edited"
        return report

    obitus.watch(url=running.url, key=running.add_app(), edit=edit)
    for message in ("drop", "raise", "keep"):
        obitus.record(ValueError(message))
    (report,) = Reported(running, "").all()
    assert report["exceptions"][0]["message"] == "token=[hidden: token] edited"
    status = obitus.status()
    assert status["dropped"] == {"edit raised": 1, "edit dropped it": 1} and "edit raised KeyError" in caplog.text
    obitus.stop()
    told = [entry["message"] for entry in _logs(running) if entry["logger"] == "obitus.client"]
    assert any("2 reports were dropped" in message for message in told), told
    remark = running.get("/api/apps/sailings")["last_remark"]
    assert remark["slug"] == "filtered" and "edit" in remark["reason"]


def _logs(running: Running) -> list[dict[str, Any]]:
    return kept.reports(running.service, "log")
