"""``obitus handing``: to whom unassigned issues are handed: rules and CODEOWNERS."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote

import typer
from rich.text import Text

from obitus.cli import show
from obitus.cli.api import api
from obitus.cli.commands import Json, Token, Url, app, print_json
from obitus.cli.errors import UsageTrouble
from obitus.cli.safe import safe
from obitus.core.wording import count_of

handing = typer.Typer(
    help="Who gets which issues: rules, and the files that say who owns what.",
    no_args_is_help=True,
    rich_markup_mode=None,
)
app.add_typer(handing, name="handing", short_help="Say who gets which issues: rules, owners' files.")
RuleText = Annotated[str, typer.Argument(metavar="RULE", help="hand to NAME when CONDITION")]
Yes = Annotated[bool, typer.Option("--yes", help="Do it; without it, only the preview is shown.")]


@handing.command("rules")
def rules(url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """List the active hand-over rules; the first one that matches decides."""
    answer = api(url, token).get("/api/handing-rules")
    if as_json:
        print_json(answer)
        return
    for rule in answer["rules"]:
        line = (
            Text(f"{rule['id']:>4}  ", style="bold")
            .append(safe(rule["rule"]))
            .append(f"  {safe(rule['person'])}", style=show.QUIET)
        )
        show.console.print(line)
        if rule["trouble"]:
            show.say(f"      {safe(rule['trouble'])}", show.FAILED)
    if not answer["rules"]:
        show.say("No hand-over rule yet. Try one: obitus handing try 'hand to NAME when app=APP module~part'")


@handing.command("try")
def try_rule(rule: RuleText, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Show which open unassigned issues a rule would hand to whom; nothing is kept."""
    answer = api(url, token).post("/api/handing-rules/preview", {"rule": rule})
    print_json(answer) if as_json else _preview(answer)


@handing.command("add")
def add(rule: RuleText, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Use a rule from now on, for new, regressed and reopened unassigned issues."""
    answer = api(url, token).post("/api/handing-rules", {"rule": rule})
    if as_json:
        print_json(answer)
        return
    show.say(
        f"Rule {answer['id']} is active: {safe(answer['rule'])}. For those that are open already: obitus handing apply"
    )


@handing.command("stop")
def stop(
    rule: Annotated[int, typer.Argument(help="The rule's number.", min=1)], url: Url = None, token: Token = None
) -> None:
    """Stop a hand-over rule."""
    api(url, token).delete(f"/api/handing-rules/{rule}")
    show.say(f"Rule {rule} is stopped. Issues that it handed over stay where they are.")


@handing.command("apply")
def apply(url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Hand over now the latest open unassigned issues."""
    answer = api(url, token).post("/api/handing-rules/apply", {})
    if as_json:
        print_json(answer)
        return
    show.say(f"{count_of(len(answer['handed']), 'issue')} handed over.")
    _would(answer["handed"])


@handing.command("owners")
def owners(
    app_name: Annotated[str, typer.Argument(metavar="APP", help="The app's name.")],
    file: Annotated[
        Path | None,
        typer.Argument(
            metavar="[CODEOWNERS]", help="The file; - for standard input. Without it: show the one that is kept."
        ),
    ] = None,
    beneath: Annotated[
        str, typer.Option("--beneath", help="Folder of the repository in which the app's paths begin: src.")
    ] = "",
    yes: Yes = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Read an app's CODEOWNERS: what it would do, and with --yes, save it."""
    service, path = api(url, token), f"/api/apps/{quote(app_name, safe='')}/owners"
    if file is None:
        answer = service.get(path)
    else:
        order = {"text": _read(file), "beneath": beneath}
        answer = service.put(path, order) if yes else service.post(f"{path}/preview", order)
    if as_json:
        print_json(answer)
        return
    if file is None and not answer["kept"]:
        show.say(
            f"{safe(app_name)} has no CODEOWNERS yet. Read one: obitus handing owners {safe(app_name)} .github/CODEOWNERS"
        )
        return
    show.say(f"{count_of(answer['lines'], 'line')} understood.")
    for remark in answer["remarks"]:
        show.say(f"  {safe(remark)}", show.FAILED)
    for owner in answer["owners"][:30]:
        who = safe(owner["person"]) if owner["person"] else "nobody known"
        show.say(f"  {safe(owner['owner'])}: {who}, {count_of(owner['lines'], 'line')}")
    if any(owner["person"] is None for owner in answer["owners"]):
        show.say("Say who is meant: obitus handing mean OWNER --to NAME", show.QUIET)
    if answer["preview"] is not None:
        _preview(answer["preview"])
        show.say("Save it: the same command with --yes")


@handing.command("mean")
def mean(
    owner: Annotated[str, typer.Argument(help="An owner as CODEOWNERS names it: @skerry/fares.")],
    to: Annotated[str | None, typer.Option("--to", help="The person; leave it out to forget who was meant.")] = None,
    url: Url = None,
    token: Token = None,
) -> None:
    """Say which person an owner's name means."""
    api(url, token).post("/api/owner-names", {"owner": owner, "person": to})
    show.say(f"{safe(owner)} is {safe(to)}." if to else f"What was said of {safe(owner)} is forgotten.")


def _read(file: Path) -> str:
    try:
        return sys.stdin.read() if str(file) == "-" else file.read_text("utf-8", "replace")
    except OSError as error:
        raise UsageTrouble(
            f"{file} cannot be read: {error.strerror}. Name the repository's CODEOWNERS file."
        ) from error


def _preview(answer: dict[str, Any]) -> None:
    if answer["trouble"]:
        show.say(safe(answer["trouble"]))
        return
    show.say(
        f"Of {count_of(answer['looked_at'], 'open unassigned issue')}, {count_of(len(answer['would_hand']), 'issue')} would be handed over."
    )
    _would(answer["would_hand"])


def _would(issues: list[dict[str, Any]]) -> None:
    for issue in issues[:30]:
        show.say(f"  {issue['number']} {safe(issue['title'])} to {safe(issue['to'])}: {safe(issue['why'])}")
