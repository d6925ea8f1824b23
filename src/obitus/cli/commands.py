"""The command line: the modules of commands, shared options, and the handling of expected errors. A command parses
its options, makes requests with ``api`` and prints with ``show``.
"""

from __future__ import annotations

import os
import sys
import time
from datetime import UTC, datetime
from importlib import import_module
from typing import TYPE_CHECKING, Annotated, Any, Final

import typer

from obitus.cli.errors import CliError, UsageTrouble
from obitus.cli.safe import json_text, safe, show_what_can_be_shown
from obitus.cli.sections import Sections
from obitus.core.clock import span_ms

if TYPE_CHECKING:
    from obitus.client.settings import Settings

MODULES: Final = {
    "service_commands": ("serve", "demo", "login", "app", "acts"),
    "people_commands": ("people",),
    "issue_commands": ("issues", "issue", "earlier"),
    "triage_commands": ("accept", "settle", "park", "take", "hand-over", "priority", "take-back"),
    "shift_commands": ("shift", "lists"),
    "handing_commands": ("handing",),
    "alert_commands": ("alerts",),
    "channel_commands": ("channel",),
    "record_commands": ("logs", "runs", "failures"),
    "now_command": ("now",),
    "calls_command": ("calls",),
    "timeline_command": ("timeline", "turning", "common"),
    "note_commands": ("note", "notes"),
    "reproduce_command": ("reproduce",),
    "quiet_commands": ("quiet", "person"),
    "grouping_commands": ("why", "merge", "split", "never-together", "rules", "regroup", "undo"),
    "release_commands": ("releases", "release", "compare", "deploy"),
    "map_commands": ("maps",),
    "program_commands": ("version", "run", "fingerprint", "check"),
    "read_command": ("read",),
    "send_command": ("send",),
    "target_commands": ("target",),
    "keep_commands": ("backup", "restore", "verify"),
    "doctor_command": ("doctor",),
    "keep_until_commands": ("keep",),
    "tracepoint_commands": ("tracepoint",),
    "mcp_command": ("mcp",),
    "document_command": ("document",),
}
"""The modules of the commands. Only the called one is imported: importing all takes longer than most commands run."""
COMPLETING: Final = "_OBITUS_COMPLETE"
"""Set by the shell's completion."""

EXIT_STATUSES = """Exit status: 0 all well; 1 a requested condition did not hold; 2 the command cannot be understood;
3 the service cannot be reached; 4 not allowed; 5 not found; 6 the service refused."""

app = typer.Typer(
    name="obitus",
    cls=Sections,
    help="Captures failures, groups them into issues, tracks regressions across releases.",
    epilog=EXIT_STATUSES,
    no_args_is_help=True,
    add_completion=True,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)

Url = Annotated[str | None, typer.Option("--url", help="Address of the service; else OBITUS_URL, else the login file.")]
Token = Annotated[str | None, typer.Option("--token", help="Personal token; else OBITUS_TOKEN, else the login file.")]
Json = Annotated[bool, typer.Option("--json", help="Print the API's answer as JSON.")]
Number = Annotated[int, typer.Argument(help="The issue's number.", min=1)]
Window = Annotated[str, typer.Option("--window", help="How far back: 30m, 24h, 14d.")]
App = Annotated[str | None, typer.Option("--app", help="Only this app.")]
Environment = Annotated[str | None, typer.Option("--environment", help="Only this environment.")]
Release = Annotated[str | None, typer.Option("--release", help="Only this release.")]


def run() -> None:
    """Run the command line: the one place where expected errors become a line and an exit status."""
    show_what_can_be_shown()
    load(_called())
    try:
        app()
    except CliError as error:
        sys.stderr.write(f"obitus: {safe(error)}\n")
        sys.exit(error.status)
    except BrokenPipeError:
        # The reader of our output has closed it; nothing more may be written, not even at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _called() -> str:
    """Return the command that is called or completed; '' for all."""
    if COMPLETING not in os.environ:
        return sys.argv[1] if len(sys.argv) > 1 else ""
    # Bash gives the words and the place of the cursor, zsh and fish the line up to it.
    line = os.environ.get("COMP_WORDS") or os.environ.get("_TYPER_COMPLETE_ARGS", "")
    words = line.split()
    return words[1] if len(words) > 2 or (len(words) == 2 and line[-1:].isspace()) else ""


@app.callback()
def _commands() -> None:
    """With this, a single command still needs its name."""


def load(called: str = "") -> None:
    """Import the called command, or all of them where there is none."""
    only = next((module for module, names in MODULES.items() if called in names), None)
    for module in MODULES if only is None else (only,):
        import_module(f"obitus.cli.{module}")
    if only is not None:
        app.registered_commands = [registered for registered in app.registered_commands if _name(registered) == called]
        app.registered_groups = [registered for registered in app.registered_groups if registered.name == called]


def _name(command: typer.models.CommandInfo) -> str | None:
    return command.name or (command.callback.__name__ if command.callback else None)


def client_settings() -> Settings:
    """Return the client's settings in this shell; raises UsageTrouble."""
    # Most commands do not need the client.
    from obitus.client import settings

    try:
        return settings.load()
    except settings.SettingTrouble as trouble:
        raise UsageTrouble(str(trouble)) from trouble


def check_window(window: str) -> None:
    """Raise UsageTrouble where a text is no window."""
    if span_ms(window) is None:
        raise UsageTrouble(f"{window!r} is no window. Say 30m, 24h, 14d or 2w.")


def time_of(text: str | None) -> str | None:
    """Return a time for the API: a time of day is of today; UTC where no offset is given."""
    if text is None:
        return None
    try:
        day = "" if "T" in text or "-" in text else datetime.now(UTC).strftime("%Y-%m-%dT")
        moment = datetime.fromisoformat(day + text)
    except ValueError as error:
        raise UsageTrouble(f"{text!r} is no time. Say 2026-11-26T10:00, or 10:00.") from error
    return moment.isoformat() if moment.tzinfo else f"{moment.isoformat()}Z"


def print_json(answer: Any) -> None:
    """Print an answer as JSON."""
    sys.stdout.write(json_text(answer, indent=2) + "\n")


def now_ms() -> int:
    """Return the time, Unix milliseconds."""
    return time.time_ns() // 1_000_000
