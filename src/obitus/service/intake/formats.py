"""The report format, version 1: what one line of ``POST /reports`` may hold. The JSON Schema is made from this."""

from __future__ import annotations

from typing import Annotated, Any, Final, Literal
from uuid import UUID

from pydantic import AwareDatetime, BaseModel, ConfigDict, Field, JsonValue, TypeAdapter

from obitus.core import bounds
from obitus.core.severity import SeverityName
from obitus.core.version import REPORT_FORMAT

Severity = SeverityName
Outcome = Literal["ok", "refused", "failed"]
BreadcrumbKind = Literal["http", "statement", "log", "input", "page", "mark", "process", "failure"]

Short = Annotated[str, Field(max_length=bounds.SHORT)]
Medium = Annotated[str, Field(max_length=bounds.MEDIUM)]
Long = Annotated[str, Field(max_length=bounds.LONG)]
Attributes = Annotated[dict[Short, JsonValue], Field(max_length=bounds.ATTRIBUTES)]
TraceId = Annotated[str, Field(pattern="^[0-9a-f]{32}$", description="W3C trace id: 32 lower-case hexadecimal digits.")]
SpanId = Annotated[str, Field(pattern="^[0-9a-f]{16}$", description="W3C parent id: 16 lower-case hexadecimal digits.")]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)


class Source(_Part):
    """The source lines around a frame."""

    before: Annotated[
        list[Medium], Field(max_length=bounds.SOURCE_LINES, description="Lines before it, in order.")
    ] = []
    line: Medium = Field(description="The line itself.")
    after: Annotated[list[Medium], Field(max_length=bounds.SOURCE_LINES, description="Lines after it, in order.")] = []
    nth_alike: Annotated[int, Field(ge=0, le=bounds.LINE)] = Field(
        default=0,
        description="Which of several equal lines of the function this is, from 1; 0 where it is the only one.",
    )


class Built(_Part):
    """The place of a frame in the built code, before a source map mapped it back."""

    function: Short = ""
    file: Medium = ""
    line: Annotated[int, Field(ge=0, le=bounds.LINE)] | None = None
    column: Annotated[int, Field(ge=1, le=bounds.LINE)] | None = None


class FramePart(_Part):
    """One call on the stack."""

    function: Short = Field(description="Function, with the class it belongs to: `Fares.quote`.")
    module: Short = Field(default="", description="Module or package: `skerry.fares`.")
    file: Medium = Field(default="", description="Path of the source file.")
    line: Annotated[int, Field(ge=0, le=bounds.LINE)] | None = Field(default=None, description="Line, from 1.")
    column: Annotated[int, Field(ge=1, le=bounds.LINE)] | None = Field(
        default=None, description="Column in that line, from 1, where the language says it."
    )
    own: bool | None = Field(default=None, description="Code of the app (true) or of a library (false).")
    source: Source | None = None
    source_missing: Short = Field(default="", description="Why there are no source lines, where that is worth saying.")
    locals: Annotated[dict[Short, Long], Field(max_length=bounds.LOCALS)] | None = Field(
        default=None, description="Local values, each as text."
    )
    parameters: Annotated[list[Short], Field(max_length=bounds.PARAMETERS)] = Field(
        default=[],
        description="Names of the function's parameters in their order: grouping follows a missing value from caller to caller.",
    )
    built: Built | None = Field(
        default=None, description="Where it stood in the code that ran, where a source map turned it back."
    )
    call: Annotated[dict[Short, JsonValue], Field(max_length=bounds.CALL_PARTS)] | None = Field(
        default=None,
        description="Of the innermost own frame: how its function is reached, and with what it was called, in a form that code "
        "can be written from. Its values are described in `obitus.core.reproducing.values`.",
    )


