"""The list of all commands, by purpose, in the order in which people work."""

from __future__ import annotations

from typing import Any, Final

from typer.core import TyperGroup

SECTIONS: Final = {
    "Start": ("serve", "demo", "login", "app", "check", "doctor", "version"),
    "See what failed": ("now", "issues", "issue", "earlier", "lists", "quiet", "person", "failures", "logs", "runs", "calls"),
    "Find the cause": ("timeline", "turning", "common", "reproduce", "tracepoint", "note", "notes", "document", "mcp"),
    "Decide": ("accept", "settle", "park", "take", "hand-over", "priority", "take-back", "shift"),
    "Group failures": ("why", "merge", "split", "never-together", "rules", "regroup", "undo", "fingerprint"),
    "Releases": ("releases", "release", "compare", "deploy", "maps"),
    "Alerts": ("alerts", "channel"),
    "Bring in and pass on": ("run", "read", "send", "target"),
    "People and records": ("people", "handing", "acts", "keep", "backup", "restore", "verify"),
}  # fmt: skip
"""Each command, under one heading."""


class Sections(TyperGroup):
    """The program: its help lists commands under headings."""

    def list_commands(self, ctx: Any) -> list[str]:
        """Return the names of the imported commands, in the order of the headings."""
        return [name for names in SECTIONS.values() for name in names if name in self.commands]

    def format_commands(self, ctx: Any, formatter: Any) -> None:
        """Write the lists of commands."""
        width = max(map(len, self.commands))
        for heading, names in SECTIONS.items():
            ready = [(name, self.commands[name]) for name in names if name in self.commands]
            if ready:
                rows = [(name.ljust(width), one.get_short_help_str(formatter.width - width - 6)) for name, one in ready]
                with formatter.section(heading):
                    formatter.write_dl(rows)
