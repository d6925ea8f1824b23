"""Messages: one content, as plain text, as HTML without images, and as data for templates and other programs.
Reported values are text: in HTML they are escaped.
"""

from __future__ import annotations

import html
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from typing import Any, Final

from obitus.core.clock import to_text
from obitus.core.priority import Level
from obitus.core.wording import count_of, minute_of, span

_BARS: Final = "▁▂▃▄▅▆▇█"
MOST_PARTS: Final = 20
"""Firings that one message describes; further ones are only counted."""
LONGEST_TITLE: Final = 180
_INK, _QUIET, _ACCENT, _RUST, _RULE, _PAPER = "#2a2622", "#6b645c", "#0f5f63", "#a5402a", "#d8d0c4", "#fbf8f2"


@dataclass(frozen=True, slots=True)
class MessageAction:
    """An action of the message: its link asks for confirmation, and works once."""

    label: str
    link: str


@dataclass(frozen=True, slots=True)
class FiringSummary:
    """One thing that fired."""

    title: str
    """Its subject: an issue, or a measure with its group."""
    what: str
    """What happened: `new issue`, `share of failed runs`."""
    rules: Sequence[str]
    """The rules that fired: several may fire for one issue."""
    reason: str
    """Why, with the numbers."""
    begun: str
    """RFC 3339."""
    over: str | None
    app: str
    environment: str
    facts: Sequence[tuple[str, str]] = ()
    over_time: Sequence[float] = ()
    link: str = ""
    """Its address in the console."""
    records: str = ""
    """The search for exactly the records that caused it."""
    acts: Sequence[MessageAction] = ()


@dataclass(frozen=True, slots=True)
class Letter:
    """A message to one channel."""

    uid: str
    kind: str
    priority: Level
    title: str
    parts: Sequence[FiringSummary]
    more: int = 0
    """The number of firings that it does not describe."""
    text: str = ""
    """The text of a digest or a test."""
    home: str = ""
    """The address of the console."""
    thread: str = ""
    """Key of messages about the same subject."""
    sent: str = ""
    notes: Sequence[str] = field(default_factory=tuple)


def title_of(kind: str, parts: Sequence[FiringSummary], more: int) -> str:
    """Return the title of a message, the most important part first."""
    first = parts[0]
    several = len(parts) + more
    if kind == "over":
        text = f"Over since {minute_of(first.over or '')[11:]}: {first.title}"
    else:
        text = (
            first.title
            if first.title.lower().startswith(first.what)
            else f"{first.what[:1].upper()}{first.what[1:]}: {first.title}"
        )
        text = text[:1].upper() + text[1:]
        if kind == "escalation":
            text = f"Nobody has accepted: {text}"
    where = " ".join(part for part in (first.app, first.environment) if part)
    text += f" ({where})" if where else ""
    if several > 1:
        text += f", and {count_of(several - 1, 'more', 'more')}"
    return _line(text)[:LONGEST_TITLE]


def as_text(letter: Letter) -> str:
    """Return a message as plain text, in lines."""
    lines = [letter.title, "", letter.text] if letter.text else [letter.title]
    for part in letter.parts[:MOST_PARTS]:
        lines += ["", _line(part.title) if len(letter.parts) > 1 else ""]
        lines += [f"{label}: {_line(value)}" for label, value in _facts(part)]
        if part.over_time:
            lines.append(f"Before:  {bars(part.over_time)}")
        lines += [f"Open it: {part.link}"] if part.link else []
        lines += [f"Records: {part.records}"] if part.records else []
        lines += [f"{act.label}: {act.link}" for act in part.acts]
    lines += _closing(letter)
    text = "\n".join(lines).strip() + "\n"
    while "\n\n\n" in text:
        text = text.replace("\n\n\n", "\n\n")
    return text


