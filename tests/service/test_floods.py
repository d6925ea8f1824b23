"""An issue that fails very often: some failures are kept whole, all are counted, and everything that counts agrees."""

from __future__ import annotations

import json
import re
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from obitus.core.clock import HOUR_MS, MINUTE_MS
from obitus.service.intake.known_forms import form_of
from obitus.service.intake.prepare import Preparer, Ready, Sender
from obitus.service.settings import Limits, system_clock_ms
from obitus.store.backups.verifying import verify
from obitus.store.days.files import path_of
from obitus.store.errors import StoreReadOnly
from obitus.store.evidence import Packer
from tests.conftest import Running, failure, serving, start
from tests.service.alerting.helpers import fired, rule, webhook
from tests.service.alerting.receivers import receiving
from tests.service.handed_over import handed_over
from tests.service.test_grouping import done, numbers, raised
from tests.service.test_records import ago, asked

FEW = Limits(whole_failures_at_once=20, whole_failures_a_second=0.001)


@pytest.fixture
def flooded(tmp_path: Path) -> Iterator[Running]:
    """A service that keeps twenty failures of an issue whole."""
    thread, found = start(tmp_path / "data", limits=FEW)
    yield found
    found.http.clear()
    thread.stop()


def of(user: str | None, **more: Any) -> dict[str, Any]:
    """Return a failure of a person."""
    return failure(**({"attributes": {"user.id": user}} if user else {}), **more)


def rows(running: Running) -> list[tuple[int, int]]:
    """Return the number of each failure that was kept whole, and how many it stands for."""
    data = running.service.settings.data
    with closing(sqlite3.connect(data / "obitus.sqlite3")) as main:
        return [(int(seq), int(n)) for seq, n in main.execute("SELECT seq, stands_for FROM failures ORDER BY seq")]


def whole_ones(running: Running) -> list[dict[str, Any]]:
    """Return all failures that were kept, of all issues."""
    return [one for issue in running.issues() for one in asked(running, f"issues/{issue['number']}/failures", window="14d", limit=200)["failures"]]  # fmt: skip


def counted(running: Running) -> dict[int, int]:
    """Return the failures of each issue, as they were counted."""
    found = {issue["number"]: issue["failures"] for issue in running.issues()}
    assert verify(running.service.settings.data) == []
    return found


def test_all_are_counted_and_some_are_kept(flooded: Running) -> None:
    """Counts, people, releases and hours are exact; what is sent again is there already; issue, failure and sender are told."""
    key = flooded.add_app()
    sent = [of(f"p-{number % 7}" if number % 3 else None) for number in range(300)]
    for at in range(0, 300, 50):
        answer = flooded.send(key, *sent[at : at + 50]).json()
        assert answer["stored"] == 50 and {line["issue"] for line in answer["lines"]} == {1}
    assert "counted and not kept whole" in answer["lines"][-1]["notes"][0]
    assert counted(flooded) == {1: 300}
    kept = whole_ones(flooded)
    assert 20 <= len(kept) <= 22 and sum(one["represents"] for one in kept) == 300
    issue = flooded.get("/api/issues/1?window=1h")
    assert issue["users"] == 7 and sum(issue["over_time"]) == 300
    assert f"{300 - len(kept)} failures of these were counted and not kept whole" in issue["what_failed"]
    assert {one["release"]: one["failures"] for one in issue["releases"]}["1.0.0"] == 300
    again = flooded.send(key, *sent[:120]).json()
    assert again["already_there"] == 120 and counted(flooded) == {1: 300}


def test_what_will_be_kept_whole_is_prepared_at_once(tmp_path: Path) -> None:
    """A flood that goes on costs each batch one commit, though some of its failures are kept whole and most only counted."""
    with serving(tmp_path / "data", Limits(whole_failures_at_once=20, whole_failures_a_second=20)) as running:
        _one_commit_a_batch(running)


def _one_commit_a_batch(running: Running) -> None:
    key = running.add_app()
    running.clock.stop()
    for _ in range(10):
        running.send(key, *[of(None) for _ in range(4)])
    written = handed_over(running)
    before = len(whole_ones(running))
    for _ in range(40):
        assert running.send(key, *[of(None) for _ in range(4)]).json()["stored"] == 4
        running.clock.ahead_ms += 70
    assert len(written) == 40 and before + 40 <= len(whole_ones(running)) <= before + 100
    assert counted(running) == {1: 200}