class ExceptionPart(_Part):
    """One exception of a chain."""

    type: Short = Field(min_length=1, description="Type, with its module unless built in.")
    message: Long = ""
    notes: Annotated[list[Long], Field(max_length=bounds.NOTES)] = []
    detail: Annotated[dict[Short, JsonValue], Field(max_length=bounds.DETAILS)] = Field(
        default={}, description="What its type tells beyond the message: `filename`, `lineno`, `errno`, …"
    )
    relation: Literal["cause", "context", "member"] | None = Field(
        default=None,
        description="Its relation to the one before it: its `cause`, the `context` it was raised in, "
        "or a `member` of the group. Absent on the first.",
    )
    frames: Annotated[list[FramePart], Field(max_length=bounds.FRAMES)] = Field(
        default=[], description="From the outermost call to the place of the raise."
    )
    stack: Annotated[str, Field(max_length=bounds.STACK)] | None = Field(
        default=None, description="The stack as text, from a sender that has no frames: it is read here, and not kept."
    )
    frames_left_out: Annotated[int, Field(ge=0)] = Field(
        default=0, description="Frames the sender cut from the middle."
    )
    links_left_out: Annotated[int, Field(ge=0)] = Field(
        default=0, description="Exceptions of the chain between this one and the next that the sender left out."
    )
    members_left_out: Annotated[int, Field(ge=0)] = Field(
        default=0, description="Members of this group that the sender left out."
    )
    member_of: Annotated[int, Field(ge=0)] | None = Field(
        default=None, description="Place in `exceptions`, from 0, of the group that this is a member of."
    )


class Breadcrumb(_Part):
    """One step before a failure."""

    kind: BreadcrumbKind
    time: AwareDatetime
    severity: Severity = "INFO"
    message: Long
    attributes: Annotated[dict[Short, JsonValue], Field(max_length=bounds.ATTRIBUTES_OF_A_STEP)] = {}


class RunPart(_Part):
    """The run of a report."""

    id: UUID | None = None
    entry_point: Short = Field(min_length=1, description="`POST /sailings/{id}/boardings`, `job nightly-manifest`.")
    started: AwareDatetime | None = None
    duration_ms: Annotated[float, Field(ge=0)] | None = Field(default=None, description="Milliseconds so far.")
    outcome: Outcome | None = None
    parent_span_id: SpanId | None = Field(default=None, description="The span that called it (W3C Trace Context).")
    kept: Short = Field(default="", description="Why the whole run was sent, in words.")
    failures: Annotated[list[UUID], Field(max_length=bounds.FAILURES_OF_A_RUN)] = Field(
        default=[], description="Ids of the failures that were reported in it."
    )


class FilePart(_Part):
    """A file that came with a form: named, not kept."""

    name: Short = ""
    file: Short = ""
    type: Short = ""
    bytes: Annotated[int, Field(ge=0)] = 0


class BodyPart(_Part):
    """A body, where it was kept. Binary ones have only a type and a size."""

    type: Short = Field(default="", description="Its media type.")
    bytes: Annotated[int, Field(ge=0)] = Field(default=0, description="How long it was.")
    cut: bool = Field(default=False, description="Whether only its start was kept.")
    json_: JsonValue = Field(default=None, alias="json", description="Its content, where it was JSON.")
    form: Annotated[list[tuple[Short, Long]], Field(max_length=bounds.FIELDS)] | None = Field(
        default=None, description="Its fields, where it was a form."
    )
    files: Annotated[list[FilePart], Field(max_length=bounds.FIELDS)] | None = None
    text: Annotated[str, Field(max_length=bounds.BODY)] | None = None


class RequestPart(_Part):
    """The request a run answers."""

    method: Short = ""
    route: Medium = Field(default="", description="Route template: `/sailings/{id}`.")
    url: Long = ""
    headers: Annotated[list[tuple[Short, Long]], Field(max_length=bounds.HEADERS)] = []
    client: Short = Field(default="", description="Address of the client.")
    query: Annotated[list[tuple[Short, Long]], Field(max_length=bounds.FIELDS)] = Field(
        default=[], description="Names and values of the query string, in order."
    )
    body: BodyPart | None = Field(default=None, description="The body as the handler received it.")
    answer_body: BodyPart | None = Field(default=None, description="The answer's body, where that was asked for.")
    status: Annotated[int, Field(ge=0, le=bounds.STATUS)] | None = None


