"""The commands. Each parses its options, asks, shows; what it shows is in ``show``, what it asks in ``api``."""

from __future__ import annotations

import json
import os
import sys
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Any, Literal

import typer
from rich.text import Text

from obitus import __version__
from obitus.cli import show
from obitus.cli.api import Api, api
from obitus.cli.errors import CliError, UsageTrouble
from obitus.cli.login import Login, write
from obitus.client import settings as client_settings
from obitus.core.clock import span_ms, to_ms

EXIT_STATUSES = """Exit status: 0 all well; 1 what was asked for did not hold; 2 the command cannot be understood;
3 the service cannot be reached; 4 not allowed; 5 no such thing; 6 the service refused."""

app = typer.Typer(
    name="obitus",
    help="Captures failures, groups them into issues, tracks regressions across releases.",
    epilog=EXIT_STATUSES,
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)
app_group = typer.Typer(help="Apps and their reporting keys.", no_args_is_help=True, rich_markup_mode=None)
app.add_typer(app_group, name="app")

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
    _leave_only(sys.argv[1:2])
    try:
        app()
    except CliError as error:
        sys.stderr.write(f"obitus: {show.safe(error)}\n")
        sys.exit(error.status)
    except BrokenPipeError:
        # Whoever read our output has seen enough; nothing more may be written, not even at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


@app.callback()
def _commands() -> None:
    """With this, one command alone is still called by its name."""


def _leave_only(words: list[str]) -> None:
    """Leave out the commands that are not called: to make each ready takes longer than most of them run."""
    called = [one for one in app.registered_commands if words == [one.name or one.callback.__name__]]  # type: ignore[union-attr]
    if called:
        app.registered_commands, app.registered_groups = called, []


@app.command()
def version() -> None:
    """Print the version."""
    show.say(__version__)


@app.command()
def serve(
    data: Annotated[Path, typer.Option("--data", help="Folder that holds the records.")] = Path("obitus-data"),
    host: Annotated[str, typer.Option("--host", help="Address to listen on.")] = "127.0.0.1",
    port: Annotated[
        int, typer.Option("--port", min=0, max=65535, help="Port to listen on; 0 takes a free one.")
    ] = 8611,
    public_url: Annotated[
        str | None, typer.Option("--public-url", help="Address people reach it by, when it is another.")
    ] = None,
    new_link: Annotated[bool, typer.Option("--new-link", help="Print a new sign-in link.")] = False,
    password_file: Annotated[
        Path | None, typer.Option("--password-file", help="Set the owner's password from this file.")
    ] = None,
) -> None:
    """Run the service. The first start prints a sign-in link that works once."""
    from obitus.cli import serving

    serving.serve(data, host, port, public_url, new_link=new_link, password_file=password_file)


@app.command()
def demo(
    data: Annotated[Path, typer.Option("--data", help="Folder for the demo's records; made anew.")] = Path("demo-data"),
    port: Annotated[int, typer.Option("--port", min=0, max=65535, help="Port to listen on.")] = 8612,
    load_only: Annotated[bool, typer.Option("--load-only", help="Load the data and end.")] = False,
    until: Annotated[
        datetime | None, typer.Option("--until", help="When the two weeks end, in UTC; now, when it is not given.")
    ] = None,
) -> None:
    """Run the service with two weeks of a made-up ferry line's failures in it."""
    try:
        from obitus.demo import show_demo
    except ImportError as error:
        raise UsageTrouble(f"the demo needs the service ({error.name}). Run: pip install 'obitus[server]'") from error
    until_ms = to_ms(until.replace(tzinfo=UTC)) if until is not None else None
    show_demo.run(data, port, load_only=load_only, until_ms=until_ms)


@app.command()
def login(
    where: Annotated[str, typer.Argument(help="A sign-in link, or the service's address (then with --token).")],
    token: Annotated[str | None, typer.Option("--token", help="A personal token; asked for when it is needed.")] = None,
) -> None:
    """Keep the service's address and a personal token in a file that only you can read."""
    url, _, secret = where.partition("#")
    if secret:
        url = url.removesuffix("/sign-in")
        answer = Api(Login(url, None)).post("/api/sign-in", {"link": secret, "token_label": "command line"})
        token = answer["token"]
    elif token is None:
        token = typer.prompt("Personal token", hide_input=True)
    found = Login(url.rstrip("/"), token)
    me = Api(found).get("/api/me")
    show.say(f"Signed in to {found.url} as {me['name']}; kept in {write(found)}.")


