"""Failures, logs and runs over HTTP: asked for, counted, taken away as a file, and led from one to the other."""

from __future__ import annotations

import csv
import io
import json
import uuid
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlencode

import pytest

from tests.conftest import Running, failure, start, until

RUN, OTHER_RUN = str(uuid.uuid4()), str(uuid.uuid4())
TRACE = "0af7651916cd43dd8448eb211c80319c"


def ago(seconds: float) -> str:
    return (datetime.now(UTC) - timedelta(seconds=seconds)).isoformat(timespec="milliseconds")


def log(message: str = "no fare for 3 cars", seconds_ago: float = 1, **more: Any) -> dict[str, Any]:
    report = {"kind": "log", "id": str(uuid.uuid4()), "time": ago(seconds_ago), "severity": "INFO", "message": message}
    return report | {"logger": "sailings.fares"} | more


def run(
    entry_point: str = "GET /fares", duration_ms: float = 12, seconds_ago: float = 1, **more: Any
) -> dict[str, Any]:
    about = {"entry_point": entry_point, "id": str(uuid.uuid4()), "outcome": "ok", "duration_ms": duration_ms}
    return {"kind": "run", "id": str(uuid.uuid4()), "time": ago(seconds_ago), "run": about | more.pop("run", {})} | more


def asked(running: Running, path: str, **query: Any) -> Any:
    return running.get(f"/api/{path}?{urlencode(query, doseq=True)}")


def messages(answer: Any) -> list[str]:
    return [row["values"]["message"] for row in answer["records"]]


def fill(running: Running) -> str:
    """Thirty logs of four passengers, five runs, one failure, and one log of another app in the same trace."""
    key = running.add_app()
    reports = [failure(run={"entry_point": "POST /boardings", "id": RUN}, trace_id=TRACE, time=ago(3))]
    for number in range(30):
        about = {"user.id": f"p-10{number % 4}", "wait_s": number * 0.5, "code.file.path": "/srv/fares.py"}
        at_run = {"run": {"entry_point": "POST /boardings", "id": RUN}, "trace_id": TRACE} if number < 3 else {}
        more = {"severity": "WARN", "attributes": about, "template": "no fare for %d cars"} | at_run
        reports.append(log(f"no fare for {number} cars", 60 - number, **more))
    reports += [run(duration_ms=100 * number, request={"method": "GET", "url": "/fares", "status": 200}) for number in range(1, 6)]  # fmt: skip
    assert running.send(key, *reports).json()["stored"] == 36
    assert running.send(running.add_app("gatekeeper"), log("gate 2 opens", 2, trace_id=TRACE)).json()["stored"] == 1
    return key


def test_names_that_do_not_exist(running: Running) -> None:
    """Where nothing is found, it is said which names no record has, and which come near."""
    fill(running)
    hint = asked(running, "records/logs", question="user.ids=p-101 berth")["hint"]
    assert hint == "No record has a field user.ids; these come near: user.id."
    assert "these come near: code.file.path" in asked(running, "records/logs", question="path~srv")["hint"]
    assert asked(running, "records/logs", question="zzz exists")["hint"] == "No record has a field zzz."
    assert asked(running, "records/logs", question="user.id=nobody")["hint"] is None
    assert asked(running, "records/logs", question="wait_s>=1")["hint"] is None
    hint = asked(
        running, "records/logs", question='(user.id:p-102 or severity:WARN) "user.id:p-103" berth:4 http://pier'
    )["hint"]
    assert hint == (
        "user.id:p-102 is read as words; write user.id=p-102 to compare the field. severity:WARN is read as words; write severity=WARN to compare the field."
    )


def test_pages(running: Running) -> None:
    """Newest first, page after page, narrowed by question and by the bar above the page."""
    fill(running)
    whole = asked(running, "records/logs", limit=100)
    assert len(whole["records"]) == 31 and whole["next"] is None and whole["cut"] is None
    times = [row["time"] for row in whole["records"]]
    assert times == sorted(times, reverse=True)
    paged, cursor = [], None
    while True:
        page = asked(running, "records/logs", limit=7, **({"cursor": cursor} if cursor else {}))
        paged += page["records"]
        cursor = page["next"]
        if not cursor:
            break
    assert paged == whole["records"]
    few = asked(running, "records/logs", question='user.id=p-101 wait_s>=10 "no fare"')
    assert messages(few) == ["no fare for 29 cars", "no fare for 25 cars", "no fare for 21 cars"]
    assert messages(asked(running, "records/logs", app="gatekeeper")) == ["gate 2 opens"]
    assert asked(running, "records/logs", environment="staging")["records"] == []
    assert asked(running, "records/logs", release="9.9", question="severity>=WARN or gate")["records"] == []
    slow = asked(running, "records/runs", question="duration>250ms")["records"]
    assert [row["values"]["duration"] for row in slow] == [500, 400, 300]
    (failed,) = asked(running, "records/failures", question="TideUnavailable")["records"]
    assert failed["issue"] == 1 and running.get(f"/api/failures/{failed['failure']}")["issue"] == 1