def test_each_release_environment_and_entry_point_keeps_one(flooded: Running) -> None:
    """What is new about a flood is seen whole, and counted apart."""
    key, other = flooded.add_app(), flooded.ask("POST", "/api/apps/sailings/keys", {"environment": "staging"}).json()["key"]  # fmt: skip
    points = ("POST /boardings", "GET /fares")
    for _ in range(4):
        for at, use in enumerate((key, other)):
            body = [failure(release=f"1.{at}.0", run={"entry_point": points[n % 2]}) for n in range(40)]
            assert flooded.send(use, *body).json()["stored"] == 40
    assert counted(flooded) == {1: 320}
    found = {(one["release"], one["environment"], one["entry_point"]) for one in whole_ones(flooded)}
    assert found == {(f"1.{at}.0", where, point) for at, where in enumerate(("production", "staging")) for point in points}  # fmt: skip
    lane = flooded.get("/api/issues/1")["releases"]
    assert {one["release"]: one["environments"] for one in lane} == {"1.0.0": {"production": 160}, "1.1.0": {"staging": 160}}  # fmt: skip


def test_of_many_that_none_represents_yet_one_is_kept(flooded: Running) -> None:
    """What a flood meets for the first time comes many times in one batch: the first of its kind represents the others."""
    key = flooded.add_app()
    flooded.clock.stop()
    for known, point in enumerate(("POST /boardings", "GET /fares", "GET /piers")):
        assert flooded.send(key, *[failure(run={"entry_point": point}) for _ in range(50)]).json()["stored"] == 50
        assert counted(flooded) == {1: 50 * (known + 1)} and len(rows(flooded)) == 21 + known


def test_what_is_asked_counts_them_all(flooded: Running) -> None:
    """Alerts count each once, whenever they look; so do those that begin now, summaries and Now."""
    key = flooded.add_app()
    with receiving() as receiver:
        webhook(flooded, receiver)
        _ask_all(flooded, key)


def _ask_all(flooded: Running, key: str) -> None:
    rule(flooded, "count of failures > 100 in 10m by issue")
    rule(flooded, "count of people >= 5 in 10m by issue where type=skerry.TideUnavailable", "people")
    rule(flooded, "sum depth of failures > 250 in 10m by issue where words", "sums")
    look = flooded.service.alert_windows.look
    look()
    for _ in range(3):
        body = [failure(attributes={"user.id": f"p-{n % 5}", "depth": 2}, exceptions=[{"type": "skerry.TideUnavailable", "message": "words", "frames": failure()["exceptions"][0]["frames"]}]) for n in range(50)]  # fmt: skip
        flooded.send(key, *body)
        look()
    values = {one["rule"]: one["worst"] for one in fired(flooded)}
    assert values == {"some-rule": "150", "people": "5", "sums": "300"}, "each was counted once, whenever it was looked at"  # fmt: skip
    # A rule that begins now is counted back over all of them, and by what they are asked for.
    rule(flooded, "count of failures > 149 in 10m by entry_point where depth=2", "back")
    look()
    assert next(one["worst"] for one in fired(flooded) if one["rule"] == "back") == "150"
    assert asked(flooded, "records/failures/summary", summary="count by type")["groups"][0]["value"] == 150
    assert asked(flooded, "records/failures/summary", summary="sum depth")["value"] == 300
    assert flooded.get("/api/now?window=1h")["failures"]["now"] == 150
    assert len(rows(flooded)) < 30


def test_a_settled_issue_comes_back_by_one_that_is_kept(flooded: Running) -> None:
    """Decisions hold in a flood, and what ends them is evidence."""
    key = flooded.add_app()
    flooded.send(key, *(failure() for _ in range(60)))
    settled = flooded.ask("POST", "/api/issues/1/settle", {"release": "2.0.0"})
    assert settled.status == 200, settled.data
    flooded.send(key, *(failure(release="1.0.0") for _ in range(30)))
    issue = flooded.get("/api/issues/1")
    assert issue["state"] == "settled" and issue["from_older_releases"] == 30
    flooded.send(key, *(failure(release="2.0.0") for _ in range(30)))
    issue = flooded.get("/api/issues/1")
    assert issue["state"] == "regressed" and issue["history"][-1]["failure"] in {
        one["id"] for one in whole_ones(flooded)
    }
    assert counted(flooded) == {1: 120}


