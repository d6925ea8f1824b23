"""The users of issues, counted by name up to a bound and together beyond it."""

from __future__ import annotations

import sqlite3
from typing import Final

from obitus.store.names import OTHERS

MOST_USERS: Final = 100_000
"""Users of an issue that are counted by name; the others are counted together as ``…``, and the number of users stays."""


def whose(which: str = "TRUE") -> str:
    """Return the statement for users of failures: of each one, and of those that it represents. ``which`` selects
    the failures, called ``f``; it must not come from outside. Columns: issue_id, user_id, n.
    """
    return f"""
SELECT f.issue_id, f.user_id, 1 AS n FROM failures f WHERE {which} AND f.user_id IS NOT NULL
UNION ALL SELECT f.issue_id, o.user_id, o.failures FROM failures f JOIN only_counted o ON o.seq = f.seq
WHERE {which} AND o.user_id <> ''"""  # noqa: S608 - constants of this package


WHOSE: Final = whose()
# By name up to the bound: the users with most failures.
_ADD: Final = f"""
INSERT INTO issue_users (issue_id, user_id, failures)
SELECT issue_id, CASE WHEN place <= :most THEN user_id ELSE '{OTHERS}' END, SUM(n)
FROM (SELECT issue_id, user_id, SUM(n) AS n, ROW_NUMBER() OVER (PARTITION BY issue_id ORDER BY user_id = '{OTHERS}', SUM(n) DESC, user_id) AS place
      FROM ({{whose}}) GROUP BY issue_id, user_id) GROUP BY 1, 2"""  # noqa: S608 - of a constant
_ADD_ALL: Final = _ADD.format(whose=WHOSE)
_ADD_OF_ISSUE: Final = _ADD.format(whose=whose("f.issue_id = :id"))
_NONE: Final = "DELETE FROM issue_users"
_NONE_OF_ISSUE: Final = "DELETE FROM issue_users WHERE issue_id = :id"
_HOW_MANY: Final = f"SELECT COUNT(*), COALESCE(SUM(user_id = '{OTHERS}'), 0) FROM issue_users WHERE issue_id = ?"  # noqa: S608 - a constant
_BY_NAME: Final = f"(SELECT COUNT(*) FROM issue_users u WHERE u.issue_id = issues.id AND u.user_id <> '{OTHERS}')"  # noqa: S608 - a constant
_SET: Final = f"UPDATE issues SET users = {_BY_NAME}"  # noqa: S608 - of the constant above
_SET_OF_ISSUE: Final = f"UPDATE issues SET users = {_BY_NAME} WHERE id = :id"  # noqa: S608 - of the same


def count_again(connection: sqlite3.Connection) -> None:
    """Count the users of all issues by their failures."""
    connection.execute(_NONE)
    connection.execute(_ADD_ALL, {"most": MOST_USERS})
    connection.execute(_SET)


def sum_up(connection: sqlite3.Connection, issue_id: int) -> None:
    """Update the number of users of an issue after failures were moved; beyond the bound users are counted again."""
    in_all, others = connection.execute(_HOW_MANY, (issue_id,)).fetchone()
    if others or in_all > MOST_USERS:
        connection.execute(_NONE_OF_ISSUE, {"id": issue_id})
        connection.execute(_ADD_OF_ISSUE, {"id": issue_id, "most": MOST_USERS})
    connection.execute(_SET_OF_ISSUE, {"id": issue_id})