def test_a_record_opens_to_all_it_holds(running: Running) -> None:
    """Its report, its values, and the failures of its run; from each kind."""
    fill(running)
    row = asked(running, "records/logs", question='"no fare for 2 cars"')["records"][0]
    whole = running.get(f"/api/record/{row['number']}")
    assert whole["record"] == row and whole["gone"] is None
    assert whole["report"]["attributes"] == {"user.id": "p-102", "wait_s": 1.0, "code.file.path": "/srv/fares.py"}
    assert whole["report"]["template"] == "no fare for %d cars" and whole["report"]["run"]["id"] == RUN
    assert [one["title"] for one in whole["failures"]] == ["TideUnavailable in sailings.tides.depth_at"]
    for kind in ("failures", "runs"):
        row = asked(running, f"records/{kind}")["records"][0]
        whole = running.get(f"/api/record/{row['number']}")
        assert whole["report"]["kind"] == kind[:-1] and whole["record"] == row
        assert whole["failures"] == []
    for number in (0, 17, 2**40 + 5, 2**48 - 1):
        assert running.ask("GET", f"/api/record/{number}").json()["slug"] == "not-found"


def test_everything_of_a_run_and_of_a_trace(running: Running) -> None:
    """Oldest first, of all kinds, across apps."""
    fill(running)
    of_run = asked(running, "together", run=RUN.upper())
    assert [row["kind"] for row in of_run["records"]] == ["logs", "logs", "logs", "failures"]
    assert [one["issue"] for one in of_run["failures"]] == [1]
    of_trace = asked(running, "together", trace=TRACE)
    assert [row["values"]["app"] for row in of_trace["records"]] == ["sailings"] * 4 + ["gatekeeper"]
    assert asked(running, "together", run=OTHER_RUN)["records"] == []
    for query in ("", f"run={RUN}&trace={TRACE}", "run=7", "trace=xyz"):
        assert running.ask("GET", f"/api/together?{query}").json()["slug"] == "bad-field"


def test_what_occurs(running: Running) -> None:
    """The commonest values of each field of what was found; fields with one value each are left out."""
    fill(running)
    answer = asked(running, "records/logs/occurring", question="severity=WARN")
    assert answer["looked_at"] == 30 and answer["all"]
    fields = {field["name"]: field for field in answer["fields"]}
    assert [one["value"] for one in fields["user.id"]["values"]] == ["p-100", "p-101", "p-102", "p-103"]
    assert [one["records"] for one in fields["user.id"]["values"]] == [8, 8, 7, 7]
    assert fields["template"]["values"] == [{"value": "no fare for %d cars", "records": 30}]
    assert "wait_s" not in fields and "time" not in fields and "message" not in fields
    assert next(iter(fields)) == "severity"


def test_names_and_values_that_exist(running: Running) -> None:
    """For completion: those that records have come with how many have them; a field of its own is named in any case."""
    fill(running)
    names = {one["value"]: one["records"] for one in asked(running, "records/logs/names")["values"]}
    assert names["user.id"] == 30 and names["logger"] == 31 and names["span_id"] == 0
    assert [one["value"] for one in asked(running, "records/logs/names", begins="user")["values"]] == ["user.id"]
    values = asked(running, "records/logs/names", field="user.id", begins="P-10")["values"]
    assert {one["value"] for one in values} == {"p-100", "p-101", "p-102", "p-103"}
    assert asked(running, "records/logs/names", field="user.idd")["values"] == []


def test_summaries(running: Running) -> None:
    """Counted by fields, in all and over time; percentiles of a number."""
    fill(running)
    by_user = asked(running, "records/logs/summary", summary="count by user.id, app")
    groups = [(group["keys"], group["value"]) for group in by_user["groups"]]
    assert groups == [(["p-101", "sailings"], 8), (["p-100", "sailings"], 8), (["p-103", "sailings"], 7), (["p-102", "sailings"], 7), ([None, "gatekeeper"], 1)]  # fmt: skip
    assert by_user["records"] == 31 and by_user["done"] and by_user["groups_in_all"] == 5
    p95 = asked(running, "records/runs/summary", summary="p95 duration by entry_point")
    assert p95["groups"][0]["keys"] == ["GET /fares"] and p95["groups"][0]["value"] == pytest.approx(500, rel=0.02)
    summed = asked(running, "records/logs/summary", summary="count over time", window="1h", question="severity=WARN")
    assert (
        sum(summed["over_time"]) == 30
        and len(summed["over_time"]) == len(summed["slices"])
        and summed["slice_ms"] == 60_000
    )
    for text, position in (("count by", 9 - 2), ("p96 duration", 1)):
        answer = running.ask("GET", f"/api/records/logs/summary?summary={quote(text)}").json()
        assert (answer["slug"], answer["field"], answer["position"]) == ("bad-question", "summary", position)


