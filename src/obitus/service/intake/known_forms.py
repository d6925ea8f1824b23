"""Failures of a flood, recognised by the parts of their fingerprint: those that are only counted need not be
prepared. Most of the cost of a report is redacting, fingerprinting and compressing. In a flood, a failure that
equals an earlier one in all parts of its fingerprint is parsed and checked, and passed on with the decision for that
one. If it is to be kept whole after all, it is prepared then.
"""

from __future__ import annotations

import re
import threading
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any, Final

from obitus.core.grouping.recipe import Part
from obitus.core.quiet.failing import CAPTURED_BY
from obitus.store.days.failures import FailureRow
from obitus.store.grouping import Decided
from obitus.store.intake.facts import FailureFacts

KNOWN_FOR_MS: Final = 5_000
"""How long after its latest only counted failure an issue counts as flooding."""
MOST_KNOWN: Final = 100
"""Forms of failures in the cache; the least recently used one is dropped."""
MOST_PARTS: Final = 300
"""Frames and exceptions of a form."""
MOST_TEXT: Final = 50_000
"""Characters of a form: longer failures have none, which bounds the cache."""
_DIGITS: Final = re.compile(r"\d+")
_MOST_DIGITS: Final = 12
"""Digits of a message whose numbers may differ: with more, one of them may be a card number, which is hidden
depending on its digits."""
_OF_FRAME: Final = ("function", "module", "file", "line", "own", "column")
_OF_LINK: Final = ("type", "relation")
Form = tuple[Any, ...]


def form_of(content: dict[str, Any]) -> Form | None:
    """Return all parts of a failure's content that decide its fingerprint, without numbers in messages; None where
    that is not clear."""
    links = content.get("exceptions")
    if not isinstance(links, list) or not links:
        return None
    # The fingerprint of a collected failure is made of its attributes.
    if content.get("captured_by") == CAPTURED_BY:
        return None
    form: list[Any] = [content.get("release")]
    try:
        for link in links:
            if "stack" in link:
                return None
            frames = link.get("frames", ())
            codes = []
            for frame in frames:
                source = frame.get("source")
                code, nth_alike = (source["line"], source.get("nth_alike", 0)) if source else ("", 0)
                codes.append(code)
                form.append((*map(frame.get, _OF_FRAME), code, nth_alike, ",".join(frame.get("parameters", ()))))
            form.append((*map(link.get, _OF_LINK), _without_numbers(link.get("message", ""), codes)))
        # Unhashable content has no form.
        form_key = tuple(form)
        hash(form_key)
        length = sum(len(one) for part in form for one in (part if isinstance(part, tuple) else (part,)) if isinstance(one, str))  # fmt: skip
    except (AttributeError, KeyError, TypeError):
        return None
    return form_key if length <= MOST_TEXT and len(form) <= MOST_PARTS else None


def _without_numbers(message: str, codes: list[str]) -> str:
    """Return a message with 0 for each of its numbers, except those that a line of code contains, too."""
    if not isinstance(message, str):
        raise TypeError
    numbers = _DIGITS.findall(message)
    if not numbers or sum(map(len, numbers)) > _MOST_DIGITS:
        return message
    all_code = "\n".join(codes)
    return _DIGITS.sub(lambda number: number[0] if number[0] in all_code else "0", message)


class NotHere:
    """Placeholder for parts that were not computed, and are computed again if they are needed."""

    def parts(self) -> Sequence[Part]:
        """Raise: nobody asks here."""
        raise NotImplementedError("this is asked where it is known only")

    def earlier(self) -> Sequence[str]:
        """Raise: nobody asks here."""
        raise NotImplementedError("this is asked where it is known only")

    def value_of(self, name: str) -> str:
        """Raise: nobody asks here."""
        raise NotImplementedError("this is asked where it is known only")


class Familiar:
    """Decisions for failures in a flood, by app and form. Used by several threads."""

    def __init__(self) -> None:
        self._known: OrderedDict[tuple[int, Form], FailureFacts] = OrderedDict()
        self._lock = threading.Lock()

    def facts(self, app_id: int, form: Form) -> FailureFacts | None:
        """Return the decision for a form."""
        with self._lock:
            facts = self._known.get((app_id, form))
            if facts is not None:
                self._known.move_to_end((app_id, form))
            return facts

    def learn(self, app_id: int, form: Form, facts: FailureFacts) -> None:
        """Store the decision for a failure, without its individual parts."""
        row = FailureRow(0, False, facts.row.type, "", "", None, None, (), "")
        known = replace(facts, decided=Decided(facts.decided.fingerprint, None, NotHere(), was_prepared=False), row=row)
        with self._lock:
            self._known[app_id, form] = known
            if len(self._known) > MOST_KNOWN:
                self._known.popitem(last=False)


class Flooding:
    """The fingerprints that flood now, by app, from the writer's results. ``whole_left`` returns how many failures
    an issue may keep whole now.
    """

    def __init__(self, whole_left: Callable[[int, int], int]) -> None:
        self._whole_left = whole_left
        self._known: dict[int, dict[str, tuple[int, int]]] = {}
        """By app and fingerprint: its issue, and until when it counts as flooding."""

    def note(self, app_id: int, fingerprint: str, issue_id: int, now_ms: int) -> None:
        """A failure with a fingerprint was only counted."""
        self._known.setdefault(app_id, {})[fingerprint] = (issue_id, now_ms + KNOWN_FOR_MS)

    def of(self, app_id: int, now_ms: int) -> dict[str, int]:
        """Return the fingerprints of an app that flood, and how many of each will be kept whole now: these are prepared."""
        floods = self._known.get(app_id)
        if not floods:
            return {}
        # A clock that went back must not keep one for long.
        current = {
            fingerprint: (issue_id, until_ms)
            for fingerprint, (issue_id, until_ms) in floods.items()
            if now_ms < until_ms <= now_ms + KNOWN_FOR_MS
        }
        if current:
            self._known[app_id] = current
        else:
            del self._known[app_id]
        return {fingerprint: self._whole_left(issue_id, now_ms) for fingerprint, (issue_id, _) in current.items()}
