"""Redaction of running text: by name, and by shape."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, Final

from obitus.core.redaction.rules import NAME_RULES, Rule, passes_luhn, words_of

MOST_AT_ONCE: Final = 1000
"""Characters that are searched at once for a team's pattern, by an engine that may backtrack."""

_NAME = re.compile("|".join(f"(?P<{rule}>{pattern})" for rule, pattern in NAME_RULES.items()))
_KEYED: Final = (
    "pass(?:word|wd|phrase|code)|pwd|secret|token|api[_-]?key|access[_-]?key|private[_-]?key|signing[_-]?key|encryption[_-]?key|auth[_-]?key"
    "|authorization|sess(?:ion)?[_-]?(?:id|token|key|cookie)|x-session|bearer|signature|credential|cvv|cvc|jwt"
)
_KEYED_NAME = re.compile(_KEYED, re.IGNORECASE)
# Every match of the patterns below contains one of these, in lower case. Searching for them is far cheaper than the
# patterns: once over a whole report, then in each of its texts for those that it contains.
_KEYED_HINTS: Final = (
    "passw", "passphrase", "passcode", "pwd", "secret", "token", "apikey", "api_key", "api-key", "accesskey", "access_key",
    "access-key", "privatekey", "private_key", "private-key", "signingkey", "signing_key", "signing-key", "authkey", "auth_key",
    "auth-key", "authorization", "session", "sessid", "encryption", "signature", "credential", "cookie", "cvv", "cvc", "bearer", "jwt",
)  # fmt: skip
_SHORT_HINTS: Final = ("pw", "otp", "pin", "sig", "hmac", "mfa", "pass'", 'pass"', "pass\\", "pass=", "pass:")
_SHAPE_HINTS: Final = (
    "okey_", "otok_", "eyj", "-----begin", "_live_", "_test_", "_pat_", "ghp_", "gho_", "ghs_", "ghu_", "ghr_", "glpat-", "xox", "akia", "asia",
    "aiza", "ya29.", "sk-", "hf_", "npm_", "sg.", "pypi-", "dop_v1", "shpat_", "whsec_", "key-",
)  # fmt: skip
_OTHER_HINTS: Final = ("@", "?", "code=", "key=", "%3d", "[parameters:", "basic ", "digest ")
_HINTS: Final = (*_KEYED_HINTS, *_SHORT_HINTS, *_SHAPE_HINTS, *_OTHER_HINTS)
# Some are part of much else. Where one occurs, what follows or surrounds it in a secret is searched for first.
_MEANT: Final = {
    "sk-": re.compile(r"sk-[a-z0-9_-]{20}"),
    "sg.": re.compile(r"sg\.[\w-]{16}"),
    "key-": re.compile(r"key-[0-9a-f]{32}"),
    "asia": re.compile(r"asia[0-9a-z]{16}"),
    "hf_": re.compile(r"hf_[a-z0-9]{30}"),
    "npm_": re.compile(r"npm_[a-z0-9]{30}"),
    "_test_": re.compile(r"_test_[a-z0-9_]{16}"),
    **{
        hint: re.compile(hint + r"""[\w-]{0,12}["'\\]{0,9}(?:\s|\\[fnrt])*[=:,>%]""")
        for hint in ("pw", "otp", "pin", "sig", "hmac", "mfa")
    },
    "?": re.compile(r"[?&;][\w.\-\[\]%\\]{1,200}="),
    "@": re.compile(r""":(?:\\?/){2}[^\s/?#"']*@"""),
}
# Not every path of Windows: C:\\users.
_ESCAPED = re.compile(r"\\u[0-9a-f]{4}")
# Cookies come with most requests, and what the client hid already does not mean that there is another one.
_HIDDEN_PAIR = re.compile(
    r'"(?:[a-z]{1,12}-){0,3}(?:cookie|authorization|token|key|session|secret)"\s{0,4}[,:]\s{0,4}"\[hidden: [a-z ]{1,40}\]"'
)
_KEYED_GROUP, _SHORT_GROUP, _SHAPE_GROUP, _OTHER_GROUP = 1, 2, 4, 8
_GROUP_OF: Final = (
    dict.fromkeys(_OTHER_HINTS, _OTHER_GROUP)
    | dict.fromkeys(_SHAPE_HINTS, _SHAPE_GROUP)
    | dict.fromkeys(_SHORT_HINTS, _SHORT_GROUP)
    | dict.fromkeys(_KEYED_HINTS, _KEYED_GROUP)
)
_URL_USER = re.compile(r"(?<=://)[^\s/@:?#\"']*:[^\s/?#\"']*(?=@)")
# A user without a password is a name, unless it does not look like one.
_URL_TOKEN = re.compile(r"(?<=://)(?=[^\s/@:]*\d)[\w.~%+-]{16,}(?=@)")
_BEARER = re.compile(r"(?i)\b(bearer|basic|token|digest)\s+(?=[\w.~+/=-]*[\d._~+/=-])[\w.~+/=-]{12,}")
_AUTHORISATION = re.compile(
    r"(?i)\b((?:proxy-)?authorization\\{0,2}[\"']?\s*[:=]\s*b?)(?:(\\{0,2}[\"'])[^\"'\r\n]+|([A-Za-z][\w-]*\s+[^\r\n\"']+(?:[\"'][^\r\n\"']*[\"'][^\r\n\"']*)*))"
)
_OWN_SECRETS = re.compile(r"\bo(?:key|tok)_[A-Za-z0-9_-]{16,}")
# The beginning of the same word is kept. Only the first place where it may begin is tried.
_JWT = re.compile(r"(?<![\w-])((?>(?:[\w-]*?-)??)(?=eyJ))[\w-]{11,}+\.[\w-]{4,}+\.[\w-]*+")
# Keys that are recognised by their prefix. Each is a public convention of the issuer.
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
# milliseconds start with 1, so they are none. The first digit comes first in the pattern: that is the fastest to search.
_CARD_DIGITS: Final = r"\d{3}[ -]?\d{4,6}[ -]?\d{4,5}"
_CARD_END: Final = r"(?:[ -]?\d{1,4}){0,2}(?![\w-])"
CARD = re.compile(r"[2-6](?<![\w.-].)" + _CARD_DIGITS + _CARD_END)
# At the beginning of a line there is the letter of an escape before it.
_CARD_IN_JSON = re.compile(r"[2-6](?:(?<![\w.-].)|(?<=\\[bfnrt].))" + _CARD_DIGITS + _CARD_END)
# Where what stands beside it may be hidden first, anything may.
_CARD_ANYWHERE = re.compile("[2-6]" + _CARD_DIGITS)
_CARD_LIKE: Final = _CARD_ANYWHERE.pattern.replace(r"\d", r"\p{Nd}")
"""The same for engines whose ``\\d`` means ten digits alone."""
_MAIL = re.compile(r"(?<![\w.+-])[\w.+-]{1,64}@[\w-]{1,63}(?:\.[\w-]{1,63})+")


