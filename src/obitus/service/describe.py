"""Writes the service's OpenAPI description and the report format's JSON Schema: ``python -m obitus.service.describe``."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

from obitus.service.app import make_app
from obitus.service.intake import formats
from obitus.service.pages.description import FILE


def openapi() -> dict[str, Any]:
    """Return the OpenAPI description."""
    return make_app().openapi()


def main(folder: Path) -> None:
    """Write both below a checkout's root folder."""
    for path, content in (
        (f"src/obitus/service/pages/{FILE.name}", openapi()),
        ("docs/report-format.schema.json", formats.json_schema()),
    ):
        (folder / path).write_text(json.dumps(content, indent=1, ensure_ascii=False) + "\n", "utf-8")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "."))