def test_a_summary_says_how_far_it_is(running: Running) -> None:
    """As lines of JSON: each further than the one before, the last one whole."""
    fill(running)
    answer = running.ask(
        "GET", "/api/records/logs/summary?summary=count+by+logger", headers={"Accept": "application/x-ndjson"}
    )
    lines = [json.loads(line) for line in answer.data.splitlines()]
    assert answer.headers["Content-Type"].startswith("application/x-ndjson")
    assert lines[-1]["done"] and lines[-1]["records"] == 31
    assert lines[-1] == asked(running, "records/logs/summary", summary="count by logger") | {"window": lines[-1]["window"], "back_to": lines[-1]["back_to"]}  # fmt: skip
    assert [line["records"] for line in lines] == sorted(line["records"] for line in lines)


def test_templates(running: Running) -> None:
    """Records by the template that they came with; those without by one that is found. Each leads to its records."""
    key = fill(running)
    running.send(key, *(log(f"tide at {pier}: {number}.5 m", 30, severity="ERROR" if number == 7 else "DEBUG") for number in range(20) for pier in ("eastholm", "merrow")))  # fmt: skip
    running.send(key, log("=?", 5), log("", 5))
    answer = asked(running, "records/logs/templates")
    found = {one["text"]: (one["records"], one["severity"], one["found"]) for one in answer["templates"]}
    assert found["no fare for %d cars"] == (30, "WARN", False)
    assert found["tide at eastholm: … m"] == (20, "ERROR", True) and found["gate … opens"] == (1, "INFO", True)
    assert answer["records"] == 73 and answer["done"] and sum(n for n, *_ in found.values()) == 73
    for one in answer["templates"]:
        if one["question"]:
            there = asked(running, "records/logs", question=one["question"], limit=100)["records"]
            assert len(there) == one["records"] and one["latest"] in [row["number"] for row in there], one
    few = asked(running, "records/logs/templates", question="severity>=WARN", most=1)
    assert few["records"] == 32 and len(few["templates"]) == 1 and few["templates_in_all"] == 3
    lines = running.ask(
        "GET", "/api/records/logs/templates", headers={"Accept": "application/x-ndjson"}
    ).data.splitlines()
    assert json.loads(lines[-1])["records"] == 73 and json.loads(lines[-1])["done"]


def test_files(running: Running) -> None:
    """CSV and lines of JSON, all of it, columns as asked for; nothing in a cell is carried out."""
    key = fill(running)
    running.send(key, log("=1+cmd|'/C calc'!A0", attributes={"user.id": "+1", "wait_s": -2, "odd": 'a "b", \n c'}))
    answer = running.ask(
        "GET", "/api/records/logs/export?question=severity%3DWARN&column=time&column=message&column=wait_s"
    )
    rows = list(csv.DictReader(io.StringIO(answer.data.decode())))
    assert len(rows) == 30 and list(rows[0]) == ["time", "message", "wait_s"] and rows[0]["wait_s"] == "14.5"
    assert answer.headers["Content-Type"].startswith("text/csv") and ".csv" in answer.headers["Content-Disposition"]
    (odd,) = csv.DictReader(io.StringIO(running.ask("GET", "/api/records/logs/export?question=calc&column=message&column=user.id&column=wait_s&column=odd").data.decode(), newline=""))  # fmt: skip
    assert odd == {"message": "'=1+cmd|'/C calc'!A0", "user.id": "'+1", "wait_s": "-2", "odd": 'a "b", \n c'}
    lines = running.ask("GET", "/api/records/logs/export?form=ndjson").data.splitlines()
    assert len(lines) == 32 and json.loads(lines[0])["message"].startswith("=1+cmd")
    assert running.ask("GET", "/api/records/logs/export?form=xml").json()["slug"] == "bad-field"


