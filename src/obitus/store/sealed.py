"""Encrypted secrets of channels and targets: replaced when their key is changed."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Final

_KINDS: Final = {
    "channel": (
        "SELECT id, name, secrets FROM channels WHERE secrets IS NOT NULL",
        "UPDATE channels SET secrets = ? WHERE id = ?",
    ),
    "target": (
        "SELECT id, name, secrets FROM passing WHERE secrets IS NOT NULL",
        "UPDATE passing SET secrets = ? WHERE id = ?",
    ),
}


@dataclass
class SealedAgain:
    """The result."""

    changed: int = 0
    unreadable: list[str] = field(default_factory=list)
    """Channels and targets whose secrets stay as they are, because they cannot be decrypted."""


def seal_again(connection: sqlite3.Connection, again: Callable[[str, bytes], bytes | None]) -> SealedAgain:
    """Replace all secrets; ``again`` gets the owner's name and the secrets, and returns None where it cannot decrypt them."""
    sealed_again = SealedAgain()
    for kind, (rows, put) in _KINDS.items():
        for number, name, secrets in connection.execute(rows).fetchall():
            sealed = again(f"{kind} {name}", bytes(secrets))
            if sealed is None:
                sealed_again.unreadable.append(f"{kind} {name}")
                continue
            connection.execute(put, (sealed, number))
            sealed_again.changed += 1
    return sealed_again
