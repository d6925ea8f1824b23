"""The exceptions of a failure's content, for the fingerprint and for grouping rules."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from obitus.core.frames import ChainLink, Frame, looks_like_library, settle_relative
from obitus.core.stacks import report_form, stack_of


def chain_of(content: dict[str, Any]) -> list[ChainLink]:
    """Return the exception chain of a failure's content."""
    return [
        ChainLink(
            type=link["type"],
            message=link.get("message", ""),
            frames=_frames(link.get("frames", ())),
            relation=link.get("relation"),
        )
        for link in content["exceptions"]
    ]


def asked_about(content: dict[str, Any], chain: list[ChainLink], app: str, environment: str) -> dict[str, Any]:
    """Return the facts for grouping rules: fields, and attributes under their own names."""
    run = content.get("run")
    inner = chain[-1].frames[-1] if chain[-1].frames else None
    return {
        **content.get("attributes", {}),
        "app": app,
        "environment": environment,
        "release": content.get("release") or "",
        "severity": content.get("severity", "ERROR"),
        "handled": content.get("handled", False),
        "type": chain[0].type,
        "cause": chain[-1].type,
        "message": chain[0].message,
        "function": inner.function if inner else "",
        "module": inner.module if inner else "",
        "file": inner.file if inner else "",
        "entry_point": run["entry_point"] if run else "",
    }


def read_stacks(content: dict[str, Any]) -> None:
    """Make frames of the stacks that a sender gave as text."""
    for link in content["exceptions"]:
        text = link.pop("stack", None)
        if text and not link.get("frames"):
            found = stack_of(link["type"], link.get("message", ""), text)
            link["frames"] = report_form(found.chain[:1])[0]["frames"]


def _frames(given: Sequence[dict[str, Any]]) -> list[Frame]:
    frames = [_frame(frame) for frame in given]
    # Where the sender marks own code, that counts; else paths alone would mislead.
    return frames if all(frame.get("own") is not None for frame in given) else settle_relative(frames)


def _frame(frame: dict[str, Any]) -> Frame:
    own = frame.get("own")
    file = frame.get("file", "")
    if own is None:
        own = not looks_like_library(file)
    source = frame.get("source")
    code = source["line"].strip() if source else ""
    return Frame(
        frame["function"],
        frame.get("module", ""),
        file,
        frame.get("line"),
        own,
        code,
        column=frame.get("column"),
        parameters=tuple(frame.get("parameters", ())),
        nth_alike=source.get("nth_alike", 0) if source else 0,
    )
