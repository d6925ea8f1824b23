"""Failures made of what is collected: the same each time, and taken as any other failure is."""

from __future__ import annotations

import json
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from obitus.core.asking.reading import read
from obitus.core.asking.tree import Compare, leaves_of
from obitus.core.asking.writing import term
from obitus.core.quiet import failing
from obitus.core.values_in_text import said_by
from obitus.service.intake.formats import KeptFailure

RUN: dict[str, Any] = {
    "kind": "run", "id": "01890a5d-ac96-774b-bcce-b302099a8057", "time": "2026-03-01T10:00:00.000Z", "release": "3.0.0",
    "attributes": {"user.id": "p-102"}, "trace_id": "0af7651916cd43dd8448eb211c80319c",
    "run": {"id": "0b6a2f2e-6a3e-4d4e-9a59-0d6d1f0c5a11", "entry_point": "POST /boardings", "outcome": "refused", "kept": "refused"},
    "request": {"method": "POST", "url": "/boardings", "status": 422, "answer_body": {"json": {"title": "Height is missing"}}},
    "trail": [{"kind": "mark", "time": "2026-03-01T09:59:59.990Z", "message": "form read"}],
}  # fmt: skip


def test_a_refused_run_is_a_failure() -> None:
    """With all that the run had, what the answer said, and the same id each time."""
    made = failing.failure_of(RUN, "refused", "POST /boardings")
    KeptFailure.model_validate_json(json.dumps(made))
    assert made["exceptions"] == [{"type": "Refused", "message": "422 POST /boardings: Height is missing"}]
    assert made == failing.failure_of(RUN, "refused", "POST /boardings")
    assert made["run"] == {"id": RUN["run"]["id"], "entry_point": "POST /boardings", "outcome": "refused"}
    assert failing.collected_as(made) == ("refused", "POST /boardings")
    assert failing.headline_of("refused", "POST /boardings").title == "Refused in POST /boardings"
    assert failing.collected_as({"captured_by": "record", "attributes": made["attributes"]}) is None


def test_a_record_that_warns_is_a_failure() -> None:
    """Of what one template says, and of messages that came without one but say the same."""
    log = {"kind": "log", "id": RUN["id"], "time": RUN["time"], "severity": "ERROR", "message": "berth 4 is taken", "template": ""}  # fmt: skip
    said = said_by("", "berth 17 is taken")
    assert failing.means(log, "warning", said) and not failing.means(log | {"message": "no berth"}, "warning", said)
    made = failing.failure_of(log, "warning", said)
    assert made["severity"] == "ERROR" and made["exceptions"][0]["message"] == "berth 4 is taken"
    assert said_by("berth %d is taken", "berth 4 is taken") == "berth %d is taken"


def test_a_job_that_did_not_run_fails_once() -> None:
    """However often it is found, until it runs again."""
    first = failing.did_not_run("job nightly", "production", "It last ran 2 days ago.", 500_000, 500_048 * 3_600_000)
    again = failing.did_not_run("job nightly", "production", "It last ran 3 days ago.", 500_000, 500_072 * 3_600_000)
    other = failing.did_not_run("job nightly", "production", "It last ran 2 days ago.", 500_024, 500_072 * 3_600_000)
    assert first["id"] == again["id"] != other["id"]


@given(st.text(min_size=1, max_size=40), st.text(max_size=40))
def test_terms_are_read_as_they_were_meant(field: str, value: str) -> None:
    """Whatever stands in a name or a value."""
    if any(ord(sign) < 32 for sign in field + value):
        return
    (leaf,) = leaves_of(read(term(field, "=", value), 0))
    assert isinstance(leaf, Compare) and leaf.text == value
