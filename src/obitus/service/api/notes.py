"""``/api/issues/N/notes``: notes, checks and attachments of an issue."""

from __future__ import annotations

import asyncio
from typing import Annotated, Any

from fastapi import Depends, Path, Query, Request
from fastapi.responses import Response
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.bounds import OUTPUT
from obitus.core.clock import to_text
from obitus.core.prose import LONGEST, Ways, as_json, mentioned, read
from obitus.service.api.answers import Done, Time
from obitus.service.api.issues import Number
from obitus.service.api.views import time_text
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store import issues, team
from obitus.store import notes as store
from obitus.store.records import Records
from obitus.store.rows.known import CheckResult

router = Router(
    prefix="/api",
    tags=["notes"],
    dependencies=[Depends(signed_in)],
    responses=described(
        "not-signed-in", "reporting-key-cannot-read", "bad-field", "foreign-origin", "not-found", "too-many", "store-broken"
    ),
)  # fmt: skip

Text = Annotated[str, Field(max_length=LONGEST, description="Markdown (CommonMark); tags of HTML stay text.")]
LookedAt = Annotated[str, Field(max_length=200, description="What was looked at; '' for a note.")]
NoteNumber = Annotated[int, Path(ge=1, le=2**62, description="The number of the note.")]


class NewNote(BaseModel):
    """A note, or a check: its name and its result."""

    model_config = ConfigDict(extra="forbid", strict=True)

    text: Text = ""
    looked_at: LookedAt = ""
    found: CheckResult = Field(default="", description="What a check came to.")
    output: str = Field(default="", max_length=OUTPUT, description="What a command printed, as it came.")


class ChangedNote(BaseModel):
    """The new text of a note."""

    model_config = ConfigDict(extra="forbid", strict=True)

    text: Text = ""
    looked_at: LookedAt = ""
    found: CheckResult = ""
    seen: int = Field(
        ge=1, le=10_000, description="The version that was seen. If it changed meanwhile, the answer is 409."
    )


class NoteAnswer(BaseModel):
    """A note or a check."""

    id: int
    person: str
    time: Time
    changed: Time | None
    looked_at: str
    found: CheckResult
    text: str
    parts: list[dict[str, Any]] = Field(description="The text read into parts: `tag`, `text`, `address`, `parts`.")
    mentions: list[str] = Field(description="Whom it mentions.")
    output: str
    version: int


class AttachmentAnswer(BaseModel):
    """An attachment of an issue."""

    id: int
    person: str
    time: Time
    name: str
    type: str
    bytes: int


class NotesAnswer(BaseModel):
    """Notes and checks of an issue."""

    notes: list[NoteAnswer]
    attachments: list[AttachmentAnswer]
    ruled_out: int = Field(description="Checks that ruled something out.")
    suspicious: int


class VersionAnswer(BaseModel):
    """An earlier text of a note."""

    version: int
    person: str
    time: Time
    looked_at: str
    found: CheckResult
    text: str


class VersionsAnswer(BaseModel):
    """Earlier texts of a note, the latest first."""

    versions: list[VersionAnswer]


@router.get("/issues/{number}/notes", summary="Notes and checks of an issue")
def notes(records: TheRecords, number: Number) -> NotesAnswer:
    """Return notes, checks and attachments of an issue, oldest first."""
    issues.issue(records.reader, number)
    ways = ways_of(records)
    rows = store.notes(records.reader, number)
    return NotesAnswer(
        notes=[
            NoteAnswer(
                id=row.id,
                person=row.person,
                time=to_text(row.time_ms),
                changed=time_text(row.changed_ms),
                looked_at=row.looked_at,
                found=row.found,
                text=row.text,
                parts=as_json(read(row.text, ways)),
                mentions=mentioned(row.text, ways.people),
                output=row.output,
                version=row.version,
            )
            for row in rows
        ],
        attachments=[
            AttachmentAnswer(id=row.id, person=row.person, time=to_text(row.time_ms), name=row.name, type=row.type, bytes=row.bytes)
            for row in store.attachments(records.reader, number)
        ],
        ruled_out=sum(row.found == "ruled out" for row in rows),
        suspicious=sum(row.found == "suspicious" for row in rows),
    )  # fmt: skip


def ways_of(records: Records) -> Ways:
    """Return the patterns of tickets and the names of people for notes."""
    patterns = [(row.pattern, row.address) for row in store.link_patterns(records.reader)]
    return Ways(patterns, [row.name for row in team.everybody(records.reader)])


@router.post("/issues/{number}/notes", summary="Write a note or a check", status_code=201)
def add_note(records: TheRecords, clock: TheClock, person: SignedIn, number: Number, order: NewNote) -> NotesAnswer:
    """Write a note, or a check with its result."""
    found = _checked(order, order.output)
    now_ms = clock.now_ms()
    records.writer.run(
        lambda c: store.add_note(
            c, number, person.id, now_ms, text=order.text, looked_at=order.looked_at, found=found, output=order.output
        )
    )
    return notes(records, number)


