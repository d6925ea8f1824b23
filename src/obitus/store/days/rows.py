"""Statements for the common rows of all kinds of reports in a day file."""

from __future__ import annotations

from typing import Final

ADD_ID: Final = "INSERT INTO ids (id, app_id, place) VALUES (?, ?, ?) ON CONFLICT DO NOTHING"
PLACE_OF: Final = "SELECT place FROM ids WHERE id = ? AND app_id = ?"
NO_ID: Final = "DELETE FROM ids WHERE id = ? AND app_id = ?"
ADD_EVIDENCE: Final = "INSERT INTO evidence (place, app_id, kind, dictionary_id, body) VALUES (?, ?, ?, ?, ?)"
NEW_EVIDENCE: Final = "UPDATE evidence SET dictionary_id = ?, body = ? WHERE place = ?"
ADD_WORDS: Final = "INSERT INTO words (rowid, text) VALUES (?, ?)"
