"""What the client captures of an exception, as far as grouping looks at it."""

from __future__ import annotations

from typing import Any

from obitus.client.capture import Capture
from obitus.core.redaction import Redactor

_OF_A_FRAME = ("function", "module", "file", "line", "own", "parameters")


def captured(error: BaseException) -> list[dict[str, Any]]:
    """Return the exception chain as the client reports it, without values and without the lines around each frame."""
    chain = Capture(Redactor(), values=False).chain(error)
    return [
        {name: link[name] for name in ("type", "message", "relation") if name in link}
        | {"frames": [_plain(frame) for frame in link.get("frames", ())]}
        for link in chain
    ]


def _plain(frame: dict[str, Any]) -> dict[str, Any]:
    plain = {name: frame[name] for name in _OF_A_FRAME if name in frame}
    if "source" in frame:
        plain["source"] = {name: frame["source"][name] for name in ("line", "nth_alike") if name in frame["source"]}
    return plain
