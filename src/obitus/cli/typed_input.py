"""Typed input: settings as NAME=VALUE, sizes, and secrets, which are shown neither on the screen nor in lists of processes."""

from __future__ import annotations

import getpass
import sys
from collections.abc import Collection
from typing import Any

from obitus.cli.errors import UsageTrouble


def settings_of(pairs: list[str], numbers: Collection[str]) -> dict[str, Any]:
    """Return settings from NAME=VALUE pairs; raises UsageTrouble."""
    settings: dict[str, Any] = {}
    for pair in pairs:
        name, sign, value = pair.partition("=")
        if not sign:
            raise UsageTrouble(f"--set {pair!r}: NAME=VALUE is expected, such as host=mail.skerry.example.")
        if name in numbers:
            if not value.isdigit():
                raise UsageTrouble(f"--set {pair!r}: {name} is a number.")
            settings[name] = int(value)
        elif name == "to":
            settings.setdefault("to", []).append(value)
        else:
            settings[name] = value
    return settings


def octets_of(option: str, text: str) -> int:
    """Return a size such as 50GB or 500MB in bytes; raises UsageTrouble."""
    for ending, times in (("tb", 10**12), ("gb", 10**9), ("mb", 10**6)):
        number = text.lower().removesuffix(ending).strip()
        if number != text.lower() and number.replace(".", "", 1).isdigit():
            return int(float(number) * times)
    raise UsageTrouble(f"{option} {text!r}: a size is expected, such as 50GB or 500MB.")


def secret_of(name: str) -> str:
    """Return a secret that is typed without echo, or read from the next line of standard input."""
    return getpass.getpass(f"{name}: ") if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
