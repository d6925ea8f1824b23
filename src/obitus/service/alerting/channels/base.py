"""The interface of all channels: sending a message returns an answer or raises."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from obitus.core.alerting.letters import Letter


class DeliveryTrouble(Exception):
    """A message was not accepted. ``for_good`` where another try cannot help, since this very message is refused."""

    def __init__(self, said: str, *, for_good: bool = False) -> None:
        super().__init__(said)
        self.for_good = for_good


class SettingsTrouble(ValueError):
    """Settings of a channel or target are not valid; says which and what is expected."""

    def __init__(self, field: str, said: str) -> None:
        super().__init__(f"{field}: {said}")
        self.field = field


@dataclass(frozen=True, slots=True)
class Outgoing:
    """A message to one channel."""

    letter: Letter
    settings: dict[str, Any]
    secrets: dict[str, Any]
    template: str = ""