@dataclass(frozen=True, slots=True)
class PossibleSecrets:
    """The secrets that a whole report may hold, so that its texts need not be searched for others."""

    hints: tuple[str, ...] = _HINTS
    cards: bool = True


ANY_SECRET: Final = PossibleSecrets()


def mark(rule: str) -> str:
    """Return the replacement of a hidden value."""
    return f"[hidden: {rule}]"


_TOKEN_HIDDEN: Final = rf"\1{mark('token')}"


class Texts:
    """Hides secrets in texts. Has only a bounded cache. ``rules`` are the team's, in addition to the default ones.
    ``compiled`` compiles their patterns, with an engine in linear time where there is one; with Python's own, long
    texts are searched in pieces. ``seeing`` makes, from many short texts and the pattern of possible cards, a
    function that finds in one pass which of them a text contains.
    """

    def __init__(
        self,
        rules: Iterable[Rule] = (),
        compiled: Callable[[str], Any] = re.compile,
        seeing: Callable[[Sequence[str], str], Callable[[str], tuple[list[str], bool]]] | None = None,
    ) -> None:
        self.rules = tuple(rules)
        self.names: dict[str, str | None] = {}
        self._own_names = {"".join(words_of(rule.what)): rule.label for rule in self.rules if rule.by == "name"}
        self._most_words = max([2, *(len(words_of(rule.what)) for rule in self.rules if rule.by == "name")])
        self.patterns = [(compiled(rule.what), rule.label) for rule in self.rules if rule.by == "pattern"]
        if any(rule.by == "e-mail" for rule in self.rules):
            self.patterns.append((_MAIL, "e-mail"))
        keyed, own_hints = _KEYED, list[str]()
        for rule in self.rules:
            if rule.by == "name":
                words = words_of(rule.what)
                keyed += "|" + r"[\W_]?".join(map(re.escape, words))
                # The longest is in the fewest texts.
                own_hints.append(max(words, key=len))
        self.hints = tuple(dict.fromkeys((*_HINTS, *own_hints)))
        # Words of the team are searched for like the default ones, and everywhere.
        self._group_of = _GROUP_OF | {hint: _GROUP_OF.get(hint, 0) | _KEYED_GROUP for hint in own_hints}
        self._meant = {hint: pattern for hint, pattern in _MEANT.items() if hint not in own_hints}
        self._roots = _by_root(self.hints)
        self._seen = seeing(self.hints, _CARD_LIKE) if seeing is not None else None
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

    def possible_in(self, written: str) -> PossibleSecrets:
        """Return which secrets a report, written as JSON, may hold. Where characters are escaped, it may hold any."""
        lower = written.lower()
        if "\\u" in lower and _ESCAPED.search(lower):
            return PossibleSecrets(self.hints)
        if '"[hidden: ' in lower:
            lower = _HIDDEN_PAIR.sub("", lower)
        # A team's pattern may depend on the text around a match, which JSON changes: these are always searched for.
        if self._seen is not None:
            near, may_be_card = self._seen(lower)
        else:
            near = [hint for root, hints in self._roots.items() if root in lower for hint in hints if hint in lower]
            may_be_card = _CARD_ANYWHERE.search(lower) is not None
        # A quote that is part of a text has a backslash in JSON; one without it ends a text, and no value follows it.
        quoted = ['pass"'] if "pass\\" in near else []
        near = [hint for hint in near if hint != 'pass"'] + quoted
        hints = tuple(hint for hint in near if self._is_meant(hint, lower))
        cards = may_be_card and (bool(hints) or _CARD_IN_JSON.search(written) is not None)
        return PossibleSecrets(hints, cards)

    def _is_meant(self, hint: str, lower: str) -> bool:
        """Whether a hint that a text contains may belong to a secret."""
        pattern = self._meant.get(hint)
        return pattern is None or pattern.search(lower) is not None

    def rule_for(self, name: str) -> str | None:
        """Return the name of the rule that hides values under ``name``, or None when it may be shown."""
        try:
            return self.names[name]
        except KeyError:
            pass
        words = words_of(name)
        latin = [word for word in words if word.isascii()]
        rule = {"pass": "password", "pin": "code"}.get(latin[0]) if len(latin) == 1 else None
        for length in range(1, self._most_words + 1):
            for i in range(len(words) - length + 1):
                together = "".join(words[i : i + length])
                rule = rule or self._own_names.get(together)
                if rule is None and length <= 2 and (found := _NAME.fullmatch(together)) is not None:
                    rule = found.lastgroup
        if len(self.names) < 5000:
            self.names[name] = rule
        return rule

    def text(self, text: str, possible: PossibleSecrets = ANY_SECRET) -> str:
        """Hide secrets that show in running text: ``password=…`` pairs, credentials in URLs, tokens, key blocks, cards.

        ``possible`` may be what ``possible_in`` returned for the report that this text is part of.
        """
        lower = text.lower()
        groups = 0
        for hint in self.hints if possible is ANY_SECRET else possible.hints:
            group = self._group_of[hint]
            if group & ~groups and hint in lower and self._is_meant(hint, lower):
                groups |= group
        if groups:
            text = self._hide_shapes(text, lower, groups)
        if possible.cards and len(text) >= 13:
            text = CARD.sub(hide_card, text)
        return self._own_patterns(text) if self.patterns else text

    def source(self, line: str, possible: PossibleSecrets = ANY_SECRET) -> str:
        """Hide literals next to a secret's name in a line of source code; names alone stay readable."""
        lower = line.lower()
        for hint in self.hints if possible is ANY_SECRET else possible.hints:
            if hint in lower:
                line = self._literal.sub(lambda found: f"{found[1]}'{mark('literal')}'", line)
                line = _JWT.sub(
                    _TOKEN_HIDDEN, _URL_USER.sub(mark("url credentials"), _OWN_SECRETS.sub(mark("key"), line))
                )
                break
        if possible.cards and len(line) >= 13:
            line = CARD.sub(hide_card, line)
        return self._own_patterns(line)

    def _own_patterns(self, text: str) -> str:
        """Hide the matches of the team's patterns."""
        for pattern, label in self.patterns:
            pieces = _pieces(text, MOST_AT_ONCE) if isinstance(pattern, re.Pattern) else [text]
            text = "".join([pattern.sub(mark(label), piece) for piece in pieces])
        return text

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
            text = _COOKIES.sub(lambda match: match[0] if "[hidden" in match[2] else match[1] + mark("cookie"), text)
        if "bearer" in lower or "token" in lower:
            text = _BEARER.sub(lambda match: f"{match[1]} {mark('token')}", text)
        text = self._pair.sub(self._hide_pair, text)
        return self._option.sub(self._hide_pair, text)

    def _hide_pair(self, match: re.Match[str]) -> str:
        value = match["value"]
        if "[hidden" in value or _is_prose(match):
            return match[0]
        quote = value[0] if value[0] in "\"'" else ""
        rule = self.rule_for(match["name"])
        if rule is None:
            # A team's word hides only as a whole word; the default ones also inside of words.
            if _KEYED_NAME.search(match["name"]) is None:
                return match[0]
            rule = "secret"
        return f"{match['name']}{match['join']}{quote}{mark(rule)}{quote}"

    def _hide_parameter(self, match: re.Match[str]) -> str:
        rule = self.rule_of_pair(match[1], match[2])
        return match[0] if rule is None or "[hidden" in match[2] else f"{match[1]}={mark(rule)}"

    def _hide_encoded(self, match: re.Match[str]) -> str:
        rule = self.rule_of_pair(match[1], match[2])
        return match[0] if rule is None or "[hidden" in match[2] else f"{match[1]}%3D{mark(rule)}"

    def _hide_element(self, match: re.Match[str]) -> str:
        rule = self.rule_for(match[1].rpartition(":")[2])
        if rule is None or "[hidden" in match[2] or not match[2].strip():
            return match[0]
        return match[0].replace(match[2] + "</", mark(rule) + "</")

    def _hide_second(self, match: re.Match[str]) -> str:
        rule = self.rule_for(match[1])
        return match[0] if rule is None or "[hidden" in match[2] else match[0].replace(match[2], mark(rule))

    def _hide_tuple(self, match: re.Match[str]) -> str:
        rule = self.rule_of_pair(match[3], match[5])
        if rule is None or "[hidden" in match[5]:
            return match[0]
        return f"{match[1]}{match[4]}{mark(rule)}{match[4]}"

    def _hide_short(self, match: re.Match[str]) -> str:
        value = match[3]
        if "[hidden" in value:
            return match[0]
        quote = value[0] if value[0] in "\"'" else ""
        return f"{match[1]}{match[2]}{quote}{mark(self.rule_for(match[1]) or 'secret')}{quote}"

    def rule_of_pair(self, name: str, value: str) -> str | None:
        """Return the rule that hides the value of a parameter, a field or a header of this name.

        Two names are secrets only there: ``code``, as in OAuth, and ``key``.
        """
        rule = self.rule_for(name)
        if rule is None and len(value) >= 8 and name.lower() in ("code", "key") and any(map(str.isdigit, value)):
            return "code" if name.lower() == "code" else "key"
        return rule


