"""Errors as RFC 9457 problem details. Each has a stable slug; docs/problems.md lists them all."""

from __future__ import annotations

import logging
import secrets
from typing import TYPE_CHECKING, Any, Final

from pydantic import BaseModel, Field

from obitus.core.wording import as_sentence
from obitus.store import errors as store_errors

if TYPE_CHECKING:
    from fastapi import FastAPI
    from starlette.responses import Response

_log = logging.getLogger("obitus.service")

TYPE_PREFIX: Final = "urn:obitus:problem:"

# slug: (status, title)
PROBLEMS: Final[dict[str, tuple[int, str]]] = {
    "no-key": (401, "No reporting key was sent"),
    "unknown-key": (401, "This reporting key is not known here"),
    "revoked-key": (401, "This reporting key was revoked"),
    "not-a-reporting-key": (403, "Only a reporting key may send reports"),
    "not-signed-in": (401, "Nobody is signed in"),
    "reporting-key-cannot-read": (403, "A reporting key may only send reports"),
    "scope-too-narrow": (403, "This token may not do that"),
    "not-for-this-role": (403, "This is not for people of this role"),
    "code-needed": (401, "A one-time code is needed"),
    "codes-due": (403, "One-time codes come first"),
    "codes-for-all": (409, "Everybody is asked for one-time codes here"),
    "last-owner": (409, "Somebody must administer"),
    "no-openid": (404, "Nobody is signed in that way here"),
    "password-too-weak": (422, "This password is too easy to guess"),
    "sign-in-failed": (401, "Name and password, or the link, are not right"),
    "too-many-sign-ins": (429, "Too many failed sign-ins"),
    "foreign-origin": (403, "The request came from another site"),
    "unknown-host": (421, "This service does not answer under that name"),
    "body-too-large": (413, "The body is too large"),
    "inflates-too-large": (413, "The body is too large once inflated"),
    "body-too-slow": (408, "The body took too long to arrive"),
    "head-too-large": (431, "The head of the request is too large"),
    "head-too-slow": (408, "The head of the request took too long to arrive"),
    "too-many-connections": (503, "Too many connections at once"),
    "body-cut-off": (400, "The body stopped half-way"),
    "encoding-broken": (400, "The body is not compressed the way it says"),
    "encoding-not-supported": (415, "This compression is not supported"),
    "content-not-supported": (415, "This content type is not supported"),
    "not-otlp": (400, "The body is no OTLP export"),
    "all-refused": (422, "Every line was refused"),
    "not-browser-reports": (400, "No reports of a browser"),
    "too-busy": (429, "Too much at once"),
    "day-full": (429, "The day's bound of the key is reached"),
    "queue-full": (429, "Too much at once"),
    "disk-full": (507, "The disk is full"),
    "store-broken": (500, "The store refused"),
    "store-faulty": (503, "The disk does not do what it is asked to"),
    "store-locked": (503, "Another process holds the records"),
    "store-read-only": (503, "The records cannot be opened or written"),
    "store-damaged": (503, "The records are damaged"),
    "store-in-use": (500, "Another service runs on the records"),
    "store-error": (500, "The store refused"),
    "store-too-new": (500, "The store was written by a later version"),
    "query-too-long": (503, "The question took too long"),
    "not-found": (404, "Not found"),
    "evidence-gone": (410, "What was reported is no longer kept"),
    "cannot-reproduce": (409, "It cannot be reproduced from what was captured"),
    "nothing-kept": (409, "No record of it is kept"),
    "too-many": (409, "There are as many of these as there may be"),
    "changed-meanwhile": (409, "It changed meanwhile"),
    "already-there": (409, "It is there already"),
    "not-allowed-here": (405, "This method is not supported"),
    "bad-request": (400, "The request cannot be understood"),
    "bad-field": (422, "A field of the request is not right"),
    "bad-cursor": (422, "The cursor is not one that was given out"),
    "bad-question": (422, "The question cannot be understood"),
    "bad-window": (422, "The window cannot be understood"),
    "bad-merge": (422, "These issues cannot be merged"),
    "bad-split": (422, "This issue cannot be split like that"),
    "bad-undo": (409, "This cannot be undone"),
    "bad-rule": (422, "This rule cannot be kept"),
    "format-not-supported": (400, "This version of the report format is not supported"),
    "not-this-key": (403, "This reporting key is for another app or environment"),
    "not-this-origin": (403, "Pages of this origin may not report with this key"),
    "bad-map": (422, "This is no source map that can be used"),
    "deploy-ahead": (422, "The deploy is in the future"),
    "no-release": (422, "A release is needed to settle in"),
    "fault": (500, "Something broke inside the service"),
}


