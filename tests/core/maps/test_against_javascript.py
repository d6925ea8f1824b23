"""Every position of the maps that packages ship is found as a well-kept JavaScript library finds it."""

from __future__ import annotations

import json
import subprocess
from collections import defaultdict
from collections.abc import Sequence
from pathlib import Path

import pytest

from obitus.core.maps.source_map import SourceMap

CONSOLE = Path(__file__).parents[3] / "console"
MOST_OF_A_PACKAGE = 1
MOST_OF_A_MAP = 4_000
"""Positions that are looked at, evenly over the map."""


def maps_of_packages() -> list[Path]:
    """Return maps that the packages of the console came with: of each package the largest."""
    by_package: dict[str, list[Path]] = defaultdict(list)
    packages = CONSOLE / "node_modules"
    for path in packages.rglob("*js.map"):
        parts = path.relative_to(packages).parts
        if not parts[0].startswith("."):
            by_package["/".join(parts[: 2 if parts[0].startswith("@") else 1])].append(path)
    found = []
    for paths in by_package.values():
        found += sorted(paths, key=lambda path: (-path.stat().st_size, path))[:MOST_OF_A_PACKAGE]
    assert len(by_package) >= 12
    return found


def positions(paths: Sequence[Path]) -> list[list[tuple[int, int, int, int | None, int | None, str | None]]]:
    """Return what the library says of each map: line and column, and the source, line, column and name there; -1 for no source."""
    done = subprocess.run(
        ["node", Path(__file__).parent / "positions.mjs", CONSOLE / "package.json"],
        input="\n".join(map(str, paths)), capture_output=True, text=True, timeout=120, check=True,
    )  # fmt: skip
    return [[tuple(one) for one in json.loads(line)] for line in done.stdout.splitlines()]


@pytest.mark.no_cover
@pytest.mark.long
def test_each_position_is_found_as_the_library_finds_it() -> None:
    """Minified and not, with names and without, of one source and of many."""
    paths = maps_of_packages()
    looked_at = 0
    for path, wanted in zip(paths, positions(paths), strict=True):
        read = SourceMap.read(path.read_bytes())
        # An odd step: places of segments and places between them take turns.
        looked = wanted[:: len(wanted) // MOST_OF_A_MAP | 1]
        for line, column, source, original_line, original_column, name in looked:
            found = read.original(line, column)
            if source < 0:
                assert found is None, (path, line, column)
            else:
                # Of sources of one name the library says the first.
                assert found is not None and read.sources.index(read.sources[found.source]) == source, (path, line)
                assert found[1:] == (original_line, original_column, name), (path, line, column)
        looked_at += len(looked)
    assert looked_at > 50_000
