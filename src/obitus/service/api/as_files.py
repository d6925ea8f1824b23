"""Rows as files: CSV (RFC 4180) or a JSON object a line, streamed as they are read."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator
from typing import Annotated, Any, Final, Literal

from fastapi import Query
from fastapi.responses import StreamingResponse

from obitus.core.terms import value_text

NDJSON: Final = "application/x-ndjson"
CSV: Final = "text/csv"
FormName = Literal["csv", "ndjson"]
Form = Annotated[FormName, Query(description="One line a row: CSV (RFC 4180), or JSON.")]


def as_file(rows: Iterator[dict[str, Any]], columns: list[str] | None, form: FormName, name: str) -> StreamingResponse:
    """Return rows as a file with that name, without a suffix; CSV needs columns. The file is not held in memory."""
    return StreamingResponse(
        _as_csv(rows, columns or []) if form == "csv" else _as_ndjson(rows, columns),
        media_type=CSV if form == "csv" else NDJSON,
        headers={"Content-Disposition": f'attachment; filename="{name}.{form}"'},
    )


def _as_ndjson(rows: Iterator[dict[str, Any]], columns: list[str] | None) -> Iterator[str]:
    for row in rows:
        some = row if columns is None else {name: row[name] for name in columns if name in row}
        yield json.dumps(some, ensure_ascii=False) + "\n"


def _as_csv(rows: Iterator[dict[str, Any]], columns: list[str]) -> Iterator[str]:
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\r\n")

    def line(cells: list[str]) -> str:
        writer.writerow(cells)
        text = buffer.getvalue()
        buffer.seek(0)
        buffer.truncate()
        return text

    yield line(columns)
    for row in rows:
        yield line([_cell(row.get(name)) for name in columns])


def _cell(value: Any) -> str:
    """Return a value for a cell. A spreadsheet would run a text that begins like a formula."""
    if value is None:
        return ""
    text = value_text(value)
    return f"'{text}" if isinstance(value, str) and text[:1] in "=+-@\t\r" and text else text
