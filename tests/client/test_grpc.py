"""gRPC's servers, threaded and asynchronous, over real channels: every kind of method, every way to end."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from tests import kept
from tests.client.programs import run
from tests.conftest import Running

SERVER = """
    import obitus
    obitus.watch()
    import asyncio, sys, threading, time
    import grpc
    from concurrent.futures import ThreadPoolExecutor

    def one(request, context):
        obitus.mark(f"one {request.decode()}")
        if request == b"breaks": raise LookupError("gangway is up")
        if request == b"absent": context.abort(grpc.StatusCode.NOT_FOUND, "no such sailing")
        if request == b"gives up":
            try: {}["berth"]
            except KeyError: context.abort(grpc.StatusCode.INTERNAL, "no berth")
        if request == b"says so":
            context.set_code(grpc.StatusCode.UNAVAILABLE)
        return request

    def several(request, context):
        for number in range(3):
            obitus.mark(f"several {number}")
            if request == b"breaks" and number == 2: raise LookupError("gangway is up")
            yield str(number).encode()

    def gathered(requests, context): return b",".join(requests)

    def echoed(requests, context):
        for request in requests: yield request

    def late(request, context):
        yield b"0"
        while context.is_active(): time.sleep(0.01)

    async def aio_one(request, context):
        obitus.mark(f"one {request.decode()}")
        if request == b"breaks": raise LookupError("gangway is up")
        if request == b"absent": await context.abort(grpc.StatusCode.NOT_FOUND, "no such sailing")
        if request == b"gives up":
            try: {}["berth"]
            except KeyError: await context.abort(grpc.StatusCode.INTERNAL, "no berth")
        if request == b"says so": context.set_code(grpc.StatusCode.UNAVAILABLE)
        await asyncio.sleep(0.01)
        return request

    async def aio_several(request, context):
        for number in range(3):
            obitus.mark(f"several {number}")
            if request == b"breaks" and number == 2: raise LookupError("gangway is up")
            await asyncio.sleep(0.01)
            yield str(number).encode()

    async def aio_gathered(requests, context):
        return b",".join([request async for request in requests])

    async def aio_echoed(requests, context):
        async for request in requests: await context.write(request)

    async def aio_late(request, context):
        yield b"0"
        await asyncio.sleep(30)

    KINDS = {"One": "unary_unary", "Several": "unary_stream", "Gathered": "stream_unary", "Echoed": "stream_stream", "Late": "unary_stream"}
    def handlers(functions):
        made = {name: getattr(grpc, f"{KINDS[name]}_rpc_method_handler")(function) for name, function in functions.items()}
        return (grpc.method_handlers_generic_handler("skerry.Gate", made),)

    said = []
    def told(call):
        try: said.append([answer.decode() for answer in call] if hasattr(call, "__next__") else call.decode())
        except grpc.RpcError as error: said.append(f"{error.code().name}: {error.details()}")

    def ask(port):
        with grpc.insecure_channel(f"127.0.0.1:{port}") as channel:
            call = {name: getattr(channel, kind)(f"/skerry.Gate/{name}") for name, kind in KINDS.items()}
            def asked(name, request):
                try: told(call[name](request, metadata=(("x-pier", "7"), ("x-token", "s3cr3t-berth-code"))))
                except grpc.RpcError as error: said.append(f"{error.code().name}: {error.details()}")
            for request in (b"boards", b"breaks", b"absent", b"gives up", b"says so"): asked("One", request)
            for request in (b"boards", b"breaks"): asked("Several", request)
            asked("Gathered", iter([b"1", b"2"]))
            asked("Echoed", iter([b"1", b"2"]))
            both = [threading.Thread(target=call["One"], args=(str(n).encode(),)) for n in range(8)]
            for thread in both: thread.start()
            for thread in both: thread.join()
            late = call["Late"](b"")
            assert next(late) == b"0"
            late.cancel()

    def threaded():
        pool = ThreadPoolExecutor(8)
        server = grpc.server(pool)
        server.add_generic_rpc_handlers(handlers({"One": one, "Several": several, "Gathered": gathered, "Echoed": echoed, "Late": late}))
        port = server.add_insecure_port("127.0.0.1:0"); server.start()
        ask(port)
        server.stop(1).wait()
        pool.shutdown()

    async def asynchronous(mixed):
        server = grpc.aio.server(ThreadPoolExecutor(8) if mixed else None)
        functions = {"One": aio_one, "Several": aio_several, "Gathered": aio_gathered, "Echoed": aio_echoed, "Late": aio_late}
        if mixed: functions |= {"One": one, "Several": several}
        server.add_generic_rpc_handlers(handlers(functions))
        port = server.add_insecure_port("127.0.0.1:0"); await server.start()
        await asyncio.to_thread(ask, port)
        await server.stop(1)

    if WHICH == "threads": threaded()
    else: asyncio.run(asynchronous(WHICH == "mixed"))
    print("\\n".join(map(str, said)))
    obitus.flush(60)
    import os; sys.stdout.flush(); os._exit(0)
"""


@pytest.mark.timeout(600)
@pytest.mark.parametrize("which", ["threads", "asynchronous", "mixed"])
def test_calls(running: Running, tmp_path: Path, which: str) -> None:
    """Each call is one run with its method and outcome; what breaks one is one failure, and answers are as without us."""
    key = running.add_app()
    program = SERVER.replace("WHICH", repr(which))
    watched = run(running, key, tmp_path, program)
    unwatched = run(running, key, tmp_path, program, OBITUS_OFF="1")
    assert watched.returncode == 0, watched.stderr
    assert watched.stdout == unwatched.stdout and "gangway is up" in watched.stdout
    assert "/obitus/client" not in watched.stderr
    reports = kept.reports(running.service, "failure")
    found = sorted((report["run"]["entry_point"], report["exceptions"][0]["message"]) for report in reports)
    assert found == [
        ("GRPC /skerry.Gate/One", "'berth'"),
        ("GRPC /skerry.Gate/One", "gangway is up"),
        ("GRPC /skerry.Gate/Several", "gangway is up"),
    ]
    for report in reports:
        assert report["captured_by"] == "grpc" and report["handled"] is False
        headers = dict(report["request"]["headers"])
        assert headers["x-pier"] == "7" and "s3cr3t-berth-code" not in json.dumps(report)
    trails = {report["exceptions"][0]["message"]: [c["message"] for c in report["trail"]] for report in reports}
    assert trails["'berth'"] == ["one gives up"]
    several = next(report for report in reports if report["run"]["entry_point"].endswith("Several"))
    assert [crumb["message"] for crumb in several["trail"]] == ["several 0", "several 1", "several 2"]
    rows = running.service.records.reader.rows(
        "SELECT entry_point, outcome, SUM(runs) AS n FROM run_counts GROUP BY 1, 2"
    )
    counted = {(row["entry_point"].rpartition("/")[2], row["outcome"]): row["n"] for row in rows}
    assert counted == {
        ("One", "ok"): 9,
        ("One", "failed"): 3,
        ("One", "refused"): 1,
        ("Several", "ok"): 1,
        ("Several", "failed"): 1,
        ("Gathered", "ok"): 1,
        ("Echoed", "ok"): 1,
        ("Late", "refused"): 1,
    }
