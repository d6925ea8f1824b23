"""Grouping in the service: joined by likeness, suggested, merged, split, kept apart, ruled, regrouped and undone."""

from __future__ import annotations

import threading
import time
from typing import Any

import pytest

from obitus.core.grouping.recipe import earlier_texts
from obitus.service.intake.chains import chain_of
from obitus.service.jobs import regrouping
from obitus.service.jobs.runner import Interrupted
from obitus.store import grouping as store
from obitus.store.errors import StoreBusy
from tests.conftest import Running, failure, start, until


def raised(function: str, code: str = "", *, kind: str = "ValueError", message: str = "", line: int = 7, callers: list[tuple[str, str]] | None = None, **more: Any) -> dict[str, Any]:  # fmt: skip
    def frame(name: str, text: str, at: int) -> dict[str, Any]:
        return {
            "function": name,
            "module": "fares",
            "file": "/srv/fares.py",
            "line": at,
            "own": True,
            **({"source": {"line": text}} if text else {}),
        }

    frames = [*(frame(name, text, 90) for name, text in callers or [("main", "")]), frame(function, code, line)]
    return failure(exceptions=[{"type": kind, "message": message, "frames": frames}], **more)


def numbers(running: Running, *reports: dict[str, Any], key: str) -> list[int]:
    answer = running.send(key, *reports)
    assert answer.status == 200, answer.data
    return [line["issue"] for line in answer.json()["lines"]]


def done(running: Running, answer: Any) -> dict[str, Any]:
    assert answer.status == 202, answer.data
    number = answer.json()["id"]
    ends = time.monotonic() + 60
    while (told := running.get(f"/api/regroupings/{number}"))["state"] in ("running", "undoing"):
        assert time.monotonic() < ends
        time.sleep(0.02)
    return dict(told)


def counts(running: Running) -> dict[int, int]:
    found = {issue["number"]: issue["failures"] for issue in running.issues()}
    for number, failures in found.items():
        whole = running.get(f"/api/issues/{number}?window=14d")
        assert (
            whole["failures_in_all"]
            == failures
            == len(running.get(f"/api/issues/{number}/failures?window=14d&limit=200")["failures"])
        )
    return found


def test_joined_by_likeness_and_why(running: Running) -> None:
    """A line that has moved joins its issue and says why; what is only near is suggested."""
    key = running.add_app()
    one, moved, other = numbers(running, raised("quote", line=7, message="no fare for 3"), raised("quote", line=40, message="no fare for 4"), raised("quote", line=60, message="pier 7 is shut today"), key=key)  # fmt: skip
    assert one == moved != other
    whole = running.get(f"/api/issues/{one}")
    assert [found["joined"] for found in whole["why"]] == [
        "",
        "the same type and words in the same function; the line has moved",
    ]
    assert any(part["counted"] and part["reason"] for part in whole["why"][0]["parts"])
    (like,) = running.get(f"/api/issues/{one}/perhaps")["perhaps"]
    assert like["number"] == other and "another line" in like["reason"]


def test_merge_and_undo(running: Running) -> None:
    """A merge moves failures and what comes later; undone, both are as they were, and what came since goes home."""
    key = running.add_app()
    a, b = numbers(running, raised("quote", "return fares[kind]"), raised("weigh", "return loads[deck]"), key=key)
    numbers(running, raised("quote", "return fares[kind]"), key=key)
    preview = running.ask("POST", f"/api/issues/{a}/merge/preview", {"into": b}).json()
    assert (preview["failures"], preview["failures_after"], preview["state"]) == (2, 3, "untriaged") and preview[
        "reason"
    ]
    merged = done(running, running.ask("POST", f"/api/issues/{a}/merge", {"into": b}))
    assert merged["state"] == "done" and merged["moved"] == 2 and counts(running) == {b: 3}
    assert numbers(running, raised("quote", "return fares[kind]"), key=key) == [b]
    assert running.get(f"/api/issues/{a}")["merged_into"] == b
    assert "merged issue" in running.get(f"/api/issues/{b}")["history"][-1]["reason"]
    undone = done(running, running.ask("POST", f"/api/regroupings/{merged['id']}/undo", {}))
    assert undone["state"] == "undone" and counts(running) == {a: 3, b: 1}
    assert numbers(running, raised("quote", "return fares[kind]"), key=key) == [a]
    again = running.ask("POST", f"/api/regroupings/{merged['id']}/undo", {})
    assert (again.status, again.json()["slug"]) == (409, "bad-undo")