class SketchBox(_Part):
    """A part of the page as the person saw it."""

    role: Short = Field(
        description="As the accessibility tree has it: `button`, `textbox`; `hidden` where it is marked to be."
    )
    name: Short = ""
    field: Short = Field(default="", description="The field's name in its form.")
    state: Annotated[list[Short], Field(max_length=10)] = Field(
        default=[],
        description="`filled` or `empty`, `not valid`, `checked`, `disabled`, `focused`; never its content.",
    )
    at: Annotated[list[Annotated[int, Field(ge=-100_000, le=100_000)]], Field(min_length=4, max_length=4)] = Field(
        description="Left, top, width and height in the viewport, in CSS pixels."
    )


class Sketch(_Part):
    """A sketch of a page: boxes, without anything that was typed."""

    time: AwareDatetime
    title: Medium = ""
    size: Annotated[list[Annotated[int, Field(ge=0, le=100_000)]], Field(min_length=2, max_length=2)] = Field(
        description="Width and height of the viewport, in CSS pixels."
    )
    boxes: Annotated[list[SketchBox], Field(max_length=bounds.BOXES)] = []
    cut: bool = Field(default=False, description="Whether more was there than is in it.")


Sketches = Annotated[list[Sketch], Field(max_length=bounds.SKETCHES)]


class _Report(_Part):
    id: UUID = Field(description="Made by the sender, UUIDv7. Sending the same id twice stores it once.")
    time: AwareDatetime = Field(description="When it happened, RFC 3339 with an offset.")
    release: Short | None = Field(default=None, description="Version of the app.")
    attributes: Attributes = Field(
        default={}, description="Named as OpenTelemetry's semantic conventions name them where they do."
    )
    trace_id: TraceId | None = None
    span_id: SpanId | None = None


class FailureReport(_Report):
    """One captured exception, or one problem that the app itself reported."""

    kind: Literal["failure"]
    severity: Severity = "ERROR"
    handled: bool = Field(default=False, description="Whether the app caught it.")
    captured_by: Short = Field(default="", description="What caught it: `main thread`, `thread`, `asgi`, `record`.")
    counted: Annotated[int, Field(ge=1, le=bounds.COUNTED)] | None = Field(
        default=None,
        description="How many failures it is the report of, where its sender failed so often that it only counted them: they are like "
        "one that it sent whole, and the latest was at this time. Whose they were is not known. Absent for a failure that was captured.",
    )
    exceptions: Annotated[list[ExceptionPart], Field(min_length=1, max_length=bounds.EXCEPTIONS)] = Field(
        description="The chain, from the outermost exception to its root cause."
    )
    run: RunPart | None = None
    request: RequestPart | None = None
    trail: Annotated[list[Breadcrumb], Field(max_length=bounds.STEPS)] = Field(default=[], description="Oldest first.")
    trail_left_out: Annotated[int, Field(ge=0)] = Field(default=0, description="Older breadcrumbs that were dropped.")
    sketches: Sketches = Field(default=[], description="What the page looked like before, the oldest first.")
    debug_ids: Annotated[dict[Medium, Short], Field(max_length=bounds.DEBUG_IDS)] = Field(
        default={}, description="Ids of builds by the file that ran, as frames name it (ECMA-426, *debug id*)."
    )


class KeptFailure(FailureReport):
    """A failure as it is stored."""

    clock_skew_ms: int | None = Field(
        default=None, description="Correction added to its times, because its sender's clock was wrong."
    )


class HitPart(_Part):
    """The state at a tracepoint's line before it ran."""

    tracepoint: Annotated[int, Field(ge=1, le=2**53)] = Field(description="Its number.")
    number: Annotated[int, Field(ge=1)] = Field(default=1, description="The how manieth hit in this process, from 1.")
    values: Annotated[dict[Short, Long], Field(max_length=bounds.VALUES_OF_A_HIT)] = Field(
        default={}, description="The requested values, each as text."
    )
    frames: Annotated[list[FramePart], Field(max_length=bounds.FRAMES)] = Field(
        default=[], description="From the outermost call to the line; the line's alone where no stack was asked for."
    )
    trail: Annotated[list[Breadcrumb], Field(max_length=bounds.STEPS)] = Field(default=[], description="Oldest first.")
    trail_left_out: Annotated[int, Field(ge=0)] = 0


