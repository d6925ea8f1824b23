"""Summaries: counts and statistics of the records that match a question.

``count by http.response.status_code, entry_point over time``, ``p95 duration by entry_point``: the number of
records, or a statistic of a numeric field, for each value of up to two fields, in all or over time.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cache
from math import exp, log
from typing import Any, Final, Literal, get_args

from lark import Lark, Token, Transformer, UnexpectedInput, v_args

from obitus.core.asking.reading import QuestionTrouble
from obitus.core.asking.writing import FIELD_NAME, name_of
from obitus.core.clock import DAY_MS, HOUR_MS, MINUTE_MS

Stat = Literal["median", "p95", "p99", "smallest", "largest", "sum"]
STATS: Final[tuple[Stat, ...]] = get_args(Stat)
MOST_CHARACTERS: Final = 500
MOST_SLICES: Final = 60
"""Slices of a window that a summary over time has at most."""
GAMMA: Final = 1.02
"""Ratio of the ends of a bucket of numbers: values read from buckets are off by 1% at most."""
PER_BUCKET: Final = 1 / log(GAMMA)
EXAMPLE: Final = "count by entry_point over time"
_WORDS: Final = ("by", "over")

_WIDTHS_MS: Final = (
    1000, 2000, 5000, 10_000, 15_000, 30_000, MINUTE_MS, 2 * MINUTE_MS, 5 * MINUTE_MS, 10 * MINUTE_MS, 15 * MINUTE_MS,
    30 * MINUTE_MS, HOUR_MS, 2 * HOUR_MS, 3 * HOUR_MS, 6 * HOUR_MS, 12 * HOUR_MS, DAY_MS, 2 * DAY_MS, 7 * DAY_MS,
)  # fmt: skip
GRAMMAR: Final = r"""
start: what by? over?
what: _COUNT -> counted
    | STAT FIELD -> measured
by: _BY FIELD (_COMMA FIELD)*
over: _OVER
_COUNT.3: /count(?![^\s,])/
STAT.3: /(?:median|p95|p99|smallest|largest|sum)(?=\s)/
_BY.3: /by(?=\s)/
_OVER.3: /over\s+time/
_COMMA: ","
FIELD: /(?!(?:by|over)\s)FIELD_NAME|"(?:[^"\\]|\\.)*"/
%ignore /\s+/
""".replace("FIELD_NAME", FIELD_NAME)
_EXPECTED: Final = {
    "STAT": f"`count` or one of {', '.join(STATS)} with a field is expected. For example: {EXAMPLE}",
    "FIELD": "the name of a field is expected, such as entry_point or http.response.status_code",
    "_COMMA": "a comma with a second field is expected, or `over time`",
    "_BY": "`by` with one or two fields is expected, or `over time`",
    "_OVER": "nothing but `over time` is expected here",
    "$END": "nothing more is expected here",
}


@dataclass(frozen=True, slots=True)
class Summary:
    """A summary: the number of records, or a statistic of one field; by up to two fields; in all or over time."""

    by: tuple[str, ...] = ()
    stat: Stat | None = None
    of: str = ""
    over_time: bool = False


def read_summary(text: str) -> Summary:
    """Parse a summary; raises QuestionTrouble."""
    if len(text) > MOST_CHARACTERS:
        raise QuestionTrouble(f"a summary has up to {MOST_CHARACTERS} characters", MOST_CHARACTERS + 1)
    try:
        summary: Summary = _Tree().transform(_parser().parse(text))
    except UnexpectedInput as error:
        at = error.pos_in_stream
        expected: set[str] = set(
            getattr(error, "accepts", None) or getattr(error, "expected", None) or getattr(error, "allowed", None) or ()
        )
        wanted = next((words for name, words in _EXPECTED.items() if name in expected), _EXPECTED["$END"])
        ends = at is None or at < 0 or getattr(getattr(error, "token", None), "type", "") == "$END"
        raise QuestionTrouble(wanted, len(text.rstrip()) + 1 if ends else int(at or 0) + 1) from None
    if len(summary.by) > 2:
        raise QuestionTrouble("up to two fields can be counted by", text.rindex(",") + 1)
    if len(set(summary.by)) < len(summary.by):
        raise QuestionTrouble("the two fields are the same", text.rindex(",") + 1)
    return summary


def written(summary: Summary) -> str:
    """Return a summary as it is written."""
    what = "count" if summary.stat is None else f"{summary.stat} {name_of(summary.of, _WORDS)}"
    by = f" by {', '.join(name_of(field, _WORDS) for field in summary.by)}" if summary.by else ""
    return f"{what}{by}{' over time' if summary.over_time else ''}"


def width_ms(from_ms: int, to_ms: int) -> int:
    """Return the width of the slices of a window: a round number, for MOST_SLICES of them at most, which begin at multiples of it."""
    for width in _WIDTHS_MS:
        if to_ms - from_ms <= width * MOST_SLICES:
            return width
    return -(-(to_ms - from_ms) // (MOST_SLICES * 7 * DAY_MS)) * 7 * DAY_MS


def bucket_of(value: float) -> int:
    """Return the bucket of a number: numbers in one bucket differ by at most 2%. 0 has a bucket of its own."""
    if value == 0:
        return 0
    size = min(max(abs(value), 1e-9), 1e15)
    bucket = int(log(size / 1e-9) * PER_BUCKET) + 1
    return bucket if value > 0 else -bucket


def middle_of(bucket: int) -> float:
    """Return the number in the middle of a bucket."""
    if bucket == 0:
        return 0.0
    size = 1e-9 * exp((abs(bucket) - 0.5) / PER_BUCKET)
    return size if bucket > 0 else -size


def percentile(buckets: Mapping[int, int], share: float) -> float | None:
    """Return the number below which this share of all lies, from counts by bucket; None where there are none.

    It is the middle of the bucket with the nearest rank (the smallest number that at least this share does not exceed).
    """
    in_all = sum(buckets.values())
    passed = 0
    for bucket in sorted(buckets):
        passed += buckets[bucket]
        if passed >= share * in_all and passed:
            return middle_of(bucket)
    return None


@cache
def _parser() -> Lark:
    return Lark(GRAMMAR, parser="lalr", lexer="contextual", maybe_placeholders=False)


@v_args(inline=True)
class _Tree(Transformer[Token, Any]):
    def start(self, what: tuple[Stat | None, str], *more: tuple[str, ...] | bool) -> Summary:
        by = next((one for one in more if isinstance(one, tuple)), ())
        return Summary(by, what[0], what[1], over_time=True in more)

    def counted(self) -> tuple[None, str]:
        return None, ""

    def measured(self, stat: Token, field: Token) -> tuple[str, str]:
        return str(stat), _unquoted(field)

    def by(self, *fields: Token) -> tuple[str, ...]:
        return tuple(map(_unquoted, fields))

    def over(self, *_: Iterable[Token]) -> bool:
        return True


def _unquoted(token: Token) -> str:
    text = str(token)
    return re.sub(r"\\(.)", r"\1", text[1:-1], flags=re.DOTALL) if text[0] == '"' else text
