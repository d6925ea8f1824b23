"""``obitus channel``: channels, the state of their deliveries, and a test of each."""

from __future__ import annotations

from typing import Annotated, Any
from urllib.parse import quote

import typer
from rich.text import Text

from obitus.cli import show
from obitus.cli.api import api
from obitus.cli.commands import Json, Token, Url, app, print_json
from obitus.cli.errors import Refused, UsageTrouble
from obitus.cli.safe import safe
from obitus.cli.typed_input import secret_of, settings_of
from obitus.core.wording import count_of, minute_of

channel = typer.Typer(
    help="Where messages are delivered: mail, webhooks, a command, a file, open consoles.",
    no_args_is_help=True,
    rich_markup_mode=None,
)
app.add_typer(channel, name="channel", short_help="Where alerts are delivered; test them.")
Name = Annotated[str, typer.Argument(metavar="NAME", help="The channel's name.")]
KINDS = ("mail", "webhook", "command", "file", "console")
NUMBERS = frozenset({"port"})


@channel.command("list")
def list_channels(url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """List the channels, and the state of their deliveries."""
    answer = api(url, token).get("/api/channels")
    if as_json:
        print_json(answer)
        return
    for listed in answer["channels"]:
        _shown(listed)
    if not answer["channels"]:
        show.say("No channel yet. Show alerts in open consoles: obitus channel add screen console")


@channel.command("add")
def add(
    name: Name,
    kind: Annotated[str, typer.Argument(metavar="KIND", help=f"{', '.join(KINDS)}.")],
    settings: Annotated[
        list[str] | None,
        typer.Option(
            "--set",
            metavar="NAME=VALUE",
            help="A setting: host=…, to=…, url=…, command=…, path=…. Again for more; several `to` are several addresses.",
        ),
    ] = None,
    secrets: Annotated[
        list[str] | None,
        typer.Option(
            "--secret",
            metavar="NAME",
            help="A secret (password, secret), which is asked for or read from standard input.",
        ),
    ] = None,
    template: Annotated[
        str | None, typer.Option("--template", help="File with a Jinja2 template of the webhook's body.")
    ] = None,
    person: Annotated[
        str | None, typer.Option("--person", help="The person whose channel it is; their quiet hours apply.")
    ] = None,
    digest: Annotated[str, typer.Option("--digest", help="A digest each day (08:00) or week (mon 08:00).")] = "",
    zone: Annotated[str, typer.Option("--zone", help="The time zone of the digest: Europe/Oslo.")] = "UTC",
    change: Annotated[bool, typer.Option("--change", help="Change one that is there. Secrets not given stay.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Add a channel, or change one. Secrets are kept encrypted, and never shown again."""
    order: dict[str, Any] = {
        "kind": kind, "settings": settings_of(settings or [], NUMBERS), "template": _template(template), "person": person, "digest_at": digest, "digest_zone": zone,
    }  # fmt: skip
    if secrets:
        order["secrets"] = {one: secret_of(one) for one in secrets}
    service = api(url, token)
    path = f"/api/channels/{quote(name, safe='')}"
    answer = service.put(path, order) if change else service.post("/api/channels", order | {"name": name})
    if as_json:
        print_json(answer)
        return
    _shown(answer)
    show.say(f"See whether it works: obitus channel test {safe(name)}", show.QUIET)


@channel.command("test")
def test(name: Name, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Send a test message."""
    answer = api(url, token).post(f"/api/channels/{quote(name, safe='')}/test", {})
    if as_json:
        print_json(answer)
    elif answer["delivered"]:
        show.say(f"Delivered in {answer['took_ms']} ms: {safe(answer['answer'])}")
    if not answer["delivered"]:
        raise Refused(f"not delivered: {answer['answer']}")


@channel.command("messages")
def messages(name: Name, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """List the latest messages of a channel, and how each delivery went."""
    answer = api(url, token).get(f"/api/channels/{quote(name, safe='')}/messages")
    if as_json:
        print_json(answer)
        return
    for message in answer["messages"]:
        style = show.FAILED if message["given_up"] or (message["tries"] and not message["delivered"]) else ""
        show.console.print(
            Text(f"{message['number']:>5}  {minute_of(message['made'])}  {message['kind']:10} ").append(
                safe(message["said"]), style=style
            )
        )
    if not answer["messages"]:
        show.say(f"Nothing was sent to {safe(name)} yet. Try it: obitus channel test {safe(name)}")


@channel.command("send-again")
def send_again(
    number: Annotated[int, typer.Argument(metavar="NUMBER", min=1, help="The message's number.")],
    url: Url = None,
    token: Token = None,
) -> None:
    """Send a message again that was given up."""
    api(url, token).post(f"/api/messages/{number}/send-again", {})
    show.say(f"Message {number} is tried again.")


@channel.command("remove")
def remove(name: Name, url: Url = None, token: Token = None) -> None:
    """Remove a channel, with its secrets. Messages that wait for it are not sent."""
    api(url, token).delete(f"/api/channels/{quote(name, safe='')}")
    show.say(f"The channel {safe(name)} is removed.")


@channel.command("quiet-hours")
def quiet_hours(
    hours: Annotated[
        str | None, typer.Argument(metavar="[HOURS]", help="22:00-07:00, or sat,sun 00:00-24:00; none for never.")
    ] = None,
    zone: Annotated[str, typer.Option("--zone", help="Your time zone: Europe/Oslo.")] = "UTC",
    url: Url = None,
    token: Token = None,
) -> None:
    """Set your quiet hours: messages to your channels wait, except those of high priority."""
    service = api(url, token)
    if hours is None:
        answer = service.get("/api/me/quiet-hours")
    else:
        answer = service.put("/api/me/quiet-hours", {"hours": "" if hours == "none" else hours, "zone": zone})
    show.say(
        f"Quiet: {safe(answer['hours'])} {safe(answer['zone'])}" if answer["hours"] else "You have no quiet hours."
    )


@channel.command("new-key")
def new_key(url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Encrypt the secrets of all channels and targets with a new key. For when somebody may have seen channels.key."""
    answer = api(url, token).post("/api/channels/key", {})
    if as_json:
        print_json(answer)
        return
    show.say(
        f"The secrets of {count_of(answer['changed'], 'channel or target', 'channels and targets')} are encrypted with a new key. "
        "Keep the old key with the backups that were made with it, and make a new backup: obitus backup DIR"
    )
    for name in answer["unreadable"]:
        show.say(f"The secrets of {safe(name)} could not be read. Give them again.", show.FAILED)


def _template(path: str | None) -> str:
    if path is None:
        return ""
    try:
        with open(path, encoding="utf-8") as file:  # noqa: PTH123 - as the shell names it
            return file.read()
    except (OSError, UnicodeDecodeError) as error:
        raise UsageTrouble(f"{path} cannot be read: {getattr(error, 'strerror', None) or error}.") from error


def _shown(channel: dict[str, Any]) -> None:
    settings = ", ".join(
        f"{name}={', '.join(value) if isinstance(value, list) else value}"
        for name, value in channel["settings"].items()
        if value
    )
    whose = f" of {channel['person']}" if channel["person"] else ""
    show.console.print(
        Text(safe(channel["name"]), style="bold").append(f"  {channel['kind']}{safe(whose)}  {safe(settings)}")
    )
    going = channel["deliveries"]
    words = []
    if going["delivered"]:
        words.append(f"delivered last {minute_of(going['delivered'])}")
    if channel["next_digest"]:
        words.append(f"next digest {minute_of(channel['next_digest'])}")
    if channel["quiet_hours"]:
        words.append(f"quiet {channel['quiet_hours']}")
    if words:
        show.say(f"    {safe('; '.join(words))}", show.QUIET)
    if going["waiting"]:
        show.say(
            f"    {count_of(going['waiting'], 'message waits', 'messages wait')}, {count_of(going['tries'], 'try', 'tries')}: {safe(going['trouble'] or 'not due yet')}",
            show.FAILED if going["trouble"] else show.QUIET,
        )
    if going["given_up"]:
        show.say(
            f"    {count_of(going['given_up'], 'message')} did not arrive. Which: obitus channel messages {safe(channel['name'])}",
            show.FAILED,
        )
    if channel["allowed"]:
        show.say(f"    {safe(channel['allowed'])}", show.FAILED)
