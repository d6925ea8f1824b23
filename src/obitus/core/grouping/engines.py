"""The messages of JavaScript engines for the same fault, in one form: each engine has its own words.

V8 (Chromium, Node), SpiderMonkey (Firefox) and JavaScriptCore (Safari). Names of properties are kept; names of
variables, which a build changes, are removed.
"""

from __future__ import annotations

import re
from typing import Final, NamedTuple

from obitus.core.remembering import remembered

PREFIX: Final = "JavaScript: "
MOST_LOOKED_AT: Final = 600
ENDLESS: Final = "endless recursion"


class Said(NamedTuple):
    """An engine's message for a fault."""

    words: str
    """The common form."""
    engine: str
    """The engine with these words; '' where several have them, or none."""


# The common form, then the words of V8, SpiderMonkey and JavaScriptCore. `name` is the name that is kept; `both`
# marks words that engines share.
_FORMS: Final = (
    (
        "undefined has no property {name}",
        r"^Cannot (?:read|set) propert(?:y|ies) of (?:undefined|null) \((?:reading|setting) '(?P<name>[^'\n]{1,200})'\)"
        r"|^Cannot (?:read|set) property '(?P<old>[^'\n]{1,200})' of (?:undefined|null)",
        r"^can't access property (?:\"(?P<name>[^\"\n]{1,200})\"|(?P<old>\d{1,9})), [^\n]{1,400} is (?:undefined|null)$",
        r"^(?:undefined|null) is not an object \(evaluating '[^'\n]{0,300}?\.(?P<name>[\w$]{1,200})'\)",
    ),
    (
        "nothing was taken apart",
        r"^Cannot destructure (?:property '[^'\n]{1,200}' of )?'[^\n]{1,200}' as it is (?:undefined|null)",
        r"^(?:\(destructured parameter\)|\(intermediate value\)|[\w$.()\[\]]{1,200}) is (?:undefined|null)$",
        r"^Right side of assignment cannot be destructured|^(?:undefined|null) is not an object \(evaluating '\{",
    ),
    (
        "cannot be set: {name}",
        r"^Cannot assign to read only property '(?P<name>[^'\n]{1,200})'|^Cannot add property (?P<old>[^\s,]{1,200}), object is not extensible",
        r"^\"(?P<name>[^\"\n]{1,200})\" is read-only$|^can't define property \"(?P<old>[^\"\n]{1,200})\": ",
        r"^Attempted to assign to readonly property",
    ),
    (
        "a class was called without new",
        r"^Class constructor \S{1,200} cannot be invoked without 'new'",
        r"^class constructors must be invoked with ",
        r"^Cannot call a class constructor ",
    ),
    ("invalid array length", r"^Invalid array length", r"^invalid array length", r"^Array size is not a small enough "),
    (
        "number of digits out of range",
        r"^to(?:Fixed|Precision|Exponential)\(\) (?:digits )?argument must be between \d+ and \d+$",
        r"^precision -?\d{1,400} out of range",
        r"^to(?:Fixed|Precision|Exponential)\(\) argument must be between \d+ and \d+\.$",
    ),
    (
        "number of repetitions out of range",
        r"^Invalid count value: ",
        r"^repeat count must be ",
        r"^String\.prototype\.repeat argument must be ",
    ),
    (
        "a BigInt was mixed with a number",
        r"^Cannot mix BigInt and other types",
        r"^can't convert BigInt to number",
        r"^Invalid mix of BigInt ",
    ),
    (
        "text is not valid JSON",
        r"^(?:Unexpected|Unterminated|Expected|Bad) [^\n]{0,400}\bJSON\b|^\"[^\"\n]{0,200}\"(?:\.\.\.)? is not valid JSON",
        r"^JSON\.parse: ",
        r"^JSON Parse error: ",
    ),
    (
        "cyclic value in JSON",
        r"^Converting circular structure to JSON",
        r"^cyclic object value$",
        r"^JSON\.stringify cannot serialize cyclic ",
    ),
    (ENDLESS, r"^Maximum call stack size exceeded$", r"^too much recursion$", r"^Maximum call stack size exceeded\.$"),
    (
        "regular expression is not valid",
        r"^Invalid regular expression: /",
        r"^unterminated (?:parenthetical|character class)|^(?:nothing to repeat|invalid regexp group|unmatched \) in regular expression)",
        r"^Invalid regular expression: [^/]",
    ),
    (
        "cannot be cloned",
        r"^Failed to execute '\w{1,80}' on '\w{1,80}': [^\n]{0,400} could not be cloned",
        r"^[^\n]{1,200} could not be cloned\.?$",
        r"^The object can not be cloned",
    ),
    (
        "a module cannot be loaded",
        r"^Failed to fetch dynamically imported module",
        r"^error loading dynamically imported module",
        r"^Importing a module script failed",
    ),
    (
        "a request got no answer",
        r"^Failed to fetch$",
        r"^NetworkError when attempting to fetch resource",
        r"^Load failed$",
    ),
    (
        "outside of the DataView",
        r"^Offset is outside the bounds of the DataView",
        r"^offset is outside the bounds of the DataView",
        r"^Out of bounds access$",
    ),
    (
        "undefined is no object",
        r"^Cannot convert undefined or null to object",
        r"^can't convert (?:undefined|null) to object",
        r"^(?:undefined|null) is not an object$",
    ),
    (
        "reduce of an empty array",
        r"^Reduce of empty array with no initial value",
        r"^reduce of empty array with no initial value$",
        r"^reduce of empty array with no initial value\.",
    ),
    (
        "{owner}.{name} was refused",
        r"^Failed to execute '(?P<name>\w{1,80})' on '(?P<owner>\w{1,80})': ",
        r"^(?P<owner>[A-Z]\w{1,80})\.(?P<name>\w{1,80}): [A-Z'\"]",
        "",
    ),
    ("not defined: {name}", "", "", r"^Can't find variable: (?P<name>[\w$]{1,200})"),
    ("not a function: {name}", "", "", r"^[^\n]{0,300}?(?P<name>[\w$]{1,200}) is not a function\. \(In '"),
)
_BOTH: Final = (
    ("not a function: {name}", r"^(?:\(intermediate value\)|[^\s.]{1,200})(?:\.[^\s.]{1,200}){0,9}\.(?P<name>[\w$]{1,200}) is not a function$|^(?P<old>[\w$]{1,200}) is not a function$"),
    ("not defined: {name}", r"^(?P<name>[\w$]{1,200}) is not defined$"),
    ("not iterable", r"^[^\n]{0,200}? is not iterable(?:$| \()|^Spread syntax requires "),
)  # fmt: skip
_ENGINES: Final = ("v8", "spidermonkey", "javascriptcore")
_SAID: Final = tuple(
    (re.compile(pattern), said, engine)
    for said, *patterns in _FORMS
    for pattern, engine in zip(patterns, _ENGINES, strict=True)
    if pattern
) + tuple((re.compile(pattern), said, "") for said, pattern in _BOTH)


@remembered(4096)
def in_one_form(message: str) -> Said:
    """Return the common form, or the message as it is where it is none of an engine's."""
    text = message[:MOST_LOOKED_AT]
    for pattern, form, engine in _SAID:
        match = pattern.search(text)
        if match is not None:
            named = match.groupdict()
            name = named.get("name") or named.get("old") or ""
            # A shortened name is a variable, and means nothing.
            kept = name if len(name) > 2 or name.isdigit() else ""
            return Said((PREFIX + form.format(name=kept, owner=named.get("owner", ""))).strip(), engine)
    return Said(message, "")


def is_endless(message: str) -> bool:
    """Whether an engine reports a stack overflow; one calls it a RangeError, another an InternalError."""
    return in_one_form(message).words == PREFIX + ENDLESS