def test_split_by_an_attribute(running: Running) -> None:
    """Each value becomes an issue, now and for what comes; undone, all is one again."""
    key = running.add_app()
    piers = ["eastholm"] * 3 + ["merrow"] * 2
    (number, *_) = numbers(running, *(raised("quote", "go()", attributes={"pier": pier}) for pier in piers), key=key)
    preview = running.ask("POST", f"/api/issues/{number}/split/preview", {"by": ["pier"]}).json()
    assert [(part["value"], part["failures"]) for part in preview["parts"]] == [("eastholm", 3), ("merrow", 2)]
    parted = done(running, running.ask("POST", f"/api/issues/{number}/split", {"by": ["pier"]}))
    found = counts(running)
    (new,) = set(found) - {number}
    assert found == {number: 3, new: 2}
    east, merrow, third = numbers(running, *(raised("quote", "go()", attributes={"pier": pier}) for pier in ("eastholm", "merrow", "gannet")), key=key)  # fmt: skip
    assert (east, merrow) == (number, new) and third not in (number, new)
    done(running, running.ask("POST", f"/api/regroupings/{parted['id']}/undo", {}))
    assert counts(running)[number] == 7
    assert numbers(running, raised("quote", "go()", attributes={"pier": "merrow"}), key=key) == [number]


def test_split_by_fingerprint_and_by_message(running: Running) -> None:
    """A fingerprint that was joined can be taken out; a part that did not count can part an issue."""
    key = running.add_app()
    number, joined = numbers(running, raised("quote", line=7, message="no fare for 3"), raised("quote", line=40, message="no fare for 4"), key=key)  # fmt: skip
    assert number == joined
    out = running.get(f"/api/issues/{number}")["why"][1]["fingerprint"]
    preview = running.ask("POST", f"/api/issues/{number}/split/preview", {"fingerprints": [out]}).json()
    assert [part["failures"] for part in preview["parts"]] == [1, 1]
    done(running, running.ask("POST", f"/api/issues/{number}/split", {"fingerprints": [out]}))
    assert sorted(counts(running).values()) == [1, 1]
    assert numbers(running, raised("quote", line=40, message="no fare for 9"), key=key) != [number]
    (said, *_) = numbers(
        running,
        *(raised("board", "raise Refused('x')", message=text) for text in ("pier shut", "no crew aboard")),
        key=key,
    )
    preview = running.ask("POST", f"/api/issues/{said}/split/preview", {"by": ["message"]}).json()
    assert {part["value"] for part in preview["parts"]} == {"pier shut", "no crew aboard"}
    for order in ({}, {"by": ["a"], "fingerprints": [out]}, {"fingerprints": ["2-none"]}):
        refused = running.ask("POST", f"/api/issues/{number}/split", order)
        assert (refused.status, refused.json()["slug"]) == (422, "bad-split")


def test_never_together(running: Running) -> None:
    """What people said is never one is suggested no more, and cannot be merged."""
    key = running.add_app()
    a, b = numbers(
        running, raised("quote", "return fares[kind]"), raised("quote", "return fares[kind] + fares[pier]"), key=key
    )
    assert running.get(f"/api/issues/{a}/perhaps")["perhaps"]
    assert running.ask("POST", f"/api/issues/{a}/never-together", {"other": b}).status == 200
    assert running.get(f"/api/issues/{b}/perhaps") == {"perhaps": [], "never": [a]}
    refused = running.ask("POST", f"/api/issues/{b}/merge", {"into": a})
    assert (refused.status, refused.json()["slug"]) == (422, "bad-merge")
    assert running.ask("POST", f"/api/issues/{a}/merge", {"into": a}).status == 422
    assert running.ask("POST", f"/api/issues/{a}/merge", {"into": 99}).status == 404


