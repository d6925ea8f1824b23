"""``obitus maps``: source maps of a build, so that failures of what was built lead to the source."""

from __future__ import annotations

import gzip
import hashlib
import json
import os
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any, Final
from urllib.parse import quote, urlencode

import typer

from obitus.cli import show
from obitus.cli.api import Api, api, app_meant, pipeline
from obitus.cli.commands import Json, Token, Url, app, print_json
from obitus.cli.errors import CliError, NotAllowed, Unreachable, UsageTrouble
from obitus.cli.safe import safe
from obitus.core.maps.source_map import GUARD
from obitus.core.wording import count_of, minute_of, size

MAPS_A_REQUEST: Final = 500
ENDING: Final = ".map"

maps = typer.Typer(
    help="Source maps, with which built code is shown as it was written.", no_args_is_help=True, rich_markup_mode=None
)
app.add_typer(maps, name="maps", short_help="Source maps of builds: add, list, remove.")
AppName = Annotated[str | None, typer.Option("--app", help="The app; needed with a key, and where there are several.")]
Release = Annotated[str, typer.Option("--release", help="The release that was built, such as 3.1.0.")]


@dataclass(frozen=True)
class _Map:
    """A map of a build."""

    path: str
    """Of the built file, below the folder."""
    file: Path
    hash: str
    size: int

    def read(self, *, without_source: bool) -> bytes:
        """Return what is sent: one map at a time lies in memory."""
        return _read(self.file, without_source=without_source)


@maps.command("add")
def add(
    folder: Annotated[Path, typer.Argument(metavar="DIR", help="The folder of the build, as it is deployed.")],
    release: Release,
    app_name: AppName = None,
    without_source: Annotated[bool, typer.Option("--without-source", help="Send no source text, only places.")] = False,
    url: Url = None,
    token: Token = None,
    as_json: Json = False,
) -> None:
    """Send the source maps of a build; those already there are not sent again. In a pipeline OBITUS_URL and, as OBITUS_KEY, a key that may deploy are enough."""
    maps_found, troubles = _found(folder, without_source)
    if not maps_found and not troubles:
        raise UsageTrouble(
            f"{folder} holds no source map ({ENDING}). Let the build write them: build.sourcemap with Vite, devtool with others."
        )
    service, name = _asked(url, token, app_name)
    here = f"/api/apps/{quote(name, safe='')}/maps"
    missing: list[str] = []
    for start in range(0, len(maps_found), MAPS_A_REQUEST):
        page = maps_found[start : start + MAPS_A_REQUEST]
        order = {"release": release, "maps": [{"path": map_found.path, "hash": map_found.hash} for map_found in page]}
        missing += service.post(f"{here}/missing", order)["missing"]
    missing_paths = set(missing)
    sent = 0
    for map_found in maps_found:
        if map_found.path not in missing_paths:
            continue
        try:
            data = map_found.read(without_source=without_source)
            service.post_packed(
                f"{here}?{urlencode({'release': release, 'path': map_found.path})}", gzip.compress(data, 6)
            )
        except (Unreachable, NotAllowed):
            raise
        except (CliError, OSError, ValueError) as error:
            troubles.append(f"{map_found.path}: {error}")
            continue
        sent += 1
        if not as_json:
            show.say(f"{sent:>5} of {len(missing_paths)}  {safe(map_found.path)}  {size(map_found.size)}", show.QUIET)
    turned_back = service.post(f"{here}/turn-back", {"release": release})["said"] if sent else ""
    if as_json:
        print_json(
            {
                "release": release,
                "sent": sent,
                "already_there": len(maps_found) - len(missing_paths),
                "said": turned_back,
                "troubles": troubles,
            }
        )
    else:
        show.say(
            f"{count_of(sent, 'map')} of {name} {safe(release)} sent, {len(maps_found) - len(missing_paths)} there already. {safe(turned_back)}".rstrip()
        )
        for trouble in troubles:
            show.say(safe(trouble), show.FAILED)
    if troubles:
        raise typer.Exit(1)


@maps.command("list")
def list_maps(app_name: AppName = None, url: Url = None, token: Token = None, as_json: Json = False) -> None:
    """List the releases that have source maps."""
    service = api(url, token)
    name = app_meant(service, app_name)
    answer = service.get(f"/api/apps/{quote(name, safe='')}/maps")
    if as_json:
        print_json(answer)
        return
    for release_row in answer["releases"]:
        text = (
            "with their source"
            if release_row["with_text"] == release_row["maps"]
            else f"{release_row['with_text']} with their source"
        )
        show.say(
            f"{safe(release_row['release'] or 'any release'):20}  {count_of(release_row['maps'], 'map')}, {size(release_row['bytes'])}, {text}, the latest {minute_of(release_row['latest'])}"
        )
    if not answer["releases"]:
        show.say(
            f"No source map of {name} yet. Send those of a build: obitus maps add DIR --app {name} --release RELEASE"
        )


@maps.command("remove")
def remove(release: Release, app_name: AppName = None, url: Url = None, token: Token = None) -> None:
    """Remove the source maps of a release. Failures that were mapped back when they arrived stay so."""
    asked, name = _asked(url, token, app_name)
    answer = asked.delete(f"/api/apps/{quote(name, safe='')}/maps?{urlencode({'release': release})}")
    show.say(f"{count_of(answer['removed'], 'map')} of {name} {safe(release)} removed.")


def _asked(url: str | None, token: str | None, app_name: str | None) -> tuple[Api, str]:
    """Return who is asked, and the app that is meant: with a reporting key, it has to be said."""
    service = pipeline(url, token)
    if service is None:
        service = api(url, token)
        return service, app_meant(service, app_name)
    if app_name is None:
        raise UsageTrouble("Say which app the key is for: --app NAME")
    return service, app_name


def _found(folder: Path, without_source: bool) -> tuple[list[_Map], list[str]]:
    """Return the maps below a folder, and what is wrong with those that are left out."""
    if not folder.is_dir():
        raise UsageTrouble(f"{folder} is no folder. Say where the build writes to, such as dist.")
    maps, troubles = [], []
    for place, folders, names in os.walk(folder):
        folders.sort()
        for name in sorted(names):
            if not name.endswith(ENDING):
                continue
            path = Path(place) / name
            try:
                data = _read(path, without_source=without_source)
            except (OSError, ValueError, RecursionError) as error:
                troubles.append(f"{path}: left out: {error}")
                continue
            built = path.relative_to(folder).as_posix().removesuffix(ENDING)
            maps.append(_Map(built, path, hashlib.sha256(data).hexdigest(), len(data)))
    return maps, troubles


def _read(path: Path, *, without_source: bool) -> bytes:
    """Return a map as it is sent; raises OSError, and ValueError for what is none."""
    data = path.read_bytes()
    map_ = json.loads(data.partition(b"\n")[2] if data.startswith(GUARD) else data)
    if not isinstance(map_, dict) or map_.get("version") != 3:
        raise ValueError("no source map of version 3")
    return json.dumps(_stripped(map_), ensure_ascii=False, separators=(",", ":")).encode() if without_source else data


def _stripped(map_: dict[str, Any]) -> dict[str, Any]:
    """Return a map without the text of the source."""
    stripped = {name: value for name, value in map_.items() if name != "sourcesContent"}
    if isinstance(map_.get("sections"), list):
        stripped["sections"] = [
            {**section, "map": _stripped(section["map"])}
            if isinstance(section, dict) and isinstance(section.get("map"), dict)
            else section
            for section in map_["sections"]
        ]
    return stripped
