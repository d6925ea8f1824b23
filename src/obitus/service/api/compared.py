"""Rates of a release, and comparing two releases. All from rollups."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from typing import Final

from obitus.core import comparing, statistics
from obitus.core.clock import HOUR_MS, to_text
from obitus.core.comparing import KINDS, Compared, FailureRate, Pair
from obitus.core.releases import ReleaseOrder, canonical
from obitus.core.wording import count_of
from obitus.service.api import release_answers as answers
from obitus.service.api import views
from obitus.service.failure_rates import Exposed
from obitus.service.problems import Problem
from obitus.store import commits, rates
from obitus.store import releases as store
from obitus.store.apps import app_named
from obitus.store.records import Records
from obitus.store.rows.issues import IssueName
from obitus.store.rows.rates import ReleaseSums
from obitus.store.rows.releases import Deploy, ListedDeploy, Release

MOST_HOURS: Final = 336
MOST_POINTS: Final = 50
MOST_ISSUES: Final = 100


class Releases:
    """An app's releases in their order, with their ids."""

    def __init__(self, records: Records, app: str) -> None:
        row = app_named(records.reader, app)
        self.records, self.app, self.app_id = records, app, int(row.id)
        self.rows: dict[str, Release] = {
            release.version: release for release in store.releases(records.reader, self.app_id)
        }
        self.order: ReleaseOrder = store.order_of(list(self.rows.values()))

    def named(self, version: str) -> str:
        """Return the present name of a release that may be spelled differently, or had another name; the same where
        it is not known."""
        canonical_version = canonical(version)
        return (
            canonical_version
            if canonical_version in self.rows
            else store.name_of(self.records.reader, self.app_id, canonical_version) or canonical_version
        )

    def id_of(self, version: str) -> int:
        """Return a release's id; raises a problem that names similar ones."""
        row = self.rows.get(version)
        if row is None:
            newest = ", ".join(release.version for release in reversed(self.order.releases[-5:])) or "none yet"
            raise Problem(
                "not-found", f"{self.app} has no release {version[:100]!r}. Its newest are: {newest}.", field="release"
            )
        return int(row.id)


def release_rows(releases: Releases, versions: Sequence[str]) -> list[answers.ReleaseRow]:
    """Return releases for the list."""
    reader = releases.records.reader
    ids = [releases.id_of(version) for version in versions]
    brought = rates.brought_by(reader, ids)
    latest = _latest_hours(releases)
    deploys = {(deploy.release_id, deploy.environment): deploy for deploy in store.deploys_of(reader, ids)}
    sums = {(row.release_id, row.environment): row for row in rates.sums_of(reader, ids)}
    rows = []
    for version, number in zip(versions, ids, strict=True):
        places = sorted({where for release, where in (*sums, *deploys) if release == number})
        row = releases.rows[version]
        rows.append(
            answers.ReleaseRow(
                release=version,
                first_seen=views.time_text(row.first_ms),
                after=row.behind,
                revision=row.revision,
                commits=row.commits,
                new_issues=brought[number][0],
                regressed=brought[number][1],
                failing_more_often=brought[number][2],
                places=[
                    _place(
                        where,
                        deploys.get((number, where)),
                        sums.get((number, where)),
                        latest,
                    )
                    for where in places
                ],
            )
        )
    return rows


def _latest_hours(releases: Releases) -> dict[str, int]:
    """Return the last hour with runs in each environment, over the newest releases and those seen last."""
    by_time = sorted(releases.order.releases, key=lambda release: release.first_ms)[-20:]
    ids = {releases.id_of(release.version) for release in (*by_time, *releases.order.releases[-20:])}
    latest: dict[str, int] = {}
    for row in rates.sums_of(releases.records.reader, sorted(ids)):
        latest[row.environment] = max(latest.get(row.environment, 0), row.last_hour or 0)
    return latest


