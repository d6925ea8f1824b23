"""The captured request as a curl command, an HTTP file, or a pytest with httpx. A hidden value is a placeholder with
its name; cut and missing values are named.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Final, Literal
from urllib.parse import quote, urlencode, urlsplit

from obitus.core.reproducing.call import About, Reproduction
from obitus.core.reproducing.layout import laid_out
from obitus.core.wording import minute_of

Form = Literal["curl", "http", "pytest"]

_HIDDEN: Final = re.compile(r"\[hidden: [^\]\n]{0,200}\]")
_METHOD: Final = re.compile(r"[A-Za-z]{1,20}")
_HEADER: Final = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]{1,200}")
"""A token of RFC 9110, section 5.6.2."""
# Headers that the sending program makes itself, or that belong to the old connection.
_LEFT_OUT: Final = frozenset(
    {"host", "content-length", "connection", "transfer-encoding", "accept-encoding", "traceparent", "tracestate", "te", "upgrade", "keep-alive", "expect"}
)  # fmt: skip
_SAFE_URL: Final = "/:@!$&'()*+,;=-._~%"


class NoRequest(Exception):
    """There is no request to reproduce; the text says why."""


@dataclass(frozen=True, slots=True)
class Hidden:
    """A place of a hidden value."""

    name: str


Text = list["str | Hidden"]
"""A text with placeholders."""


@dataclass
class _Sent:
    """A request with placeholders for hidden values, and its remarks."""

    method: str
    path: str
    query: list[tuple[str, Text]]
    headers: list[tuple[str, Text]]
    body: Any = None
    """JSON with placeholders, fields of a form, or a text."""
    kind: Literal["none", "json", "form", "files", "text"] = "none"
    files: list[tuple[str, str, str]] = field(default_factory=list)
    missing: dict[str, str] = field(default_factory=dict)
    """By placeholder, what is known of the value."""
    notes: list[str] = field(default_factory=list)
    status: int | None = None


def as_form(content: Mapping[str, Any], about: About, form: Form, base: str) -> Reproduction:
    """Return the request of a failure in one of the forms, sent to ``base``; raises NoRequest."""
    sent = _read(content)
    text = {"curl": _curl, "http": _http, "pytest": _pytest}[form](sent, about, base.rstrip("/"))
    name = {"curl": f"issue_{about.issue}.sh", "http": f"issue_{about.issue}.http", "pytest": f"test_request_of_issue_{about.issue}.py"}[form]  # fmt: skip
    return Reproduction(name, text, tuple(sent.missing.items()), tuple(sent.notes))


def _read(content: Mapping[str, Any]) -> _Sent:
    """Return the reproducible parts of a failure's request."""
    request = content.get("request")
    if not isinstance(request, dict) or not (request.get("url") or request.get("route")):
        raise NoRequest(
            "No request was captured with this failure: it did not happen while one was answered, or the app does not report requests."
        )
    method = str(request.get("method") or "GET")
    if _METHOD.fullmatch(method) is None:
        raise NoRequest("The request cannot be sent again: its method is none.")
    parts = urlsplit(str(request.get("url") or request.get("route")))
    sent = _Sent(method.upper(), quote(parts.path or "/", safe=_SAFE_URL), [], [], status=request.get("status"))
    pairs = request.get("query") or []
    sent.query = [(str(name), _holes(sent, str(value), str(name))) for name, value in pairs]
    if not pairs and parts.query:
        sent.path += f"?{quote(parts.query, safe=_SAFE_URL + '?')}"
    for name, value in request.get("headers") or ():
        if _HEADER.fullmatch(str(name)) is not None and str(name).lower() not in _LEFT_OUT:
            sent.headers.append((str(name), _holes(sent, _one_line(str(value)), str(name))))
    body = request.get("body")
    if isinstance(body, dict):
        _read_body(sent, body)
    return sent


