"""``obitus tracepoint``: the state at a line of a running app the next time that it runs, without a restart or a deploy."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import Annotated, Any, Final
from urllib.parse import quote

import typer
from rich.text import Text

from obitus.cli import show, show_issue
from obitus.cli.api import api
from obitus.cli.commands import Json, Token, Url, app, print_json
from obitus.cli.errors import UsageTrouble
from obitus.cli.following import follow_records
from obitus.cli.safe import safe
from obitus.core.clock import span_ms
from obitus.core.tracepoints import hash_of, hash_of_line
from obitus.core.wording import count_of, span

tracepoint = typer.Typer(
    help="See the values at a line of a running app the next time that it runs. The app allows it: OBITUS_TRACEPOINTS=1.",
    no_args_is_help=True,
    rich_markup_mode=None,
)
app.add_typer(tracepoint, name="tracepoint", short_help="See the values at a line of a running app.")

Number = Annotated[int, typer.Argument(metavar="NUMBER", help="The tracepoint's number.", min=1)]
STATE_SHAPES: Final = {"set": "●", "waits": "○", "not set": "×", "over": "◇"}
LATEST: Final = 5


@tracepoint.command("add")
def add(
    app_names: Annotated[str, typer.Argument(metavar="APP", help="The app; several with commas.")],
    place: Annotated[str, typer.Argument(metavar="FILE:LINE", help="The line: fares.py:24, sailings/fares.py:24.")],
    lives: Annotated[str, typer.Option("--for", metavar="SPAN", help="How long it stays set: 90s, 30m, 2h.")],
    condition: Annotated[str, typer.Option("--when", help="Only when this holds: 'passengers > 4'.")] = "",
    values: Annotated[
        list[str] | None,
        typer.Option("--value", help="Expression to evaluate: 'len(items)', 'base: self.rates[0]'. Repeatable."),
    ] = None,
    message: Annotated[str, typer.Option("--say", help="Text of the log record: 'fare {base} for {passengers}'.")] = "",
    collect: Annotated[
        str,
        typer.Option("--collect", help="What to collect, of: locals, stack, trail, attributes; or none."),
    ] = "locals,stack,attributes",
    hits: Annotated[
        int, typer.Option("--hits", min=1, help="End it after this many hits of all instances together.")
    ] = 20,
    rate: Annotated[float, typer.Option("--rate", min=0.01, help="Most hits a second in each process.")] = 10.0,
    depth: Annotated[int, typer.Option("--depth", min=1, help="How deep values inside values are shown.")] = 3,
    size: Annotated[int, typer.Option("--size", min=50, help="Most characters of each value.")] = 1000,
    environment: Annotated[str, typer.Option("--environment", help="Only this environment.")] = "",
    release: Annotated[str, typer.Option("--release", help="Only this release.")] = "",
    hosts: Annotated[
        list[str] | None, typer.Option("--host", help="Only this host; * for any characters. Repeatable.")
    ] = None,
    instances: Annotated[
        list[str] | None,
        typer.Option("--instance", help="Only this process: its number, or the beginning of its id. Repeatable."),
    ] = None,
    issue: Annotated[int | None, typer.Option("--issue", min=1, help="The issue that it is for.")] = None,
    checkout: Annotated[
        Path | None,
        typer.Option(
            "--checkout",
            help="Folder of the source: hashes of file and line are compared with the running code; no source is sent.",
        ),
    ] = None,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Set a tracepoint. It reaches running instances that allow it within a second, and ends by itself."""
    file, line = _place(place)
    lives_ms = _lives_ms(lives)
    order: dict[str, Any] = {
        "file": file, "line": line, "minutes": lives_ms / 60_000, "condition": condition, "values": values or [],
        "message": message, "collect": _collected(collect), "hits": hits, "per_second": rate, "depth": depth, "size": size,
        "environment": environment, "release": release, "hosts": hosts or [], "instances": instances or [],
    }  # fmt: skip
    if issue is not None:
        order["issue"] = issue
    order |= _source(file, line, checkout)
    service = api(url, token)
    for name in app_names.split(","):
        answer = service.post(f"/api/apps/{quote(name.strip(), safe='')}/tracepoints", order)
        if as_json:
            print_json(answer)
            continue
        number = answer["tracepoint"]["id"]
        show.say(f"Tracepoint {number} is set for {span(lives_ms)}, up to {count_of(hits, 'hit')}.")
        if "hash" in order:
            show.say(
                "It is set only where this very source runs: hashes are compared, and no source was sent.", show.QUIET
            )
        running = service.get("/api/tracepoints", {"app": name.strip()})["instances"]
        if not running:
            show.say(
                f"No running instance of {safe(name.strip())} allows tracepoints. Start it with OBITUS_TRACEPOINTS=1.",
                show.FAILED,
            )
        show.say(f"See what it finds: obitus tracepoint hits {number} --follow", show.QUIET)


