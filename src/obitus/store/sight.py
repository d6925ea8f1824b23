"""Which apps a person sees, and readers that are limited to them. A limited reader has a temporary view in front of
each table with records of apps, under the table's own name. SQLite looks names up among temporary ones first
(sqlite.org/lang_naming.html), so every statement sees only the rows of these apps.
"""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, Final

_OF_APP: Final = "app_id {seen}"
_OF_ISSUE: Final = "issue_id IN (SELECT id FROM main.issues WHERE app_id {seen})"
_OF_RELEASE: Final = "release_id IN (SELECT id FROM main.releases WHERE app_id {seen})"
_OF_COMMIT: Final = (
    "commit_id IN (SELECT id FROM main.commits WHERE release_id IN (SELECT id FROM main.releases WHERE app_id {seen}))"
)
_OF_FIRING: Final = "firing_id IN (SELECT id FROM main.firings WHERE app_id {seen})"
_AND_OTHER: Final = " AND other_id IN (SELECT id FROM main.issues WHERE app_id {seen})"
_AND_BY: Final = " AND by_issue IN (SELECT id FROM main.issues WHERE app_id {seen})"

MAIN: Final = {
    "apps": "id {seen}",
    **dict.fromkeys(
        (
            "reporting_keys", "releases", "issues", "fingerprints", "run_counts", "fingerprint_keys", "new_issues",
            "regrouped_fingerprints", "release_spellings", "deploys", "entry_points", "environments", "failures",
            "growing_tallies", "run_slots", "failure_slots", "call_slots", "targets", "answered_at", "latest_spans", "uncalled", "log_orders",
            "warning_slots", "warned_hours", "quiet_failures", "collected", "app_people", "owner_files", "firings", "source_maps",
            "tracepoints", "tracepoint_states",
        ),
        _OF_APP,
    ),
    **dict.fromkeys(
        ("issue_counts", "issue_releases", "issue_history", "settlings", "issue_days", "issue_users", "collected_to", "notes", "attachments",
         "parkings", "decided_issues"),
        _OF_ISSUE,
    ),
    "note_versions": "note_id IN (SELECT id FROM main.notes WHERE issue_id IN (SELECT id FROM main.issues WHERE app_id {seen}))",
    "check_lists": "app_id IS NULL OR app_id {seen}",
    "only_counted": "seq IN (SELECT seq FROM main.failures WHERE app_id {seen})",
    "key_use": "key_id IN (SELECT id FROM main.reporting_keys WHERE app_id {seen})",
    "never_together": "".join((_OF_ISSUE, _AND_OTHER)),
    "revealings": "".join((_OF_ISSUE, _AND_BY)),
    "regrouped": "from_issue IN (SELECT id FROM main.issues WHERE app_id {seen})",
    # Firings of rules over all apps belong to all apps.
    "regroupings": "id IN (SELECT regrouping_id FROM main.regrouped_fingerprints WHERE app_id {seen})",
    **dict.fromkeys(("release_runs", "release_hours", "rate_regressions", "rates_due", "commits", "commit_keys"), _OF_RELEASE),
    # Firings of several apps at once, and their messages, are visible only to people who see all apps.
    "message_firings": _OF_FIRING,
    "messages": "id IN (SELECT message_id FROM main.message_firings WHERE firing_id IN (SELECT id FROM main.firings WHERE app_id {seen}))",
    "message_links": _OF_FIRING,
    "silences": "app_id IS NULL OR app_id {seen}",
    "commit_files": _OF_COMMIT,
    "commit_libraries": _OF_COMMIT,
    "link_slots": "caller_id {seen} AND app_id {seen}",
}  # fmt: skip
"""By table of the main file, the condition for rows of visible apps."""

