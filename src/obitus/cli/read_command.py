"""``obitus read``: the command itself, its progress bar, and its summary."""

from __future__ import annotations

import os
import signal
import sys
from contextlib import ExitStack, suppress
from typing import TYPE_CHECKING, Annotated, Any, Final

import typer

from obitus.cli.commands import Json, app, client_settings, print_json
from obitus.cli.errors import CliError, UsageTrouble
from obitus.cli.safe import safe
from obitus.cli.sending_errors import sending_said
from obitus.core.wording import count_of

if TYPE_CHECKING:
    from obitus.client.settings import Settings
    from obitus.reading.files import Pipe
    from obitus.reading.outcome import Outcome
    from obitus.reading.sending import Sending

MOST_NAMED: Final = 20
_FORMS = {"auto": "auto", "log": "log", "common": "common", "combined": "common", "w3c": "w3c"}


@app.command("read", short_help="Read log files and access logs.")
def read(
    files: Annotated[
        list[str],
        typer.Argument(metavar="FILE…", help="Files, patterns, compressed files (.gz), or - for standard input."),
    ],
    form: Annotated[
        str,
        typer.Option(
            "--format", help="auto, log, common, combined or w3c: what the files are, when it is not recognised."
        ),
    ] = "auto",
    zone: Annotated[
        str | None,
        typer.Option("--zone", help="Time zone of times without one: UTC, Europe/Oslo. Default: this machine's."),
    ] = None,
    release: Annotated[str | None, typer.Option("--release", help="Release that wrote the files.")] = None,
    lines: Annotated[bool, typer.Option("--lines", help="Keep every line of log files too, as log records.")] = False,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Show what would be sent; send nothing.")] = False,
    follow: Annotated[bool, typer.Option("--follow", help="Keep reading as the files grow, until Ctrl-C.")] = False,
    as_json: Json = False,
) -> None:
    """Read log files and access logs: stack traces become failures, requests become runs, lines log records if asked for.

    Sends with OBITUS_URL and OBITUS_KEY. Reading a file again adds nothing; a file that has grown adds its new lines.
    """
    from obitus.reading import files as on_disk
    from obitus.reading.following import Following
    from obitus.reading.marks import Marks
    from obitus.reading.reading import Options, Reading

    if form not in _FORMS:
        raise UsageTrouble(f"--format: {form} is none of {', '.join(_FORMS)}.")
    settings = client_settings()
    sending = None if dry_run else _sending(settings, waits=follow or "-" in files)
    with ExitStack() as stack:
        stack.enter_context(sending_said())
        options = Options(_FORMS[form], on_disk.zone_of(zone), release, dry_run, lines, follow)  # type: ignore[arg-type]
        names = on_disk.files_of(files)
        bar = _Bar(names, stack) if sys.stderr.isatty() else None
        # A file that was read without its lines is read again for them.
        marks = Marks(f"{settings.url} {settings.key}{' lines' if lines else ''}")
        this = Reading(options, sending, marks, bar.advance if bar else lambda step: None)

        def begin(name: str) -> Any:
            if bar:
                bar.reading(name)
            opened, size, written_ms = on_disk.open_file(name, stack)
            if isinstance(opened, on_disk.Pipe):
                _end_by_ctrl_c(opened)
            return this.read(name, opened, size, written_ms)

        for name in names:
            if name == "-" or not follow:
                begin(name)
        if follow and names != ["-"]:
            following = Following(lambda: [name for name in on_disk.files_of(files) if name != "-"], begin, _say)
            sys.stdout.write(f"Read {count_of(this.outcome.files, 'file')}; going on as they grow. Ctrl-C ends it.\n")
            sys.stdout.flush()
            with suppress(KeyboardInterrupt):
                following.until(lambda: False)
        this.close()
    if as_json:
        print_json(_as_json(this.outcome, sending))
    else:
        _tell(this.outcome, sending, dry_run=dry_run)
    if sending is not None and sending.refused:
        raise typer.Exit(CliError.status)


def _sending(settings: Settings, *, waits: bool) -> Sending:
    """Return where to send; with ``waits`` a service that is away is waited for. Raises UsageTrouble."""
    from obitus.reading.sending import Sending

    if settings.off:
        raise UsageTrouble("OBITUS_OFF is set: reporting is switched off. Unset it, or use --dry-run.")
    if not settings.url or not settings.key:
        raise UsageTrouble(
            f"{settings.missing} is not set. Set it to the app's, or use --dry-run. `obitus app add` makes a key."
        )
    return Sending(settings.url, settings.key, away=_say_away if waits else None)


def _say_away(trouble: str) -> None:
    _say(f"{trouble} It is tried again; nothing more is read until then.")


def _say(trouble: str) -> None:
    sys.stderr.write(f"obitus: {safe(trouble)}\n")