@pytest.mark.parametrize(
    "question",
    [
        "x" * 3000,
        "(" * 1000,
        "a=" + "b" * 1500,
        "severity>LOUD",
        '"',
        "user.id=\x00",
        "time>yesterday",
        "é\x1b[31m=<b>",
    ],
    ids=["long", "deep", "long value", "no severity", "open quote", "control", "no time", "markup"],
)
def test_bad_questions(running: Running, question: str) -> None:
    """Each is answered, with the place where it stops to be one, or with what it finds: nothing."""
    fill(running)
    for path in ("records/logs", "records/runs/occurring", "records/failures/tail", "records/logs/summary"):
        extra = {"summary": "count"} if path.endswith("summary") else {}
        answer = running.http.request(
            "GET", f"{running.url}/api/{path}?{urlencode({'question': question} | extra)}",
            headers={"Authorization": f"Bearer {running.token}"}, preload_content=False,
        )  # fmt: skip
        assert answer.status in (200, 422), answer.status
        if answer.status == 422:
            told = answer.json()
            assert told["slug"] in ("bad-question", "bad-field") and "question" in told["field"]
        answer.close()
    assert running.ask("GET", "/api/records/tallies").json()["slug"] == "bad-field"


def test_values_of_another_sort_and_a_clock_that_is_off(running: Running) -> None:
    """A number here and a text there, controls and markup: all is found as it was sent. What is a year off is refused."""
    key = running.add_app()
    reports = [
        log("one", attributes={"code": 503}), log("two", attributes={"code": "503"}), log("three", attributes={"code": True}),
        log("<b>\x1b[31m four", attributes={"<i>": "\x07", "code": [1, "a"]}), log("five", seconds_ago=-400 * 86400),
        log("six", seconds_ago=400 * 86400),
    ]  # fmt: skip
    lines = running.send(key, *reports).json()["lines"]
    assert [line.get("slug") for line in lines] == [None, None, None, None, "time-ahead", "time-too-old"]
    assert sorted(messages(asked(running, "records/logs", question="code=503"))) == ["one", "two"]
    assert messages(asked(running, "records/logs", question="code=true")) == ["three"]
    groups = asked(running, "records/logs/summary", summary="count by code")["groups"]
    assert sorted(map(repr, (group["keys"][0] for group in groups))) == ["'503'", "'[1,\"a\"]'", "503", "True"]
    (odd,) = asked(running, "records/logs", question="four")["records"]
    assert odd["values"]["<i>"] == "\x07" and odd["values"]["message"] == "<b>\x1b[31m four"
    assert len(asked(running, "records/logs", window="900d")["records"]) == 4


def test_words_of_scripts_without_spaces(running: Running) -> None:
    """They are found in the middle of a run, in their order; so are the words of other scripts beside them."""
    key = running.add_app()
    running.send(key, log("无法连接数据库"), log("据数库 is no such word"), log("データベースに接続できない db-7"))
    for question, wanted in (
        ("数据库", ["无法连接数据库"]),
        ("连接", ["无法连接数据库"]),
        ("接続", ["データベースに接続できない db-7"]),
        ('"ない db"', ["データベースに接続できない db-7"]),
        ("無", []),
        ("据 库", ["无法连接数据库", "据数库 is no such word"]),
        ("message~数据库", ["无法连接数据库"]),
    ):
        assert sorted(messages(asked(running, "records/logs", question=question))) == sorted(wanted), question


def test_only_who_is_signed_in(running: Running) -> None:
    key = fill(running)
    for path in ("records/logs", "records/logs/tail", "records/logs/export", "record/1", f"together?run={RUN}", "records/logs/summary?summary=count"):  # fmt: skip
        assert running.ask("GET", f"/api/{path}", token="nobody").status == 401
        assert running.ask("GET", f"/api/{path}", token=key).status == 403


class Following:
    """A tail that is followed."""

    def __init__(self, running: Running, path: str, since: str | None = None) -> None:
        headers = {"Authorization": f"Bearer {running.token}"} | ({"Last-Event-ID": since} if since else {})
        self.answer = running.http.request(
            "GET", running.url + path, headers=headers, preload_content=False, timeout=150
        )
        assert self.answer.status == 200
        self.id = ""
        self._events = self._read()
        assert next(self._events)[0] == "open"

    def _read(self) -> Iterator[tuple[str, dict[str, Any]]]:
        text = ""
        for piece in self.answer.stream(1, decode_content=True):
            text += piece.decode()
            while "\n\n" in text:
                block, text = text.split("\n\n", 1)
                lines = dict(line.split(": ", 1) for line in block.split("\n") if ": " in line)
                self.id = lines.get("id", self.id)
                if "event" in lines:
                    yield lines["event"], json.loads(lines["data"])

    def messages(self, count: int) -> list[str]:
        """Return the messages of the next records, so many at least."""
        found: list[str] = []
        while len(found) < count:
            found += [row["values"]["message"] for row in next(self._events)[1]["records"]]
        return found

    def close(self) -> None:
        self.answer.close()