def as_html(letter: Letter) -> str:
    """Return a message as one page of HTML: no images, no script, nothing from elsewhere."""
    parts = "".join(_part_html(part, is_alone=len(letter.parts) == 1) for part in letter.parts[:MOST_PARTS])
    paragraph = (
        f'<pre style="white-space:pre-wrap;font:inherit">{html.escape(letter.text)}</pre>' if letter.text else ""
    )
    closing = "".join(
        f'<p style="color:{_QUIET};margin:4px 0">{_linked(line)}</p>' for line in _closing(letter) if line
    )
    return (
        f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{html.escape(letter.title)}</title></head>'
        f'<body style="margin:0;padding:20px;background:{_PAPER};color:{_INK};font:15px/1.5 Georgia,serif">'
        f'<h1 style="font-size:20px;margin:0 0 12px">{html.escape(letter.title)}</h1>{paragraph}{parts}{closing}</body></html>'
    )


def as_data(letter: Letter) -> dict[str, Any]:
    """Return a message as data: for templates, and for CloudEvents."""
    data = asdict(letter)
    data["parts"] = [
        asdict(part) | {"facts": [{"label": label, "value": value} for label, value in _facts(part)]}
        for part in letter.parts[:MOST_PARTS]
    ]
    data["plain"] = as_text(letter)
    return data


def bars(values: Sequence[float]) -> str:
    """Return values as characters of different heights, for plain text."""
    most = max(values, default=0)
    if most <= 0:
        return _BARS[0] * len(values)
    return "".join(_BARS[min(len(_BARS) - 1, int(max(0, value) / most * (len(_BARS) - 1) + 0.5))] for value in values)


def lasted(begun_ms: int, over_ms: int) -> str:
    """Say when something was over, and how long it lasted."""
    return f"{minute_of(to_text(over_ms))} UTC, after {span(over_ms - begun_ms)}"


def _facts(part: FiringSummary) -> list[tuple[str, str]]:
    rules = "Rule" if len(part.rules) == 1 else "Rules"
    found = [
        ("Why", part.reason),
        ("Since", f"{minute_of(part.begun)} UTC"),
        *part.facts,
        (rules, "; ".join(part.rules)),
    ]
    return [(label, value) for label, value in found if value]


def _part_html(part: FiringSummary, *, is_alone: bool) -> str:
    rows = "".join(
        f'<tr><td style="color:{_QUIET};padding:2px 14px 2px 0;vertical-align:top;white-space:nowrap">{html.escape(label)}</td>'
        f'<td style="padding:2px 0">{html.escape(_line(value))}</td></tr>'
        for label, value in _facts(part)
    )
    if part.over_time:
        rows += (
            f'<tr><td style="color:{_QUIET};padding:2px 14px 2px 0">Before</td>'
            f'<td style="font-family:monospace;color:{_RUST}">{bars(part.over_time)}</td></tr>'
        )
    links = [MessageAction("Open it", part.link)] if part.link else []
    links += [MessageAction("The records", part.records)] if part.records else []
    link_texts = " &nbsp; ".join(
        f'<a style="color:{_ACCENT}" href="{html.escape(act.link)}">{html.escape(act.label)}</a>'
        for act in [*links, *part.acts]
    )
    # Alone, it is the title of the message.
    title = "" if is_alone else f'<p style="margin:0 0 6px;font-weight:bold">{html.escape(_line(part.title))}</p>'
    return (
        f'<div style="border-top:1px solid {_RULE};padding:10px 0">{title}'
        f'<table style="border-collapse:collapse">{rows}</table><p style="margin:8px 0 0">{link_texts}</p></div>'
    )


def _closing(letter: Letter) -> list[str]:
    closing = [""]
    beyond = letter.more + max(0, len(letter.parts) - MOST_PARTS)
    if beyond:
        closing.append(f"And {count_of(beyond, 'more', 'more')}: {letter.home}/alerts")
    closing += letter.notes
    if any(part.acts for part in letter.parts):
        closing.append("Each of these links asks before it does anything, works once, and is valid for three days.")
    return closing


def _linked(line: str) -> str:
    head, sign, address = line.partition("http")
    if not sign:
        return html.escape(line)
    return f'{html.escape(head)}<a style="color:{_ACCENT}" href="{html.escape(sign + address)}">{html.escape(sign + address)}</a>'


def _line(text: str) -> str:
    """Return a text on one line, so that a reported value cannot begin a line or a header."""
    return " ".join("".join(sign if sign.isprintable() else " " for sign in text).split())
