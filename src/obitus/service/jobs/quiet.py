"""Finding quiet failures: more refusals and warnings than usual, since a release or in the last hours; jobs that did not run."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from functools import partial
from typing import Final

from obitus.core.clock import DAY_MS, HOUR_MS
from obitus.core.comparing import FailureRate, RateHistory
from obitus.core.quiet.finding import Kind, Quiet, did_not_run, more_than_usual
from obitus.store import quiet as store
from obitus.store import rates
from obitus.store import releases as release_store
from obitus.store.database import Reader
from obitus.store.records import Records
from obitus.store.rows.quiet import ReleaseInHours

MOST_EARLIER: Final = 12
"""The number of releases before one that make the usual rate."""
LATELY: Final = f"in the last {store.RECENT_MS // HOUR_MS} hours"
USUAL: Final = f"the {store.USUAL_MS // DAY_MS} days before"
PER_HOUR: Final = 1_000
"""Where no runs are counted, an hour counts as so many."""

Where = tuple[int, str, Kind]
"""App, environment and kind."""


def look(records: Records, now_ms: int) -> dict[Where, list[Quiet]]:
    """Find the present quiet failures, store and return them. Those that a release explains name the release."""
    reader = records.reader
    quiet_by_place: dict[Where, dict[str, Quiet]] = defaultdict(dict)
    for release in store.releases_lately(reader, now_ms):
        _since_release(reader, release, quiet_by_place)
    _lately(reader, now_ms, quiet_by_place)
    _jobs(reader, now_ms, quiet_by_place)
    holding = {where: list(some.values()) for where, some in quiet_by_place.items() if some}
    if holding or store.present(reader):
        records.writer.run(partial(store.keep, quiet_by_place=holding, now_ms=now_ms))
    return holding


def _add(quiet_by_subject: dict[str, Quiet], some: Iterable[Quiet]) -> None:
    for quiet_failure in some:
        quiet_by_subject.setdefault(quiet_failure.subject, quiet_failure)


def _since_release(reader: Reader, release: ReleaseInHours, quiet_by_place: dict[Where, dict[str, Quiet]]) -> None:
    ids = {row.version: int(row.id) for row in release_store.releases(reader, release.app_id)}
    earlier = release_store.order(reader, release.app_id).before(release.version)[:MOST_EARLIER]
    before = [(name, ids[name]) for name in earlier if name in ids]
    if not before or not release.version:
        return
    numbers = [release.release_id, *(number for _, number in before)]
    runs: dict[tuple[str, int], FailureRate] = {}
    in_all: dict[int, int] = defaultdict(int)
    for row in rates.points_in(reader, numbers, release.environment):
        runs[row.entry_point, row.release_id] = FailureRate(row.refused, row.runs)
        in_all[row.release_id] += row.runs
    warned = {
        (row.said, row.release_id): row.records
        for row in store.warned_in(reader, release.app_id, numbers)
        if row.environment == release.environment
    }
    now = f"in release {release.version}"

    def histories(subjects: Iterable[str], of: dict[tuple[str, int], FailureRate]) -> list[RateHistory]:
        nothing = FailureRate(0, 0)
        return [
            RateHistory(
                subject,
                of.get((subject, release.release_id), nothing),
                tuple((name, of.get((subject, number), nothing)) for name, number in before),
            )
            for subject in subjects
        ]

    points = {point for point, number in runs if number == release.release_id}
    where = (release.app_id, release.environment)
    _add(quiet_by_place[*where, "refused"], more_than_usual(histories(points, runs), "refused", now))
    texts = {text for text, number in warned if number == release.release_id}
    beside = {
        (text, number): FailureRate(warned.get((text, number), 0), in_all[number])
        for text in texts
        for number in numbers
    }
    _add(quiet_by_place[*where, "warning"], more_than_usual(histories(texts, beside), "warning", now))


def _lately(reader: Reader, now_ms: int, quiet_by_place: dict[Where, dict[str, Quiet]]) -> None:
    runs: dict[tuple[int, str], dict[str, list[FailureRate]]] = defaultdict(dict)
    in_all: dict[tuple[int, str], list[int]] = defaultdict(lambda: [0, 0])
    for row in store.points_lately(reader, now_ms):
        seen = runs[row.app_id, row.environment].setdefault(row.entry_point, [FailureRate(0, 0), FailureRate(0, 0)])
        seen[row.recent] = FailureRate(row.refused, row.runs)
        in_all[row.app_id, row.environment][row.recent] += row.runs
    for (app_id, environment), points in runs.items():
        histories = [RateHistory(point, now, ((USUAL, before),)) for point, (before, now) in points.items()]
        _add(quiet_by_place[app_id, environment, "refused"], more_than_usual(histories, "refused", LATELY))
    warned: dict[tuple[int, str], dict[str, list[int]]] = defaultdict(dict)
    for warning in store.warned_lately(reader, now_ms):
        warned[warning.app_id, warning.environment].setdefault(warning.said, [0, 0])[warning.recent] = warning.records
    for (app_id, environment), by_text in warned.items():
        usual, lately = in_all[app_id, environment]
        if not usual or not lately:
            # An app that counts no runs: its hours count instead.
            usual, lately = (length // HOUR_MS * PER_HOUR for length in (store.USUAL_MS, store.RECENT_MS))
        histories = [
            RateHistory(text, FailureRate(now, lately), ((USUAL, FailureRate(before, usual)),))
            for text, (before, now) in by_text.items()
        ]
        _add(quiet_by_place[app_id, environment, "warning"], more_than_usual(histories, "warning", LATELY))


def _jobs(reader: Reader, now_ms: int, quiet_by_place: dict[Where, dict[str, Quiet]]) -> None:
    hours: dict[tuple[int, str], dict[str, list[int]]] = defaultdict(lambda: defaultdict(list))
    for row in store.job_hours(reader, now_ms):
        hours[row.app_id, row.environment][row.entry_point].append(row.hour)
    for (app_id, environment), jobs in hours.items():
        _add(quiet_by_place[app_id, environment, "silent"], did_not_run(jobs, now_ms))
