"""Processes beside the service: what comes back is the same, what ends one is refused alone, and none outlives the service."""

from __future__ import annotations

import asyncio
import json
import os
import signal
import subprocess
import sys
from collections.abc import Callable, Generator
from pathlib import Path
from typing import Any

import pytest

from obitus.service.intake import worker_tasks
from obitus.service.intake.processes import ProcessEnded, Processes, beside
from obitus.service.lookup_cache import Known
from obitus.service.settings import NICE
from obitus.store.errors import StoreBusy
from tests import kept
from tests.conftest import Running, failure, until
from tests.left_over import children, lives

LARGE = "x" * 7000


def yields(numbers: list[int]) -> Generator[int, None, str]:
    """Yield numbers; a 0 ends the process, and a negative one raises."""
    for number in numbers:
        if number == 0:
            os._exit(3)
        yield 60 // abs(number) if number > 0 else [][number]
    return "all"


def large(count: int = 20, **changes: Any) -> list[dict[str, Any]]:
    """Return so many failures that they are no small body."""
    return [failure(attributes={"cargo": LARGE, "number": number}, **changes) for number in range(count)]


def test_tasks_and_what_comes_of_them() -> None:
    """Results come back, and what is raised; a process that is killed or takes too long is replaced, and none stays at the end."""
    pool, hasty = Processes(1, longest_task_s=60.0), Processes(1, longest_task_s=0.5)

    def work(act: Callable[..., Any], *given: Any, by: Processes = pool) -> Any:
        return asyncio.run(by.work(act, *given))[0]

    assert work(sum, [1, 2, 3]) == 6
    assert work(b"".join, beside([b"a" * 100_000, b"", b"b"])) == b"a" * 100_000 + b"b"
    with pytest.raises(ValueError, match="invalid literal"):
        work(int, "gangway")
    assert work(os.nice, 0) == NICE, "the service has priority"
    first = pool.numbers
    with pytest.raises(ProcessEnded):
        work(os._exit, 3)
    with pytest.raises(ProcessEnded):
        work(signal.pause, by=hasty)
    parts: list[int] = []
    assert asyncio.run(pool.work_in_parts(parts.append, yields, [1, 2, 3]))[0] == "all" and parts == [60, 30, 20]
    with pytest.raises(IndexError):
        asyncio.run(pool.work_in_parts(parts.append, yields, [4, -1]))
    with pytest.raises(ProcessEnded):
        asyncio.run(pool.work_in_parts(parts.append, yields, [5, 0]))
    assert parts == [60, 30, 20, 15, 12], "what was yielded before is there"
    with pytest.raises(AttributeError):
        # The process is ended: it would go on with parts that nobody reads.
        asyncio.run(pool.work_in_parts(lambda _: pool.sunk, yields, [1, 2]))  # type: ignore[attr-defined]
    assert not pool.numbers
    assert work(print, "what is printed does not get in between") is None
    assert work(os.getpid) in pool.numbers and pool.numbers != first
    last = pool.numbers
    pool.close()
    hasty.close()
    assert not any(lives(one) for one in [*first, *last])


def test_large_bodies_are_the_same(running: Running) -> None:
    """Issue, counts and explanation are those of small bodies; rules of the team hold there too, also those that come later."""
    key = running.add_app()
    assert running.send(key, failure()).json()["stored"] == 1
    assert running.service.intake.processes.numbers == []
    said = running.send(key, *large()).json()
    assert said["stored"] == 20 and len({line["issue"] for line in said["lines"]}) == 1
    (number,) = running.service.intake.processes.numbers
    assert os.getpriority(os.PRIO_PROCESS, number) == running.service.settings.nice
    (issue,) = running.issues()
    assert issue["failures"] == 21
    # A fingerprint that is new explains itself.
    chain = [{"type": "skerry.Fog", "message": "no sight", "frames": [{"function": "look", "file": "skerry/bow.py", "line": 4, "own": True}]}]  # fmt: skip
    number = running.send(key, *large(exceptions=chain)).json()["lines"][0]["issue"]
    (told,) = running.get(f"/api/issues/{number}")["why"]
    assert any(part["kind"] == "function" and part["counted"] for part in told["parts"])
    assert running.ask("POST", "/api/redaction-rules", {"rule": "name cargo"}).status == 201
    last = running.send(key, *large()).json()["lines"][0]["id"]
    (report,) = [one for one in kept.reports(running.service, "failure") if one["id"] == last]
    assert LARGE not in json.dumps(report)