def _pieces(text: str, most: int) -> list[str]:
    """Cut a long text after blanks, or else at the bound."""
    pieces = []
    start = 0
    while len(text) - start > most:
        cut = max(text.rfind(blank, start + most // 2, start + most) for blank in " \n,&")
        end = cut + 1 if cut >= 0 else start + most
        pieces.append(text[start:end])
        start = end
    return [*pieces, text[start:]]


def _by_root(hints: Iterable[str]) -> dict[str, list[str]]:
    """Return hints by a shorter text that each of them contains: a whole report is searched for those first."""
    names_by_root: dict[str, list[str]] = {}
    for hint in hints:
        root = next((root for root in _ROOTS if root in hint), hint)
        names_by_root.setdefault(root, []).append(hint)
    return names_by_root


_ROOTS: Final = ("pass", "key", "sess", "sig", "tok", "gh", "pat", "cv", "a29", "_t", "_l", "pw")


def _is_prose(match: re.Match[str]) -> bool:
    """Whether the text after a name and a colon is a sentence: ``unclosed token: line 1``."""
    if (
        ":" not in match["join"]
        or not match["join"].endswith((" ", "\t"))
        or _KEYED_HARD.search(match["name"]) is not None
    ):
        return False
    following = match.string[match.end() : match.end() + 3]
    return match["value"].isalpha() and following[:1] == " " and following[1:2].isalnum()


def _without_parameters(text: str) -> str:
    """Hide the values that a database library shows after a statement; where their end is missing, the whole rest."""
    parts = []
    end_before = 0
    while (start := text.find(_PARAMETERS, end_before)) >= 0:
        end = _PARAMETERS_END.search(text, start)
        parts += [text[end_before:start], f"[parameters: {mark('statement values')}]"]
        end_before = end.end() if end is not None else len(text)
    return "".join((*parts, text[end_before:]))


def _hide_authorisation(match: re.Match[str]) -> str:
    if "[hidden" in match[0]:
        return match[0]
    return f"{match[1]}{match[2] or ''}{mark('authorisation')}"


def hide_card(match: re.Match[str]) -> str:
    """Return the replacement of a match of ``CARD``: itself, where its check digit is wrong."""
    digits = re.sub(r"\D", "", match[0])
    return mark("card") if 13 <= len(digits) <= 19 and passes_luhn(digits) else match[0]


_KEYED_HARD = re.compile("passphrase|authorization|private", re.IGNORECASE)
