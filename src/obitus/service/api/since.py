"""Since when an issue exists, whether its fix held, and which change likely caused it."""

from __future__ import annotations

from typing import Any, Final

from obitus.core import fix_verdict, statistics
from obitus.core.changes.ranking import likely_changes, named_by
from obitus.core.clock import DAY_MS, HOUR_MS, to_text
from obitus.core.fix_verdict import Held, Traffic
from obitus.core.lifecycle import Settling, has_fix
from obitus.core.releases import ReleaseOrder
from obitus.core.wording import count_of, minute_of, span
from obitus.service.api import release_answers as answers
from obitus.service.api import views
from obitus.service.clock import Clock
from obitus.service.intake.chains import chain_of
from obitus.store import commits, rates
from obitus.store import issues as issue_store
from obitus.store import releases as store
from obitus.store.records import Records
from obitus.store.revealings import revealed, revealed_by
from obitus.store.rows.issues import IssueName, Revealing
from obitus.store.rows.releases import Deploy

MOST_LANE: Final = 40
LOOK_BACK: Final = 30
"""The number of releases before the fix that make the old rate."""


class _Issue:
    """State shared by the functions below: the issue, its app's releases in order, its failures and runs by release."""

    def __init__(self, records: Records, clock: Clock, number: int) -> None:
        self.records, self.clock = records, clock
        self.row = issue_store.issue(records.reader, number)
        self.number, self.app_id = number, int(self.row.app_id)
        releases = store.releases(records.reader, self.app_id)
        self.order: ReleaseOrder = store.order_of(releases)
        self.ids: dict[str, int] = {row.version: row.id for row in releases}
        self.commits: dict[str, int] = {row.version: row.commits for row in releases}
        self.points = rates.points_of(records.reader, number)
        self.seen = [row for row in rates.issue_by_release(records.reader, number) if row.version]
        settled = self.row.state in ("settled", "regressed")
        self.settlings = issue_store.settlings(records.reader, number) if settled else []
        self.rate_regressions = rates.rate_regressions_of_issue(records.reader, number)

    def failures(self, versions: set[str], environment: str | None) -> int:
        """Return failures in these releases."""
        return sum(
            row.failures for row in self.seen if row.version in versions and environment in (None, row.environment)
        )

    def runs(self, versions: list[str], environment: str | None) -> int:
        """Return runs of the issue's entry points in these releases."""
        wanted = [self.ids[version] for version in versions if version in self.ids]
        found = rates.runs_by_release(self.records.reader, self.points, wanted)
        return sum(runs for (_, where), runs in found.items() if environment in (None, where))


def since_answer(records: Records, clock: Clock, number: int) -> answers.SinceAnswer:
    """Return everything about an issue and its app's releases; raises NotThere."""
    issue = _Issue(records, clock, number)
    higher = [views.rate_regression_answer(row, {}) for row in issue.rate_regressions]
    behind = revealed_by(records.reader, number)
    others = revealed(records.reader, number)
    names = rates.issues_named(records.reader, [row.other for row in (*behind, *others)])
    links = [_revealed(row, names) for row in (*behind, *others) if row.other in names]
    return answers.SinceAnswer(
        sentence=_sentence(issue),
        lane=_lane(issue, {one.release for one in higher if one.sure}),
        verdicts=[_verdict(issue, settling) for settling in issue.settlings],
        revealed_by=links[0] if behind and links else None,
        revealed=links[len(behind) :],
        rate_regressions=higher,
        changes=_changes(issue),
        releases=[release.version for release in reversed(issue.order.releases)][:200],
    )


def _revealed(row: Revealing, names: dict[int, IssueName]) -> answers.RevealedAnswer:
    return answers.RevealedAnswer(
        issue=views.issue_ref(names[row.other]), entry_point=row.entry_point, reason=row.reason
    )


def _sentence(issue: _Issue) -> str:
    """Write since when in one sentence, from the numbers of the releases."""
    if not issue.seen:
        return "It was reported without a release, so there is no telling since which one it is there."
    first = min(issue.seen, key=lambda row: row.first_ms)
    version, environment = first.version, first.environment
    deploys = store.deploys_of(issue.records.reader, [first.release_id])
    deployed_before = [row for row in deploys if row.environment == environment and row.time_ms <= first.first_ms]
    if deployed_before and not deployed_before[-1].inferred:
        after = f", {_long(first.first_ms - deployed_before[-1].time_ms)} after its deploy to {environment}"
    elif deployed_before and first.first_ms == deployed_before[-1].time_ms:
        after = f", with its very first report from {environment}"
    else:
        after = (
            f", {_long(first.first_ms - deployed_before[0].time_ms)} after its first report from {environment}"
            if deployed_before
            else ""
        )
    before = ""
    for earlier in issue.order.before(version)[:LOOK_BACK]:
        runs = issue.runs([earlier], environment)
        if runs and not issue.failures({earlier}, None):
            before = f"; none in {earlier} over {count_of(runs, 'run')}"
            break
        if runs or issue.failures({earlier}, None):
            break
    return f"First in {version}{after}{before}."


