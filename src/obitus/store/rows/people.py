"""Rows of people, their passes and their acts."""

from __future__ import annotations

from typing import Literal, NamedTuple

Scope = Literal["read", "decide", "administer"]
"""The scope of a session or token."""


Role = Literal["owner", "member", "reader"]
"""A role: everything; decide about issues; read."""


class PersonWithPassword(NamedTuple):
    """A person, with the secrets of their sign-in."""

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
    """The terms of an invitation."""

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
    """An act of a person."""

    id: int
    time_ms: int
    act: str
    subject: str
    person: str | None


class PersonWithPass(NamedTuple):
    """A pass and its person."""

    id: int
    name: str
    role: Role
    has_password: int
    has_codes: int
    pass_id: str
    scope: Scope
    created_ms: int
    expires_ms: int | None
    used_ms: int | None
    by_link: int
    apps: str | None
    hidden: str
