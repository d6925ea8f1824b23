"""Pages of the ferry line with planted faults, built as a team builds them and served on an origin of their own.

Each fault is a button. Walked through, each is pressed some times with other values, and what it reports carries its name as the attribute
``planted``, which grouping does not look at.
"""

from __future__ import annotations

import json
import shutil
import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler
from pathlib import Path
from typing import Final

from tests.end_to_end.on_loopback import on_loopback

HERE: Final = Path(__file__).parent
CONSOLE: Final = HERE.parents[2] / "console" / "package.json"
PAGE: Final = """<!doctype html>
<html lang="en"><head><title>{name}</title>
{head}
</head><body>
<h1>{name}</h1>
<div id="stage"></div>
<script type="module" src="/{script}"></script>
</body></html>
"""
KINDS: Final = {".js": "text/javascript", ".css": "text/css"}
UNRELATED: Final = """const notices{n}: string[] = [];
export function notice{n}(text: string): number {{
  return notices{n}.push(text.trim());
}}
(globalThis as unknown as Record<string, unknown>).notice{n} = notice{n};

"""


def build(place: Path, *, is_changed: bool = False, with_ids: bool = False) -> Path:
    """Build the pages below a folder; return where they are. Changed, each file has something more that has to do with no fault."""
    source, target = place / "src", place / "dist"
    shutil.copytree(HERE / "src", source)
    if is_changed:
        for n, path in enumerate(sorted(source.rglob("*.ts*"))):
            path.write_text(UNRELATED.format(n=n) + path.read_text())
    words: list[str | Path] = [
        "node",
        CONSOLE.parents[1] / "browser" / "build.mjs",
        CONSOLE,
        source,
        target,
        *(["ids"] if with_ids else []),
    ]
    subprocess.run(words, check=True, timeout=300)
    return target


@dataclass
class Served:
    """Pages on an origin."""

    names: list[str]
    url: str = ""
    head: str = ""
    is_done: threading.Event = field(default_factory=threading.Event)

    def walk(self, turns: int, name: str = "") -> str:
        """Return the address from which a browser walks through all pages, each fault so many times; or through one page alone."""
        first = name or self.names[0]
        after = "done" if name else f"after/{first}/{turns}"
        return f"{self.url}/{first}#walk={turns}&next=/{after}"


@contextmanager
def served(folder: Path) -> Iterator[Served]:
    """Serve built pages on loopback."""
    manifest = json.loads((folder / ".vite" / "manifest.json").read_text())
    scripts = {entry["name"]: entry["file"] for entry in manifest.values() if entry.get("isEntry")}
    found = Served(sorted(scripts))

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            path = self.path.partition("?")[0].strip("/")
            file = folder / path
            if path == "done":
                found.is_done.set()
                self._answer(200, "text/html; charset=utf-8", b"<!doctype html><title>done</title>")
            elif path.startswith("after/"):
                _, name, turns = path.split("/")
                at = found.names.index(name) + 1
                self.send_response(302)
                self.send_header("Location", found.url + _next(found, at, turns))
                self.send_header("Content-Length", "0")
                self.end_headers()
            elif path in scripts:
                page = PAGE.format(name=path, head=found.head, script=scripts[path])
                self._answer(200, "text/html; charset=utf-8", page.encode())
            elif path.startswith("page-of/"):
                self._answer(200, "text/html; charset=utf-8", b"<!doctype html><title>maintenance</title>")
            elif path.startswith("assets/") and file.is_file():
                self._answer(200, KINDS.get(file.suffix, "text/plain"), file.read_bytes())
            else:
                self._answer(404, "text/plain", b"not here")

        def _answer(self, status: int, kind: str, body: bytes) -> None:
            self.send_response(status)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            """Say nothing."""

    with on_loopback(Handler) as found.url:
        yield found


def _next(pages: Served, at: int, turns: str) -> str:
    """Return the address of the page that comes then."""
    if at >= len(pages.names):
        return "/done"
    return f"/{pages.names[at]}#walk={turns}&next=/after/{pages.names[at]}/{turns}"