def _read_body(sent: _Sent, body: Mapping[str, Any]) -> None:
    if body.get("cut"):
        sent.notes.append(f"Only the start of the body was kept; it had {body.get('bytes', 0):,} bytes.")
    if body.get("json") is not None:
        sent.kind, sent.body = "json", _with_holes(sent, body["json"], "value")
    elif body.get("form") is not None or body.get("files"):
        sent.kind = "files" if body.get("files") else "form"
        sent.body = [(str(name), _holes(sent, str(value), str(name))) for name, value in body.get("form") or ()]
        sent.files = [(str(one.get("name", "")), str(one.get("file", "")), str(one.get("type", ""))) for one in body.get("files") or ()]  # fmt: skip
        for name, file, _ in sent.files:
            sent.notes.append(f"The file {file or name} was not kept: put one in its place.")
        _drop_header(sent, "content-type")
    elif body.get("text"):
        sent.kind, sent.body = "text", _holes(sent, str(body["text"]), "body")
    elif body.get("bytes"):
        sent.notes.append(
            f"The body was not kept: {body.get('bytes'):,} bytes of {body.get('type') or 'an unknown type'}."
        )
    if sent.kind == "json":
        _drop_header(sent, "content-type")


def _drop_header(sent: _Sent, which: str) -> None:
    sent.headers = [(name, value) for name, value in sent.headers if name.lower() != which]


def _holes(sent: _Sent, text: str, hint: str) -> Text:
    """Return a text with a placeholder for each hidden part."""
    # These two characters mark placeholders further down.
    text = text.replace("\x00", "").replace("\x01", "")
    holes: Text = []
    end = 0
    for hidden in _HIDDEN.finditer(text):
        if hidden.start() > end:
            holes.append(text[end : hidden.start()])
        holes.append(Hidden(_placeholder(sent, hint, hidden[0])))
        end = hidden.end()
    return [*holes, text[end:]] if end < len(text) or not holes else holes


def _with_holes(sent: _Sent, value: Any, hint: str) -> Any:
    if isinstance(value, str):
        return _holes(sent, value, hint)
    if isinstance(value, dict):
        return {
            str(name).replace("\x00", "").replace("\x01", ""): _with_holes(sent, inner, str(name))
            for name, inner in value.items()
        }
    if isinstance(value, list):
        # A list of texts with placeholders must not count as a text.
        return tuple(_with_holes(sent, inner, hint) for inner in value)
    return value


def _placeholder(sent: _Sent, hint: str, seen: str) -> str:
    base = re.sub(r"[^A-Za-z0-9]+", "_", hint).strip("_").upper()[:40] or "VALUE"
    base = f"A_{base}" if base[0].isdigit() else base
    name, number = base, 1
    while name in sent.missing:
        number += 1
        name = f"{base}_{number}"
    sent.missing[name] = seen
    return name


def _one_line(text: str) -> str:
    """Return a header's value without characters that would begin another header."""
    return "".join(part if part.isprintable() or part == "\t" else " " for part in text)


def _query(sent: _Sent, hole: str) -> str:
    """Return the query with its question mark; ``hole`` writes a placeholder."""
    if not sent.query:
        return ""
    parts = [
        f"{quote(name, safe='')}=" + "".join(hole.format(piece.name) if isinstance(piece, Hidden) else quote(piece, safe="") for piece in value)
        for name, value in sent.query
    ]  # fmt: skip
    return ("&" if "?" in sent.path else "?") + "&".join(parts)


def _filled(value: Any, hole: str) -> Any:
    """Return a value with its placeholders in the form's syntax."""
    if isinstance(value, list):
        return "".join(hole.format(piece.name) if isinstance(piece, Hidden) else piece for piece in value)
    if isinstance(value, dict):
        return {name: _filled(inner, hole) for name, inner in value.items()}
    if isinstance(value, tuple):
        return [_filled(inner, hole) for inner in value]
    return value


def _said(sent: _Sent, about: About, what: str) -> list[str]:
    answered = f"; it was answered with {sent.status}" if sent.status else ""
    return [
        f"The request behind issue {about.issue} of {about.app}, again: {what}",
        f"Captured on {minute_of(about.time)} UTC{f' in release {about.release}' if about.release else ''}{answered}.",
        *sent.notes,
    ]


