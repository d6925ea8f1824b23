"""The exact fingerprint, version 5: two failures with the same one are the same fault, without further comparison.

Counted: the type of the exception that counts, the function of the frame that counts, the code on its line (where it is
not known, the fixed words of the message and the line), the callers of a helper, and the library's function that
raised. Left out: everything further out, and wrapping exceptions. Version 5 differs from 4 only in which callers count
where they handed a wrong value over, and 4 from 3 only for built code and messages of JavaScript's engines: other
failures keep their earlier fingerprints. ``likeness`` decides which fingerprints belong together.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from hashlib import blake2b
from typing import Any, Final

from obitus.core.frames import ChainLink, Frame, is_platform, is_script
from obitus.core.grouping import built, first_recipe
from obitus.core.grouping.engines import in_one_form, is_endless
from obitus.core.grouping.failed_arguments import passes_all_on
from obitus.core.grouping.fault import Fault, locate, spot_of
from obitus.core.grouping.messages import runtimes_own, template
from obitus.core.grouping.missing_values import missing
from obitus.core.grouping.names import last_name, plain_function, plain_room, plain_type
from obitus.core.remembering import remembered
from obitus.core.wording import count_of

VERSION: Final = 5
MOST_MESSAGE: Final = 500

_SPACES = re.compile(r"\s+")
_COMMENT = re.compile(r"(?<!\s)\s++(?:#|//)\s.*$")


@dataclass(frozen=True, slots=True)
class Part:
    """One part of a failure: its name, its value, whether it counted, and why."""

    kind: str
    value: str
    counted: bool
    reason: str

    def as_dict(self) -> dict[str, Any]:
        """Return it in the form in which it is shown and stored."""
        return {"kind": self.kind, "value": self.value, "counted": self.counted, "reason": self.reason}


@dataclass(frozen=True, slots=True)
class Traits:
    """The properties by which failures are compared. All are texts that stay the same, except the lines."""

    type: str
    room: str
    function: str
    code: str
    words: str
    """The template of the message, where it counts or may count."""
    line: int | None
    in_library: bool
    raised_in: str
    """The library's function that raised, '' when own code did."""
    callers: tuple[tuple[str, int | None], ...]
    """Function and line of the nearest callers, in the room of the site with their place in full."""
    caller_code: str
    helper: int
    message_counts: bool
    missing: str = ""
    """The expression without a value, as the line or the runtime shows it: a call, an attribute, a name."""
    build: str = ""
    """The file's name in this build, where it was built and its source is not known; '' otherwise."""
    column: int | None = None
    """The column in the built file."""
    engine: str = ""
    """Which engine of JavaScript wrote the message, where that shows."""
    caller_names: tuple[str, ...] = ()
    """The names of the callers that count, each with its class, or the function that it is inside of; without their rooms."""

    @property
    def spot(self) -> str:
        """Room and function."""
        return f"{self.room}.{self.function}" if self.room else self.function


class Fingerprint:
    """The decision: equal ``text`` in one app means one issue. ``parts`` explain it, ``traits`` compare it."""

    def __init__(self, chain: Sequence[ChainLink], apart: Sequence[tuple[str, str]] = ()) -> None:
        self._chain = chain
        self.apart = tuple(apart)
        """Attributes and values by which a rule keeps failures apart."""
        self.fault = locate(chain)
        self.text = _text_of(self.fault, self.apart)

    @cached_property
    def traits(self) -> Traits:
        """The properties by which it is compared with others."""
        return _traits(self.fault)

    @cached_property
    def parts(self) -> tuple[Part, ...]:
        """What counted and what did not, each with its reason."""
        return tuple(_parts(self._chain, self.fault, self.traits, self.apart))


def fingerprint(chain: Sequence[ChainLink], apart: Sequence[tuple[str, str]] = ()) -> Fingerprint:
    """Return the fingerprint of an exception chain, given from the outermost exception to its root cause."""
    return Fingerprint(chain, apart)


@remembered(8192)
def plain_code(code: str) -> str:
    """Return a line of code without what formatting changes: spaces, trailing comments, the kind of quotes."""
    return _SPACES.sub("", _COMMENT.sub("", code)).replace('"', "'").rstrip(",;")[:300]


