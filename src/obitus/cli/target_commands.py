"""``obitus target``: targets of records, and their progress."""

from __future__ import annotations

from typing import Annotated, Any
from urllib.parse import quote

import typer
from rich.text import Text

from obitus.cli import show
from obitus.cli.api import api
from obitus.cli.commands import Json, Token, Url, app, print_json
from obitus.cli.safe import safe
from obitus.cli.typed_input import secret_of, settings_of
from obitus.core.wording import count_of, minute_of

target = typer.Typer(
    help="Where records are passed on to: files, syslog, another collector (OTLP), a webhook.",
    no_args_is_help=True,
    rich_markup_mode=None,
)
app.add_typer(target, name="target", short_help="Pass records on to other systems.")
Name = Annotated[str, typer.Argument(metavar="NAME", help="The target's name.")]
KINDS = ("file", "syslog", "otlp", "webhook")
NUMBERS = frozenset({"port", "roll_mb", "roll_hours", "files"})


@target.command("list")
def list_targets(url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """List the targets and their progress."""
    answer = api(url, token).get("/api/targets")
    if as_json:
        print_json(answer)
        return
    for listed in answer["targets"]:
        _shown(listed)
    if not answer["targets"]:
        show.say(
            "Nothing is passed on. Write records to files: obitus target add depot file --set path=/var/log/obitus/records.ndjson"
        )


@target.command("add")
def add(
    name: Name,
    kind: Annotated[str, typer.Argument(metavar="KIND", help=f"{', '.join(KINDS)}.")],
    settings: Annotated[
        list[str] | None,
        typer.Option(
            "--set", metavar="NAME=VALUE", help="A setting: path=…, roll_mb=…, host=…, by=tls, url=…. Again for more."
        ),
    ] = None,
    headers: Annotated[
        list[str] | None,
        typer.Option(
            "--header",
            metavar="NAME",
            help="A header with a secret value, which is asked for or read from standard input.",
        ),
    ] = None,
    secrets: Annotated[
        list[str] | None,
        typer.Option("--secret", metavar="NAME", help="A secret: of a webhook, `secret` to sign with."),
    ] = None,
    passes: Annotated[
        list[str] | None,
        typer.Option("--pass", help="failure, log, run, issue or alert; all without it. Again for more."),
    ] = None,
    question: Annotated[
        str, typer.Option("--question", help="Only records that match it: severity>=WARN app=sailings.")
    ] = "",
    hides: Annotated[
        list[str] | None, typer.Option("--hide", help="A redaction rule of its own: 'name vessel pin'. Again for more.")
    ] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Pass on new records, in order. A target that was away gets later what it missed, for up to seven days."""
    values: dict[str, Any] = {secret_name: secret_of(secret_name) for secret_name in secrets or ()}
    if headers:
        values["headers"] = {one: secret_of(one) for one in headers}
    order: dict[str, Any] = {
        "name": name, "kind": kind, "settings": settings_of(settings or [], NUMBERS), "secrets": values or None, "question": question, "hides": hides or [],
    }  # fmt: skip
    if passes:
        order["passes"] = passes
    answer = api(url, token).post("/api/targets", order)
    print_json(answer) if as_json else _shown(answer)


@target.command("remove")
def remove(name: Name, url: Url = None, token: Token = None) -> None:
    """Remove a target; nothing more is passed on to it."""
    api(url, token).delete(f"/api/targets/{quote(name, safe='')}")
    show.say(f"Nothing is passed on to {safe(name)} any more.")


@target.command("try-now")
def try_now(name: Name, url: Url = None, token: Token = None) -> None:
    """Try a failing target again at once."""
    api(url, token).post(f"/api/targets/{quote(name, safe='')}/try-now", {})
    show.say(f"{safe(name)} is tried now.")


def _shown(target: dict[str, Any]) -> None:
    settings = ", ".join(f"{name}={value}" for name, value in target["settings"].items())
    show.console.print(Text(safe(target["name"]), style="bold").append(f"  {target['kind']}  {safe(settings)}"))
    asked = f" of {target['question']}" if target["question"] else ""
    what = f"{', '.join(target['passes'])}{asked}"
    latest = f", last {minute_of(target['latest'])}" if target["latest"] else ""
    show.say(
        f"    {safe(what)}; {count_of(target['passed'], 'record')} passed on{latest}; {count_of(target['lag'], 'report')} to look at",
        show.QUIET,
    )
    if target["refused"] or target["lost"]:
        show.say(f"    {target['refused']:,} refused, {target['lost']:,} lost", show.FAILED)
    if target["trouble"]:
        since = f" since {minute_of(target['trouble_since'])}" if target["trouble_since"] else ""
        show.say(f"    {safe(target['trouble'])}{since}", show.FAILED)
    if target["allowed"]:
        show.say(f"    {safe(target['allowed'])}", show.FAILED)
