"""Analyses while reports arrive: rate regressions of releases, and issues that a fix revealed."""

from __future__ import annotations

from itertools import groupby
from typing import Any, ClassVar, Final

from obitus.core.changes.revealing import WINDOW_MS, Story, lies_behind
from obitus.core.comparing import RateHistory, RateRegression, rate_regressions
from obitus.core.lifecycle import has_fix
from obitus.service.clock import Clock
from obitus.service.failure_rates import Exposed
from obitus.service.intake.chains import chain_of
from obitus.service.jobs.runner import Job
from obitus.store import events, rates, revealings
from obitus.store import issues as issue_store
from obitus.store import releases as store
from obitus.store.database import Reader
from obitus.store.events import Event
from obitus.store.records import Records

MOST_EARLIER: Final = 12
"""The number of releases before one that make the usual rate."""

Place = tuple[int, int, str]
"""App, release and environment, by their ids and name."""


class Watching(Job):
    """Compares the rates of releases some seconds after their reports came, and checks each new issue once."""

    name: ClassVar = "watching"
    kinds: ClassVar = frozenset[events.Kind]({"issue-new"})
    rest_s: ClassVar = 10.0
    longest_rest_s: ClassVar = 40.0

    def __init__(self, records: Records, clock: Clock) -> None:
        self._records, self._clock = records, clock

    def take(self, event: Event) -> None:
        """Find out whether a new issue was revealed by the fix of another."""
        self._revealed(event.subject["issue"])

    def finish_turn(self) -> None:
        """Compare the rates of releases with new reports, which the store marks: there is no event for each report."""
        due = rates.due(self._records.reader)
        for app_id, rows in groupby(due, key=lambda row: int(row.app_id)):
            places = list(rows)
            self._rates(app_id, [(row.version, row.environment) for row in places])
            # Marks with reports meanwhile have another count, and stay.
            self._records.writer.run(lambda c, places=places: rates.looked_at(c, places))  # type: ignore[misc]

    def _rates(self, app_id: int, places: list[tuple[str, str]]) -> None:
        reader = self._records.reader
        ids = {row.version: int(row.id) for row in store.releases(reader, app_id)}
        order = store.order(reader, app_id)
        failed = {
            (row.release_id, row.environment)
            for row in rates.sums_of(reader, [ids[version] for version, _ in places if version in ids])
            if row.failures or row.failed
        }
        for version, environment in places:
            # A release without failures has none: with a release for each commit that is most of them.
            earlier = order.before(version)[:MOST_EARLIER]
            if earlier and version in ids and (ids[version], environment) in failed:
                self._rates_of(ids[version], [(name, ids[name]) for name in earlier], environment)

    def _rates_of(self, release: int, before: list[tuple[str, int]], environment: str) -> None:
        histories, point_histories = histories_of(self._records.reader, release, before, environment)
        found: list[RateRegression] = [*rate_regressions(histories), *rate_regressions(point_histories, shares=True)]
        now_ms = self._clock.now_ms()
        self._records.writer.run(lambda c: rates.keep_rate_regressions(c, release, environment, found, now_ms))

    def _revealed(self, number: int) -> None:
        issue = issue_store.issue(self._records.reader, number)
        point = issue.entry_point
        candidates = revealings.settled_on(self._records.reader, issue.app_id, point, number) if point else []
        if not candidates:
            return
        order = store.order(self._records.reader, issue.app_id)
        later = self._records.evidence.content(issue.first_seq)
        if later is None:
            return
        for other in candidates:
            settling = issue_store.settling_of(other)
            came_ms = order.first_ms(settling.release) or settling.time_ms
            if not 0 <= issue.first_ms - came_ms <= WINDOW_MS:
                continue
            if not has_fix(settling, issue.began_in or None, order, issue.first_ms)[0]:
                continue
            earlier = self._records.evidence.content(other.last_seq)
            reason = lies_behind(story_of(earlier), story_of(later)) if earlier is not None else None
            if reason is not None:
                self._keep_revealed(number, other.id, point, reason)
                return

    def _keep_revealed(self, number: int, by: int, point: str, reason: str) -> None:
        now_ms = self._clock.now_ms()
        self._records.writer.run(lambda c: revealings.add(c, number, by, point, reason, now_ms))


def story_of(content: dict[str, Any]) -> Story:
    """Return the progress of a run, from a failure's report."""
    steps = [(step["kind"], step.get("message", "")) for step in content.get("trail", ()) if step["kind"] != "failure"]
    around = {
        (frame.get("file", ""), frame.get("line")): (
            frame["source"].get("before", ()),
            frame["source"].get("after", ()),
        )
        for link in content["exceptions"]
        for frame in link.get("frames", ())
        if frame.get("source")
    }
    return Story(chain_of(content), steps, around)


def histories_of(
    reader: Reader, release: int, before: list[tuple[str, int]], environment: str
) -> tuple[list[RateHistory], list[RateHistory]]:
    """Return the counts of a release's issues and entry points, in it and in the releases before it."""
    ids = [release, *(number for _, number in before)]
    rows = rates.issues_of(reader, ids, environment)
    seen = Exposed(rows, rates.points_in(reader, ids, environment), rows)
    histories = [
        RateHistory(
            issue, seen.issue(issue, release), tuple((name, seen.issue(issue, version)) for name, version in before)
        )
        for issue, failed_in in seen.failures
        if failed_in == release
    ]
    point_histories = [
        RateHistory(
            point, seen.point(point, release), tuple((name, seen.point(point, version)) for name, version in before)
        )
        for (point, ran_in), row in seen.runs.items()
        if ran_in == release and row.failed
    ]
    return histories, point_histories
