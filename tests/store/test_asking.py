"""Questions have one answer, whether SQL gives it or the predicate: on the same records, whatever they hold and whatever is asked."""

from __future__ import annotations

import json
import random
import uuid
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from obitus.core.asking import holds, read
from obitus.core.asking.records import TEXTS, record_of
from obitus.core.clock import DAY_MS, to_text
from obitus.core.severity import SEVERITIES
from obitus.service.intake.prepare import Preparer, Ready, Sender
from obitus.store import apps
from obitus.store.asking import Looked, find, finding
from obitus.store.asking.records import records_of
from obitus.store.database import Reader, typed
from obitus.store.days.logs import facts_of
from obitus.store.days.reading import DayReaders
from obitus.store.evidence import Evidence
from obitus.store.intake.facts import Prepared
from obitus.store.intake.taking import take
from obitus.store.records import OpenRecords
from obitus.store.writer import Writer
from tests.examples import many

NOW_MS = 1_790_000_000_000
TRACES = ("0af7651916cd43dd8448eb211c80319c", "b9c7c989f97918e1d6af3e2e4b8c2a11")
RUNS = (str(uuid.UUID(int=7 << 76 | 2 << 62)), str(uuid.UUID(int=5)))
TEMPLATES = ("berth %d is free", "boarded %s", "no depth", "100%% of {pier}", "Straße %s gesperrt", "泊位 %d 已满")
POINTS = ("GET /berths", "POST /sailings/{id}/boardings", "job nightly-manifest")
VALUES: dict[str, list[Any]] = {
    "user.id": ["p-101", "p-102", "007"], "passengers": [1, 2, 3, 503], "wait_s": [0.25, 1.5, 12.0], "crew": [True, False],
    "odd name": ["", "x y", 'say "so"', "é"], "list": [[1, "a"]], "null": [None], "code": ["503", "5e2", "abc"],
    "http.response.body.size": [200, 2048, 3_000_000], "severity_text": ["warn"],
}  # fmt: skip


