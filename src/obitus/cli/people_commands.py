"""``obitus people``: who works here, in which role, who is invited, who sees which app."""

from __future__ import annotations

from typing import Annotated, Any, Literal
from urllib.parse import quote

import typer

from obitus.cli.api import api
from obitus.cli.commands import Json, Token, Url, app, now_ms, print_json
from obitus.cli.safe import safe
from obitus.cli.show import console, ms_of, plain_table, say
from obitus.core.wording import ago, minute_of

people_group = typer.Typer(help="People, their roles and invitations.", no_args_is_help=True, rich_markup_mode=None)
app.add_typer(people_group, name="people")

RoleName = Literal["owner", "member", "reader"]
Name = Annotated[str, typer.Argument(help="The name of one of the people.")]


@people_group.command("list")
def people_list(url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """List the people, and the apps that only some of them see."""
    answer = api(url, token).get("/api/people")
    print_json(answer) if as_json else _show(answer, now_ms())


@people_group.command("invite")
def people_invite(
    label: Annotated[str, typer.Argument(help="Whom it is for.")],
    role: Annotated[RoleName, typer.Option("--as", help="owner: everything; member: decides about issues; reader: reads.")] = "member",
    sees: Annotated[list[str] | None, typer.Option("--sees", help="A limited app that they will see; may be repeated.")] = None,
    days: Annotated[int, typer.Option("--days", min=1, max=30, help="After how many days it ends.")] = 7,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:  # fmt: skip
    """Print a link with which one person can join."""
    order = {"label": label, "role": role, "apps": sees or [], "days": days}
    answer = api(url, token).post("/api/people/invitations", order)
    print_json(answer) if as_json else _show_link(f"Give this to {safe(label)}", answer)


@people_group.command("role")
def people_role(
    name: Name,
    role: Annotated[RoleName, typer.Argument(help="What they are from now on.")],
    url: Url = None,
    token: Token = None,
) -> None:
    """Give somebody another role."""
    api(url, token).patch(f"/api/people/{quote(name, safe='')}", {"role": role})
    say(f"{safe(name)} is {'an' if role == 'owner' else 'a'} {role} from now on.")


@people_group.command("remove")
def people_remove(
    name: Name,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask first.")] = False,
    url: Url = None,
    token: Token = None,
) -> None:
    """Remove a person; their sessions and tokens end at once. The record of what they did keeps their name."""
    asked = api(url, token)
    if not yes:
        typer.confirm(f"Remove {safe(name)}? Their sessions and tokens end", abort=True)
    asked.delete(f"/api/people/{quote(name, safe='')}")
    say(f"{safe(name)} is removed.")


@people_group.command("link")
def people_link(name: Name, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Print a sign-in link that works once: for somebody who has lost the password, or the device with the one-time codes."""
    answer = api(url, token).post(f"/api/people/{quote(name, safe='')}/link", {})
    print_json(answer) if as_json else _show_link(f"Give this to {safe(name)}", answer)


@people_group.command("limit")
def people_limit(
    app_name: Annotated[str, typer.Argument(metavar="APP", help="The app.")],
    to: Annotated[list[str] | None, typer.Option("--to", help="Who sees it beside owners; may be repeated.")] = None,
    all_: Annotated[bool, typer.Option("--all", help="Let everybody see it again.")] = False,
    url: Url = None,
    token: Token = None,
) -> None:
    """Let only owners and the people named see an app and its records."""
    api(url, token).put(f"/api/apps/{quote(app_name, safe='')}/people", {"people": None if all_ else to or []})
    sentence = "Everybody sees" if all_ else f"Owners{' and ' + ', '.join(map(safe, to)) if to else ' alone'} see"
    say(f"{sentence} {safe(app_name)} from now on.")


def _show_link(said: str, answer: dict[str, Any]) -> None:
    say(f"{said}; works once, until {minute_of(answer['expires'])} UTC:")
    console.print(answer["link"], soft_wrap=True, markup=False)


def _show(answer: dict[str, Any], at_ms: int) -> None:
    names = ("name", "role", "last here", "about", "sees too")
    rows = plain_table(*names, left=names)
    for person in answer["people"]:
        more = [
            words
            for words, holds in (
                ("you", person["is_me"]),
                ("one-time codes", person["has_codes"]),
                ("OpenID Connect", person["openid"]),
                ("no password", not person["has_password"] and not person["openid"]),
            )
            if holds
        ]
        used = ago(ms_of(person["used"]), at_ms) if person.get("used") else "never"
        rows.add_row(safe(person["name"]), person["role"], used, ", ".join(more), ", ".join(map(safe, person["apps"])))
    console.print(rows)
    if answer["limited"]:
        say(f"Only owners, and people named for them, see {', '.join(map(safe, answer['limited']))}.")