def _place(where: str, deploy: Deploy | None, sums: ReleaseSums | None, latest: dict[str, int]) -> answers.ReleasePlace:
    runs, broken, failures = (sums.runs, sums.failed, sums.failures) if sums else (0, 0, 0)
    first, last = (sums.first_hour, sums.last_hour) if sums else (None, None)
    return answers.ReleasePlace(
        environment=where,
        deployed=views.time_text(deploy.time_ms) if deploy else None,
        inferred=bool(deploy.inferred) if deploy else False,
        canary=bool(deploy.canary) if deploy else False,
        live=last is not None and last >= latest.get(where, 0) - 1,
        runs=runs,
        failed=broken,
        failures=failures,
        rate=views.interval(statistics.per_thousand(failures, runs)),
        clean=views.interval(statistics.wilson(runs - broken, runs)) if runs else None,
        first_run=views.time_text(first * HOUR_MS) if first is not None else None,
        last_run=views.time_text(last * HOUR_MS) if last is not None else None,
    )


def release_answer(releases: Releases, version: str, environment: str | None) -> answers.ReleaseAnswer:
    """Return one release, whole."""
    reader, number = releases.records.reader, releases.id_of(version)
    before = releases.order.before(version)
    row, *others = release_rows(releases, [version, *before[:5]])
    back = sorted(rates.regressed_in(reader, number))[:MOST_ISSUES]
    first = rates.first_in(reader, number, MOST_ISSUES)
    higher = rates.rate_regressions_of_release(reader, number)
    names = rates.issues_named(reader, {*first, *back, *(rate.issue_id for rate in higher)})
    points = sorted(
        rates.points_in(reader, [number], environment),
        key=lambda point: (-point.failed, -point.runs, point.entry_point),
    )
    live = {place.environment for place in row.places if place.live}
    beside = next(
        (other.release for other in others if live & {place.environment for place in other.places if place.live}),
        None,
    )
    return answers.ReleaseAnswer(
        **row.model_dump(),
        app=releases.app,
        previous=before[0] if before else None,
        beside=beside,
        deploys=[deploy_answer(found, releases.app) for found in store.deploys_of(reader, [number])],
        first_here=[views.issue_ref(names[issue_id]) for issue_id in first if issue_id in names],
        regressed_here=[views.issue_ref(names[issue_id]) for issue_id in back if issue_id in names],
        rate_regressions=[views.rate_regression_answer(rate, names) for rate in higher],
        entry_points=[
            answers.PointRate(
                entry_point=point.entry_point,
                runs=point.runs,
                failed=point.failed,
                refused=point.refused,
                clean=views.interval(statistics.wilson(point.runs - point.failed, point.runs)),
            )
            for point in points[:MOST_POINTS]
        ],
        latest_commits=[
            answers.CommitAnswer(
                id=commit.hash,
                time=to_text(commit.time_ms),
                author=commit.author,
                subject=commit.subject,
                files=commit.files,
            )
            for commit in commits.latest(reader, number, 20)
        ],
        hours=[
            answers.HourAnswer(time=to_text(hour.hour * HOUR_MS), runs=hour.runs, failed=hour.failed)
            for hour in rates.hours_of(reader, number, environment)[-MOST_HOURS:]
        ],
    )


def deploy_answer(row: Deploy | ListedDeploy, app: str) -> answers.DeployAnswer:
    """Return a deploy."""
    return answers.DeployAnswer(
        app=app,
        release=row.version,
        environment=row.environment,
        time=to_text(row.time_ms),
        inferred=bool(row.inferred),
        canary=bool(row.canary),
        reported_by=row.reported_by,
    )


