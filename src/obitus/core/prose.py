"""Notes of people in Markdown (CommonMark), parsed into parts that pages and documents draw, never into HTML. HTML
tags stay text, images are links, and only http, https and mailto addresses are links.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import Any, Final
from urllib.parse import urlsplit

from markdown_it import MarkdownIt
from markdown_it.token import Token

LONGEST: Final = 50_000
"""Characters of one note."""
MOST_PARTS: Final = 5_000
MOST_LEVELS: Final = 20
MOST_BRACKETS: Final = 200
"""Most brackets that may begin a link: the parser searches the whole rest for the end of each. Further ones are text."""
_SCHEMES: Final = frozenset({"http", "https", "mailto"})
_BLOCKS: Final = {
    "paragraph": "p", "heading": "h", "bullet_list": "ul", "ordered_list": "ol", "list_item": "li", "blockquote": "quote",
    "table": "table", "thead": "thead", "tbody": "tbody", "tr": "tr", "th": "th", "td": "td",
}  # fmt: skip
_INLINE: Final = {"strong": "strong", "em": "em", "s": "s"}
_PATTERN: Final = re.compile(r"[A-Za-z][A-Za-z0-9]{0,20}[-#]?\{number\}|#\{number\}")
"""How tickets may be written: `SL-{number}`."""
_MENTION: Final = re.compile(r"(?<![\w@])@(?=\w)")


@dataclass(frozen=True, slots=True)
class ProsePart:
    """One part: a block, something inside of a line, or text (tag ``''``)."""

    tag: str
    text: str = ""
    address: str = ""
    """The address of a link."""
    parts: Sequence[ProsePart] = field(default_factory=tuple)


@dataclass(frozen=True, slots=True)
class Ways:
    """What becomes a link or a mention in a text: patterns of tickets with their addresses, and the people's names."""

    patterns: Sequence[tuple[str, str]] = ()
    people: Sequence[str] = ()


def is_pattern(text: str) -> bool:
    """Whether a text is a pattern of tickets: some letters, perhaps a dash, and ``{number}``."""
    return _PATTERN.fullmatch(text) is not None


def is_address(text: str) -> bool:
    """Whether a text may be the address of a link."""
    try:
        parts = urlsplit(text)
    except ValueError:
        return False
    return parts.scheme in _SCHEMES and (bool(parts.netloc) or parts.scheme == "mailto") and text.isprintable()


def read(text: str, ways: Ways = Ways()) -> tuple[ProsePart, ...]:
    """Return the parts of a note; any text has parts."""
    tokens = _parser().parse(_with_few_brackets(text[:LONGEST]))
    reading = _Reading(ways)
    return tuple(reading.parts(tokens))


def _with_few_brackets(text: str) -> str:
    parts = text.split("[", MOST_BRACKETS)
    if len(parts) <= MOST_BRACKETS:
        return text
    return "[".join([*parts[:-1], parts[-1].replace("[", "\\[")])


def mentioned(text: str, people: Iterable[str]) -> list[str]:
    """Return the people whom a note mentions: ``@`` with the name of one of the people, as it is written."""
    names = sorted(people, key=len, reverse=True)
    mentions = []
    for at in _MENTION.finditer(text):
        name = next(
            (name for name in names if text.startswith(name, at.end()) and _ends(text, at.end() + len(name))), None
        )
        if name is not None and name not in mentions:
            mentions.append(name)
    return mentions


def plain(parts: Iterable[ProsePart]) -> str:
    """Return the text of parts, without formatting."""
    return "".join(part.text + plain(part.parts) for part in parts)


def beginning(text: str, most: int) -> str:
    """Return the beginning of a note as one line of plain text, of at most so many characters."""
    line = " ".join(" ".join(plain([part]) for part in read(text[: 4 * most])).split())
    return line if len(line) <= most and len(text) <= 4 * most else f"{line[: most - 1].rstrip()}…"


def _ends(text: str, at: int) -> bool:
    return at >= len(text) or not (text[at].isalnum() or text[at] == "_")


@cache
def _parser() -> MarkdownIt:
    parser = MarkdownIt("commonmark", {"html": False, "maxNesting": MOST_LEVELS}).enable(["table", "strikethrough"])
    # Which addresses are allowed is decided here, not by the library.
    parser.validateLink = lambda url: True  # type: ignore[method-assign]
    return parser


