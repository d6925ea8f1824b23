"""``obitus alerts`` and ``channel``: from a first try to a delivered message, on the command line."""

from __future__ import annotations

import json
from pathlib import Path

from tests.cli.shell import Shell, words
from tests.conftest import Running, failure
from tests.service.alerting.helpers import allow, settle
from tests.service.alerting.receivers import receiving


def test_from_a_try_to_a_message(shell: Shell, running: Running) -> None:
    """A rule is tried, kept, fires, is accepted; each answer says what to do next."""
    key = running.add_app()
    assert "obitus alerts try" in shell.run("alerts", "list") and "No alert rule yet" in words(
        shell.run("alerts", "rules")
    )
    assert "No channel yet" in shell.run("channel", "list")
    tried = words(shell.run("alerts", "try", "new issue where app=sailings"))
    assert (
        "Would not have fired in 14 days." in tried
        and "obitus alerts add NAME 'new issue where app=sailings' --to CHANNEL" in tried
    )
    wrong = words(shell.run("alerts", "try", "count of failures > many in 5m", status=6))
    assert "At character 21: a number is expected" in wrong
    with receiving() as receiver:
        allow(running, addresses=["127.0.0.1"])
        added = words(shell.run("channel", "add", "ops", "webhook", "--set", f"url={receiver.url}"))
        assert "See whether it works: obitus channel test ops" in added
        assert words(shell.run("channel", "test", "ops")).startswith("Delivered in ")
        assert "The rule new is active: a new issue. It notifies ops." in words(
            shell.run("alerts", "add", "new", "new issue", "--to", "ops", "--priority", "high")
        )
        running.send(key, failure())
        settle(running)
        assert len(receiver.got) == 2
        listed = words(shell.run("alerts", "list"))
        assert "TideUnavailable in sailings.tides.depth_at" in listed and "1 of 1 message delivered" in listed
        shown = words(shell.run("alerts", "show", "1"))
        assert "why It failed for the first time in release 1.0.0." in shown and "ops firing: made " in shown
        assert "Accepted: nobody else is notified." in shell.run("alerts", "accept", "1")
        assert "owner has accepted it already" in shell.run("alerts", "accept", "1")
        assert "fired 1 time in 14 days" in words(shell.run("alerts", "rules"))
        assert "TideUnavailable" in shell.run("alerts", "list", "--issue", "1")
        assert "Nothing fired" in shell.run("alerts", "list", "--issue", "2")
        shell.run("alerts", "change", "new", "--at-most", "3")
        rule = json.loads(shell.run("alerts", "rules", "--json"))["rules"][0]
        assert (rule["when"], rule["to"], rule["priority"], rule["at_most_an_hour"]) == (
            "new issue",
            ["ops"],
            "high",
            3,
        )
        assert "See all: obitus alerts rules" in words(
            shell.run("alerts", "change", "news", "--at-most", "3", status=2)
        )
        assert "delivered last" in words(shell.run("channel", "list")) and "made " in shell.run(
            "channel", "messages", "ops"
        )
        receiver.status = 500
        assert "not delivered: 500" in shell.run("channel", "test", "ops", status=6)
    assert json.loads(shell.run("alerts", "list", "--json"))["firings"][0]["rule"] == "new"
    assert "is stopped" in shell.run("alerts", "end", "new") and "is removed" in shell.run("channel", "remove", "ops")
    shell.run("alerts", "show", "99", status=5)


def test_silences_and_rules_from_a_file(shell: Shell, running: Running, tmp_path: Path) -> None:
    """The plan is shown first; a silence says until when, and ends."""
    running.add_app()
    assert "0 channels and targets are encrypted with a new key" in words(shell.run("channel", "new-key"))
    shell.run("channel", "add", "screen", "console")
    file = tmp_path / "alerts.toml"
    file.write_text('[[alert]]\nname = "new"\nwhen = "new issue"\nto = ["screen"]\n')
    assert "Plan: 1 to add. Do it: the same command with --yes" in words(shell.run("alerts", "apply", str(file)))
    assert "No alert rule yet" in words(shell.run("alerts", "rules"))
    assert "Done: 1 to add." in words(shell.run("alerts", "apply", str(file), "--yes"))
    assert "from alerts.toml" in words(shell.run("alerts", "rules"))
    file.write_text('[[alert]]\nname = "new"\nwhen = "no issue"\n')
    assert "new: At character 4" in words(shell.run("alerts", "apply", str(file), "--yes", status=6))
    shell.run("alerts", "apply", str(tmp_path / "gone.toml"), status=2)
    said = words(shell.run("alerts", "silence", "2h", "--app", "sailings", "--reason", "the pier is rebuilt"))
    assert said.startswith("Silence 1: App sailings, until ") and said.endswith("UTC: the pier is rebuilt (owner)")
    assert "the pier is rebuilt" in shell.run("alerts", "silences")
    shell.run("alerts", "silence", "soon", "--reason", "x", status=2)
    assert "has ended" in shell.run("alerts", "end-silence", "1") and "No silence is active" in shell.run(
        "alerts", "silences"
    )


def test_secrets_come_in_unseen_and_settings_are_checked(shell: Shell, running: Running) -> None:
    """A password is read from standard input, and shown nowhere; what is wrong with a setting is said."""
    mail = (
        "channel",
        "add",
        "night-mail",
        "mail",
        "--set",
        "host=mail.skerry.example",
        "--set",
        "from=obitus@skerry.example",
        "--set",
        "to=ida@skerry.example",
        "--set",
        "user=obitus",
    )
    shell.run(*mail, "--secret", "password")
    assert "mail of" not in shell.run("channel", "list") and "host=mail.skerry.example" in shell.run("channel", "list")
    assert running.get("/api/channels")["channels"][0]["has_secrets"]
    assert "a number from 1 to 65535" in words(shell.run(*mail, "--change", "--set", "port=0", status=6))
    shell.run(*mail, "--change", "--set", "port=many", status=2)
    shell.run(*mail, "--change", "--set", "host", status=2)
    shell.run("channel", "add", "odd", "pigeon", status=6)
    assert "You have no quiet hours" in shell.run("channel", "quiet-hours")
    assert "Quiet: 22:00-07:00 Europe/Oslo" in shell.run(
        "channel", "quiet-hours", "22:00-07:00", "--zone", "Europe/Oslo"
    )
    assert "You have no quiet hours" in shell.run("channel", "quiet-hours", "none")
