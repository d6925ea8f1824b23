"""Hiding what must not leave: by name, by shape in text, by path. Standard library only: the client uses this too.

What was hidden is marked as hidden, with the rule's name. The same engine runs in the reporting process and again in
the service, each with the team's own rules beside the default ones.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from hashlib import blake2b
from typing import Any, Final

from obitus.core.redaction_rules import NAME_RULES, Rule, passes_luhn, words_of

MOST_DEPTH: Final = 60
MOST_AT_ONCE: Final = 1000
"""Characters that a team's pattern is searched for in at once, by an engine that may go back over them."""

_NAME = re.compile("|".join(f"(?P<{rule}>{pattern})" for rule, pattern in NAME_RULES.items()))
_KEYED: Final = (
    "pass(?:word|wd|phrase|code)|pwd|secret|token|api[_-]?key|access[_-]?key|private[_-]?key|signing[_-]?key|encryption[_-]?key|auth[_-]?key"
    "|authorization|sess(?:ion)?[_-]?(?:id|token|key|cookie)|x-session|bearer|signature|credential|cvv|cvc|jwt"
)
_KEYED_NAME = re.compile(_KEYED, re.IGNORECASE)
# Whatever the patterns below can match holds one of these, in lower case. Looking for them is far cheaper than the
# patterns: once over a whole report, then in each of its texts for those that were there.
_KEYED_HINTS: Final = (
    "passw", "passphrase", "passcode", "pwd", "secret", "token", "apikey", "api_key", "api-key", "accesskey", "access_key",
    "access-key", "privatekey", "private_key", "private-key", "signingkey", "signing_key", "signing-key", "authkey", "auth_key",
    "auth-key", "authorization", "session", "sessid", "encryption", "signature", "credential", "cookie", "cvv", "cvc", "bearer", "jwt",
)  # fmt: skip
_SHORT_HINTS: Final = ("pw", "otp", "pin", "sig", "hmac", "mfa", "pass'", 'pass"', "pass=", "pass:")
_SHAPE_HINTS: Final = (
    "okey_", "otok_", "eyj", "-----begin", "_live_", "_test_", "_pat_", "ghp_", "gho_", "ghs_", "ghu_", "ghr_", "glpat-", "xox", "akia", "asia",
    "aiza", "ya29.", "sk-", "hf_", "npm_", "sg.", "pypi-", "dop_v1", "shpat_", "whsec_", "key-",
)  # fmt: skip
_OTHER_HINTS: Final = ("@", "?", "code=", "key=", "%3d", "[parameters:", "basic ", "digest ")
_HINTS: Final = (*_KEYED_HINTS, *_SHORT_HINTS, *_SHAPE_HINTS, *_OTHER_HINTS)
# Some stand in many a word. Where one is met, what it is the beginning of is looked for before anything else is done.
_MEANT: Final = {
    "sk-": re.compile(r"sk-[a-z0-9_-]{20}"),
    "sg.": re.compile(r"sg\.[\w-]{16}"),
    "key-": re.compile(r"key-[0-9a-f]{32}"),
    "asia": re.compile(r"asia[0-9a-z]{16}"),
    "hf_": re.compile(r"hf_[a-z0-9]{30}"),
    "npm_": re.compile(r"npm_[a-z0-9]{30}"),
    "_test_": re.compile(r"_test_[a-z0-9_]{16}"),
    **{
        hint: re.compile(hint + r"""[\w-]{0,12}["'\\]{0,9}\s*[=:,>%]""")
        for hint in ("pw", "otp", "pin", "sig", "hmac", "mfa")
    },
}
_KEYED_GROUP, _SHORT_GROUP, _SHAPE_GROUP, _OTHER_GROUP = 1, 2, 4, 8
_GROUP_OF: Final = (
    dict.fromkeys(_OTHER_HINTS, _OTHER_GROUP)
    | dict.fromkeys(_SHAPE_HINTS, _SHAPE_GROUP)
    | dict.fromkeys(_SHORT_HINTS, _SHORT_GROUP)
    | dict.fromkeys(_KEYED_HINTS, _KEYED_GROUP)
)
_URL_USER = re.compile(r"(?<=://)[^\s/@:?#\"']*:[^\s/?#\"']*(?=@)")
# A user without a password is a name, unless nobody is called that.
_URL_TOKEN = re.compile(r"(?<=://)(?=[^\s/@:]*\d)[\w.~%+-]{16,}(?=@)")
_BEARER = re.compile(r"(?i)\b(bearer|basic|token|digest)\s+(?=[\w.~+/=-]*[\d._~+/=-])[\w.~+/=-]{12,}")
_AUTHORISATION = re.compile(
    r"(?i)\b((?:proxy-)?authorization\\{0,2}[\"']?\s*[:=]\s*b?)(?:(\\{0,2}[\"'])[^\"'\r\n]+|([A-Za-z][\w-]*\s+[^\r\n\"']+(?:[\"'][^\r\n\"']*[\"'][^\r\n\"']*)*))"
)
_OWN_SECRETS = re.compile(r"\bo(?:key|tok)_[A-Za-z0-9_-]{16,}")
# What stands before it in the same word is kept. The first place where it may begin is the only one that is looked at.
_JWT = re.compile(r"(?<![\w-])((?>(?:[\w-]*?-)??)(?=eyJ))[\w-]{11,}+\.[\w-]{4,}+\.[\w-]*+")
# Keys that are known by how they begin. Each is a public convention of somebody who gives them out.
_KNOWN_SHAPES = re.compile(
    r"\b(?:[a-z]{2,10}_(?:live|test|pat)_[A-Za-z0-9_]{16,}|gh[opsur]_[A-Za-z0-9]{30,}|glpat-[\w-]{18,}|xox[abeoprs]-[\w-]{10,}"
    r"|A(?:KI|SI)A[0-9A-Z]{16}|AIza[\w-]{30,}|ya29\.[\w.-]{20,}|sk-[A-Za-z0-9_-]{20,}|hf_[A-Za-z0-9]{30,}|npm_[A-Za-z0-9]{30,}"
    r"|SG\.[\w-]{16,}\.[\w-]{16,}|pypi-[\w-]{40,}|dop_v1_[0-9a-f]{40,}|shpat_[0-9a-f]{30,}|whsec_[A-Za-z0-9+/=]{20,}|key-[0-9a-f]{32})"
)
_KEY_BLOCK = re.compile(
    r"-----BEGIN (?:[A-Z0-9]{1,20} ){0,3}PRIVATE KEY(?: BLOCK)?-----.*?(?:-----END (?:[A-Z0-9]{1,20} ){0,3}PRIVATE KEY(?: BLOCK)?-----|\Z)",
    re.DOTALL,
)
_COOKIES = re.compile(
    r"(?i)\b((?:set-|\w{1,20}[_-])?cookies?\\{0,2}[\"']?\s*+[:=]\s*+)(\\{0,2}b?[\"']?(?=[^\r\n\"'=\d]{0,300}+[=\d])(?:[^\r\n\"'\\]|=\"[^\"\r\n]*\")+)"
)
_QUERY = re.compile(r"(?<=[?&;])([\w.\-\[\]%]{1,80})=([^&;#\s\"'<>\\]+)")
# A URL inside a query is written with percent signs.
_ENCODED_QUERY = re.compile(r"(?i)(?<=%3F|%26)([\w.\-]{1,80})%3D((?:(?!%26|%23)[^&;#\s\"'<>])+)")
_ELEMENT = re.compile(r"<((?:[\w-]{1,40}:)?[\w.-]{1,80})(?:\s[^<>]{0,500})?>([^<>]{1,4000})</")
_ESCAPED_PAIR = re.compile(r"""\\{1,4}["']([\w.-]{1,80})\\{1,4}["']\s*:\s*\\{1,4}["']((?:[^"'\\]|\\(?![\\"']))+)""")
# A header or an item as a pair: ('authorization', 'Token …').
_TUPLE = re.compile(r"""([(\[]\s*b?(["'])([\w.-]{1,80})\2\s*,\s*b?)(["'])((?:[^"'\\]|\\.)+)\4""")
_PARAMETERS: Final = "[parameters: "
_PARAMETERS_END = re.compile(r"\](?=\s*+(?:\)|$|\(Background)|[^\S\n]*+\n)")
_SHORT_PAIR = re.compile(
    r"""(?i)(?<![\w.-])((?:[\w-]{0,20}[_-])?(?:pw|pass|otp|totp|pin|sig|hmac)|pin[_-]?code|mfa[_-]?code)
    (["']?\s*+(?:=|:)\s*+b?)(["'][^"']+["']|[^\s,;&"')\]}<>]{0,200}\d[^\s,;&"')\]}<>]*)""",
    re.VERBOSE,
)
# ISO/IEC 7812: card numbers have 13 to 19 digits, printed in groups; the first one tells the kind of issuer. Times in
# milliseconds start with 1, so they are none. The first digit stands first in the pattern: so it is searched for fastest.
_CARD = re.compile(r"[2-6](?<![\w.-].)\d{3}[ -]?\d{4,6}[ -]?\d{4,5}(?:[ -]?\d{1,4}){0,2}(?![\w-])")
_CARD_LIKE: Final = r"[2-6]\p{Nd}{3}[ -]?\p{Nd}{4,6}[ -]?\p{Nd}{4,5}"
"""The same without what stands before and behind it, as engines without look-around write it."""
_MAIL = re.compile(r"(?<![\w.+-])[\w.+-]{1,64}@[\w-]{1,63}(?:\.[\w-]{1,63})+")