def test_those_that_are_counted_go_where_the_one_goes_that_stands_for_them(flooded: Running) -> None:
    """Merged and undone, with their people, and still one flood after that."""
    key = flooded.add_app()
    one = lambda n: raised("quote", "raise Lost(pier)", attributes={"user.id": f"p-{n % 4}"})  # noqa: E731
    two = lambda n: raised("moor", "raise Shut(pier)", kind="KeyError", attributes={"user.id": f"q-{n % 3}"})  # noqa: E731
    a = numbers(flooded, *(one(n) for n in range(60)), key=key)[0]
    b = numbers(flooded, *(two(n) for n in range(30)), key=key)[0]
    assert counted(flooded) == {a: 60, b: 30}
    merged = done(flooded, flooded.ask("POST", f"/api/issues/{a}/merge", {"into": b}))
    assert counted(flooded) == {b: 90} and flooded.get(f"/api/issues/{b}")["users"] == 7
    flooded.send(key, *(one(n) for n in range(40)))
    assert counted(flooded) == {b: 130}
    done(flooded, flooded.ask("POST", f"/api/regroupings/{merged['id']}/undo", {}))
    assert counted(flooded) == {a: 100, b: 30} and flooded.get(f"/api/issues/{a}")["users"] == 4


def test_after_a_restart_and_at_the_turn_of_an_hour(tmp_path: Path) -> None:
    """Nothing has to be remembered for counts to be right; failures that are apart in time have one each that stands for them."""
    thread, running = start(tmp_path / "data", limits=FEW)
    key = running.add_app()
    running.send(key, *(failure() for _ in range(50)))
    running.http.clear()
    thread.stop()
    thread, running = start(tmp_path / "data", limits=FEW)
    try:
        running.send(key, *(failure() for _ in range(50)))
        for hours in range(3):
            running.send(key, *(failure(time=ago(hours * HOUR_MS / 1000 + part * MINUTE_MS / 1000)) for part in range(2) for _ in range(10)))  # fmt: skip
        assert counted(running) == {1: 160}
        with closing(sqlite3.connect(tmp_path / "data" / "obitus.sqlite3")) as main:
            hours = main.execute("SELECT time_ms / 3600000, SUM(stands_for) FROM failures GROUP BY 1").fetchall()
        assert len(hours) >= 3 and sum(n for _, n in hours) == 160
    finally:
        running.http.clear()
        thread.stop()


def test_a_part_that_was_taken_back_stands_for_nothing(flooded: Running) -> None:
    """A commit that fails after its first failures were taken leaves nothing that later ones are counted with."""
    key = flooded.add_app()
    flooded.send(key, *(failure() for _ in range(25)))
    writer = flooded.service.records.writer

    was = []

    def broken(point: str) -> None:
        if not was and point == "before the main file" and writer.days._taking_part:
            was.append(point)
            raise StoreReadOnly("the file was moved away")

    body = [failure(release="9.9.9") for _ in range(30)]
    writer.reached = broken
    assert flooded.send(key, *body).status == 503 and was
    assert flooded.send(key, *body).json()["stored"] == 30
    assert counted(flooded) == {1: 55}


@pytest.mark.parametrize("goes_on", ["it is sent again", "the service starts again"])
def test_what_was_only_counted_is_taken_back_too(tmp_path: Path, goes_on: str) -> None:
    """Of a commit whose day file is on disk and whose main file is not, no failure goes on standing for what was counted with it."""
    data = tmp_path / "data"
    thread, running = start(data, limits=FEW)
    try:
        key = running.add_app()
        body = [failure() for _ in range(30)]
        running.send(key, *(failure() for _ in range(45)))
        assert counted(running) == {1: 45} and len(rows(running)) < 25
        writer = running.service.records.writer

        def broken(point: str) -> None:
            if point == "before the main file" and writer.days._taking_part:
                raise StoreReadOnly("the file was moved away")

        writer.reached = broken
        assert running.send(key, *body).status == 503
        writer.reached = lambda _: None
        (day,) = (data / "days").glob("*.sqlite3")
        in_day = "SELECT SUM(stands_for) FROM failures"
        with closing(sqlite3.connect(day)) as file:
            assert file.execute(in_day).fetchone() == (75,), "the day's file was committed"
        assert verify(data) == [], "that is no difference: it is taken back when the file is opened next"
        if goes_on == "the service starts again":
            running.http.clear()
            thread.stop()
            thread, running = start(data, limits=FEW)
            expected = 45
        else:
            assert running.send(key, *body).json()["stored"] == 30
            expected = 75
        assert counted(running) == {1: expected} and verify(data) == []
        with closing(sqlite3.connect(day)) as file:
            assert file.execute(in_day).fetchone() == (expected,)
        assert asked(running, "records/failures/summary", summary="count by type")["groups"][0]["value"] == expected
    finally:
        running.http.clear()
        thread.stop()