def test_rules_with_preview_then_history(running: Running) -> None:
    """A rule shows what it would do, acts on what comes, and on history once it is regrouped; undone, all is back."""
    key = running.add_app()
    reports = [
        raised(f, f"return {f}[7]", kind="KeyError", attributes={"deck": deck})
        for f in ("quote", "weigh")
        for deck in ("a", "b")
    ]
    a, _, b, _ = numbers(running, *reports, key=key)
    assert a != b
    together = {"rule": "together when type=KeyError app=sailings"}
    preview = running.ask("POST", "/api/grouping-rules/preview", together).json()
    assert (preview["looked_at"], preview["matching"], preview["moving"]) == (4, 4, 2) and preview["joining"][0][
        "issues"
    ] == [a, b]
    apart = running.ask("POST", "/api/grouping-rules/preview", {"rule": "apart by deck when type~Key"}).json()
    assert sorted(parting["issue"] for parting in apart["parting"]) == [a, b] and apart["moving"] == 2
    made = running.ask("POST", "/api/grouping-rules", together)
    assert made.status == 201 and running.ask("POST", "/api/grouping-rules", together).status == 409
    (new,) = numbers(running, raised("load", "return load[7]", kind="KeyError"), key=key)
    assert new not in (a, b) and running.get(f"/api/issues/{new}")["why"][0]["parts"][0]["kind"] == "rule"
    assert running.ask("POST", "/api/regroupings/preview", {"app": "sailings"}).json()["moving"] == 3
    regrouped = done(running, running.ask("POST", "/api/regroupings", {"app": "sailings"}))
    assert list(counts(running).values()) == [5] and regrouped["moved"] == 3
    done(running, running.ask("POST", f"/api/regroupings/{regrouped['id']}/undo", {}))
    assert counts(running) == {a: 2, b: 2, new: 1}
    assert running.ask("DELETE", f"/api/grouping-rules/{made.json()['id']}").status == 200
    assert running.get("/api/grouping-rules")["rules"] == []
    assert numbers(running, reports[0] | {"id": failure()["id"]}, key=key) == [a]


def test_rules_on_frames(running: Running) -> None:
    """Frames can be left out, and code told to be the app's own or a library's; what is no rule is explained."""
    key = running.add_app()
    for rule in ("skip frames fares.guard when app=sailings", "library code fares.helper when app=sailings"):
        assert running.ask("POST", "/api/grouping-rules", {"rule": rule}).status == 201
    within = [("main", ""), ("quote", "return guard(7)")]
    guarded, bare = numbers(
        running, raised("guard", "raise Refused(x)", callers=within), raised("quote", "return guard(7)"), key=key
    )
    assert guarded == bare
    for text, said in (("type=A", "nothing that a rule does"), ("together", "Say when"), ("together when ", "a term is expected"), ("sort when a=1", "nothing that a rule does"), ("together when (a=1", "closing bracket"), ("together when severity>LOUD", "a severity is expected"), ("apart by when a=1", "Name one")):  # fmt: skip
        refused = running.ask("POST", "/api/grouping-rules", {"rule": text})
        assert refused.status == 422 and said in refused.json()["detail"], refused.json()


def test_a_flood_of_new_issues_is_collected(running: Running) -> None:
    """Beyond a limit of new issues a minute, failures go to one issue that says so; known issues are not touched."""
    key = running.add_app()
    (known,) = numbers(running, raised("quote", "return fares[kind]"), key=key)
    flood = [
        raised(f"f_{chr(97 + i % 26)}{chr(97 + i // 26)}", f"raise E{i}()", kind=f"E{i}")
        for i in range(store.MOST_NEW_ISSUES + 40)
    ]
    told = numbers(running, *flood, key=key)
    collecting = told[-1]
    assert told.count(collecting) == 41 and len(set(told)) == store.MOST_NEW_ISSUES
    whole = running.get(f"/api/issues/{collecting}")
    assert whole["type"] == store.COLLECTING_TYPE and "new issues in one minute" in whole["history"][0]["reason"]
    assert numbers(running, raised("quote", "return fares[kind]"), key=key) == [known]
    running.clock.ahead_ms = 61_000
    (later,) = numbers(running, flood[-1] | {"id": failure()["id"]}, key=key)
    assert later not in (collecting, known)


@pytest.mark.parametrize("version", [2, 1])
def test_an_older_recipe_splits_nothing(running: Running, version: int) -> None:
    """An issue that an older version of the recipe began goes on under the new one."""
    key = running.add_app()
    report = raised("quote", "return fares[kind]", line=7)
    (number,) = numbers(running, report, key=key)
    as_if_by_version(running, report, version)
    assert numbers(running, report | {"id": failure()["id"]}, key=key) == [number]
    assert "earlier version" in running.get(f"/api/issues/{number}")["why"][-1]["joined"]


