"""Redaction rules: the default ones, and the form of a team's own. Standard library only: the client uses this too.

A team's rule is one line: ``name vessel pin``, ``pattern SK-\\d{4} as booking``, ``path request.body.card``, ``e-mail``.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Final, Literal
from unicodedata import normalize

MOST_RULES: Final = 200
MOST_RULE_CHARS: Final = 300

# Each default rule: a pattern for the words of a name, written together, whose value is hidden.
NAME_RULES: Final = {
    "password": r"pass(?:word|wd|phrase|code)s?|pwd|pw|(?:db|smtp|mail|user|ftp|proxy|basic|admin|root)pass",
    "secret": r"(?:client|app|api|shared|consumer)?secrets?|private|credentials?",
    # Header names reach an app in lower case: two words become one.
    "token": r"(?:access|refresh|id|auth|api|bearer|session|user|client|csrf|xsrf|oauth)?tokens?|jwt|bearer|csrf|xsrf",
    "key": r"(?:api|access|auth|private|signing|encryption|reporting|obitus)key",
    "signature": r"sig|signature|hmac|xsignature",
    "code": r"[th]?otp|(?:otp|mfa|totp|verification|authorization|oauth)code|onetime(?:code|password)|(?:user|card)pin|pincode",
    "authorisation": r"authori[sz]ation|proxyauthori[sz]ation",
    "cookie": r"cookies?|setcookie",
    "session": r"[jx]?session(?:id|key|token|cookie)|xsession|phpsessid|sessid",
    "card": r"cardnumber|cvv2?|cvc2?",
}
# Letters of another alphabet end a word, too: "用户token" has a token in it, like "user_token".
WORD_SPLIT: Final = re.compile(
    r"[\W_]+|(?<=[a-z0-9])(?=[A-Z])|(?<=[a-zA-Z0-9])(?=[^\x00-\x7f])|(?<=[^\x00-\x7f])(?=[a-zA-Z0-9])"
)

_RULE = re.compile(r"(name|pattern|path)\s++(?=\S)")
_AS = re.compile(r"(?<!\s)\s++as\s++")
_LABEL = re.compile(r"\w[\w .-]{0,39}")
_PATH_STEP = re.compile(r"[^.\s]{1,100}")
MAIL_RULE: Final = "e-mail"
MOST_TIMES: Final = 50
"""Repetitions up to this count are cheap."""
FEW_TIMES: Final = 8
MOST_UNBOUNDED: Final = 3

# Parts of a pattern: escaped characters, sets, beginnings of groups, counts, single characters.
_PART = re.compile(
    r"\\.|\[\^?\]?(?:[^\]\\]|\\.)*+\]|\((?:\?(?:P<\w{1,100}>|[:=!>]|<[=!]|[a-zA-Z-]{1,10}:))?|\{\d{0,9},?\d{0,9}\}|.",
    re.DOTALL,
)


class RuleTrouble(ValueError):
    """Raised for an invalid redaction rule; says how rules are written."""


@dataclass(frozen=True, slots=True)
class Rule:
    """One rule of a team. ``label`` replaces the hidden value."""

    by: Literal["name", "pattern", "path", "e-mail"]
    what: str
    label: str

    @property
    def text(self) -> str:
        """The rule as it is written."""
        if self.by == "e-mail":
            return MAIL_RULE
        return f"{self.by} {self.what}" + (
            f" as {self.label}" if self.label != _default_label(self.by, self.what) else ""
        )


def parse_rule(text: str) -> Rule:
    """Return the rule that a line states; raises RuleTrouble."""
    if text.strip() == MAIL_RULE:
        return Rule("e-mail", "", MAIL_RULE)
    match = _RULE.match(text.strip()) if len(text) <= MOST_RULE_CHARS else None
    if match is None:
        raise RuleTrouble(
            f"{text[:80]!r} is no redaction rule. Write: name NAME, pattern REGEX, path FIELD.FIELD (each may end in "
            f"“as LABEL”), or e-mail; at most {MOST_RULE_CHARS} characters."
        )
    by, (subject, label) = match[1], _with_label(text.strip()[match.end() :])
    if by == "name" and not words_of(subject):
        raise RuleTrouble(f"{subject!r} has no letter or digit, so it names nothing.")
    if by == "path" and not all(_PATH_STEP.fullmatch(step) for step in subject.split(".")):
        raise RuleTrouble(f"{subject!r} is no path. Write field.field; * is any one field.")
    if by == "pattern":
        try:
            pattern = re.compile(subject)
        except (re.error, OverflowError, RecursionError) as error:
            # A count too large for the engine, and groups that are too deep, raise other errors than its own.
            raise RuleTrouble(f"{subject!r} is no regular expression: {error}.") from None
        if pattern.fullmatch(""):
            raise RuleTrouble(f"{subject!r} matches nothing at all too, so it would hide between all letters.")
        if _runs_away(subject):
            raise RuleTrouble(
                f"{subject[:80]!r} repeats what repeats, or what may be read in two ways, or repeats without an end more than "
                f"{MOST_UNBOUNDED} times: on some texts that takes hours. Write (?:a|b)+ as [ab]+, (x+)+ as x+, x* as x{{0,20}}."
            )
    return Rule(by, subject, label or _default_label(by, subject))  # type: ignore[arg-type]


def _with_label(text: str) -> tuple[str, str]:
    """Return the argument of a rule, and its label, ``""`` where there is none."""
    for match in _AS.finditer(text):
        if match.start() and _LABEL.fullmatch(text, match.end()):
            return text[: match.start()], text[match.end() :]
    return text, ""


@dataclass
class _Group:
    """A group of a pattern that is being parsed."""

    unbounded: int = 0
    """The number of unbounded repetitions in it."""
    varies: bool = False
    """Whether it has a part with a variable number of repetitions."""
    begins: list[str] = field(default_factory=lambda: [""])
    """The beginnings of its alternatives."""

    @property
    def is_ambiguous(self) -> bool:
        """Whether two of its alternatives may begin alike."""
        plain = [begin for begin in self.begins if len(begin) == 1 and begin != "."]
        return len(self.begins) > 1 and (len(plain) < len(self.begins) or len(set(plain)) < len(plain))


def _runs_away(pattern: str) -> bool:
    """Whether searching for a pattern may take exponential time, or a high power of the text's length.

    That is possible where a repetition contains another one, or alternatives that may begin alike, or where there are many.
    """
    outer: list[_Group] = []
    group = _Group()
    closed: _Group | None = None
    for token in _PART.findall(pattern):
        most = _most(token)
        if most is not None:
            inner = closed or _Group()
            if most > 1 and (inner.unbounded or (most > FEW_TIMES and (inner.varies or inner.is_ambiguous))):
                return True
            group.unbounded += most > MOST_TIMES
            group.varies = group.varies or not token.strip("{}").isdigit()
        closed = None
        if token.startswith("("):
            outer.append(group)
            group = _Group()
        elif token == ")" and outer:
            closed, group = group, outer.pop()
            group.unbounded += closed.unbounded
            group.varies = group.varies or closed.varies
            group.begins[-1] = group.begins[-1] or "."
        elif token == "|":
            group.begins.append("")
        elif most is None and token not in ("^", "$"):
            group.begins[-1] = group.begins[-1] or token
    return group.unbounded > MOST_UNBOUNDED


def _most(token: str) -> int | None:
    """Return the maximum of a quantifier; None for what is no quantifier."""
    if token in ("*", "+"):
        return MOST_TIMES + 1
    if token == "?":
        return 1
    if len(token) < 2 or not token.startswith("{"):
        return None
    last = token.strip("{}").rpartition(",")[2]
    return int(last) if last else MOST_TIMES + 1


def parse_rules(texts: Iterable[str]) -> tuple[Rule, ...]:
    """Return the rules of several lines; raises RuleTrouble."""
    rules = tuple(parse_rule(text) for text in texts)
    if len(rules) > MOST_RULES:
        raise RuleTrouble(f"{len(rules)} redaction rules; at most {MOST_RULES} are taken.")
    return rules


def words_of(name: str) -> list[str]:
    """Return the words of a name in lower case: ``vesselPin`` and ``vessel_pin`` are the same two."""
    return [word.lower() for word in WORD_SPLIT.split(normalize("NFC", name[:200])) if word]


def passes_luhn(digits: str) -> bool:
    """Whether a card number's check digit is right (ISO/IEC 7812-1, annex B)."""
    total = 0
    for place, digit in enumerate(reversed(digits)):
        value = int(digit) * (1 + place % 2)
        total += value - 9 if value > 9 else value
    return total % 10 == 0


def _default_label(by: str, what: str) -> str:
    return "pattern" if by == "pattern" else what[:40]
