"""Signing in by an OpenID Connect provider: who is let in, and every way in which an answer can be false."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any, Literal
from urllib.parse import urlsplit

import pytest
import urllib3
from cryptography.hazmat.primitives.asymmetric import rsa

from obitus.service.run import InThread, listen
from obitus.service.settings import OpenId, Settings
from obitus.service.sign_in.openid import OpenIdTrouble, check_address
from obitus.service.wiring import Parts
from tests.conftest import Clock, Running
from tests.service.openid_provider import CLIENT, SECRET, Provider
from tests.service.test_access import link_secret, sign_in


@pytest.fixture
def provider() -> Iterator[Provider]:
    made = Provider()
    yield made
    made.close()


def served(
    folder: Path, provider: Provider, joins_as: Literal["member", "reader"] | None = None
) -> tuple[InThread, Running]:
    """Start a service whose people may sign in by the provider."""
    opened, clock = listen("127.0.0.1", 0), Clock()
    openid = OpenId(provider.issuer, CLIENT, SECRET, "Skerry Line", joins_as)
    settings = Settings(data=folder, port=opened.getsockname()[1], openid=openid, clock_ms=clock)
    parts = Parts(settings)
    parts.passes.ensure_owner()
    thread = InThread(parts, opened)
    thread.start()
    return thread, Running(parts, settings.url, parts.passes.add("token", 1, "tests", None), clock)


@pytest.fixture
def running(tmp_path: Path, provider: Provider) -> Iterator[Running]:
    thread, found = served(tmp_path, provider)
    yield found
    found.http.clear()
    thread.stop()


def begin(running: Running, path: str = "/api/sign-in/openid", session: str = "", **order: Any) -> tuple[str, str]:
    """Begin in a browser; return where it leads and the cookie that it got."""
    headers = {"Cookie": f"obitus_session={session}"} if session else {}
    answer = running.http.request("POST", running.url + path, json=order, headers=headers)
    assert answer.status == 200, answer.data
    cookie = answer.headers["Set-Cookie"]
    assert "HttpOnly" in cookie and "SameSite=lax" in cookie
    return answer.json()["address"], cookie.partition(";")[0]


def come_back(running: Running, address: str, cookie: str) -> tuple[str, str]:
    """Go to the provider and back; return where that leads, and the session where there is one."""
    at_provider = running.http.request("GET", address, redirect=False)
    back = running.http.request(
        "GET", at_provider.headers["Location"], headers={"Cookie": cookie} if cookie else {}, redirect=False
    )
    assert back.status == 303, back.data
    held = [text for text in back.headers.getlist("Set-Cookie") if text.startswith("obitus_session=")]
    return back.headers["Location"], held[0].partition(";")[0].partition("=")[2] if held else ""


def name_with(running: Running, session: str) -> str:
    answer = running.http.request("GET", running.url + "/api/me", headers={"Cookie": f"obitus_session={session}"})
    assert answer.status == 200, answer.data
    return str(answer.json()["name"])


def invitation(running: Running) -> str:
    made = running.ask("POST", "/api/people/invitations", {"label": "Ida", "role": "member"}).json()["link"]
    return str(made.partition("#invitation=")[2])


def test_an_invitation_and_then_without(running: Running, provider: Provider) -> None:
    """Who is not known is let in with an invitation alone, and afterwards by the provider's word."""
    assert running.http.request("GET", running.url + "/api/sign-in/ways").json() == {"openid": "Skerry Line"}
    assert come_back(running, *begin(running)) == ("/sign-in#openid=unknown", "")
    secret = invitation(running)
    place, session = come_back(running, *begin(running, invitation=secret))
    assert place == "/" and name_with(running, session) == "Ida Moss"
    place, session = come_back(running, *begin(running))
    assert place == "/" and name_with(running, session) == "Ida Moss"
    provider.claims = {"sub": "u-18", "name": "Ida Moss"}
    assert come_back(running, *begin(running, invitation=secret))[0] == "/sign-in#openid=refused", "used already"
    place, session = come_back(running, *begin(running, invitation=invitation(running)))
    assert name_with(running, session) == "Ida Moss (2)"
    people = {one["name"]: one for one in running.get("/api/people")["people"]}
    assert people["Ida Moss"]["openid"] and people["Ida Moss"]["role"] == "member" and not people["owner"]["openid"]
    running.ask("DELETE", "/api/people/Ida Moss")
    provider.claims = {"sub": "u-17", "name": "Ida Moss"}
    assert come_back(running, *begin(running))[0] == "/sign-in#openid=unknown"
    assert any("is not one of the people" in act["subject"] for act in running.get("/api/acts")["acts"])


def test_who_is_signed_in_may_add_it(running: Running) -> None:
    """The owner came by a link, and signs in by the provider from then on."""
    session = sign_in(running, {"link": link_secret(running)})[2]
    place, _ = come_back(running, *begin(running, "/api/me/openid", session))
    assert place == "/set-up"
    place, session = come_back(running, *begin(running))
    assert place == "/" and name_with(running, session) == "owner"