def test_history_of_an_older_recipe_is_regrouped_when_asked(running: Running) -> None:
    """What version 2 held for one fault stays together, until somebody has seen what the present version would split and wants it."""
    key = running.add_app()

    def handed_nothing(caller: str) -> dict[str, Any]:
        report = raised("pier_of", "return berth.pier", kind="AttributeError", message="'NoneType' object has no attribute 'pier'")  # fmt: skip
        frames = report["exceptions"][0]["frames"]
        frames[:-1] = [frames[-1] | {"function": caller, "source": {"line": f"x = pier_of({caller}_berth)"}}]
        return report

    (number,) = numbers(running, handed_nothing("board"), key=key)
    as_if_by_version(running, handed_nothing("board"), 2)
    assert numbers(running, handed_nothing("land"), handed_nothing("board"), key=key) == [number, number]
    assert running.ask("POST", "/api/regroupings/preview", {"app": "sailings"}).json()["moving"] >= 1
    done(running, running.ask("POST", "/api/regroupings", {"app": "sailings"}))
    assert sorted(counts(running).values()) == [1, 2]


def handed_on(outer: str, code: str, *, known: bool = True) -> dict[str, Any]:
    """Return a failure of a function that got nothing from one that handed on what ``outer`` gave it."""
    report = raised("pier_of", "return berth.pier", kind="AttributeError", message="'NoneType' object has no attribute 'pier'", callers=[(outer, code), ("draw", "return pier_of(place)")])  # fmt: skip
    if known:
        for frame, names in zip(report["exceptions"][0]["frames"], (["sailing"], ["place"], ["berth"]), strict=True):
            frame["parameters"] = names
    return report


def test_callers_of_a_function_that_only_hands_on(running: Running) -> None:
    """Where parameters are known, each caller that handed nothing over has an issue of its own, which says how far that was followed."""
    key = running.add_app()
    board, land, again = numbers(
        running,
        handed_on("board", "draw(None)"),
        handed_on("land", "draw(last)"),
        handed_on("board", "draw(None)"),
        key=key,
    )
    assert board == again != land
    why = running.get(f"/api/issues/{board}")["why"][0]["parts"]
    assert [part["value"] for part in why if part["kind"] == "caller"] == ["fares.draw", "fares.board"]
    assert any("1 caller only handed it on" in part["reason"] for part in why)


def test_an_issue_goes_on_when_parameters_become_known(running: Running) -> None:
    """What came before the client named parameters, and what comes with them, is one issue."""
    key = running.add_app()
    assert (
        len(
            set(
                numbers(
                    running, handed_on("board", "draw(None)", known=False), handed_on("board", "draw(None)"), key=key
                )
            )
        )
        == 1
    )


def as_if_by_version(running: Running, report: dict[str, Any], version: int) -> None:
    """Let the only fingerprint in the store be one that an earlier version of the recipe gave."""
    older = earlier_texts(chain_of(report))[{2: 0, 1: 1}[version]]
    running.service.records.writer.run(lambda c: c.execute("DELETE FROM fingerprint_keys"))
    running.service.records.writer.run(lambda c: c.execute("UPDATE failures SET fingerprint = ?", (older,)))
    running.service.records.writer.run(
        lambda c: c.execute("UPDATE fingerprints SET fingerprint = ?, traits_id = NULL", (older,))
    )


def test_a_regrouping_that_was_broken_off_goes_back(tmp_path: Any) -> None:
    """What was under way when the service ended goes back by itself at the next start, also where nothing had moved yet."""
    thread, running = start(tmp_path / "data")
    key = running.add_app()
    a, b = numbers(running, raised("quote", "return fares[kind]"), raised("weigh", "return loads[deck]"), key=key)
    merged = done(running, running.ask("POST", f"/api/issues/{a}/merge", {"into": b}))
    running.service.records.writer.run(lambda c: c.execute("UPDATE regroupings SET state = 'running'"))
    running.http.clear()
    thread.stop()
    thread, running = start(tmp_path / "data")
    try:
        until(lambda: running.get(f"/api/regroupings/{merged['id']}")["state"] == "undone")
        assert counts(running) == {a: 1, b: 1}
        assert running.get(f"/api/issues/{a}").get("merged_into") is None
    finally:
        running.http.clear()
        thread.stop()


def test_what_was_asked_and_not_begun_is_done_after_a_stop(tmp_path: Any) -> None:
    """An order is in the store from the moment that it is answered: whoever gave it need not give it again."""
    thread, running = start(tmp_path / "data")
    key = running.add_app()
    a, b = numbers(running, raised("quote", "return fares[kind]"), raised("weigh", "return loads[deck]"), key=key)
    # The job stands still, as it would behind a long regrouping.
    running.service.runner.stopping.set()
    asked = running.ask("POST", f"/api/issues/{a}/merge", {"into": b}).json()
    assert asked["state"] == "running" and asked["moved"] == 0
    running.http.clear()
    thread.stop()
    thread, running = start(tmp_path / "data")
    try:
        until(lambda: running.get(f"/api/regroupings/{asked['id']}")["state"] == "done")
        assert counts(running) == {b: 2}
        is_in_order(running)
    finally:
        running.http.clear()
        thread.stop()


