"""``obitus send``: sends reports that waited in files, each once."""

from __future__ import annotations

from typing import Annotated

import typer

from obitus.cli.commands import Json, app, client_settings, print_json
from obitus.cli.errors import CliError, UsageTrouble
from obitus.cli.safe import safe
from obitus.cli.sending_errors import sending_said
from obitus.core.wording import count_of


@app.command("send", short_help="Bring in reports that were written to files.")
def send(
    files: Annotated[
        list[str], typer.Argument(metavar="FILE…", help="Files that OBITUS_ALSO made, patterns, compressed ones (.gz).")
    ],
    as_json: Json = False,
) -> None:
    """Send what apps wrote to files where there was no network (OBITUS_ALSO=file:…): each report is stored once, however often it is sent.

    Sends with OBITUS_URL and OBITUS_KEY. A file that has grown since adds its new lines.
    """
    from obitus.cli import show
    from obitus.reading import files as on_disk
    from obitus.reading.marks import Marks
    from obitus.reading.reports_file import send_files
    from obitus.reading.sending import Sending

    settings = client_settings()
    if not settings.url or not settings.key:
        name = "OBITUS_KEY" if settings.url else "OBITUS_URL"
        raise UsageTrouble(f"{name} is not set. Set it to the app's: `obitus app add` makes a key.")
    sending = Sending(settings.url, settings.key, corrects=False)
    with sending_said():
        outcome = send_files(on_disk.files_of(files), sending, Marks(f"sent {settings.url} {settings.key}"))
    answer = {
        "files": outcome.files, "reports": outcome.reports, "stored": sending.stored, "already_there": sending.already_there,
        "refused": sending.refused, "reasons": sending.reasons, "unreadable": outcome.unreadable, "examples": outcome.examples,
    }  # fmt: skip
    if as_json:
        print_json(answer)
    else:
        known = f"; {sending.already_there:,} were there already" if sending.already_there else ""
        show.say(f"{count_of(sending.stored, 'report')} of {count_of(outcome.files, 'file')} stored{known}.")
        if not outcome.reports and outcome.known_before:
            show.say("Nothing is new since they were sent last.", show.QUIET)
        if sending.refused:
            show.say(f"{sending.refused:,} were refused: {safe('; '.join(sending.reasons))}", show.FAILED)
        for example in outcome.examples:
            show.say(safe(example), show.FAILED)
        if outcome.unreadable > len(outcome.examples):
            show.say(f"and {outcome.unreadable - len(outcome.examples):,} more lines that are no report", show.FAILED)
    if sending.refused or outcome.unreadable:
        raise typer.Exit(CliError.status)
