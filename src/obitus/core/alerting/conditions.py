"""What alert rules wait for, in one small language.

``new issue where app=sailings``, ``count of failures > 20 in 10m by entry_point``, ``no runs for 2h by entry_point``: something that happens, an amount in a window, or something that stops coming; for the records of a question, where one follows.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from functools import cache
from typing import Any, Final, Literal, get_args

from lark import Lark, Token, Transformer, UnexpectedInput, v_args
from lark.exceptions import VisitError

from obitus.core.asking.reading import QuestionTrouble, read
from obitus.core.asking.summaries import STATS, Stat
from obitus.core.asking.tree import Compare, Exists, Node, leaves_of
from obitus.core.asking.values import wanted_number
from obitus.core.asking.writing import FIELD_NAME
from obitus.core.clock import DAY_MS, HOUR_MS, MINUTE_MS, span_ms
from obitus.core.wording import span

Happening = Literal["new issue", "issue regressed", "issue reopened", "rate regression", "quiet failure", "job late"]
HAPPENINGS: Final[tuple[Happening, ...]] = get_args(Happening)
Source = Literal["failures", "logs", "runs"]
Measure = Literal["count", "people", "failed", "refused", "per thousand", "stat"]
Operator = Literal[">", ">=", "<", "<="]
MOST_CHARACTERS: Final = 1000
LONGEST_MS: Final = 7 * DAY_MS
SHORTEST_MS: Final = MINUTE_MS
RUNS_SHORTEST_MS: Final = 5 * MINUTE_MS
"""Runs are counted by five minutes."""
TIMES: Final = 2.0
"""Smallest factor for more than usual."""
RUN_FIELDS: Final = frozenset({"app", "environment", "release", "entry_point", "outcome", "status"})
"""Fields that are counted for all runs; other fields are known only for runs that were sent whole."""
REPORT_FIELDS: Final = frozenset({"app"})
EXAMPLES: Final = (
    "new issue where app=sailings environment=production",
    "new issue, issue regressed where severity>=ERROR",
    "count of failures > 20 in 10m by issue",
    "share of failed runs > 5% in 15m by entry_point",
    "p95 duration of runs > 800ms in 15m by entry_point where app=sailings",
    "count of logs > usual in 1h where severity>=WARN",
    "no runs for 2h by entry_point where app=gatekeeper",
)
GRAMMAR: Final = r"""
start: happening (_COMMA happening)* -> happens
    | measure SIGN limit _IN SPAN by? -> measured
    | _NO KIND _FOR SPAN by? -> silent
happening: HAPPENING
measure: _COUNT _OF (KIND | PEOPLE) -> counted
    | _SHARE _OF OUTCOME _RUNS -> share
    | _PER_THOUSAND -> per_thousand
    | STAT FIELD _OF KIND -> stat
limit: NUMBER -> fixed
    | (NUMBER _TIMES)? _USUAL -> usual