_MARK: Final = "\x00{}\x01"
"""A placeholder in a text that is still to be quoted for a shell: captured texts do not have these characters."""


def _shell(text: str) -> str:
    """Return a text as one word of a POSIX shell; its placeholders become variables."""
    parts = re.split(r"\x00([A-Z0-9_]+)\x01", text)
    quoted = []
    for at, part in enumerate(parts):
        if at % 2:
            quoted.append(f'"${{{part}}}"')
        elif all(one.isprintable() or one in "\n\t" for one in part):
            quoted.append("'" + part.replace("'", "'\\''") + "'" if part else "")
        else:
            # The quoting of POSIX.1-2024, 2.2.4, which also makes it safe to print on a terminal.
            quoted.append("$'" + "".join(map(_in_dollar_quotes, part)) + "'")
    return "".join(quoted) or "''"


def _in_dollar_quotes(character: str) -> str:
    if character in "\\'":
        return f"\\{character}"
    if character.isprintable():
        return character
    number = ord(character)
    return f"\\x{number:02x}" if number < 0x80 else f"\\u{number:04x}" if number < 0x10000 else f"\\U{number:08x}"


def _json_text(value: Any) -> str:
    """Return JSON whose placeholders are not escaped."""
    return _marks(json.dumps(value, ensure_ascii=False))


def _marks(text: str) -> str:
    return text.replace("\\u0000", "\x00").replace("\\u0001", "\x01")


def _curl(sent: _Sent, about: About, base: str) -> str:
    lines = [f"# {_one_line(line)}" for line in _said(sent, about, f"sent to {base}.")]
    lines += [f': "${{{name}:?not kept ({_one_line(why)}): set it first}}"' for name, why in sent.missing.items()]
    words = [f"curl -sS -i -X {sent.method} {_shell(base + sent.path + _query(sent, _MARK))}"]
    words += [f"-H {_shell(f'{name}: {_filled(value, _MARK)}')}" for name, value in sent.headers]
    if sent.kind == "json":
        words += ["-H 'content-type: application/json'", f"--data-raw {_shell(_json_text(_filled(sent.body, _MARK)))}"]
    elif sent.kind == "form":
        words += [f"--data-urlencode {_shell(f'{name}={_filled(value, _MARK)}')}" for name, value in sent.body]
    elif sent.kind == "files":
        words += [f"--form-string {_shell(f'{name}={_filled(value, _MARK)}')}" for name, value in sent.body]
        words += [f"-F {_shell(f'{name}=@{file or name}')}" for name, file, _ in sent.files]
    elif sent.kind == "text":
        words.append(f"--data-raw {_shell(_filled(sent.body, _MARK))}")
    return "\n".join([*lines, " \\\n  ".join(words)]) + "\n"


def _http(sent: _Sent, about: About, base: str) -> str:
    lines = [f"# {_one_line(line)}" for line in _said(sent, about, f"sent to {base}.")]
    lines.append(f"@base = {base}")
    for name, why in sent.missing.items():
        lines += [f"# Not kept: {_one_line(why)}", f"@{name} ="]
    lines += ["", f"{sent.method} {{{{base}}}}{_variables(sent.path + _query(sent, _MARK))} HTTP/1.1"]
    lines += [f"{name}: {_variables(_filled(value, _MARK))}" for name, value in sent.headers]
    if sent.kind == "json":
        body = json.dumps(_filled(sent.body, _MARK), ensure_ascii=False, indent=2)
        lines += ["content-type: application/json", "", _variables(_marks(body), "\\u007b{")]
    elif sent.kind == "form":
        fields = urlencode([(name, _filled(value, _MARK)) for name, value in sent.body])
        lines += ["content-type: application/x-www-form-urlencoded", ""]
        lines.append(re.sub(r"%00([A-Z0-9_]+)%01", r"{{\1}}", fields))
    elif sent.kind == "files":
        lines += [f"content-type: multipart/form-data; boundary={_BOUNDARY}", ""]
        for name, value in sent.body:
            lines += [f"--{_BOUNDARY}", f'content-disposition: form-data; name="{_attribute(name)}"', ""]
            lines.append(_variables(_filled(value, _MARK)))
        for name, file, kind in sent.files:
            named = f'name="{_attribute(name)}"; filename="{_attribute(file)}"'
            lines += [f"--{_BOUNDARY}", f"content-disposition: form-data; {named}"]
            lines += [
                f"content-type: {_one_line(kind) or 'application/octet-stream'}",
                "",
                f"< ./{_attribute(file) or 'file'}",
            ]
        lines.append(f"--{_BOUNDARY}--")
    elif sent.kind == "text":
        lines += ["", _variables(_filled(sent.body, _MARK))]
    return "\n".join(lines) + "\n"


