"""What people type for a channel or a target: settings as NAME=VALUE, and secrets, which no screen and no list of processes shows."""

from __future__ import annotations

import getpass
import sys
from collections.abc import Collection
from typing import Any

from obitus.cli.errors import UsageTrouble


def settings_of(pairs: list[str], numbers: Collection[str]) -> dict[str, Any]:
    """Return settings from NAME=VALUE pairs; raises UsageTrouble."""
    found: dict[str, Any] = {}
    for pair in pairs:
        name, sign, value = pair.partition("=")
        if not sign:
            raise UsageTrouble(f"--set {pair!r}: NAME=VALUE is expected, such as host=mail.skerry.example.")
        if name in numbers:
            if not value.isdigit():
                raise UsageTrouble(f"--set {pair!r}: {name} is a number.")
            found[name] = int(value)
        elif name == "to":
            found.setdefault("to", []).append(value)
        else:
            found[name] = value
    return found


def secret_of(name: str) -> str:
    """Return a secret that is typed in unseen, or stands on the next line of standard input."""
    return getpass.getpass(f"{name}: ") if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
