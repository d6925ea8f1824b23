"""Where the fault is: which exception of the chain counts, which frame, and whether a caller further out is to
blame. One stack cannot prove who is to blame; these are the rules that people use when they read stacks, and each
gives its reason.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final

from obitus.core.frames import ChainLink, Frame, is_platform, is_script
from obitus.core.grouping.failed_arguments import RAISES, handed
from obitus.core.grouping.messages import runtimes_own, template, words_of
from obitus.core.grouping.names import COMPREHENSIONS, last_name, plain_function, plain_room, plain_type

MOST_CALLERS: Final = 8
MOST_MESSAGE: Final = 2000
SAID: Final = "Reported message"
"""The type of a failure that the app itself reported, with no exception."""
_ENDLESS: Final = 3
_RECURSION_TYPES: Final = frozenset(
    {"RecursionError", "StackOverflowError", "StackOverflowException", "InsufficientExecutionStackException"}
)
_RECURSION_MESSAGES: Final = (
    "Maximum call stack size exceeded",
    "stack level too deep",
    "too much recursion",
    "stack overflow",
)
# Functions in which a program or a thread starts, and those that only pass a call on: for version 2 alone.
_ENTRIES: Final = frozenset(
    {"<module>", "main", "Main", "__main__", "{main}", "<main>", "<top (required)>", "(main program)", "_main", "run", "start", "<lambda>", "<anonymous>", "wrapper", "wrapped", "inner", "__call__", "dispatch", "execute"}
)  # fmt: skip
_HELPERS = re.compile(
    r"^_*(?:fail|raise|throw|abort|die|bail|panic|must|assert|require|ensure|expect|enforce|precondition|invariant|unreachable|guard)"
    r"(?:_\w*|[A-Z]\w*|!|\?)?$|(?:^|_)(?:fail|abort|die|bail|or_raise|or_fail|or_die)$|(?:OrThrow|OrFail|OrDie)$"
)
_VALIDATORS = re.compile(r"^_*(?:validate|verify)(?:_\w*|[A-Z]\w*)?$")
_SAYS_WHY = re.compile(
    r"""^raise\s+[\w.]+\(\s*(?:\w{1,2}|_\(|[\w.]+\s*=\s*)?(?:["']|[frbFRB]{1,2}["'])|^raise\s+[\w.]+(?:\(\s*\))?(?:\s+from\s+\w+)?$"""
)
_INCOMPLETE = re.compile(r"[(\[{,\\]$")
_PASSED_ON = re.compile(r"^raise$|^raise\s+[a-z_]\w*(?:\.\w+)*$|^raise\s+[\w.]+\([^\"']*\)")
# Trouble outside of the program: no line of the library is at fault.
_OUTSIDE = re.compile(
    r"(?:Timeout|TimedOut|Connection\w{0,60}|Socket|Network|SSL|Certificate|Protocol|BrokenPipe|Unreachable|ConnectFail\w{0,60}|DNS|UnknownHost|gaierror)(?:Error|Exception|Expired)?$"
    r"|^(?:OSError|IOError|FileNotFoundError|PermissionError|IsADirectoryError|NotADirectoryError|FileExistsError|InterruptedError|BlockingIOError"
    r"|IOException|FileNotFoundException|NoSuchFileException|AccessDeniedException|EOFError|EOFException|MemoryError|OutOfMemoryError|timeout|OperationalError)$"
)
# Exceptions that the interpreter raises, not a raise statement.
_CRASHES: Final = frozenset(
    {"AttributeError", "TypeError", "KeyError", "IndexError", "NameError", "UnboundLocalError", "ZeroDivisionError", "AssertionError",
     "RecursionError", "ReferenceError", "RangeError", "NullPointerException", "ArrayIndexOutOfBoundsException",
     "StringIndexOutOfBoundsException", "IndexOutOfBoundsException", "ClassCastException", "ArithmeticException", "NegativeArraySizeException",
     "ArrayStoreException", "ConcurrentModificationException", "NullReferenceException", "IndexOutOfRangeException", "InvalidCastException",
     "DivideByZeroException", "NoMethodError", "DivisionByZeroError", "FrozenError", "runtime error"}
)  # fmt: skip
_LITERAL = re.compile(r"""["']([A-Za-z_][\w.-]{2,60})["']""")
SLIPS: Final = frozenset({"NameError", "UnboundLocalError"})
"""A name that does not exist: the line itself is at fault."""
_RAISING = re.compile(
    r"runtime\.|^(?:std|core|alloc)::(?:panicking|sys_common|sys|rt|result\.unwrap_failed|option\.(?:unwrap|expect)_failed|slice::index|intrinsics)"
    r"|^__rustc\.|\.?(?:rust_begin_unwind|_*rust_\w+|rust_panic\w*)$|^Carp\.|^core\.panic"
)
_NO_VALUE = re.compile(r"\bNoneType\b|\b(?:null|nil|undefined)\b", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Fault:
    """A fault: the exception that counts, the frame that counts, its callers, and the library frames below it."""

    link: ChainLink
    site: Frame | None
    callers: tuple[Frame, ...]
    """Own frames further out, the nearest first."""
    beneath: tuple[Frame, ...]
    """Library frames between the own frame and the raise, from the outside in, without those of the language itself."""
    in_library: bool
    helper: int
    """How many callers count, because the site only reports an error found by others, or was handed a wrong value."""
    cycle: tuple[str, ...]
    """The functions of an endless recursion, sorted."""
    message_counts: bool
    why_link: str
    why_site: str
    why_message: str
    helper_before: int = 0
    """The same by version 4 of the recipe, which did not know the parameters of functions."""
    why_caller: str = ""
    """What the outermost caller that counts did, where the others only handed that on; '' where all are callers of a helper."""
    nth_alike: int = 0
    """Which of several equal lines of that caller it was, from 1; 0 where that does not count."""


def locate(chain: Sequence[ChainLink], recipe: int = 5) -> Fault:
    """Find the fault of a chain that is given from the outermost exception to its root cause.

    ``recipe`` is the version of the recipe; earlier ones are kept for issues that they made.
    """
    position, why_link = _root(chain)
    link = chain[position]
    frames = link.frames
    if position and not any(frame.own for frame in frames):
        # Its own frames are in the exception that wraps it: the calls above the place where it was caught.
        for outer in range(position - 1, -1, -1):
            if any(frame.own for frame in chain[outer].frames):
                frames = [*chain[outer].frames, *frames]
                break
    if recipe > 3:
        frames = _without_constructor(link, frames)
    cycle = _cycle(link, frames)
    if cycle:
        site = next((f for f in reversed(frames) if _spot(f) in cycle), frames[-1])
        why = "an endless recursion: the functions that call each other count; where it hit the limit is chance"
        return Fault(
            link,
            site,
            (),
            (),
            not site.own,
            0,
            cycle,
            False,
            why_link,
            why,
            "the functions of the recursion identify it",
        )
    at = len(frames) - 1
    while at >= 0 and not frames[at].own:
        at -= 1
    beneath = tuple([f for f in frames[at + 1 :] if not is_platform(f.module, f.file)])
    if at < 0:
        return _without_own(link, frames, beneath, why_link)
    entered = at if recipe < 3 or at + 1 == len(frames) else _entered_through(frames, at)
    hands_on, at = entered != at, entered
    site, outside = _enclosing(frames, at)
    callers = _callers(frames, outside)
    in_library, why_site = _blame(link, site, beneath)
    if recipe < 3 and beneath and not _OUTSIDE.search(plain_type(link.type)) and _only_starts(site, callers):
        in_library = True
    if hands_on and not in_library:
        why_site = "own code that entered the library: what the library called back only hands on to it"
    if in_library:
        where, _ = _enclosing(beneath, len(beneath) - 1)
        counts, why_message = _message(link, where)
        return Fault(
            link, where, tuple(reversed(beneath[:-1])), beneath, True, 0, (), counts, why_link, why_site, why_message
        )
    seen_before = len(callers)
    if recipe > 4 and (above := _above(chain, position, link.frames)):
        callers = _callers([*above, *frames], len(above) + outside)
    helper = helper_before = many_reasons = nth_alike = 0
    why_caller = ""
    if not beneath:
        helper = many_reasons = _helper_depth(link, site, callers)
        if helper:
            helper_before = _helper_depth(link, site, callers[:seen_before])
            why_site = "own code that fails on behalf of its callers: so the caller counts too"
        elif recipe < 3:
            helper = helper_before = many_reasons = _named_by(link, site, callers)
        else:
            helper, why_handed, why_caller, helper_before, nth_alike = handed(link, site, callers, seen_before)
            why_site = why_handed or why_site
            if recipe < 5:
                helper = helper_before
            elif not helper and (helper := _validates(site, callers)):
                why_site = "own code that validates what its callers hand over, so the caller counts too"
    counts, why_message = _message(link, site, helper=many_reasons)
    return Fault(
        link,
        site,
        callers,
        beneath,
        False,
        helper,
        (),
        counts,
        why_link,
        why_site,
        why_message,
        helper_before,
        why_caller,
        nth_alike,
    )


def _above(chain: Sequence[ChainLink], position: int, frames: Sequence[Frame]) -> list[Frame]:
    """Return the frames above the function that caught an exception. Where it was caught and another one raised in its
    place, Python shows them with that one only.
    """
    above: list[Frame] = []
    if not any(frame.own for frame in frames):
        return above
    while position and frames and chain[position].relation in ("cause", "context"):
        position -= 1
        caught, frames = frames[0], chain[position].frames
        catcher = next((at for at in range(len(frames) - 1, -1, -1) if _same_function(frames[at], caught)), 0)
        above = [*frames[:catcher], *above]
    return above


def _same_function(one: Frame, other: Frame) -> bool:
    return one.function == other.function and one.file == other.file


def innermost(link: ChainLink) -> Frame | None:
    """Return the frame in which an exception was raised, without the language's own frames that raise it."""
    for frame in reversed(link.frames):
        if not _RAISING.match(f"{frame.module}.{frame.function}"):
            return frame
    return link.frames[-1] if link.frames else None


def _without_own(link: ChainLink, frames: Sequence[Frame], beneath: tuple[Frame, ...], why_link: str) -> Fault:
    if not frames:
        reason = "there are no frames, so the message decides; numbers, ids and quoted values in it do not"
        return Fault(link, None, (), (), False, 0, (), True, why_link, "there are no frames", reason)
    inner = beneath or tuple(frames)
    site, outside = _enclosing(inner, len(inner) - 1)
    callers = tuple(reversed(inner[:outside]))[:MOST_CALLERS]
    why = "library code, since there is no own code on this stack; the innermost that is not the language's own"
    counts, why_message = _message(link, site)
    return Fault(link, site, callers, inner, True, 0, (), counts, why_link, why, why_message)


def _root(chain: Sequence[ChainLink]) -> tuple[int, str]:
    """Return which exception counts: the cause behind exceptions that only wrap it."""
    at = 0
    why = "the only exception" if len(chain) == 1 else "what came out; nothing behind it explains it"
    while at + 1 < len(chain):
        inner = chain[at + 1]
        if inner.relation == "member":
            if chain[at].relation == "member" and not plain_type(chain[at].type).endswith("Group"):
                break
            at, why = at + 1, "the first member of the group: the others may only follow from it"
        elif not inner.frames and any(link.frames for link in chain):
            break
        elif inner.relation == "cause":
            at, why = at + 1, "the root cause: the outer exception only wraps it"
        elif inner.relation == "context" and _wraps(chain[at], inner):
            at, why = at + 1, "the exception that was being handled: the outer one was raised in its place"
        else:
            # A suppressed one is between an exception and its cause where no code is shown.
            behind = next((i for i in range(at + 2, len(chain)) if chain[i].relation == "cause"), None)
            if behind is None or _shows_code(inner) or not chain[behind].frames:
                break
            at, why = behind, "the root cause: the outer exception only wraps it"
    return at, why


def _without_constructor(link: ChainLink, frames: Sequence[Frame]) -> Sequence[Frame]:
    """Leave out the exception's own constructor: one engine of JavaScript shows it as the innermost call, others do not."""
    own = plain_type(link.type)
    end = len(frames)
    while (
        end > 1
        and is_script(frames[end - 1].file)
        and frames[end - 1].function in (own, f"{own}.constructor", f"new {own}")
    ):
        end -= 1
    return frames[:end]


def _shows_code(link: ChainLink) -> bool:
    return any(frame.code for frame in link.frames)


def _wraps(outer: ChainLink, inner: ChainLink) -> bool:
    """Whether an exception was raised on purpose by the function that caught the other.

    One that happened in the code that handles the first (or deeper, in its calls) is a fault of its own.
    """
    if not outer.frames or not inner.frames:
        return False
    raiser, catcher = outer.frames[-1], inner.frames[0]
    if not raiser.code or not RAISES.match(raiser.code.strip()):
        return False
    return _same_function(raiser, catcher)


def _cycle(link: ChainLink, frames: Sequence[Frame]) -> tuple[str, ...]:
    if plain_type(link.type) not in _RECURSION_TYPES and not any(
        words in link.message for words in _RECURSION_MESSAGES
    ):
        return ()
    counts: dict[str, int] = {}
    own: set[str] = set()
    for frame in frames:
        spot = _spot(frame)
        counts[spot] = counts.get(spot, 0) + 1
        if frame.own:
            own.add(spot)
    often = [spot for spot, seen in counts.items() if seen >= _ENDLESS]
    if not often:
        return ()
    # The calls at the end of the cycle occur less often than the cycle itself.
    most = max(counts[spot] for spot in often)
    turning = sorted(spot for spot in often if counts[spot] * 2 >= most)
    return tuple([spot for spot in turning if spot in own] or turning)


def _spot(frame: Frame) -> str:
    return spot_of(frame.module, frame.file, frame.function)


def spot_of(module: str, file: str, function: str) -> str:
    """Return room and function, normalized."""
    name = plain_function(function)
    room = plain_room(module, file, name)
    return f"{room}.{name}" if room else name


def _enclosing(frames: Sequence[Frame], at: int) -> tuple[Frame, int]:
    """Return the frame at an index, and where its callers begin; a comprehension belongs to the function that contains it."""
    site = frames[at]
    outside = at
    while (
        outside > 0
        and frames[outside].function.rpartition(".")[2] in COMPREHENSIONS
        and frames[outside - 1].file == site.file
    ):
        outside -= 1
    if outside != at:
        site = replace(site, function=frames[outside].function, parameters=frames[outside].parameters)
    return site, outside


def _callers(frames: Sequence[Frame], at: int) -> tuple[Frame, ...]:
    callers: list[Frame] = []
    last = frames[at]
    while at > 0 and len(callers) < MOST_CALLERS:
        at -= 1
        frame = frames[at]
        if not frame.own or (
            frame.file == last.file and plain_function(frame.function) == plain_function(last.function)
        ):
            continue
        callers.append(frame)
        last = frame
    return tuple(callers)


def _entered_through(frames: Sequence[Frame], at: int) -> int:
    """Return the own frame that first entered the library, where the innermost one only calls the library again.
    Every entry passes through a method that overrides the library's and calls that one (``super().default(value)``).
    """
    place = at
    while place > 0:
        below = frames[place + 1].function if place + 1 < len(frames) else ""
        hands_on = "super()" in frames[place].code or last_name(below) == last_name(frames[place].function)
        outer = place - 1
        while outer >= 0 and not frames[outer].own:
            outer -= 1
        if not hands_on or outer < 0 or outer == place - 1:
            break
        place = outer
    return place


def _only_starts(site: Frame, callers: tuple[Frame, ...]) -> bool:
    """Whether all own code is where programs and threads start. Version 2 did not count it then."""
    return all(last_name(plain_function(frame.function)) in _ENTRIES for frame in (site, *callers))


def _blame(link: ChainLink, site: Frame, beneath: tuple[Frame, ...]) -> tuple[bool, str]:
    """Return whether library code below the own frame is to blame, and why."""
    if not beneath:
        return False, "own code, innermost on the stack"
    kind = plain_type(link.type)
    if _OUTSIDE.search(kind):
        return False, "own code, innermost on the stack: the cause is outside the program"
    inner = beneath[-1]
    code = inner.code.strip()
    # A name that does not exist is the library's own mistake, even where it raised it again.
    # And an exception type of a library is only ever raised on purpose.
    crashed = kind in SLIPS or ("." not in link.type and not RAISES.match(code) if code else kind in _CRASHES)
    if not crashed:
        return (
            False,
            "own code that calls a library: the library raised on purpose, so it was called with something wrong",
        )
    if len(beneath) == 1 and _NO_VALUE.search(link.message):
        return False, "own code that calls a library: the call handed over nothing where a value was due"
    return True, "library code: it crashed by itself, deep inside, which does not depend on who called it"


def _helper_depth(link: ChainLink, site: Frame, callers: tuple[Frame, ...]) -> int:
    if not callers:
        return 0
    return _named_out(_HELPERS, site, callers, depth=int(_passes_on(link, site)))


def _validates(site: Frame, callers: tuple[Frame, ...]) -> int:
    """Return how many callers out the one is that handed over what a function refuses whose name says that it validates."""
    return _named_out(_VALIDATORS, site, callers) if RAISES.match(site.code.strip()) else 0


def _named_out(names: re.Pattern[str], site: Frame, callers: tuple[Frame, ...], depth: int = 0) -> int:
    """Return how many callers out, three at most, the first function is that has none of some names, from a depth on."""
    functions = (site, *callers)
    while depth < min(3, len(callers)) and names.search(last_name(plain_function(functions[depth].function))):
        depth += 1
    return depth


def _named_by(link: ChainLink, site: Frame, callers: tuple[Frame, ...]) -> int:
    """Return how far out the caller is whose line contains, as a literal, the wrong value in the message. Version 2
    used it; but then one place is a helper for some values and not for others.
    """
    message = link.message
    if not message or len(message) > MOST_MESSAGE or plain_type(link.type) in SLIPS or runtimes_own(message):
        return 0
    for place, caller in enumerate(callers[:3], 1):
        code = caller.code
        if "'" not in code and '"' not in code:
            continue
        for named in _LITERAL.findall(code):
            if named in message and named not in site.code and re.search(rf"(?<!\w){re.escape(named)}(?!\w)", message):
                return place
    return 0


def _passes_on(link: ChainLink, site: Frame) -> bool:
    """Whether a line raises its argument: then the message was written by a caller, and is not a value."""
    code = site.code.strip()
    if not code or not _PASSED_ON.match(code) or _SAYS_WHY.match(code):
        return False
    return len(words_of(template(link.message))) >= 2 and not code.startswith(("raise self.", "raise cls."))


def _message(link: ChainLink, site: Frame, *, helper: int = 0) -> tuple[bool, str]:
    """Return whether the message counts, and why."""
    if link.type == SAID:
        return True, "the app said this, nothing was raised: the words identify it; numbers and ids in them do not"
    code = site.code.strip()
    if not code:
        return True, "its fixed words count, since the line of code that failed is not known; values in it do not"
    if runtimes_own(link.message) and "()" in link.message:
        return True, "it counts: it names the function that could not be called this way"
    if helper:
        return True, "its fixed words count: this code raises for many reasons"
    if RAISES.match(code):
        if _SAYS_WHY.match(code):
            return False, "the line that raised says it, and its values change"
        if _INCOMPLETE.search(code) or len(words_of(template(link.message))) >= 2:
            return True, "its fixed words count: the line that raised does not show them"
    return False, "the line that failed says where, and messages carry values that change"
