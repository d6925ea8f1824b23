"""``obitus backup``, ``restore``, ``verify``: the records of a service copied, restored and checked."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from obitus.cli import show
from obitus.cli.commands import Json, app, print_json
from obitus.cli.safe import safe
from obitus.cli.show import size_of
from obitus.core.wording import count_of

Data = Annotated[Path, typer.Option("--data", help="Folder of the service's records.")]
Folder = Annotated[Path, typer.Argument(metavar="FOLDER", help="The backup's folder.")]
DATA = Path("obitus-data")


@app.command(short_help="Copy the records, also of a running service.")
def backup(
    folder: Folder,
    data: Data = DATA,
    with_keys: Annotated[
        bool,
        typer.Option("--with-keys", help="Copy channels.key too, which opens the secrets of channels and targets."),
    ] = False,
    as_json: Json = False,
) -> None:
    """Copy the records as they are at this moment; the service goes on. The next backup there copies only what has changed.

    The folder can be restored at any time, even after an interrupted backup.
    """
    from obitus.cli import keeping

    listing = keeping.backup(data, folder, with_keys=with_keys)
    if as_json:
        print_json(listing)
        return
    show.say(
        f"{count_of(listing['files'], 'file')} of {size_of(listing['bytes'])}, {count_of(len(listing['copied']), 'file')} copied in {listing['seconds']:.1f} s; each was checked."
    )
    if not with_keys:
        show.say(
            "The key of channels' secrets is not in it: keep channels.key apart, or copy it too with --with-keys.",
            show.QUIET,
        )
    show.say(f"Bring it back: obitus restore {safe(folder)} --data NEW-FOLDER", show.QUIET)


@app.command(short_help="Bring a backup back.")
def restore(folder: Folder, data: Data = DATA, as_json: Json = False) -> None:
    """Restore a backup into a folder that holds no records. Every file is first compared with its checksum."""
    from obitus.cli import keeping

    listing = keeping.restore(folder, data)
    if as_json:
        print_json(listing)
        return
    show.say(
        f"{count_of(listing['files'], 'file')} of {size_of(listing['bytes'])}, as they were on {listing['made'][:19].replace('T', ' ')} UTC."
    )
    show.say(f"Start it: obitus serve --data {safe(data)}", show.QUIET)


@app.command(short_help="Check that the records are whole.")
def verify(
    data: Data = DATA,
    repair: Annotated[
        bool, typer.Option("--repair", help="Correct counts that follow from rows; stop the service first.")
    ] = False,
    as_json: Json = False,
) -> None:
    """Check every file, and compare every count with its rows. Ends with 1 where something differs."""
    from obitus.cli import keeping

    differences = keeping.verify(data, repair=repair)
    if as_json:
        print_json({"differences": differences})
    for difference in [] if as_json else differences:
        show.say(
            f"{'✓ mended' if difference['mended'] else '×'} {safe(difference['what'])}: {safe(difference['said'])}",
            "" if difference["mended"] else show.FAILED,
        )
    if not differences and not as_json:
        show.say("All is whole: every file, and every count.")
    if any(not difference["mended"] for difference in differences):
        if not as_json and not repair:
            show.say(
                "Stop the service and mend what can be: obitus verify --repair. Or restore a backup: obitus restore BACKUP --data FOLDER",
                show.QUIET,
            )
        raise typer.Exit(1)