by: _BY FIELD (_COMMA FIELD)*
HAPPENING.6: /(?:new\s+issue|issue\s+regressed|issue\s+reopened|rate\s+regression|quiet\s+failure|job\s+late)(?![^\s,])/
_PER_THOUSAND.6: /failures\s+per\s+thousand\s+runs(?=\s|[<>])/
_COUNT.5: /count(?!\S)/
_SHARE.5: /share(?!\S)/
_OF.5: /of(?!\S)/
_RUNS.5: /runs(?=\s|[<>])/
_NO.5: /no(?!\S)/
_FOR.5: /for(?!\S)/
_IN.5: /in(?!\S)/
_BY.5: /by(?!\S)/
_TIMES.5: /times(?!\S)/
_USUAL.5: /usual(?!\S)/
OUTCOME.5: /(?:failed|refused)(?!\S)/
KIND.5: /(?:failures|logs|runs|reports)(?=\s|[<>])/
PEOPLE.5: /people(?=\s|[<>])/
STAT.5: /(?:median|p95|p99|smallest|largest|sum)(?!\S)/
SIGN: />=|<=|>|</
NUMBER.2: /[0-9]+(?:\.[0-9]+)?(?:\s?%|[A-Za-zµ]{1,3}(?![^\s]))?/
SPAN.4: /[0-9]{1,5}(?:min|m|h|d|w)(?![^\s])/
_COMMA: ","
FIELD: /(?!(?:by|of|in|where)(?!\S))FIELD_NAME|"(?:[^"\\]|\\.)*"/
%ignore /\s+/
""".replace("FIELD_NAME", FIELD_NAME)
_EXPECTED: Final = {
    "HAPPENING": f"what to wait for is expected. For example: {EXAMPLES[0]}; {EXAMPLES[2]}; {EXAMPLES[6]}",
    "KIND": "failures, logs or runs is expected (of `no …` also reports; of `count of …` also people)",
    "OUTCOME": "failed or refused is expected: share of failed runs",
    "SIGN": "a comparison is expected: >, >=, < or <=",
    "NUMBER": "a number is expected, such as 20, 5% or 800ms, or: usual, 3 times usual",
    "_IN": "`in` and a window are expected, such as: in 10m",
    "SPAN": "a span of time is expected, such as 10m, 2h or 1d",
    "_OF": "`of` is expected",
    "_RUNS": "`runs` is expected: share of failed runs",
    "FIELD": "the name of a field is expected, such as entry_point or app",
    "_FOR": "`for` and a span of time are expected, such as: for 2h",
    "_BY": "`by` with a field, `where` with a question, or nothing more is expected here",
    "_COMMA": "a comma, `where` with a question, or nothing more is expected here",
}
_OPERATORS: Final[dict[str, Operator]] = {operator: operator for operator in get_args(Operator)}
_WHERE: Final = re.compile(r"(?:^|\s)where(?=\s|$)")
_QUANTITY: Final = re.compile(r"([0-9.]+)\s?(%|[A-Za-zµ]*)")


@dataclass(frozen=True, slots=True)
class Happens:
    """An event, which is known at once."""

    kinds: tuple[Happening, ...]
    where: str = ""
    node: Node | None = None


@dataclass(frozen=True, slots=True)
class Measured:
    """An amount of a window, for each group, over or under a limit."""

    measure: Measure
    source: Source
    operator: Operator
    limit: float
    """Shares are between 0 and 1, durations in milliseconds. For `usual`: the smallest factor."""
    is_usual: bool
    window_ms: int
    by: tuple[str, ...] = ()
    stat: Stat | None = None
    of: str = ""
    where: str = ""
    node: Node | None = None

    @property
    def is_over(self) -> bool:
        """Whether it waits for too much rather than too little."""
        return self.operator in (">", ">=")


@dataclass(frozen=True, slots=True)
class Silent:
    """Something that used to come, and stops."""

    source: Literal["runs", "reports"]
    window_ms: int
    by: tuple[str, ...] = ()
    where: str = ""
    node: Node | None = None


Condition = Happens | Measured | Silent


def read_condition(text: str, now_ms: int) -> Condition:
    """Parse a condition; raises QuestionTrouble with the position of the error and what is expected there."""
    if len(text) > MOST_CHARACTERS:
        raise QuestionTrouble(f"a condition has up to {MOST_CHARACTERS:,} characters", MOST_CHARACTERS + 1)
    split = _WHERE.search(text)
    head = text if split is None else text[: split.start()]
    try:
        condition: Condition = _Tree().transform(_parser().parse(head))
    except UnexpectedInput as error:
        raise _said(error, head) from None
    except VisitError as error:
        if isinstance(error.orig_exc, QuestionTrouble):
            raise error.orig_exc from None
        raise
    if split is None:
        return condition
    asked, at = text[split.end() :].strip(), split.end()
    at += len(text[split.end() :]) - len(text[split.end() :].lstrip())
    try:
        node = read(asked, now_ms)
    except QuestionTrouble as trouble:
        raise QuestionTrouble(str(trouble).partition(": ")[2].rstrip("."), at + trouble.position) from None
    _check_fields(condition, node, at + 1)
    return replace(condition, where=asked, node=node)


def sentence(condition: Condition) -> str:
    """Say what a condition waits for, in words: ``more than 20 failures in 10 min, for each entry_point``."""
    if isinstance(condition, Happens):
        text = " or ".join(_HAPPENS[kind] for kind in condition.kinds)
    elif isinstance(condition, Silent):
        text = f"no {condition.source} for {span(condition.window_ms)}{_each(condition.by)}"
    else:
        more = {">": "over", ">=": "at least", "<": "under", "<=": "at most"}[condition.operator]
        if condition.is_usual:
            part = f"{condition.limit:g} times" if condition.is_over else f"1/{condition.limit:g} of"
            limit = f"{more} {part} what is usual at that hour"
        else:
            limit = f"{more} {amount_said(condition, condition.limit)}"
        text = f"{measure_said(condition)} {limit} in {span(condition.window_ms)}{_each(condition.by)}"
    return f"{text}, of {condition.where}" if condition.where else text


def measure_said(condition: Measured) -> str:
    """Say what is measured: ``share of failed runs``."""
    if condition.measure == "count":
        return f"count of {condition.source}"
    if condition.measure == "people":
        return "count of people"
    if condition.measure in ("failed", "refused"):
        return f"share of {condition.measure} runs"
    if condition.measure == "per thousand":
        return "failures per thousand runs"
    return f"{condition.stat} {condition.of} of {condition.source}"


def amount_said(condition: Measured, value: float) -> str:
    """Write an amount in the unit of the measure: ``5.2%``, ``812 ms``, ``31``."""
    if condition.measure in ("failed", "refused"):
        return f"{value * 100:.3g}%"
    if condition.measure == "stat" and condition.of == "duration" and condition.stat != "sum":
        return f"{value:,.0f} ms" if value < 10_000 else f"{value / 1000:,.1f} s"
    return f"{value:,.0f}" if value == int(value) and abs(value) < 1e15 else f"{value:,.4g}"


def interval_ms(condition: Measured | Silent) -> int:
    """Return the interval of evaluation of a condition, in milliseconds: longer for longer windows."""
    return max(30_000, min(15 * MINUTE_MS, condition.window_ms // 120))


_HAPPENS: Final[dict[Happening, str]] = {
    "new issue": "a new issue",
    "issue regressed": "an issue that regressed",
    "issue reopened": "a parked issue that was reopened",
    "rate regression": "an issue or entry point that fails more often since a release",
    "quiet failure": "a quiet failure",
    "job late": "a job that did not run when it should have",
}


def _each(by: tuple[str, ...]) -> str:
    return f", for each {' and '.join(by)}" if by else ""


def _check_fields(condition: Condition, node: Node, at: int) -> None:
    """Refuse a question about fields that are not counted; the rule would never fire."""
    fields = _fields_of(condition)
    for leaf in leaves_of(node):
        if fields is not None and (not isinstance(leaf, Compare | Exists) or leaf.field not in fields):
            raise QuestionTrouble(
                f"this can ask for {', '.join(sorted(fields))} alone: of nothing else all {_source_of(condition)} are counted",
                at,
            )


def _fields_of(condition: Condition) -> frozenset[str] | None:
    if isinstance(condition, Silent):
        return RUN_FIELDS if condition.source == "runs" else REPORT_FIELDS
    if isinstance(condition, Measured) and (condition.source == "runs" or condition.measure == "per thousand"):
        return RUN_FIELDS - ({"outcome", "status"} if condition.measure == "per thousand" else set())
    return None


def _source_of(condition: Condition) -> str:
    return (
        "runs"
        if isinstance(condition, Measured) and condition.measure == "per thousand"
        else getattr(condition, "source", "")
    )


@cache
def _parser() -> Lark:
    return Lark(GRAMMAR, parser="lalr", lexer="contextual", maybe_placeholders=False)


def _said(error: UnexpectedInput, text: str) -> QuestionTrouble:
    expected: set[str] = set(
        getattr(error, "accepts", None) or getattr(error, "expected", None) or getattr(error, "allowed", None) or ()
    )
    wanted = next((words for name, words in _EXPECTED.items() if name in expected), "nothing more is expected here")
    at = error.pos_in_stream
    ends = at is None or at < 0 or getattr(getattr(error, "token", None), "type", "") == "$END"
    return QuestionTrouble(wanted, len(text.rstrip()) + 1 if ends else int(at or 0) + 1)


@v_args(inline=True)
class _Tree(Transformer[Token, Any]):
    def happening(self, token: Token) -> Happening:
        name = " ".join(str(token).split())
        return next(kind for kind in HAPPENINGS if kind == name)

    def happens(self, *kinds: Happening) -> Condition:
        return Happens(tuple(dict.fromkeys(kinds)))

    def counted(self, token: Token) -> tuple[Any, ...]:
        kind = str(token)
        if kind == "reports":
            raise QuestionTrouble("failures, logs, runs or people is expected", (token.start_pos or 0) + 1)
        return ("people", "failures", None, "") if kind == "people" else ("count", kind, None, "")

    def share(self, outcome: Token) -> tuple[Any, ...]:
        return str(outcome), "runs", None, ""

    def per_thousand(self) -> tuple[Any, ...]:
        return "per thousand", "failures", None, ""

    def stat(self, stat: Token, field: Token, kind: Token) -> tuple[Any, ...]:
        of, source = _unquoted(field), str(kind)
        if source == "reports":
            raise QuestionTrouble("failures, logs or runs is expected", (kind.start_pos or 0) + 1)
        if source == "runs" and (of != "duration" or stat not in ("median", "p95", "p99")):
            raise QuestionTrouble(
                "of all runs the median, p95 and p99 of `duration` is known; other numbers only of logs and failures",
                (stat.start_pos or 0) + 1,
            )
        assert stat in STATS
        return "stat", source, str(stat), of

    def fixed(self, number: Token) -> tuple[Token, bool]:
        return number, False

    def usual(self, *times: Token) -> tuple[Token | None, bool]:
        return (times[0] if times else None), True

    def by(self, *fields: Token) -> tuple[Any, ...]:
        names = tuple(map(_unquoted, fields))
        if len(names) > 2 or len(set(names)) < len(names):
            raise QuestionTrouble("groups are by one field, or by two different ones", (fields[-1].start_pos or 0) + 1)
        return (*names, fields[0].start_pos or 0)

    def measured(
        self,
        what: tuple[Any, ...],
        operator: Token,
        limit: tuple[Token | None, bool],
        length: Token,
        by: tuple[Any, ...] = (),
    ) -> Condition:
        measure, source, stat, of = what
        window_ms = _window_ms(
            length, RUNS_SHORTEST_MS if source == "runs" or measure == "per thousand" else SHORTEST_MS
        )
        if limit[1] and window_ms % HOUR_MS:
            raise QuestionTrouble(
                "what is usual is known by the hour: a window of whole hours is expected", (length.start_pos or 0) + 1
            )
        measured = Measured(measure, source, _OPERATORS[operator], 0.0, limit[1], window_ms, by[:-1], stat, of)
        if by:
            _check_groups(measured, by)
        return replace(measured, limit=_limit(measured, limit))

    def silent(self, kind: Token, length: Token, by: tuple[Any, ...] = ()) -> Condition:
        if kind not in ("runs", "reports"):
            raise QuestionTrouble(
                f"`no {kind}` is not known: say runs or reports, or `count of {kind} < 1 in {length}`",
                (kind.start_pos or 0) + 1,
            )
        silent = Silent(str(kind), _window_ms(length, RUNS_SHORTEST_MS), by[:-1])  # type: ignore[arg-type]
        if by:
            _check_groups(silent, by)
        return silent


def _check_groups(condition: Measured | Silent, by: tuple[Any, ...]) -> None:
    fields = _fields_of(condition)
    if isinstance(condition, Measured) and condition.measure == "per thousand":
        fields = frozenset({"app", "environment", "release", "entry_point"})
    if fields is not None and any(name not in fields for name in by[:-1]):
        raise QuestionTrouble(f"groups of these are by {', '.join(sorted(fields))}", by[-1] + 1)
    if "issue" in by[:-1] and (not isinstance(condition, Measured) or condition.source != "failures"):
        raise QuestionTrouble("only failures belong to issues", by[-1] + 1)


def _window_ms(token: Token, least_ms: int) -> int:
    ms = span_ms(str(token))
    if ms is None or not least_ms <= ms <= LONGEST_MS:
        raise QuestionTrouble(
            f"a window here is between {span(least_ms)} and {span(LONGEST_MS)} long", (token.start_pos or 0) + 1
        )
    return ms


def _limit(condition: Measured, limit: tuple[Token | None, bool]) -> float:
    token, is_usual = limit
    if token is None:
        return TIMES
    match = _QUANTITY.fullmatch(str(token).strip())
    assert match is not None
    amount, unit, at = float(match[1]), match[2], (token.start_pos or 0) + 1
    if is_usual:
        if unit or not 1.5 <= amount <= 100:
            raise QuestionTrouble("a factor between 1.5 and 100 is expected: 3 times usual", at)
        return amount
    if condition.measure in ("failed", "refused"):
        if unit != "%" or amount > 100:
            raise QuestionTrouble("a share is expected, such as 5%", at)
        return amount / 100
    if not unit:
        return amount
    field = condition.of if condition.measure == "stat" else ""
    number = wanted_number(field, f"{amount:g}{unit}", 0) if field and unit != "%" else None
    if number is None:
        raise QuestionTrouble(f"a plain number is expected: {measure_said(condition)} has no unit {unit!r}", at)
    return number


def _unquoted(token: Token) -> str:
    text = str(token)
    return re.sub(r"\\(.)", r"\1", text[1:-1], flags=re.DOTALL) if text[0] == '"' else text
