"""What all channels have: a message goes out and an answer comes back, or why it did not go out."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from obitus.core.alerting.letters import Letter


class DeliveryTrouble(Exception):
    """A message was not taken. ``for_good`` where another try cannot help, since it is this message that is refused."""

    def __init__(self, said: str, *, for_good: bool = False) -> None:
        super().__init__(said)
        self.for_good = for_good


class SettingsTrouble(ValueError):
    """Settings of a channel or target are not right; says which and what is expected."""

    def __init__(self, field: str, said: str) -> None:
        super().__init__(f"{field}: {said}")
        self.field = field


@dataclass(frozen=True, slots=True)
class Outgoing:
    """A message on its way to one channel."""

    letter: Letter
    settings: dict[str, Any]
    secrets: dict[str, Any]
    template: str = ""
