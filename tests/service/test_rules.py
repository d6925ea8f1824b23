"""The team's redaction rules: previewed on real reports, kept, acting on what comes in, ended, on record."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests import kept
from tests.conftest import Running, failure, start


def all_kept(running: Running) -> str:
    return "\n".join(json.dumps(report, ensure_ascii=False) for report in kept.reports(running.service))


def test_from_preview_to_end(running: Running) -> None:
    """A preview keeps nothing and shows what would go; a rule acts on every later report; ended, it acts no more."""
    key = running.add_app()
    running.send(key, failure(attributes={"vessel_pin": "7741", "pier": "merrow"}))
    seen = running.ask("POST", "/api/redaction-rules/preview", {"rule": "name vessel pin"}).json()
    assert (seen["reports_looked_at"], seen["reports_touched"], seen["values_hidden"]) == (1, 1, 1)
    assert seen["examples"] == [{"place": "attributes.vessel_pin", "before": "7741", "after": "[hidden: vessel pin]"}]
    assert running.get("/api/redaction-rules")["rules"] == []
    made = running.ask("POST", "/api/redaction-rules", {"rule": "name vessel pin"})
    assert made.status == 201 and made.json()["person"] == "owner"
    assert running.ask("POST", "/api/redaction-rules", {"rule": "name vessel pin"}).status == 409
    running.send(key, failure(attributes={"vesselPin": "8852", "pier": "merrow"}))
    assert (
        "7741" in all_kept(running) and "8852" not in all_kept(running) and "[hidden: vessel pin]" in all_kept(running)
    )
    number = made.json()["id"]
    assert running.ask("DELETE", f"/api/redaction-rules/{number}").status == 200
    assert running.ask("DELETE", f"/api/redaction-rules/{number}").status == 404
    running.send(key, failure(attributes={"vesselPin": "9963"}))
    assert "9963" in all_kept(running)
    acts = running.service.records.reader.rows("SELECT act, subject FROM acts WHERE act LIKE '%redaction%'")
    assert [tuple(row) for row in acts] == [
        ("made redaction rule", "name vessel pin"),
        ("ended redaction rule", "name vessel pin"),
    ]


def test_rules_hold_after_a_restart(tmp_path: Path) -> None:
    """What was put active acts from the first report after a start."""
    thread, running = start(tmp_path)
    running.ask("POST", "/api/redaction-rules", {"rule": "path attributes.berth"})
    running.http.clear()
    thread.stop()
    thread, running = start(tmp_path)
    redactor = running.service.intake.preparer._redactor
    running.http.clear()
    thread.stop()
    assert redactor.report({"attributes": {"berth": {"n": 4}, "pier": "x"}}) == {"attributes": {"berth": "[hidden: attributes.berth]", "pier": "x"}}  # fmt: skip


@pytest.mark.parametrize(
    ("rule", "said"),
    [
        ("hide everything", "Write: name NAME"),
        ("pattern [", "no regular expression"),
        ("pattern SK-[0-9]{45555555555555555555}", "no regular expression"),
        ("pattern a*", "matches nothing"),
        ("pattern (a+)+$", "takes hours"),
        ("pattern (x+x+)+y", "takes hours"),
        (r"pattern (?<=pin )\d+", "linear time"),
        ("name ...", "names nothing"),
        ("path a..b", "is no path"),
    ],
)
def test_rules_that_cannot_be_kept(running: Running, rule: str, said: str) -> None:
    """Each says what is wrong with it and what to write; none is kept."""
    for path in ("/api/redaction-rules", "/api/redaction-rules/preview"):
        answer = running.ask("POST", path, {"rule": rule})
        assert answer.status == 422 and answer.json()["slug"] == "bad-rule" and said in answer.json()["detail"]
    assert running.get("/api/redaction-rules")["rules"] == []


def test_a_rule_cannot_break_a_report(running: Running) -> None:
    """A path that leads to what a report cannot be without hides nothing there, and no report is lost."""
    key = running.add_app()
    for path in (
        "id",
        "exceptions",
        "*",
        "exceptions.type",
        "run",
        "*.*",
        "exceptions.frames.function",
        "request.status",
    ):
        running.ask("POST", "/api/redaction-rules", {"rule": f"path {path}"})
    report = failure(request={"method": "GET", "status": 500, "url": "/x"}, run={"entry_point": "GET /x"})
    answer = running.send(key, report)
    assert answer.status == 200 and answer.json()["stored"] == 1
    assert running.issues()[0]["place"] == "sailings.tides.depth_at"
    assert json.loads(all_kept(running))["request"]["status"] == 500


def test_a_key_may_not_touch_rules(running: Running) -> None:
    """Reporting keys report, and nothing else."""
    key = running.add_app()
    assert running.ask("GET", "/api/redaction-rules", token=key).status == 403
    assert running.ask("POST", "/api/redaction-rules", {"rule": "e-mail"}, token=key).status == 403
