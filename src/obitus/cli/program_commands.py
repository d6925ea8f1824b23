"""``obitus version``, ``run``, ``fingerprint``, ``check``: commands that work where an app runs, with no sign-in."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from obitus.cli.commands import app, client_settings, print_json
from obitus.cli.errors import CliError, UsageTrouble
from obitus.cli.safe import json_text
from obitus.core.version import VERSION


@app.command()
def version() -> None:
    """Print the version."""
    sys.stdout.write(f"{VERSION}\n")


@app.command(
    "run",
    context_settings={"ignore_unknown_options": True, "allow_interspersed_args": False},
    short_help="Run any program; report it if it ends badly.",
)
def run_command(
    command: Annotated[list[str], typer.Argument(metavar="-- COMMAND…", help="The program and its arguments.")],
    lines: Annotated[bool, typer.Option("--lines", help="Keep every line that it prints, as log records.")] = False,
) -> None:
    """Run any program, pass its output through, and report it when it fails. Ends with the program's status."""
    from obitus.cli import running

    raise typer.Exit(running.run(command, client_settings(), lines=lines))


@app.command("fingerprint", short_help="Say which records would be one issue.")
def fingerprint_command(
    file: Annotated[
        Path, typer.Argument(help="NDJSON with exception.type, exception.message, exception.stacktrace; or text.")
    ],
) -> None:
    """Say which records would be one issue: one line of JSON for each, in order. Needs no service."""
    from obitus.cli import fingerprinting

    try:
        for answer in fingerprinting.answers(file):
            sys.stdout.write(json_text(answer) + "\n")
    except OSError as error:
        raise UsageTrouble(f"{file} cannot be read: {error.strerror}.") from error


@app.command("check", short_help="Send a test report; say what is wrong.")
def check_command(
    as_json: Annotated[bool, typer.Option("--json", help="Print the findings as JSON.")] = False,
) -> None:
    """Send a test report with this shell's settings and say precisely what is wrong."""
    from obitus.client import check

    findings = check.check(client_settings())
    if as_json:
        print_json(check.as_json(findings))
    else:
        from obitus.cli import show

        show.findings(findings)
    if not all(finding.right for finding in findings):
        raise typer.Exit(CliError.status)
