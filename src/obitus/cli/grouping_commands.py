"""``obitus why``, ``merge``, ``split``, ``never-together``, ``rules``, ``regroup``, ``undo``: people correct the grouping."""

from __future__ import annotations

import time
from typing import Annotated, Any

import typer
from rich.text import Text

from obitus.cli import show
from obitus.cli.api import Api, api
from obitus.cli.commands import Json, Number, Token, Url, app, print_json
from obitus.cli.errors import CliError
from obitus.cli.safe import safe
from obitus.core.wording import count_of

Yes = Annotated[bool, typer.Option("--yes", help="Do it; without it, only the preview is shown.")]
WAIT_S = 0.2

rules_group = typer.Typer(
    help="Grouping rules: what they would do, and the active ones.", no_args_is_help=True, rich_markup_mode=None
)
app.add_typer(rules_group, name="rules", short_help="Try, add, list or stop grouping rules.")
RuleText = Annotated[
    str,
    typer.Argument(
        metavar="RULE",
        help="together when CONDITION | apart by NAME when CONDITION | skip frames PATTERN | own code PATTERN | library code PATTERN",
    ),
]


@app.command(short_help="Say why failures are one issue.")
def why(number: Number, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Say why failures are one issue, what was left out, and which other issues may be the same."""
    service = api(url, token)
    issue = service.get(f"/api/issues/{number}")
    likes = service.get(f"/api/issues/{number}/perhaps")
    if as_json:
        print_json({"why": issue["why"], **likes})
        return
    show.say(f"Issue {number}: {safe(issue['title'])}")
    for place, reason in enumerate(issue["why"]):
        head = "Why this is one issue" if not place else f"Also, by fingerprint {reason['fingerprint']}"
        show.heading(head)
        if reason["joined"]:
            show.say(f"  joined because: {safe(reason['joined'])}")
        for part in reason["parts"]:
            mark = Text("  counts   ", style=show.ACCENT) if part["counted"] else Text("  left out ", style=show.QUIET)
            show.console.print(
                mark.append(f"{part['kind']}: ", style="").append(safe(part["value"])[:200], style="bold")
            )
            show.inset(Text(safe(part["reason"]), style=show.QUIET), 11)
    show.say(f"  fingerprint {issue['why'][0]['fingerprint']}" if issue["why"] else "", show.QUIET)
    show.heading("Perhaps the same as")
    if not likes["perhaps"]:
        show.say("  no other issue is near it")
    for like in likes["perhaps"]:
        show.console.print(
            Text(f"  {like['number']:>5}  ")
            .append(safe(like["title"]), style="bold")
            .append(f"  {like['failures_in_all']:,}×")
        )
        show.inset(Text(safe(like["reason"]), style=show.QUIET), 9)
    if likes["perhaps"]:
        show.say(
            f"  Merge: obitus merge {number} {likes['perhaps'][0]['number']}. Or: obitus never-together {number} {likes['perhaps'][0]['number']}",
            show.QUIET,
        )
    if likes["never"]:
        show.say(f"  kept apart from: {', '.join(map(str, likes['never']))}", show.QUIET)


@app.command(short_help="Merge an issue into another one.")
def merge(
    number: Number,
    into: Annotated[int, typer.Argument(help="The issue that stays.", min=1)],
    yes: Yes = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Merge an issue into another one: its failures, and later ones with its fingerprints."""
    service = api(url, token)
    preview = service.post(f"/api/issues/{number}/merge/preview", {"into": into})
    if not yes:
        if as_json:
            print_json(preview)
            return
        show.say(
            f"{count_of(preview['failures'], 'failure')} of issue {number} would go to issue {into}, which then has {preview['failures_after']:,}."
        )
        show.say(safe(preview["reason"]), show.QUIET)
        show.say(f"It stays {preview['state']}. Do it: obitus merge {number} {into} --yes")
        return
    _finish(service, service.post(f"/api/issues/{number}/merge", {"into": into}), as_json=as_json)


@app.command(short_help="Split an issue, or take fingerprints out.")
def split(
    number: Number,
    by: Annotated[
        list[str] | None, typer.Option("--by", help="Attribute, or message, caller, line; may be repeated.")
    ] = None,
    fingerprint: Annotated[
        list[str] | None, typer.Option("--fingerprint", help="Take this fingerprint out; may be repeated.")
    ] = None,
    yes: Yes = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Split an issue by the values of an attribute, or take fingerprints out of it."""
    service = api(url, token)
    order = {"by": by or [], "fingerprints": fingerprint or []}
    preview = service.post(f"/api/issues/{number}/split/preview", order)
    if not yes:
        if as_json:
            print_json(preview)
            return
        show.say(
            f"Of the latest {count_of(preview['looked_at'], 'failure')}, issue {number} would become {count_of(len(preview['parts']), 'issue')}:"
        )
        for part in preview["parts"][:30]:
            show.console.print(
                Text(f"{part['failures']:>7,}  ")
                .append(safe(part["value"]) or "(none)", style="bold")
                .append(f"  {safe(part['message'])}", style=show.QUIET),
                overflow="ellipsis",
                no_wrap=True,
            )
        if len(preview["parts"]) < 2:
            show.say("Nothing would be split. Try another attribute.")
        else:
            show.say("The largest stays. Do it: the same command with --yes")
        return
    _finish(service, service.post(f"/api/issues/{number}/split", order), as_json=as_json)


@app.command("never-together", short_help="Say that two issues stay apart.")
def never_together(
    number: Number,
    other: Annotated[int, typer.Argument(min=1, help="The other issue.")],
    url: Url = None,
    token: Token = None,
) -> None:
    """Keep two issues apart: they are no longer suggested for merging, and regrouping keeps them apart."""
    api(url, token).post(f"/api/issues/{number}/never-together", {"other": other})
    show.say(f"Issues {number} and {other} stay apart.")


@app.command(short_help="Regroup an app's past failures.")
def regroup(
    app_name: Annotated[str, typer.Argument(metavar="APP", help="The app whose past failures are regrouped.")],
    yes: Yes = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Regroup an app's past failures, by the recipe and the active rules. Can be undone."""
    service = api(url, token)
    if not yes:
        preview = service.post("/api/regroupings/preview", {"app": app_name})
        print_json(preview) if as_json else _preview(preview, "Do it: the same command with --yes")
        return
    _finish(service, service.post("/api/regroupings", {"app": app_name}), as_json=as_json)


@app.command()
def undo(
    regrouping: Annotated[int, typer.Argument(min=1, help="The regrouping's number, as it was printed.")],
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Undo a merge, a split or a regrouping."""
    service = api(url, token)
    _finish(service, service.post(f"/api/regroupings/{regrouping}/undo", {}), as_json=as_json)


@rules_group.command("list")
def rules_list(url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """List the active grouping rules."""
    answer = api(url, token).get("/api/grouping-rules")
    if as_json:
        print_json(answer)
        return
    if not answer["rules"]:
        show.say(
            "No grouping rule is active. See what one would do: obitus rules try 'apart by caller when type=KeyError'"
        )
    for rule in answer["rules"]:
        show.console.print(
            Text(f"{rule['id']:>4}  ").append(safe(rule["rule"])).append(f"  {safe(rule['person'])}", style=show.QUIET)
        )


@rules_group.command("try")
def rules_try(rule: RuleText, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Show what a rule would do to the latest failures, without keeping it."""
    preview = api(url, token).post("/api/grouping-rules/preview", {"rule": rule})
    print_json(preview) if as_json else _preview(preview, "Use it: obitus rules add with the same text")


@rules_group.command("add")
def rules_add(rule: RuleText, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Use a grouping rule for new failures; `obitus regroup` applies it to past ones."""
    answer = api(url, token).post("/api/grouping-rules", {"rule": rule})
    print_json(answer) if as_json else show.say(
        f"Rule {answer['id']} is active: {safe(answer['rule'])}. To apply it to past failures: obitus regroup APP"
    )


@rules_group.command("stop")
def rules_end(
    rule: Annotated[int, typer.Argument(min=1, help="The rule's number.")], url: Url = None, token: Token = None
) -> None:
    """Stop a grouping rule."""
    api(url, token).delete(f"/api/grouping-rules/{rule}")
    show.say(f"Rule {rule} has ended.")


def _preview(preview: dict[str, Any], then: str) -> None:
    show.say(
        f"Of the latest {count_of(preview['looked_at'], 'failure')}, {preview['matching']:,} match and {preview['moving']:,} would change their issue."
    )
    if preview["joining"]:
        show.heading("Would become one")
    for joining in preview["joining"]:
        issues = ", ".join(map(str, joining["issues"]))
        show.console.print(
            Text(f"  issues {issues}  ")
            .append(safe(joining["example"]["title"]), style="bold")
            .append(f"  {joining['failures']:,}×")
        )
        show.say(f"    {safe(joining['example']['message'])}", show.QUIET)
    if preview["parting"]:
        show.heading("Would be split")
    for parting in preview["parting"]:
        show.say(f"  issue {parting['issue']} into {len(parting['into'])}")
        for part in parting["into"][:10]:
            show.console.print(
                Text(f"    {part['failures']:>6,}×  ")
                .append(safe(part["title"]), style="bold")
                .append(f"  {safe(part['message'])}", style=show.QUIET),
                overflow="ellipsis",
                no_wrap=True,
            )
    show.say(then if preview["moving"] else "Nothing would change.")


def _finish(asked: Api, regrouping: dict[str, Any], *, as_json: bool) -> None:
    """Wait until a regrouping is done, show its progress, and print the result."""
    number = regrouping["id"]
    with show.console.status(f"regrouping {number}") as status:
        while regrouping["state"] in ("running", "undoing"):
            status.update(f"regrouping {number}: {regrouping['moved']:,} of {regrouping['total']:,}")
            time.sleep(WAIT_S)
            regrouping = asked.get(f"/api/regroupings/{number}")
    if as_json:
        print_json(regrouping)
    elif regrouping["state"] == "done":
        show.say(
            f"{safe(regrouping['said'])} {count_of(regrouping['moved'], 'failure')} moved. Undo: obitus undo {number}"
        )
    elif regrouping["state"] == "undone":
        show.say(f"Undone: {safe(regrouping['said'])}")
    else:
        raise CliError(
            f"regrouping {number} failed half-way; the service's log says why. Undo it: obitus undo {number}"
        )