@dataclass(frozen=True, slots=True)
class Signs:
    """Which signs of secrets a whole report holds, so that its texts need not be looked through for the others."""

    hints: tuple[str, ...] = _HINTS
    cards: bool = True


ALL_SIGNS: Final = Signs()


SESSION: Final = "session.id"
"""An attribute by which one person is found again (OpenTelemetry's name)."""


def hidden_session(session: str) -> str:
    """Return what stands for a session's id: whoever knows the id finds it, and nobody learns the id from it."""
    return mark(f"session {blake2b(session.encode('utf-8', 'surrogatepass'), digest_size=6).hexdigest()}")


def mark(rule: str) -> str:
    """Return what stands in the place of a hidden value."""
    return f"[hidden: {rule}]"


_TOKEN_HIDDEN: Final = rf"\1{mark('token')}"


class Redactor:
    """Hides secrets in nested JSON-like values. Holds only a bounded cache, so one instance serves a whole process.

    ``rules`` are the team's, beside the default ones. ``compiled`` makes their patterns: an engine in linear time, where
    there is one; with Python's own, long texts are searched piece by piece. ``seeing`` makes, of many short texts and the
    pattern of what might be a card, a function that says in one pass which of them another text holds.
    """

    def __init__(
        self,
        rules: Iterable[Rule] = (),
        compiled: Callable[[str], Any] = re.compile,
        seeing: Callable[[Sequence[str], str], Callable[[str], tuple[list[str], bool]]] | None = None,
    ) -> None:
        self.rules = tuple(rules)
        self._names: dict[str, str | None] = {}
        self._own_names = {"".join(words_of(rule.what)): rule.label for rule in self.rules if rule.by == "name"}
        self._most_words = max([2, *(len(words_of(rule.what)) for rule in self.rules if rule.by == "name")])
        self._patterns = [(compiled(rule.what), rule.label) for rule in self.rules if rule.by == "pattern"]
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
        self._roots = _by_root(self._hints)
        self._seen = seeing(self._hints, _CARD_LIKE) if seeing is not None else None
        self._pair = re.compile(
            rf"""(?ix) (?P<name>(?<![\w-])[\w-]{{0,100}}?(?:{keyed})[\w-]*+) (?P<join>["']?\s*+(?:=>|[:=])\s*+(?:b?(?=["']))?)
            (?P<value> "(?:[^"\\]|\\.)*+" | '(?:[^'\\]|\\.)*+' | (?:bearer\s+|basic\s+)?[^\s,;&"')\]}}<>]+ )"""
        )
        self._option = re.compile(
            rf"""(?ix) (?P<name>(?<!\S)--?[\w-]{{0,100}}?(?:{keyed})[\w-]*+) (?P<join>\s++) (?P<value>[^\s"'-]\S*)"""
        )
        self._literal = re.compile(
            rf"""(?ix) ((?<![\w-])[\w-]{{0,100}}?(?:{keyed})[\w-]*+["']?\s*+[:=]\s*+b?) ("[^"]++"|'[^']++')"""
        )

    def signs_in(self, written: str) -> Signs:
        """Return the signs of secrets that a report, written as JSON, holds. Escaped characters may hide any of them."""
        lower = written.lower()
        if "\\u00" in lower:
            return Signs(self._hints)
        # A team's pattern may hang on what stands around a text, which JSON changes: these are always looked for.
        if self._seen is not None:
            near, may_be_card = self._seen(lower)
        else:
            near = [hint for root, hints in self._roots.items() if root in lower for hint in hints if hint in lower]
            may_be_card = True
        hints = tuple(hint for hint in near if _is_meant(hint, lower))
        return Signs(hints, may_be_card and _CARD.search(written) is not None)

    def rule_for(self, name: str) -> str | None:
        """Return the name of the rule that hides values under ``name``, or None when it may be shown."""
        try:
            return self._names[name]
        except KeyError:
            pass
        words = words_of(name)
        rule = {"pass": "password", "pin": "code"}.get(words[0]) if len(words) == 1 else None
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
        groups = 0
        for hint in self._hints if signs is ALL_SIGNS else signs.hints:
            if hint in lower and (groups & _GROUP_OF.get(hint, 0) or _is_meant(hint, lower)):
                # A word of the team's own is looked for as the default ones are.
                groups |= _GROUP_OF.get(hint, _KEYED_GROUP)
        if groups:
            text = self._hide_shapes(text, lower, groups)
        if signs.cards and len(text) >= 13:
            text = _CARD.sub(_hide_card, text)
        return self._own_patterns(text)

    def source(self, line: str, signs: Signs = ALL_SIGNS) -> str:
        """Hide literals next to a secret's name in a line of source code; names alone stay readable."""
        lower = line.lower()
        for hint in self._hints if signs is ALL_SIGNS else signs.hints:
            if hint in lower:
                line = self._literal.sub(lambda found: f"{found[1]}'{mark('literal')}'", line)
                line = _JWT.sub(
                    _TOKEN_HIDDEN, _URL_USER.sub(mark("url credentials"), _OWN_SECRETS.sub(mark("key"), line))
                )
                break
        if signs.cards and len(line) >= 13:
            line = _CARD.sub(_hide_card, line)
        return self._own_patterns(line)

    def _own_patterns(self, text: str) -> str:
        """Hide what the team's patterns find."""
        for pattern, label in self._patterns:
            pieces = _pieces(text, MOST_AT_ONCE) if isinstance(pattern, re.Pattern) else [text]
            text = "".join([pattern.sub(mark(label), piece) for piece in pieces])
        return text

    def value(self, value: Any, name: str | None = None, depth: int = 0, signs: Signs = ALL_SIGNS) -> Any:
        """Return ``value`` with secrets hidden; dictionaries and lists are changed in place.

        ``name`` is the key it stands under. What is nested deeper than ``MOST_DEPTH`` is hidden whole.
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
        said = report.get("message") if report.get("kind") == "log" else None
        clean = not (signs.hints or signs.cards or self._patterns)
        for key, inner in report.items():
            if key == "exceptions" and isinstance(inner, list):
                for link in inner:
                    self._exception(link, signs)
            elif key == "hit" and isinstance(inner, dict):
                self._hit(inner, signs)
            elif key in _PLAIN_FIELDS or (clean and type(inner) is str):
                continue
            else:
                report[key] = self.value(inner, None, 0, signs)
        if isinstance(said, str) and report.get("message") != said:
            _hide_arguments(report, said)
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
            rule = self.rule_of_pair(value[0], value[1])
            is_hidden = value[1].startswith("[hidden: ")
            value[1] = (
                mark(rule) if rule is not None and not is_hidden else self.value(value[1], None, depth + 1, signs)
            )
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

    def _hit(self, hit: dict[str, Any], signs: Signs) -> None:
        """Hide secrets in what a tracepoint has seen."""
        self._frames(hit.get("frames"), signs)
        for name in ("values", "trail"):
            self.value(hit.get(name), None, 0, signs)

    def _exception(self, link: Any, signs: Signs) -> None:
        if not isinstance(link, dict):
            return
        for name, inner in link.items():
            if name == "message" and isinstance(inner, str):
                link[name] = self.text(inner, signs)
            elif name in ("notes", "detail"):
                self.value(inner, None, 0, signs)
        self._frames(link.get("frames"), signs)

    def _frames(self, frames: Any, signs: Signs) -> None:
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
            held = frame.get("locals")
            if isinstance(held, dict):
                if frame.get("own") is False and "execute" in str(frame.get("function", "")):
                    # The values of a database statement are whatever the app keeps.
                    for name in _STATEMENT_VALUES & held.keys():
                        held[name] = mark("statement values")
                self.value(held, None, 0, signs)
            call = frame.get("call")
            if isinstance(call, dict):
                # Parts of it that are called like secrets are none: only what was handed over is looked at.
                call["values"] = self.value(call.get("values"), None, 0, signs)

    def _hide_shapes(self, text: str, lower: str, groups: int) -> str:
        """Apply the patterns of the groups whose hints the text holds."""
        if groups & _SHAPE_GROUP:
            if "-----begin" in lower:
                text = _KEY_BLOCK.sub(mark("private key"), text)
            if "eyj" in lower:
                text = _JWT.sub(_TOKEN_HIDDEN, text)
            if "okey_" in lower or "otok_" in lower:
                text = _OWN_SECRETS.sub(mark("key"), text)
            text = _KNOWN_SHAPES.sub(mark("key"), text)
        if groups & _OTHER_GROUP:
            if "@" in text:
                text = _URL_TOKEN.sub(mark("url credentials"), _URL_USER.sub(mark("url credentials"), text))
            if "[parameters:" in lower:
                text = _without_parameters(text)
            if "basic " in lower or "digest " in lower:
                text = _BEARER.sub(lambda found: f"{found[1]} {mark('token')}", text)
        if groups & _KEYED_GROUP:
            text = self._hide_keyed(text, lower)
        if groups & (_KEYED_GROUP | _SHORT_GROUP):
            if "</" in text:
                text = _ELEMENT.sub(self._hide_element, text)
            if "\\" in text:
                text = _ESCAPED_PAIR.sub(self._hide_second, text)
            if "'," in text or '",' in text:
                text = _TUPLE.sub(self._hide_tuple, text)
            text = _SHORT_PAIR.sub(self._hide_short, text)
        if "?" in text:
            text = _QUERY.sub(self._hide_parameter, text)
        if "%3d" in lower:
            text = _ENCODED_QUERY.sub(self._hide_encoded, text)
        return text

    def _hide_keyed(self, text: str, lower: str) -> str:
        if "authorization" in lower:
            text = _AUTHORISATION.sub(_hide_authorisation, text)
        if "cookie" in lower:
            text = _COOKIES.sub(lambda found: found[0] if "[hidden" in found[2] else found[1] + mark("cookie"), text)
        if "bearer" in lower or "token" in lower:
            text = _BEARER.sub(lambda found: f"{found[1]} {mark('token')}", text)
        text = self._pair.sub(self._hide_pair, text)
        return self._option.sub(self._hide_pair, text)

    def _hide_pair(self, found: re.Match[str]) -> str:
        value = found["value"]
        if "[hidden" in value or _is_prose(found):
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
        rule = self.rule_of_pair(found[1], found[2])
        return found[0] if rule is None or "[hidden" in found[2] else f"{found[1]}={mark(rule)}"

    def _hide_encoded(self, found: re.Match[str]) -> str:
        rule = self.rule_of_pair(found[1], found[2])
        return found[0] if rule is None or "[hidden" in found[2] else f"{found[1]}%3D{mark(rule)}"

    def _hide_element(self, found: re.Match[str]) -> str:
        rule = self.rule_for(found[1].rpartition(":")[2])
        if rule is None or "[hidden" in found[2] or not found[2].strip():
            return found[0]
        return found[0].replace(found[2] + "</", mark(rule) + "</")

    def _hide_second(self, found: re.Match[str]) -> str:
        rule = self.rule_for(found[1])
        return found[0] if rule is None or "[hidden" in found[2] else found[0].replace(found[2], mark(rule))

    def _hide_tuple(self, found: re.Match[str]) -> str:
        rule = self.rule_of_pair(found[3], found[5])
        if rule is None or "[hidden" in found[5]:
            return found[0]
        return f"{found[1]}{found[4]}{mark(rule)}{found[4]}"

    def _hide_short(self, found: re.Match[str]) -> str:
        value = found[3]
        if "[hidden" in value:
            return found[0]
        quote = value[0] if value[0] in "\"'" else ""
        return f"{found[1]}{found[2]}{quote}{mark(self.rule_for(found[1]) or 'secret')}{quote}"

    def rule_of_pair(self, name: str, value: str) -> str | None:
        """Return the rule that hides the value of a parameter, a field or a header of this name.

        Two names mean something else everywhere but there: ``code``, as OAuth has it, and ``key``.
        """
        rule = self.rule_for(name)
        if rule is None and len(value) >= 8 and name.lower() in ("code", "key") and any(map(str.isdigit, value)):
            return "code" if name.lower() == "code" else "key"
        return rule


def _pieces(text: str, most: int) -> list[str]:
    """Cut a long text behind blanks, or else where it must be."""
    found = []
    start = 0
    while len(text) - start > most:
        blank = max(text.rfind(sign, start + most // 2, start + most) for sign in " \n,&")
        end = blank + 1 if blank >= 0 else start + most
        found.append(text[start:end])
        start = end
    return [*found, text[start:]]


def _by_root(hints: Iterable[str]) -> dict[str, list[str]]:
    """Return hints by a shorter text that each of them holds: a whole report is searched for those first."""
    found: dict[str, list[str]] = {}
    for hint in hints:
        root = next((root for root in _ROOTS if root in hint), hint)
        found.setdefault(root, []).append(hint)
    return found


_ROOTS: Final = ("pass", "key", "sess", "sig", "tok", "gh", "pat", "cv", "a29", "_t", "_l", "pw")


def _is_meant(hint: str, lower: str) -> bool:
    pattern = _MEANT.get(hint)
    return pattern is None or pattern.search(lower) is not None


def _is_prose(found: re.Match[str]) -> bool:
    """Whether what stands behind a name and a colon is a sentence: ``unclosed token: line 1``."""
    if (
        ":" not in found["join"]
        or not found["join"].endswith((" ", "\t"))
        or _KEYED_HARD.search(found["name"]) is not None
    ):
        return False
    following = found.string[found.end() : found.end() + 3]
    return found["value"].isalpha() and following[:1] == " " and following[1:2].isalnum()


def _without_parameters(text: str) -> str:
    """Hide the values that a database library shows behind a statement; where their end is missing, all that follows."""
    parts = []
    done = 0
    while (start := text.find(_PARAMETERS, done)) >= 0:
        end = _PARAMETERS_END.search(text, start)
        parts += [text[done:start], f"[parameters: {mark('statement values')}]"]
        done = end.end() if end is not None else len(text)
    return "".join((*parts, text[done:]))


def _hide_authorisation(found: re.Match[str]) -> str:
    if "[hidden" in found[0]:
        return found[0]
    return f"{found[1]}{found[2] or ''}{mark('authorisation')}"


def _hide_arguments(report: dict[str, Any], said: str) -> None:
    """Hide the arguments of a log record that are shown in its message no more."""
    shown, attributes = str(report.get("message", "")), report.get("attributes")
    if not isinstance(attributes, dict):
        return
    for name, value in attributes.items():
        text = value if isinstance(value, str) else str(value)
        if name.startswith("log.argument.") and text and text in said and text not in shown:
            attributes[name] = mark("shown in a hidden part")


_KEYED_HARD = re.compile("passphrase|authorization|private", re.IGNORECASE)
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
            call = holder.get("call") if key == "locals" else None
            if isinstance(call, dict):
                # The same values in another form.
                _hide_path(call.get("values"), rest, label, free=True)
        elif isinstance(holder[key], str) or (free and holder[key] is not None):
            holder[key] = mark(label)


_FREE_PARTS: Final = frozenset({"attributes", "locals", "detail", "json", "form", "values"})
_PLAIN_FIELDS: Final = frozenset({"kind", "id", "time", "severity", "handled", "release", "trace_id", "span_id"})
# Without these a report is none: a path rule that names one of them is passed over.
_NEVER_HIDDEN: Final = frozenset(
    {*_PLAIN_FIELDS, "exceptions", "run", "trail", "frames", "type", "function", "entry_point"}
)
