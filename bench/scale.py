"""Pages, questions and the removal of a day with 1,000,000 failures and 10,000,000 log records, against a hundredth of both.

Both stores have the same apps, releases and issues over thirty days: what differs is how much was reported. Sizes in thousands may
be given: ``python -m bench.scale 200 2000`` takes a fifth.
"""

from __future__ import annotations

import json
import random
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from bench import asking as questions
from bench.measuring import median_s, row
from bench.releases.streams import NothingFurther
from obitus.core.asking import read
from obitus.core.clock import DAY_MS, HOUR_MS, to_text
from obitus.core.days import day_of
from obitus.core.ids import uuid7
from obitus.service.api import compared, views
from obitus.service.api import issues as issues_api
from obitus.service.api import person as person_api
from obitus.service.api import timeline as timeline_api
from obitus.service.settings import Settings, system_clock_ms
from obitus.service.wiring import Parts
from obitus.store import apps, asking
from obitus.store import issues as issue_store
from obitus.store.asking.finding import names_in
from obitus.store.asking.issues import asked_of_issues
from obitus.store.days.failures import row_of
from obitus.store.days.logs import facts_of
from obitus.store.grouping import Decided
from obitus.store.intake.facts import FailureFacts, Prepared, TallyFacts
from obitus.store.intake.taking import take
from obitus.store.people import Person
from obitus.store.removing_days import remove_day
from obitus.store.windows import Window

FAILURES, LOGS = 1_000_000, 10_000_000
DAYS, ISSUES, RELEASES, BATCH, TALLIES = 30, 200, 12, 1000, 2000
TRACE, PERSON, STORY, STORY_AT_MS = "cd" * 16, "p-who", 40, 3 * HOUR_MS
HOST = "pier-99"
OWNER = Person(1, "owner", "owner", False, False, "bench")
CONTENT = {"kind": "failure", "exceptions": [{"type": "Tide", "message": "no depth", "frames": []}]}


