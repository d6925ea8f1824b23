"""Documents for the post-mortem: blocks that become Markdown (CommonMark with tables) or one self-contained page of HTML.

The content of blocks is text: in Markdown each special character is escaped, in HTML everything is. The page has no
script and loads nothing.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Final

from obitus.core.prose import ProsePart, is_address, plain

_BARS: Final = "▁▂▃▄▅▆▇█"
_MEANING: Final = re.compile(r"([\\`*_\[\]<>#|~&])")
_LEADING: Final = re.compile(r"^(\d{1,9}(?=[.)](?:\s|$))|(?=[-=+](?:\s|$|[-=+])))")
_TICKS: Final = re.compile(r"`+")
CHART_HEIGHT, BAR_WIDTH = 60, 14


@dataclass(frozen=True, slots=True)
class Heading:
    """A heading; level 1 is the document's title."""

    level: int
    text: str


@dataclass(frozen=True, slots=True)
class Paragraph:
    """A paragraph; with ``label`` in front of it."""

    text: str
    label: str = ""


@dataclass(frozen=True, slots=True)
class Listing:
    """Items in their order."""

    items: Sequence[str]


@dataclass(frozen=True, slots=True)
class Table:
    """Rows under a head."""

    head: Sequence[str]
    rows: Sequence[Sequence[str]]


@dataclass(frozen=True, slots=True)
class Code:
    """Text of fixed width, as it is."""

    text: str


@dataclass(frozen=True, slots=True)
class Chart:
    """Counts over time, oldest first, with their name, and their first and last time."""

    counts: Sequence[int]
    label: str
    start: str
    end: str


@dataclass(frozen=True, slots=True)
class Prose:
    """A text that a person wrote."""

    parts: Sequence[ProsePart]


Block = Heading | Paragraph | Listing | Table | Code | Chart | Prose


def as_markdown(blocks: Iterable[Block]) -> str:
    """Return blocks as Markdown."""
    return "\n\n".join(_markdown(block) for block in blocks).rstrip() + "\n"


def _markdown(block: Block) -> str:
    if isinstance(block, Heading):
        return f"{'#' * block.level} {_escaped(block.text)}"
    if isinstance(block, Paragraph):
        return f"**{_escaped(block.label)}** {_escaped(block.text)}" if block.label else _escaped(block.text)
    if isinstance(block, Listing):
        return "\n".join(f"- {_escaped(item)}" for item in block.items)
    if isinstance(block, Table):
        lines = [f"| {' | '.join(_escaped(cell) or ' ' for cell in row)} |" for row in (block.head, *block.rows)]
        return "\n".join([lines[0], "|" + "---|" * len(block.head), *lines[1:]])
    if isinstance(block, Code):
        return _fenced(block.text)
    if isinstance(block, Chart):
        return f"{_escaped(block.label)}, {_escaped(block.start)} to {_escaped(block.end)}: {bars(block.counts)} ({sum(block.counts):,} in all)"
    return _prose_markdown(block.parts)