def _end_by_ctrl_c(pipe: Pipe) -> None:
    """Take the first Ctrl-C, which also ends the program before the pipe, for its end: what was read until then is sent."""

    def end(_number: int, _frame: object) -> None:
        signal.signal(signal.SIGINT, signal.default_int_handler)
        pipe.stop()

    signal.signal(signal.SIGINT, end)


class _Bar:
    """Shows the progress on a terminal."""

    def __init__(self, names: list[str], stack: ExitStack) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeRemainingColumn

        self._progress = stack.enter_context(
            Progress(
                TextColumn("{task.description}"),
                BarColumn(),
                DownloadColumn(),
                TimeRemainingColumn(),
                console=Console(stderr=True),
                transient=True,
            )
        )
        total = sum(os.path.getsize(name) for name in names if name != "-")  # noqa: PTH202
        self._task = self._progress.add_task("reading", total=total or None)

    def reading(self, name: str) -> None:
        """Show the current file."""
        self._progress.update(self._task, description=safe(name)[-30:])

    def advance(self, step: int) -> None:
        """Add read bytes."""
        self._progress.advance(self._task, step)


def _as_json(outcome: Outcome, sending: Sending | None) -> dict[str, Any]:
    answer: dict[str, Any] = {
        "files": outcome.forms,
        "lines": outcome.lines,
        "bytes": outcome.bytes,
        "failures": outcome.failures,
        "records": outcome.records,
        "issues": [{"title": title.rpartition(" (")[0], "failures": n} for title, n in outcome.issues.most_common()],
        "runs": outcome.runs,
        "outcomes": dict(outcome.outcomes),
        "runs_reported": outcome.runs_reported,
        "runs_to_compare": outcome.compared,
        "unreadable": outcome.unreadable,
        "cut_off": outcome.cut_off,
        "examples": outcome.examples,
    }
    if sending is not None:
        answer |= {
            "stored": sending.stored,
            "already_there": sending.already_there,
            "refused": sending.refused,
            "reasons": sending.reasons,
        }
    return answer


def _tell(outcome: Outcome, sending: Sending | None, *, dry_run: bool) -> None:
    # The progress bar is slow to import.
    from rich.text import Text

    from obitus.cli import show

    forms = {
        "log": ("log file", "log files"),
        "common": ("access log (common or combined)", "access logs (common or combined)"),
        "w3c": ("access log (W3C extended)", "access logs (W3C extended)"),
    }
    counted = {form: sum(one == form for one in outcome.forms.values()) for form in forms}
    kinds = ", ".join(count_of(times, *forms[form]) for form, times in counted.items() if times)
    show.say(f"Read {count_of(outcome.lines, 'line')} of {count_of(outcome.files, 'file')}: {kinds or 'nothing'}.")
    would = "would be made" if dry_run else "found"
    if outcome.failures:
        show.heading(f"{count_of(outcome.failures, 'failure')} {would}, {count_of(len(outcome.issues), 'issue')}")
        for title, times in outcome.issues.most_common(MOST_NAMED):
            show.console.print(
                Text(f"{times:>7,}  ").append(safe(title.rpartition(" (")[0])), overflow="ellipsis", no_wrap=True
            )
        if len(outcome.issues) > MOST_NAMED:
            show.say(f"         and {len(outcome.issues) - MOST_NAMED:,} more issues", show.QUIET)
        if outcome.cut_off:
            show.say(f"{outcome.cut_off:,} of them are cut off: the file does not say what was raised.", show.QUIET)
    if outcome.records:
        show.heading(f"{count_of(outcome.records, 'log record')} {would}")
    if outcome.runs:
        show.heading(f"{count_of(outcome.runs, 'run')} {would}")
        for name in ("ok", "refused", "failed"):
            if outcome.outcomes[name]:
                show.say(f"{outcome.outcomes[name]:>7,}  {name}", show.FAILED if name == "failed" else "")
        beside = f", and {outcome.compared:,} to compare them with" if outcome.compared else ""
        show.say(
            f"The {outcome.runs_reported:,} that did not go well are reported whole{beside}; all are counted.",
            show.QUIET,
        )
    if outcome.unreadable:
        show.heading(f"{count_of(outcome.unreadable, 'line or file', 'lines or files')} could not be read")
        for example in outcome.examples:
            show.console.print(Text("         " + safe(example)), overflow="ellipsis", no_wrap=True)
        show.say("If the format was not recognised, give it with --format.", show.QUIET)
    if sending is not None:
        show.say()
        known = f"; {sending.already_there:,} were there already" if sending.already_there else ""
        show.say(f"{count_of(sending.stored, 'report')} stored{known}.")
        if not sending.stored and not sending.already_there and outcome.known_before:
            show.say("Nothing is new since the last reading.", show.QUIET)
        if sending.refused:
            show.say(f"{sending.refused:,} were refused: {safe('; '.join(sending.reasons))}", show.FAILED)
    elif outcome.failures or outcome.runs or outcome.records:
        show.say()
        show.say("Send it: the same command without --dry-run.")
    else:
        show.say("No stack trace and no request was found in it.")