class _Reading:
    def __init__(self, ways: Ways) -> None:
        self._left = MOST_PARTS
        self._ways = ways
        names = [re.escape(pattern.removesuffix("{number}")) for pattern, _ in ways.patterns if is_pattern(pattern)]
        people = sorted(ways.people, key=len, reverse=True)
        choices = [rf"(?<![\w-])(?P<ticket>{'|'.join(names)})(?P<number>[0-9]{{1,12}})\b"] if names else []
        choices += [rf"(?<![\w@])@(?P<person>{'|'.join(map(re.escape, people))})(?!\w)"] if people else []
        self._special = re.compile("|".join(choices)) if choices else None
        self._addresses = {pattern.removesuffix("{number}"): address for pattern, address in ways.patterns}

    def parts(self, tokens: Sequence[Token]) -> list[ProsePart]:
        """Return the parts of some tokens, each opening one with all up to its end."""
        parts: list[ProsePart] = []
        at = 0
        while at < len(tokens) and self._left > 0:
            token = tokens[at]
            self._left -= 1
            if token.nesting == 1:
                end = _end_of(tokens, at)
                parts += self._around(token, tokens[at + 1 : end])
                at = end + 1
                continue
            parts += self._single(token)
            at += 1
        return parts

    def _around(self, token: Token, inner: Sequence[Token]) -> list[ProsePart]:
        kind = token.type.removesuffix("_open")
        if kind == "link":
            address = str(token.attrGet("href") or "")
            parts = tuple(self.parts(inner))
            return [ProsePart("a", address=address, parts=parts)] if is_address(address) else list(parts)
        tag = _BLOCKS.get(kind) or _INLINE.get(kind)
        parts = tuple(self.parts(inner))
        return [ProsePart(tag, parts=parts)] if tag is not None else list(parts)

    def _single(self, token: Token) -> list[ProsePart]:
        kind = token.type
        if kind == "inline":
            return self.parts(token.children or ())
        if kind in ("text", "html_inline", "html_block"):
            return self._text(token.content)
        if kind == "code_inline":
            return [ProsePart("code", token.content)]
        if kind in ("fence", "code_block"):
            return [ProsePart("pre", token.content)]
        if kind in ("softbreak", "hardbreak"):
            return [ProsePart("", "\n") if kind == "softbreak" else ProsePart("br")]
        if kind == "hr":
            return [ProsePart("hr")]
        if kind == "image":
            # Loading the picture would tell another server who reads this.
            address, text = str(token.attrGet("src") or ""), token.content
            return (
                [ProsePart("a", address=address, parts=(ProsePart("", text or address),))]
                if is_address(address)
                else self._text(text)
            )
        return []

    def _text(self, text: str) -> list[ProsePart]:
        """Return a text with its tickets and mentions kept apart."""
        if self._special is None:
            return [ProsePart("", text)]
        parts: list[ProsePart] = []
        end = 0
        for special in self._special.finditer(text):
            if special.start() > end:
                parts.append(ProsePart("", text[end : special.start()]))
            groups = special.groupdict()
            if groups.get("ticket") is not None:
                address = self._addresses[groups["ticket"]].replace("{number}", groups["number"])
                parts.append(
                    ProsePart("a", address=address, parts=(ProsePart("", special[0]),))
                    if is_address(address)
                    else ProsePart("", special[0])
                )
            else:
                parts.append(ProsePart("person", groups["person"]))
            end = special.end()
        return [*parts, ProsePart("", text[end:])] if end < len(text) or not parts else parts


def _end_of(tokens: Sequence[Token], at: int) -> int:
    """Return where a token that opens at an index is closed."""
    depth = 0
    for place in range(at, len(tokens)):
        depth += tokens[place].nesting
        if depth == 0:
            return place
    return len(tokens)


def as_json(parts: Iterable[ProsePart]) -> list[dict[str, Any]]:
    """Return parts for the API, without empty fields."""
    return [
        {name: value for name, value in (("tag", part.tag), ("text", part.text), ("address", part.address)) if value or name == "tag"}
        | ({"parts": as_json(part.parts)} if part.parts else {})
        for part in parts
    ]  # fmt: skip
