"""Compares what a person saw with what was sent, only where it is certain. A field that was filled on the page and
is empty or missing in the received request was lost in between. Bodies that are cut off and fields with different
names are not compared.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, Final

MOST_SAID: Final = 10
MOST_FIELDS: Final = 2000
_PARTS: Final = re.compile(r"[^.\[\]]+")
_FILLED: Final = frozenset({"filled", "checked"})


def beside(boxes: Sequence[Mapping[str, Any]], body: Mapping[str, Any], app: str) -> list[str]:
    """Return the contradictions between a sketch's fields and a received body."""
    if body.get("cut"):
        return []
    sent = _sent(body)
    fields = [(box, _last(str(box["field"]))) for box in boxes if box.get("field")]
    # A body with none of the page's other fields belongs to another form.
    is_of_this_form = {name for _, name in fields} & sent.keys()
    compared = []
    for box, name in fields:
        if not _FILLED & set(box.get("state") or ()):
            continue
        if name in sent:
            how = "was empty" if all(value in ("", None) for value in sent[name]) else ""
        else:
            # A script may leave out or rename a field; a form that the browser sends has all filled fields.
            how = "was missing" if is_of_this_form and body.get("form") else ""
        if how:
            state = "checked" if "checked" in box["state"] else "filled"
            compared.append(
                f"“{box.get('name') or name}” was {state} on the page; in what {app} received, {name} {how}."
            )
    return compared[:MOST_SAID]


def _sent(body: Mapping[str, Any]) -> dict[str, list[Any]]:
    """Return the values of a body by the last part of their names."""
    sent: dict[str, list[Any]] = {}
    pairs: Iterable[tuple[str, Any]] = body["form"] if body.get("form") else _named(body.get("json"))
    for count, (name, value) in enumerate(pairs):
        if count >= MOST_FIELDS:
            break
        sent.setdefault(_last(str(name)), []).append(value)
    return sent


def _named(value: Any) -> Iterator[tuple[str, Any]]:
    """Yield the values of JSON with their names, at any depth."""
    waiting = [value]
    while waiting:
        box = waiting.pop()
        if isinstance(box, dict):
            for name, inner in box.items():
                if isinstance(inner, dict | list) and inner:
                    waiting.append(inner)
                else:
                    yield str(name), inner
        elif isinstance(box, list):
            waiting.extend(box)


def _last(name: str) -> str:
    """Return the last part of a name: that of ``vehicle[height]`` and of ``vehicle.height`` is ``height``."""
    parts = _PARTS.findall(name)
    return parts[-1] if parts else name
