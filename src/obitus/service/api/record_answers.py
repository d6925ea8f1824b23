"""Models of answers to questions about failures, logs and runs."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field, GetJsonSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema

from obitus.service.api.answers import Time, WindowAnswer
from obitus.service.intake.formats import KEPT_REPORT

KindName = Literal["failures", "logs", "runs"]
Scalar = str | int | float | bool | None


class RecordRow(BaseModel):
    """A failure, a log record or a run in a list."""

    number: int = Field(description="Its number, by which the whole of it is asked for.")
    kind: KindName
    time: Time
    values: dict[str, Any] = Field(
        description="All its fields by name: those of its kind, and its attributes. Empty ones are left out."
    )
    failure: str | None = Field(default=None, description="Of a failure: its id.")
    issue: int | None = Field(default=None, description="Of a failure: the issue that it went to.")


class RecordsAnswer(BaseModel):
    """A page of records, newest first."""

    window: WindowAnswer
    records: list[RecordRow]
    next: str | None = None
    cut: str | None = Field(
        default=None, description="Why not everything was looked at, in words; null where everything was."
    )
    hint: str | None = Field(
        default=None,
        description="Where nothing was found, what may be wrong with the question: fields that no record has, with names that come near, and `name:value`, which is read as words.",
    )


class ValueAnswer(BaseModel):
    """A value, as text, and how many of the sampled records have it."""

    value: str
    records: int


class FieldAnswer(BaseModel):
    """A field and its most frequent values."""

    name: str
    records: int = Field(description="How many of the records looked at have it.")
    different: int = Field(description="How many different values.")
    values: list[ValueAnswer]


class OccurringAnswer(BaseModel):
    """The most frequent values of the records of a question."""

    looked_at: int = Field(description="So many records were looked at, the newest.")
    all: bool = Field(description="Whether these are all that the question means in the window.")
    fields: list[FieldAnswer]


class NamesAnswer(BaseModel):
    """Existing names of fields, or values of one."""

    values: list[ValueAnswer] = Field(
        description="The commonest first. 0 records: it exists, and none of the newest has it."
    )


class GroupAnswer(BaseModel):
    """The records with the same values."""

    keys: list[Scalar] = Field(
        description="The values, one for each field that was counted by; null where there is none."
    )
    records: int
    value: float | None = Field(description="The result: the count, or the number.")
    over_time: list[float | None] | None = Field(default=None, description="The same for each slice.")


class SummaryAnswer(BaseModel):
    """A summary and its progress. Newest records are counted first."""

    window: WindowAnswer
    summary: str = Field(description="The summary, as it is written.")
    by: list[str]
    records: int
    value: float | None
    slices: list[Time] | None = Field(default=None, description="When each slice begins, for a summary over time.")
    slice_ms: int | None = None
    over_time: list[float | None] | None = None
    groups: list[GroupAnswer] = Field(description="Those with the greatest numbers, the greatest first.")
    groups_in_all: int
    not_listed: int = Field(
        default=0, description="Records with values beyond those that are kept apart; in the sums they are counted."
    )
    back_to: Time = Field(description="Everything from here to the end of the window is counted.")
    done: bool
    cut: str | None = None


class AsKept:
    """A report as it was checked when it came; passed on unchanged, and described by the report format."""

    @classmethod
    def __get_pydantic_json_schema__(cls, schema: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        """Describe it by the models that checked it."""
        return handler(KEPT_REPORT.core_schema)


class FailureRef(BaseModel):
    """A failure that belongs to a run or a trace."""

    id: str
    issue: int
    title: str
    time: Time
    app: str


class RecordAnswer(BaseModel):
    """One record, whole."""

    record: RecordRow
    report: Annotated[dict[str, Any], AsKept] | None = Field(
        description="The report as it was kept; null where it is no longer kept."
    )
    gone: str | None = Field(default=None, description="Why the report is no longer kept, in words.")
    failures: list[FailureRef] = Field(
        description="Failures of the same run, or of the same trace where it has no run."
    )


class TogetherAnswer(BaseModel):
    """Everything of one run or one trace, across apps, oldest first."""

    records: list[RecordRow]
    failures: list[FailureRef]
    cut: str | None = None
