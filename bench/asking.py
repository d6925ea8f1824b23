"""Questions to a store of 1,000,000 failures and 10,000,000 log records, against the bare SQL over the same files of the same days.

The floor of a search is the text index's own query, newest day first, until it has a page of rows; the floor of a count is one ``GROUP BY``.
Of each the 95th percentile over many different questions counts.
"""

from __future__ import annotations

import random
import statistics
import time
from collections.abc import Callable
from typing import Any, Final

from bench.measuring import median_s, row
from obitus.core.asking import read
from obitus.core.asking.summaries import read_summary
from obitus.core.clock import DAY_MS
from obitus.core.terms import term
from obitus.service.api.now import now
from obitus.service.wiring import Parts
from obitus.store import asking
from obitus.store.asking.counting import count
from obitus.store.asking.records import records_of
from obitus.store.errors import UNREADABLE
from obitus.store.windows import Window

PAGE: Final = 20
QUESTIONS: Final = 120
_BARE_SEARCH = "SELECT logs.* FROM words JOIN logs ON logs.place = words.rowid WHERE words MATCH ? ORDER BY logs.time_ms DESC LIMIT ?"
_BARE_COUNT = "SELECT {column}, COUNT(*) FROM {table} WHERE time_ms >= ? AND time_ms < ? GROUP BY {column}"


def measure(few: Parts, many: Parts, whole: Window) -> None:
    """Print a row for search by word, search by attribute, counts, and the page Now."""
    dice = random.Random(17)
    words = [str(dice.randrange(900)) for _ in range(QUESTIONS)]
    users = [f"p-{dice.randrange(4000)}" for _ in range(QUESTIONS)]
    ours, bare = _percentile(words, lambda word: _page(many, word, whole)), _percentile(words, lambda word: _bare_page(many, f'"{word}"', whole))  # fmt: skip
    row(f"a word, {PAGE} hits, p95 / bare text index", f"{ours:.1f} ms", f"{bare:.1f} ms", ours / bare)
    by_user = _percentile(users, lambda user: _page(many, f"user.id={user}", whole))
    row("an attribute by exact value, p95 / a word, p95", f"{by_user:.1f} ms", f"{ours:.1f} ms", by_user / ours)
    bare_user = _percentile(users, lambda user: _bare_page(many, f'"{term("user.id", user)}"', whole))
    row("an attribute by exact value, p95 / bare text index", f"{by_user:.1f} ms", f"{bare_user:.1f} ms", by_user / bare_user)  # fmt: skip
    day = Window(whole.to_ms - DAY_MS, whole.to_ms)
    for kind, field, table, column in (("failure", "entry_point", "failures", "entry_point_id"), ("log", "logger", "logs", "logger_id")):  # fmt: skip
        _counted(many, day, kind, field, _BARE_COUNT.format(table=table, column=column))
    one, other = (median_s(lambda: now(parts.records, parts.clock, day)) * 1000 for parts in (many, few))  # noqa: B023 - called at once
    row("Now, 24 hours / at a hundredth", f"{one:.1f} ms", f"{other:.1f} ms", one / other)


def _counted(parts: Parts, window: Window, kind: Any, field: str, bare: str) -> None:
    """Print a row for a count, and when its first figures are there."""
    summary, days = read_summary(f"count by {field}"), parts.records.days
    firsts: list[float] = []

    def ours() -> None:
        started = time.perf_counter()
        for place, _ in enumerate(count(parts.records.reader, days, kind, None, summary, window.from_ms, window.to_ms)):
            if place == 0:
                firsts.append((time.perf_counter() - started) * 1000)

    def floor() -> None:
        for day in days.known(window.from_ms, window.to_ms):
            with days.open(day.day) as connection:
                connection.execute(bare, (window.from_ms, window.to_ms)).fetchall()

    one, other = median_s(ours) * 1000, median_s(floor) * 1000
    row(f"count by {field} over 24 h, {kind}s / bare GROUP BY", f"{one:.1f} ms", f"{other:.1f} ms", one / other)
    print(f"    first figures after {statistics.median(firsts):.0f} ms, at the latest after {max(firsts):.0f} ms")


def _page(parts: Parts, question: str, whole: Window) -> Any:
    records = parts.records
    node = read(question, whole.to_ms)
    found = asking.find(records.reader, records.days, "log", node, whole.from_ms, whole.to_ms, most=PAGE)
    return records_of(records.days, "log", found.names, found.rows)


def _bare_page(parts: Parts, match: str, whole: Window) -> Any:
    found: list[Any] = []
    for day in parts.records.days.known(whole.from_ms, whole.to_ms):
        if len(found) >= PAGE:
            break
        try:
            with parts.records.days.open(day.day) as connection:
                found += connection.execute(_BARE_SEARCH, (match, PAGE - len(found))).fetchall()
        except UNREADABLE:
            continue
    return found


def _percentile(questions: list[str], ask: Callable[[str], Any]) -> float:
    """Return the 95th percentile of how long questions take, in milliseconds: of each the shortest of five times after the first."""
    took = []
    for question in questions:
        ask(question)
        each = []
        for _ in range(5):
            started = time.perf_counter()
            ask(question)
            each.append((time.perf_counter() - started) * 1000)
        took.append(min(each))
    return statistics.quantiles(took, n=20)[18]