def test_tail(running: Running) -> None:
    """What comes in and is meant is told, in order, and nothing else; what is late too."""
    key = fill(running)
    tail = Following(running, "/api/records/logs/tail?question=severity%3E%3DWARN&app=sailings")
    running.send(key, log("quiet"), log("loud", severity="ERROR"))
    assert tail.messages(1) == ["loud"]
    running.send(key, *[log(f"loud {number}", 30 - number, severity="WARN") for number in range(20)])
    assert tail.messages(20) == [f"loud {number}" for number in range(20)]
    running.send(key, log("late", 3 * 86400, severity="FATAL"))
    assert tail.messages(1) == ["late"]
    tail.close()


def test_a_tail_goes_on_without_a_gap(tmp_path: Path) -> None:
    """After a break, and after a restart of the service."""
    thread, running = start(tmp_path / "data")
    key = running.add_app()
    tail = Following(running, "/api/records/logs/tail")
    running.send(key, log("first"))
    assert tail.messages(1) == ["first"]
    tail.close()
    running.send(key, log("in between"))
    tail = Following(running, "/api/records/logs/tail", tail.id)
    assert tail.messages(1) == ["in between"]
    since = tail.id
    tail.close()
    running.send(key, log("before the stop"))
    running.http.clear()
    thread.stop()
    thread, running = start(tmp_path / "data")
    try:
        tail = Following(running, "/api/records/logs/tail", since)
        assert tail.messages(1) == ["before the stop"]
        running.send(key, log("after it"))
        assert tail.messages(1) == ["after it"]
        tail.close()
        # What is no id of ours begins with what comes from now on.
        odd = Following(running, "/api/records/logs/tail", "17,x")
        running.send(key, log("now"))
        assert odd.messages(1) == ["now"]
        odd.close()
    finally:
        running.http.clear()
        thread.stop()


def test_too_much_for_a_tail_is_counted(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """Of a flood the newest are told, and how many were left out."""
    monkeypatch.setattr("obitus.service.jobs.following_records.MOST_AT_ONCE", 5)
    key = running.add_app()
    tail = Following(running, "/api/records/logs/tail")
    running.send(key, *[log(f"m{number}", 60 - number) for number in range(40)])
    told = left_out = 0
    last = ""
    while told + left_out < 40:
        content = next(tail._events)[1]
        told, left_out = told + len(content["records"]), left_out + content["left_out"]
        last = content["records"][-1]["values"]["message"]
    assert told + left_out == 40 and left_out > 0 and last == "m39"
    tail.close()


def test_those_who_watch_share_what_one_look_hands_out(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """Many who watch do not make more work for the service than a few do: each is handed less of a flood, and told so; who asks the same counts once."""
    monkeypatch.setattr("obitus.service.jobs.following_records.MOST_OF_A_LOOK", 12)
    monkeypatch.setattr("obitus.service.jobs.following_records.FEWEST_AT_ONCE", 2)
    key = running.add_app()
    questions = ("severity=INFO", "logger=sailings.fares", "severity>=DEBUG", "severity>=INFO", "severity>=INFO")
    tails = [Following(running, f"/api/records/logs/tail?{urlencode({'question': question})}") for question in questions]  # fmt: skip
    running.send(key, *[log(f"m{number}", 60 - number) for number in range(40)])
    for tail in tails:
        at_once, came = list[int](), 0
        while came < 40:
            content = next(tail._events)[1]
            at_once.append(len(content["records"]))
            came += len(content["records"]) + content["left_out"]
        assert came == 40 and max(at_once) == 3
        tail.close()


def test_tails_end_with_their_pass_and_are_few(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("obitus.service.jobs.following_records.MOST_OF_A_PASS", 2)
    token = running.ask("POST", "/api/me/tokens", {"label": "watch"}).json()
    other = Running(running.service, running.url, token["token"], running.clock)
    tails = [Following(other, "/api/records/logs/tail") for _ in range(2)]
    answer = other.ask("GET", "/api/records/logs/tail")
    assert answer.status == 429 and answer.json()["slug"] == "too-busy"
    (mine,) = [one for one in running.get("/api/me/tokens")["tokens"] if one["label"] == "watch"]
    assert running.ask("DELETE", f"/api/me/tokens/{mine['id']}").status == 200
    for tail in tails:
        assert list(tail._events) == []
    until(lambda: not running.service.tailing._of_pass)