def _variables(text: str, instead: str = "{ {") -> str:
    """Return a text whose placeholders are variables of the file, and in which nothing else looks like one."""
    printable = "".join(piece if piece.isprintable() or piece in "\n\t\x00\x01" else " " for piece in text)
    return re.sub(r"\x00([A-Z0-9_]+)\x01", r"{{\1}}", printable.replace("{{", instead))


_BOUNDARY: Final = "obitus-captured-form"


def _attribute(text: str) -> str:
    return _one_line(text).replace('"', "%22")


def _pytest(sent: _Sent, about: About, base: str) -> str:
    head = _said(sent, about, f"sent to BASE_URL, else to {base}.")
    head.append("It fails as long as the service answers it with an error of its own.")
    lines = ['"""' + "\n".join(_one_line(line).replace("\\", "\\\\").replace('"', "'") for line in head) + '\n"""', ""]
    lines += ["import os", "", "import httpx", "", f'BASE = os.environ.get("BASE_URL", {base!r})']
    for name, why in sent.missing.items():
        lines += [f"# Not kept: {_one_line(why)}", f'{name} = os.environ.get("{name}", "")']
    lines += ["", "", f"def test_request_of_issue_{about.issue}():"]
    arguments = [repr(sent.method), f"BASE + {sent.path!r}"]
    if sent.query:
        arguments.append(f"params={_python([(name, value) for name, value in sent.query])}")
    if sent.headers:
        arguments.append(f"headers={_python([(name, value) for name, value in sent.headers])}")
    if sent.kind == "json":
        arguments.append(f"json={_python(sent.body)}")
    elif sent.kind in ("form", "files") and sent.body:
        fields: dict[str, list[Text]] = {}
        for name, value in sent.body:
            fields.setdefault(name, []).append(value)
        arguments.append("data={" + ", ".join(f"{name!r}: [{', '.join(map(_python, values))}]" for name, values in fields.items()) + "}")  # fmt: skip
    if sent.files:
        files = [
            f"({name!r}, ({file!r}, b'', {kind or 'application/octet-stream'!r}))" for name, file, kind in sent.files
        ]
        arguments.append(f"files=[{', '.join(files)}]")
    if sent.kind == "text":
        arguments.append(f"content={_python(sent.body)}")
    lines.append("    answer = " + laid_out("httpx.request(" + ", ".join(arguments) + ")", 4))
    lines.append("    assert answer.status_code < 500, answer.text")
    return "\n".join(lines) + "\n"


def _python(value: Any) -> str:
    """Return a value with placeholders as an expression."""
    if isinstance(value, list) and all(isinstance(piece, str | Hidden) for piece in value):
        return " + ".join(piece.name if isinstance(piece, Hidden) else repr(piece) for piece in value) or "''"
    if isinstance(value, dict):
        return "{" + ", ".join(f"{name!r}: {_python(inner)}" for name, inner in value.items()) + "}"
    if isinstance(value, tuple):
        return f"[{', '.join(map(_python, value))}]"
    if isinstance(value, list):
        return f"[{', '.join(f'({name!r}, {_python(inner)})' for name, inner in value)}]"
    if isinstance(value, float) and value - value != 0:
        return f"float({str(value)!r})"
    return repr(value)
