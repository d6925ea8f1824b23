"""Models of answers about people, their sessions and tokens, and the record of acts."""

from __future__ import annotations

from pydantic import BaseModel, Field

from obitus.service.api.answers import Time
from obitus.store.rows.people import Role, Scope


class MeAnswer(BaseModel):
    """The signed-in person."""

    name: str
    role: Role
    may: Scope = Field(
        description="What this session or token is good for: read, decide (and read), or administer (all)."
    )
    has_password: bool
    has_codes: bool = Field(description="Whether a one-time code is asked for beside the password.")
    codes_due: bool = Field(description="Whether one-time codes have to be set up before anything else.")
    codes_for_all: bool = Field(description="Whether everybody who has a password is asked for one-time codes.")
    sees_all: bool = Field(description="Whether all apps are seen, those to come too.")


class TokenAnswer(BaseModel):
    """A personal token, without the token."""

    id: str
    label: str
    created: Time
    expires: Time | None = Field(default=None, description="When it ends.")
    used: Time | None = Field(default=None, description="When it was last used, to within minutes.")
    scope: Scope = Field(description="What it may do: read, decide (and read), or administer (all).")
    apps: list[str] | None = Field(
        default=None, description="The apps that it is for; absent for all that its person sees."
    )


class SessionAnswer(BaseModel):
    """A signed-in browser."""

    id: str
    label: str = Field(description="Which browser, as far as it says, and from where it was signed in.")
    created: Time
    expires: Time
    used: Time | None = Field(default=None, description="When it was last used, to within minutes.")
    is_this: bool = Field(description="Whether it is the one that asks.")


class SessionsAnswer(BaseModel):
    """The signed-in browsers."""

    sessions: list[SessionAnswer]


class ActAnswer(BaseModel):
    """An act, or a refused attempt."""

    id: int
    time: Time
    person: str | None = Field(default=None, description="Who; absent where nobody was signed in.")
    act: str
    subject: str


class ActsAnswer(BaseModel):
    """Acts, newest first."""

    acts: list[ActAnswer]
    kinds: list[str] = Field(description="Which kinds of acts are on record.")
    more: int | None = Field(default=None, description="Give this as `before` to read on.")


class TokensAnswer(BaseModel):
    """The personal tokens of the signed-in person."""

    tokens: list[TokenAnswer]


class NewTokenAnswer(BaseModel):
    """A personal token, shown this once."""

    label: str
    token: str = Field(description="The token. It is not kept and cannot be shown again.")