def _long(length_ms: int) -> str:
    minutes = length_ms // 60_000
    if minutes < 120:
        return count_of(minutes, "minute") if minutes else count_of(length_ms // 1000, "second")
    return span(length_ms).replace(" h", " hours")


def _lane(issue: _Issue, higher_in: set[str]) -> list[answers.LaneEntry]:
    seen = {row.version for row in issue.seen}
    order = issue.order
    settled = {settling.release for settling in issue.settlings}
    versions = [release.version for release in order.releases]
    if len(versions) > MOST_LANE:
        # Releases next to events, and the newest.
        keep = set(versions[-8:])
        for i, version in enumerate(versions):
            if version in seen or version in settled:
                keep.update(versions[max(0, i - 1) : i + 2])
        versions = [version for version in versions if version in keep][-MOST_LANE:]
    ids = [issue.ids[version] for version in versions]
    runs = rates.runs_by_release(issue.records.reader, issue.points, ids)
    deploys: dict[str, Deploy] = {}
    for row in store.deploys_of(issue.records.reader, ids):
        deploys.setdefault(row.version, row)
    # A fix made now has no release; with several environments the first represents all.
    fixes = [settling for settling in issue.settlings[:1] if settling.how != "now"]
    entries = []
    for version in versions:
        rows = [row for row in issue.seen if row.version == version]
        ran = sum(n for (release, _), n in runs.items() if release == issue.ids[version])
        failures = sum(row.failures for row in rows)
        first_ms = order.first_ms(version)
        entries.append(
            answers.LaneEntry(
                release=version,
                failures=failures,
                runs=ran,
                rate=views.interval(statistics.per_thousand(failures, ran)),
                environments={row.environment: row.failures for row in rows},
                deployed=views.time_text(deploys[version].time_ms) if version in deploys else None,
                inferred=bool(deploys[version].inferred) if version in deploys else False,
                last_seen=views.time_text(max((row.last_ms for row in rows), default=None)),
                has_fix=has_fix(fixes[0], version, order, first_ms or 0)[0] if fixes else None,
                fails_more_often=version in higher_in,
            )
        )
    return entries


def _verdict(issue: _Issue, settling: Settling) -> answers.VerdictAnswer:
    verdict = _held_since_time(issue, settling) if settling.how == "now" else _held_in_releases(issue, settling)
    return answers.VerdictAnswer(
        verdict=verdict.verdict,
        environment=settling.environment,
        settled=settling.said,
        reason=verdict.reason,
        confidence=verdict.confidence,
        expected=verdict.expected,
        failures=verdict.failures,
        runs=verdict.exposed,
        ready=views.time_text(verdict.ready_ms),
    )


def _held_in_releases(issue: _Issue, settling: Settling) -> Held:
    """Judge a fix with a release: releases that have it against those before it with the issue."""
    order, environment, now_ms = issue.order, settling.environment or None, issue.clock.now_ms()
    fixed = [
        r
        for r in order.releases
        if r.first_ms != store.NOT_COME_MS and has_fix(settling, r.version, order, r.first_ms)[0]
    ]
    names = {release.version for release in fixed}
    began = min((order.places[row.version] for row in issue.seen), default=0)
    without = [release.version for release in order.releases[began:] if release.version not in names][-LOOK_BACK:]
    came_ms = min((release.first_ms for release in fixed), default=None)
    fix = settling.release or "the coming release"
    failures_before, failures_since = issue.failures(set(without), environment), issue.failures(names, environment)
    runs_before, runs_since = issue.runs(without, environment), issue.runs(sorted(names), environment)
    if came_ms is None or (runs_before and (runs_since or now_ms - came_ms < DAY_MS)):
        before, since = Traffic(failures_before, runs_before), Traffic(failures_since, runs_since)
        per_hour = _per_hour(issue, environment, [issue.ids[name] for name in names], came_ms or now_ms)
        return fix_verdict.verdict(
            before, since, unit="runs", fix=fix, per_hour=per_hour, now_ms=now_ms, came=came_ms is not None
        )
    lasted = max(1.0, (came_ms - issue.row.first_ms) / HOUR_MS)
    before, since = Traffic(failures_before, lasted), Traffic(failures_since, max(0.0, (now_ms - came_ms) / HOUR_MS))
    return fix_verdict.verdict(before, since, unit="hours", fix=fix, per_hour=1, now_ms=now_ms, came=True)


def _held_since_time(issue: _Issue, settling: Settling) -> Held:
    """Judge a fix at a time, in any release: hours since against hours before."""
    environment, now_ms, at_ms = settling.environment or None, issue.clock.now_ms(), settling.time_ms
    hour = at_ms // HOUR_MS
    first_hour = max(issue.row.first_ms // HOUR_MS, hour - 24 * 28)
    counted = rates.failures_by_hour(issue.records.reader, issue.number, environment)
    edge = rates.failures_between(issue.records.reader, issue.number, at_ms, (hour + 1) * HOUR_MS, environment)
    failures_since = edge + sum(n for at, n in counted.items() if at > hour)
    failures_before = sum(n for at, n in counted.items() if first_hour <= at <= hour) - edge
    runs = rates.runs_by_hour(issue.records.reader, issue.app_id, issue.points, first_hour, environment, None)
    share = (at_ms - hour * HOUR_MS) / HOUR_MS
    runs_before = sum(n for at, n in runs.items() if at < hour) + runs.get(hour, 0) * share
    runs_since = sum(n for at, n in runs.items() if at > hour) + runs.get(hour, 0) * (1 - share)
    fix = f"it was settled on {minute_of(to_text(at_ms))} UTC"
    if runs_before:
        per_hour = _per_hour(issue, environment, None, at_ms)
        before, since = Traffic(failures_before, runs_before), Traffic(failures_since, runs_since)
        return fix_verdict.verdict(before, since, unit="runs", fix=fix, per_hour=per_hour, now_ms=now_ms, came=True)
    before = Traffic(failures_before, max(1.0, (at_ms - first_hour * HOUR_MS) / HOUR_MS))
    since = Traffic(failures_since, (now_ms - at_ms) / HOUR_MS)
    return fix_verdict.verdict(before, since, unit="hours", fix=fix, per_hour=1, now_ms=now_ms, came=True)


def _per_hour(issue: _Issue, environment: str | None, releases: list[int] | None, since_ms: int) -> float:
    """Return runs an hour over the last day, or since the fix where that is shorter."""
    now_ms = issue.clock.now_ms()
    hours = min(24, max(1, (now_ms - since_ms) // HOUR_MS))
    first = now_ms // HOUR_MS - hours
    found = rates.runs_by_hour(issue.records.reader, issue.app_id, issue.points, first, environment, releases)
    return sum(found.values()) / hours


def _changes(issue: _Issue) -> list[answers.ChangesAnswer]:
    """Rank the commits of the release in which the issue began, and of those in which it regressed."""
    changes: list[answers.ChangesAnswer] = []
    first = min(issue.seen, key=lambda row: row.first_ms, default=None)
    verdicts: dict[str, tuple[str, int]] = {}
    if first is not None:
        verdicts[first.version] = ("it began", issue.row.first_seq)
    for row in issue_store.regressions(issue.records.reader, issue.number):
        verdicts.setdefault(row.version, ("it regressed", row.seq))
    for rate in issue.rate_regressions:
        seen_row = next((row for row in issue.seen if row.version == rate.version), None)
        if seen_row is not None:
            seq = issue_store.failure_at(issue.records.reader, issue.number, seen_row.first_ms)
            verdicts.setdefault(rate.version, ("it fails more often", seq))
    for version, (what, seq) in list(verdicts.items())[:4]:
        if version not in issue.ids:
            continue
        in_all = issue.commits.get(version, 0)
        likely: list[answers.LikelyChangeAnswer] = []
        content = issue.records.evidence.content(seq) if in_all else None
        if content is not None:
            chain = chain_of(content)
            candidates = commits.candidates(issue.records.reader, issue.ids[version], *named_by(chain))
            likely = [
                answers.LikelyChangeAnswer(
                    commit=_commit(ranked.commit), score=ranked.score, reasons=list(ranked.reasons)
                )
                for ranked in likely_changes(chain, candidates)
            ]
            note = "" if likely else f"None of the {count_of(in_all, 'commit')} of {version} touches the failing stack."
        elif in_all:
            note = "The stack of its failure is no longer kept, so its commits cannot be compared with it."
        else:
            note = (
                f"No commits of {version} are known. Where the repository is: "
                f"obitus release add {version} --app {issue.row.app} --git PATH"
            )
        changes.append(
            answers.ChangesAnswer(release=version, what=what, commits_in_all=in_all, note=note, commits=likely)
        )
    return changes


def _commit(commit: Any) -> answers.CommitAnswer:
    return answers.CommitAnswer(
        id=commit.id,
        time=to_text(commit.time_ms),
        author=commit.author,
        subject=commit.subject,
        files=len(commit.files),
    )
