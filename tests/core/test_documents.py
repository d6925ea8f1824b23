"""Documents: what is written in them is text, whatever it says; a reader of Markdown and a reader of HTML find the same words."""

from __future__ import annotations

from html.parser import HTMLParser

from hypothesis import given
from hypothesis import strategies as st
from markdown_it import MarkdownIt

from obitus.core.documents import Chart, Code, Heading, Listing, Paragraph, Prose, Table, as_html, as_markdown, bars
from obitus.core.prose import read
from tests.examples import many

HOSTILE = st.sampled_from(["<script>alert(1)</script>", "![x](http://e/x.png)", "[a](javascript:b)", "# h", "- i", "1. j", "| k | l", "```", "> m", "---", "===", "**n**", "&lt;", "http://o.example", "a\nb\n\n# c", "\x1b[31m", "\u202e", "`", "\\"])  # fmt: skip
TEXTS = st.text(max_size=30) | HOSTILE | st.tuples(HOSTILE, HOSTILE).map(" ".join)


class Seen(HTMLParser):
    """The elements and the text of a page."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.attributes: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append(tag)
        self.attributes += [name for name, _ in attrs]


def squeezed(text: str) -> str:
    return " ".join("".join(one if one.isprintable() else " " for one in text).split())


@many(200)
@given(TEXTS)
def test_text_stays_text_in_markdown(text: str) -> None:
    """One paragraph, heading, item or cell with those words: no link, no picture, no list, no markup comes of it."""
    parser = MarkdownIt("commonmark").enable("table")
    for block, kinds in (
        (Paragraph(text), {"paragraph"}),
        (Heading(2, text), {"heading"}),
        (Listing([text]), {"bullet_list", "list_item", "paragraph"}),
        (Table(("a",), [[text]]), {"table", "thead", "tbody", "tr", "th", "td"}),
    ):
        tokens = parser.parse(as_markdown([block]))
        assert {token.type.removesuffix("_open").removesuffix("_close") for token in tokens} <= kinds | {"inline"}
        inner = [one for token in tokens if token.type == "inline" for one in token.children or ()]
        assert {one.type for one in inner} <= {"text", "text_special"}, (block, inner)
        assert squeezed("".join(one.content for one in inner)).removeprefix("a").strip() == squeezed(text).removeprefix("a").strip() or not isinstance(block, Paragraph)  # fmt: skip


@many(150)
@given(TEXTS, TEXTS)
def test_text_stays_text_in_html(text: str, other: str) -> None:
    """No element and no attribute but those of the document itself."""
    text, other = f"x{text}", f"x{other}"
    plain = as_html([Heading(1, "t"), Paragraph("x", "y"), Listing(["x"]), Table(("x",), [["x"]]), Code("x"), Chart([1, 2], "x", "y", "z"), Prose(read("x"))])  # fmt: skip
    made = as_html([Heading(1, text), Paragraph(other, text), Listing([text]), Table((text,), [[other]]), Code(text), Chart([1, 2], other, text, "z"), Prose(read("x"))])  # fmt: skip
    one, two = Seen(), Seen()
    one.feed(plain)
    two.feed(made)
    assert two.tags == one.tags and two.attributes == one.attributes
    assert "<script" not in made and "default-src 'none'" in made


def test_what_people_wrote_is_written_again() -> None:
    """Emphasis, lists, code and links in both; a script leads nowhere."""
    parts = read("**a** `b|c` [d](https://e.example/f) [g](javascript:h)\n\n- i\n- j\n\n```\nk\n```")
    markdown, page = as_markdown([Prose(parts)]), as_html([Prose(parts)])
    assert (
        "**a**" in markdown
        and "` b|c `" in markdown
        and "[d](<https://e.example/f>)" in markdown
        and "- i\n- j" in markdown
    )
    assert (
        "javascript" not in markdown + page and '<a href="https://e.example/f" rel="noopener noreferrer">d</a>' in page
    )


def test_code_cannot_leave_its_fence() -> None:
    """However many ticks it has."""
    text = "a\n````\n# b\n```"
    (token,) = MarkdownIt("commonmark").parse(as_markdown([Code(text)]))
    assert token.type == "fence" and token.content.rstrip() == text


def test_bars() -> None:
    """A count that is some is seen, the largest is the whole bar."""
    assert bars([0, 1, 1000, 500]) == " ▁█▄" and bars([]) == "" and bars([0]) == " "
