"""``obitus document``: issues, or what failed in a span of time, as a document for the post-mortem."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Literal

import typer

from obitus.cli.api import api
from obitus.cli.commands import App, Environment, Token, Url, Window, app, check_window, time_of
from obitus.cli.writing import print_whole, write_file


@app.command(short_help="Write issues, or a span of time, as a document.")
def document(
    numbers: Annotated[
        list[int] | None, typer.Argument(metavar="[NUMBER]…", help="The issues; without any, those that failed most.", min=1)
    ] = None,
    form: Annotated[Literal["markdown", "html"], typer.Option("--as", help="html is one page that needs nothing else.")] = "markdown",
    title: Annotated[str, typer.Option("--title", help="The heading.")] = "",
    window: Window = "14d",
    start: Annotated[str | None, typer.Option("--start", help="From this time on instead: 2026-11-26T10:00; UTC.")] = None,
    end: Annotated[str | None, typer.Option("--end", help="Until this time; now, when it is left out.")] = None,
    app_name: App = None,
    environment: Environment = None,
    write: Annotated[Path | None, typer.Option("--write", help="Write it into this file instead.")] = None,
    url: Url = None,
    token: Token = None,
) -> None:  # fmt: skip
    """Print what failed, since when, for whom, what led up to it, decisions and checks, the likely cause, and whether the fix held."""
    check_window(window)
    query = {
        "issue": numbers or [],
        "as": form,
        "title": title or None,
        "window": window,
        "start": time_of(start),
        "end": time_of(end),
    }
    query |= {"app": app_name, "environment": environment}
    text = b"".join(api(url, token).stream("/api/document", query))
    if write is None:
        print_whole([text])
    else:
        write_file(write, text.decode())
