"""The client interrupted anywhere: signal handlers that raise or report, forks, descriptors closed by somebody else."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.client.interpreters import every_version, script
from tests.client.programs import free_port
from tests.client.test_ends import messages, spooled
from tests.client.test_unhandled import failures
from tests.conftest import Running

WORK = {
    "statements": "connection.execute('select ?', (1,))",
    "breadcrumbs": "obitus.mark('counted', places=[1])",
    "runs": "obitus.run('job x').__call__(abs)(1)",
    "log records": "log.warning('pass %s', 7)",
    "failures": "obitus.record(KeyError(7))",
    "requests": "list(app({'REQUEST_METHOD': 'GET', 'PATH_INFO': '/', 'wsgi.input': None}, lambda *a: None))",
}


@every_version
@pytest.mark.parametrize("work", WORK)
def test_what_a_signal_handler_raises_comes_out(tmp_path: Path, python: str, work: str) -> None:
    """A time limit that is reached inside the client reaches the app, every time; a few bytecodes later at worst."""
    code = f"""
        import logging, signal, sqlite3, time, obitus
        obitus.watch(failures_per_second=1e6)
        logging.disable(logging.NOTSET)
        log = logging.getLogger("gate"); log.propagate = False; log.addHandler(logging.NullHandler())
        connection = sqlite3.connect(":memory:")
        app = obitus.WsgiMiddleware(lambda environ, start: (start("200 OK", []), [b""])[1])
        class Limit(Exception): pass
        reached = raised = 0
        def limit(number, frame):
            global reached
            reached += 1
            raise (Limit, TimeoutError, RuntimeError)[reached % 3]("time is up")
        signal.signal(signal.SIGALRM, limit)
        def until(before):
            while reached == before:
                {WORK[work]}
        ends = time.monotonic() + 60
        delay = 0.0
        while reached < 300 and time.monotonic() < ends:
            before = reached
            try:
                signal.setitimer(signal.ITIMER_REAL, 0.0002 + delay % 0.0006)
                delay += 0.000037
                until(before)
            except (Limit, TimeoutError, RuntimeError):
                raised += 1
        signal.setitimer(signal.ITIMER_REAL, 0)
        print(reached >= 300, reached - raised)
    """
    ended = script(python, tmp_path, code, OBITUS_URL=f"http://127.0.0.1:{free_port()}", OBITUS_KEY="okey_x")
    assert ended.stdout == "True 0\n", ended.stdout + ended.stderr


@every_version
@pytest.mark.parametrize("raises", [False, True])
def test_a_signal_handler_that_reports(tmp_path: Path, python: str, raises: bool) -> None:
    """Whatever of the client is interrupted, the handler can log, report and flush: no lock is held that it needs."""
    code = f"""
        import faulthandler, logging, signal, time, obitus
        obitus.watch(failures_per_second=1e6)
        log = logging.getLogger("gate"); log.propagate = False; log.addHandler(logging.NullHandler())
        count = 0
        def limit(number, frame):
            global count
            count += 1
            log.warning("pass %d", count)
            obitus.record(KeyError(count)); obitus.mark("in it"); obitus.say("said", severity="INFO")
            with obitus.run("job in between"): obitus.attach(berth=1)
            obitus.status()
            if {raises}: raise TimeoutError(count)
        signal.signal(signal.SIGALRM, limit)
        ends = time.monotonic() + 60
        while count < 60 and time.monotonic() < ends:
            try:
                signal.setitimer(signal.ITIMER_REAL, 0.003)
                for i in range(10):
                    with obitus.run("job x"):
                        log.warning("out %d", i); obitus.record(ValueError(i)); obitus.mark("out"); obitus.attach(a=1)
                    obitus.flush(0)
            except TimeoutError: pass
        signal.setitimer(signal.ITIMER_REAL, 0)
        print(count >= 60)
    """
    ended = script(
        python, tmp_path, code, OBITUS_URL=f"http://127.0.0.1:{free_port()}", OBITUS_KEY="okey_x", timeout=150
    )
    assert ended.stdout == "True\n", ended.stderr[-3000:]


def test_what_another_thread_raises_comes_out(tmp_path: Path) -> None:
    """An exception that is set in a thread from outside, as some time limits do, is not caught by the client either."""
    code = """
        import ctypes, sys, threading, time, obitus
        obitus.watch()
        class Limit(Exception): pass
        ended = []
        threading.excepthook = lambda args: ended.append(args.exc_type is Limit)
        def work():
            try:
                while True: obitus.mark("step", where=[1, 2]); obitus.attach(a={"b": 1})
            except Limit: ended.append(True)
        for i in range(60):
            thread = threading.Thread(target=work); thread.start(); time.sleep(0.005 + 0.001 * (i % 7))
            ctypes.pythonapi.PyThreadState_SetAsyncExc(ctypes.c_ulong(thread.ident), ctypes.py_object(Limit))
            thread.join(3)
            if thread.is_alive(): sys.exit(f"swallowed at {i}")
        print(len(ended))
    """
    import sys

    ended = script(sys.executable, tmp_path, code, OBITUS_URL=f"http://127.0.0.1:{free_port()}", OBITUS_KEY="okey_x")
    assert ended.stdout == "60\n", ended.stderr


@every_version
@pytest.mark.parametrize("left_over", [False, True], ids=["nothing waits", "a spool that holds something"])
def test_forks_at_any_moment(running: Running, tmp_path: Path, python: str, left_over: bool) -> None:
    """Every 5 ms of the first half second a child is forked: each imports, reports and ends, and Python warns of no thread."""
    key = running.add_app()
    here = {"OBITUS_URL": running.url, "OBITUS_KEY": key, "PYTHONWARNINGS": "error"}
    if left_over:
        script(python, tmp_path, "import obitus\nobitus.watch()\nfor i in range(20): obitus.record(ValueError('left'))", **here | {"OBITUS_EXIT_S": "0"})  # fmt: skip
    code = """
        import logging, os, time, obitus
        obitus.watch()
        logging.getLogger("gate").warning("at import")
        started, children = time.monotonic(), []
        for turn in range(100):
            time.sleep(max(0, started + turn * 0.005 - time.monotonic()))
            child = os.fork()
            if child == 0:
                import xml.dom.minidom, http.client, ssl
                obitus.record(ValueError("child"))
                # Every fourth one lives long enough to send by itself.
                good = obitus.flush(60) if turn % 4 == 0 else True
                os._exit(0 if good else 1)
            children.append(child)
        print({os.waitpid(child, 0)[1] for child in children})
        obitus.flush(60)
    """
    ended = script(python, tmp_path, code, **here, timeout=90)
    assert ended.stdout == "{0}\n" and ended.stderr == "at import\n", ended.stdout + ended.stderr[-2000:]
    found = [report["exceptions"][0]["message"] for report in failures(running, 100 + 20 * left_over)]
    assert found.count("child") == 100 and found.count("left") == 20 * left_over


@every_version
def test_pools_after_a_report(running: Running, tmp_path: Path, python: str) -> None:
    """A warning just before a pool of processes whose work imports something: nobody hangs."""
    code = """
        import logging, multiprocessing, obitus
        obitus.watch()
        logging.warning("x")
        def work(n):
            import http.client, email.message, decimal
            return n
        if __name__ == "__main__":
            with multiprocessing.get_context("fork").Pool(2) as pool: print(pool.map(work, range(4)))
    """
    key = running.add_app()
    for _ in range(6):
        ended = script(python, tmp_path, code, OBITUS_URL=running.url, OBITUS_KEY=key, timeout=150)
        assert ended.stdout == "[0, 1, 2, 3]\n", ended.stderr


@every_version
def test_descriptors_that_somebody_closed(tmp_path: Path, python: str) -> None:
    """After the app closed all it did not know, its next files hold only what it wrote, and reporting goes on silently."""
    code = """
        import faulthandler, os, time, obitus
        obitus.watch()
        with obitus.run("job count"):
            obitus.record(ValueError("before"))
            time.sleep(0.8)
            os.closerange(3, 200)
            mine = [open(f"manifest-{i}", "w+b", buffering=0) for i in range(12)]
            for i in range(30):
                obitus.record(ValueError(f"after {i}")); obitus.mark("x"); time.sleep(0.05)
        obitus.flush(1)
        for opened in mine: opened.write(b"mine"); opened.seek(0)
        print({opened.read() for opened in mine})
        obitus.stop(0.2)
        for opened in mine: opened.seek(0)
        print({opened.read() for opened in mine}, {os.stat(f"manifest-{i}").st_size for i in range(12)})
    """
    ended = script(python, tmp_path, code, OBITUS_URL=f"http://127.0.0.1:{free_port()}", OBITUS_KEY="okey_x")
    assert ended.stdout == "{b'mine'}\n{b'mine'} {4}\n", ended.stdout + ended.stderr
    assert "spool" not in ended.stderr
    assert len([m for m in messages(spooled(tmp_path)) if m.startswith("after")]) == 30


@every_version
def test_descriptors_closed_while_a_connection_is_kept(running: Running, tmp_path: Path, python: str) -> None:
    """The kept connection's number may be a file of the app by now: no request is written into it."""
    code = """
        import os, obitus
        obitus.watch()
        obitus.record(ValueError("before")); assert obitus.flush(60)
        os.closerange(3, 200)
        mine = [open(f"manifest-{i}", "w+b", buffering=0) for i in range(20)]
        obitus.record(KeyError("after")); print(obitus.flush(60))
        print({os.stat(f"manifest-{i}").st_size for i in range(20)})
    """
    ended = script(python, tmp_path, code, OBITUS_URL=running.url, OBITUS_KEY=running.add_app())
    assert ended.stdout == "True\n{0}\n" and len(failures(running, 2)) == 2, ended.stderr