def test_files_of_days_from_before_are_read_and_brought_up(tmp_path: Path) -> None:
    """A day's file that an earlier version wrote is read as it was, and can count floods after that."""
    thread, running = start(tmp_path / "data", limits=FEW)
    key = running.add_app()
    running.send(key, *(failure() for _ in range(10)))
    day = running.service.records.days.known()[0].day
    running.http.clear()
    thread.stop()
    path = path_of(tmp_path / "data" / "days", day)
    with closing(sqlite3.connect(path)) as old:
        old.executescript("ALTER TABLE failures DROP COLUMN stands_for; PRAGMA user_version = 1;")
    assert verify(tmp_path / "data") == []
    thread, running = start(tmp_path / "data", limits=FEW)
    try:
        assert asked(running, "records/failures/summary", summary="count by type")["groups"][0]["value"] == 10
        running.send(key, *(failure() for _ in range(30)))
        assert asked(running, "records/failures/summary", summary="count by type")["groups"][0]["value"] == 40
        assert counted(running) == {1: 40}
    finally:
        running.http.clear()
        thread.stop()


PIECES = ("no fare for ", "4711", "12", "404", " '", "' is not ", "key ", "0", "'NoneType' object is not subscriptable", "list index out of range", " 4111 1111 1111 1111", "x.y", "é")  # fmt: skip
PARAMETERS = ([], ["pier"], ["booking", "pier"], ["self", "n"])
CODES = ("raise Lost(pier)", "helper(pier)", "return quote(None)", "pier[0]", "return fares[404]", "x = booking.lines[0]", "", "raise HTTPError(12)", "fail(f'key {n}')", "y = f(4711)")  # fmt: skip


@st.composite
def failing(draw: st.DrawFn) -> dict[str, Any]:
    """A failure of a few frames, with numbers in its message and in its lines."""
    names = st.sampled_from(("quote", "main", "helper"))
    frames = [
        {"function": draw(names), "module": "fares", "file": "/srv/fares.py", "line": draw(st.integers(1, 2)), "own": draw(st.booleans()), "source": {"line": draw(st.sampled_from(CODES))}, "parameters": draw(st.sampled_from(PARAMETERS))}
        for _ in range(draw(st.integers(0, 3)))
    ]  # fmt: skip
    link = {
        "type": draw(st.sampled_from(("ValueError", "KeyError", "TypeError", "Reported message"))),
        "frames": frames,
    }
    return failure(exceptions=[link | {"message": "".join(draw(st.lists(st.sampled_from(PIECES), max_size=4)))}])


def handed_nothing() -> dict[str, Any]:
    """Return a failure whose callers count where the parameters of its functions are known, and one caller where they are not."""
    frames = [
        {"function": name, "module": "fares", "own": True, "source": {"line": code}, "parameters": ["pier"]}
        for name, code in (("main", "quote(None)"), ("quote", "return helper(pier)"), ("helper", "return pier[0]"))
    ]
    return failure(exceptions=[{"type": "TypeError", "frames": frames, "message": PIECES[8]}])


