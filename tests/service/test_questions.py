"""Questions about issues, on the list and the command line: about the issue, about its failures, and both together."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from obitus.core.clock import DAY_MS, to_text
from obitus.store.asking import issues as asking
from obitus.store.removing_days import remove_day
from tests.cli.shell import Shell
from tests.conftest import Running, failure, raised_in


@pytest.fixture
def filled(running: Running) -> Running:
    """Two apps, three issues: fog (two users, two days, one of them staging), tide (numbers), key (another app)."""
    sailings, staging, gate = running.add_app(), "", running.add_app("gatekeeper")
    made = running.ask("POST", "/api/apps/sailings/keys", {"environment": "staging"})
    staging = made.json()["key"]
    now = running.clock()
    fog = raised_in("sailings.bow", "look", "skerry.Fog", "no sight at eastholm")
    tide = raised_in("sailings.tides", "depth_at", "skerry.TideUnavailable", "no depth")
    lost = raised_in("gatekeeper.passes", "encode", "KeyError", "'p-104'")
    board, job = {"entry_point": "POST /sailings/{id}/boardings"}, {"entry_point": "job nightly-manifest"}
    running.send(
        sailings,
        failure(exceptions=fog, attributes={"user.id": "p-101", "vehicle height": 3.2}, run=board, release="3.0.0", time=to_text(now - 2 * DAY_MS)),
        failure(exceptions=fog, attributes={"user.id": "p-102", "passengers": 4}, run=job, release="3.1.0", severity="FATAL"),
        failure(exceptions=tide, attributes={"user.id": "p-102", "passengers": 5}, handled=True, release="3.1.0", severity="WARN"),
    )  # fmt: skip
    running.send(staging, failure(exceptions=fog, attributes={"user.id": "p-103"}, run=board, release="3.1.0"))
    running.send(
        gate, failure(exceptions=lost, attributes={"passengers": "5"}, trace_id="0af7651916cd43dd8448eb211c80319c")
    )
    return running


def found(running: Running, question: str, **query: str) -> dict[str, int]:
    """Return type and count of the issues that a question means."""
    return {
        row["type"].removeprefix("skerry."): row["failures"]
        for row in running.issues(question=question.replace("+", "%2B"), **query)
    }


@pytest.mark.parametrize(
    ("question", "wanted"),
    [
        ("", {"Fog": 3, "TideUnavailable": 1, "KeyError": 1}),
        ("app=gatekeeper", {"KeyError": 1}), ("app!=gatekeeper", {"Fog": 3, "TideUnavailable": 1}), ("type~tide", {"TideUnavailable": 1}),
        ('"no depth" or eastholm', {"Fog": 3, "TideUnavailable": 1}), ("tides", {"TideUnavailable": 1}), ("place=sailings.*", {"Fog": 3, "TideUnavailable": 1}),
        ("state=untriaged issue>1", {"TideUnavailable": 1, "KeyError": 1}), ("failures>=3", {"Fog": 3}), ("first_seen<-1d", {"Fog": 3}), ("began_in=3.0.0", {"Fog": 3}),
        ("entry_point~boardings", {"Fog": 3}), ("entry_point=job*", {"Fog": 3}), ("entry_point exists", {"Fog": 3}), ("not entry_point exists", {"TideUnavailable": 1, "KeyError": 1}), ("nightly", {"Fog": 3}),
        ('entry_point!="job nightly-manifest"', {"TideUnavailable": 1, "KeyError": 1}),
        ("user.id=p-102", {"Fog": 1, "TideUnavailable": 1}), ("user.id=p-10*", {"Fog": 3, "TideUnavailable": 1}), ("not user.id exists", {"KeyError": 1}),
        ("environment=staging", {"Fog": 1}), ("release=3.1.0", {"Fog": 2, "TideUnavailable": 1}), ("severity>=FATAL", {"Fog": 1}), ("severity<ERROR", {"TideUnavailable": 1}),
        ("handled=true", {"TideUnavailable": 1}), ("trace_id=0af7651916cd43dd8448eb211c80319c", {"KeyError": 1}), ("time>-1d", {"Fog": 2, "TideUnavailable": 1, "KeyError": 1}),
        ("passengers>4", {"TideUnavailable": 1, "KeyError": 1}), ("passengers=5", {"TideUnavailable": 1, "KeyError": 1}), ("passengers!=5", {"Fog": 3}), ('"vehicle height">3', {"Fog": 1}), ("passengers exists", {"Fog": 1, "TideUnavailable": 1, "KeyError": 1}),
        ("user.id=p-102 passengers=4 fog", {"Fog": 1}), ("user.id=p-101 passengers=4", {}), ("type~fog or passengers=5", {"Fog": 3, "TideUnavailable": 1, "KeyError": 1}),
        ("not (type~fog or passengers=5)", {}), ("state=untriaged (severity>=FATAL or environment=staging)", {"Fog": 2}), ("gone exists", {}), ("gone=x or app=gatekeeper", {"KeyError": 1}),
    ],
)  # fmt: skip
def test_what_is_found(filled: Running, question: str, wanted: dict[str, int]) -> None:
    """An issue is meant when one of its failures in the window is; the failures that are count."""
    assert found(filled, question) == wanted
    answer = filled.get(f"/api/issues?window=14d&question={question.replace('+', '%2B')}")
    assert (answer["issues_in_all"], answer["failures_in_all"]) == (len(wanted), sum(wanted.values()))


def test_with_the_filter_of_the_page(filled: Running) -> None:
    """The window, the app and the environment above the list narrow what is asked."""
    assert found(filled, "user.id exists", environment="staging") == {"Fog": 1}
    assert found(filled, "user.id exists", window="1h") == {"Fog": 2, "TideUnavailable": 1}
    assert found(filled, "passengers exists", release="3.1.0") == {"Fog": 1, "TideUnavailable": 1}
    pages = []
    cursor = ""
    while True:
        answer = filled.get(f"/api/issues?window=14d&limit=1&question=not gone exists{cursor}")
        pages += [row["type"] for row in answer["issues"]]
        if answer["next"] is None:
            break
        cursor = f"&cursor={answer['next']}"
    assert len(pages) == 3 == len(set(pages))


def test_what_is_no_question(filled: Running) -> None:
    """It is said where it stops to be one, and what was expected."""
    answer = filled.ask("GET", "/api/issues?question=user.id=p-102 type=")
    assert (answer.status, answer.json()["slug"], answer.json()["position"]) == (422, "bad-question", 20)
    assert "At character 20: a value is expected" in answer.json()["detail"]


def test_what_asks_for_too_much(filled: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """What holds for very many failures is refused in words, not in a time-out."""
    monkeypatch.setattr(asking, "MOST_FAILURES", 1)
    answer = filled.ask("GET", "/api/issues?window=14d&question=passengers>3")
    assert (
        answer.status == 422 and "passengers>3 holds for more than 1 failures of this window" in answer.json()["detail"]
    )


def test_on_the_command_line(filled: Running, tmp_path: Path) -> None:
    """``obitus issues QUESTION``; what is no question ends with a message and a status for wrong use."""
    shell = Shell(tmp_path)
    shell.run("login", filled.url, "--token", filled.token)
    said = json.loads(shell.run("issues", "user.id=p-102 passengers=4", "--window", "14d", "--json"))
    assert [row["type"] for row in said["issues"]] == ["skerry.Fog"]
    assert "a value is expected" in shell.run("issues", "type=", status=6)


def test_a_day_that_is_gone_has_nothing_to_find(filled: Running) -> None:
    """Where a day's file was removed, what only it knew is not found; the rest is."""
    service = filled.service
    day = min(known.day for known in service.records.days.known())
    assert remove_day(service.records.writer, service.records.days, day, filled.clock(), "after 2 days")
    assert found(filled, '"vehicle height">3') == {} and found(filled, "fog") == {"Fog": 3}
    assert found(filled, "passengers=4") == {"Fog": 1}
