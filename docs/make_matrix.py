"""Writes the table of driven places into docs/capture.md, from what a test run found. ``make matrix`` runs it."""

from __future__ import annotations

import json
import sys
from pathlib import Path

PAGE = Path(__file__).parent / "capture.md"
BEGINS, ENDS = "<!-- Made by `make matrix`. Do not edit. -->\n", "<!-- end of the matrix -->"
COLUMNS = ("reported once", "route", "request", "body", "unhandled", "app unchanged")
TITLES = {"web": "Frameworks and servers", "jobs": "Job runners", "odd ends": "Loggers, loops, pools and other places"}


def table(folder: Path) -> str:
    """Return the tables, one for each kind of place."""
    noted = [json.loads(path.read_text("utf-8")) for path in sorted(folder.glob("*.json"))]
    parts = []
    for kind, title in TITLES.items():
        rows = [entry for entry in noted if entry["kind"] == kind]
        columns = [name for name in COLUMNS if any(name in entry["found"] for entry in rows)]
        parts.append(f"\n{title}:\n\n| place | {' | '.join(columns)} |\n| --- |{' --- |' * len(columns)}")
        parts += [
            f"| {entry['place']} | {' | '.join('yes' if entry['found'].get(name) else 'no' for name in columns)} |"
            for entry in rows
        ]
    return "\n".join(parts) + "\n\n"


def main() -> None:
    """Write the page."""
    text = PAGE.read_text("utf-8")
    before, _, rest = text.partition(BEGINS)
    after = rest.partition(ENDS)[2]
    PAGE.write_text(before + BEGINS + table(Path(sys.argv[1])) + ENDS + after)


if __name__ == "__main__":
    main()