def test_whoever_the_team_has_may_join(tmp_path: Path, provider: Provider) -> None:
    """Where the service was started so, whom the provider vouches for is let in without an invitation."""
    provider.claims = {"sub": "u-30", "preferred_username": "olav\u202e\x07"}
    thread, running = served(tmp_path / "joins", provider, "reader")
    _, session = come_back(running, *begin(running))
    assert name_with(running, session) == "olav"
    assert {one["role"] for one in running.get("/api/people")["people"]} == {"owner", "reader"}
    running.http.clear()
    thread.stop()


FALSE: dict[str, dict[str, Any]] = {
    "another issuer": {"iss": "http://127.0.0.1:1"},
    "another audience": {"aud": "someone-else"},
    "another party": {"aud": [CLIENT, "someone-else"], "azp": "someone-else"},
    "several audiences, no party": {"aud": [CLIENT, "someone-else"]},
    "too old": {"exp": -3600, "iat": -7200},
    "from the future": {"exp": 7200, "iat": 3600},
    "another sign-in": {"nonce": "guessed"},
    "no subject": {"sub": None},
    "times that are none": {"exp": "soon"},
}
"""Numbers are seconds from now."""


@pytest.mark.parametrize("wrong", FALSE)
def test_a_false_token_lets_nobody_in(running: Running, provider: Provider, wrong: str) -> None:
    """Whatever is wrong with it, though its signature is right."""
    secret = invitation(running)
    now_s = int(time.time())
    provider.claims |= {
        name: now_s + claim if isinstance(claim, int) else claim for name, claim in FALSE[wrong].items()
    }
    provider.claims = {name: value for name, value in provider.claims.items() if value is not None}
    assert come_back(running, *begin(running, invitation=secret)) == ("/sign-in#openid=failed", "")
    assert len(running.get("/api/people")["people"]) == 1
    assert len(running.get("/api/people/invitations")["invitations"]) == 1, "the invitation is not used up"


def test_a_false_signature_lets_nobody_in(running: Running, provider: Provider) -> None:
    """Signed by another key, with the public key as if it were a secret, or not signed at all."""
    secret = invitation(running)
    other = rsa.generate_private_key(public_exponent=65537, key_size=2048)
    for key, algorithm in ((other, "RS256"), ("x" * 64, "HS256"), (None, "none")):
        provider.signs_with, provider.algorithm = key, algorithm
        assert come_back(running, *begin(running, invitation=secret)) == ("/sign-in#openid=failed", ""), algorithm


def test_a_sign_in_ends_in_the_browser_where_it_began(running: Running, provider: Provider) -> None:
    """Without its cookie, with another's, twice, with another state, or refused by the provider: nothing."""
    secret = invitation(running)
    address, cookie = begin(running, invitation=secret)
    other_address, other_cookie = begin(running, invitation=secret)
    assert come_back(running, address, "")[0] == "/sign-in#openid=failed"
    assert come_back(running, address, other_cookie)[0] == "/sign-in#openid=failed"
    assert come_back(running, other_address, other_cookie)[0] == "/sign-in#openid=failed", "its one end was used up"
    assert come_back(running, address, cookie)[0] == "/"
    assert come_back(running, address, cookie)[0] == "/sign-in#openid=failed"
    for query in ("error=access_denied&state=x", "code=x", "", "code=x&state=y&iss=http://elsewhere"):
        path = f"{running.url}/api/sign-in/openid/back?{query}"
        answer = running.http.request("GET", path, headers={"Cookie": begin(running)[1]}, redirect=False)
        assert (answer.status, answer.headers["Location"]) == (303, "/sign-in#openid=failed")
    foreign = running.http.request(
        "POST", running.url + "/api/sign-in/openid", json={}, headers={"Origin": "https://elsewhere.example"}
    )
    assert foreign.status == 403
    assert provider.asked.count("/.well-known/openid-configuration") == 1


def test_a_provider_that_is_away(running: Running, provider: Provider) -> None:
    """Is said in words; other ways to sign in go on."""
    provider.server.shutdown()
    provider.server.server_close()
    answer = running.http.request("POST", running.url + "/api/sign-in/openid", json={})
    assert (answer.status, answer.json()["slug"]) == (404, "no-openid")
    assert sign_in(running, {"link": link_secret(running)})[0] == 200


def test_addresses_are_https_but_on_this_machine() -> None:
    """A provider is asked over https, and on loopback over http too."""
    for good in ("https://id.skerry.example/realm", "http://127.0.0.1:8080", "http://localhost"):
        check_address(good)
    for bad in ("http://id.skerry.example", "ftp://id", "file:///etc/passwd", "", "//x"):
        with pytest.raises(OpenIdTrouble):
            check_address(bad)
    assert urlsplit(urllib3.util.parse_url("http://localhost").url).scheme == "http"
