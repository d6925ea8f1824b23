"""``obitus serve``, ``demo``, ``login``, ``app``: the service itself, signing in, and the apps that report to it."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Literal
from urllib.parse import quote

import typer

from obitus.cli import show
from obitus.cli.api import Api, api
from obitus.cli.commands import Json, Token, Url, app, now_ms, print_json, time_of
from obitus.cli.errors import UsageTrouble
from obitus.cli.login import Login, write
from obitus.cli.safe import safe
from obitus.cli.typed_input import octets_of
from obitus.cli.writing import print_whole
from obitus.core.clock import MINUTE_MS, span_ms, to_ms

app_group = typer.Typer(help="Apps and their reporting keys.", no_args_is_help=True, rich_markup_mode=None)
app.add_typer(app_group, name="app")


@app.command()
def serve(
    data: Annotated[Path, typer.Option("--data", help="Folder that holds the records.")] = Path("obitus-data"),
    host: Annotated[str, typer.Option("--host", help="Address to listen on.")] = "127.0.0.1",
    port: Annotated[
        int, typer.Option("--port", min=0, max=65535, help="Port to listen on; 0 takes a free one.")
    ] = 8611,
    public_url: Annotated[
        str | None, typer.Option("--public-url", help="Address at which people reach the service, if it differs.")
    ] = None,
    new_link: Annotated[bool, typer.Option("--new-link", help="Print a new sign-in link.")] = False,
    plain_http: Annotated[
        bool,
        typer.Option(
            "--plain-http", help="Listen beyond this machine over plain HTTP: passwords and keys travel unencrypted."
        ),
    ] = False,
    password_file: Annotated[
        Path | None, typer.Option("--password-file", help="Set the owner's password from this file.")
    ] = None,
    codes_for_all: Annotated[
        bool,
        typer.Option("--codes-for-all", help="Require one-time codes of everybody who has a password."),
    ] = False,
    openid_issuer: Annotated[
        str | None, typer.Option("--openid-issuer", help="Let people sign in by this OpenID Connect provider.")
    ] = None,
    openid_client: Annotated[str, typer.Option("--openid-client", help="The client's id at the provider.")] = "obitus",
    openid_secret_file: Annotated[
        Path | None, typer.Option("--openid-secret-file", help="File with the client's secret at the provider.")
    ] = None,
    openid_title: Annotated[
        str, typer.Option("--openid-title", help="What the sign-in page calls the provider.")
    ] = "single sign-on",
    openid_joins: Annotated[
        Literal["member", "reader"] | None,
        typer.Option(
            "--openid-joins",
            help="Role of people who join through the provider without an invitation; without it they cannot join.",
        ),
    ] = None,
    proxy: Annotated[
        list[str] | None,
        typer.Option(
            "--proxy", help="Address or network of a proxy in front, whose X-Forwarded-For is trusted. Repeatable."
        ),
    ] = None,
    console_key: Annotated[
        str,
        typer.Option(
            "--console-key",
            help="Key for pages of this service's own address: the console reports its own failures with it.",
        ),
    ] = "",
) -> None:
    """Run the service. The first start prints a sign-in link that works once."""
    from obitus.cli import serving

    openid = (
        serving.OpenIdOrder(openid_issuer, openid_client, openid_secret_file, openid_title, openid_joins)
        if openid_issuer
        else None
    )
    serving.serve(
        data,
        host,
        port,
        public_url,
        new_link=new_link,
        password_file=password_file,
        plain_http=plain_http,
        openid=openid,
        codes_for_all=codes_for_all,
        proxies=tuple(proxy or ()),
        console_key=console_key,
    )


@app.command(short_help="Run the service with made-up data in it.")
def demo(
    data: Annotated[Path, typer.Option("--data", help="Folder for the demo's records; replaced each time.")] = Path(
        "demo-data"
    ),
    port: Annotated[int, typer.Option("--port", min=0, max=65535, help="Port to listen on.")] = 8612,
    load_only: Annotated[bool, typer.Option("--load-only", help="Load the data and end.")] = False,
    until: Annotated[
        datetime | None, typer.Option("--until", help="When the two weeks end, in UTC; now, when it is not given.")
    ] = None,
) -> None:
    """Run the service with two weeks of a made-up ferry line's failures in it."""
    from obitus.cli import serving

    until_ms = to_ms(until.replace(tzinfo=UTC)) if until is not None else None
    serving.demo(data, port, load_only=load_only, until_ms=until_ms)


@app.command(short_help="Keep the address and a token for commands.")
def login(
    where: Annotated[str, typer.Argument(help="A sign-in link, or the service's address (then with --token).")],
    token: Annotated[str | None, typer.Option("--token", help="A personal token; asked for when it is needed.")] = None,
) -> None:
    """Keep the service's address and a personal token in a file that only you can read."""
    url, _, secret = where.partition("#")
    if secret.startswith("invitation="):
        raise UsageTrouble("this is an invitation: open it in a browser, and choose your name and password there.")
    if secret:
        url = url.removesuffix("/sign-in")
        answer = Api(Login(url, None)).post("/api/sign-in", {"link": secret, "token_label": "command line"})
        token = answer["token"]
    elif token is None:
        token = typer.prompt("Personal token", hide_input=True)
    login_given = Login(url.rstrip("/"), token)
    me = Api(login_given).get("/api/me")
    show.say(f"Signed in to {login_given.url} as {me['name']}; kept in {write(login_given)}.")


