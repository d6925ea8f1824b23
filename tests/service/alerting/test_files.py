"""Rules from a file: the plan comes first, all of it is done or nothing, and what is not in the file is left alone."""

from __future__ import annotations

from typing import Any

from tests.conftest import Running

FILE = """
[[alert]]
name = "new"
when = "new issue where environment=production"
to = ["screen"]
priority = "high"

[[alert]]
name = "slow"
when = "p95 duration of runs > 800ms in 15m by entry_point"
to = "screen"
at_most_an_hour = 4
escalate_to = ["screen"]
escalate_after = "15m"
"""


def apply(running: Running, text: str = FILE, **order: Any) -> Any:
    return running.ask("POST", "/api/alert-rules/apply", {"text": text, "source": "alerts.toml"} | order)


def steps(answer: Any) -> dict[str, str]:
    return {step["name"]: step["act"] for step in answer.json()["steps"]}


def test_a_file_is_planned_and_then_applied(running: Running) -> None:
    """A plan does nothing; applied twice, the second time changes nothing; what changes is said."""
    running.ask("POST", "/api/channels", {"name": "screen", "kind": "console"})
    running.ask("POST", "/api/alert-rules", {"name": "by-hand", "when": "job late", "to": ["screen"]})
    plan = apply(running)
    assert steps(plan) == {"new": "add", "slow": "add", "by-hand": "leave"} and not plan.json()["done"]
    assert [one["name"] for one in running.get("/api/alert-rules")["rules"]] == ["by-hand"]
    assert apply(running, only_plan=False).json()["summary"] == "2 to add, 1 left alone"
    found = {one["name"]: one for one in running.get("/api/alert-rules")["rules"]}
    assert (found["slow"]["escalate_after_minutes"], found["slow"]["at_most_an_hour"], found["slow"]["source"]) == (
        15,
        4,
        "alerts.toml",
    )
    assert steps(apply(running)) == {"new": "keep", "slow": "keep", "by-hand": "leave"}
    changed = apply(running, FILE.replace("800ms", "1.2s").replace('"high"', '"low"'), only_plan=False).json()
    said = {step["name"]: step["said"] for step in changed["steps"]}
    assert (
        said["new"] == "priority: high becomes low"
        and "> 800ms in 15m" in said["slow"]
        and "> 1.2s in 15m" in said["slow"]
    )
    assert steps(apply(running, "", end_others=True, only_plan=False)) == {
        "by-hand": "end",
        "new": "end",
        "slow": "end",
    }
    assert running.get("/api/alert-rules")["rules"] == []


def test_a_file_that_is_not_right_changes_nothing(running: Running) -> None:
    """What is wrong is said with the rule's name and the place."""
    running.ask("POST", "/api/channels", {"name": "screen", "kind": "console"})
    for text, said in (
        ("[[alert]\n", "this is no TOML"),
        ("rules = 1", "'rules' is not known"),
        ('[[alert]]\nname = "a"\n', "alert 1 (a): when is missing"),
        (
            '[[alert]]\nname = "a"\nwhen = "new issue"\nto = ["gone"]',
            "a: there is no channel named 'gone'. There are: screen.",
        ),
        ('[[alert]]\nname = "a"\nwhen = "count of failures > 5"', "a: At character 22"),
        ('[[alert]]\nname = "a"\nwhen = "new issue"\nwho = "x"', "'who' is not known; there are at_most_an_hour"),
        (FILE.replace('"slow"', '"new"'), "there are two named 'new'"),
        (FILE.replace('"15m"', '"soon"'), "escalate_after is a span such as 15m"),
        ('[[alert]]\nname = "A b"\nwhen = "new issue"', "'A b' is no name"),
        ('[[alert]]\nname = "a"\nwhen = "new issue"\npriority = "urgent"', "priority is one of high, middle, low"),
    ):
        answer = apply(running, text, only_plan=False)
        assert answer.status == 422 and said in answer.json()["detail"], (text, answer.json()["detail"])
    assert running.get("/api/alert-rules")["rules"] == []
