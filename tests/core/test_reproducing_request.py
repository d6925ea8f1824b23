"""The captured request again: as a shell reads it, as a file of requests, as a test; nothing hidden comes back, nothing hostile gets out of its quotes."""

from __future__ import annotations

import ast
import json
import shlex
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.reproducing.call import About
from obitus.core.reproducing.request import NoRequest, as_form
from tests.examples import many

ABOUT = About(12, "sailings", "2026-11-20T10:00:00Z", "3.1.0")
BASE = "http://127.0.0.1:8000"


def request(**more: Any) -> dict[str, Any]:
    about: dict[str, Any] = {
        "method": "POST",
        "url": "http://sailings.skerry.example/sailings/7/boardings?via=page",
        "status": 500,
    }
    return {"request": about | {"headers": [["content-type", "application/json"], ["x-pier", "east"]]} | more}  # fmt: skip


def words_of(text: str) -> list[str]:
    """Return the words of the command, as a shell takes it apart."""
    command = text[text.index("\ncurl ") + 1 :]
    return shlex.split(command.replace("\\\n", " "))


def test_curl() -> None:
    """Method, address, headers and body; what is about the old connection is left out, and what was hidden is asked for."""
    headers = [
        ["Host", "sailings"],
        ["content-length", "9"],
        ["Authorization", "Bearer [hidden: token]"],
        ["x-pier", "o'clock"],
    ]
    body = {"type": "application/json", "bytes": 40, "json": {"passengers": 3, "pin": "[hidden: pin]", "note": "it's \"high\""}}  # fmt: skip
    made = as_form(request(headers=headers, body=body), ABOUT, "curl", BASE)
    words = words_of(made.text)
    assert words[:6] == ["curl", "-sS", "-i", "-X", "POST", f"{BASE}/sailings/7/boardings?via=page"]
    assert "x-pier: o'clock" in words and "Authorization: Bearer ${AUTHORIZATION}" in words
    assert not any(word.lower().startswith(("host:", "content-length:")) for word in words)
    sent = json.loads(words[words.index("--data-raw") + 1])
    assert sent == {"passengers": 3, "pin": "${PIN}", "note": 'it\'s "high"'}
    assert dict(made.missing) == {"AUTHORIZATION": "[hidden: token]", "PIN": "[hidden: pin]"}
    assert ': "${PIN:?not kept ([hidden: pin]): set it first}"' in made.text and "answered with 500" in made.text


def test_http_file() -> None:
    """Variables at its top; braces that a sender wrote are no variables."""
    body = {"json": {"a": "{{$processEnv HOME}}", "password": "[hidden: password]"}}
    made = as_form(request(body=body, headers=[["x-a", "{{B}}"]]), ABOUT, "http", BASE)
    head, _, rest = made.text.partition("\n\n")
    assert f"@base = {BASE}" in head and "@PASSWORD =" in head
    line, *others = rest.splitlines()
    assert line == "POST {{base}}/sailings/7/boardings?via=page HTTP/1.1" and "x-a: { {B}}" in others
    sent = rest.partition("\n\n")[2]
    assert "{{$" not in sent and json.loads(sent.replace("{{PASSWORD}}", "x"))["a"] == "{{$processEnv HOME}}"


def test_pytest_file() -> None:
    """It parses, sends to BASE_URL, and takes what was hidden from the environment."""
    for body in (
        {"json": [1, {"token": "[hidden: token]"}]},
        {"form": [["name", "Ida"], ["name", "Olav"], ["pin", "[hidden: pin]"]]},
        {"form": [["a", "b"]], "files": [{"name": "chart", "file": "c.png", "type": "image/png", "bytes": 9}]},
        {"text": "plain\x1b[31m", "cut": True, "bytes": 99_999},
        {"type": "image/png", "bytes": 20},
    ):
        made = as_form(request(body=body), ABOUT, "pytest", BASE)
        tree = ast.parse(made.text)
        assert [node.name for node in tree.body if isinstance(node, ast.FunctionDef)] == ["test_request_of_issue_12"]
        assert "\x1b" not in made.text
        assert bool(made.notes) == ("cut" in body or "files" in body or body.get("type") == "image/png")


def test_what_cannot_be_sent_again_is_said() -> None:
    """No request, or one whose method is none."""
    with pytest.raises(NoRequest, match="No request was captured"):
        as_form({}, ABOUT, "curl", BASE)
    with pytest.raises(NoRequest):
        as_form(request(method="GET; rm"), ABOUT, "curl", BASE)


TEXTS = st.text(st.characters(exclude_categories=("Cs",)), max_size=30) | st.sampled_from(
    ["'; rm -rf /; '", "$(x)", "`x`", '"""', "\\", "\n\nGET /", "[hidden: x]$HOME", "\x00HOME\x01", "{{x}}", "-X", "@/etc/passwd"]
)  # fmt: skip


@many(120)
@given(TEXTS, TEXTS, TEXTS, st.sampled_from(["json", "form", "text"]))
def test_nothing_gets_out_of_its_quotes(path: str, header: str, value: str, kind: str) -> None:
    """Whatever a request held: the shell sees the same words, the file the same lines, the test the same calls."""
    body: dict[str, Any] = {"json": {"json": {value or "k": value}}, "form": {"form": [[value or "k", value]]}, "text": {"text": value or "x"}}[kind]  # fmt: skip
    content = request(url=f"http://s/{path}", headers=[["x-a", header]], body=body, query=[["q", value]])
    text = as_form(content, ABOUT, "curl", BASE).text
    # A shell's own reading of $'…' is tried with a shell elsewhere: what stands in it is escaped, so no quote is left open.
    if "$'" not in text:
        words = words_of(text)
        assert words[0] == "curl" and words.count("-X") - sum(one == "-X" for one in (header, value)) <= 1
        assert all(word.isprintable() or kind in ("text", "form") for word in words[:6])
    assert all(one.isprintable() or one in "\n\t" for one in text)
    tree = ast.parse(as_form(content, ABOUT, "pytest", BASE).text)
    calls = [ast.unparse(node.func) for node in ast.walk(tree) if isinstance(node, ast.Call)]
    assert set(calls) <= {"os.environ.get", "httpx.request"}
    http = as_form(content, ABOUT, "http", BASE).text
    assert http.count("POST {{base}}") == 1 and "{{x}}" not in http
