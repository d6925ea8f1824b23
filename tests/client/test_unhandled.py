"""Everything unhandled is seen, wherever it is raised; what was there before still runs."""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from tests import kept
from tests.client.programs import environment_for, run, write
from tests.conftest import Running


def failures(running: Running, wanted: int) -> list[dict[str, Any]]:
    """Wait for failures, and return them as they were kept."""
    for _ in range(1200):
        if len(kept.numbers(running.service.records.days, "failure")) >= wanted:
            break
        time.sleep(0.05)
    return kept.reports(running.service, "failure")


def told(running: Running, wanted: int) -> dict[str, tuple[str, bool]]:
    """Return message → what caught it, and whether it counts as handled; each once."""
    found = failures(running, wanted)
    messages = [report["exceptions"][0]["message"] for report in found]
    assert len(messages) == len(set(messages)) == wanted, messages
    return {report["exceptions"][0]["message"]: (report["captured_by"], report["handled"]) for report in found}


def test_threads_pools_and_finalizers(running: Running, tmp_path: Path) -> None:
    """Threads, futures that nobody asked, finalizers, exit handlers and the main thread; a future that was asked is not."""
    code = """
        import atexit, concurrent.futures, threading
        def late(): raise OSError("at exit, earlier")
        atexit.register(late)
        import obitus
        obitus.watch()
        @atexit.register
        def later(): raise OSError("at exit, later")
        def fail(text): raise ValueError(text)
        thread = threading.Thread(target=fail, args=("thread",)); thread.start(); thread.join()
        with concurrent.futures.ThreadPoolExecutor() as pool:
            pool.submit(fail, "unasked")
            asked = pool.submit(fail, "asked")
            try: asked.result()
            except ValueError: pass
        class Gate:
            def __del__(self): raise RuntimeError("finalizer")
        gate = Gate(); del gate
        raise KeyError("main")
    """
    ended = run(running, running.add_app(), tmp_path, code)
    assert ended.returncode == 1 and "KeyError: 'main'" in ended.stderr and "finalizer" in ended.stderr
    assert told(running, 6) == {
        "thread": ("thread", False),
        "unasked": ("pool", False),
        "finalizer": ("unraisable", False),
        "'main'": ("main thread", False),
        "at exit, later": ("unraisable", False),
        "at exit, earlier": ("unraisable", False),
    }


def test_asyncio(running: Running, tmp_path: Path) -> None:
    """A callback that raises, a task that nobody awaited, and the members of a task group."""
    code = """
        import asyncio, gc, obitus
        obitus.watch()
        async def fail(text): raise ValueError(text)
        def callback(): raise ValueError("callback")
        async def main():
            asyncio.get_running_loop().call_soon(callback)
            task = asyncio.create_task(fail("nobody awaited")); await asyncio.sleep(0.01)
            del task; gc.collect()
            async with asyncio.TaskGroup() as group:
                group.create_task(fail("first")); group.create_task(fail("second"))
        asyncio.run(main())
    """
    run(running, running.add_app(), tmp_path, code)
    found = told(running, 3)
    assert found["callback"] == ("asyncio", False) and found["nobody awaited"] == ("asyncio", False)
    group = next(report for report in failures(running, 3) if "Group" in report["exceptions"][0]["type"])
    assert {(link["relation"], link["message"]) for link in group["exceptions"][1:]} == {
        ("member", "first"),
        ("member", "second"),
    }


def test_uvloop(running: Running, tmp_path: Path) -> None:
    """A loop that is not built on asyncio's own tells through the log: it counts as unhandled all the same."""
    pytest.importorskip("uvloop")
    code = """
        import asyncio, gc, obitus, uvloop
        obitus.watch()
        async def fail(): raise ValueError("nobody awaited")
        async def main():
            task = asyncio.create_task(fail()); await asyncio.sleep(0.01)
            del task; gc.collect(); await asyncio.sleep(0.01)
        uvloop.run(main())
    """
    run(running, running.add_app(), tmp_path, code)
    assert told(running, 1) == {"nobody awaited": ("asyncio", False)}


@pytest.mark.parametrize("method", ["fork", "spawn", "forkserver"])
def test_child_processes(running: Running, tmp_path: Path, method: str) -> None:
    """Children of multiprocessing report what they die of, functions and classes alike, and the parent goes on."""
    code = f"""
        import multiprocessing, obitus
        def fail(text): raise ValueError(text)
        class Gate(multiprocessing.Process):
            def run(self): raise LookupError("subclass")
        if __name__ == "__main__":
            obitus.watch()
            context = multiprocessing.get_context({method!r})
            multiprocessing.set_start_method({method!r})
            for child in (context.Process(target=fail, args=("function",)), Gate()):
                child.start(); child.join()
                assert child.exitcode == 1, child.exitcode
            with context.Pool(1) as pool:
                try: pool.apply(fail, ("asked",))
                except ValueError: pass
    """
    ended = run(running, running.add_app(), tmp_path, code)
    assert ended.returncode == 0, ended.stderr
    assert told(running, 2) == {"function": ("process", False), "subclass": ("process", False)}