@every_version
def test_faulthandler_stays_the_apps(tmp_path: Path, python: str) -> None:
    """Enabled by the app after ``watch``, it is still enabled after a fork and after ``stop``, and writes where the app said."""
    code = """
        import faulthandler, os, obitus
        obitus.watch()
        faulthandler.enable(open("crash.txt", "w"))
        child = os.fork()
        if child == 0: os._exit(0 if faulthandler.is_enabled() else 1)
        print(os.waitpid(child, 0)[1], faulthandler.is_enabled())
        obitus.stop(0)
        print(faulthandler.is_enabled())
        os.kill(os.getpid(), 11)
    """
    script(python, tmp_path, code, OBITUS_URL=f"http://127.0.0.1:{free_port()}", OBITUS_KEY="okey_x")
    assert "Segmentation fault" in (tmp_path / "crash.txt").read_text()


@every_version
@pytest.mark.parametrize("trouble", ["no home", "a handler that raises"])
def test_watch_never_raises(tmp_path: Path, python: str, trouble: str) -> None:
    """With no place to write to, or a log handler of the app that raises at our warning, the app goes on."""
    code = """
        import logging, tempfile, sys
        if sys.argv[1] == "no home":
            import os
            tempfile._candidate_tempdir_list = lambda: ["/proc/nowhere"]
        else:
            class Raises(logging.Handler):
                def emit(self, record): raise RuntimeError("the app's handler")
            logging.getLogger().addHandler(Raises())
        import obitus
        obitus.watch()
        obitus.watch(hide=["no such rule"])
        obitus.watch(spool="/proc/nowhere")
        obitus.record(ValueError("x")); obitus.record()
        obitus.flush(0.5)
        print("sailed")
    """
    ended = script(python, tmp_path, code, trouble, OBITUS_URL="http://127.0.0.1:9", OBITUS_KEY="okey_x", OBITUS_SPOOL="", HOME="")  # fmt: skip
    assert ended.stdout == "sailed\n" and ended.returncode == 0, ended.stderr


