"""Hiding what must not leave: by name, and by shape in text. Standard library only: the client uses this too.

What was hidden is marked as hidden, with the rule's name. The same engine runs in the reporting process and again in
the service.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any, Final

MOST_DEPTH: Final = 60

_RULES: Final = {
    "password": r"pass(?:word|wd|phrase|code)|pwd|(?:db|smtp|mail|user|ftp|proxy|basic|admin|root)pass",
    "secret": r"secret|private|credentials?",
    "token": r"token|jwt|bearer|csrf|xsrf",
    "key": r"(?:api|access|auth|private|signing|encryption|reporting|obitus)key",
    "authorisation": r"authori[sz]ation|proxyauthori[sz]ation",
    "cookie": r"cookies?|setcookie",
    "session": r"j?session(?:id|key|token)|phpsessid",
}
_WORD_SPLIT = re.compile(r"[^A-Za-z0-9]+|(?<=[a-z0-9])(?=[A-Z])")
_NAME = re.compile("|".join(f"(?P<{rule}>{pattern})" for rule, pattern in _RULES.items()))
_KEYED = (
    r"pass(?:word|wd|phrase)|pwd|secret|token|api[_-]?key|access[_-]?key|private[_-]?key|authorization|session[_-]?id"
)
# Whatever the patterns below can match holds one of these, in lower case. Looking for them is far cheaper than the
# patterns: once over a whole report, then in each of its texts for those that were there.
_HINTS: Final = (
    "passw", "passphrase", "pwd", "secret", "token", "apikey", "api_key", "api-key", "accesskey", "access_key",
    "access-key", "privatekey", "private_key", "private-key", "authorization", "sessionid", "session_id", "session-id",
    "@", "bearer", "okey_", "otok_", "eyj",
)  # fmt: skip
_PAIR = re.compile(
    rf"""(?ix) (?P<name>[\w-]*(?:{_KEYED})[\w-]*) (?P<join>["']?\s*(?:=>|[:=])\s*(?:b?(?=["']))?)
    (?P<value> "(?:[^"\\]|\\.)*" | '(?:[^'\\]|\\.)*' | (?:bearer\s+|basic\s+)?[^\s,;&"')\]}}]+ )"""
)
_LITERAL = re.compile(rf"""(?ix) ([\w-]*(?:{_KEYED})[\w-]*["']?\s*[:=]\s*b?) ("[^"]+"|'[^']+')""")
_URL_USER = re.compile(r"(?<=://)[^\s/@:]*:[^\s/@]*(?=@)")
_BEARER = re.compile(r"(?i)\b(bearer)\s+[\w.~+/=-]{8,}")
_OWN_SECRETS = re.compile(r"\bo(?:key|tok)_[A-Za-z0-9_-]{16,}")
_JWT = re.compile(r"\beyJ[\w-]{8,}\.[\w-]{4,}\.[\w-]*")


def mark(rule: str) -> str:
    """Return what stands in the place of a hidden value."""
    return f"[hidden: {rule}]"


def hints_in(written: str) -> tuple[str, ...]:
    """Return the hints of secrets that a report, written as JSON, holds. Escaped signs may hide any of them."""
    lower = written.lower()
    if "\\u00" in lower:
        return _HINTS
    return tuple(hint for hint in _HINTS if hint in lower)


