"""From stored firings to the text of a message."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Sequence
from typing import Any, Final
from urllib.parse import urlencode

from obitus.core.alerting.conditions import Happens, Measured, measure_said, read_condition
from obitus.core.alerting.letters import MOST_PARTS, FiringSummary, Letter, MessageAction, lasted, title_of
from obitus.core.asking.reading import QuestionTrouble
from obitus.core.clock import to_text
from obitus.core.headline import Headline
from obitus.core.priority import LEVELS
from obitus.core.wording import count_of
from obitus.store import issues as issue_store
from obitus.store.alerts import firings
from obitus.store.records import Records
from obitus.store.rows.alerts import FiringRow, LinkAct, MessageRow
from obitus.store.rows.issues import Issue

_ACTS: Final[dict[LinkAct, str]] = {"accept": "Accept", "park": "Park it", "silence": "Silence it for a day"}


class Composer:
    """Writes messages. ``home`` is the address of the console, without a slash at its end."""

    def __init__(self, records: Records, home: str) -> None:
        self._records, self._home = records, home

    def letter(
        self, message: MessageRow, rows: Sequence[FiringRow], links: dict[int, dict[LinkAct, str]], now_ms: int
    ) -> Letter:
        """Return the content of a message now; ``links`` are the secrets of each firing's actions."""
        if message.text:
            title, _, text = message.text.partition("\n")
            return Letter(
                message.uid,
                message.kind,
                "low",
                title,
                [],
                text=text.strip(),
                home=self._home,
                thread=message.uid,
                sent=to_text(now_ms),
            )
        parts = self.parts(rows, links)
        described = sum(len(part.rules) for part in parts)
        more = message.held_back + max(0, len(rows) - max(described, len(parts)))
        if not parts:
            return Letter(
                message.uid,
                message.kind,
                "low",
                "An alert whose record is gone",
                [],
                home=self._home,
                sent=to_text(now_ms),
            )
        priority = min((row.priority for row in rows), key=LEVELS.index)
        return Letter(
            message.uid,
            message.kind,
            priority,
            title_of(message.kind, parts, more),
            parts,
            more,
            home=self._home,
            thread=message.subject,
            sent=to_text(now_ms),
            notes=self._notes(message, rows),
        )

    def parts(
        self, rows: Sequence[FiringRow], links: dict[int, dict[LinkAct, str]] | None = None
    ) -> list[FiringSummary]:
        """Return the descriptions of firings: one for each issue, even if it fired several rules."""
        together: dict[str, list[FiringRow]] = defaultdict(list)
        for row in rows:
            together[firings.subject_of(row.rule_id, row.group_key, row.issue_id)].append(row)
        numbers = [row.issue_id for row in rows if row.issue_id is not None]
        issues = {issue.id: issue for issue in issue_store.numbered(self._records.reader, numbers)}
        return [self._part(some, issues, links or {}) for some in list(together.values())[: MOST_PARTS * 2]]

    def search(self, records: dict[str, Any]) -> str:
        """Return the address of the search for the records that caused a firing; '' where there is none."""
        if not records:
            return ""
        kind = str(records.get("kind", "failures"))
        asked = {
            "kind": kind,
            "question": records.get("question", ""),
            "start": records.get("start"),
            "end": records.get("end"),
        }
        if kind == "issue":
            return f"{self._home}/issues/{records.get('issue')}"
        return f"{self._home}/search?{urlencode({name: value for name, value in asked.items() if value})}"

    def _part(
        self, rows: Sequence[FiringRow], issues: dict[int, Issue], links: dict[int, dict[LinkAct, str]]
    ) -> FiringSummary:
        first = rows[0]
        issue = issues.get(first.issue_id) if first.issue_id is not None else None
        begun_ms = min(row.begun_ms for row in rows)
        over_ms = None if any(row.over_ms is None for row in rows) else max(row.over_ms or 0 for row in rows)
        facts = self._facts(first, issue)
        if over_ms is not None:
            facts.append(("Over", lasted(begun_ms, over_ms)))
        if first.accepted_ms is not None:
            facts.append(("Accepted", first.accepted_by))
        records = json.loads(first.records)
        link = f"{self._home}/issues/{issue.id}" if issue is not None else f"{self._home}/alerts/firings/{first.id}"
        return FiringSummary(
            title=self.title(first, issue),
            what=_what(first),
            rules=[f"{row.rule} ({row.condition})" for row in rows],
            reason=" ".join(dict.fromkeys(row.reason for row in rows)),
            begun=to_text(begun_ms),
            over=None if over_ms is None else to_text(over_ms),
            app=issue.app if issue is not None else str(records.get("app", "")),
            environment=first.environment,
            facts=facts,
            over_time=json.loads(first.over_time)[-40:],
            link=link,
            records=self.search(records),
            acts=[
                MessageAction(_ACTS[act], f"{self._home}/alerts/link#{secret}")
                for act, secret in links.get(first.id, {}).items()
            ],
        )

    def title(self, row: FiringRow, issue: Issue | None) -> str:
        """Return the subject of a firing, in one line."""
        if issue is not None:
            return Headline(issue.type, issue.cause, issue.place).title
        key = ", ".join(value or "(none)" for value in firings.key_of(row))
        name = _what(row)
        name = name[:1].upper() + name[1:]
        return f"{name}: {key}" if key else name if name == row.rule else f"{name} ({row.rule})"

    def _facts(self, row: FiringRow, issue: Issue | None) -> list[tuple[str, str]]:
        if issue is None:
            return []
        facts = [
            ("Issue", f"{issue.id}, {issue.state}{f', with {issue.holder}' if issue.holder else ''}"),
            ("Message", issue.message[:300]),
            ("Entry point", issue.entry_point),
            (
                "Seen",
                f"{count_of(issue.failures_in_all, 'failure')}, {count_of(issue.users, 'person', 'people')}, since release {issue.began_in or '(none named)'}",
            ),
        ]
        return [(label, value) for label, value in facts if value]

    def _notes(self, message: MessageRow, rows: Sequence[FiringRow]) -> list[str]:
        return [f"Sent later: {message.due_why}."] if message.due_why and message.due_ms > message.made_ms else []


def _what(row: FiringRow) -> str:
    records = json.loads(row.records)
    if what := records.get("what"):
        return str(what)
    try:
        condition = read_condition(row.condition, row.begun_ms)
    except QuestionTrouble:
        return row.rule
    if isinstance(condition, Happens):
        return condition.kinds[0]
    return measure_said(condition) if isinstance(condition, Measured) else f"no {condition.source}"


def acts_of(row: FiringRow) -> tuple[LinkAct, ...]:
    """Return the actions of a firing in its message."""
    return ("accept", "park", "silence") if row.issue_id is not None else ("accept", "silence")
