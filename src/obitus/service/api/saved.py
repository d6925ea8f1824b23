"""``/api/saved`` and ``/api/boards``: saved questions, and boards."""

from __future__ import annotations

import json
from typing import Annotated, Any, Final

from fastapi import Depends, Path
from pydantic import BaseModel, ConfigDict, Field, StringConstraints

from obitus.core.asking import QuestionTrouble, read
from obitus.core.asking.summaries import read_summary
from obitus.core.clock import to_text
from obitus.service.api.answers import Done, Time
from obitus.service.api.asked import bad_question
from obitus.service.dependencies import TheClock, TheRecords
from obitus.service.panes import Pane, View, panes_text
from obitus.service.problems import Problem, described
from obitus.service.routing import Router
from obitus.service.sign_in.access import SignedIn, signed_in
from obitus.service.sign_in.acts import TheActs
from obitus.store import saved as store
from obitus.store.rows.known import BoardRow, SavedQuestion

router = Router(
    prefix="/api",
    tags=["saved"],
    dependencies=[Depends(signed_in)],
    responses=described("not-signed-in", "reporting-key-cannot-read", "foreign-origin", "bad-field", "store-broken"),
)

MOST_PANES: Final = 40

Name = Annotated[
    str, StringConstraints(strip_whitespace=True, min_length=1, max_length=100), Field(description="What it is called.")
]
Number = Annotated[int, Path(ge=1, le=2**62)]


class SaveOrder(BaseModel):
    """A question to be saved."""

    model_config = ConfigDict(extra="forbid", strict=True)

    name: Name
    for_all: bool = Field(default=False, description="Whether all see it; else only who saved it.")
    view: View


class SavedAnswer(BaseModel):
    """A saved question."""

    id: int
    name: str
    for_all: bool
    mine: bool
    person: str
    changed: Time
    view: View


class SavedQuestionsAnswer(BaseModel):
    """The saved questions that a person sees, by name."""

    questions: list[SavedAnswer]


class BoardOrder(BaseModel):
    """A board to save."""

    model_config = ConfigDict(extra="forbid", strict=True)

    name: Name
    panes: Annotated[list[Pane], Field(max_length=MOST_PANES)] = []


class BoardChange(BoardOrder):
    """A board to save."""

    seen: Annotated[int, Field(ge=1)] = Field(
        description="The revision that they saw; another one is not written over."
    )


class BoardAnswer(BaseModel):
    """A board."""

    id: int
    name: str
    panes: list[Pane]
    revision: int
    person: str | None = Field(description="Who changed it last; null where it came by itself.")
    changed: Time


class BoardName(BaseModel):
    """A board, without its parts."""

    id: int
    name: str
    panes: int
    person: str | None
    changed: Time


class BoardsAnswer(BaseModel):
    """All boards, by name."""

    boards: list[BoardName]


@router.get("/saved", summary="Saved questions")
def questions(records: TheRecords, person: SignedIn) -> SavedQuestionsAnswer:
    """Return the questions for all, and the person's own."""
    return SavedQuestionsAnswer(
        questions=[_saved(row, person.id) for row in store.questions(records.reader, person.id)]
    )


@router.post(
    "/saved",
    summary="Save a question",
    status_code=201,
    responses=described("bad-question", "already-there", "too-many"),
)
def save(records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, order: SaveOrder) -> SavedAnswer:
    """Save a question under a name."""
    _check(order.view, clock.now_ms())
    view, now_ms = order.view.model_dump_json(exclude_defaults=True), clock.now_ms()
    number = acts.do(
        person.id,
        "saved question",
        order.name,
        lambda c: store.save(c, person.id, order.name, order.for_all, view, now_ms),
    )
    return _of(records.reader, person.id, number)


@router.put(
    "/saved/{number}",
    summary="Change a saved question",
    responses=described("bad-question", "already-there", "not-found"),
)
def save_anew(
    records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, number: Number, order: SaveOrder
) -> SavedAnswer:
    """Replace a saved question, its name and who sees it."""
    _check(order.view, clock.now_ms())
    view, now_ms = order.view.model_dump_json(exclude_defaults=True), clock.now_ms()
    acts.do(
        person.id,
        "changed question",
        order.name,
        lambda c: store.change(c, number, person.id, order.name, order.for_all, view, now_ms),
    )
    return _of(records.reader, person.id, number)


