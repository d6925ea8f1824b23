"""To version 26: alert rules that wait for a rate regression name it so."""

from __future__ import annotations

import re
import sqlite3
from pathlib import Path
from typing import Final

_CONDITIONS: Final = "SELECT id, condition FROM alert_rules"
_CHANGE: Final = "UPDATE alert_rules SET condition = ? WHERE id = ?"
# What a rule waits for comes before its question, which may contain any words.
_QUESTION: Final = re.compile(r"\swhere\s")
_OLD: Final = re.compile(r"\brate\s+stepped\s+up\b")


def rename(connection: sqlite3.Connection, _: Path) -> None:
    """Rename the event in the conditions of alert rules, also of ended ones."""
    for number, before in connection.execute(_CONDITIONS).fetchall():
        question = _QUESTION.search(before)
        at = question.start() if question else len(before)
        after = _OLD.sub("rate regression", before[:at]) + before[at:]
        if after != before:
            connection.execute(_CHANGE, (after, number))
