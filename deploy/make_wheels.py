"""Three wheels of the one that the build makes: the client for other people's programs, the command line, the server.

``python deploy/make_wheels.py WHOLE FOLDER`` writes ``obitus``, ``obitus-cli`` and ``obitus-server`` into a folder. Each file is
in one of them; the extras ``cli`` and ``server`` of ``obitus`` lead to the other two.
"""

from __future__ import annotations

import re
import sys
import zipfile
from collections.abc import Iterable
from dataclasses import dataclass
from email import message_from_bytes
from email.message import Message
from pathlib import Path
from typing import Final

from obitus.service.pages.wheel_format import name_of_file, stem_of, wheel_of

EXTRA: Final = re.compile(r"""\s*(?:;|\band)\s*extra\s*==\s*['"](?P<extra>[\w-]+)['"]""")
MANUAL: Final = re.compile(r"obitus-[^/]+\.data/(?P<place>.*)")


@dataclass(frozen=True, slots=True)
class Part:
    """One wheel: which places of the whole are in it, of which extra's requirements it has need, and which wheel it stands on."""

    name: str
    summary: str
    places: re.Pattern[str]
    extra: str
    stands_on: str = ""


SERVER: Final = Part("obitus-server", "The service of Obitus, with its console.", re.compile(r"obitus/(service|store|demo)/"), "server", "obitus-cli")  # fmt: skip
# What says that the command line is not installed is there where it is not.
COMMANDS: Final = Part("obitus-cli", "The command line of Obitus.", re.compile(r"obitus/(cli/(?!__init__\.py$)|reading/)|obitus-[^/]+\.data/"), "cli", "obitus")  # fmt: skip
CLIENT: Final = Part("obitus", "", re.compile(r"obitus/"), "")
PARTS: Final = (SERVER, COMMANDS, CLIENT)
"""In this order: each file belongs to the first that has its place."""


def requirements(head: Message, extra: str) -> list[str]:
    """Return what a wheel requires for an extra, or without one, without saying for which."""
    found: list[str] = []
    for line in head.get_all("Requires-Dist") or ():
        named = EXTRA.search(line)
        if (named["extra"] if named else "") == extra:
            found.append(EXTRA.sub("", line))
    return found


def metadata_of(part: Part, head: Message, version: str) -> list[str]:
    """Return what the head of a wheel says beside name and version."""
    if part is not CLIENT:
        needed = [f"{part.stands_on}=={version}", *requirements(head, part.extra)]
        return [f"Summary: {part.summary}", *(f"Requires-Dist: {line}" for line in needed)]
    said = [f"Summary: {head['Summary']}", f"Description-Content-Type: {head['Description-Content-Type']}"]
    for other in (COMMANDS, SERVER):
        said += [
            f"Provides-Extra: {other.extra}",
            f"Requires-Dist: {other.name}=={version}; extra == '{other.extra}'",
        ]
    taken = {other.extra for other in PARTS}
    for extra in head.get_all("Provides-Extra") or ():
        if extra not in taken:
            said.append(f"Provides-Extra: {extra}")
            for line in requirements(head, extra):
                joined = " and " if ";" in line else "; "
                said.append(f"Requires-Dist: {line}{joined}extra == '{extra}'")
    said += [f"Requires-Dist: {line}" for line in requirements(head, "")]
    described = head.get_payload(decode=True)
    assert isinstance(described, bytes)
    return [*said, "", described.decode("utf-8")]


def parts_of(whole: Path) -> Iterable[tuple[Part, str, bytes]]:
    """Return each wheel with the name of its file and its bytes."""
    with zipfile.ZipFile(whole) as archive:
        inside = {name: archive.read(name) for name in archive.namelist()}
    (info,) = (name for name in inside if name.endswith(".dist-info/METADATA"))
    head = message_from_bytes(inside[info])
    version, folder = str(head["Version"]), info.rpartition("/")[0] + "/"
    files: dict[str, dict[str, bytes]] = {part.name: {} for part in PARTS}
    for place, content in inside.items():
        if not place.startswith(folder):
            part = next(part for part in PARTS if part.places.match(place))
            # Data beside the code lie in a folder that has the wheel's own name.
            place = MANUAL.sub(rf"{stem_of(part.name, version)}.data/\g<place>", place)
            files[part.name][place] = content
    for part in PARTS:
        scripts = {"obitus": "obitus.cli:main"} if part is CLIENT else None
        made = wheel_of(part.name, version, files[part.name], metadata_of(part, head, version), scripts=scripts)
        yield part, name_of_file(part.name, version), made


def main() -> None:
    """Write the wheels, and say how large each is."""
    whole, folder = Path(sys.argv[1]), Path(sys.argv[2])
    folder.mkdir(parents=True, exist_ok=True)
    for _, name, made in parts_of(whole):
        (folder / name).write_bytes(made)
        print(f"{folder / name}  {len(made) / 1024:,.0f} KB")


if __name__ == "__main__":
    main()