def filled(folder: Path, failures: int, logs: int, end_ms: int, days: int = DAYS) -> Parts:
    """Return a service over a store with so much in it, until a time; what is reported goes through intake's own last step."""
    service = Parts(Settings(data=folder, port=0))
    service.passes.ensure_owner()
    service.records.writer.run(lambda c: apps.add_app(c, "sailings", "script", 0))
    dice = random.Random(11)
    start_ms = end_ms - days * DAY_MS
    # The same evidence for all: only the page of one failure reads more of it than the time.
    content = CONTENT | {"time": to_text(end_ms - DAY_MS)}
    body, _ = service.records.evidence.pack(json.dumps(content).encode())
    templates = [(f"berth %d of pier {pier} is free", f"sailings.pier{pier}") for pier in range(40)]

    def failure(time_ms: int) -> Prepared:
        issue = dice.randrange(ISSUES)
        point = f"GET /berths/{issue % 40}"
        attributes = {"user.id": f"p-{dice.randrange(4000)}", "host.name": f"pier-{dice.randrange(8)}"}
        at = row_of(
            content
            | {
                "exceptions": [{"type": f"Tide{issue}", "message": "no depth"}],
                "attributes": attributes,
                "run": {"entry_point": point},
            }
        )
        facts = FailureFacts(
            "ERROR", False, f"Tide{issue}", "", "sailings.tides.depth_at", "no depth", point, f"p-{dice.randrange(4000)}", None,
            Decided(f"3-{issue}", None, NothingFurther()), at,
        )  # fmt: skip
        return prepared("failure", time_ms, body=body, failure=facts)

    def log(time_ms: int, more: dict[str, Any] | None = None) -> Prepared:
        template, logger = dice.choice(templates)
        attributes = {"host.name": f"pier-{dice.randrange(8)}", "user.id": f"p-{dice.randrange(4000)}"}
        content = {"severity": "INFO", "logger": logger, "template": template, "message": template % dice.randrange(900), "attributes": attributes}  # fmt: skip
        if dice.random() < 0.2:
            content["trace_id"] = f"{dice.getrandbits(128):032x}"
        return prepared("log", time_ms, log=facts_of(content | (more or {})))

    def prepared(kind: Any, time_ms: int, **more: Any) -> Prepared:
        one = uuid7(time_ms, dice.randbytes(10)).bytes
        release = f"1.{(time_ms - start_ms) * RELEASES // (days * DAY_MS)}.0"
        return Prepared(one, kind, 1, "production", release, time_ms, time_ms, day_of(one, time_ms), **more)

    def tally(time_ms: int) -> Prepared:
        facts = TallyFacts(f"GET /berths/{dice.randrange(40)}", dice.choice(("ok", "ok", "ok", "failed")), 100, False, 200, dice.choice((5.0, 25.0, 100.0)))  # fmt: skip
        return prepared("tally", time_ms, tally=facts)

    # Day by day, as reports come.
    for day in range(days):
        # As many in either store: they are counted, whatever the traffic.
        tallies = [tally(start_ms + day * DAY_MS + i * DAY_MS // TALLIES) for i in range(TALLIES)]
        service.records.writer.run(partial(take, days=service.records.writer.days, reports=tallies), timeout_s=600)
        for make, in_all in ((failure, failures), (log, logs)):
            count = in_all // days
            for begin in range(0, count, BATCH):
                part = [
                    make(start_ms + day * DAY_MS + (begin + i) * DAY_MS // count)
                    for i in range(min(BATCH, count - begin))
                ]
                service.records.writer.run(partial(take, days=service.records.writer.days, reports=part), timeout_s=600)
    # One story that is the same in either store.
    ours = {"trace_id": TRACE, "attributes": {"user.id": PERSON, "host.name": HOST}}
    told = [log(start_ms + (days - 1) * DAY_MS + STORY_AT_MS + i * 20, ours) for i in range(STORY)]
    service.records.writer.run(partial(take, days=service.records.writer.days, reports=told), timeout_s=600)
    return service


def measure(folder: Path, failures: int = FAILURES, logs: int = LOGS) -> None:
    """Print a row for each page and question, and one for the removal of a day."""
    # Both stores end at the same time, and the window with them: with the last day that was whole, so that it is all one at what time of a day this runs.
    now_ms = system_clock_ms() // DAY_MS * DAY_MS
    few, many = (
        filled(folder / "few", failures // 100, logs // 100, now_ms),
        filled(folder / "many", failures, logs, now_ms),
    )
    whole = Window(now_ms - DAYS * DAY_MS, now_ms)

    def question(text: str) -> Callable[[Parts], Any]:
        node = read(text, now_ms)
        return lambda s: asking.find(s.records.reader, s.records.days, "log", node, whole.from_ms, whole.to_ms)

    def issues_asked(text: str) -> Callable[[Parts], Any]:
        node = read(text, now_ms)

        def ask(s: Parts) -> Any:
            asked = asked_of_issues(node, s.records.days, names_in(s.records.reader), (whole.from_ms, whole.to_ms))
            return issue_store.issues(s.records.reader, whole, asked=asked)

        return ask

    def timeline(s: Parts, **of: str) -> Any:
        given = dict.fromkeys(("failure", "run", "trace", "user", "host", "at", "around")) | of
        return timeline_api.timeline(s.records, s.clock, **given)  # type: ignore[arg-type]

    then = to_text(now_ms - DAY_MS + STORY_AT_MS)
    readings: dict[str, Callable[[Parts], Any]] = {
        "desk, 30 days": lambda s: issues_api.desk(s.records, s.clock, whole, OWNER),
        "list of issues, 30 days": lambda s: (views.issue_rows(s.records, issue_store.issues(s.records.reader, whole), whole, s.clock.now_ms()), issue_store.sums(s.records.reader, whole)),
        "one issue": lambda s: views.issue_answer(s.records, s.clock, 3, whole),
        "failures of an issue, a page": lambda s: issue_store.failures(s.records.reader, 3, whole),
        "list of releases": lambda s: compared.release_rows(known := compared.Releases(s.records, "sailings"), [r.version for r in known.order.releases[-20:]]),
        "issues: type~tide1 failures>3": issues_asked("type~tide1 failures>3"),
        "timeline of a trace": lambda s: timeline(s, trace=TRACE),
        "timeline of a user, 5 minutes around": lambda s: timeline(s, user=PERSON, at=then, around="5m"),
        "timeline of a host, 1 minute around": lambda s: timeline(s, host=HOST, at=then, around="1m"),
        "what happened to a person, half an hour around": lambda s: person_api.person(s.records, s.clock, PERSON, then, "30m"),
        "newest logs, a page": lambda s: asking.find(s.records.reader, s.records.days, "log", None, whole.from_ms, whole.to_ms),
        "logs: host.name=pier-3 berth": question("host.name=pier-3 berth"),
        "logs: user.id=p-77": question("user.id=p-77"),
        "logs: a trace that is nowhere": question(f"trace_id={'ab' * 16}"),
    }  # fmt: skip
    for name, work in readings.items():
        one, other = median_s(lambda: work(many)) * 1000, median_s(lambda: work(few)) * 1000  # noqa: B023 - called at once
        row(f"{name}: {failures:,} and {logs:,} / a hundredth", f"{one:.1f} ms", f"{other:.1f} ms", one / other)
    questions.measure(few, many, whole)
    to_remove = filled(folder / "one", 0, logs // 5, now_ms, days=2)
    _removal(to_remove)
    for service in (few, many, to_remove):
        service.close()


def _removal(service: Parts) -> None:
    """Remove a day in the middle while something else is written all the time; print how long the longest of that took."""
    day = max(service.records.days.known(), key=lambda day: int(day.reports))
    longest, stop = 0.0, threading.Event()

    def write() -> None:
        nonlocal longest
        while not stop.is_set():
            started = time.perf_counter()
            service.records.writer.run(lambda c: c.execute("UPDATE days SET reports = reports WHERE day = -1"))
            longest = max(longest, time.perf_counter() - started)

    writing = threading.Thread(target=write)
    writing.start()
    time.sleep(1)
    before, longest = longest, 0.0
    started = time.perf_counter()
    remove_day(service.records.writer, service.records.days, day.day, service.clock.now_ms(), "after 15 days")
    took = time.perf_counter() - started
    stop.set()
    writing.join()
    row(f"a day of {day.reports:,} reports removed, longest wait of a writer / before", f"{longest * 1000:.1f} ms", f"{before * 1000:.1f} ms", longest / before)  # fmt: skip
    print(f"    the removal itself took {took * 1000:.0f} ms")


if __name__ == "__main__":
    sizes = [int(one) * 1000 for one in sys.argv[1:]] or [FAILURES, LOGS]
    with tempfile.TemporaryDirectory() as place:
        measure(Path(place), *sizes)
