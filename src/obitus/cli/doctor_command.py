"""``obitus doctor``: what is wrong with an installation, and what to do about it."""

from __future__ import annotations

import sys
import time
from collections.abc import Iterator
from datetime import datetime
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Final

import typer
from rich.text import Text

from obitus.cli import show
from obitus.cli.commands import Json, app, print_json
from obitus.cli.errors import UsageTrouble
from obitus.cli.safe import safe
from obitus.core.clock import to_ms
from obitus.core.version import VERSION
from obitus.core.wording import count_of

if TYPE_CHECKING:
    from obitus.cli.keeping import Finding

MARKS: Final = {"right": ("✓", ""), "soon": ("!", "bold"), "wrong": ("×", show.FAILED)}
PORT: Final = 8611
LEAST_DESCRIPTORS: Final = 2048
APART_S: Final = 30.0
CONSOLE: Final = "service/console_files/index.html"


@app.command(short_help="Look what is wrong with an installation.")
def doctor(
    data: Annotated[Path, typer.Option("--data", help="Folder of the service's records.")] = Path("obitus-data"),
    port: Annotated[
        int, typer.Option("--port", min=1, max=65535, help="Port of the service, where none runs yet.")
    ] = PORT,
    as_json: Json = False,
) -> None:
    """Look at versions, rights, disk, clock, port, log of writes and the latest backup. Ends with 1 where something is wrong.

    Nothing is changed; it may run beside the service, and as the user who runs it.
    """
    found = list(_all(data, port))
    wrong = [one for one in found if one.grade == "wrong"]
    if as_json:
        print_json({"found": [one._asdict() for one in found], "wrong": len(wrong)})
    else:
        _show(found)
    if wrong:
        raise typer.Exit(1)


def _all(data: Path, port: int) -> Iterator[Finding]:
    if find_spec("fastapi") is None:
        raise UsageTrouble("the service is not installed here. Run: pip install 'obitus[server]'")
    from obitus.cli.keeping import Finding, examine

    yield Finding("Obitus", "right", f"{VERSION} on Python {sys.version.split()[0]}")
    if not (Path(__file__).parents[1] / CONSOLE).is_file():
        yield Finding(
            "console", "wrong", "its files are missing", "In a checkout: make setup. Else install the wheel again."
        )
    yield _descriptors()
    found, address = examine(data)
    yield from found
    if address is None:
        yield _free(port)
    else:
        yield from _service(address)


def _descriptors() -> Finding:
    from obitus.cli.keeping import Finding

    try:
        import resource
    except ImportError:
        return Finding("descriptors", "right", "not bounded here")
    most = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    if most != resource.RLIM_INFINITY and most < LEAST_DESCRIPTORS:
        return Finding(
            "descriptors",
            "soon",
            f"{most:,} at most: so many files and connections",
            "Raise it: LimitNOFILE=65536 in the unit, or ulimit -n.",
        )
    return Finding("descriptors", "right", "as many as needed" if most == resource.RLIM_INFINITY else f"{most:,}")


def _free(port: int) -> Finding:
    """Say whether the port can be had: nobody runs on this folder."""
    import socket

    from obitus.cli.keeping import Finding

    with socket.socket() as one:
        one.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            one.bind(("127.0.0.1", port))
        except OSError as error:
            return Finding(
                "port",
                "soon",
                f"{port} cannot be had ({error.strerror}), and no service runs on this folder",
                "Another program has it: give obitus serve another --port.",
            )
    return Finding("port", "right", f"{port} is free; no service runs on this folder")


def _service(address: str) -> Iterator[Finding]:
    """Ask the service how it is."""
    import urllib3

    from obitus.cli.keeping import Finding

    if not address:
        yield Finding("service", "soon", "it is starting, or stopping", "Look again in a moment.")
        return
    try:
        asked_s = time.time()
        answer = urllib3.request("GET", f"{address}/health", retries=False, timeout=10)
        health: dict[str, Any] = answer.json()
    except (urllib3.exceptions.HTTPError, ValueError) as error:
        yield Finding(
            "service",
            "wrong",
            f"{address} does not answer ({type(error).__name__})",
            "Look at its log; stop it, and start it again.",
        )
        return
    if health.get("ready"):
        yield Finding("service", "right", f"ready at {address}")
    else:
        yield Finding(
            "service",
            "wrong",
            " ".join(map(str, health.get("reasons", ()))) or "not ready",
            "docs/serving.md says what to do for each.",
        )
    if health.get("version") != VERSION:
        yield Finding(
            "running version",
            "soon",
            f"{health.get('version')} runs, {VERSION} is installed",
            "Start it again to bring it up to date.",
        )
    try:
        apart_s = to_ms(datetime.fromisoformat(str(health["time"]))) / 1000 - asked_s
    except (KeyError, ValueError):
        return
    if abs(apart_s) > APART_S:
        yield Finding(
            "clock of the service",
            "soon",
            f"{abs(apart_s):,.0f} s {'ahead of' if apart_s > 0 else 'behind'} this machine's",
            "The clock jumped, or is wrong: set it by NTP.",
        )


def _show(found: list[Finding]) -> None:
    width = max(len(one.what) for one in found)
    for one in found:
        mark, style = MARKS[one.grade]
        line = Text(f"{mark} ", style=style).append(f"{one.what:<{width}}  ", style=style or show.QUIET)
        show.console.print(line.append(safe(one.said), style=style), soft_wrap=True)
        if one.to_do:
            show.console.print(Text(f"  {'':<{width}}  → {safe(one.to_do)}"), soft_wrap=True)
    wrong, soon = (sum(one.grade == grade for one in found) for grade in ("wrong", "soon"))
    if wrong or soon:
        show.say(f"{count_of(wrong, 'thing')} wrong, {count_of(soon, 'thing')} to see to.", show.QUIET)
    else:
        show.say("All is well.")