def _traits(fault: Fault, most_callers: int | None = None, recipe: int = VERSION) -> Traits:
    link, site = fault.link, fault.site
    kind = plain_type(link.type)
    message, engine = link.message, ""
    if recipe > 3 and (site is None or is_script(site.file)):
        message, engine = in_one_form(link.message)
    if site is None:
        return Traits(kind, "", "", "", template(message), None, False, "", (), "", 0, True)
    is_built = recipe > 3 and built.is_built(site)
    if fault.cycle:
        if recipe > 3 and is_endless(link.message):
            kind = "RangeError"
        cycle = (f"{built.room_of(site)}.{built.name_of(site.function)}",) if is_built else fault.cycle
        return Traits(kind, "", " ⇄ ".join(cycle)[:1000], "", "", None, fault.in_library, "", (), "", 0, False)
    function = plain_function(site.function)
    room = plain_room(site.module, site.file, function)
    if is_built:
        function, room = built.name_of(site.function), built.room_of(site)
    code = plain_code(site.code)
    helper = fault.helper
    callers = fault.callers
    if recipe > 4 and fault.why_caller:
        # A decorator may be on one way and not on another, and handed over nothing of its own.
        counted = [f for f in callers[:helper] if not passes_all_on(f)]
        callers, helper = (*counted, *callers[helper:]), len(counted)
    # A caller's line shows the build of a frame in the same file, and so whether lines have drifted.
    near = tuple([(_caller(f, recipe), f.line) for f in callers[:most_callers]])
    caller_code = "|".join([plain_code(f.code) for f in callers[:helper]])
    if recipe > 4 and fault.nth_alike:
        caller_code += f"#{fault.nth_alike}"
    raised_in = ""
    if fault.beneath and not fault.in_library:
        inner = fault.beneath[-1]
        raised_in = last_name(plain_function(inner.function))
    return Traits(
        kind,
        room,
        function,
        code,
        template(message) if message else "",
        site.line,
        fault.in_library,
        raised_in,
        near,
        caller_code,
        helper,
        fault.message_counts,
        missing(link.message, site.code) if link.message else "",
        built.build_of(site) if is_built else "",
        site.column if is_built else None,
        engine,
        tuple([plain_function(f.function) for f in callers[:helper]]),
    )


def _caller(frame: Frame, recipe: int) -> str:
    if recipe > 3 and built.is_built(frame):
        return f"{built.room_of(frame)}.{built.name_of(frame.function)}"
    return spot_of(frame.module, frame.file, frame.function)


def earlier_texts(chain: Sequence[ChainLink], apart: Sequence[tuple[str, str]] = ()) -> tuple[str, ...]:
    """Return the fingerprints of earlier versions of the recipe, the newest first, so that their issues continue."""
    apart = tuple(apart)
    now = locate(chain)
    # Where another exception was raised in its place, it has callers that version 4 did not see; with these its message may count.
    before = locate(chain, recipe=4) if len(chain) > 1 else replace(now, helper=now.helper_before)
    fourth = _text_before(before, apart)
    third_fault = locate(chain, recipe=3)
    third = _text(_traits(third_fault, third_fault.helper, recipe=3), apart, recipe=3)
    second_fault = locate(chain, recipe=2)
    second = _text(_traits(second_fault, second_fault.helper, recipe=2), apart, recipe=2)
    present = _text_of(now, apart)
    newer = [text for text in dict.fromkeys((fourth, third)) if text != present]
    return *newer, second, first_recipe.fingerprint(chain)


def _text_of(fault: Fault, apart: tuple[tuple[str, str], ...]) -> str:
    """Return the fingerprint: that of version 4 where version 5 does not differ."""
    if fault.helper == fault.helper_before and not fault.nth_alike:
        return _text_before(fault, apart)
    return _text(_traits(fault, fault.helper), apart)


def _text_before(fault: Fault, apart: tuple[tuple[str, str], ...]) -> str:
    """Return the fingerprint of version 4: that of version 3 where it does not differ."""
    traits = _traits(fault, fault.helper, recipe=4)
    if fault.site is not None and not is_script(fault.site.file):
        return _text(traits, apart, recipe=3)
    before = _traits(fault, fault.helper, recipe=3)
    return _text(before, apart, recipe=3) if traits == before else _text(traits, apart, recipe=4)


def _text(traits: Traits, apart: tuple[tuple[str, str], ...], recipe: int = VERSION) -> str:
    parts = [traits.type, traits.room, traits.function, traits.code, traits.raised_in]
    if traits.message_counts:
        parts.append(traits.words)
    if not traits.code:
        parts.append(str(traits.line))
    if traits.build:
        parts += [traits.build, str(traits.column)]
    if traits.helper:
        parts += [spot for spot, _ in traits.callers[: traits.helper]]
        parts.append(traits.caller_code)
    for name, value in apart:
        parts += [name, value]
    hashed = blake2b("\0".join(parts).encode("utf-8", "surrogatepass"), digest_size=16, person=b"obitus-v%d" % recipe)
    return f"{recipe}-{hashed.hexdigest()}"