class ProblemDetails(BaseModel):
    """An error, as RFC 9457 describes it."""

    type: str = Field(description="`urn:obitus:problem:` and the slug; stable.")
    title: str = Field(description="What is wrong, in general.")
    status: int = Field(description="The HTTP status again.")
    detail: str = Field(description="What is wrong here, and what to do.")
    slug: str = Field(description="Stable name of the problem.")
    field: str | None = Field(default=None, description="The field that is not right, where there is one.")
    position: int | None = Field(default=None, description="Where in it, as the number of a character, from 1.")
    there: dict[str, Any] | None = Field(
        default=None,
        description="What is there now, where something changed meanwhile: an issue's state, since when, whose, and why.",
    )


class Problem(Exception):
    """Raised anywhere in the service to answer with a problem; the slug decides status and title."""

    def __init__(self, slug: str, detail: str, *, retry_after_s: int | None = None, **extension: Any) -> None:
        # Arguments for making it again from another process.
        super().__init__(slug, detail)
        self.slug, self.detail, self.retry_after_s, self.extension = slug, detail, retry_after_s, extension

    def __str__(self) -> str:
        return self.detail

    def response(self) -> Response:
        """Return the HTTP answer."""
        # Not above: the processes that prepare reports raise problems and answer none, and start without the web framework.
        from starlette.responses import JSONResponse

        status, title = PROBLEMS[self.slug]
        body = {"type": TYPE_PREFIX + self.slug, "title": title, "status": status, "detail": self.detail}
        headers = {}
        if self.retry_after_s is not None:
            headers["Retry-After"] = str(self.retry_after_s)
        if status == 401:
            headers["WWW-Authenticate"] = "Bearer"
        return JSONResponse(
            body | {"slug": self.slug} | self.extension, status, headers, media_type="application/problem+json"
        )


def as_problem(error: store_errors.StoreError) -> Problem:
    """Turn an error of the store into a problem; its message becomes a sentence."""
    retry = 30 if isinstance(error, store_errors.StoreFull) else 1 if PROBLEMS[error.slug][0] in (429, 503) else None
    current = error.there if isinstance(error, store_errors.ChangedMeanwhile) else None
    return Problem(error.slug, as_sentence(str(error)), retry_after_s=retry, **({"there": current} if current else {}))


def fault(method: str, path: str, error: Exception) -> Problem:
    """Log an unexpected error, and return the problem to answer with: both have the same number."""
    number = secrets.token_hex(6)
    _log.error("answering %s %r failed; its number is %s", method, path[:200], number, exc_info=error)
    detail = f"Something broke inside the service. Its log has more, under the number {number}."
    return Problem("fault", detail, number=number)


_STORE_TROUBLES: Final = (
    "store-faulty", "store-locked", "store-read-only", "store-damaged", "disk-full", "query-too-long", "queue-full", "fault",
)  # fmt: skip

_REFUSALS: Final = ("scope-too-narrow", "not-for-this-role")


def described(*slugs: str) -> dict[int | str, dict[str, Any]]:
    """Return the OpenAPI description of the problems that an endpoint can answer with."""
    described_by_status: dict[int | str, dict[str, Any]] = {}
    every = dict.fromkeys((*slugs, *_STORE_TROUBLES) if "store-broken" in slugs else slugs)
    if "not-signed-in" in every:
        every |= dict.fromkeys(_REFUSALS)
    for slug in every:
        status, title = PROBLEMS[slug]
        # Not as a model: two thousand answers have this description, and each would cost a model at every start.
        entry = described_by_status.setdefault(status, {"description": ""})
        entry["description"] += f"{'; ' if entry['description'] else ''}`{slug}`: {title}"
        entry["content"] = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/ProblemDetails"}}}
    return described_by_status


def say_problems(app: FastAPI) -> None:
    """Add the form of problems to the API's description."""
    describe = app.openapi

    def with_problems() -> dict[str, Any]:
        if app.openapi_schema is None:
            schemas = describe().setdefault("components", {}).setdefault("schemas", {})
            schemas["ProblemDetails"] = ProblemDetails.model_json_schema(ref_template="#/components/schemas/{model}")
        return describe()

    app.openapi = with_problems  # type: ignore[method-assign]
