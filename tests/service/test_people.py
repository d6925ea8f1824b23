"""Several people: roles on every route, invitations, one-time codes, who leaves, and what is on record of it."""

from __future__ import annotations

import base64
import csv
import hashlib
import io
import json
import re
from pathlib import Path
from typing import Any
from urllib.parse import quote

import pyotp
import pytest
import urllib3

from obitus.core.clock import DAY_MS
from obitus.service import secrets
from obitus.store import people
from tests.conftest import Running, failure, raised_in, serving, until
from tests.service.test_access import PASSWORD, link_secret, sign_in, with_cookie

OTHER_PASSWORD = "lanterns under the quay"


def invited(running: Running, role: str = "member", name: str = "Ida Moss", **more: Any) -> str:
    """Invite somebody and let them come; return the session of their browser."""
    made = running.ask("POST", "/api/people/invitations", {"label": name, "role": role} | more)
    assert made.status == 201, made.data
    secret = made.json()["link"].partition("#invitation=")[2]
    status, slug, session = sign_in(running, {"invitation": secret, "name": name, "password": PASSWORD})
    assert status == 200, slug
    return session


def ask_as(running: Running, session: str, method: str, path: str, body: Any = None) -> urllib3.BaseHTTPResponse:
    more = {} if body is None else {"json": body}
    return running.http.request(method, running.url + path, headers={"Cookie": f"obitus_session={session}"}, **more)


STREAMS = ("/api/live", "/tail")
AT_LEAST = {"read": {"reader", "member", "owner"}, "decide": {"member", "owner"}, "administer": {"owner"}, "own": {"reader", "member", "owner"}}  # fmt: skip


def test_each_role_is_refused_what_it_may_not_do(patient: Running) -> None:
    """On every route of the description: whoever's role is not enough gets 403 in words, nobody else does for that reason."""
    patient.send(patient.add_app(), failure())
    paths = patient.get("/api/openapi.json")["paths"]
    sessions = {role: invited(patient, role, f"{role} one") for role in ("reader", "member", "owner")}
    looked_at: dict[str, int] = dict.fromkeys(AT_LEAST, 0)
    for path, operations in paths.items():
        for method, operation in operations.items():
            need = operation.get("x-needs")
            if not path.startswith("/api/") or path.startswith("/api/sign-") or path.endswith(STREAMS):
                continue
            if path.startswith("/api/alert-link"):
                # The link itself is what lets somebody in, to one act.
                assert need is None
                continue
            assert need in AT_LEAST, f"{method} {path} does not say what it needs"
            looked_at[need] += 1
            # What nothing stands behind: an answer of 404 or 422 says that the role was enough.
            concrete = path.replace("{kind}", "logs").replace("{id}", "018f2f7e-0000-7000-8000-000000000000")
            concrete = concrete.replace("{name}", "nobody-at-all").replace("{release}", "9.9.9")
            concrete = re.sub(r"\{[a-z]+\}", "77", concrete)
            for role, session in sessions.items():
                answer = ask_as(patient, session, method.upper(), concrete)
                refused = answer.status == 403 and answer.json()["slug"] == "not-for-this-role"
                assert refused == (role not in AT_LEAST[need]), (method, path, role, answer.status, answer.data[:200])
    assert all(count >= 5 for count in looked_at.values()), looked_at
    assert patient.get("/api/acts?act=refused")["acts"][0]["subject"].endswith(("not for a member", "not for a reader"))


def test_roles_hold_from_the_next_request_on(running: Running) -> None:
    """A reader who becomes a member decides at once, and one who is none any more does not; tokens can do no more than their person."""
    running.send(running.add_app(), failure())
    session = invited(running, "reader", "Olav Brekke")
    accept = ("POST", "/api/issues/1/accept", {})
    assert ask_as(running, session, *accept).json()["slug"] == "not-for-this-role"
    assert ask_as(running, session, "POST", "/api/me/tokens", {"label": "x", "scope": "decide"}).status == 403
    assert running.ask("PATCH", "/api/people/Olav Brekke", {"role": "member"}).status == 200
    assert ask_as(running, session, *accept).status == 200
    made = ask_as(running, session, "POST", "/api/me/tokens", {"label": "x", "scope": "decide"}).json()["token"]
    assert running.ask(*accept, token=made).status == 200
    assert ask_as(running, session, "GET", "/api/me").json()["may"] == "decide"
    running.ask("PATCH", "/api/people/Olav Brekke", {"role": "reader"})
    assert running.ask(*accept, token=made).json()["slug"] == "not-for-this-role"
    assert running.ask("GET", "/api/issues/1", token=made).json()["number"] == 1


