"""Access logs of web servers: recognising their form."""

from __future__ import annotations

from typing import Literal

from obitus.core.log_files.common import is_line

Form = Literal["common", "w3c"]


def recognise(head: bytes) -> Form | None:
    """Return the form of an access log from its first lines, or None where it is none."""
    lines = [line for line in head.split(b"\n")[:50] if line.strip()]
    if any(line.startswith(b"#Fields:") for line in lines):
        return "w3c"
    matching = sum(is_line(line) for line in lines)
    return "common" if lines and matching * 2 > len(lines) else None
