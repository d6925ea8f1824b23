"""Hiding what must not leave: by name, by shape in text, by path. Standard library only: the client uses this too.

What was hidden is marked as hidden, with the rule's name. The same engine runs in the reporting process and again in
the service, each with the team's own rules beside the default ones.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any, Final

from obitus.core.redaction_rules import NAME_RULES, Rule, passes_luhn, words_of

MOST_DEPTH: Final = 60

_NAME = re.compile("|".join(f"(?P<{rule}>{pattern})" for rule, pattern in NAME_RULES.items()))
_KEYED: Final = "pass(?:word|wd|phrase)|pwd|secret|token|api[_-]?key|access[_-]?key|private[_-]?key|authorization|session[_-]?id|cvv|cvc"
_KEYED_NAME = re.compile(_KEYED, re.IGNORECASE)
# Whatever the patterns below can match holds one of these, in lower case. Looking for them is far cheaper than the
# patterns: once over a whole report, then in each of its texts for those that were there.
_HINTS: Final = (
    "passw", "passphrase", "pwd", "secret", "token", "apikey", "api_key", "api-key", "accesskey", "access_key",
    "access-key", "privatekey", "private_key", "private-key", "authorization", "sessionid", "session_id", "session-id",
    "cookie", "cvv", "cvc", "@", "bearer", "okey_", "otok_", "eyj", "-----begin", "?",
)  # fmt: skip
_URL_USER = re.compile(r"(?<=://)[^\s/@:]*:[^\s/@]*(?=@)")
_BEARER = re.compile(r"(?i)\b(bearer|basic)\s+[\w.~+/=-]{8,}")
_OWN_SECRETS = re.compile(r"\bo(?:key|tok)_[A-Za-z0-9_-]{16,}")
_JWT = re.compile(r"\beyJ[\w-]{8,}\.[\w-]{4,}\.[\w-]*")
_KEY_BLOCK = re.compile(
    r"-----BEGIN (?:[A-Z0-9]{1,20} ){0,3}PRIVATE KEY-----.*?(?:-----END (?:[A-Z0-9]{1,20} ){0,3}PRIVATE KEY-----|\Z)",
    re.DOTALL,
)
_COOKIES = re.compile(r"(?i)\b((?:set-)?cookie[\"']?\s*:\s*)([^\r\n\"']+)")
_QUERY = re.compile(r"(?<=[?&;])([\w.\-\[\]%]{1,80})=([^&;#\s\"'<>]+)")
# ISO/IEC 7812: card numbers have 13 to 19 digits, printed in groups; the first one tells the kind of issuer. Times in
# milliseconds start with 1, so they are none. The first digit stands first in the pattern: so it is searched for fastest.
_CARD = re.compile(r"[2-6](?<![\w.-].)\d{3}[ -]?\d{4,6}[ -]?\d{4,5}(?:[ -]?\d{1,4}){0,2}(?![\w-])")
_MAIL = re.compile(r"(?<![\w.+-])[\w.+-]{1,64}@[\w-]{1,63}(?:\.[\w-]{1,63})+")


@dataclass(frozen=True, slots=True)
class Signs:
    """Which signs of secrets a whole report holds, so that its texts need not be looked through for the others."""

    hints: tuple[str, ...] = _HINTS
    cards: bool = True


ALL_SIGNS: Final = Signs()


def mark(rule: str) -> str:
    """Return what stands in the place of a hidden value."""
    return f"[hidden: {rule}]"


class Redactor:
    """Hides secrets in nested JSON-like values. Holds only a bounded cache, so one instance serves a whole process.

    ``rules`` are the team's, beside the default ones.
    """

    def __init__(self, rules: Iterable[Rule] = ()) -> None:
        self.rules = tuple(rules)
        self._names: dict[str, str | None] = {}
        self._own_names = {"".join(words_of(rule.what)): rule.label for rule in self.rules if rule.by == "name"}
        self._most_words = max([2, *(len(words_of(rule.what)) for rule in self.rules if rule.by == "name")])
        self._patterns = [(re.compile(rule.what), rule.label) for rule in self.rules if rule.by == "pattern"]
        if any(rule.by == "e-mail" for rule in self.rules):
            self._patterns.append((_MAIL, "e-mail"))
        self._paths = [(rule.what.split("."), rule.label) for rule in self.rules if rule.by == "path"]
        keyed = _KEYED
        self._hints: tuple[str, ...] = _HINTS
        for rule in self.rules:
            if rule.by == "name":
                words = words_of(rule.what)
                keyed += "|" + r"[\W_]?".join(map(re.escape, words))
                self._hints = (*self._hints, words[0])
        self._pair = re.compile(
            rf"""(?ix) (?P<name>(?<![\w-])[\w-]{{0,60}}(?:{keyed})[\w-]{{0,60}}) (?P<join>["']?\s*(?:=>|[:=])\s*(?:b?(?=["']))?)
            (?P<value> "(?:[^"\\]|\\.)*" | '(?:[^'\\]|\\.)*' | (?:bearer\s+|basic\s+)?[^\s,;&"')\]}}]+ )"""
        )
        self._option = re.compile(
            rf"""(?ix) (?P<name>(?<!\S)--?[\w-]{{0,60}}(?:{keyed})[\w-]{{0,60}}) (?P<join>\s+) (?P<value>[^\s"'-]\S*)"""
        )
        self._literal = re.compile(
            rf"""(?ix) ([\w-]{{0,60}}(?:{keyed})[\w-]{{0,60}}["']?\s*[:=]\s*b?) ("[^"]+"|'[^']+')"""
        )

    def signs_in(self, written: str) -> Signs:
        """Return the signs of secrets that a report, written as JSON, holds. Escaped characters may hide any of them."""
        lower = written.lower()
        if "\\u00" in lower:
            return Signs(self._hints)
        # A team's pattern may hang on what stands around a text, which JSON changes: these are always looked for.
        return Signs(tuple(hint for hint in self._hints if hint in lower), _CARD.search(written) is not None)

    def rule_for(self, name: str) -> str | None:
        """Return the name of the rule that hides values under ``name``, or None when it may be shown."""
        try:
            return self._names[name]
        except KeyError:
            pass
        words = words_of(name)
        rule = "password" if words == ["pass"] else None
        for length in range(1, self._most_words + 1):
            for i in range(len(words) - length + 1):
                together = "".join(words[i : i + length])
                rule = rule or self._own_names.get(together)
                if rule is None and length <= 2 and (found := _NAME.fullmatch(together)) is not None:
                    rule = found.lastgroup
        if len(self._names) < 5000:
            self._names[name] = rule
        return rule

    def text(self, text: str, signs: Signs = ALL_SIGNS) -> str:
        """Hide secrets that show in running text: ``password=…`` pairs, credentials in URLs, tokens, key blocks, cards.

        ``signs`` may be narrowed to what ``signs_in`` found in the whole that this text is a part of.
        """
        lower = text.lower()
        for hint in self._hints if signs is ALL_SIGNS else signs.hints:
            if hint in lower:
                text = self._hide_shapes(text, lower)
                break
        if signs.cards and len(text) >= 13:
            text = _CARD.sub(_hide_card, text)
        for pattern, label in self._patterns:
            text = pattern.sub(mark(label), text)
        return text

    def source(self, line: str, signs: Signs = ALL_SIGNS) -> str:
        """Hide literals next to a secret's name in a line of source code; names alone stay readable."""
        lower = line.lower()
        for hint in self._hints if signs is ALL_SIGNS else signs.hints:
            if hint in lower:
                line = self._literal.sub(lambda found: f"{found[1]}'{mark('literal')}'", line)
                line = _JWT.sub(
                    mark("token"), _URL_USER.sub(mark("url credentials"), _OWN_SECRETS.sub(mark("key"), line))
                )
                break
        if signs.cards and len(line) >= 13:
            line = _CARD.sub(_hide_card, line)
        for pattern, label in self._patterns:
            line = pattern.sub(mark(label), line)
        return line

    def value(self, value: Any, name: str | None = None, depth: int = 0, signs: Signs = ALL_SIGNS) -> Any:
        """Return ``value`` with secrets hidden; dictionaries and lists are changed in place.

        ``name`` is the key it stands under. What is nested deeper than ``MOST_DEPTH`` is hidden whole.
        """
        if name is not None and value is not None and not isinstance(value, bool):
            rule = self.rule_for(name)
            if rule is not None:
                return value if isinstance(value, str) and value.startswith("[hidden: ") else mark(rule)
        clean = not (signs.hints or signs.cards or self._patterns)
        if isinstance(value, str):
            return value if clean else self.text(value, signs)
        if depth > MOST_DEPTH:
            return mark("nested too deep")
        if isinstance(value, dict):
            self._dict(value, depth, signs, clean=clean)
        elif isinstance(value, list):
            self._list(value, depth, signs)
        elif signs.cards and isinstance(value, int) and not isinstance(value, bool) and _CARD.fullmatch(str(value)):
            return value if _hide_card(_CARD.fullmatch(str(value))) == str(value) else mark("card")  # type: ignore[arg-type]
        return value

    def report(self, report: dict[str, Any], written: str | None = None) -> dict[str, Any]:
        """Hide secrets in a whole report, in place. The report's own field names hide nothing, whatever they are.

        ``written`` is the report as JSON, where it is at hand: what it does not hold need not be looked for.
        """
        signs = Signs(self._hints) if written is None else self.signs_in(written)
        for key, inner in report.items():
            if key == "exceptions" and isinstance(inner, list):
                for link in inner:
                    self._exception(link, signs)
            elif key in _PLAIN_FIELDS:
                continue
            else:
                report[key] = self.value(inner, None, 0, signs)
        for path, label in self._paths:
            _hide_path(report, path, label, free=False)
        return report

    def _dict(self, value: dict[Any, Any], depth: int, signs: Signs, *, clean: bool) -> None:
        names = self._names
        for key, inner in value.items():
            # Most values are texts under a harmless name: they are passed by without a call.
            if inner is None or (clean and type(inner) is str and names.get(key, "") is None):
                continue
            value[key] = self.value(inner, key, depth + 1, signs)
        if not clean:
            # A secret may be a key too: what a form or a body held is the sender's choice.
            for key in [key for key in value if isinstance(key, str) and len(key) >= 8]:
                shown = self.text(key, signs)
                if shown != key:
                    value[shown] = value.pop(key)

    def _list(self, value: list[Any], depth: int, signs: Signs) -> None:
        if len(value) == 2 and type(value[0]) is str and type(value[1]) is str:
            value[1] = self.value(value[1], value[0], depth + 1, signs)
            value[0] = self.text(value[0], signs)
            return
        option: str | None = None
        for i, inner in enumerate(value):
            # On a command line the secret follows its option as a word of its own.
            hidden = self.rule_for(option) if option is not None and isinstance(inner, str) else None
            option = inner if isinstance(inner, str) and inner.startswith("-") and "=" not in inner else None
            value[i] = (
                mark(hidden) if hidden is not None and option is None else self.value(inner, None, depth + 1, signs)
            )

    def _exception(self, link: Any, signs: Signs) -> None:
        if not isinstance(link, dict):
            return
        for name, inner in link.items():
            if name == "message" and isinstance(inner, str):
                link[name] = self.text(inner, signs)
            elif name in ("notes", "detail"):
                self.value(inner, None, 0, signs)
        frames = link.get("frames")
        look = bool(signs.hints or signs.cards or self._patterns)
        for frame in frames if isinstance(frames, list) else ():
            if not isinstance(frame, dict):
                continue
            source = frame.get("source")
            if look and isinstance(source, dict):
                for part, lines in source.items():
                    if isinstance(lines, str):
                        source[part] = self.source(lines, signs)
                    elif isinstance(lines, list):
                        source[part] = [self.source(line, signs) if isinstance(line, str) else line for line in lines]
            if isinstance(frame.get("locals"), dict):
                self.value(frame["locals"], None, 0, signs)

    def _hide_shapes(self, text: str, lower: str) -> str:
        if "-----begin" in lower:
            text = _KEY_BLOCK.sub(mark("private key"), text)
        text = _URL_USER.sub(mark("url credentials"), text)
        text = _JWT.sub(mark("token"), text)
        text = _OWN_SECRETS.sub(mark("key"), text)
        if "cookie" in lower:
            text = _COOKIES.sub(lambda found: found[0] if "[hidden" in found[2] else found[1] + mark("cookie"), text)
        text = self._pair.sub(self._hide_pair, text)
        text = self._option.sub(self._hide_pair, text)
        if "?" in text:
            text = _QUERY.sub(self._hide_parameter, text)
        return _BEARER.sub(lambda found: f"{found[1]} {mark('token')}", text)

    def _hide_pair(self, found: re.Match[str]) -> str:
        value = found["value"]
        if "[hidden" in value:
            return found[0]
        quote = value[0] if value[0] in "\"'" else ""
        rule = self.rule_for(found["name"])
        if rule is None:
            # A team's word hides where it is a word; the default ones wherever they stand.
            if _KEYED_NAME.search(found["name"]) is None:
                return found[0]
            rule = "secret"
        return f"{found['name']}{found['join']}{quote}{mark(rule)}{quote}"

    def _hide_parameter(self, found: re.Match[str]) -> str:
        rule = self.rule_for(found[1])
        return found[0] if rule is None or "[hidden" in found[2] else f"{found[1]}={mark(rule)}"


def _hide_card(found: re.Match[str]) -> str:
    digits = re.sub(r"\D", "", found[0])
    return mark("card") if 13 <= len(digits) <= 19 and passes_luhn(digits) else found[0]


def _hide_path(holder: Any, path: Sequence[str], label: str, *, free: bool) -> None:
    """Hide what a path leads to. Outside the ``free`` parts only texts: another field's type is the format's."""
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
        elif isinstance(holder[key], str) or (free and holder[key] is not None):
            holder[key] = mark(label)


_FREE_PARTS: Final = frozenset({"attributes", "data", "locals", "detail", "json", "form"})
_PLAIN_FIELDS: Final = frozenset({"kind", "id", "time", "severity", "handled", "release", "trace_id", "span_id"})
# Without these a report is none: a path rule that names one of them is passed over.
_NEVER_HIDDEN: Final = frozenset(
    {*_PLAIN_FIELDS, "exceptions", "run", "trail", "frames", "type", "function", "entry_point"}
)