def test_a_regrouping_waits_while_senders_fill_the_queue(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """It is no reason to give up."""
    monkeypatch.setattr(regrouping, "BUSY_S", 0.001)
    key = running.add_app()
    a, b = numbers(running, raised("quote", "return fares[kind]"), raised("weigh", "return loads[deck]"), key=key)
    writer = running.service.records.writer
    real, refused = writer.run, 0

    def full(work: Any, timeout_s: float = 60) -> Any:
        nonlocal refused
        if threading.current_thread().name == "obitus-regrouping" and refused % 4 != 3:
            refused += 1
            raise StoreBusy("the writer's queue is full; send again in a moment")
        refused += 1
        return real(work, timeout_s)

    monkeypatch.setattr(writer, "run", full)
    assert done(running, running.ask("POST", f"/api/issues/{a}/merge", {"into": b}))["state"] == "done"
    assert counts(running) == {b: 2} and refused > 4


def is_in_order(running: Running) -> None:
    """All counts agree with the failures they count, and no issue that is merged holds any."""
    reader = running.service.records.reader
    counted = {row["issue_id"]: row["n"] for row in reader.rows("SELECT issue_id, SUM(failures) AS n FROM issue_counts GROUP BY 1")}  # fmt: skip
    held = {row["issue_id"]: row["n"] for row in reader.rows("SELECT issue_id, COUNT(*) AS n FROM failures GROUP BY 1")}
    in_all = {row["id"]: row["n"] for row in reader.rows("SELECT id, failures AS n FROM issues WHERE failures > 0")}
    assert counted == held == in_all, (counted, held, in_all)
    merged = [row["id"] for row in reader.rows("SELECT id FROM issues WHERE merged_into IS NOT NULL")]
    assert not set(merged) & set(held)


@pytest.mark.timeout(600)
@pytest.mark.parametrize("kind", ["merge", "split", "undo"])
def test_killed_at_any_step(tmp_path: Any, kind: str) -> None:
    """Broken off after every one of its commits: the next start brings all back, counters included."""
    step = 0
    while True:
        folder = tmp_path / f"{kind}{step}"
        thread, running = start(folder)
        key = running.add_app()
        reports = [raised("quote", "return fares[kind]", attributes={"pier": f"p{n % 3}"}) for n in range(30)]
        running.send(key, *reports, *(raised("weigh", "return loads[deck]") for _ in range(5)))
        a, b = sorted(counts(running))
        before = counts(running)
        if kind == "undo":
            number = done(running, running.ask("POST", f"/api/issues/{a}/merge", {"into": b}))["id"]
        writer = running.service.records.writer
        real, left, killed = writer.run, step + 1, False

        def dies(work: Any, timeout_s: float = 60, *, real: Any = real) -> Any:
            nonlocal left, killed
            if threading.current_thread().name.startswith("obitus-regroup"):
                if left == 0:
                    killed = True
                    # Nothing after this is done by the thread: as if the process had been killed here.
                    raise Interrupted
                left -= 1
            return real(work, timeout_s)

        writer.run = dies
        asked = {
            "merge": (f"/api/issues/{a}/merge", {"into": b}),
            "split": (f"/api/issues/{a}/split", {"by": ["pier"]}),
            "undo": (f"/api/regroupings/{number if kind == 'undo' else 0}/undo", {}),
        }[kind]
        answer = running.ask("POST", *asked)
        assert answer.status < 300, answer.data
        until(lambda running=running: running.service.runner.is_idle("regrouping"))  # type: ignore[misc]
        was_whole = not killed
        writer.run = real
        running.http.clear()
        thread.stop()
        thread, running = start(folder)
        try:
            states = [row["state"] for row in running.get("/api/regroupings")["regroupings"]]
            until(lambda running=running: all(row["state"] in ("done", "undone") for row in running.get("/api/regroupings")["regroupings"]))  # type: ignore[misc]  # fmt: skip
            is_in_order(running)
            assert was_whole or states[0] == "done" or counts(running) == before, (
                step,
                states,
                counts(running),
                before,
            )
        finally:
            running.http.clear()
            thread.stop()
        if was_whole:
            break
        step += 1
    assert step >= 2
