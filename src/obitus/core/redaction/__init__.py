"""Redaction: hiding secrets by name, by shape in text, by path. Standard library only: the client uses this too. A
hidden value is marked, with the rule's name. The same engine runs in the reporting process and again in the service,
each with the team's own rules in addition to the default ones.
"""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from hashlib import blake2b
from typing import Any, Final

from obitus.core.redaction.texts import ANY_SECRET, CARD, PossibleSecrets, Texts, hide_card, mark

__all__ = ["SESSION", "Redactor", "hidden_session", "mark"]

MOST_DEPTH: Final = 60

SESSION: Final = "session.id"
"""An attribute by which a person can be searched (OpenTelemetry's name)."""


def hidden_session(session: str) -> str:
    """Return a hash in place of a session's id: a person who knows the id finds it, and nobody can compute the id from it."""
    return mark(f"session {blake2b(session.encode('utf-8', 'surrogatepass'), digest_size=6).hexdigest()}")


class Redactor(Texts):
    """Hides secrets in nested JSON-like values. One instance serves a whole process."""

    @cached_property
    def _paths(self) -> list[tuple[list[str], str]]:
        """The paths of the team's rules, and the label of each."""
        return [(rule.what.split("."), rule.label) for rule in self.rules if rule.by == "path"]

    def value(self, value: Any, name: str | None = None, depth: int = 0, possible: PossibleSecrets = ANY_SECRET) -> Any:
        """Return ``value`` with secrets hidden; dictionaries and lists are changed in place.

        ``name`` is its key. Values nested deeper than ``MOST_DEPTH`` are hidden whole.
        """
        if name is not None and value is not None and not isinstance(value, bool):
            rule = self.rule_for(name)
            if rule is not None:
                if isinstance(value, str):
                    if value.startswith("[hidden: "):
                        return value
                    if name == SESSION and value:
                        return hidden_session(value)
                return mark(rule)
        clean = not (possible.hints or possible.cards or self.patterns)
        if isinstance(value, str):
            return value if clean else self.text(value, possible)
        if depth > MOST_DEPTH:
            return mark("nested too deep")
        if isinstance(value, dict):
            self._dict(value, depth, possible, clean=clean)
        elif isinstance(value, list):
            self._list(value, depth, possible)
        elif possible.cards and isinstance(value, int) and not isinstance(value, bool) and CARD.fullmatch(str(value)):
            return value if hide_card(CARD.fullmatch(str(value))) == str(value) else mark("card")  # type: ignore[arg-type]
        return value

    def report(self, report: dict[str, Any], written: str | None = None) -> dict[str, Any]:
        """Hide secrets in a whole report, in place. The report's own field names hide nothing. ``written`` is the
        report as JSON, where it is available: secrets that it cannot hold need not be searched for.
        """
        possible = PossibleSecrets(self.hints) if written is None else self.possible_in(written)
        message = report.get("message") if report.get("kind") == "log" else None
        clean = not (possible.hints or possible.cards or self.patterns)
        for key, inner in report.items():
            if key == "exceptions" and isinstance(inner, list):
                for link in inner:
                    self._exception(link, possible)
            elif key == "hit" and isinstance(inner, dict):
                self._hit(inner, possible)
            elif key in _PLAIN_FIELDS or (clean and type(inner) is str):
                continue
            else:
                report[key] = self.value(inner, None, 0, possible)
        if isinstance(message, str) and report.get("message") != message:
            _hide_arguments(report, message)
        for path, label in self._paths:
            _hide_path(report, path, label, free=False)
        return report

    def _dict(self, value: dict[Any, Any], depth: int, possible: PossibleSecrets, *, clean: bool) -> None:
        names = self.names
        for key, inner in value.items():
            # Most values are texts under a harmless name: they need no call.
            if inner is None or (clean and type(inner) is str and names.get(key, "") is None):
                continue
            value[key] = self.value(inner, key, depth + 1, possible)
        if not clean:
            # A secret may be a key too: the sender chooses the keys of a form or a body.
            for key in [key for key in value if isinstance(key, str) and len(key) >= 8]:
                shown = self.text(key, possible)
                if shown != key:
                    value[shown] = value.pop(key)

    def _list(self, value: list[Any], depth: int, possible: PossibleSecrets) -> None:
        if len(value) == 2 and type(value[0]) is str and type(value[1]) is str:
            rule = self.rule_of_pair(value[0], value[1])
            is_hidden = value[1].startswith("[hidden: ")
            value[1] = (
                mark(rule) if rule is not None and not is_hidden else self.value(value[1], None, depth + 1, possible)
            )
            value[0] = self.text(value[0], possible)
            return
        option: str | None = None
        for i, inner in enumerate(value):
            # On a command line the secret follows its option as a word of its own.
            hidden = self.rule_for(option) if option is not None and isinstance(inner, str) else None
            option = inner if isinstance(inner, str) and inner.startswith("-") and "=" not in inner else None
            value[i] = (
                mark(hidden) if hidden is not None and option is None else self.value(inner, None, depth + 1, possible)
            )

    def _hit(self, hit: dict[str, Any], possible: PossibleSecrets) -> None:
        """Hide secrets in a hit of a tracepoint."""
        self._frames(hit.get("frames"), possible)
        for name in ("values", "trail"):
            self.value(hit.get(name), None, 0, possible)

    def _exception(self, link: Any, possible: PossibleSecrets) -> None:
        if not isinstance(link, dict):
            return
        for name, inner in link.items():
            if name == "message" and isinstance(inner, str):
                link[name] = self.text(inner, possible)
            elif name in ("notes", "detail"):
                self.value(inner, None, 0, possible)
        self._frames(link.get("frames"), possible)

    def _frames(self, frames: Any, possible: PossibleSecrets) -> None:
        look = bool(possible.hints or possible.cards or self.patterns)
        for frame in frames if isinstance(frames, list) else ():
            if not isinstance(frame, dict):
                continue
            source = frame.get("source")
            if look and isinstance(source, dict):
                for part, lines in source.items():
                    if isinstance(lines, str):
                        source[part] = self.source(lines, possible)
                    elif isinstance(lines, list):
                        source[part] = [
                            self.source(line, possible) if isinstance(line, str) else line for line in lines
                        ]
            values = frame.get("locals")
            if isinstance(values, dict):
                if frame.get("own") is False and "execute" in str(frame.get("function", "")):
                    # The parameters of a database statement can be anything.
                    for name in _STATEMENT_VALUES & values.keys():
                        values[name] = mark("statement values")
                self.value(values, None, 0, possible)
            call = frame.get("call")
            if isinstance(call, dict):
                # The format's own fields with names like secrets are none: only the arguments are redacted.
                call["values"] = self.value(call.get("values"), None, 0, possible)