class Kept:
    """A store with some hundreds of logs and runs in it, and the fields of each."""

    def __init__(self, folder: Path) -> None:
        self.writer = Writer(folder / "obitus.sqlite3")
        self.reader = Reader(folder / "obitus.sqlite3")
        self.days = DayReaders(folder / "days", self.reader)
        self.evidence = Evidence(self.reader, self.days)
        self.records: dict[str, dict[int, dict[str, Any]]] = {"failure": {}, "log": {}, "run": {}}
        dice = random.Random(3)
        for app_id, app in enumerate(("sailings", "gatekeeper"), 1):
            assert self.writer.run(lambda c, app=app: apps.add_app(c, app, "script", NOW_MS)) == app_id  # type: ignore[misc]
            for environment in ("production", "staging"):
                sender = Sender(app_id, app, environment, NOW_MS)
                reports = [self._report(dice) for _ in range(90)]
                prepared = []
                for report in reports:
                    ready = Preparer(self.evidence).prepare(json.dumps(report).encode(), sender)
                    assert isinstance(ready, Ready), ready
                    prepared.append(ready.prepared)
                self.writer.run(lambda c, p=prepared: take(c, self.writer.days, p))  # type: ignore[misc]
                for report in reports:
                    kind = report["kind"]
                    self.records[kind][len(self.records[kind])] = record_of(report, app=app, environment=environment, received_ms=NOW_MS) | {"id": report["id"]}  # fmt: skip

    @staticmethod
    def _report(dice: random.Random) -> dict[str, Any]:
        attributes = {name: dice.choice(values) for name, values in VALUES.items() if dice.random() < 0.6}
        report: dict[str, Any] = {
            "id": str(uuid.UUID(int=dice.getrandbits(128), version=4)), "attributes": attributes,
            # Some lie exactly at the same time.
            "time": to_text(NOW_MS - dice.randrange(30) * (DAY_MS // 10)),
        }  # fmt: skip
        if dice.random() < 0.5:
            report["release"] = dice.choice(("3.0.0", "3.1.0"))
        if dice.random() < 0.5:
            report["trace_id"] = dice.choice(TRACES)
        if dice.random() < 0.6:
            template = dice.choice(TEMPLATES)
            message = template.replace("%d", str(dice.randrange(4))).replace("%s", dice.choice(("p-101", "Gate_Keeper", "x"))).replace("%%", "%").replace("{pier}", "eastholm")  # fmt: skip
            report |= {"kind": "log", "severity": dice.choice(SEVERITIES), "message": message}
            if dice.random() < 0.3:
                report["message"] = dice.choice(("", "no depth", "a long word " + "x" * 70, "a b c"))
            if dice.random() < 0.7:
                report["template"] = dice.choice((template, report["message"]))
            if dice.random() < 0.7:
                report["logger"] = dice.choice(("pier", "sailings.fares"))
            if dice.random() < 0.4:
                report["run"] = {"entry_point": dice.choice(POINTS)} | ({"id": dice.choice(RUNS).upper()} if dice.random() < 0.5 else {})  # fmt: skip
            if dice.random() < 0.2:
                report["span_id"] = "051581bf3cb55c13"
            return report
        if dice.random() < 0.4:
            link = {
                "type": dice.choice(("KeyError", "skerry.Fog")),
                "message": dice.choice(("no depth", "'p-101'", "")),
            }
            report |= {"kind": "failure", "exceptions": [link, {"type": "OSError", "message": "deep"}]}
            if dice.random() < 0.6:
                report["run"] = {"entry_point": dice.choice(POINTS), "id": dice.choice(RUNS)}
            return report | {"severity": dice.choice(SEVERITIES), "handled": dice.random() < 0.5}
        run: dict[str, Any] = {"entry_point": dice.choice(POINTS)}
        if dice.random() < 0.7:
            run |= {"outcome": dice.choice(("ok", "failed", "refused")), "duration_ms": dice.choice((12, 250.5, 2000.0)), "kept": "it failed", "id": dice.choice(RUNS)}  # fmt: skip
        request = {"method": "GET", "url": dice.choice(("/berths?x=1", "/Sailings/7"))}
        if dice.random() < 0.5:
            request["status"] = dice.choice((200, 404, 503))
        return report | {"kind": "run", "run": run} | ({"request": request} if dice.random() < 0.6 else {})

    def found(self, kind: Any, text: str, **more: Any) -> list[str]:
        """Return the ids of the records that SQL finds, newest first."""
        node = read(text, NOW_MS) if text else None
        answer = find(self.reader, self.days, kind, node, 0, NOW_MS + 1, most=500, limit_s=60, **more)
        assert not answer.more
        return [self.id_of(day, row) for day, row in answer.rows]

    def id_of(self, day: int, row: Any) -> str:
        (found,) = self.days.rows(day, "SELECT id FROM ids WHERE place = ?", (row.place,))
        return str(uuid.UUID(bytes=found["id"]))


@pytest.fixture(scope="module")
def kept(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Kept]:
    made = Kept(tmp_path_factory.mktemp("asked"))
    yield made
    made.days.close()
    made.reader.close()
    made.writer.close()


FIELDS = [
    "app", "environment", "release", "time", "trace_id", "entry_point", "run", "severity", "logger", "message", "template", "span_id", "outcome",
    "status", "duration", "request", "kept", "type", "handled", "gone", *VALUES,
]  # fmt: skip
TEXTS_ASKED = [
    "sailings", "production", "3.1.0", *TRACES, TRACES[0][:5], *RUNS, RUNS[0].upper(), "GET /berths", "pier", "no depth", "berth %d is free", "", "failed", "503", "503.0", "2", "0.25", "12",
    "true", "TRUE", "1", "p-1", "p-102", "x y", 'say "so"', "é", "abc", '[1,"a"]', "null", "007", "straße", "051581bf3cb55c13", "KeyError", "skerry.Fog",
]  # fmt: skip


def quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


@st.composite
def questions(draw: st.DrawFn, deep: int = 0) -> str:
    """A question about anything that the records hold, or do not hold."""
    kind = draw(st.sampled_from(["compared"] * 5 + ["prefix", "exists", "words", "open", "severity", "quantity"] + (["not", "all", "any"] if deep < 3 else [])))  # fmt: skip
    name = quoted(draw(st.sampled_from(FIELDS)))
    if kind == "compared":
        name = quoted(draw(st.sampled_from([field for field in FIELDS if field not in ("time", "duration")])))
        signs = ["=", "!=", "~"] if name == '"severity"' else ["=", "=", "!=", "~", ">", ">=", "<", "<="]
        return f"{name}{draw(st.sampled_from(signs))}{quoted(draw(st.sampled_from(TEXTS_ASKED)))}"
    if kind == "prefix":
        begins = draw(st.sampled_from(["p-", "GET", "5", "no", "g", "1", '"no d"', '"GET /"', '"x y"']))
        return f"{name}={begins}*" if name != '"severity"' else "berth"
    if kind == "exists":
        return f"{name} exists"
    if kind in ("words", "open"):
        word = draw(st.sampled_from(["berth", "no depth", "depth no", "gate", "GATE keeper", "p 101", "strasse", "sailings 7", "x" * 70, "eastholm", "boarding", "get", "fog", "keyerror", "deep", "已满", "位 12", "满已", "泊"]))  # fmt: skip
        if kind == "words":
            return quoted(word)
        return f"{word.split()[0][:5]}*" if " " not in word else f"{quoted(word[:-2])}*"
    if kind == "severity":
        return f"severity{draw(st.sampled_from(['=', '!=', '>', '>=', '<', '<=']))}{draw(st.sampled_from(SEVERITIES))}"
    if kind == "quantity":
        return draw(st.sampled_from(["time>-1d", "time<=-36h", "duration>200ms", "duration<=0.2505s", "duration=12", "duration=2s", "wait_s>=1500ms", "http.response.body.size>2KiB", f"time={to_text(NOW_MS - DAY_MS // 10)}"]))  # fmt: skip
    if kind == "not":
        return f"not ({draw(questions(deep + 1))})"
    parts = draw(st.lists(questions(deep + 1), min_size=2, max_size=3))
    return (" or " if kind == "any" else " ").join(f"({part})" for part in parts)


@many(300)
@given(questions(), st.sampled_from(["failure", "log", "run"]), st.booleans())
def test_both_give_the_same_answer(kept: Kept, question: str, kind: Any, narrow: bool) -> None:
    """Whether the text index is asked first, or finds too much to be of use."""
    node = read(question, NOW_MS)
    wanted = [record for record in kept.records[kind].values() if holds(node, record, TEXTS[kind])]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(finding, "MOST_NARROWED", finding.MOST_NARROWED if narrow else 3)
        found = kept.found(kind, question)
    assert sorted(found) == sorted(record["id"] for record in wanted), question
    times = {record["id"]: record["time"] for record in kept.records[kind].values()}
    assert [times[one] for one in found] == sorted((times[one] for one in found), reverse=True)


@pytest.mark.parametrize("kind", ["failure", "log", "run"])
def test_a_row_says_what_its_report_said(kept: Kept, kind: Any) -> None:
    """The fields of a row are those of the whole report, whatever stands in columns and whatever repeats."""
    answer = find(kept.reader, kept.days, kind, None, 0, NOW_MS + 1, most=500, limit_s=60)
    found = records_of(kept.days, kind, finding.names_in(kept.reader), answer.rows)
    said = {kept.id_of(day, row): record.values for (day, row), record in zip(answer.rows, found, strict=True)}
    wanted = {record["id"]: {name: value for name, value in record.items() if name != "id"} for record in kept.records[kind].values()}  # fmt: skip
    assert said == wanted and len(said) > 30


def test_page_after_page(kept: Kept) -> None:
    """Pages follow one another without a gap or a repetition, also where many lie at the same time."""
    for text in ("", "severity>=WARN or berth"):
        whole, pages, after = kept.found("log", text), [], None
        while True:
            node = read(text, NOW_MS) if text else None
            page = find(kept.reader, kept.days, "log", node, 0, NOW_MS + 1, most=7, after=after)
            pages += [kept.id_of(day, row) for day, row in page.rows]
            if not page.more:
                break
            day, row = page.rows[-1]
            after = Looked(row.time_ms, day << 32 | row.place)
        assert pages == whole and len(whole) > 30


def test_what_takes_too_long_is_cut_off_and_says_so(kept: Kept) -> None:
    """The time of one question is bounded; what was found until then is shown."""
    answer = find(kept.reader, kept.days, "log", read("message~a", NOW_MS), 0, NOW_MS + 1, limit_s=0)
    assert answer.rows == [] and answer.more and "longer than 0 s" in answer.cut


@many(150)
@given(questions(), st.sampled_from(["failure", "log", "run"]), st.integers(1, 12), st.booleans(), st.booleans())
def test_a_page_is_the_newest_of_all(kept: Kept, question: str, kind: Any, most: int, late: bool, soon: bool) -> None:
    """Few of many, in the same order, also where what the text index finds first was received last and happened long ago.

    Whether the text index is asked on and on, or the newest records are looked at because what is meant is everywhere among them.
    """
    node = read(question, NOW_MS)
    wanted = sorted((r["time"] for r in kept.records[kind].values() if holds(node, r, TEXTS[kind])), reverse=True)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(finding, "SAME_COMMIT_MS", finding.SAME_COMMIT_MS if late else 0)
        patch.setattr(finding, "SOON_MET", finding.SOON_MET if soon else 0)
        answer = find(kept.reader, kept.days, kind, node, 0, NOW_MS + 1, most=most, limit_s=60)
    assert [row.time_ms for _, row in answer.rows] == wanted[:most] and answer.more == (len(wanted) > most), question


def test_a_long_record_is_found_as_soon_as_it_is_there(tmp_path: Path) -> None:
    """Of long records the text index holds a part. That a file has none is remembered only until something is committed to it."""
    records = OpenRecords(tmp_path / "obitus.sqlite3", "http://localhost")
    try:
        app = int(records.writer.run(lambda c: apps.add_app(c, "sailings", "script", 0)))
        day_ms = 20_000 * DAY_MS

        def add(number: int, message: str) -> None:
            content = {"severity": "INFO", "logger": "tides", "message": message}
            one = Prepared(
                bytes([number]) * 16,
                "log",
                app,
                "production",
                "",
                day_ms + number,
                day_ms + number,
                20_000,
                log=facts_of(content),
            )
            records.writer.run(lambda c: take(c, records.writer.days, [one]))

        def found(word: str) -> list[int]:
            node = read(word, day_ms + DAY_MS)
            rows = find(records.reader, records.days, "log", node, day_ms, day_ms + DAY_MS).rows
            return [one.row.time_ms - day_ms for one in rows]

        add(1, "low tide")
        assert found("tide") == [1] and found("lantern") == []
        words = " ".join(f"w{number}" for number in range(20_000))
        add(2, f"{words} lantern")
        assert found("lantern") == [2] and found("w19999") == [2]
        add(3, "a lantern")
        assert found("lantern") == [3, 2] and found("tide") == [1]
    finally:
        records.close()


def test_a_page_of_a_flood_looks_at_few(tmp_path: Path) -> None:
    """Where thousands came within a second, a page of what is everywhere among them is met among the newest; none of them is missing."""
    records = OpenRecords(tmp_path / "obitus.sqlite3", "http://localhost")
    try:
        app = int(records.writer.run(lambda c: apps.add_app(c, "sailings", "script", 0)))
        day_ms, count = 20_000 * DAY_MS, 4 * finding.FEW_ROWS
        dice = random.Random(5)
        times = [day_ms + dice.randrange(1000) for _ in range(count)]
        prepared = [
            Prepared(
                number.to_bytes(16, "big"), "log", app, "production", "", at_ms, day_ms + 1000, 20_000,
                log=facts_of({"severity": "INFO", "logger": "tides", "message": "low tide" if number % 5 == 0 else "fog"}),
            )
            for number, at_ms in enumerate(times)
        ]  # fmt: skip
        for start in range(0, count, 1000):
            records.writer.run(lambda c, some=prepared[start : start + 1000]: take(c, records.writer.days, some))  # type: ignore[misc]
        node = read("tide", day_ms + DAY_MS)
        rows_read = 0

        def counted(cursor: Any, kind: Any) -> Any:
            nonlocal rows_read
            rows = typed(cursor, kind)
            rows_read += len(rows)
            return rows

        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(finding, "typed", counted)
            found = find(records.reader, records.days, "log", node, day_ms, day_ms + 1001, most=20).rows
        assert [row.time_ms for _, row in found] == sorted(times[::5], reverse=True)[:20]
        assert rows_read < 100, "not all that came within the second"
    finally:
        records.close()
