"""Saved views and parts of boards: views of records, and parts of the page Now."""

from __future__ import annotations

import json
from typing import Annotated, Final, Literal

from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from obitus.core.asking import MOST_CHARACTERS
from obitus.core.asking.summaries import MOST_CHARACTERS as MOST_OF_A_SUMMARY

WIDEST: Final = 4

PartName = Literal[
    "failures", "failed", "runs", "points", "called", "types", "statuses", "loggers", "new", "regressed", "calls"
]


class View(BaseModel):
    """A view of the page Search or Issues: everything in its address."""

    model_config = ConfigDict(extra="forbid", strict=True)

    kind: Literal["failures", "logs", "runs", "issues"] = "logs"
    state: Literal["", "untriaged", "accepted", "settled", "regressed", "parked"] = Field(
        default="", description="Of issues: only those in this state."
    )
    question: Annotated[str, Field(max_length=MOST_CHARACTERS)] = ""
    summary: Annotated[str, Field(max_length=MOST_OF_A_SUMMARY)] = ""
    picture: bool = Field(default=False, description="Whether the summary is drawn.")
    by: Literal["", "template", "logger"] = Field(default="", description="How log records are grouped.")
    columns: Annotated[list[Annotated[str, Field(max_length=300)]], Field(max_length=50)] = []
    sort: Annotated[str, Field(max_length=300)] = ""
    window: Annotated[str, Field(max_length=20)] = Field(
        default="", description="Such as `24h`; '' for that of the page."
    )
    app: Annotated[str, Field(max_length=100)] = ""
    environment: Annotated[str, Field(max_length=100)] = ""
    release: Annotated[str, Field(max_length=300)] = ""


class Pane(BaseModel):
    """One chart or table of a board: a view of records, or a part of the page Now."""

    model_config = ConfigDict(extra="forbid", strict=True)

    title: Annotated[str, StringConstraints(strip_whitespace=True, max_length=100)] = ""
    width: Annotated[int, Field(ge=1, le=WIDEST)] = Field(default=2, description="In quarters of the board.")
    height: Literal["low", "middle", "high"] = "middle"
    view: View | None = None
    part: PartName | None = Field(default=None, description="A part of the page Now, where it has no view.")


def panes_text(panes: list[Pane]) -> str:
    """Return panes in their stored form."""
    return json.dumps([pane.model_dump(exclude_defaults=True) for pane in panes], ensure_ascii=False)
