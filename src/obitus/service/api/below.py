"""Below the app: a request in an access log, compared with the reports of apps."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Final
from urllib.parse import urlsplit

from pydantic import BaseModel, Field

from obitus.core.asking import All, AnyOf, Compare, Node, Not
from obitus.core.clock import DAY_MS, to_ms, to_text
from obitus.core.log_files.meanings import meaning
from obitus.core.own_attributes import ACCESS_LOG
from obitus.core.timeline.reports import Reported
from obitus.service.api.answers import Time
from obitus.store.asking import find
from obitus.store.asking.records import Record, records_of
from obitus.store.records import Records

SECOND_MS: Final = 1_000
APART_MS: Final = 2 * SECOND_MS
"""The largest difference between the times of an access log and of the app: the log has whole seconds, from before
or after the answer."""
LONGEST_MS: Final = 120 * SECOND_MS
MOST_NEAR: Final = 200
MOST_LOOKED_AT: Final = 40
LIMIT_S: Final = 2.0


class WellBefore(BaseModel):
    """The same request, answered successfully before, to compare with."""

    run: str = Field(description="The id of the run.")
    time: Time
    status: int | None
    said: str = Field(description="Method and address.")


@dataclass
class Below:
    """Facts about a request in addition to the line of the access log."""

    run: str | None = None
    """The id of the app's run, where there is one."""
    notes: list[str] = field(default_factory=list)
    well: WellBefore | None = None


def below_the_app(records: Records, reported: Reported) -> Below | None:
    """Return the facts about a request of an access log; None where the report is none."""
    content = reported.content
    if content.get("kind") != "run" or ACCESS_LOG not in (content.get("attributes") or {}):
        return None
    request, run = content.get("request") or {}, content["run"]
    method, path = str(request.get("method") or ""), urlsplit(str(request.get("url") or "")).path
    time_ms = to_ms(datetime.fromisoformat(content["time"]))
    below = Below()
    status, detail = request.get("status"), str(content["attributes"].get("http.response.detail_code") or "")
    if isinstance(status, int) and status >= 400 and (means := meaning(status, detail)):
        below.notes.append(f"{detail or status}: {means}.")
    took_ms = min(LONGEST_MS, float(run.get("duration_ms") or 0.0))
    near = _near(
        records, reported.app, method, path, (round(time_ms - took_ms) - APART_MS, round(time_ms + took_ms) + APART_MS)
    )
    if near is not None:
        app, below.run = near
        below.notes.append(f"{app} ran it: the steps of that run are shown here, too.")
    elif isinstance(status, int) and status >= 400:
        below.notes.append(_nobody(records, reported.app, str(run.get("entry_point") or ""), path, time_ms))
    below.well = _well_before(records, reported, str(run.get("entry_point") or ""), path, time_ms)
    return below


def _runs(records: Records, node: Node, span: tuple[int, int], most: int) -> list[Record]:
    page = find(records.reader, records.days, "run", node, *span, most=most, limit_s=LIMIT_S)
    return records_of(records.days, "run", page.names, page.rows)


def _near(records: Records, own: str, method: str, path: str, span: tuple[int, int]) -> tuple[str, str] | None:
    """Return the app and the id of a run of another app that answered the same request at that time."""
    if not path:
        return None
    node = All((Not(Compare("app", "=", own)), Compare("request", "~", path)))
    middle = sum(span) / 2
    best: tuple[float, str, str] | None = None
    for row in _runs(records, node, (span[0], span[1] + 1), MOST_NEAR):
        values = row.values
        its_method, _, address = str(values.get("request") or "").partition(" ")
        if its_method == method and urlsplit(address).path == path and values.get("run") and values.get("app"):
            apart = abs(row.time_ms - middle)
            if best is None or apart < best[0]:
                best = (apart, str(values["app"]), str(values["run"]))
    return best[1:] if best is not None else None


def _nobody(records: Records, own: str, entry_point: str, path: str, time_ms: int) -> str:
    """Write that no app ran a request, and which app should have."""
    alike: Node = Compare("entry_point", "=", entry_point)
    if path.count("/") > 1:
        # An app may name its entry points differently from a log.
        alike = AnyOf((alike, Compare("request", "~", path)))
    node = All((Not(Compare("app", "=", own)), alike))
    others = _runs(records, node, (time_ms - DAY_MS, time_ms + DAY_MS), 1)
    if others:
        app = others[0].values.get("app")
        return f"No run of an app is known for it, though {app} answers at {path}: it ended in the web server, before it got there."
    return "No run of an app is known for it. It ended in the web server, or the app behind it does not report here."


def _well_before(records: Records, reported: Reported, entry_point: str, path: str, time_ms: int) -> WellBefore | None:
    """Return the last earlier run that answered the same path successfully, else one of the same entry point."""
    node: Node = All(
        (Compare("app", "=", reported.app), Compare("entry_point", "=", entry_point), Compare("outcome", "=", "ok"))
    )
    rows = _runs(records, node, (0, time_ms), MOST_LOOKED_AT)
    same = [row for row in rows if urlsplit(str(row.values.get("request") or "").partition(" ")[2]).path == path]
    for row in (same or rows)[:1]:
        status: Any = row.values.get("status")
        return WellBefore(
            run=str(row.values.get("run") or ""),
            time=to_text(row.time_ms),
            status=status if isinstance(status, int) else None,
            said=str(row.values.get("request") or ""),
        )
    return None
