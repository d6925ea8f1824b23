"""Answers that say that all is well and hold an error: counted as refused, with what the error says; and answers that hold none are left alone."""

from __future__ import annotations

import asyncio
import json
from typing import Any

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

import obitus
from obitus.client.instruments import inside
from obitus.client.instruments.requests import Body
from tests.client.conftest import Reported

PROBLEM = (
    "application/problem+json",
    {"title": "Sailing is full", "detail": "SK-4012 has no place left", "status": 200},
)
GRAPHQL = ("application/json", {"errors": [{"message": "no berth 7"}, {"message": "no berth 8"}], "data": None})
WELL = ("application/json", {"data": {"errors": []}})


async def ask(app: Any, path: str) -> None:
    async with httpx.AsyncClient(transport=httpx.ASGITransport(app), base_url="http://ferry") as client:
        await client.post(path, json={"query": "{ berths }"})


@pytest.mark.parametrize(
    ("path", "answer", "said"),
    [
        ("/boardings", PROBLEM, "Sailing is full: SK-4012 has no place left"),
        ("/graphql", GRAPHQL, "no berth 7 (and 1 more)"),
        ("/api/graphql/", ("application/graphql-response+json; charset=utf-8", GRAPHQL[1]), "no berth 7 (and 1 more)"),
        ("/graphql", WELL, None),
        ("/boardings", GRAPHQL, None),
        ("/boardings", ("application/json", PROBLEM[1]), None),
    ],
)
@pytest.mark.parametrize("kind", ["asgi", "wsgi", "wsgi in pieces"])
def test_with_a_status_of_200(
    reported: Reported, kind: str, path: str, answer: tuple[str, Any], said: str | None
) -> None:
    """A problem document anywhere; errors of GraphQL where it is spoken; in one piece or in many."""
    media, content = answer
    body = json.dumps(content).encode()
    pieces = [body[at : at + 7] for at in range(0, len(body), 7)]

    async def asgi(scope: Any, receive: Any, send: Any) -> None:
        await send({"type": "http.response.start", "status": 200, "headers": [(b"Content-Type", media.encode())]})
        for piece in pieces:
            await send({"type": "http.response.body", "body": piece, "more_body": True})
        await send({"type": "http.response.body", "body": b""})

    def wsgi(environ: Any, start: Any) -> Any:
        start("200 OK", [("Content-Type", media)])
        return pieces if kind == "wsgi" else iter(pieces)

    if kind == "asgi":
        asyncio.run(ask(obitus.AsgiMiddleware(asgi), path))
    else:
        answered = obitus.WsgiMiddleware(wsgi)({"REQUEST_METHOD": "POST", "PATH_INFO": path}, lambda *_: None)
        assert b"".join(answered) == body
        getattr(answered, "close", lambda: None)()
    (run,) = reported.all("run")
    assert run["run"]["outcome"] == ("refused" if said else "ok")
    assert run["attributes"].get("http.response.error_inside") == said
    assert "answer_body" not in run["request"], "it was not asked to be kept"
    assert {tally["outcome"] for tally in reported.all("tally")} == {"refused" if said else "ok"}


@pytest.mark.parametrize("kind", ["asgi", "wsgi"])
def test_no_more_is_kept_than_was_asked_for(reported: Reported, kind: str) -> None:
    """An answer that is looked into stands in the report as far as the app wants it kept, and no further: here eight bytes."""
    body = json.dumps(PROBLEM[1]).encode()

    async def asgi(scope: Any, receive: Any, send: Any) -> None:
        await send({"type": "http.response.start", "status": 200, "headers": [(b"content-type", PROBLEM[0].encode())]})
        await send({"type": "http.response.body", "body": body})

    def wsgi(environ: Any, start: Any) -> Any:
        start("200 OK", [("Content-Type", PROBLEM[0])])
        return [body]

    if kind == "asgi":
        asyncio.run(ask(obitus.AsgiMiddleware(asgi, answer_body=True, body_bytes=8), "/boardings"))
    else:
        watched = obitus.WsgiMiddleware(wsgi, answer_body=True, body_bytes=8)
        list(watched({"REQUEST_METHOD": "POST", "PATH_INFO": "/boardings"}, lambda *_: None))
    (run,) = reported.all("run")
    assert run["run"]["outcome"] == "refused"
    assert run["request"]["answer_body"] | {"type": ""} == {
        "type": "",
        "bytes": len(body),
        "cut": True,
        "text": body[:8].decode(),
    }


def test_an_answer_that_is_too_long() -> None:
    """What stands first counts, as the specification asks for it."""
    media = "application/graphql-response+json"
    body = Body(media, inside.MOST_BYTES)
    body.add(json.dumps({"errors": [{"message": 'no "berth" 7'}], "data": "x" * 2 * inside.MOST_BYTES}).encode())
    assert inside.error_inside(media, body) == 'no \\"berth\\" 7'
    late = Body(media, inside.MOST_BYTES)
    late.add(json.dumps({"data": "x" * 2 * inside.MOST_BYTES, "errors": [{"message": "late"}]}).encode())
    assert inside.error_inside(media, late) is None


@given(st.binary(max_size=300), st.sampled_from(["application/problem+json", "application/graphql-response+json"]))
def test_whatever_is_answered(data: bytes, media: str) -> None:
    """Never raises for what an app answers."""
    body = Body(media, inside.MOST_BYTES)
    body.add(data)
    inside.error_inside(media, body)


@given(st.recursive(st.none() | st.integers() | st.text(max_size=5), lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(["errors", "message", "title"]), inner, max_size=3), max_leaves=8))  # fmt: skip
def test_whatever_json_is_answered(content: Any) -> None:
    """Errors are told only where there is at least one."""
    media = "application/graphql-response+json"
    body = Body(media, inside.MOST_BYTES)
    body.add(json.dumps(content).encode())
    has_errors = isinstance(content, dict) and isinstance(content.get("errors"), list) and bool(content["errors"])
    assert (inside.error_inside(media, body) is not None) == has_errors
