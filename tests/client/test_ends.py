"""The end of a process: what is raised at the very last is kept, nobody is held up, and nothing is said."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from tests.client.interpreters import SOURCE, every_version, script
from tests.client.programs import environment_for, free_port, write
from tests.client.test_unhandled import failures
from tests.conftest import Running


def spooled(folder: Path) -> list[dict[str, object]]:
    """Return the reports that lie in the spool."""
    lines = [line for path in sorted((folder / "spool").rglob("*.reports")) for line in path.read_bytes().splitlines()]
    return [json.loads(line[18:]) for line in lines]


def messages(reports: list[dict[str, object]]) -> set[str]:
    return {report["exceptions"][0]["message"] for report in reports if report["kind"] == "failure"}  # type: ignore[index]


LAST = {
    "a finalizer that raises": """
        class Late:
            def __del__(self): raise RuntimeError("at the last")
        held = Late()
    """,
    "one that logs": """
        import logging
        class Late:
            def __init__(self): self.log = logging.getLogger("gate")
            def __del__(self):
                try: raise RuntimeError("at the last")
                except RuntimeError: self.log.exception("closing")
        held = Late()
    """,
    "an exception with a text of its own": """
        class GangwayUp(Exception):
            def __str__(self): return "at the last"
        class Late:
            def __del__(self): raise GangwayUp
        held = Late()
    """,
    "a future that nobody asked for": """
        from concurrent.futures import Future
        held = Future()
        try: raise RuntimeError("at the last")
        except RuntimeError as error: held.set_exception(error)
        held.myself = held
    """,
}


@every_version
@pytest.mark.parametrize("what", LAST)
def test_what_is_raised_at_the_very_end(tmp_path: Path, python: str, what: str) -> None:
    """It starts no thread and imports nothing: the dying thread writes it to the spool, and the process ends."""
    code = f"import obitus\nobitus.watch()\n{_dedent(LAST[what])}"
    started = time.monotonic()
    ended = script(
        python, tmp_path, code, OBITUS_URL=f"http://127.0.0.1:{free_port()}", OBITUS_KEY="okey_x", timeout=150
    )
    assert ended.returncode == 0 and "Obitus" not in ended.stderr, ended.stderr
    # From 3.13 on the interpreter cannot print a logged traceback by then any more, and that is an exception too.
    assert "at the last" in messages(spooled(tmp_path)) and time.monotonic() - started < 50


def _dedent(code: str) -> str:
    import textwrap

    return textwrap.dedent(code)


TRIES = 10
"""How often something may take long because the machine was busy with something else."""
DIES = "import obitus\nobitus.watch()\nraise RuntimeError('gangway is up')"
HEALTHY = "import obitus\nobitus.watch()\nwith obitus.run('command count'): pass"


@every_version
def test_nobody_is_there(tmp_path: Path, python: str) -> None:
    """Where the connection is refused, a process that died leaves at once and says nothing; what it died of is on disk."""
    address = f"http://127.0.0.1:{free_port()}"
    took = bare = float("inf")
    for _ in range(TRIES):
        bare = min(bare, _took(python, tmp_path, DIES, OBITUS_OFF="1"))
        took = min(took, _took(python, tmp_path, DIES, OBITUS_URL=address, OBITUS_KEY="okey_x"))
        if took < bare + 1.5:
            break
    # It would be two seconds if it waited.
    assert took < bare + 1.5
    ended = script(python, tmp_path, DIES, OBITUS_URL=address, OBITUS_KEY="okey_x")
    assert "Obitus" not in ended.stderr and ended.returncode == 1
    assert messages(spooled(tmp_path)) == {"gangway is up"}


def _took(python: str, folder: Path, code: str, **environment: str) -> float:
    started = time.monotonic()
    script(python, folder, code, **environment)
    return time.monotonic() - started


MEASURED = """
    import atexit, sys, time, obitus
    obitus.watch()
    atexit.unregister(obitus._active.at_exit)
    {work}
    started = time.perf_counter()
    obitus._active.at_exit()
    sys.stdout.write(str(time.perf_counter() - started))
