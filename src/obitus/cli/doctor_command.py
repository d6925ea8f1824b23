"""``obitus doctor``: what is wrong with an installation, and what to do about it."""

from __future__ import annotations

from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Final

import typer
from rich.text import Text

from obitus.cli import show
from obitus.cli.commands import Json, app, print_json
from obitus.cli.errors import UsageTrouble
from obitus.cli.safe import safe
from obitus.core.wording import count_of

if TYPE_CHECKING:
    from obitus.cli.keeping import Finding

MARKS: Final = {"right": ("✓", ""), "soon": ("!", "bold"), "wrong": ("×", show.FAILED)}
PORT: Final = 8611


@app.command(short_help="Say what is wrong with an installation.")
def doctor(
    data: Annotated[Path, typer.Option("--data", help="Folder of the service's records.")] = Path("obitus-data"),
    port: Annotated[
        int, typer.Option("--port", min=1, max=65535, help="Port of the service, where none runs yet.")
    ] = PORT,
    as_json: Json = False,
) -> None:
    """Check versions, rights, disk, clock, port, log of writes and the latest backup. Ends with 1 where something is wrong.

    It changes nothing. Run it as the service's user; the service may be running.
    """
    if find_spec("fastapi") is None:
        raise UsageTrouble("the service is not installed here. Run: pip install 'obitus[server]'")
    from obitus.cli.doctoring import examined

    findings = list(examined(data, port))
    wrong = [finding for finding in findings if finding.grade == "wrong"]
    if as_json:
        print_json({"found": [finding._asdict() for finding in findings], "wrong": len(wrong)})
    else:
        _show(findings)
    if wrong:
        raise typer.Exit(1)


def _show(findings: list[Finding]) -> None:
    width = max(len(finding.what) for finding in findings)
    for finding in findings:
        mark, style = MARKS[finding.grade]
        line = Text(f"{mark} ", style=style).append(f"{finding.what:<{width}}  ", style=style or show.QUIET)
        show.console.print(line.append(safe(finding.said), style=style), soft_wrap=True)
        if finding.to_do:
            show.console.print(Text(f"  {'':<{width}}  → {safe(finding.to_do)}"), soft_wrap=True)
    wrong, soon = (sum(finding.grade == grade for finding in findings) for grade in ("wrong", "soon"))
    if wrong or soon:
        show.say(f"{count_of(wrong, 'thing')} wrong, {count_of(soon, 'thing')} to see to.", show.QUIET)
    else:
        show.say("All is well.")
