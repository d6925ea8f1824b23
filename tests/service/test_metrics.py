"""Metrics: a text that is as its format has it, to whoever may read, with a bounded number of series."""

from __future__ import annotations

import re

import pytest

from obitus.core.metrics import Family, text_of
from tests.conftest import Running
from tests.service.test_now import failed, tally

_LABELS = r'\{[a-zA-Z_]\w*="(?:[^"\\\n]|\\[\\n"])*"(?:,[a-zA-Z_]\w*="(?:[^"\\\n]|\\[\\n"])*")*\}'
_LINE = re.compile(rf"([a-zA-Z_:][\w:]*)({_LABELS})? ([+-]?(?:\d+(?:\.\d+)?(?:e[+-]?\d+)?|Inf))")


def parsed(text: str) -> dict[str, float]:
    """Return the values of a text by name and labels; fails where it is not as the format has it."""
    assert text.endswith("# EOF\n")
    found: dict[str, float] = {}
    family, kind = "", ""
    for line in text.splitlines()[:-1]:
        if line.startswith("# TYPE "):
            _, _, family, kind = line.split(" ")
        elif line.startswith(("# HELP ", "# UNIT ")):
            assert line.split(" ")[2] == family
        else:
            match = _LINE.fullmatch(line)
            assert match is not None, line
            assert match[1] == family + {"counter": "_total", "info": "_info", "gauge": ""}[kind]
            found[match[1] + (match[2] or "")] = float(match[3])
    return found


def test_the_service_in_numbers(running: Running) -> None:
    """Itself always, failures and runs by app where that is asked for; nothing to a stranger or a reporting key."""
    key = running.add_app()
    running.send(key, failed(1), tally(40, 1), tally(2, 1, outcome="failed", status=500))
    answer = running.ask("GET", "/metrics")
    assert answer.headers["content-type"].startswith("application/openmetrics-text; version=1.0.0")
    found = parsed(answer.data.decode())
    assert found["obitus_ready"] == 1 and found["obitus_reports_total"] == 3
    assert not any("outcome" in name for name in found)
    whole = parsed(running.ask("GET", "/metrics?by_app=true").data.decode())
    assert whole['obitus_runs_total{app="sailings",environment="production",outcome="failed"}'] == 2
    assert whole['obitus_failures_total{app="sailings",environment="production"}'] == 1
    assert whole['obitus_issues{app="sailings",state="untriaged"}'] == 1
    assert running.http.request("GET", running.url + "/metrics").status == 401
    assert running.ask("GET", "/metrics", token=key).status in (401, 403)


def test_names_and_labels_cannot_break_the_text() -> None:
    """Quotes, backslashes and line breaks in a label are escaped; a name that is none is refused."""
    family = Family("ferry_runs", "counter", "Runs\nof all")
    family.add(3, app='a"b\\c\nd')
    text = text_of([family])
    assert 'app="a\\"b\\\\c\\nd"' in text and len(text.splitlines()) == 4
    parsed(text)
    for wrong in (Family("ferry-runs", "gauge", ""), Family("ferry_runs", "gauge", "", "seconds")):
        with pytest.raises(ValueError, match="is no name"):
            text_of([wrong])