def _parts(chain: Sequence[ChainLink], fault: Fault, traits: Traits, apart: tuple[tuple[str, str], ...]) -> list[Part]:
    parts = [Part("type", traits.type, counted=True, reason=fault.why_link)]
    parts += [
        Part("type", plain_type(link.type), counted=False, reason=_beside(link, chain))
        for link in chain
        if link is not fault.link
    ][:8]
    if fault.cycle:
        parts += [Part("recursion", spot, counted=True, reason=fault.why_site) for spot in fault.cycle]
    elif fault.site is not None:
        parts.append(Part("function", traits.spot, counted=True, reason=fault.why_site))
        if traits.code:
            reason = "the code on the line that failed; its number is left out, since it moves with every edit"
            parts.append(Part("code", fault.site.code.strip()[:300], counted=True, reason=reason))
        elif traits.build:
            reason = "tells two places apart within one build; another build of the same place is found by what the engine says. Source maps say more: obitus maps add"
            parts.append(Part("place", f"{traits.build}:{traits.line}:{traits.column}", counted=True, reason=reason))
        elif traits.line is not None:
            reason = "tells two places in one function apart within one build; an issue outlives a change of it"
            parts.append(Part("line", str(traits.line), counted=True, reason=reason))
    for nth, (spot, _) in enumerate(traits.callers[: traits.helper], 1):
        reason = "the helper's caller: the reason is there"
        if fault.why_caller:
            reason = fault.why_caller if nth == traits.helper else "it only handed that on"
            if nth == traits.helper and fault.nth_alike:
                reason += f", on the {_ordinal(fault.nth_alike)} of several equal lines"
        parts.append(Part("caller", spot, counted=True, reason=reason))
    if traits.raised_in:
        reason = "what in the library raised: a call can be wrong for several reasons"
        parts.append(Part("raised in", traits.raised_in, counted=True, reason=reason))
    if traits.message_counts:
        parts.append(Part("message", traits.words[:MOST_MESSAGE], counted=True, reason=fault.why_message))
    elif fault.link.message:
        parts.append(Part("message", fault.link.message[:200], counted=False, reason=fault.why_message))
    parts += [Part("attribute", f"{n}={v}", counted=True, reason="a rule keeps these apart") for n, v in apart]
    parts += _left_out(fault, traits)
    return parts


def _ordinal(number: int) -> str:
    ending = "th" if 10 < number % 100 < 14 else {1: "st", 2: "nd", 3: "rd"}.get(number % 10, "th")
    return f"{number}{ending}"


def _beside(link: ChainLink, chain: Sequence[ChainLink]) -> str:
    if link is chain[0]:
        return "it wraps what counts" if len(chain) > 1 and chain[1].relation != "member" else "the group's own name"
    return "another member of the group" if link.relation == "member" else "it does not tell where the fault is"


def _left_out(fault: Fault, traits: Traits) -> list[Part]:
    parts = []
    further = traits.callers[traits.helper :]
    if further:
        shown = ", ".join(spot for spot, _ in further[:3]) + (", …" if len(further) > 3 else "")
        parts.append(Part("callers", shown, counted=False, reason="the same fault is reached along many paths"))
    library = [frame for frame in fault.link.frames if not frame.own]
    platform = sum(is_platform(frame.module, frame.file) for frame in library)
    others = len(library) - platform
    if others and not fault.in_library:
        reason = "library code on the way does not tell two faults of the app apart"
        parts.append(Part("frames", count_of(others, "library frame"), counted=False, reason=reason))
    if platform:
        reason = "the language's own code is never at fault"
        parts.append(
            Part("frames", count_of(platform, "frame") + " of the language itself", counted=False, reason=reason)
        )
    return parts


def as_text(traits: Traits) -> list[Any]:
    """Return traits as a list that JSON can hold; ``from_text`` reads it."""
    return [getattr(traits, name) for name in Traits.__slots__]


def from_text(values: Sequence[Any]) -> Traits:
    """Return the traits that ``as_text`` wrote."""
    named = dict(zip(Traits.__slots__, values, strict=False))
    named["callers"] = tuple((spot, line) for spot, line in named["callers"])
    named["caller_names"] = tuple(named.get("caller_names", ()))
    return Traits(**named)


def runtime_said(traits: Traits) -> bool:
    """Whether the language's runtime wrote the message."""
    return runtimes_own(traits.words)