def _checked(order: NewNote | ChangedNote, output: str = "") -> CheckResult:
    """Return the result of a check, "" for a note; raises a problem where it is empty, or has a result without a name."""
    if order.found and not order.looked_at.strip():
        raise Problem("bad-field", "Say what was checked too, beside the result.", field="looked_at")
    if not (order.text.strip() or order.looked_at.strip() or output.strip()):
        raise Problem("bad-field", "Write something.", field="text")
    return order.found or ("unclear" if order.looked_at else "")


@router.put(
    "/issues/{number}/notes/{note}",
    summary="Change a note",
    responses=described("changed-meanwhile"),
)
def change_note(
    records: TheRecords, clock: TheClock, person: SignedIn, number: Number, note: NoteNumber, order: ChangedNote
) -> NotesAnswer:
    """Change a note; its earlier text is kept. Only for its author and owners."""
    found = _checked(order)
    _of_its_writer(records, person.name, person.role, number, note)
    now_ms = clock.now_ms()
    records.writer.run(
        lambda c: store.change_note(
            c, number, note, person.id, now_ms, seen=order.seen, text=order.text, looked_at=order.looked_at, found=found
        )
    )
    return notes(records, number)


@router.delete("/issues/{number}/notes/{note}", summary="Remove a note")
def remove_note(
    records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, number: Number, note: NoteNumber
) -> Done:
    """Remove a note. Only for its author and owners."""
    _of_its_writer(records, person.name, person.role, number, note)
    now_ms = clock.now_ms()
    acts.do(
        person.id, "removed note", f"{note} of issue {number}", lambda c: store.remove_note(c, number, note, now_ms)
    )
    return Done()


def _of_its_writer(records: Records, name: str, role: str, number: int, note: int) -> None:
    row = store.note(records.reader, number, note)
    if row is None:
        raise Problem("not-found", f"There is no note {note} on issue {number}.")
    if row.person != name and role != "owner":
        raise Problem("not-for-this-role", f"{row.person} wrote this note. Write one of your own, or ask an owner.")


@router.get("/issues/{number}/notes/{note}/versions", summary="Earlier texts of a note")
def note_versions(records: TheRecords, number: Number, note: NoteNumber) -> VersionsAnswer:
    """Return earlier texts of a note, the latest first."""
    found = store.versions(records.reader, number, note)
    return VersionsAnswer(
        versions=[
            VersionAnswer(version=row.version, person=row.person, time=to_text(row.time_ms), looked_at=row.looked_at, found=row.found, text=row.text)
            for row in found
        ]
    )  # fmt: skip


@router.post(
    "/issues/{number}/attachments",
    summary="Attach a file",
    status_code=201,
    responses=described("body-too-large"),
    openapi_extra={
        "requestBody": {"required": True, "content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}}
    },
)  # fmt: skip
async def attach(
    request: Request,
    records: TheRecords,
    clock: TheClock,
    person: SignedIn,
    number: Number,
    name: Annotated[str, Query(min_length=1, max_length=200, description="What the file is called.")],
) -> NotesAnswer:
    """Attach a file to an issue, up to two megabytes. It is stored unchanged, and always served as a download."""
    body = await request.body()
    if not body:
        raise Problem("bad-field", "The file is empty: send its content as the body.")
    type_ = request.headers.get("content-type", "")[:100]
    return await asyncio.to_thread(_attach, records, clock.now_ms(), person.id, number, _file_name(name), type_, body)


def _attach(
    records: Records, now_ms: int, person_id: int, number: int, name: str, type_: str, body: bytes
) -> NotesAnswer:
    packed = store.packed(body)
    records.writer.run(
        lambda c: store.attach(c, number, person_id, now_ms, name=name, type_=type_, size=len(body), body=packed)
    )
    return notes(records, number)


def _file_name(text: str) -> str:
    """Return a name without path separators and line ends."""
    last = text.replace("\\", "/").rpartition("/")[2]
    return (
        "".join(
            character if character.isprintable() and character not in '"<>|:*?' else "_" for character in last
        ).strip(". ")
        or "file"
    )


@router.get(
    "/issues/{number}/attachments/{attachment}",
    summary="A file that was attached",
    response_class=Response,
    responses={200: {"content": {"application/octet-stream": {}}, "description": "The file, as a download."}},
)
def attachment(records: TheRecords, number: Number, attachment: Annotated[int, Path(ge=1, le=2**62)]) -> Response:
    """Return an attached file as a download, so that no browser shows or runs it here."""
    name, body = store.attached(records.reader, number, attachment)
    ascii_name = name.encode("ascii", "replace").decode().replace("?", "_")
    headers = {"Content-Disposition": f'attachment; filename="{ascii_name}"'}
    return Response(body, media_type="application/octet-stream", headers=headers)


@router.delete("/issues/{number}/attachments/{attachment}", summary="Remove an attached file")
def detach(
    records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, number: Number, attachment: Annotated[int, Path(ge=1, le=2**62)]
) -> Done:  # fmt: skip
    """Remove an attached file and its content."""
    now_ms = clock.now_ms()
    acts.do(
        person.id, "removed attachment", f"{attachment} of issue {number}",
        lambda c: store.detach(c, number, attachment, now_ms),
    )  # fmt: skip
    return Done()