@example(handed_nothing(), [], [([], 0)] * 3)
@example(handed_nothing(), [], [(["pier"], 2)] * 3)
@given(
    failing(),
    st.lists(st.integers(0, 99_999), min_size=8, max_size=8),
    st.none() | st.lists(st.tuples(st.sampled_from(PARAMETERS), st.integers(0, 2)), min_size=3, max_size=3),
)
@settings(max_examples=400, deadline=None)
def test_what_has_one_form_has_one_fingerprint(
    one: dict[str, Any], numbers: list[int], known: list[tuple[list[str], int]] | None
) -> None:
    """Whatever numbers stand in a message, and whatever is known of a frame's function: two failures of one form are decided alike."""
    rest = iter(numbers)
    message = re.sub(r"\d+", lambda _: str(next(rest, 7)), one["exceptions"][0]["message"])
    link = one["exceptions"][0]
    frames = link["frames"]
    if known is not None:
        frames = [
            frame | {"parameters": names, "source": frame["source"] | {"nth_alike": nth}}
            for frame, (names, nth) in zip(frames, known, strict=False)
        ]
    other = one | {"id": failure()["id"], "exceptions": [link | {"message": message, "frames": frames}]}
    preparer = Preparer(Packer())
    sender = Sender(1, "sailings", "production", system_clock_ms())
    decided = []
    for report in (one, other):
        ready = preparer.prepare(json.dumps(report).encode(), sender)
        assert isinstance(ready, Ready) and ready.prepared.failure is not None
        decided.append(ready.prepared.failure.decided.fingerprint)
    forms = [form_of(json.loads(json.dumps(report))) for report in (one, other)]
    assert forms[0] is not None
    if forms[0] == forms[1]:
        assert decided[0] == decided[1]


def test_what_a_form_leaves_out(flooded: Running) -> None:
    """Stacks as text, what is collected, and what is no failure have none; numbers are left out, but for those of the code and of cards."""
    frames = [{"function": "quote", "source": {"line": "return fares[404]"}}]
    form = lambda message: form_of({"exceptions": [{"type": "E", "message": message, "frames": frames}]})  # noqa: E731
    assert form("no fare 17") == form("no fare 9") != form("no fare 404")
    assert form("card 4111 1111 1111 1111") != form("card 4222 2222 2222 2222")
    assert form("x" * 60_000) is None and form_of({"exceptions": [{"type": "E", "frames": frames * 400}]}) is None
    for odd in ({}, {"exceptions": []}, {"exceptions": [7]}, {"exceptions": [{"type": "E", "stack": "..."}]}, {"exceptions": [{"message": 7}]}, {"exceptions": [{"type": "E"}], "captured_by": "what was collected"}):  # fmt: skip
        assert form_of(odd) is None or odd.get("captured_by"), odd


@pytest.mark.parametrize("apart", [False, True])
def test_what_is_counted_is_not_prepared(flooded: Running, monkeypatch: pytest.MonkeyPatch, *, apart: bool) -> None:
    """Once an issue floods, few are redacted, fingerprinted and packed, here or in a process; people's names are hidden all the same."""
    rule = flooded.ask("POST", "/api/redaction-rules", {"rule": "path attributes.crew"})
    assert rule.status == 201, rule.data
    key, prepared, brief = flooded.add_app(), [], []
    whole, checked = Preparer._whole, Preparer._checked
    monkeypatch.setattr(Preparer, "_whole", lambda *given: prepared.append(1) or whole(*given))
    monkeypatch.setattr(Preparer, "_checked", lambda *given: brief.append(1) or checked(*given))
    more = {"attributes": {"note": "x" * 3000}} if apart else {}

    def one(number: int) -> dict[str, Any]:
        raised = [failure()["exceptions"][0] | {"message": f"no depth at pier {number}"}]
        about = {"user.id": f"p-{number % 5} password=hunter{number % 5}", "crew": "x"} | more.get("attributes", {})
        return failure(exceptions=raised, attributes=about)

    answers = [flooded.send(key, *(one(number) for number in range(30))).json() for _ in range(20)]
    assert all(answer["stored"] == 30 for answer in answers), answers[-1]
    assert counted(flooded) == {1: 600} and flooded.get("/api/issues/1")["users"] == 5
    with closing(sqlite3.connect(flooded.service.settings.data / "obitus.sqlite3")) as main:
        assert "hunter" not in str(main.execute("SELECT user_id FROM only_counted").fetchall())
    if not apart:
        assert len(brief) > 400 and len(prepared) < 150
    # A new release is one form more, and is kept whole at once.
    flooded.send(key, *(one(number) | {"release": "3.0.0"} for number in range(30)))
    assert {one["release"] for one in whole_ones(flooded)} == {"1.0.0", "3.0.0"}