@router.delete("/saved/{number}", summary="Remove a saved question", responses=described("not-found"))
def remove(acts: TheActs, person: SignedIn, number: Number) -> Done:
    """Remove a question of the person's own, or one for all."""
    acts.do(person.id, "removed question", str, lambda c: store.remove(c, number, person.id))
    return Done()


@router.get("/boards", summary="Boards")
def boards(records: TheRecords) -> BoardsAnswer:
    """Return all boards by name, without their parts."""
    return BoardsAnswer(
        boards=[
            BoardName(
                id=row.id,
                name=row.name,
                panes=len(json.loads(row.panes)),
                person=row.person,
                changed=to_text(row.changed_ms),
            )
            for row in store.boards(records.reader)
        ]
    )


@router.get("/boards/{number}", summary="One board", responses=described("not-found"))
def board(records: TheRecords, number: Number) -> BoardAnswer:
    """Return a board and its parts."""
    return _board(store.board(records.reader, number))


@router.post(
    "/boards", summary="Make a board", status_code=201, responses=described("bad-question", "already-there", "too-many")
)
def make(records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, order: BoardOrder) -> BoardAnswer:
    """Make a board for all of the team."""
    now_ms = clock.now_ms()
    _check_panes(order.panes, now_ms)
    panes = panes_text(order.panes)
    number = acts.do(
        person.id, "made board", order.name, lambda c: store.add_board(c, order.name, panes, person.id, now_ms)
    )
    return _board(store.board(records.reader, number))


@router.put(
    "/boards/{number}",
    summary="Change how a board is arranged",
    responses=described("bad-question", "already-there", "not-found", "changed-meanwhile"),
)
def arrange(
    records: TheRecords, clock: TheClock, acts: TheActs, person: SignedIn, number: Number, order: BoardChange
) -> BoardAnswer:
    """Save an arranged board; one that has changed meanwhile is not overwritten."""
    now_ms = clock.now_ms()
    _check_panes(order.panes, now_ms)
    panes = panes_text(order.panes)
    acts.do(
        person.id,
        "changed board",
        order.name,
        lambda c: store.change_board(c, number, order.name, panes, order.seen, person.id, now_ms),
    )
    return _board(store.board(records.reader, number))


@router.delete("/boards/{number}", summary="Remove a board", responses=described("not-found"))
def remove_board(acts: TheActs, person: SignedIn, number: Number) -> Done:
    """Remove a board, for all."""
    acts.do(person.id, "removed board", str, lambda c: store.remove_board(c, number))
    return Done()


def _check_panes(panes: list[Pane], now_ms: int) -> None:
    for pane in panes:
        if pane.view is not None:
            if pane.view.kind == "issues":
                raise Problem("bad-field", "A board shows records; issues are lists on the page Issues.", field="panes")
            _check(pane.view, now_ms)


def _check(view: View, now_ms: int) -> None:
    """Raise the problem ``bad-question`` for parts that could not be shown."""
    try:
        if view.question.strip():
            read(view.question, now_ms)
    except QuestionTrouble as trouble:
        raise bad_question(trouble) from None
    try:
        if view.summary.strip():
            read_summary(view.summary)
    except QuestionTrouble as trouble:
        raise bad_question(trouble, "summary") from None


def _of(reader: Any, person_id: int, number: int) -> SavedAnswer:
    (row,) = [row for row in store.questions(reader, person_id) if row.id == number]
    return _saved(row, person_id)


def _saved(row: SavedQuestion, person_id: int) -> SavedAnswer:
    return SavedAnswer(
        id=row.id,
        name=row.name,
        for_all=bool(row.for_all),
        mine=row.person_id == person_id,
        person=row.person,
        changed=to_text(row.changed_ms),
        view=View.model_validate_json(row.view),
    )


def _board(row: BoardRow) -> BoardAnswer:
    return BoardAnswer(
        id=row.id,
        name=row.name,
        panes=[Pane.model_validate(pane) for pane in json.loads(row.panes)],
        revision=row.revision,
        person=row.person,
        changed=to_text(row.changed_ms),
    )