"""


@pytest.fixture
def silent() -> socket.socket:
    """A service that takes connections and never answers."""
    with socket.create_server(("127.0.0.1", 0)) as opened:
        yield opened  # type: ignore[misc]


@every_version
@pytest.mark.parametrize(
    ("work", "setting", "least_s", "most_s"),
    [
        ("with obitus.run('command count'): pass", {}, 0.0, 0.5),
        ("obitus.record(ValueError('x'))", {}, 1.5, 4.0),
        ("obitus.record(ValueError('x'))", {"OBITUS_EXIT_S": "0.3"}, 0.25, 1.5),
        ("obitus.record(ValueError('x'))", {"OBITUS_EXIT_S": "0"}, 0.0, 0.5),
    ],
    ids=["healthy", "with a failure", "with a setting", "not at all"],
)
def test_one_that_never_answers(
    tmp_path: Path,
    python: str,
    silent: socket.socket,
    work: str,
    setting: dict[str, str],
    least_s: float,
    most_s: float,
) -> None:
    """A process with something to tell takes two seconds, or what it was told; a healthy one takes none. It is on disk."""
    address = f"http://127.0.0.1:{silent.getsockname()[1]}"
    code = MEASURED.format(work=work)
    for _ in range(TRIES):
        ended = script(python, tmp_path, code, OBITUS_URL=address, OBITUS_KEY="okey_x", **setting)
        assert ended.returncode == 0 and ended.stderr == ""
        if (took_s := float(ended.stdout)) <= most_s:
            break
    assert least_s <= took_s <= most_s
    assert bool(messages(spooled(tmp_path))) == ("record" in work)


def test_a_failure_is_handed_over(running: Running, tmp_path: Path) -> None:
    """A job that runs once a night does not wait for the next night; the healthy one before it left its counts to it."""
    key = running.add_app()
    for code in (HEALTHY, DIES):
        environment = environment_for(running, key)
        script(sys.executable, tmp_path, code, **{n: environment[n] for n in ("OBITUS_URL", "OBITUS_KEY")})
    assert [report["exceptions"][0]["message"] for report in failures(running, 1)] == ["gangway is up"]


@every_version
def test_children_do_not_wait(running: Running, tmp_path: Path, python: str) -> None:
    """Forked children hand on by the spool and leave at once; who began to watch sends what they left at its own end."""
    code = """
        import os, time, obitus
        obitus.watch()
        children = []
        for i in range(4):
            child = os.fork()
            if child == 0:
                obitus.record(ValueError(f"child {i}"))
                started = time.perf_counter()
                obitus._active.at_exit()
                os._exit(0 if time.perf_counter() - started < 1.5 else 1)
            children.append(child)
        print([os.waitpid(child, 0)[1] for child in children])
    """
    ended = script(python, tmp_path, code, OBITUS_URL=running.url, OBITUS_KEY=running.add_app())
    assert ended.stdout == "[0, 0, 0, 0]\n" and ended.stderr == "", ended.stderr
    assert {report["exceptions"][0]["message"] for report in failures(running, 4)} == {f"child {i}" for i in range(4)}


@every_version
@pytest.mark.parametrize("end", ["os._exit(0)", "os.kill(os.getpid(), 9)", "os.execv('/bin/true', ['true'])"])
def test_what_was_recorded_is_on_disk(tmp_path: Path, python: str, end: str) -> None:
    """An explicit record is written when it returns: no end of the process outruns it. Nobody calls the process killed."""
    code = f"""
        import os, obitus
        obitus.watch()
        with obitus.run("job print passes"):
            obitus.record(ValueError("printed twice"))
            obitus.say("no berth is free")
            {end}
    """
    address = f"http://127.0.0.1:{free_port()}"
    script(python, tmp_path, code, OBITUS_URL=address, OBITUS_KEY="okey_x")
    assert {"printed twice", "no berth is free"} == messages(spooled(tmp_path))


@every_version
def test_hard_ends_that_are_meant(running: Running, tmp_path: Path, python: str) -> None:
    """Becoming another program and going into the background inside a run is no kill."""
    key = running.add_app()
    here = {"OBITUS_URL": running.url, "OBITUS_KEY": key}
    for end in ("os.execv('/bin/true', ['true'])", "os.execlp('true', 'true')", "daemonise()"):
        code = f"""
            import os, time, obitus
            obitus.watch()
            def daemonise():
                if os.fork(): os._exit(0)
                os.setsid()
                if os.fork(): os._exit(0)
            with obitus.run("job watch the gate"):
                time.sleep(1.2)
                {end}
        """
        assert script(python, tmp_path, code, **here).returncode == 0
    time.sleep(0.3)
    script(python, tmp_path, "import obitus\nobitus.watch()\nassert obitus.flush(60)", **here)
    assert failures(running, 0) == []


@every_version
def test_a_pool_that_is_terminated(running: Running, tmp_path: Path, python: str) -> None:
    """What a worker recorded arrives although the pool ends it by a signal."""
    code = """
        import multiprocessing, obitus
        obitus.watch()
        def print_pass(name):
            obitus.record(ValueError(name))
            return name
        if __name__ == "__main__":
            context = multiprocessing.get_context("fork")
            with context.Pool(2) as pool:
                print(pool.map(print_pass, ["a", "b", "c"]))
    """
    ended = script(python, tmp_path, code, OBITUS_URL=running.url, OBITUS_KEY=running.add_app())
    assert ended.stdout == "['a', 'b', 'c']\n", ended.stderr
    assert {report["exceptions"][0]["message"] for report in failures(running, 3)} == {"a", "b", "c"}


def test_a_service_that_hangs_keeps_nothing_from_the_disk(tmp_path: Path, silent: socket.socket) -> None:
    """While a post waits for its answer, what is reported goes to the disk: a kill loses none of it."""
    code = """
        import logging, time, obitus
        obitus.watch(logs="INFO")
        obitus.record(ValueError("first"))
        time.sleep(0.5)
        for i in range(1500): logging.getLogger("gate").warning("pass %d", i)
        for i in range(60):
            try: raise ValueError(str(i))
            except ValueError as error: obitus._state.active.failures.record(error, handled=False, captured_by="thread")
        for _ in range(800):
            time.sleep(0.05)
            if obitus.status()["spooled"] >= 1561: break
        print(obitus.status()["dropped"], flush=True)
        time.sleep(60)
    """
    environment = os.environ | {"OBITUS_URL": f"http://127.0.0.1:{silent.getsockname()[1]}", "OBITUS_KEY": "okey_x"}
    path = write(tmp_path, code)
    process = subprocess.Popen([sys.executable, str(path)], env=environment, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None and process.stdout.readline() == "{}\n"
    process.send_signal(signal.SIGKILL)
    process.wait()
    process.stdout.close()
    kept = spooled(tmp_path)
    assert len(messages(kept)) == 61
    assert sum(report["kind"] == "log" for report in kept) == 1500


def test_the_clients_threads_import_nothing(running: Running, tmp_path: Path) -> None:
    """Whatever they need is loaded before they run: a child forked meanwhile inherits no lock of a half loaded module."""
    code = """
        import sys, threading, obitus, logging, os
        obitus.watch()
        imported = []
        def see(event, args):
            if event == "import" and obitus.client.log.is_ours(): imported.append(args[0])
        sys.addaudithook(see)
        import obitus.client.log
        with obitus.run("job count"):
            logging.getLogger("gate").warning("late")
            try: raise ValueError("x")
            except ValueError as error: obitus.record(error)
        obitus.flush(60)
        if os.fork() == 0:
            with obitus.run("job child"): obitus.record(ValueError("y"))
            obitus.flush(60)
            os._exit(len(imported))
        print(imported, os.wait()[1])
    """
    ended = script(sys.executable, tmp_path, code, OBITUS_URL=running.url, OBITUS_KEY=running.add_app())
    assert ended.stdout == "[] 0\n", ended.stderr
    assert threading.main_thread().is_alive() and SOURCE.exists()


@every_version
def test_exhausted_memory(tmp_path: Path, python: str) -> None:
    """A program that runs out of memory ends with the status that it has without us."""
    code = """
        import resource, obitus
        obitus.watch()
        resource.setrlimit(resource.RLIMIT_AS, (400 * 1024 * 1024, 400 * 1024 * 1024))
        held, size = [], 1 << 22
        while size > 64:
            try: held.append(bytearray(size))
            except MemoryError: size //= 2
        def go_on(): held.append([1] * 1000); go_on()
        go_on()
    """
    here = {"OBITUS_URL": f"http://127.0.0.1:{free_port()}", "OBITUS_KEY": "okey_x"}
    assert (
        script(python, tmp_path, code, **here).returncode
        == script(python, tmp_path, code, OBITUS_OFF="1", **here).returncode
        == 1
    )


@every_version
def test_tracebacks_show_no_frame_of_ours(running: Running, tmp_path: Path, python: str) -> None:
    """What threads, processes and the main thread print is what they print without us."""
    code = """
        import multiprocessing, threading, obitus
        obitus.watch()
        def board(): raise LookupError("gangway is up")
        if __name__ == "__main__":
            with obitus.run("job x"):
                thread = threading.Thread(target=board, name="gate"); thread.start(); thread.join()
            process = multiprocessing.get_context("fork").Process(target=board, name="gate"); process.start(); process.join()
            board()
    """
    here = {"OBITUS_URL": running.url, "OBITUS_KEY": running.add_app()}
    ours, bare = (script(python, tmp_path, code, **here, OBITUS_OFF=off) for off in ("", "1"))
    assert ours.stderr == bare.stderr and ours.returncode == bare.returncode == 1


@every_version
def test_each_process_has_an_id_of_its_own(running: Running, tmp_path: Path, python: str) -> None:
    """What a process and what its forked child report can be kept apart, also where both have had the same number."""
    key = running.add_app()
    code = """
        import os, obitus
        obitus.watch()
        obitus.record(ValueError("parent"))
        obitus.record(ValueError("parent again"))
        if os.fork() == 0:
            obitus.record(ValueError("child"))
            os._exit(0)
        os.wait()
        obitus.flush(60)
    """
    for _ in range(2):
        done = script(python, tmp_path, code, **environment_for(running, key))
        assert done.returncode == 0, done.stderr
    found = failures(running, 6)
    ids = [(report["exceptions"][0]["message"], report["attributes"]["service.instance.id"]) for report in found]
    assert len(ids) == 6 and len(set(ids)) == 6
    assert len({one for _, one in ids}) == 4, "a process, another one later, and a child of each"
