"""The document of issues, and of a span of time: what it holds, what stays hidden, and that it is only ever a download."""

from __future__ import annotations

import json

from tests.conftest import Running, failure, raised_in
from tests.service.test_sight import reports_of


def test_an_issue_as_a_document(running: Running) -> None:
    """Facts, numbers, the stack, what led up to it, decisions, checks, the fix: under their headings, in both forms."""
    key = running.add_app()
    running.send(key, *reports_of("tide"))
    number = next(row["number"] for row in running.issues() if "Error" in row["type"])
    order = {
        "text": "Looks like **the pier**. <b>x</b>",
        "looked_at": "disk has room",
        "found": "ruled out",
        "output": "41% <i>",
    }
    running.ask("POST", f"/api/issues/{number}/notes", order)
    running.ask("POST", f"/api/issues/{number}/settle", {"how": "now"})
    text = running.ask("GET", f"/api/document?issue={number}").data.decode()
    for heading in ("What failed", "Since when", "Where", "Leading up to it", "What was decided", "Checks and notes", "Did the fix hold?"):  # fmt: skip
        assert f"\n## {heading}\n" in text, heading
    for word in ("tide message", r"tide\_function", "tide step", "owner settled it as fixed from now on", "disk has room: ruled out", "**the pier**", "41% <i>"):  # fmt: skip
        assert word in text or word.replace("\\", "") in text, word
    page = running.ask("GET", f"/api/document?issue={number}&as=html")
    assert page.headers["Content-Disposition"] == f'attachment; filename="issue-{number}.html"'
    assert "default-src 'none'" in page.headers["Content-Security-Policy"]
    assert "&lt;b&gt;x&lt;/b&gt;" in page.data.decode() and "<b>x</b>" not in page.data.decode()
    assert running.get("/api/acts")["acts"][0]["act"] == "exported"


def test_a_span_of_time(running: Running) -> None:
    """Without issues: those that failed most, with deploys; an empty window says so; of issues that are not there, 404."""
    assert "Nothing failed in this window." in running.ask("GET", "/api/document?window=1h").data.decode()
    key = running.add_app()
    running.send(key, *(failure(exceptions=raised_in(f"sailings.pier{i}", "go", f"Tide{i}")) for i in range(3)))
    text = running.ask("GET", "/api/document?window=24h&title=The%20evening%20of%20the%20flood").data.decode()
    assert text.startswith("# The evening of the flood\n") and all(f"Tide{i}" in text for i in range(3))
    assert running.ask("GET", "/api/document?issue=77").json()["slug"] == "not-found"
    assert running.ask("GET", "/api/document?as=pdf").json()["slug"] == "bad-field"


def test_nothing_hidden_comes_back(running: Running) -> None:
    """What was hidden in a report is hidden in its document, in both forms."""
    key = running.add_app()
    chain = raised_in(
        "sailings.passes", "order", "PassRefused", "password=eelpot-quay for api_key=9f8e7d6c5b4a39281706"
    )
    chain[0]["frames"][0] |= {
        "own": True,
        "locals": {"password": "'eelpot'"},
        "source": {"line": "token = 'eelpot-quay'"},
    }
    running.send(
        key,
        failure(
            exceptions=chain,
            request={"method": "GET", "url": "/x?password=eelpot", "headers": [["cookie", "eelpot=1"]]},
        ),
    )
    for form in ("markdown", "html"):
        text = running.ask("GET", f"/api/document?issue=1&as={form}").data.decode()
        assert "PassRefused" in text and "eelpot" not in text and "9f8e7d6c5b4a39281706" not in text, json.dumps(text)