NOT_OF_APPS: Final = {
    "people": "everybody sees who works here",
    "passes": "asked for by person",
    "invitations": "owners alone see them, and they see all",
    "sign_in_tries": "written and counted at sign-in alone",
    "acts": "who administers sees all of the record",
    "dictionaries": "packs reports",
    "fingerprint_traits": "reached through fingerprint_keys",
    "redaction_rules": "hold for all apps",
    "grouping_rules": "hold for all apps",
    "days": "how much lies in which file, of all apps together",
    "events": "told to narrowed listeners without their subject",
    "link_patterns": "hold for all apps",
    "kept_for": "says how long, and holds no record",
    "kept_within": "how much room all of them may take together",
    "thinned": "of which day something was removed, of all apps together",
    "positions": "how far jobs have read",
    "decisions": "words that name no issue",
    "handing_rules": "hold for all apps",
    "owner_names": "hold for all apps",
    "channels": "hold no record",
    "quiet_hours": "of people",
    "alert_rules": "a rule holds no record; what it fired is narrowed",
    "alert_rule_channels": "which rule tells which channel",
    "alert_amounts": "read by the service alone",
    "alert_counted": "how far the service has counted",
    "passing": "where records are passed on to; who administers sees all",
    "passed_to": "how far they were",
    "saved_questions": "a question holds no record; what it finds is narrowed",
    "boards": "questions too",
    "done_once": "what was done to the store",
}
"""The other tables, and why they are not limited."""

OF_DAYS: Final = dict.fromkeys(("ids", "evidence", "logs", "failures", "runs"), _OF_APP)
OF_DAYS_NOT_OF_APPS: Final = {
    "written": "how far the file is written",
    "texts": "reached through rows",
    "words": "gives places of rows, which are narrowed",
}
_VIEW: Final = "CREATE TEMP VIEW {table} AS SELECT * FROM main.{table} WHERE {condition}"
_INDEX: Final = re.compile(r"\bINDEXED BY \w+")


@dataclass(frozen=True, slots=True)
class Sight:
    """The visible apps: ``only`` these where it is not None, and none of ``hidden``. Numbers of apps."""

    only: frozenset[int] | None = None
    hidden: frozenset[int] = frozenset()

    @property
    def is_whole(self) -> bool:
        """Whether every app is visible, later ones too."""
        return self.only is None and not self.hidden

    def sees(self, app_id: int) -> bool:
        """Whether an app is visible."""
        return app_id not in self.hidden and (self.only is None or app_id in self.only)

    def condition(self) -> str:
        """Return the condition for a column with the number of an app."""
        if self.only is not None:
            return f"IN ({_listed(self.only - self.hidden)})"
        return f"NOT IN ({_listed(self.hidden)})"


WHOLE: Final = Sight()


def narrow(connection: sqlite3.Connection, tables: dict[str, str], sight: Sight) -> None:
    """Put the views in front of a connection's tables; only numbers of apps get into them."""
    seen = sight.condition()
    for table, condition in tables.items():
        # A view takes no parameters: everything is written above, except integers.
        connection.execute(_VIEW.format(table=table, condition=condition.format(seen=seen)))


class ReadingConnection(sqlite3.Connection):
    """A connection with a cache of values of its file that cannot change."""

    def __init__(self, *given: Any, **named: Any) -> None:
        super().__init__(*given, **named)
        self.texts: dict[int, str] = {}
        """Texts by their numbers: these never change."""
        self.pairs: dict[int, tuple[str, Any]] = {}
        """Names and values of attributes by the numbers of their texts, where the value is no list or object."""
        self.is_whole_at = -1
        """The state of the file (``PRAGMA data_version``) in which the text index had all words of all its records."""


class NarrowedConnection(ReadingConnection):
    """A connection whose tables have views in front of them: statements cannot name indexes then."""

    def execute(self, sql: str, parameters: Any = (), /) -> sqlite3.Cursor:
        """Run one statement, without the indexes that it names."""
        return super().execute(_INDEX.sub("", sql), parameters)


def _listed(numbers: Iterable[int]) -> str:
    return ", ".join(str(int(number)) for number in sorted(numbers))