def test_a_split_and_a_rule_need_each_whole(flooded: Running) -> None:
    """Where a flood is kept apart by an attribute each failure goes where it belongs; a grouping rule sees each of them."""
    key = flooded.add_app()
    at = lambda pier: raised("quote", "raise Lost(pier)", attributes={"pier": pier})  # noqa: E731
    for _ in range(3):
        assert set(numbers(flooded, *(at("east") for _ in range(20)), key=key)) == {1}
    done(flooded, flooded.ask("POST", "/api/issues/1/split", {"by": ["pier"]}))
    for _ in range(3):
        body = [at("east" if n % 2 else "west") for n in range(40)]
        assert flooded.send(key, *body).json()["stored"] == 40
    found = counted(flooded)
    assert sorted(found.values()) == [60, 120] and sum(found.values()) == 180
    rule = flooded.ask("POST", "/api/grouping-rules", {"rule": "together when pier=west"})
    assert rule.status == 201, rule.data
    assert len(set(numbers(flooded, *(at("west") for _ in range(20)), key=key))) == 1
    assert sum(counted(flooded).values()) == 200


def test_a_person_finds_what_was_only_counted(flooded: Running) -> None:
    """Whoever says that it did not work is found, though each of their failures was one of too many: with one that is like it."""
    key = flooded.add_app()
    flooded.send(key, *(of(f"p-{number % 5}") for number in range(30)))
    flooded.send(key, *(of("p-102") for _ in range(4)), of("p-1"))
    assert counted(flooded) == {1: 35}
    found = flooded.get("/api/person?who=p-102")
    assert [(one["kind"], one["outcome"], one["issue"], one["counted"]) for one in found["met"]] == [("failure", "failed", 1, 4)]  # fmt: skip
    assert (
        found["failed"] == 4 and found["found_by"] == ["user.id"] and "counted and not kept whole" in found["notes"][0]
    )
    mixed = flooded.get("/api/person?who=p-1")["met"]
    assert sum(one["counted"] or 1 for one in mixed) == 7
    earlier = ago(3 * 60 * 60).replace("+00:00", "Z")
    assert flooded.get(f"/api/person?who=p-102&at={earlier}")["met"] == []


def test_what_the_sender_only_counted(running: Running) -> None:
    """One report for many is counted as many, with the one that stands for them; sent again it is there already."""
    key = running.add_app()
    assert running.send(key, of("p-1")).json()["stored"] == 1
    many = of(None, counted=400)
    assert running.send(key, many).json()["stored"] == 1
    assert running.send(key, many).json()["already_there"] == 1
    assert counted(running) == {1: 401}
    (whole,) = whole_ones(running)
    assert whole["represents"] == 401
    issue = running.get("/api/issues/1?window=1h")
    assert issue["users"] == 1 and sum(issue["over_time"]) == 401
    assert {one["release"]: one["failures"] for one in issue["releases"]}["1.0.0"] == 401


def test_what_was_only_counted_is_kept_where_nothing_stands_for_it(running: Running) -> None:
    """What it was counted with did not arrive: it stands for the others, and says how many; so does what came late."""
    key = running.add_app()
    assert running.send(key, of(None, counted=12)).json()["stored"] == 1
    late = of(None, counted=5, time=ago(3 * 3600))
    assert running.send(key, late).json()["stored"] == 1
    assert counted(running) == {1: 17}
    assert sorted(one["represents"] for one in whole_ones(running)) == [5, 12]
    issue = running.get("/api/issues/1?window=1h")
    assert issue["failures"] == sum(issue["over_time"]) == 12


def test_what_was_only_counted_in_a_flood(flooded: Running) -> None:
    """Beyond what an issue may bring whole it is counted without being prepared, as all of the flood are."""
    key = flooded.add_app()
    for _ in range(4):
        assert flooded.send(key, *[of("p-2") for _ in range(30)], of(None, counted=1000)).json()["stored"] == 31
    assert counted(flooded) == {1: 4120}


def test_how_many_were_counted_is_checked(running: Running) -> None:
    """A number that cannot be right is refused, and says where it stands."""
    wrong = [failure(counted=one) for one in (0, -1, 1_000_001, 1.5, "many", True, 10**30)]
    answer = running.send(running.add_app(), *wrong).json()
    assert answer["refused"] == len(wrong) and {line["field"] for line in answer["lines"]} == {"counted"}
