"""``/api``: checklists, and patterns of tickets."""

from __future__ import annotations

import json
from typing import Annotated, Final

from fastapi import Depends, Path
from pydantic import BaseModel, ConfigDict, Field

from obitus.core.clock import to_text
from obitus.core.prose import is_address, is_pattern
from obitus.service.api.answers import Done, Time
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store import apps
from obitus.store import notes as store
from obitus.store.records import Records

router = Router(
    prefix="/api",
    tags=["notes"],
    dependencies=[Depends(signed_in)],
    responses=described(
        "not-signed-in", "reporting-key-cannot-read", "bad-field", "foreign-origin", "not-found", "too-many", "store-broken"
    ),
)  # fmt: skip

MOST_ITEMS: Final = 50


class Item(BaseModel):
    """One check of a checklist."""

    model_config = ConfigDict(extra="forbid", strict=True)

    look_at: str = Field(min_length=1, max_length=200)
    command: str = Field(default="", max_length=500, description="What may help to see it, for a terminal.")


class NewCheckList(BaseModel):
    """What is looked at when something is wrong."""

    model_config = ConfigDict(extra="forbid", strict=True)

    name: str = Field(min_length=1, max_length=100, description="The kind of trouble.")
    app: str | None = Field(default=None, max_length=100, description="For this app; for all with null.")
    items: list[Item] = Field(min_length=1, max_length=MOST_ITEMS)


class ChangedCheckList(BaseModel):
    """The new content of a checklist."""

    model_config = ConfigDict(extra="forbid", strict=True)

    name: str = Field(min_length=1, max_length=100)
    items: list[Item] = Field(min_length=1, max_length=MOST_ITEMS)
    seen: int = Field(
        ge=1, le=2**31, description="The version that was seen. If it changed meanwhile, the answer is 409."
    )


class CheckListAnswer(BaseModel):
    """A checklist."""

    id: int
    name: str
    app: str | None
    items: list[Item]
    version: int
    person: str
    changed: Time


class CheckListsAnswer(BaseModel):
    """All lists."""

    lists: list[CheckListAnswer]


class NewPattern(BaseModel):
    """How tickets are written, and where they are."""

    model_config = ConfigDict(extra="forbid", strict=True)

    pattern: str = Field(max_length=40, description="Such as `SL-{number}`.")
    address: str = Field(max_length=500, description="Such as `https://tickets.skerry.example/{number}`.")


class PatternAnswer(BaseModel):
    """How tickets are written, and where they are."""

    id: int
    pattern: str
    address: str


class PatternsAnswer(BaseModel):
    """All patterns of tickets."""

    patterns: list[PatternAnswer]


@router.get("/check-lists", summary="Checklists")
def check_lists(records: TheRecords) -> CheckListsAnswer:
    """Return the team's checklists."""
    return CheckListsAnswer(
        lists=[
            CheckListAnswer(
                id=row.id,
                name=row.name,
                app=row.app,
                items=[Item(**item) for item in json.loads(row.items)],
                version=row.version,
                person=row.person,
                changed=to_text(row.changed_ms),
            )
            for row in store.check_lists(records.reader)
        ]
    )


@router.post("/check-lists", summary="Add a checklist", status_code=201, responses=described("already-there"))
def add_check_list(records: TheRecords, clock: TheClock, person: SignedIn, order: NewCheckList) -> CheckListsAnswer:
    """Add a list, for one app or for all."""
    app_id = apps.app_named(records.reader, order.app).id if order.app is not None else None
    now_ms, items = clock.now_ms(), [item.model_dump() for item in order.items]
    records.writer.run(lambda c: store.add_list(c, app_id, order.name, items, person.id, now_ms))
    return check_lists(records)


@router.put(
    "/check-lists/{list}",
    summary="Change a checklist",
    responses=described("changed-meanwhile", "already-there"),
)
def change_check_list(
    records: TheRecords, clock: TheClock, person: SignedIn, list: Annotated[int, Path(ge=1, le=2**62)], order: ChangedCheckList
) -> CheckListsAnswer:  # fmt: skip
    """Change a list."""
    _seen_list(records, list)
    now_ms, items = clock.now_ms(), [item.model_dump() for item in order.items]
    records.writer.run(lambda c: store.change_list(c, list, order.name, items, person.id, now_ms, seen=order.seen))
    return check_lists(records)


@router.delete("/check-lists/{list}", summary="Remove a checklist")
def remove_check_list(
    records: TheRecords, acts: TheActs, person: SignedIn, list: Annotated[int, Path(ge=1, le=2**62)]
) -> Done:
    """Remove a list; checks that were made by it stay."""
    _seen_list(records, list)
    acts.do(person.id, "removed check list", str(list), lambda c: store.remove_list(c, list))
    return Done()


def _seen_list(records: Records, number: int) -> None:
    if all(row.id != number for row in store.check_lists(records.reader)):
        raise Problem("not-found", f"There is no list {number}.")


@router.get("/link-patterns", summary="Patterns of tickets")
def link_patterns(records: TheRecords) -> PatternsAnswer:
    """Return the patterns of tickets, and their addresses."""
    return PatternsAnswer(
        patterns=[PatternAnswer(id=row.id, pattern=row.pattern, address=row.address) for row in store.link_patterns(records.reader)]
    )  # fmt: skip


@router.post(
    "/link-patterns", summary="Add a pattern of tickets", status_code=201, responses=described("already-there")
)
def add_link_pattern(
    records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, order: NewPattern
) -> PatternsAnswer:
    """Make texts such as `SL-204` in notes links to their tickets."""
    if not is_pattern(order.pattern):
        raise Problem("bad-field", "A pattern has letters and {number}, such as SL-{number}.", field="pattern")
    if "{number}" not in order.address or not is_address(order.address.replace("{number}", "1")):
        raise Problem("bad-field", "Say an http or https address with {number} in it.", field="address")
    now_ms = clock.now_ms()
    acts.do(
        person.id, "added link pattern", f"{order.pattern} to {order.address}",
        lambda c: store.add_pattern(c, order.pattern, order.address, person.id, now_ms),
    )  # fmt: skip
    return link_patterns(records)


@router.delete("/link-patterns/{pattern}", summary="Remove a pattern of tickets")
def remove_link_pattern(acts: TheActs, person: SignedIn, pattern: Annotated[int, Path(ge=1, le=2**62)]) -> Done:
    """Remove a pattern; the text of notes stays."""
    acts.do(person.id, "removed link pattern", lambda gone: str(gone), lambda c: store.remove_pattern(c, pattern))
    return Done()