@every_version
def test_a_thread_that_starts_takes_no_signal(tmp_path: Path, python: str) -> None:
    """Not even before it has run at all: here it waits for the interpreter while a signal comes that the app has blocked."""
    code = """
        import os, signal, sys, time
        from obitus.client.native import Worker
        sys.setswitchinterval(60)
        worker = Worker("starts", lambda: time.sleep(0.2))
        for _ in range(5):
            assert worker.start()
            # The thread is there by then, and this one has not let it run.
            ends = time.perf_counter() + 0.05
            while time.perf_counter() < ends:
                pass
            signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGUSR1})
            os.kill(os.getpid(), signal.SIGUSR1)
            assert signal.SIGUSR1 in signal.sigpending()
            assert signal.sigwait({signal.SIGUSR1}) == signal.SIGUSR1
            signal.pthread_sigmask(signal.SIG_UNBLOCK, {signal.SIGUSR1})
            assert worker.join(60)
        assert not signal.pthread_sigmask(signal.SIG_BLOCK, ())
        print("all waited for")
    """
    done = script(python, tmp_path, code)
    assert (done.returncode, done.stdout) == (0, "all waited for\n"), done.stderr[-2000:]


@every_version
def test_signals_are_left_to_the_app(tmp_path: Path, python: str) -> None:
    """A signal that the app has blocked, to wait for it or to finish something first, is not taken by our threads."""
    code = """
        import logging, os, signal, sys, time
        import obitus
        obitus.watch()
        logging.warning("both threads are at work")
        kinds = {signal.SIGTERM, signal.SIGUSR1, signal.SIGHUP, signal.SIGALRM, signal.SIGINT}
        signal.pthread_sigmask(signal.SIG_BLOCK, kinds)
        for _ in range(20):
            for kind in sorted(kinds):
                logging.warning("signal %s", kind)
                time.sleep(0.01)
                os.kill(os.getpid(), kind)
                time.sleep(0.01)
                assert kind in signal.sigpending(), kind
                assert signal.sigtimedwait({kind}, 5).si_signo == kind
        print("all waited for")
    """
    environment = {"OBITUS_URL": "http://127.0.0.1:9", "OBITUS_KEY": "ob_x", "OBITUS_SPOOL": str(tmp_path / "spool")}
    done = script(python, tmp_path, code, **environment)
    assert (done.returncode, done.stdout) == (0, "all waited for\n"), done.stderr[-2000:]
