"""The page on the pier, as passengers' browsers show it: recorded once in headless Chromium, replayed by the demo.

``make demo-reports`` records it again: each view of the page is driven for real, built and minified as a team would, with the real sailings behind it; what page
and service report is kept with the times of the story. Replaying needs neither browser nor Node.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from importlib import resources
from pathlib import Path
from typing import Any, Final

import zstandard

from obitus.core.clock import HOUR_MS
from obitus.demo.replaying import moved

ORIGIN: Final = "https://pier.skerry.example"
APP: Final = "pierboard"
FILE: Final = Path(str(resources.files("obitus.demo").joinpath("pier.json.zst")))


@dataclass(frozen=True)
class View:
    """Somebody looks at the page."""

    hour: float
    """Of the story."""
    release: str
    sailing: str
    vehicle: str = ""
    height: str = ""
    does: tuple[str, ...] = ("board",)
    """What is pressed: `quote`, `board`; `offline` and `online` are the network's."""
    passengers: str = "1"


VIEWS: Final = (
    *(View(238 + 4.3 * n, "3.0.1", f"SK-{4100 + 7 * n}", does=("quote", "board")) for n in range(1, 8)),
    View(251.4, "3.0.1", "SK-4128", "car", "1.6", ("quote", "board")),
    # The height was left empty, which the fare does not expect; in two builds of the page.
    View(262.2, "3.0.1", "SK-4135", "car", "", ("quote",)),
    View(281.7, "3.0.1", "SK-4142", "trailer", "", ("quote",)),
    View(297.3, "3.1.0", "SK-4201", "car", "", ("quote",)),
    View(309.8, "3.1.0", "SK-4215", "campervan", "", ("quote",)),
    # Since 3.1.0 what is typed does not reach sailings.
    View(299.1, "3.1.0", "SK-4203", "campervan", "2.4", ("quote", "board")),
    View(304.6, "3.1.0", "SK-4208", "car", "1.5", ("board", "board")),
    View(318.9, "3.1.0", "SK-4222", "campervan", "2.6", ("board",)),
    View(331.2, "3.1.0", "SK-4236", "trailer", "2.2", ("quote", "board")),
    # A pier without a network: nobody sees it until it is back.
    View(325.5, "3.1.0", "SK-4229", "", "", ("quote", "offline", "board", "online")),
    *(View(300 + 5.1 * n, "3.1.0", f"SK-{4300 + 7 * n}", does=("quote", "board")) for n in range(6)),
)  # fmt: skip


@dataclass(frozen=True)
class Recorded:
    """What was recorded: source maps by release, and what page and service reported in each view."""

    maps: Mapping[str, Mapping[str, str]]
    views: tuple[tuple[int, str, str], ...]
    """When the view began as it was recorded (Unix, milliseconds), lines of the page, lines of sailings."""


def write(recorded: Recorded, file: Path = FILE) -> None:
    """Keep a recording."""
    text = json.dumps({"maps": recorded.maps, "views": recorded.views}, ensure_ascii=False)
    file.write_bytes(zstandard.ZstdCompressor(level=19).compress(text.encode()))


def read(file: Path = FILE) -> Recorded:
    """Return what was recorded."""
    recorded: dict[str, Any] = json.loads(zstandard.ZstdDecompressor().decompress(file.read_bytes()))
    return Recorded(recorded["maps"], tuple((began, page, service) for began, page, service in recorded["views"]))


def replayed(recorded: Recorded, start_ms: int) -> Iterator[tuple[View, bytes, bytes]]:
    """Return what each view reports in a story that begins at a moment: the lines of the page, and those of sailings."""
    for view, (began_ms, page, service) in zip(VIEWS, recorded.views, strict=True):
        by_ms = start_ms + int(view.hour * HOUR_MS) - began_ms
        yield view, moved(page.encode(), by_ms), moved(service.encode(), by_ms)
