"""Rows of people: who they are, what lets them in, what they did."""

from __future__ import annotations

from typing import Literal, NamedTuple

Scope = Literal["read", "decide", "administer"]
"""What a session or token may do."""


Role = Literal["owner", "member", "reader"]
"""What somebody may do: everything; decide about issues; read."""


class PersonWithPassword(NamedTuple):
    """A person, and what their sign-in is checked with."""

    id: int
    name: str
    password: str | None
    code_secret: str | None
    code_step: int


class Somebody(NamedTuple):
    """One of the people, as others see them."""

    id: int
    name: str
    role: Role
    created_ms: int
    has_password: int
    has_codes: int
    subject: str | None
    used_ms: int | None
    apps: str


class Invitation(NamedTuple):
    """An invitation that is open."""

    id: str
    label: str
    role: Role
    apps: str
    made_by: str
    created_ms: int
    expires_ms: int


class UsedInvitation(NamedTuple):
    """What somebody was invited to."""

    id: str
    label: str
    role: Role
    apps: str


class Pass(NamedTuple):
    """A session or a personal token, without its secret."""

    id: str
    label: str
    created_ms: int
    expires_ms: int | None
    used_ms: int | None
    scope: str
    by_link: int
    apps: str


class Act(NamedTuple):
    """Something that somebody did."""

    id: int
    time_ms: int
    act: str
    subject: str
    person: str | None


class PersonWithPass(NamedTuple):
    """Who holds a pass, and which."""

    id: int
    name: str
    role: Role
    has_password: int
    has_codes: int
    pass_id: str
    scope: Scope
    created_ms: int
    used_ms: int | None
    by_link: int
    apps: str | None
    hidden: str