def test_who_asks_is_read_once(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """A pass that was used lately takes no look into the records, until something changes or its time is up."""
    session = invited(running, "reader", "Olav Brekke")
    reads: list[str] = []
    person_with = people.person_with

    def counted(*given: Any) -> Any:
        reads.append(given[2])
        return person_with(*given)

    monkeypatch.setattr(people, "person_with", counted)

    def looks() -> int:
        before = len(reads)
        assert ask_as(running, session, "GET", "/api/me").status == 200
        return len(reads) - before

    running.clock.stop()
    # Its first use is recorded, and is then known.
    until(lambda: looks() == 0)
    running.send(running.add_app(), failure())
    assert (looks(), looks()) == (1, 0)
    running.clock.ahead_ms += 6 * 60_000
    assert looks() == 1
    until(lambda: looks() == 0)
    running.clock.ahead_ms += 13 * 60 * 60_000
    assert ask_as(running, session, "GET", "/api/me").status == 401


def test_an_invitation_is_used_once(running: Running) -> None:
    """It names a role; a weak password or a taken name uses it not up; used, withdrawn or too old it lets nobody in."""
    order = {"label": "the new one", "role": "reader"}
    link = running.ask("POST", "/api/people/invitations", order).json()["link"]
    assert link.startswith(f"{running.url}/sign-in#invitation=")
    secret = link.partition("#invitation=")[2]
    seen = running.http.request("POST", running.url + "/api/sign-in/invited", json={"invitation": secret}).json()
    assert seen == {"label": "the new one", "role": "reader"}
    come = {"invitation": secret, "name": "Ida Moss", "password": PASSWORD}
    assert sign_in(running, come | {"password": "passwordpassword"})[:2] == (422, "password-too-weak")
    assert sign_in(running, come | {"password": "short"})[:2] == (422, "password-too-weak")
    assert sign_in(running, come | {"name": "owner"})[:2] == (409, "already-there")
    assert sign_in(running, come | {"name": "\u202e"})[:2] == (422, "bad-field")
    assert len(running.get("/api/people/invitations")["invitations"]) == 1
    assert sign_in(running, come)[0] == 200
    assert sign_in(running, come | {"name": "Another"})[:2] == (401, "sign-in-failed")
    assert running.get("/api/people/invitations")["invitations"] == []
    assert sign_in(running, {"name": "Ida Moss", "password": PASSWORD})[0] == 200
    people = {one["name"]: one for one in running.get("/api/people")["people"]}
    assert people["Ida Moss"]["role"] == "reader" and people["owner"]["is_me"]
    for spoil in ("withdraw", "wait"):
        link = running.ask("POST", "/api/people/invitations", order | {"days": 3}).json()["link"]
        late = {"invitation": link.partition("#invitation=")[2], "name": "Late", "password": PASSWORD}
        if spoil == "withdraw":
            (open_one,) = running.get("/api/people/invitations")["invitations"]
            assert running.ask("DELETE", f"/api/people/invitations/{open_one['id']}").status == 200
        else:
            running.clock.ahead_ms = 4 * DAY_MS
        assert sign_in(running, late)[:2] == (401, "sign-in-failed")
    stored = [tuple(row) for row in running.service.records.reader.rows("SELECT hash, id, label FROM invitations")]
    assert secret not in str(stored)


def test_whoever_is_removed_is_out(running: Running) -> None:
    """Sessions, tokens and streams end at once; what they did bears their name; the name is not free. The last owner stays."""
    running.send(running.add_app(), failure())
    session = invited(running, "owner", "Ida Moss")
    ask_as(running, session, "POST", "/api/issues/1/accept", {})
    token = ask_as(running, session, "POST", "/api/me/tokens", {"label": "cron", "scope": "read"}).json()["token"]
    stream = running.http.request(
        "GET", running.url + "/api/live", headers={"Cookie": f"obitus_session={session}"}, preload_content=False
    )
    assert b"event: open" in stream.read1()
    assert running.ask("DELETE", "/api/people/owner", token=token).status == 403
    assert running.ask("DELETE", "/api/people/Ida Moss").status == 200
    while stream.read1():
        pass
    stream.release_conn()
    assert with_cookie(running, session) == 401 and running.ask("GET", "/api/me", token=token).status == 401
    assert sign_in(running, {"name": "Ida Moss", "password": PASSWORD})[0] == 401
    assert "Ida Moss accepted it." in str(running.get("/api/issues/1")["history"])
    for change in (("DELETE", None), ("PATCH", {"role": "reader"})):
        answer = running.ask(change[0], "/api/people/owner", change[1])
        assert (answer.status, answer.json()["slug"]) == (409, "last-owner")
    made = running.ask("POST", "/api/people/invitations", {"label": "again"}).json()["link"].partition("n=")[2]
    again = {"invitation": made, "name": "Ida Moss", "password": PASSWORD}
    assert sign_in(running, again)[:2] == (409, "already-there")
    assert running.ask("DELETE", "/api/people/Ida Moss").status == 404


def test_handing_over(running: Running) -> None:
    """To who may decide about it, seen by all with who did it; nobody overwrites silently; of who leaves, it is unassigned again."""
    running.send(running.add_app(), failure())
    ida, olav, reader = invited(running), invited(running, name="Olav Brekke"), invited(running, "reader", "Zoë Hart")
    path = "/api/issues/1/hand-over"
    assert ask_as(running, reader, "POST", path, {"to": "Zoë Hart"}).json()["slug"] == "not-for-this-role"
    assert ask_as(running, ida, "POST", path, {"to": "Ida Moss", "seen": ""}).status == 200
    late = ask_as(running, olav, "POST", path, {"to": "Olav Brekke", "seen": ""})
    assert (late.status, late.json()["slug"]) == (409, "changed-meanwhile") and "is with Ida Moss" in late.json()[
        "detail"
    ]
    for nobody in ("Zoë Hart", "Nobody"):
        assert ask_as(running, ida, "POST", path, {"to": nobody}).json()["slug"] == "not-found", nobody
    waits = {"to": "Olav Brekke", "waits_for": "the tide office", "seen": "Ida Moss"}
    assert ask_as(running, ida, "POST", path, waits).status == 200
    issue = running.get("/api/issues/1")
    assert (issue["holder"], issue["waits_for"]) == ("Olav Brekke", "the tide office")
    assert (
        issue["history"][-1]["reason"]
        == "Ida Moss handed it to Olav Brekke and said that it waits for the tide office."
    )
    assert [row["number"] for row in ask_as(running, olav, "GET", "/api/desk").json()["mine"]] == [1]
    assert ask_as(running, ida, "GET", "/api/desk").json()["mine"] == []
    for question, found in (('with="Olav Brekke"', [1]), ("with=owner", []), ("waits_for~tide", [1])):
        answer = running.get(f"/api/issues?window=14d&question={quote(question)}")
        assert [row["number"] for row in answer["issues"]] == found, question
    running.ask("PUT", "/api/apps/sailings/people", {"people": ["Olav Brekke"]})
    assert running.ask("POST", path, {"to": "Ida Moss"}).json()["slug"] == "not-found", "she does not see it any more"
    running.ask("DELETE", "/api/people/Olav Brekke")
    issue = running.get("/api/issues/1")
    assert issue["holder"] is None and issue["history"][-1]["reason"].startswith("Olav Brekke has left")
    assert running.ask("POST", "/api/issues/1/accept", {}).status == 200
    assert running.get("/api/issues/1")["holder"] == "owner", "who accepts what nobody has, has it"
    running.ask("POST", "/api/issues/1/settle", {"how": "now"})
    assert running.get("/api/issues/1")["waits_for"] == "" and running.get("/api/desk")["mine"] == []


def test_one_time_codes(running: Running) -> None:
    """Once a first code was given the password alone is not enough; none is good twice; an owner lets in who lost the telephone."""
    session = invited(running)
    right = {"name": "Ida Moss", "password": PASSWORD}
    offered = ask_as(running, session, "POST", "/api/me/codes").json()
    assert offered["picture"].startswith("data:image/svg+xml") and "Ida%20Moss" in offered["address"]
    codes = pyotp.TOTP(offered["secret"])

    def now(periods: int = 0) -> str:
        return codes.at(running.service.clock.now_ms() // 1000 + 30 * periods)

    assert sign_in(running, right)[0] == 200, "offered is not confirmed"
    assert ask_as(running, session, "PUT", "/api/me/codes", {"code": "000000"}).status == 401
    first = now()
    assert ask_as(running, session, "PUT", "/api/me/codes", {"code": first}).status == 200
    assert sign_in(running, right)[:2] == (401, "code-needed")
    assert sign_in(running, right | {"password": "guess", "code": now(1)})[:2] == (401, "sign-in-failed")
    assert sign_in(running, right | {"code": first})[:2] == (401, "sign-in-failed"), "it was used to begin"
    assert sign_in(running, right | {"code": now(7)})[:2] == (401, "sign-in-failed")
    running.clock.ahead_ms = 60_000
    spaced = f"{now()[:3]} {now()[3:]}"
    assert sign_in(running, right | {"code": spaced})[0] == 200
    assert sign_in(running, right | {"code": spaced})[:2] == (401, "sign-in-failed")
    assert ask_as(running, session, "POST", "/api/me/codes/stop", {"code": "123456"}).status == 401
    assert {one["name"] for one in running.get("/api/people")["people"] if one["has_codes"]} == {"Ida Moss"}
    # The telephone is at the bottom of the harbour.
    link = running.ask("POST", "/api/people/Ida Moss/link").json()["link"].partition("#")[2]
    assert sign_in(running, {"link": link})[0] == 200
    assert running.ask("DELETE", "/api/people/Ida Moss/codes").status == 200
    assert sign_in(running, right)[0] == 200
    acts = [act["act"] for act in running.get("/api/acts?limit=500")["acts"]]
    assert {"began one-time codes", "stopped one-time codes", "made sign-in link", "invited"} <= set(acts)


def test_codes_may_be_a_duty(tmp_path: Path) -> None:
    """Where everybody is asked for codes, a session is good for setting them up alone until that is done, and they stay."""
    with serving(tmp_path / "data", codes_for_all=True) as running:
        session = invited(running)
        for method, path in (("GET", "/api/issues"), ("POST", "/api/me/tokens"), ("GET", "/api/live")):
            refused = ask_as(running, session, method, path, {"label": "mine"} if method == "POST" else None)
            assert (refused.status, refused.json()["slug"]) == (403, "codes-due"), path
        me = ask_as(running, session, "GET", "/api/me").json()
        assert me["codes_due"] and me["codes_for_all"] and not me["has_codes"]
        offered = ask_as(running, session, "POST", "/api/me/codes").json()
        codes = pyotp.TOTP(offered["secret"])
        code = codes.at(running.service.clock.now_ms() // 1000)
        assert ask_as(running, session, "PUT", "/api/me/codes", {"code": code}).status == 200
        assert ask_as(running, session, "GET", "/api/issues").status == 200
        assert not ask_as(running, session, "GET", "/api/me").json()["codes_due"]
        kept = ask_as(running, session, "POST", "/api/me/codes/stop", {"code": code})
        assert (kept.status, kept.json()["slug"]) == (409, "codes-for-all")
        # Without a password there is nothing that codes would stand beside: a link, or another's sign-in.
        assert running.get("/api/me")["codes_due"] is False


def test_old_hashes_are_renewed(running: Running) -> None:
    """Who has a password from before signs in with it, and it is kept in today's way from then on."""
    salt = b"0123456789abcdef"
    digest = hashlib.scrypt(PASSWORD.encode(), salt=salt, n=2**15, r=8, p=1, maxmem=2**26, dklen=32)
    old = f"scrypt${2**15}${base64.b64encode(salt).decode()}${base64.b64encode(digest).decode()}"
    running.service.records.writer.run(lambda c: c.execute("UPDATE people SET password = ?", (old,)))
    assert sign_in(running, {"name": "owner", "password": "guess"})[0] == 401
    assert sign_in(running, {"name": "owner", "password": PASSWORD})[0] == 200
    kept = running.service.records.reader.one("SELECT password FROM people")["password"]
    assert kept.startswith("$argon2id$") and secrets.password_fits(PASSWORD, kept)
    assert sign_in(running, {"name": "owner", "password": PASSWORD})[0] == 200


def test_sessions_are_named(running: Running) -> None:
    """By what the browser says of itself and where it came from."""
    agent = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"
    body = {"link": link_secret(running)}
    running.http.request("POST", running.url + "/api/sign-in", json=body, headers={"User-Agent": agent})
    labels = [one["label"] for one in running.get("/api/me/sessions")["sessions"]]
    assert labels == ["Firefox on Linux, from 127.0.0.1"]


def test_the_record_is_filtered_and_exported(running: Running) -> None:
    """By kind, person and time; as CSV that no spreadsheet carries out, and as JSON; that it was exported is on record."""
    running.add_app()
    invited(running, name="=Ida")
    running.clock.ahead_ms = DAY_MS
    running.add_app("gatekeeper")
    since = running.get("/api/acts")["acts"][0]["time"].replace(":", "%3A")
    assert {act["subject"].split()[0] for act in running.get(f"/api/acts?since={since}")["acts"]} == {"gatekeeper"}
    text = running.ask("GET", f"/api/acts/file?until={since}").data.decode()
    rows = list(csv.DictReader(io.StringIO(text)))
    assert {row["act"] for row in rows} == {"made key", "invited", "signed in"} and "'=Ida" in text
    lines = running.ask("GET", "/api/acts/file?form=ndjson&act=exported").data.decode().splitlines()
    assert [json.loads(line)["subject"] for line in lines] == ["the record of acts as ndjson", "the record of acts as csv"]  # fmt: skip
    assert running.ask("GET", "/api/acts?since=yesterday").json()["slug"] == "bad-window"


def test_priorities(running: Running) -> None:
    """Worked out and said why, the desk in their order; what somebody says holds until it is taken back, and is on the issue's history."""
    key = running.add_app()
    calm = failure(handled=True, severity="WARN", exceptions=raised_in("sailings.mail", "hand_over", "MailRefused"))
    loud = [
        failure(exceptions=raised_in("sailings.tides", "read", "TideUnavailable"), attributes={"user.id": f"p-{i}"})
        for i in range(30)
    ]
    running.send(key, *loud, calm)
    rows = {row["type"]: row for row in running.get("/api/desk?window=24h")["new"]}
    assert list(rows) == ["TideUnavailable", "MailRefused"], (
        "what matters most comes first, though the other failed last"
    )
    assert rows["TideUnavailable"]["priority"] == {"level": "high", "reason": "new, 30 in the last hour, 30 users, not caught", "said": False}  # fmt: skip
    assert rows["MailRefused"]["priority"]["level"] == "low"
    number = rows["MailRefused"]["number"]
    session = invited(running, name="Ida Moss")
    assert ask_as(running, session, "POST", f"/api/issues/{number}/priority", {"level": "high"}).status == 200
    issue = running.get(f"/api/issues/{number}")
    assert issue["priority"] == {"level": "high", "reason": "Ida Moss said so; of itself low: new", "said": True}
    assert issue["history"][-1]["reason"] == "Ida Moss said that its priority is high."
    assert ask_as(running, session, "POST", f"/api/issues/{number}/priority", {"level": None}).status == 200
    assert running.get(f"/api/issues/{number}")["priority"]["level"] == "low"
    assert running.ask("POST", "/api/issues/77/priority", {"level": "high"}).status == 404
    assert running.ask("POST", f"/api/issues/{number}/priority", {"level": "urgent"}).status == 422