@app.command(short_help="What people did, and what was refused.")
def acts(
    act: Annotated[str, typer.Option("--act", help="Only acts of this kind, such as `sign-in failed`.")] = "",
    by: Annotated[str, typer.Option("--by", help="Only what this person did.")] = "",
    since: Annotated[str | None, typer.Option("--since", help="From this time on: 2026-11-26T10:00; UTC.")] = None,
    until: Annotated[str | None, typer.Option("--until", help="Until this time.")] = None,
    limit: Annotated[int, typer.Option("--limit", min=1, max=500, help="How many, newest first.")] = 50,
    as_csv: Annotated[bool, typer.Option("--csv", help="Print the whole record as CSV.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """List what people did and what was refused: sign-ins, keys, tokens, rules, merges. Newest first."""
    query = {"act": act, "by": by, "since": time_of(since), "until": time_of(until)}
    if as_csv:
        print_whole(api(url, token).stream("/api/acts/file", query))
        return
    answer = api(url, token).get("/api/acts", query | {"limit": limit})
    print_json(answer) if as_json else show.acts(answer)


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
    may_add_apps: Annotated[
        bool,
        typer.Option(
            "--may-add-apps", help="Let OpenTelemetry senders with this key report for the apps that they name."
        ),
    ] = False,
    may_deploy: Annotated[
        bool, typer.Option("--may-deploy", help="Let a pipeline report deploys with this key.")
    ] = False,
    pages: Annotated[
        list[str] | None,
        typer.Option(
            "--page",
            metavar="ORIGIN",
            help="Make a key for pages of this origin: https://pier.skerry.example. Repeatable.",
        ),
    ] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Make another reporting key of an app; print it once."""
    order = {"environment": environment, "may_add_apps": may_add_apps, "may_deploy": may_deploy, "origins": pages or []}
    answer = api(url, token).post(f"/api/apps/{name}/keys", order)
    if as_json:
        print_json(answer)
    elif may_deploy:
        show.pipeline_key(answer)
    elif pages:
        show.page_key(answer)
    else:
        show.new_key(answer)


@app_group.command("bound")
def app_bound(
    name: Annotated[str, typer.Argument(help="The app.")],
    key: Annotated[
        int | None, typer.Argument(help="The key's number. Without one: list keys with their numbers.")
    ] = None,
    reports: Annotated[int | None, typer.Option("--reports", min=1, help="Most reports in a day.")] = None,
    size: Annotated[str, typer.Option("--size", help="Most that may be sent in a day: 5GB, 500MB.")] = "",
    usual: Annotated[bool, typer.Option("--usual", help="Go back to the usual limits.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Limit what a key may send in a day, or show what it sent today. A limit that is left out is the usual one."""
    service, path = api(url, token), f"/api/apps/{quote(name, safe='')}"
    if key is None:
        answer = service.get(path)
    elif usual == bool(reports or size):
        raise UsageTrouble(f"Say --reports NUMBER or --size 5GB, or --usual: obitus app bound {name} {key} --size 5GB")
    else:
        order = {"reports": reports, "bytes": octets_of("--size", size) if size else None}
        answer = service.put(f"{path}/keys/{key}/day", order)
    print_json(answer) if as_json else show.keys_of(answer)


@app_group.command("remove")
def app_remove(
    name: Annotated[str, typer.Argument(help="The app.")],
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask first.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Remove an app for good, with its keys, its issues and all that it reported."""
    service = api(url, token)
    service.get(f"/api/apps/{quote(name, safe='')}")
    if not yes:
        typer.confirm(f"Remove {safe(name)} with all that it reported? This cannot be undone", abort=True)
    answer = service.delete(f"/api/apps/{quote(name, safe='')}")
    print_json(answer) if as_json else show.say(f"{safe(name)} is removed; its reports are deleted in the background.")


@app_group.command("list")
def app_list(url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """List apps, their releases and keys."""
    answer = api(url, token).get("/api/apps")
    print_json(answer) if as_json else show.apps(answer, now_ms())


@app_group.command("logs")
def app_logs(
    name: Annotated[str, typer.Argument(help="The app.")],
    logger: Annotated[str, typer.Argument(help="A logger and those below it; `all` for every one.")] = "",
    severity: Annotated[
        str, typer.Argument(help="Lowest severity to send: TRACE, DEBUG, INFO, WARN, ERROR, FATAL.")
    ] = "",
    for_: Annotated[str, typer.Option("--for", help="For how long: 15m, 2h, up to 24h.")] = "15m",
    end: Annotated[int | None, typer.Option("--end", help="End the order with this number instead.")] = None,
    environment: Annotated[str, typer.Option("--environment", help="Only in this environment.")] = "",
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Let a logger of an app send more, or less, for a while, without a new deploy. Without a logger: list the active orders."""
    service, path = api(url, token), f"/api/apps/{quote(name, safe='')}/log-orders"
    length = span_ms(for_)
    if end is not None:
        service.delete(f"{path}/{end}")
    elif logger:
        if not severity:
            raise UsageTrouble(f"Say from which severity on: obitus app logs {name} {logger} DEBUG --for 15m")
        if length is None or length < MINUTE_MS:
            raise UsageTrouble(f"{for_!r} is no length of time from a minute on. Say 15m or 2h.")
        order = {
            "logger": "" if logger == "all" else logger,
            "severity": severity.upper(),
            "minutes": length // MINUTE_MS,
            "environment": environment,
        }
        service.post(path, order)
    answer = service.get(path)
    print_json(answer) if as_json else show.log_orders(name, answer)
