"""``obitus note``, ``notes``: what is known of an issue: notes, and checks with what was looked at and what was found."""

from __future__ import annotations

import sys
from typing import Annotated, Any, Final, Literal

import typer
from rich.text import Text

from obitus.cli.api import api
from obitus.cli.commands import Json, Number, Token, Url, app, print_json
from obitus.cli.errors import UsageTrouble
from obitus.cli.safe import safe
from obitus.cli.show import ACCENT, FAILED, QUIET, console, inset, say
from obitus.core.bounds import OUTPUT
from obitus.core.wording import minute_of

MARKS: Final = {"ruled out": ("✓", ACCENT), "suspicious": ("!", FAILED), "unclear": ("?", QUIET), "": ("·", "")}


@app.command(short_help="Write a note or a check on an issue.")
def note(
    number: Number,
    text: Annotated[str, typer.Argument(help="What is known, in Markdown.")] = "",
    check: Annotated[str, typer.Option("--check", help="What was looked at; makes the note a check.")] = "",
    found: Annotated[
        Literal["ruled-out", "suspicious", "unclear"], typer.Option("--found", help="The result of the check.")
    ] = "ruled-out",
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Write a note on an issue, or a check. Piped input is added to it: df -h | obitus note 12 --check "disk has room"."""
    piped = "" if sys.stdin is None or sys.stdin.isatty() else sys.stdin.read(OUTPUT + 1)
    if not (text or check or piped.strip()):
        raise UsageTrouble('Say what is known: obitus note 12 "…", or what was looked at: --check "disk has room".')
    if len(piped) > OUTPUT:
        piped = piped[: OUTPUT - 20] + "\n… more was cut"
    order = {"text": text, "looked_at": check, "found": found.replace("-", " ") if check else "", "output": piped}
    answer = api(url, token).post(f"/api/issues/{number}/notes", order)
    print_json(answer) if as_json else _show(number, answer)


@app.command(short_help="Show notes and checks of an issue.")
def notes(number: Number, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Show notes, checks and attachments of an issue, oldest first."""
    answer = api(url, token).get(f"/api/issues/{number}/notes")
    print_json(answer) if as_json else _show(number, answer)


def _show(number: int, answer: dict[str, Any]) -> None:
    if not answer["notes"] and not answer["attachments"]:
        say(f'Nothing is written down yet. obitus note {number} "…", or --check "what was looked at".')
        return
    for entry in answer["notes"]:
        shape, style = MARKS[entry["found"]]
        head = Text(f"{minute_of(entry['time'])}  ", style=QUIET).append(f"{shape} ", style=style)
        if entry["looked_at"]:
            head.append(safe(entry["looked_at"]), style="bold").append(f": {entry['found']}", style=style)
        head.append(f"  {safe(entry['person'])}{', changed' if entry['changed'] else ''}", style=QUIET)
        console.print(head, soft_wrap=True)
        if entry["text"].strip():
            inset(Text(safe(entry["text"].strip())), 4)
        if entry["output"].strip():
            inset(Text(safe(entry["output"].rstrip()), style=QUIET), 4)
    for entry in answer["attachments"]:
        line = f"{minute_of(entry['time'])}  + {safe(entry['name'])}, {entry['bytes']:,} bytes  {safe(entry['person'])}"
        say(line, QUIET)
    if answer["ruled_out"] or answer["suspicious"]:
        say(f"{answer['ruled_out']} ruled out, {answer['suspicious']} suspicious.", QUIET)
