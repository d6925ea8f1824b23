"""``obitus keep``: how long what was reported is kept, and what that removes."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from obitus.cli import show
from obitus.cli.api import api
from obitus.cli.commands import Json, Token, Url, app, print_json
from obitus.cli.errors import UsageTrouble
from obitus.cli.safe import safe
from obitus.cli.show import size_of
from obitus.cli.typed_input import octets_of
from obitus.core.wording import count_of

keep = typer.Typer(
    help="How long reports are kept. Issues, counts and decisions always stay.",
    no_args_is_help=True,
    rich_markup_mode=None,
)
app.add_typer(keep, name="keep", short_help="How long reports are kept.")

KINDS = ("failures", "logs", "healthy runs", "other runs")
Kind = Annotated[
    str, typer.Argument(metavar="KIND", help="failures, logs, healthy-runs, other-runs; or `all` with --most.")
]
Of = Annotated[str, typer.Option("--app", help="Only of this app.")]


@keep.command("show")
def show_kept(url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Show for how long each kind is kept, how much room all takes, and what is due to be removed."""
    service = api(url, token)
    answer = service.get("/api/kept")
    if as_json:
        print_json(answer)
        return
    for kept_for in answer["kept"]:
        whose = f" of {safe(kept_for['app'])}" if kept_for["app"] else ""
        usual = "" if kept_for["said"] else " (usual)"
        show.say(f"{kept_for['kind']}{whose}: {_length(kept_for['days'])}{usual}")
    room = f" of {size_of(answer['most_bytes'])}" if answer["most_bytes"] else ""
    oldest = f", the oldest of {answer['oldest']}" if answer["oldest"] else ""
    show.say(f"{count_of(answer['days'], 'day')} take {size_of(answer['bytes'])}{room}{oldest}.", show.QUIET)
    if answer["held"]:
        show.say(answer["held"])
    _steps(service.get("/api/kept/preview"), "is due to be removed")


@keep.command("set")
def set_kept(
    kind: Kind,
    days: Annotated[int | None, typer.Option("--days", min=0, help="Number of days; 0 for ever.")] = None,
    usual: Annotated[bool, typer.Option("--usual", help="Go back to the default.")] = False,
    most: Annotated[
        str, typer.Option("--most", help="With `all`: the room that everything may take: 50GB; none for no bound.")
    ] = "",
    of: Of = "",
    dry: Annotated[bool, typer.Option("--preview", help="Only show what it would remove.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Set how long a kind is kept, or how much room everything may take. It takes effect within ten minutes."""
    order = _order(kind, days, most, of, usual=usual)
    service = api(url, token)
    if dry:
        query = {name: value for name, value in order.items() if value is not None and value != ""}
        answer = service.get("/api/kept/preview", query)
        print_json(answer) if as_json else _steps(answer, "would be removed")
        return
    answer = service.put("/api/kept", order)
    if as_json:
        print_json(answer)
        return
    show.say("It is kept so from now on.")
    _steps(service.get("/api/kept/preview"), "is due to be removed")


def _order(kind: str, days: int | None, most: str, of: str, *, usual: bool) -> dict[str, Any]:
    if kind == "all":
        if not most:
            raise UsageTrouble("--most is missing: obitus keep set all --most 50GB")
        return {"most_bytes": None if most == "none" else octets_of("--most", most)}
    name = kind.replace("-", " ")
    if name not in KINDS:
        raise UsageTrouble(f"{kind!r} is none of {', '.join(one.replace(' ', '-') for one in KINDS)}, all.")
    if (days is None) == (not usual):
        raise UsageTrouble("Say --days NUMBER (0 for ever), or --usual.")
    return {"kind": name, "app": of, "days": days}


def _steps(answer: dict[str, Any], what: str) -> None:
    if not answer["steps"]:
        show.say(f"Nothing {what}.", show.QUIET)
        return
    for step in answer["steps"]:
        stay = (
            f"; {count_of(step['failures_that_stay'], 'failure')} of open issues stay"
            if step["failures_that_stay"]
            else ""
        )
        how = "all of it" if step["whole"] else "a part"
        show.say(f"  {step['day']}  {how}: {safe(step['why'])}, {size_of(step['bytes'])}{stay}")
    show.say(
        f"Of {count_of(len(answer['steps']), 'day')} something {what}, of {answer['whole_days']:,} all: {size_of(answer['bytes'])} and more.",
        show.QUIET,
    )


def _length(days: int) -> str:
    return count_of(days, "day") if days else "for ever"