class Redactor:
    """Hides secrets in nested JSON-like values. Holds only a bounded cache, so one instance serves a whole process."""

    def __init__(self) -> None:
        self._names: dict[str, str | None] = {}

    def rule_for(self, name: str) -> str | None:
        """Return the name of the rule that hides values under ``name``, or None when it may be shown."""
        try:
            return self._names[name]
        except KeyError:
            pass
        words = [word.lower() for word in _WORD_SPLIT.split(name[:200]) if word]
        rule = "password" if words == ["pass"] else None
        for length in (1, 2):
            for i in range(len(words) - length + 1):
                found = _NAME.fullmatch("".join(words[i : i + length]))
                if found is not None and rule is None:
                    rule = found.lastgroup
        if len(self._names) < 5000:
            self._names[name] = rule
        return rule

    def text(self, text: str, hints: Sequence[str] = _HINTS) -> str:
        """Hide secrets that show in running text: ``password=…`` pairs, credentials in URLs, bearer and web tokens.

        ``hints`` may be narrowed to what ``hints_in`` found in the whole that this text is a part of.
        """
        lower = text.lower()
        for hint in hints:
            if hint in lower:
                break
        else:
            return text
        text = _URL_USER.sub(mark("url credentials"), text)
        text = _JWT.sub(mark("token"), text)
        text = _OWN_SECRETS.sub(mark("key"), text)
        text = _PAIR.sub(self._hide_pair, text)
        return _BEARER.sub(lambda found: f"{found[1]} {mark('token')}", text)

    def source(self, line: str, hints: Sequence[str] = _HINTS) -> str:
        """Hide literals next to a secret's name in a line of source code; names alone stay readable."""
        lower = line.lower()
        for hint in hints:
            if hint in lower:
                break
        else:
            return line
        return _OWN_SECRETS.sub(mark("key"), _LITERAL.sub(lambda found: f"{found[1]}'{mark('literal')}'", line))

    def value(self, value: Any, name: str | None = None, depth: int = 0, hints: Sequence[str] = _HINTS) -> Any:
        """Return ``value`` with secrets hidden; dictionaries and lists are changed in place.

        ``name`` is the key it stands under. What is nested deeper than ``MOST_DEPTH`` is hidden whole.
        """
        if name is not None and value is not None and not isinstance(value, bool):
            rule = self.rule_for(name)
            if rule is not None:
                return value if isinstance(value, str) and value.startswith("[hidden: ") else mark(rule)
        if isinstance(value, str):
            return self.text(value, hints) if hints else value
        if depth > MOST_DEPTH:
            return mark("nested too deep")
        if isinstance(value, dict):
            names = self._names
            for key, inner in value.items():
                # Most values are texts under a harmless name: they are passed by without a call.
                if inner is None or (not hints and type(inner) is str and names.get(key, "") is None):
                    continue
                value[key] = self.value(inner, key, depth + 1, hints)
        elif isinstance(value, list):
            if len(value) == 2 and type(value[0]) is str and type(value[1]) is str:
                value[1] = self.value(value[1], value[0], depth + 1, hints)
                value[0] = self.text(value[0], hints)
            else:
                value[:] = [self.value(inner, None, depth + 1, hints) for inner in value]
        return value

    def report(self, report: dict[str, Any], written: str | None = None) -> dict[str, Any]:
        """Hide secrets in a whole report, in place. The report's own field names hide nothing, whatever they are.

        ``written`` is the report as JSON, where it is at hand: what it does not hold need not be looked for.
        """
        hints = _HINTS if written is None else hints_in(written)
        for key, inner in report.items():
            if key == "exceptions" and isinstance(inner, list):
                for link in inner:
                    self._exception(link, hints)
            elif key in _PLAIN_FIELDS:
                continue
            else:
                report[key] = self.value(inner, None, 0, hints)
        return report

    def _exception(self, link: Any, hints: Sequence[str]) -> None:
        if not isinstance(link, dict):
            return
        if isinstance(link.get("message"), str):
            link["message"] = self.text(link["message"], hints)
        if isinstance(link.get("notes"), list):
            self.value(link["notes"], None, 0, hints)
        frames = link.get("frames")
        for frame in frames if isinstance(frames, list) else ():
            if not isinstance(frame, dict):
                continue
            source = frame.get("source")
            if hints and isinstance(source, dict):
                for part, lines in source.items():
                    if isinstance(lines, str):
                        source[part] = self.source(lines, hints)
                    elif isinstance(lines, list):
                        source[part] = [self.source(line, hints) if isinstance(line, str) else line for line in lines]
            if isinstance(frame.get("locals"), dict):
                self.value(frame["locals"], None, 0, hints)

    def _hide_pair(self, found: re.Match[str]) -> str:
        value = found["value"]
        if "[hidden" in value:
            return found[0]
        quote = value[0] if value[0] in "\"'" else ""
        rule = self.rule_for(found["name"]) or "secret"
        return f"{found['name']}{found['join']}{quote}{mark(rule)}{quote}"


_PLAIN_FIELDS: Final = frozenset({"kind", "id", "time", "severity", "handled", "release", "trace_id", "span_id"})
