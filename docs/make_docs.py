"""Writes the pages that are made from the code: commands, problems, schema. ``make describe`` runs it."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import typer
import typer.main

from obitus.cli.commands import EXIT_STATUSES, app, load
from obitus.client.settings import ENVIRONMENT_NAMES
from obitus.service.prepare import REFUSALS
from obitus.service.problems import PROBLEMS, TYPE_PREFIX
from obitus.store.database import MIGRATIONS, statement_file

FOLDER = Path(__file__).parent
MADE = "<!-- Made by `make describe`. Do not edit. -->\n"


def commands() -> str:
    """Return the command reference."""
    parts = [f"# Commands\n\n{MADE}\n{EXIT_STATUSES}\n"]
    parts.append("## Settings of the client\n\n| variable | meaning |\n| --- | --- |")
    parts += [f"| `{name}` | {meaning} |" for name, meaning in ENVIRONMENT_NAMES.items()]
    parts.append("")
    load()
    root = typer.main.get_command(app)
    parts += _helps(root, "obitus")
    return "\n".join(parts)


def _helps(command: Any, name: str) -> list[str]:
    context = typer.Context(command, info_name=name, terminal_width=100, max_content_width=100)
    if hasattr(command, "commands"):
        return [part for inner in command.commands for part in _helps(command.commands[inner], f"{name} {inner}")]
    return [f"## `{name}`\n", "```", command.get_help(context), "```", ""]


def problems() -> str:
    """Return the list of all problems."""
    rows = [f"| `{slug}` | {status} | {title}. |" for slug, (status, title) in sorted(PROBLEMS.items())]
    lines = [f"| `{slug}` | {meaning} |" for slug, meaning in sorted(REFUSALS.items())]
    return "\n".join(
        [
            f"# Problems\n\n{MADE}",
            "Every error leaves the service as problem details (RFC 9457, `application/problem+json`). Its `slug` is stable; "
            f"its `type` is `{TYPE_PREFIX}` and the slug; its `detail` says what is wrong here and what to do.\n",
            "| slug | status | meaning |\n| --- | --- | --- |",
            *rows,
            "\n## Why one line of a batch is refused\n\nThe verdicts of `POST /reports` name these, line by line.\n",
            "| slug | meaning |\n| --- | --- |",
            *lines,
            "",
        ]
    )


def schema() -> str:
    """Return the store's schema as a page: the first version and the steps since."""
    text = "\n".join(statement_file(name) for name in MIGRATIONS)
    return f"# What is kept, and where\n\n{MADE}\nOne SQLite file, `obitus.sqlite3`, in the data folder.\n\n```sql\n{text}```\n"


PAGES = {"commands.md": commands, "problems.md": problems, "store.md": schema}


def main() -> None:
    """Write all pages."""
    for name, make in PAGES.items():
        (FOLDER / name).write_text(make(), "utf-8")


if __name__ == "__main__":
    sys.exit(main())
