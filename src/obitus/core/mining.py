"""Templates of messages that came without one, found from many messages in one pass, in bounded memory.

A message is cut into words and punctuation. What looks like a value (numbers, ids, addresses, paths, quoted text, lists of these)
counts as one at once. The rest is split: messages of one length by the position with the fewest different words, as
long as these are few, since such words distinguish messages. A position with many different words is a value, and so
is one whose words are values elsewhere.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Final, NamedTuple

from obitus.core.remembering import remembered

MOST_PATTERNS: Final = 20_000
"""Different messages, without values, that are kept at once; with more, they are merged first."""
MOST_TOKENS: Final = 120
LONGEST: Final = 2_000
FEW: Final = 5
"""Up to this many different words in one position distinguish messages; more are values."""
MOST_WORDS: Final = 3
"""Further words that a value may have."""
MOST_COMPARED: Final = 250_000
VALUE: Final = "…"
"""Placeholder of a value in a template."""

# Quoted text; runs between punctuation and spaces; spaces; punctuation.
_TOKEN = re.compile(
    r"(?P<quoted>\"[^\"]{0,500}\"|(?<![\w'])'[^']{0,200}'(?!\w))|(?P<run>[^\s\"'=,;()\[\]{}<>|]+)|(?P<space>\s+)|(?P<sign>.)",
    re.DOTALL,
)
_DIGIT = re.compile(r"\d")
_LIST_SEPARATORS: Final = frozenset({",", ";", "|", "and", "or"})

Pattern = tuple[str, ...]


@dataclass(slots=True)
class Template:
    """Messages that differ only in their values."""

    text: str
    """With ``…`` for each value."""
    count: int = 0
    example: str = ""
    patterns: list[Pattern] = field(default_factory=list)


class _Cut(NamedTuple):
    """A word, a punctuation mark or a value of a message, and its place."""

    token: str
    start: int
    end: int


def _cut(message: str) -> list[_Cut]:
    cuts: list[_Cut] = []
    for token in _TOKEN.finditer(message[:LONGEST]):
        kind, text, start = token.lastgroup, token[0], token.start()
        if kind == "space":
            continue
        if kind == "quoted":
            _take_value(cuts, start, token.end())
        elif kind == "sign":
            cuts.append(_Cut(text, start, token.end()))
        else:
            _take_run(cuts, text, start)
        if len(cuts) >= MOST_TOKENS:
            break
    return cuts


def _take_run(cuts: list[_Cut], text: str, start: int) -> None:
    """Add the text between punctuation and spaces: a value, or a word; a colon or dot after it is a token of its own."""
    bare = text.rstrip(":.")
    end = start + len(bare)
    if bare and (_DIGIT.search(bare) or bare[0] == "/" or "@" in bare or "://" in bare):
        _take_value(cuts, start, end)
    elif bare:
        cuts.append(_Cut(bare, start, end))
    if len(bare) < len(text):
        cuts.append(_Cut(text[len(bare) :], end, start + len(text)))


def _take_value(cuts: list[_Cut], start: int, end: int) -> None:
    """Add a value; one that continues a list, or directly follows another, is the same value."""
    if len(cuts) >= 2 and cuts[-1].token in _LIST_SEPARATORS and cuts[-2].token == VALUE:
        cuts.pop()
    if cuts and cuts[-1].token == VALUE:
        start = cuts.pop().start
    cuts.append(_Cut(VALUE, start, end))


@remembered(8000)
def pattern_of(message: str) -> Pattern:
    """Return the words and punctuation of a message, with ``VALUE`` for what looks like a value; spaces are left out."""
    return tuple(cut.token for cut in _cut(message))


class Miner:
    """Reads messages and finds their templates."""

    def __init__(self) -> None:
        self._counts: Counter[Pattern] = Counter()
        self._examples: dict[Pattern, str] = {}
        self._put_together: dict[Pattern, Pattern] = {}

    def add(self, message: str, times: int = 1) -> Pattern:
        """Add a message with its count; return the pattern by which ``template_of`` finds its template later."""
        pattern = pattern_of(message)
        if pattern not in self._counts:
            if len(self._counts) >= MOST_PATTERNS:
                self._compact()
            self._examples.setdefault(pattern, message[:LONGEST])
        self._counts[pattern] += times
        return pattern

    def templates(self) -> list[Template]:
        """Return the templates of all messages, the most frequent first."""
        templates: list[Template] = []
        for template in _found_in(self._counts):
            example = self._examples[template.commonest]
            text = written(template.general, example)
            templates.append(
                Template(text, sum(self._counts[each] for each in template.patterns), example, template.patterns)
            )
        return sorted(templates, key=lambda one: (-one.count, one.text))

    def _compact(self) -> None:
        """Merge patterns that belong together; when that is not enough, forget the rarest."""
        together: Counter[Pattern] = Counter()
        examples: dict[Pattern, str] = {}
        for template in _found_in(self._counts):
            together[template.general] += sum(self._counts[each] for each in template.patterns)
            examples.setdefault(template.general, self._examples[template.commonest])
        if len(together) > MOST_PATTERNS // 2:
            together = Counter(dict(together.most_common(MOST_PATTERNS // 2)))
        self._counts, self._examples = together, {template: examples[template] for template in together}


def written(general: Sequence[str], example: str) -> str:
    """Return a general pattern as text, with the spaces of one of its messages; a list of values as one."""
    text, end = "", 0
    words_kept: list[str] = []
    for token, cut in zip(general, _cut(example), strict=True):
        gap = example[end : cut.start]
        end = cut.end
        if token == VALUE and len(words_kept) >= 2 and words_kept[-1] in _LIST_SEPARATORS and words_kept[-2] == VALUE:
            text = text[: text.rindex(VALUE) + len(VALUE)]
            words_kept.pop()
            continue
        words_kept.append(token)
        text += gap + token
    return text


class _Found(NamedTuple):
    """A general pattern, and its patterns."""

    general: Pattern
    """As long as the most frequent of them."""
    commonest: Pattern
    patterns: list[Pattern]


def _found_in(counts: Counter[Pattern]) -> list[_Found]:
    """Return the general patterns of many, each with its patterns."""
    by_length: dict[int, list[Pattern]] = defaultdict(list)
    for pattern in counts:
        by_length[len(pattern)].append(pattern)
    values = _Values()
    for group in [group for some in by_length.values() for group in _parted(some, values)]:
        values.learn(group)
    listed: dict[Pattern, list[list[Pattern]]] = defaultdict(list)
    for group in (part for some in by_length.values() for part in _parted(some, values)):
        listed[_lists_as_one(_general(group))].append(group)
    sums = {key: sum(counts[member] for group in groups for member in group) for key, groups in listed.items()}
    for small, large in _values_of_words(sums).items():
        listed[large] += listed.pop(small)
    templates = []
    for groups in listed.values():
        # The message from which it is written has to have its form.
        commonest_in = [max(group, key=lambda one: (counts[one], one)) for group in groups]
        of_most = max(range(len(groups)), key=lambda at: (counts[commonest_in[at]], commonest_in[at]))
        templates.append(
            _Found(_general(groups[of_most]), commonest_in[of_most], [member for group in groups for member in group])
        )
    return templates


def _lists_as_one(general: Pattern) -> Pattern:
    """Return a pattern in which a list of values is one value."""
    texts: list[str] = []
    for token in general:
        if token == VALUE and len(texts) >= 2 and texts[-1] in _LIST_SEPARATORS and texts[-2] == VALUE:
            texts.pop()
        else:
            texts.append(token)
    return tuple(texts)


def _values_of_words(sums: dict[Pattern, int]) -> dict[Pattern, Pattern]:
    """Return which patterns are another, much more frequent one with some words in place of a value."""
    patterns: dict[Pattern, Pattern] = {}
    common = [one for one in sums if VALUE in one and sum(token != VALUE for token in one) >= 2]
    if len(common) * len(sums) > MOST_COMPARED:
        common = sorted(common, key=lambda one: (-sums[one], one))[: MOST_COMPARED // len(sums)]
    for small in sums:
        for large in common:
            longer = len(small) - len(large)
            if 0 < longer <= MOST_WORDS and sums[small] * 3 <= sums[large] and _stands_for(large, small, longer):
                pattern = patterns.get(small)
                if pattern is None or (sums[large], large) > (sums[pattern], pattern):
                    patterns[small] = large
    # A pattern that represents another represents itself.
    return {small: large for small, large in patterns.items() if large not in patterns}


def _stands_for(large: Pattern, small: Pattern, longer: int) -> bool:
    """Whether one pattern is another with further words in place of one of its values."""
    for at, token in enumerate(large):
        if token == VALUE and large[:at] == small[:at] and large[at + 1 :] == small[at + 1 + longer :]:
            return all(word[:1].isalpha() or word == VALUE for word in small[at : at + 1 + longer])
        if token != small[at]:
            return False
    return False


class _Values:
    """Words that are values somewhere."""

    def __init__(self) -> None:
        self._as_value: Counter[str] = Counter()
        self._as_word: Counter[str] = Counter()

    def learn(self, group: list[Pattern]) -> None:
        """Learn from patterns that belong together."""
        for words in zip(*group, strict=True):
            different = set(words) - {VALUE}
            counter = self._as_value if len(different) > FEW else self._as_word
            for word in different:
                counter[word] += 1

    def has(self, words: Iterable[str]) -> bool:
        """Whether all words are values elsewhere, more often than anything else."""
        return all(self._as_value[word] > 0 and self._as_value[word] >= self._as_word[word] - 1 for word in words)


def _parted(patterns: list[Pattern], values: _Values) -> list[list[Pattern]]:
    """Split patterns of one length until each position of each part has one word, or values."""
    waiting, done = [patterns], []
    while waiting:
        group = waiting.pop()
        at = _telling_place(group, values)
        if at is None:
            done.append(group)
            continue
        parts: dict[str, list[Pattern]] = defaultdict(list)
        for pattern in group:
            parts[pattern[at]].append(pattern)
        waiting += parts.values()
    return done


def _telling_place(group: list[Pattern], values: _Values) -> int | None:
    """Return the position whose words distinguish the patterns: the first with the fewest different ones; None where none does."""
    if len(group) < 2:
        return None
    best: tuple[int, int] | None = None
    shared = values_alone = 0
    many: list[tuple[int, int]] = []
    for at, column in enumerate(zip(*group, strict=True)):
        different = set(column)
        words = different - {VALUE}
        if len(different) == 1:
            shared += bool(words)
            values_alone += not words
        elif len(different) > FEW:
            many.append((len(different), at))
        elif (_is_sign(words) or not values.has(words)) and (best is None or (len(different), at) < best):
            best = len(different), at
    if best is not None:
        return best[1]
    # With nothing in common but the length these are several messages: split them by the most frequent words.
    if many and shared * 2 < len(group[0]) - values_alone:
        return min(many)[1]
    return None


def _is_sign(words: Iterable[str]) -> bool:
    return any(not word[:1].isalnum() for word in words)


def _general(group: list[Pattern]) -> Pattern:
    """Return the general pattern of a group."""
    return tuple(column[0] if len(set(column)) == 1 else VALUE for column in zip(*group, strict=True))