def compare(
    releases: Releases, before: str, now: str, environment: str | None, *, same_time: bool | None
) -> answers.CompareAnswer:
    """Compare two releases; ``same_time``: only hours in which both were live, or (None) those where the later was a canary."""
    if before == now:
        raise Problem("bad-field", "A release cannot be compared with itself. Name two.", field="now")
    reader = releases.records.reader
    old, new = releases.id_of(before), releases.id_of(now)
    hours = _both_live(releases, old, new, environment)
    if same_time is None:
        same_time = bool(hours) and _is_canary(releases, new, environment)
    if same_time and not hours:
        raise Problem(
            "bad-field", f"{before} and {now} were never live in the same hour. Leave same_time out.", field="same_time"
        )
    places = rates.issues_of(reader, [old, new], environment)
    failures, points = (
        rates.in_hours(reader, old, new, hours, environment)
        if same_time
        else (places, rates.points_in(reader, [old, new], environment))
    )
    seen = Exposed(failures, points, places)
    numbers = sorted({issue for issue, _ in seen.failures})
    names = rates.issues_named(reader, numbers)
    back = rates.regressed_in(reader, new)
    pairs = [
        Pair(
            number,
            seen.issue(number, old),
            seen.issue(number, new),
            new=names[number].began_in_id == new and not seen.failures[number, old],
            regressed=number in back,
        )
        for number in numbers
        if number in names
    ]
    point_pairs = [
        Pair(point, seen.point(point, old), seen.point(point, new))
        for point in sorted({point for point, _ in seen.runs})
    ]
    issues = _answers(comparing.compare(pairs, before, now), pairs, names)
    entry_points = _answers(comparing.compare(point_pairs, before, now, shares=True), point_pairs, {})
    sides = [_side(version, release, seen) for version, release in ((before, old), (now, new))]
    counts = {kind: sum(one.kind == kind for one in issues) for kind in KINDS}
    return answers.CompareAnswer(
        app=releases.app,
        environment=environment,
        same_time=same_time,
        hours=len(hours) if same_time else 0,
        before=sides[0],
        now=sides[1],
        sentence=_sentence(releases, before, now, counts, sides, same_time=same_time, hours=len(hours)),
        issues=issues,
        entry_points=entry_points,
        counts=counts,
        false_share=statistics.FALSE_SHARE,
    )


def _both_live(releases: Releases, old: int, new: int, environment: str | None) -> list[int]:
    here = {row.hour for row in rates.hours_of(releases.records.reader, old, environment)}
    return [row.hour for row in rates.hours_of(releases.records.reader, new, environment) if row.hour in here]


def _is_canary(releases: Releases, release: int, environment: str | None) -> bool:
    rows = store.deploys_of(releases.records.reader, [release])
    latest = {row.environment: row for row in rows if environment in (None, row.environment)}
    return any(row.canary for row in latest.values())


def _side(version: str, release: int, seen: Exposed) -> answers.Side:
    runs = seen.totals[release]
    failed = sum(row.failed for (_, release_id), row in seen.runs.items() if release_id == release)
    failures = sum(n for (_, release_id), n in seen.failures.items() if release_id == release)
    return answers.Side(
        release=version,
        runs=runs,
        failed=failed,
        failures=failures,
        rate=views.interval(statistics.per_thousand(failures, runs)),
        clean=views.interval(statistics.wilson(runs - failed, runs)) if runs else None,
    )


def _answers(
    compared_all: Sequence[Compared], pairs: Sequence[Pair], names: dict[int, IssueName]
) -> list[answers.ComparedAnswer]:
    by_key: dict[Hashable, Pair] = {pair.key: pair for pair in pairs}
    ordered = sorted(
        compared_all,
        key=lambda one: (KINDS.index(one.kind), -max(by_key[one.key].now.failures, by_key[one.key].before.failures)),
    )
    return [
        answers.ComparedAnswer(
            kind=compared.kind,
            reason=compared.reason,
            issue=views.issue_ref(names[compared.key]) if isinstance(compared.key, int) else None,
            entry_point=None if isinstance(compared.key, int) else str(compared.key),
            before=_compared_side(by_key[compared.key].before),
            now=_compared_side(by_key[compared.key].now),
            factor=views.interval(compared.factor),
            chance=compared.chance,
        )
        for compared in ordered
    ]


def _compared_side(seen: FailureRate) -> answers.ComparedSide:
    return answers.ComparedSide(
        failures=seen.failures, runs=seen.runs, rate=views.interval(statistics.per_thousand(seen.failures, seen.runs))
    )


def _sentence(
    releases: Releases,
    before: str,
    now: str,
    counts: dict[comparing.Kind, int],
    sides: Sequence[answers.Side],
    *,
    same_time: bool,
    hours: int,
) -> str:
    parts = [f"{counts[kind]} {kind}" for kind in KINDS if counts[kind]]
    what = f"{now} against {before}: {', '.join(parts) if parts else 'no issue in either'}"
    clean = [f"{side.clean.value:.2%}" for side in sides if side.clean is not None]
    shares = f"; clean runs {clean[0]} before, {clean[1]} now" if len(clean) == 2 else ""
    turned = releases.order.compare(now, before)
    older = f" {now} is the older of the two." if turned is not None and turned < 0 else ""
    return f"{what}{shares}.{older}" + (
        f" Only the {count_of(hours, 'hour')} in which both were live." if same_time else ""
    )
