"""Storing reports in the caller's transaction, each by its kind."""

from __future__ import annotations

import sqlite3
from collections.abc import Sequence
from dataclasses import replace

from obitus.store.days.writing import WritingDays
from obitus.store.grouping import WantsWhole
from obitus.store.intake import failures, tallies
from obitus.store.intake.batch import Batch
from obitus.store.intake.facts import Prepared, Taken
from obitus.store.names import OTHERS


def take(connection: sqlite3.Connection, days: WritingDays, reports: Sequence[Prepared]) -> list[Taken]:
    """Write reports in the caller's transaction.

    A report that is already there changes nothing, except a tally that has grown: its additional runs are counted.
    """
    batch = Batch(connection, days)
    taken = [_take_one(batch, report) for report in reports]
    batch.write_rows()
    batch.note()
    return taken


def _take_one(batch: Batch, report: Prepared) -> Taken:
    release = batch.release_of(report)
    seq, is_new = batch.number(report, release.id)
    if not is_new:
        return Taken(already_there=not tallies.has_grown(batch, seq, report))
    if report.failure is not None:
        try:
            taken = failures.add(batch, report, report.failure, seq, release.id)
        except WantsWhole as wants:
            batch.give_back(report, seq)
            return Taken(already_there=False, wants_whole=True, is_wanted=wants.is_wanted)
        return replace(taken, beyond=release.beyond)
    batch.add_rows(seq, report, release.id)
    if report.tally is not None:
        counted = tallies.count(batch, report, report.tally, seq, release.id)
        return Taken(already_there=False, beyond=release.beyond, among_others=counted == OTHERS)
    hit_of = 0
    if report.log is not None:
        if report.log.warns:
            batch.warn(report, report.log, release.id)
        hit_of = report.log.tracepoint
        if hit_of:
            batch.hit(report, hit_of)
    if report.run is not None:
        batch.calls.add(report.run, report.app_id, release.id, report.environment, report.time_ms, report.received_ms)
    return Taken(already_there=False, beyond=release.beyond, hit_of=hit_of)
