"""Writes the pages that are made from the code: commands, problems, schema. ``make describe`` runs it."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import typer
import typer.main

from obitus.cli.commands import EXIT_STATUSES, app, load
from obitus.cli.sections import SECTIONS
from obitus.client.settings import ENVIRONMENT_NAMES
from obitus.core.asking import reference
from obitus.service.intake.lines import REFUSALS
from obitus.service.problems import PROBLEMS, TYPE_PREFIX
from obitus.store.days import files
from obitus.store.migrations import MIGRATIONS, statement_file

FOLDER = Path(__file__).parent
sys.path.insert(0, str(FOLDER))
import make_manual  # noqa: E402
import make_public  # noqa: E402

MADE = "<!-- Made by `make describe`. Do not edit. -->\n"


def commands() -> str:
    """Return the command reference."""
    parts = [f"# Commands\n\n{MADE}\n{EXIT_STATUSES}\n"]
    parts.append("## Settings of the client\n\n| variable | meaning |\n| --- | --- |")
    parts += [f"| `{name}` | {meaning} |" for name, meaning in ENVIRONMENT_NAMES.items()]
    load()
    root: Any = typer.main.get_command(app)
    for heading, names in SECTIONS.items():
        parts += ["", f"## {heading}", "", "; ".join(f"[{name}](#obitus-{name})" for name in names), ""]
        parts += [part for name in names for part in _helps(root.commands[name], f"obitus {name}")]
    return "\n".join(parts)


def _helps(command: Any, name: str) -> list[str]:
    context = typer.Context(command, info_name=name, terminal_width=100, max_content_width=100)
    if hasattr(command, "commands"):
        of_all = [f"### `{name}`", "", f"{command.help}", ""]
        return of_all + [
            part for inner in command.commands for part in _helps(command.commands[inner], f"{name} {inner}")
        ]
    return [f"### `{name}`\n", "```", command.get_help(context), "```", ""]


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
    """Return the store's schema as a page: a day file's, and the main file's first version with the steps since."""
    text = "\n".join(statement_file(name) for name in MIGRATIONS)
    return STORE.format(made=MADE, day=files.schema(), main=text)


STORE = """# Records and their files

{made}
The data folder has two kinds of SQLite files:

- `obitus.sqlite3`: decisions of people, settings, and the counts that pages show.
- `days/2026-11-26.sqlite3`, one for each UTC day: the reports. The day of a report is computed from the report alone: from
  the time in its id (UUIDv7), or else from its own time. A report that is sent twice, even weeks later, is therefore found in the same file. Reports with impossible times
  (before 2000, after 2099), and those of days beyond the first 1,500, are in `days/undated.sqlite3`.

A commit writes its day files first and the main file last; after that the sender gets its answer. The main file has the last valid place of each day
file (`days.last_place`). Rows beyond it, which a killed process left, are deleted when the file is next opened; their sender sends them again.

A report's number (`seq`) is its day, in days since 1970-01-01, times 2^32, plus its place in that day's file.

A day's file can be removed: its counts remain, and pages show since when the evidence is gone.

## A day's file

```sql
{day}```

## The main file

```sql
{main}```
"""
PAGES = {
    "commands.md": commands,
    "problems.md": problems,
    "questions.md": lambda: reference.page(MADE),
    "store.md": schema,
    "public.md": lambda: make_public.page(MADE),
    **make_manual.pages(),
}


def main() -> None:
    """Write all pages."""
    (FOLDER / "man").mkdir(exist_ok=True)
    for old in set((FOLDER / "man").glob("*.1")) - {FOLDER / name for name in PAGES}:
        old.unlink()
    for name, make in PAGES.items():
        (FOLDER / name).write_text(make(), "utf-8")


if __name__ == "__main__":
    sys.exit(main())