@app.command()
def issues(
    window: Window = "24h",
    app_name: App = None,
    environment: Environment = None,
    release: Release = None,
    state: Annotated[list[str] | None, typer.Option("--state", help="Only this state; may be repeated.")] = None,
    text: Annotated[str | None, typer.Option("--text", help="Text in type, place, message or entry point.")] = None,
    sort: Annotated[Literal["latest", "newest", "loudest"], typer.Option("--sort", help="Order.")] = "latest",
    limit: Annotated[int, typer.Option("--limit", min=1, max=200, help="Most issues to show.")] = 20,
    cursor: Annotated[str | None, typer.Option("--cursor", help="Go on after an earlier page.")] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """List issues that failed inside a window."""
    _window(window)
    query = {
        "window": window,
        "app": app_name,
        "environment": environment,
        "release": release,
        "state": state,
        "text": text,
        "sort": sort,
        "limit": limit,
        "cursor": cursor,
    }
    answer = api(url, token).get("/api/issues", query)
    print_json(answer) if as_json else show.issues(answer, _now_ms())


@app.command()
def issue(
    number: Number,
    window: Window = "24h",
    all_frames: Annotated[bool, typer.Option("--all-frames", help="Show library frames too.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Show one issue as a report: what failed, where, what led up to it, since when, why it is one."""
    _window(window)
    asked = api(url, token)
    answer = asked.get(f"/api/issues/{number}", {"window": window})
    since = asked.get(f"/api/issues/{number}/since")
    print_json(answer | {"since": since}) if as_json else show.issue(answer, since, _now_ms(), all_frames=all_frames)


@app.command()
def accept(number: Number, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Say that somebody works on an issue."""
    _decide(number, "accept", {}, url, token, as_json)


@app.command()
def settle(
    numbers: Annotated[
        list[int], typer.Argument(metavar="NUMBER…", help="The issues' numbers, of one app or several.", min=1)
    ],
    where: Annotated[
        str | None,
        typer.Option(
            "--in",
            metavar="next|now|RELEASE",
            help="The release with the fix, or next, or now; the newest known when absent.",
        ),
    ] = None,
    environment: Annotated[str | None, typer.Option("--environment", help="Settle it there only.")] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Settle an issue: in a release, in whatever comes next, or by something done now. Seen where the fix should be, it is back as regressed."""
    order = {"how": where} if where in ("next", "now") else {"release": where} if where else {}
    for number in numbers:
        _decide(number, "settle", order | ({"environment": environment} if environment else {}), url, token, as_json)


@app.command()
def park(number: Number, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Put an issue aside; its failures go on being counted."""
    _decide(number, "park", {}, url, token, as_json)


@app.command("run", context_settings={"ignore_unknown_options": True, "allow_interspersed_args": False})
def run_command(
    command: Annotated[list[str], typer.Argument(metavar="-- COMMAND…", help="The program and its arguments.")],
) -> None:
    """Run any program, pass its output through, and report it when it ends badly. Ends with the program's status."""
    from obitus.cli import running

    raise typer.Exit(running.run(command, _client_settings()))


@app.command("fingerprint")
def fingerprint_command(
    file: Annotated[
        Path, typer.Argument(help="NDJSON with exception.type, exception.message, exception.stacktrace; or text.")
    ],
) -> None:
    """Say which records would be one issue: one line of JSON for each, in order. Needs no service."""
    from obitus.cli import fingerprinting

    try:
        for answer in fingerprinting.answers(file):
            sys.stdout.write(json.dumps(answer, ensure_ascii=False) + "\n")
    except OSError as error:
        raise UsageTrouble(f"{file} cannot be read: {error.strerror}.") from error


@app.command("check")
def check_command(
    as_json: Annotated[bool, typer.Option("--json", help="Print the findings as JSON.")] = False,
) -> None:
    """Send a test report with this shell's settings and say precisely what is wrong."""
    from obitus.cli import check

    findings = check.check(_client_settings())
    if as_json:
        print_json(check.as_json(findings))
    else:
        for finding in findings:
            mark, style = ("right", show.ACCENT) if finding.right else ("WRONG", show.FAILED)
            show.console.print(Text(f"{mark:<6} ", style=style).append(f"{finding.what:<8} {show.safe(finding.said)}"))
    if not all(finding.right for finding in findings):
        raise typer.Exit(CliError.status)


@app_group.command("add")
def app_add(
    name: Annotated[str, typer.Argument(help="Lower case letters, digits and dashes.")],
    environment: Annotated[str, typer.Option("--environment", help="What the key is for.")] = "production",
    kind: Annotated[
        Literal["fastapi", "flask", "django", "celery", "script", "command", "opentelemetry"],
        typer.Option("--kind", help="What the lines to paste are for."),
    ] = "fastapi",
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Add an app; print its key once, and the lines to paste."""
    answer = api(url, token).post("/api/apps", {"name": name, "environment": environment, "kind": kind})
    print_json(answer) if as_json else show.new_key(answer)


@app_group.command("key")
def app_key(
    name: Annotated[str, typer.Argument(help="The app.")],
    environment: Annotated[str, typer.Option("--environment", help="What the key is for.")] = "production",
    makes_apps: Annotated[
        bool,
        typer.Option("--makes-apps", help="OpenTelemetry senders with it may report for the apps that they name."),
    ] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Make another reporting key of an app; print it once."""
    order = {"environment": environment, "makes_apps": makes_apps}
    answer = api(url, token).post(f"/api/apps/{name}/keys", order)
    print_json(answer) if as_json else show.new_key(answer)


@app_group.command("list")
def app_list(url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """List apps, their releases and keys."""
    answer = api(url, token).get("/api/apps")
    print_json(answer) if as_json else show.apps(answer, _now_ms())


def _decide(
    number: int, decision: str, body: dict[str, Any], url: str | None, token: str | None, as_json: bool
) -> None:
    asked = api(url, token)
    asked.post(f"/api/issues/{number}/{decision}", body)
    answer = asked.get(f"/api/issues/{number}")
    if as_json:
        print_json(answer)
    else:
        last = show.safe(answer["history"][-1]["reason"]) if answer["history"] else ""
        show.console.print(Text(f"Issue {number}: ").append_text(show.state_text(answer["state"])).append(f". {last}"))


def _client_settings() -> client_settings.Settings:
    try:
        return client_settings.load()
    except client_settings.SettingTrouble as trouble:
        raise UsageTrouble(str(trouble)) from trouble


def _window(window: str) -> None:
    if span_ms(window) is None:
        raise UsageTrouble(f"{window!r} is no window. Say 30m, 24h, 14d or 2w.")


def print_json(answer: Any) -> None:
    """Print an answer as JSON."""
    sys.stdout.write(json.dumps(answer, indent=2, ensure_ascii=False) + "\n")


def _now_ms() -> int:
    return time.time_ns() // 1_000_000


# They hang their commands onto the app above.
from obitus.cli import grouping_commands, read_command, release_commands  # noqa: E402, F401