def test_an_edit_that_cannot_come_along(running: Running, tmp_path: Path) -> None:
    """A child that starts afresh runs as ever; since what the team's edit would change must not go out, it reports nothing."""
    code = """
        import multiprocessing, obitus
        def fail(text): raise ValueError(text)
        if __name__ == "__main__":
            obitus.watch(edit=lambda report: report)
            child = multiprocessing.get_context("spawn").Process(target=fail, args=("child",))
            child.start(); child.join()
            assert child.exitcode == 1
            obitus.record(KeyError("parent"))
    """
    ended = run(running, running.add_app(), tmp_path, code)
    assert ended.returncode == 0, ended.stderr
    assert set(told(running, 1)) == {"'parent'"}


def test_details_of_built_in_types(running: Running, tmp_path: Path) -> None:
    """Syntax and import errors, and those of the system, say what they know; the wrong line is the innermost frame."""
    code = """
        import obitus
        obitus.watch()
        for text in ("compile('berth = = 1', 'config.py', 'exec')", "import no_such_pier", "open('/no/such/tide')"):
            try: exec(text)
            except Exception as error: obitus.record(error)
    """
    run(running, running.add_app(), tmp_path, code)
    syntax, missing, system = failures(running, 3)
    assert (
        syntax["exceptions"][0]["detail"]["lineno"] == 1
        and syntax["exceptions"][0]["frames"][-1]["file"] == "config.py"
    )
    assert syntax["exceptions"][0]["frames"][-1]["source"]["line"] == "berth = = 1"
    assert missing["exceptions"][0]["detail"] == {"name": "no_such_pier"}
    assert system["exceptions"][0]["detail"] == {"errno": 2, "filename": "/no/such/tide"}


def test_leaving_with_a_status(running: Running, tmp_path: Path) -> None:
    """SystemExit with a status other than 0 is a failure where the team says so, and only then."""
    key = running.add_app()
    for code, status in (
        ("sys.exit(0)", 0),
        ("sys.exit(3)", 3),
        ("sys.exit('no config')", 1),
        ("try: sys.exit(4)\nexcept SystemExit as error: assert type(error) is SystemExit and error.code == 4", 0),
        ("obitus.watch(); sys.exit(5)", 5),
        ("with obitus.run('job x'): raise SystemExit(6)", 6),
        ("with obitus.run('job x'): sys.exit(7)", 7),
    ):
        ended = run(running, key, tmp_path, f"import obitus, sys\nobitus.watch(exits=True)\n{code}")
        assert ended.returncode == status
    ended = run(running, key, tmp_path, "import obitus\nobitus.watch(exits=True)\nraise KeyboardInterrupt")
    assert ended.returncode != 0
    assert set(told(running, 4)) == {"exit status 3", "no config", "6", "7"}


def test_hooks_of_others_still_run(running: Running, tmp_path: Path) -> None:
    """What was set before runs after ours; what is set afterwards is not taken away at the end."""
    code = """
        import sys, threading
        sys.excepthook = lambda *a: print("before main")
        threading.excepthook = lambda a: print("before thread")
        sys.unraisablehook = lambda a: print("before unraisable")
        import obitus
        obitus.watch()
        def fail(): raise ValueError("thread")
        thread = threading.Thread(target=fail); thread.start(); thread.join()
        class Gate:
            def __del__(self): raise RuntimeError("finalizer")
        gate = Gate(); del gate
        raise KeyError("main")
    """
    ended = run(running, running.add_app(), tmp_path, code)
    assert ended.stdout.split("\n")[:3] == ["before thread", "before unraisable", "before main"]
    assert len(told(running, 3)) == 3


def test_pytest_and_debugger_and_ipython_still_work(running: Running, tmp_path: Path) -> None:
    """A failing test fails as before, a debugger stops where it should, an interactive shell shows its traceback."""
    key = running.add_app()
    environment = environment_for(running, key, IPYTHONDIR=str(tmp_path))
    write(
        tmp_path,
        "import obitus\nobitus.watch()\ndef test_one():\n    assert 1 == 2\ndef test_two():\n    pass\n",
        "test_it.py",
    )
    pytest_run = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "test_it.py"], cwd=tmp_path, env=environment, capture_output=True, text=True, timeout=150
    )  # fmt: skip
    assert "1 failed, 1 passed" in pytest_run.stdout
    write(tmp_path, "import obitus\nobitus.watch()\ndef gate():\n    berth = 7\n    raise ValueError(berth)\ngate()\n")
    debugger = subprocess.run(
        [sys.executable, "-m", "pdb", "-c", "continue", "boarding.py"], input="print('berth is', berth)\nquit\n", cwd=tmp_path, env=environment, capture_output=True, text=True, timeout=150
    )  # fmt: skip
    assert "berth is 7" in debugger.stdout
    shell = subprocess.run(
        [sys.executable, "-m", "IPython", "--no-banner", "--colors=NoColor", "-c", "import obitus; obitus.watch(); 1/0"], cwd=tmp_path, env=environment, capture_output=True, text=True, timeout=150
    )  # fmt: skip
    assert "ZeroDivisionError" in shell.stdout + shell.stderr
