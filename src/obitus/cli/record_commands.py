"""``obitus logs``, ``runs``, ``failures``: searching, counting, following and exporting records."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from typing import Annotated, Any, Final, Literal

import typer

from obitus.cli import show_records
from obitus.cli.api import Api, api
from obitus.cli.commands import App, Environment, Json, Release, Token, Url, Window, app, check_window, print_json
from obitus.cli.errors import UsageTrouble
from obitus.cli.following import follow_records
from obitus.cli.writing import print_whole

KindName = Literal["failures", "logs", "runs"]

Asked = Annotated[
    str | None,
    typer.Argument(
        metavar="[QUESTION]", help="What to ask, such as: 'user.id=p-102 severity>=WARN'. See docs/questions.md."
    ),
]
Limit = Annotated[int, typer.Option("--limit", min=1, max=500, help="Most records to show.")]
Cursor = Annotated[str | None, typer.Option("--cursor", help="Continue with records older than an earlier page.")]
Columns = Annotated[str | None, typer.Option("--columns", help="Show these fields as a table: time,severity,user.id.")]
Sort = Annotated[
    str | None,
    typer.Option("--sort", help="Sort by a field, smallest first; --sort=-duration sorts greatest first."),
]
Whole = Annotated[bool, typer.Option("--whole", help="Show each record in full.")]
Summed = Annotated[
    str | None,
    typer.Option("--summary", help="Count instead: 'count by logger', 'p95 duration by entry_point over time'."),
]
Templates = Annotated[bool, typer.Option("--templates", help="Group logs by the template of their message.")]
Run = Annotated[str | None, typer.Option("--run", help="All records of the run with this id.")]
Trace = Annotated[str | None, typer.Option("--trace", help="All records of the trace with this id, across apps.")]
Follow = Annotated[bool, typer.Option("--follow", help="Keep printing what arrives, until interrupted.")]
Csv = Annotated[bool, typer.Option("--csv", help="Print all matching records as CSV, newest first.")]
Ndjson = Annotated[bool, typer.Option("--ndjson", help="Print all matching records as lines of JSON, newest first.")]


HELP: Final[dict[KindName, str]] = {
    "logs": "Show log records, the newest at the bottom.",
    "runs": "Show runs that were kept whole, the newest at the bottom. How many there were in all: `obitus releases`.",
    "failures": "Show failures one by one, the newest at the bottom. Grouped into issues: `obitus issues`.",
}


SHORT_HELP: Final[dict[KindName, str]] = {
    "logs": "Show, count and follow log records.",
    "runs": "Show, count and follow runs that were kept.",
    "failures": "Show, count and follow failures.",
}


def _add_command(kind: KindName) -> None:
    def command(
        question: Asked = None,
        window: Window = "24h",
        app_name: App = None,
        environment: Environment = None,
        release: Release = None,
        limit: Limit = 40,
        cursor: Cursor = None,
        columns: Columns = None,
        sort: Sort = None,
        whole: Whole = False,
        summary: Summed = None,
        templates: Templates = False,
        run: Run = None,
        trace: Trace = None,
        follow: Follow = False,
        csv: Csv = False,
        ndjson: Ndjson = False,
        url: Url = None,
        token: Token = None,
        as_json: Json = False,
    ) -> None:
        check_window(window)
        narrowed = {
            "question": question, "window": window, "app": app_name, "environment": environment, "release": release
        }  # fmt: skip
        how = _How(
            limit, cursor, _names(columns), sort, whole, summary, templates, run, trace, follow, csv, ndjson, as_json
        )
        _show(kind, api(url, token), narrowed, how)

    app.command(kind, help=HELP[kind], short_help=SHORT_HELP[kind])(command)


for _kind in HELP:
    _add_command(_kind)


@dataclass(frozen=True)
class _How:
    """Options of the output; raises UsageTrouble where two of them exclude each other."""

    limit: int
    cursor: str | None
    columns: list[str]
    sort: str | None
    whole: bool
    summary: str | None
    templates: bool
    run: str | None
    trace: str | None
    follow: bool
    csv: bool
    ndjson: bool
    as_json: bool

    def __post_init__(self) -> None:
        ways = ("summary", "templates", "run", "trace", "follow", "csv", "ndjson")
        options = [f"--{name}" for name in ways if getattr(self, name)]
        if len(options) > 1:
            raise UsageTrouble(f"{options[0]} and {options[1]} cannot be had together. Leave one out.")
        if self.sort and options:
            raise UsageTrouble(f"--sort is for a list of records. Leave it out, or {options[0]}.")


def _names(columns: str | None) -> list[str]:
    return [name.strip() for name in (columns or "").split(",") if name.strip()]


def _show(kind: KindName, service: Api, narrowed: dict[str, Any], how: _How) -> None:
    path = f"/api/records/{kind}"
    if how.csv or how.ndjson:
        form = {"form": "csv" if how.csv else "ndjson", "column": how.columns}
        print_whole(service.stream(f"{path}/export", narrowed | form))
    elif how.run or how.trace:
        answer = service.get("/api/together", {"run": how.run, "trace": how.trace})
        print_json(answer) if how.as_json else show_records.together(answer, whole=how.whole)
    elif how.templates:
        if kind != "logs":
            raise UsageTrouble("Only logs have templates: obitus logs --templates")
        answer = service.get("/api/records/logs/templates", narrowed | {"most": how.limit})
        print_json(answer) if how.as_json else show_records.templates(answer)
    elif how.summary:
        answer = service.get(f"{path}/summary", narrowed | {"summary": how.summary, "most": how.limit})
        print_json(answer) if how.as_json else show_records.summary(kind, answer)
    elif how.follow:
        _follow(kind, service, narrowed, how)
    else:
        answer = service.get(path, narrowed | {"limit": how.limit, "cursor": how.cursor, "sort": how.sort})
        if how.as_json:
            print_json(answer)
        else:
            show_records.records(kind, answer, how.columns, how.sort, whole=how.whole, asked=bool(narrowed["question"]))


LATEST_BEFORE: Final = 10


def _follow(kind: KindName, asked: Api, narrowed: dict[str, Any], how: _How) -> None:
    """Show the latest records, and then each that comes."""
    with suppress(KeyboardInterrupt):
        for rows in follow_records(asked, kind, narrowed, LATEST_BEFORE):
            _print_rows(kind, rows, how)


def _print_rows(kind: KindName, rows: list[dict[str, Any]], how: _How) -> None:
    for row in rows:
        if how.as_json:
            print_json(row)
        else:
            show_records.row(row, how.columns, whole=how.whole)
