"""Hiding what must not leave: by name, and by shape in text. Standard library only: the client uses this too.

What was hidden is marked as hidden, with the rule's name. The same engine runs in the reporting process and again in
the service.
"""

from __future__ import annotations

import re
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
_HINT = re.compile(rf"(?i){_KEYED}|cookie|://[^\s/@]*@|bearer |okey_|otok_|eyJ[\w-]+\.")
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

    def text(self, text: str) -> str:
        """Hide secrets that show in running text: ``password=…`` pairs, credentials in URLs, bearer and web tokens."""
        if _HINT.search(text) is None:
            return text
        text = _URL_USER.sub(mark("url credentials"), text)
        text = _JWT.sub(mark("token"), text)
        text = _OWN_SECRETS.sub(mark("key"), text)
        text = _PAIR.sub(self._hide_pair, text)
        return _BEARER.sub(lambda found: f"{found[1]} {mark('token')}", text)

    def source(self, line: str) -> str:
        """Hide literals next to a secret's name in a line of source code; names alone stay readable."""
        if _HINT.search(line) is None:
            return line
        return _OWN_SECRETS.sub(mark("key"), _LITERAL.sub(lambda found: f"{found[1]}'{mark('literal')}'", line))

    def value(self, value: Any, name: str | None = None, depth: int = 0) -> Any:
        """Return ``value`` with secrets hidden; dictionaries and lists are changed in place.

        ``name`` is the key it stands under. What is nested deeper than ``MOST_DEPTH`` is hidden whole.
        """
        if name is not None and value is not None and not isinstance(value, bool):
            rule = self.rule_for(name)
            if rule is not None:
                return value if isinstance(value, str) and value.startswith("[hidden: ") else mark(rule)
        if isinstance(value, str):
            return self.text(value)
        if depth > MOST_DEPTH:
            return mark("nested too deep")
        if isinstance(value, dict):
            for key, inner in value.items():
                if type(inner) is str or type(inner) is dict or type(inner) is list or inner is not None:
                    value[key] = self.value(inner, key, depth + 1)
        elif isinstance(value, list):
            if len(value) == 2 and type(value[0]) is str and type(value[1]) is str:
                value[1] = self.value(value[1], value[0], depth + 1)
                value[0] = self.text(value[0])
            else:
                value[:] = [self.value(inner, None, depth + 1) for inner in value]
        return value

    def report(self, report: dict[str, Any]) -> dict[str, Any]:
        """Hide secrets in a whole report, in place. The report's own field names hide nothing, whatever they are."""
        for key, inner in report.items():
            if key == "exceptions" and isinstance(inner, list):
                for link in inner:
                    self._exception(link)
            elif key in _PLAIN_FIELDS:
                continue
            else:
                report[key] = self.value(inner, None)
        return report

    def _exception(self, link: Any) -> None:
        if not isinstance(link, dict):
            return
        if isinstance(link.get("message"), str):
            link["message"] = self.text(link["message"])
        if isinstance(link.get("notes"), list):
            self.value(link["notes"])
        frames = link.get("frames")
        for frame in frames if isinstance(frames, list) else ():
            if not isinstance(frame, dict):
                continue
            source = frame.get("source")
            if isinstance(source, dict):
                for part, lines in source.items():
                    if isinstance(lines, str):
                        source[part] = self.source(lines)
                    elif isinstance(lines, list):
                        source[part] = [self.source(line) if isinstance(line, str) else line for line in lines]
            if isinstance(frame.get("locals"), dict):
                self.value(frame["locals"])

    def _hide_pair(self, found: re.Match[str]) -> str:
        value = found["value"]
        if "[hidden" in value:
            return found[0]
        quote = value[0] if value[0] in "\"'" else ""
        rule = self.rule_for(found["name"]) or "secret"
        return f"{found['name']}{found['join']}{quote}{mark(rule)}{quote}"


_PLAIN_FIELDS: Final = frozenset({"kind", "id", "time", "severity", "handled", "release", "trace_id", "span_id"})