def bars(counts: Sequence[int]) -> str:
    """Return counts as bars of text."""
    most = max(counts, default=0)
    return "".join(" " if count == 0 else _BARS[-(-count * len(_BARS) // most) - 1] for count in counts)


def _escaped(text: str) -> str:
    """Return one line of text, escaped for Markdown."""
    line = " ".join("".join(one if one.isprintable() else " " for one in text).split())
    # A number, a dash or the like at its start would begin a list, or make a heading of the line before.
    return _LEADING.sub(r"\1\\", _MEANING.sub(r"\\\1", line), count=1)


def _ticks(text: str, least: int) -> str:
    """Return more backticks than any run of them in a text, so that none in it ends the block."""
    longest = max((len(run) for run in _TICKS.findall(text)), default=0)
    return "`" * max(least, longest + 1)


def _fenced(text: str) -> str:
    fence = _ticks(text, 3)
    shown = "".join(character if character.isprintable() or character in "\n\t" else " " for character in text)
    return f"{fence}\n{shown.rstrip()}\n{fence}"


def _prose_markdown(parts: Iterable[ProsePart]) -> str:
    """Return a person's text: its parsed parts are written again, escaped."""
    parts_written = []
    for part in parts:
        if part.tag in ("p", "h", "quote"):
            parts_written.append(("> " if part.tag == "quote" else "") + _inline_markdown(part.parts))
        elif part.tag in ("ul", "ol"):
            parts_written.append("\n".join(f"- {_inline_markdown(item.parts)}" for item in part.parts))
        elif part.tag == "pre":
            parts_written.append(_fenced(part.text))
        else:
            parts_written.append(_inline_markdown((part,)))
    return "\n\n".join(parts_written)


def _inline_markdown(parts: Iterable[ProsePart]) -> str:
    markdown = ""
    for part in parts:
        inner = _inline_markdown(part.parts)
        if part.tag == "a" and is_address(part.address):
            markdown += f"[{inner}](<{part.address.replace('<', '%3C').replace('>', '%3E')}>)"
        elif part.tag in ("strong", "em"):
            mark = "**" if part.tag == "strong" else "*"
            markdown += f"{mark}{inner}{mark}"
        elif part.tag == "code":
            ticks = _ticks(part.text, 1)
            markdown += f"{ticks} {' '.join(part.text.split())} {ticks}"
        elif part.tag == "person":
            markdown += f"@{_escaped(part.text)}"
        elif part.tag == "":
            space = " " if part.text[:1].isspace() else "", " " if part.text[-1:].isspace() else ""
            markdown += f"{space[0]}{_escaped(part.text)}{space[1]}" if part.text.strip() else " "
        else:
            markdown += inner or _escaped(plain((part,)))
    return markdown


_PAGE: Final = """<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{title}</title>
<style>
body {{ max-width: 46rem; margin: 2rem auto; padding: 0 1rem; font: 1rem/1.5 Georgia, serif; color: #23211c; background: #faf7f0; }}
h1, h2, h3 {{ line-height: 1.25; }} h2 {{ margin-top: 2rem; border-top: 1px solid #ddd6c7; padding-top: 1rem; }}
table {{ border-collapse: collapse; font-size: .9rem; }} th, td {{ text-align: left; padding: .2rem .8rem .2rem 0; vertical-align: top; border-bottom: 1px solid #ddd6c7; }}
pre {{ overflow-x: auto; padding: .6rem; font: .8rem/1.45 monospace; background: #fffefa; border: 1px solid #ddd6c7; }}
td, p, li {{ overflow-wrap: anywhere; }} blockquote {{ margin: .5rem 0; padding-left: .8rem; border-left: 4px solid #ddd6c7; }}
figure {{ margin: 1rem 0; }} svg {{ border-bottom: 1px solid #ddd6c7; max-width: 100%; }} rect {{ fill: #0f5e60; }} figcaption {{ font-size: .9rem; }}
@media (prefers-color-scheme: dark) {{ body {{ color: #ece7da; background: #1b1a17; }} pre {{ background: #24221e; }} rect {{ fill: #7cc5c3; }} a {{ color: #7cc5c3; }} }}
@media print {{ body {{ background: none; color: #000; }} }}
</style>
</head>
<body>
{body}
</body>
</html>
"""


def as_html(blocks: Sequence[Block]) -> str:
    """Return blocks as one page of HTML that needs nothing else."""
    title = next((block.text for block in blocks if isinstance(block, Heading)), "Obitus")
    return _PAGE.format(title=_text(title), body="\n".join(_html(block) for block in blocks))


def _text(text: str) -> str:
    return html.escape(
        "".join(character if character.isprintable() or character in "\n\t" else " " for character in text), quote=True
    )


def _html(block: Block) -> str:
    if isinstance(block, Heading):
        return f"<h{block.level}>{_text(block.text)}</h{block.level}>"
    if isinstance(block, Paragraph):
        label = f"<b>{_text(block.label)}</b> " if block.label else ""
        return f"<p>{label}{_text(block.text)}</p>"
    if isinstance(block, Listing):
        return "<ul>" + "".join(f"<li>{_text(item)}</li>" for item in block.items) + "</ul>"
    if isinstance(block, Table):
        head = "".join(f'<th scope="col">{_text(cell)}</th>' for cell in block.head)
        rows = "".join("<tr>" + "".join(f"<td>{_text(cell)}</td>" for cell in row) + "</tr>" for row in block.rows)
        return f"<table><thead><tr>{head}</tr></thead><tbody>{rows}</tbody></table>"
    if isinstance(block, Code):
        return f"<pre>{_text(block.text)}</pre>"
    if isinstance(block, Chart):
        return _chart(block)
    return "".join(map(_part_html, block.parts))


def _chart(chart: Chart) -> str:
    most = max(chart.counts, default=0) or 1
    drawn = "".join(
        f'<rect x="{at * BAR_WIDTH}" y="{CHART_HEIGHT - height}" width="{BAR_WIDTH - 2}" height="{height}"><title>{count:,}</title></rect>'
        for at, count in enumerate(chart.counts)
        if (height := -(-count * CHART_HEIGHT // most))
    )
    width = max(1, len(chart.counts)) * BAR_WIDTH
    label = f"{_text(chart.label)}, {_text(chart.start)} to {_text(chart.end)}; {sum(chart.counts):,} in all, at most {max(chart.counts, default=0):,}"
    return f'<figure><svg role="img" aria-label="{label}" viewBox="0 0 {width} {CHART_HEIGHT}" width="{width}" height="{CHART_HEIGHT}">{drawn}</svg><figcaption>{label}</figcaption></figure>'


_TAGS: Final = {"p": "p", "h": "h4", "ul": "ul", "ol": "ol", "li": "li", "quote": "blockquote", "strong": "strong", "em": "em", "s": "s", "table": "table", "thead": "thead", "tbody": "tbody", "tr": "tr", "th": "th", "td": "td"}  # fmt: skip


def _part_html(part: ProsePart) -> str:
    inner = "".join(map(_part_html, part.parts))
    if part.tag == "":
        return _text(part.text)
    if part.tag == "a":
        return (
            f'<a href="{_text(part.address)}" rel="noopener noreferrer">{inner}</a>'
            if is_address(part.address)
            else inner
        )
    if part.tag in ("code", "pre"):
        return f"<{part.tag}>{_text(part.text)}</{part.tag}>"
    if part.tag == "person":
        return f"<b>@{_text(part.text)}</b>"
    if part.tag in ("br", "hr"):
        return f"<{part.tag}>"
    tag = _TAGS.get(part.tag)
    return f"<{tag}>{inner}</{tag}>" if tag is not None else inner