def test_what_ends_a_process_is_refused_alone(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """The others of its body are taken, those before and those after it; each line has its verdict."""
    key, pool = running.add_app(), running.service.intake.processes
    work, work_in_parts = pool.work, pool.work_in_parts
    alone = []

    async def breaks(act: Callable[..., Any], *given: Any) -> Any:
        alone.append(given[0])
        return await (work(os._exit, 1) if b"iceberg" in b"".join(given[0]) else work(act, *given))

    async def breaks_later(on_part: Callable[[worker_tasks.PreparedLines], None], act: Any, *given: Any) -> Any:
        def until_it_ends(part: worker_tasks.PreparedLines) -> None:
            if any(number == 117 for number, _ in part.lines):
                raise ProcessEnded("on the way")
            on_part(part)

        return await work_in_parts(until_it_ends, act, *given)

    monkeypatch.setattr(pool, "work", breaks)
    monkeypatch.setattr(pool, "work_in_parts", breaks_later)
    sent = large(2 * worker_tasks.LINES_AT_ONCE + 3)
    sent[116]["attributes"]["met"] = "iceberg"
    said = running.send(key, *sent).json()
    assert (said["stored"], said["refused"]) == (len(sent) - 1, 1)
    assert [(line["line"], line["slug"]) for line in said["lines"] if line["verdict"] == "refused"] == [(117, "fault")]
    assert [line["line"] for line in said["lines"]] == list(range(1, len(sent) + 1))
    assert len(alone) == worker_tasks.LINES_AT_ONCE + 3, "what was prepared before is not prepared again"
    assert running.send(key, *sent[:20]).json()["already_there"] == 20


def test_a_large_body_is_written_while_it_is_prepared(running: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    """Its first lines are on disk before its last are prepared; an error of the store in the middle is answered as
    one, and what is sent again afterwards is there once.
    """
    key, pool = running.add_app(), running.service.intake.processes
    work_in_parts = pool.work_in_parts
    sent = large(2 * worker_tasks.LINES_AT_ONCE + 3)

    async def waits(on_part: Callable[[worker_tasks.PreparedLines], None], act: Any, *given: Any) -> Any:
        def when_written(part: worker_tasks.PreparedLines) -> None:
            first = part.lines[0][0]
            until(lambda: sum(issue["failures"] for issue in running.issues()) == first - 1)
            on_part(part)

        return await work_in_parts(when_written, act, *given)

    monkeypatch.setattr(pool, "work_in_parts", waits)
    assert running.send(key, *sent).json()["stored"] == len(sent)
    monkeypatch.setattr(pool, "work_in_parts", work_in_parts)

    writer = running.service.records.writer
    submit, submitted = writer.submit, []

    def full(work: Callable[..., Any]) -> Any:
        # Jobs write, too.
        submitted.extend([work] if "Writing." in work.__qualname__ else [])
        if len(submitted) == 3:
            raise StoreBusy("the queue is full")
        return submit(work)

    monkeypatch.setattr(writer, "submit", full)
    again = large(2 * worker_tasks.LINES_AT_ONCE + 3)
    answer = running.send(key, *again)
    assert answer.status == 429 and answer.json()["slug"] == "queue-full"
    said = running.send(key, *again).json()
    assert said["already_there"] > 0 and said["already_there"] + said["stored"] == len(again)
    assert sum(issue["failures"] for issue in running.issues()) == 2 * len(again)


def test_none_outlives_the_service(tmp_path: Path) -> None:
    """A service that is killed takes its processes with it."""
    words = [sys.executable, "-m", "obitus", "serve", "--data", str(tmp_path / "data"), "--port", "0"]
    service = subprocess.Popen(words, stdout=subprocess.PIPE, text=True)
    try:
        assert service.stdout is not None and "answers at" in service.stdout.readline()
        until(lambda: children(service.pid))
        (number, *_) = children(service.pid)
        assert lives(number)
        service.kill()
        until(lambda: not lives(number))
    finally:
        service.kill()
        service.communicate()


def test_keys_in_memory(running: Running) -> None:
    """A key is read once; a revoked one is refused at once; what was read before a change is not kept after it."""
    key = running.add_app()
    for _ in range(2):
        assert running.send(key, failure()).status == 200
    (row,) = running.get("/api/apps/sailings")["keys"]
    assert running.ask("DELETE", f"/api/apps/sailings/keys/{row['id']}").status == 200
    assert running.send(key, failure()).json()["slug"] == "revoked-key"

    def slow(_: bytes) -> int:
        known.forget()
        return 1

    known = Known(slow)
    assert known.find(b"a") == 1 and known.known(b"a") is None


def test_bodies_go_where_they_cost_least(running: Running) -> None:
    """A small body that inflates to a large one goes to a process like any other large one."""
    import gzip

    key = running.add_app()
    body = gzip.compress(b"\n".join(json.dumps(one).encode() for one in large()))
    assert len(body) < running.service.settings.limits.small_body_bytes
    headers = {"Authorization": f"Bearer {key}", "Content-Encoding": "gzip"}
    answer = running.http.request("POST", running.url + "/reports", body=body, headers=headers)
    assert answer.json()["stored"] == 20 and running.service.intake.processes.numbers


def test_a_process_loads_no_web_framework() -> None:
    """It prepares reports and answers nobody: the first large body waits for what it loads."""
    code = "import sys, obitus.service.intake.worker_tasks; print(*sorted(name for name in sys.modules if name in ('fastapi', 'starlette', 'uvicorn')))"
    loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert loaded.stdout.strip() == ""