class LogReport(_Report):
    """One structured log record."""

    kind: Literal["log"]
    severity: Severity
    logger: Short = ""
    message: Long
    template: Long = Field(default="", description="The message before its values were put in.")
    run: RunPart | None = None
    hit: HitPart | None = Field(default=None, description="If a tracepoint made it: the state at its line.")


class RunReport(_Report):
    """One whole run."""

    kind: Literal["run"]
    run: RunPart
    request: RequestPart | None = None
    trail: Annotated[list[Breadcrumb], Field(max_length=bounds.STEPS)] = []
    trail_left_out: Annotated[int, Field(ge=0)] = 0
    sketches: Sketches = []


class TallyReport(_Report):
    """Counted runs of one entry point with the same outcome; ``time`` is the start of the count."""

    kind: Literal["tally"]
    entry_point: Short = Field(min_length=1)
    outcome: Outcome
    status: Annotated[int, Field(ge=0, le=bounds.STATUS)] | None = None
    runs: Annotated[int, Field(ge=1, le=bounds.RUNS)]
    duration_ms_below: Annotated[float, Field(gt=0)] | None = Field(
        default=None, description="Upper bound of the duration bucket, milliseconds."
    )
    grows: bool = Field(
        default=False,
        description="It may be sent again under its id with more runs; then only the additional ones are counted.",
    )


Report = Annotated[FailureReport | LogReport | RunReport | TallyReport, Field(discriminator="kind")]
REPORT: Final[TypeAdapter[FailureReport | LogReport | RunReport | TallyReport]] = TypeAdapter(Report)


KEPT_REPORT: Final[TypeAdapter[KeptFailure | LogReport | RunReport]] = TypeAdapter(
    Annotated[KeptFailure | LogReport | RunReport, Field(discriminator="kind")]
)
"""A report as it is shown; tallies are only counted."""


class LineVerdict(BaseModel):
    """The verdict for one line."""

    line: int = Field(description="Line number in the body, from 1; empty lines count.")
    verdict: Literal["stored", "already-there", "refused"]
    id: str | None = Field(default=None, description="The report's id, where it could be read.")
    issue: int | None = Field(default=None, description="The issue a failure went to.")
    slug: str | None = Field(default=None, description="Why it was refused; stable. See docs/report-format.md.")
    field: str | None = Field(default=None, description="The field that is not right.")
    reason: str | None = Field(default=None, description="Why it was refused, and what to do.")
    notes: list[str] | None = Field(default=None, description="What was corrected in it.")


class LogOrderPart(BaseModel):
    """A temporary threshold of a logger and those below it."""

    logger: str = Field(description="'' for all loggers.")
    severity: Severity
    seconds: float = Field(description="For how long from now on.")


class TracepointsPart(BaseModel):
    """The tracepoints of an app: those that are not in the list are no longer set."""

    version: int
    environment: str = Field(description="The environment of the key.")
    set: list[dict[str, Any]] = Field(description="See docs/tracepoints.md.")


class ReportsAnswer(BaseModel):
    """The verdicts for a batch. Everything counted as stored is on disk."""

    stored: int
    already_there: int
    refused: int
    lines: list[LineVerdict]
    log_orders: list[LogOrderPart] | None = Field(
        default=None,
        description="What people ordered for the loggers of this app: an order that is not listed here is over. Absent where there are no orders.",
    )
    tracepoints: TracepointsPart | None = Field(
        default=None,
        description="What people want to see of single lines, where the sender asks for it (`Obitus-Tracepoints: 1`).",
    )


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema (draft 2020-12) of one report."""
    schema = REPORT.json_schema()
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": f"urn:obitus:report-format:{REPORT_FORMAT}",
        "title": "Obitus report",
        "description": "One line of POST /reports.",
    } | schema
