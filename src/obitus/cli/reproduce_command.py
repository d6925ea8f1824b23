"""``obitus reproduce``: an issue's latest failure as something to run: the failing call as a test, the request as a command or a test."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

import typer

from obitus.cli.api import api
from obitus.cli.commands import Json, Number, Token, Url, app, print_json
from obitus.cli.safe import safe
from obitus.cli.show import QUIET, say
from obitus.cli.writing import print_whole, write_file


@app.command(short_help="Print a test or a command that fails the same way.")
def reproduce(
    number: Number,
    form: Annotated[
        Literal["call", "expects", "curl", "http", "pytest"],
        typer.Option(
            "--as",
            help="call: a pytest of the failing call, which fails until the fault is fixed; expects: one that passes until then; "
            "curl, http, pytest: the request.",
        ),
    ] = "call",
    failure: Annotated[str | None, typer.Option("--failure", help="The id of one of its failures; else the latest.")] = None,
    to: Annotated[str, typer.Option("--to", help="The development server that the request is sent to.")] = "http://127.0.0.1:8000",
    write: Annotated[Path | None, typer.Option("--write", help="Write it into this folder instead.")] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:  # fmt: skip
    """Print what reproduces an issue: the call of its innermost own function, with the captured values, or the captured request."""
    path = f"/api/failures/{failure}/reproduce" if failure else f"/api/issues/{number}/reproduce"
    answer = api(url, token).get(path, {"as": form, "base": to})
    if as_json:
        print_json(answer)
        return
    if write is None:
        print_whole([answer["text"].encode()])
        return
    target = write / answer["name"]
    write_file(target, answer["text"])
    for missing_value in answer["missing"]:
        what = (
            f"{missing_value['name']}: put in what fits; seen: {missing_value['seen']}"
            if missing_value["name"]
            else missing_value["seen"]
        )
        say(f"  {safe(what)}", QUIET)
    for note in answer["notes"]:
        say(f"  {safe(note)}", QUIET)
    say(
        f"Run it: {'sh' if form == 'curl' else 'pytest'} {target}"
        if form != "http"
        else "Open it in an editor that sends such files."
    )
