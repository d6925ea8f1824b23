"""Built files: compressed for whoever takes that, the same bytes for all."""

from __future__ import annotations

import gzip
import re

import pytest
import urllib3

from obitus.service.pages.compressed import takes_gzip
from obitus.service.pages.console import files
from tests.conftest import Running


@pytest.mark.parametrize(
    ("accepted", "takes"),
    [
        ("gzip, deflate, br, zstd", True), ("GZIP;q=0.5", True), ("br, *", True), ("*;q=0.001", True),
        ("", False), ("identity", False), ("br;q=1.0, gzip;q=0", False), ("gzip; q=0.000", False), ("gzip;q=0, *", False), ("*;q=0", False), ("gzipped", False),
    ],
)  # fmt: skip
def test_who_takes_gzip(accepted: str, takes: bool) -> None:
    """As RFC 9110 has it: a weight of zero means not this one, a star all others."""
    assert takes_gzip(accepted) is takes


def asked(running: Running, path: str, **headers: str) -> tuple[urllib3.BaseHTTPResponse, bytes]:
    """Return an answer with its bytes as they came."""
    sent = {name.replace("_", "-"): value for name, value in headers.items()}
    answer = running.http.request("GET", running.url + path, headers=sent, preload_content=False, decode_content=False)
    try:
        return answer, answer.read(decode_content=False)
    finally:
        answer.release_conn()


def test_what_a_page_needs_comes_compressed(running: Running) -> None:
    """Scripts and styles of the console, and the client for pages; fonts are compressed in themselves."""
    page = (files() / "index.html").read_text("utf-8")
    built = re.findall(r'(?:src|href)="(/assets/[^"]+\.(?:js|css))"', page)
    assert len(built) >= 2
    for path in (*built, "/browser.js", "/obitus.js", "/sketch.js"):
        plain, whole = asked(running, path)
        assert plain.status == 200 and "Content-Encoding" not in plain.headers
        packed, small = asked(running, path, Accept_Encoding="gzip, br")
        assert (packed.headers["Content-Encoding"], packed.headers["Vary"]) == ("gzip", "Accept-Encoding")
        assert gzip.decompress(small) == whole and len(small) < len(whole) / 2 + 100
        # Each form has its own tag, and stays what it was.
        assert plain.headers["ETag"] != packed.headers["ETag"]
        for answer, accepted in ((plain, "identity"), (packed, "gzip")):
            again, nothing = asked(running, path, Accept_Encoding=accepted, If_None_Match=answer.headers["ETag"])
            assert (again.status, nothing) == (304, b"")
    font = next((files() / "assets").glob("*.woff2"))
    answer, data = asked(running, f"/assets/{font.name}", Accept_Encoding="gzip")
    assert "Content-Encoding" not in answer.headers and data == font.read_bytes()


def test_the_first_page_is_small() -> None:
    """Whoever opens a link to an issue at night loads its page, not the whole console: everything that pages have is in pieces of its own."""
    scripts = sorted((files() / "assets").glob("*.js"), key=lambda path: path.stat().st_size)
    page = (files() / "index.html").read_text("utf-8")
    first = sum(path.stat().st_size for path in scripts if path.name in page)
    assert first < sum(path.stat().st_size for path in scripts) / 2