@tracepoint.command("list")
def list_tracepoints(
    app_name: Annotated[str, typer.Option("--app", help="Only this app.")] = "",
    every: Annotated[bool, typer.Option("--all", help="Include those that are over.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """List the active tracepoints, and the instances that allow them."""
    answer = api(url, token).get("/api/tracepoints", {"app": app_name or None})
    if as_json:
        print_json(answer)
        return
    visible = [listed for listed in answer["tracepoints"] if every or listed["active"]]
    for listed in reversed(visible):
        _shown(listed)
    over = len(answer["tracepoints"]) - len(visible)
    if not visible:
        show.say("No tracepoint is set. Set one: obitus tracepoint add APP FILE:LINE --for 30m")
    if over:
        show.say(f"{over:,} more {'is' if over == 1 else 'are'} over (--all).", show.QUIET)
    running = answer["instances"]
    by_app: dict[str, int] = {}
    for listed in running:
        by_app[listed["app"]] = by_app.get(listed["app"], 0) + 1
    instances = ", ".join(f"{count_of(count, 'instance')} of {safe(name)}" for name, count in by_app.items())
    show.say(
        f"Tracepoints are allowed in {instances}."
        if instances
        else "No running instance allows tracepoints (OBITUS_TRACEPOINTS=1).",
        show.QUIET,
    )


@tracepoint.command("show")
def show_one(number: Number, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """Show a tracepoint, where it is set, and where it could not be set and why."""
    answer = api(url, token).get(f"/api/tracepoints/{number}")
    if as_json:
        print_json(answer)
        return
    _shown(answer["tracepoint"])
    for state in answer["states"]:
        where = f"{state['host']} {state['pid']}, {state['environment']}, {state['release'] or 'no release'}, {state['runtime']}"
        show.console.print(
            Text(f"  {STATE_SHAPES.get(state['state'], '?')} {state['state']:<8}").append(safe(where), style=show.QUIET)
        )
        counts = (
            f"ran {count_of(state['looked'], 'time')}, {count_of(state['hits'], 'hit')}, {state['cost_ms']:,.1f} ms"
        )
        show.say(
            f"      {counts}"
            + (f"; {state['left_out']:,} more hits were too many a second" if state["left_out"] else ""),
            show.QUIET,
        )
        for reason in (state["why"], state["trouble"]):
            if reason:
                show.say(f"      {safe(reason)}", show.FAILED if state["state"] == "not set" else "")
        if state["offers"]:
            show.say(f"      Lines that can have one: {', '.join(map(str, state['offers']))}", show.QUIET)
    if not answer["states"] and answer["tracepoint"]["active"]:
        show.say("  No instance has answered yet. Does one run with OBITUS_TRACEPOINTS=1?", show.QUIET)


@tracepoint.command("hits")
def hits(
    number: Number,
    limit: Annotated[int, typer.Option("--limit", min=1, max=100, help="Most hits to show.")] = LATEST,
    following: Annotated[bool, typer.Option("--follow", help="Keep printing what arrives, until interrupted.")] = False,
    all_frames: Annotated[
        bool, typer.Option("--all-frames", help="Show all calls of the stack, those of libraries too.")
    ] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Show the hits of a tracepoint, the newest at the bottom: values, locals, stack, run."""
    service = api(url, token)
    question = {"question": f"tracepoint.id={number}", "window": "14d"}
    service.get(f"/api/tracepoints/{number}")

    def print_hit(row: dict[str, Any]) -> None:
        answer = service.get(f"/api/record/{row['number']}")
        print_json(answer) if as_json else _hit(answer, all_frames=all_frames)

    if not following:
        rows = service.get("/api/records/logs", question | {"limit": limit})["records"]
        for row in reversed(rows):
            print_hit(row)
        if not rows and not as_json:
            show.say(f"Nothing yet. Where is it set? obitus tracepoint show {number}")
        return
    with suppress(KeyboardInterrupt):
        for rows in follow_records(service, "logs", question, limit):
            for row in rows:
                print_hit(row)


@tracepoint.command("end")
def end(number: Number, url: Url = None, token: Token = None) -> None:
    """End a tracepoint before its time; all instances remove it within a second."""
    service = api(url, token)
    ended = service.get(f"/api/tracepoints/{number}")["tracepoint"]
    service.delete(f"/api/apps/{quote(ended['app'], safe='')}/tracepoints/{number}")
    show.say(f"Tracepoint {number} is over, after {count_of(ended['hits'], 'hit')}.")


def _place(text: str) -> tuple[str, int]:
    file, colon, line = text.rpartition(":")
    if not colon or not file or not line.isdigit() or int(line) < 1:
        raise UsageTrouble(f"{text!r}: FILE:LINE is expected, such as fares.py:24.")
    return file, int(line)


def _lives_ms(text: str) -> int:
    seconds = text.strip().lower().removesuffix("s")
    lives_ms = int(seconds) * 1000 if seconds != text and seconds.isdigit() else span_ms(text)
    if not lives_ms:
        raise UsageTrouble(f"--for {text!r}: a span is expected, such as 90s, 30m or 2h.")
    return lives_ms


def _collected(text: str) -> list[str]:
    return [] if text.strip() == "none" else [name.strip() for name in text.split(",") if name.strip()]


def _source(file: str, line: int, checkout: Path | None) -> dict[str, Any]:
    """Return hash and line of code of a file in a checkout or the current folder; nothing else of it is sent."""
    folder = checkout or Path()
    path = folder / file
    if not path.is_file():
        if checkout is None:
            return {}
        sources = [one for one in folder.rglob(Path(file).name) if one.as_posix().endswith(file.removeprefix("./"))][:3]
        if len(sources) != 1:
            shown = ", ".join(map(str, sources)) or "none"
            raise UsageTrouble(f"{folder} has no single file that ends in {file} ({shown}). Name more of its path.")
        path = sources[0]
    source = path.read_bytes()
    lines = source.decode("utf-8", "replace").splitlines()
    if line > len(lines):
        raise UsageTrouble(f"{path} has {count_of(len(lines), 'line')}, none at {line}.")
    code = lines[line - 1].strip()
    if not code:
        raise UsageTrouble(f"{path}:{line} is an empty line. Name one that has code.")
    return {"hash": hash_of(source), "code_hash": hash_of_line(code)}


def _shown(tracepoint: dict[str, Any]) -> None:
    title = Text(f"{tracepoint['id']:>4}  ", style=show.QUIET).append(
        safe(f"{tracepoint['app']} {tracepoint['file']}:{tracepoint['line']}"), style="bold"
    )
    if tracepoint["condition"]:
        title.append(safe(f"  when {tracepoint['condition']}"))
    show.console.print(title)
    where = ", ".join(
        filter(None, (tracepoint["environment"], tracepoint["release"], *tracepoint["hosts"], *tracepoint["instances"]))
    )
    asks = [f"“{tracepoint['message']}”"] if tracepoint["message"] else []
    asks += [*tracepoint["values"], *tracepoint["collect"]]
    show.say(f"      {safe(', '.join(asks))}" + (f"; only {safe(where)}" if where else ""), show.QUIET)
    state = (
        f"set in {count_of(tracepoint['set_in'], 'instance')}"
        + (f", waits in {tracepoint['waits_in']:,}" if tracepoint["waits_in"] else "")
        + (f", not set in {tracepoint['not_set_in']:,}" if tracepoint["not_set_in"] else "")
        if tracepoint["active"]
        else f"over: {safe(tracepoint['over'])}"
    )
    cost = (
        f", the line ran {count_of(tracepoint['looked'], 'time')}, {tracepoint['cost_ms']:,.1f} ms"
        if tracepoint["looked"]
        else ""
    )
    show.say(
        f"      {tracepoint['hits']:,} of {count_of(tracepoint['most_hits'], 'hit')}; {state}{cost}. Set by {safe(tracepoint['person'])}, until {tracepoint['until'][11:16]} UTC.",
        show.QUIET,
    )


def _hit(answer: dict[str, Any], *, all_frames: bool) -> None:
    values, report = answer["record"]["values"], answer["report"] or {}
    hit = report.get("hit") or {}
    line = Text(answer["record"]["time"][11:23] + "  ", style=show.QUIET).append(
        safe(values.get("message", "")), style="bold"
    )
    show.console.print(line, overflow="fold", soft_wrap=True)
    run = f", run {values['run']} ({safe(values.get('entry_point', ''))})" if "run" in values else ""
    show.say(
        f"    {safe(values.get('app', ''))} on {safe(values.get('host.name', ''))} {values.get('process.pid', '')}{run}",
        show.QUIET,
    )
    for name, value in hit.get("values", {}).items():
        show.inset(Text(f"{safe(name)} = ").append(safe(value), style=show.ACCENT), 4)
    frames = hit.get("frames", [])
    if frames:
        show_issue.frame_of(frames[-1], most=200)
    callers = [frame for frame in frames[:-1] if all_frames or frame.get("own")]
    for frame in reversed(callers):
        name = safe(f"{frame.get('module') or ''}.{frame['function']}".lstrip("."))
        show.say(f"    called by {name}, {safe(frame.get('file', ''))}:{frame.get('line', '?')}", show.QUIET)
    if len(callers) + 1 < len(frames):
        show.say(
            f"    … {count_of(len(frames) - 1 - len(callers), 'library frame')} (--all-frames shows them)", show.QUIET
        )
    for step in hit.get("trail", [])[-10:]:
        show.say(f"    {step['time'][11:23]}  {step['kind']}  {safe(step['message'])}", show.QUIET)
