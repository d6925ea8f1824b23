"""Places that hide what goes wrong: loggers, loops, pools, notebooks and greenlets of other people's making."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests import kept
from tests.client.places.matrix import note
from tests.client.programs import run
from tests.conftest import Running

# Name: program, who captured it, whether it counts as handled.
PLACES: dict[str, tuple[str, str, bool]] = {
    "loguru": (
        """
        from loguru import logger
        logger.remove(); logger.add(sys.stderr, level="ERROR")
        try: board()
        except LookupError: logger.exception("boarding {pier}", pier="eastholm")
        """,
        "logging",
        True,
    ),
    "structlog": (
        """
        import structlog
        log = structlog.get_logger()
        try: board()
        except LookupError: log.exception("boarding", pier="eastholm")
        """,
        "logging",
        True,
    ),
    "Twisted": (
        """
        from twisted.internet import defer, reactor
        def later():
            board()
        reactor.callLater(0.05, later); reactor.callLater(0.2, reactor.stop)
        reactor.run()
        """,
        "twisted",
        False,
    ),
    "IPython": (
        """
        from IPython.core.interactiveshell import InteractiveShell
        shell = InteractiveShell.instance()
        shell.run_cell("x = 1")
        shell.user_ns["board"] = board
        shell.run_cell("board()")
        """,
        "notebook",
        False,
    ),
    "uvloop, the app's own handler": (
        """
        import asyncio, uvloop
        async def main():
            loop = asyncio.get_running_loop()
            loop.set_exception_handler(lambda loop, context: None)
            loop.call_soon(board)
            await asyncio.sleep(0.1)
        uvloop.run(main())
        """,
        "asyncio",
        False,
    ),
    "gevent, watched before its patching": (
        """
        from gevent import monkey
        monkey.patch_all()
        import gevent
        gevent.joinall([gevent.spawn(board)])
        """,
        "greenlet",
        False,
    ),
    "gevent, main thread": (
        """
        from gevent import monkey
        monkey.patch_all()
        import gevent
        gevent.sleep(0.01)
        board()
        """,
        "main thread",
        False,
    ),
    "multiprocessing.Pool.apply_async": (
        """
        import multiprocessing
        if __name__ == "__main__":
            pool = multiprocessing.get_context("fork").Pool(1)
            pool.apply_async(board)
            pool.close(); pool.join()
        """,
        "pool",
        False,
    ),
    "http.server": (
        """
        import http.server, threading, urllib.request
        class Ferry(http.server.BaseHTTPRequestHandler):
            def do_GET(self): board()
        server = http.server.HTTPServer(("127.0.0.1", 0), Ferry)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        try: urllib.request.urlopen(f"http://127.0.0.1:{server.server_port}/piers/7")
        except OSError: pass
        server.shutdown()
        """,
        "http.server",
        False,
    ),
    "graphql-core": (
        """
        from graphql import GraphQLField, GraphQLObjectType, GraphQLSchema, GraphQLString, graphql_sync
        field = GraphQLField(GraphQLString, resolve=lambda *_: board())
        schema = GraphQLSchema(GraphQLObjectType("Query", {"pass": field}))
        with obitus.run("POST /graphql"): graphql_sync(schema, "{ pass }")
        """,
        "graphql",
        False,
    ),
    "gRPC": (
        """
        import grpc
        from concurrent.futures import ThreadPoolExecutor
        handler = grpc.unary_unary_rpc_method_handler(lambda request, context: board())
        server = grpc.server(ThreadPoolExecutor(2))
        server.add_generic_rpc_handlers((grpc.method_handlers_generic_handler("skerry.Gate", {"Board": handler}),))
        port = server.add_insecure_port("127.0.0.1:0"); server.start()
        with grpc.insecure_channel(f"127.0.0.1:{port}") as channel:
            try: channel.unary_unary("/skerry.Gate/Board")(b"")
            except grpc.RpcError: pass
        server.stop(0).wait()
        """,
        "grpc",
        False,
    ),
    "gRPC, a stream": (
        """
        import grpc
        from concurrent.futures import ThreadPoolExecutor
        def boards(requests, context):
            for request in requests:
                if request == b"2": board()
                yield request
        handler = grpc.stream_stream_rpc_method_handler(boards)
        server = grpc.server(ThreadPoolExecutor(2))
        server.add_generic_rpc_handlers((grpc.method_handlers_generic_handler("skerry.Gate", {"Boards": handler}),))
        port = server.add_insecure_port("127.0.0.1:0"); server.start()
        with grpc.insecure_channel(f"127.0.0.1:{port}") as channel:
            answers = channel.stream_stream("/skerry.Gate/Boards")(iter([b"1", b"2", b"3"]))
            assert next(answers) == b"1"
            try: next(answers)
            except grpc.RpcError: pass
        server.stop(0).wait()
        """,
        "grpc",
        False,
    ),
    "gRPC, asynchronous": (
        """
        import asyncio, grpc
        async def answer(request, context): board()
        async def main():
            server = grpc.aio.server()
            handler = grpc.unary_unary_rpc_method_handler(answer)
            server.add_generic_rpc_handlers((grpc.method_handlers_generic_handler("skerry.Gate", {"Board": handler}),))
            port = server.add_insecure_port("127.0.0.1:0"); await server.start()
            async with grpc.aio.insecure_channel(f"127.0.0.1:{port}") as channel:
                try: await channel.unary_unary("/skerry.Gate/Board")(b"")
                except grpc.RpcError: pass
            await server.stop(0)
        asyncio.run(main())
        """,
        "grpc",
        False,
    ),
    "excepthook replaced afterwards": (
        """
        sys.excepthook = lambda *details: None
        board()
        """,
        "main thread",
        False,
    ),
    "threading.excepthook replaced afterwards": (
        """
        import threading
        threading.excepthook = lambda details: None
        thread = threading.Thread(target=board); thread.start(); thread.join()
        """,
        "thread",
        False,
    ),
    "unraisablehook replaced afterwards": (
        """
        import time
        sys.unraisablehook = lambda details: None
        obitus.mark("started"); obitus.say("hello", severity="INFO")
        time.sleep(1.5)
        class Late:
            def __del__(self): board()
        Late()
        """,
        "unraisable",
        False,
    ),
    "a traceback logged as text": (
        """
        import logging, traceback
        try: board()
        except LookupError: logging.getLogger("gate.server").error("Error handling request\\n%s", traceback.format_exc())
        """,
        "logging",
        False,
    ),
}
HEAD = "import obitus\nobitus.watch()\nimport sys\ndef board(*_):\n    raise LookupError('gangway is up')\n"


@pytest.mark.parametrize("place", PLACES)
def test_it_is_seen_once(running: Running, tmp_path: Path, place: str) -> None:
    """What nobody else tells of is one failure, with the place where it was raised, and the program ends as without us."""
    import textwrap

    code, captured_by, handled = PLACES[place]
    key = running.add_app()
    watched = run(running, key, tmp_path, HEAD + textwrap.dedent(code))
    unwatched = run(running, key, tmp_path, HEAD + textwrap.dedent(code), OBITUS_OFF="1")
    run(running, key, tmp_path, "import obitus\nobitus.watch()\nobitus.flush(60)")
    found = kept.reports(running.service, "failure")
    row = {
        "reported once": [report["exceptions"][0]["message"] for report in found] == ["gangway is up"],
        "unhandled": [report["handled"] for report in found] == [handled],
        "app unchanged": watched.returncode == unwatched.returncode and "/obitus/client" not in watched.stderr,
    }
    note(place, "odd ends", row)
    assert row == dict.fromkeys(row, True), ([r["exceptions"] for r in found], watched.stderr[-3000:])
    assert found[0]["captured_by"] == captured_by, found[0]["captured_by"]
    assert found[0]["exceptions"][0]["frames"][-1]["function"] == "board"
