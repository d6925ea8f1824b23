"""Failures in a day file: their evidence, and what they are found by. Their columns are in the main file."""

from __future__ import annotations

from typing import Any

from obitus.core.asking.records import uuid_text
from obitus.store.days.pairs import indexed


def indexed_of(content: dict[str, Any]) -> str:
    """Return the words and terms of a failure, from its report after redaction."""
    outermost, run = content["exceptions"][0], content.get("run") or {}
    named = {
        "entry_point": run.get("entry_point"),
        "run": uuid_text(run.get("id")),
        "trace_id": content.get("trace_id"),
        "type": outermost["type"],
    }
    text = f"{outermost['type']} {outermost.get('message', '')} {run.get('entry_point', '')}"
    return indexed(text, content.get("attributes", {}), named)