def _hide_arguments(report: dict[str, Any], said: str) -> None:
    """Hide the arguments of a log record that its redacted message does not show any more."""
    shown, attributes = str(report.get("message", "")), report.get("attributes")
    if not isinstance(attributes, dict):
        return
    for name, value in attributes.items():
        text = value if isinstance(value, str) else str(value)
        if name.startswith("log.argument.") and text and text in said and text not in shown:
            attributes[name] = mark("shown in a hidden part")


def _hide_path(holder: Any, path: Sequence[str], label: str, *, free: bool) -> None:
    """Hide the value at a path. Outside the ``free`` parts only texts are hidden: the types of other fields belong to the format."""
    if isinstance(holder, list):
        for inner in holder:
            _hide_path(inner, path, label, free=free)
        return
    if not isinstance(holder, dict):
        return
    step, rest = path[0], path[1:]
    for key in list(holder) if step == "*" else [step]:
        if key not in holder or (key in _NEVER_HIDDEN and not rest and not free):
            continue
        if rest:
            _hide_path(holder[key], rest, label, free=free or key in _FREE_PARTS)
            call = holder.get("call") if key == "locals" else None
            if isinstance(call, dict):
                # The same values in another form.
                _hide_path(call.get("values"), rest, label, free=True)
        elif isinstance(holder[key], str) or (free and holder[key] is not None):
            holder[key] = mark(label)


_FREE_PARTS: Final = frozenset({"attributes", "locals", "detail", "json", "form", "values"})
_PLAIN_FIELDS: Final = frozenset({"kind", "id", "time", "severity", "handled", "release", "trace_id", "span_id"})
# Fields that every report needs: a path rule for one of them is ignored.
_NEVER_HIDDEN: Final = frozenset(
    {*_PLAIN_FIELDS, "exceptions", "run", "trail", "frames", "type", "function", "entry_point"}
)
_STATEMENT_VALUES: Final = frozenset(
    {
        "parameters",
        "params",
        "args",
        "multiparams",
        "distilled_parameters",
        "cursor_parameters",
        "query_params",
        "param",
        "seq_of_parameters",
    }
)
