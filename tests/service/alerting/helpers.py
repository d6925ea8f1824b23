"""What tests of alerts share: channels on loopback, rules, and waiting until all that can be sent was sent."""

from __future__ import annotations

from typing import Any

from tests.conftest import Running, until
from tests.service.alerting.receivers import Receiver


def allow(running: Running, **lists: list[str]) -> None:
    """Write the owner's file."""
    path = running.service.settings.data / "allowed.toml"
    path.write_text("".join(f"{name} = {values!r}\n" for name, values in lists.items()), "utf-8")
    path.chmod(0o600)


def webhook(running: Running, receiver: Receiver, name: str = "ops", **order: Any) -> dict[str, Any]:
    """Keep a webhook to a receiver on loopback."""
    allow(running, addresses=["127.0.0.1"])
    answer = running.ask(
        "POST", "/api/channels", {"name": name, "kind": "webhook", "settings": {"url": receiver.url}} | order
    )
    assert answer.status == 201, answer.data
    found: dict[str, Any] = answer.json()
    return found


def rule(running: Running, when: str, name: str = "some-rule", **order: Any) -> dict[str, Any]:
    """Use an alert rule."""
    answer = running.ask("POST", "/api/alert-rules", {"name": name, "when": when, "to": ["ops"]} | order)
    assert answer.status == 201, answer.data
    found: dict[str, Any] = answer.json()
    return found


def settle(running: Running) -> None:
    """Wait until events are taken, and all that can be sent now was sent."""
    until(lambda: running.service.runner.is_idle("alerting"))
    assert running.service.delivering.settle()


def fired(running: Running, **query: Any) -> list[dict[str, Any]]:
    """Return what fired, the latest first."""
    asked = "&".join(f"{name}={value}" for name, value in ({"window": "14d"} | query).items())
    found: list[dict[str, Any]] = running.get(f"/api/alerts?{asked}")["firings"]
    return found
