"""Notes read into parts: what is drawn of them, what leads anywhere, whom they mention; whatever is written, nothing of it is markup."""

from __future__ import annotations

from collections.abc import Iterable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.prose import (
    LONGEST,
    MOST_PARTS,
    ProsePart,
    Ways,
    as_json,
    is_address,
    is_pattern,
    mentioned,
    plain,
    read,
)
from tests.examples import many

WAYS = Ways([("SL-{number}", "https://tickets.skerry.example/{number}"), ("#{number}", "https://code.skerry.example/{number}")], ["Ida", "Ida Moss", "Zoë Hart"])  # fmt: skip
TAGS = {"", "p", "h", "ul", "ol", "li", "quote", "pre", "code", "strong", "em", "s", "a", "person", "br", "hr", "table", "thead", "tbody", "tr", "th", "td"}  # fmt: skip


def every(parts: Iterable[ProsePart]) -> Iterable[ProsePart]:
    for part in parts:
        yield part
        yield from every(part.parts)


def addresses(text: str) -> list[str]:
    return [part.address for part in every(read(text, WAYS)) if part.tag == "a"]


def test_what_people_write() -> None:
    """Headings, lists, tables, code, emphasis: each its own part."""
    parts = read(
        "# Head\n\n- **a** `b`\n- c\n\n1. d\n\n> e\n\n```\nf <g>\n```\n\n| h | i |\n|---|---|\n| j | ~~k~~ |\n\n---\nl  \nm"
    )
    tags = [part.tag for part in parts]
    assert tags == ["h", "ul", "ol", "quote", "pre", "table", "hr", "p"]
    assert parts[4].text == "f <g>\n" and {part.tag for part in every(parts)} >= {
        "strong",
        "code",
        "s",
        "th",
        "td",
        "br",
    }
    assert plain(parts[:2]) == "Heada bc"


def test_tickets_and_mentions() -> None:
    """In text alone, not in code; the longest name counts; what is part of a word is none."""
    parts = list(every(read("SL-204, #7 and @Ida Moss, not xSL-1, a@Ida, SL-20a or `SL-9`; @Zoë Hart!", WAYS)))
    assert [part.address for part in parts if part.tag == "a"] == [
        "https://tickets.skerry.example/204",
        "https://code.skerry.example/7",
    ]
    assert [part.text for part in parts if part.tag == "person"] == ["Ida Moss", "Zoë Hart"]
    assert mentioned("@Ida Moss @Ida @Idas mail@Ida @Nobody", WAYS.people) == ["Ida Moss", "Ida"]


def test_only_some_addresses_lead_anywhere() -> None:
    """Scripts, data, files and relative ones are text; images are links."""
    good = (
        "[a](https://a.example/x?y=1) [b](mailto:ida@skerry.example) <http://c.example> ![d](https://e.example/f.png)"
    )
    assert addresses(good) == [
        "https://a.example/x?y=1",
        "mailto:ida@skerry.example",
        "http://c.example",
        "https://e.example/f.png",
    ]
    for bad in ("javascript:alert(1)", "JaVaScRiPt:alert(1)", "data:text/html,x", "vbscript:x", "file:///etc/passwd", "//x", "/api/sign-out", "java\tscript:x", "&#106;avascript:x", "blob:x", "https:"):  # fmt: skip
        assert addresses(f"[a]({bad}) ![b]({bad}) <{bad}>") == [], bad
        assert not is_address(bad)


def test_markup_stays_text() -> None:
    """Tags of HTML are shown as they were written."""
    text = '<script>alert(1)</script>\n\n<div onclick="x">a</div> <b>c</b>'
    parts = list(every(read(text)))
    assert {part.tag for part in parts} <= {"", "p"} and "<script>alert(1)</script>" in plain(parts)


@pytest.mark.no_cover
@pytest.mark.long
@pytest.mark.parametrize("text", ["[" * 50_000, "> " * 20_000, "*a " * 20_000, "| a " * 10_000 + "\n|---", "`" * 50_000, "- " * 20_000, "![" * 20_000, "SL-" * 15_000, "@" * 50_000, "a" * 10**6])  # fmt: skip
def test_long_and_deep_ones_are_bounded(text: str) -> None:
    """A note of a megabyte, or one that opens ten thousand brackets, is read soon, and comes to so many parts at most."""
    parts = list(every(read(text, WAYS)))
    assert len(parts) <= MOST_PARTS * 3 and len(plain(parts)) <= LONGEST * 2


@many(200)
@given(st.text(st.sampled_from("ab*_`#>-[]()!|~\n <&@1SL:/.\\\"'"), max_size=80) | st.text(max_size=60))
def test_anything_can_be_shown(text: str) -> None:
    """Whatever somebody writes becomes known parts, and links lead to addresses that are some."""
    parts = list(every(read(text, WAYS)))
    assert {part.tag for part in parts} <= TAGS
    assert all(is_address(part.address) for part in parts if part.tag == "a")
    as_json(read(text, WAYS))


def test_patterns() -> None:
    """Letters and a number; nothing that could be anything."""
    assert all(map(is_pattern, ("SL-{number}", "PIER{number}", "#{number}", "A#{number}")))
    assert not any(
        map(is_pattern, ("{number}", "SL-{n}", ".*{number}", "SL {number}", "-{number}", "SL-{number}x", ""))
    )
