"""WSGI: one run for each request; uncaught exceptions become failures. Works with any WSGI framework."""

from __future__ import annotations

import sys
from collections.abc import Callable, Collection, Iterable, Iterator
from typing import TYPE_CHECKING, Any

from obitus.client import runs
from obitus.client.active import active_reporter
from obitus.client.guard import guarded
from obitus.client.instruments import arrived, inside, requests, routes
from obitus.client.instruments.requests import Body
from obitus.client.log import is_ours
from obitus.client.scope import RunScope, ended_by
from obitus.core.bounds import kept, medium, short
from obitus.core.entry_points import entry_point

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter

Environ = dict[str, Any]
App = Callable[[Environ, Any], Iterable[bytes]]


class WsgiMiddleware:
    """Watches a WSGI app: ``app.wsgi_app = obitus.WsgiMiddleware(app.wsgi_app)``, or wrap the application in it.

    ``user`` is given the environ and returns who asks; ``counts_as_failed`` are those that count as failed (500 to
    599); of bodies up to ``body_bytes`` are kept, 0 keeps none; ``answer_body`` keeps the answer's too.
    """

    def __init__(
        self,
        app: App,
        *,
        user: Callable[[Environ], Any] | None = None,
        counts_as_failed: Collection[int] = requests.FAILED_STATUSES,
        body_bytes: int = requests.MOST_BODY_BYTES,
        answer_body: bool = False,
    ) -> None:
        self._app = app
        self._user = user
        self._counts_as_failed = counts_as_failed
        self._body_bytes = min(body_bytes, requests.MOST_BODY_BYTES)
        self._answer_body = answer_body

    def __call__(self, environ: Environ, start_response: Any) -> Iterable[bytes]:
        reporter = active_reporter()
        if reporter is None:
            return self._app(environ, start_response)
        watch = guarded(_Watch)(reporter, environ, self._body_bytes, self._user, self._counts_as_failed)
        if watch is None:
            return self._app(environ, start_response)

        def watching_start(status: str, headers: list[tuple[str, str]], *more: Any) -> Any:
            watch.begun(status, headers, self._body_bytes if self._answer_body else 0, more[0] if more else None)
            return start_response(status, headers, *more)

        try:
            answer = self._app(environ, watching_start)
        except BaseException as error:
            watch.failed(error)
            raise
        if isinstance(answer, list | tuple):
            for piece in answer:
                watch.seen(piece)
            watch.end()
            return answer
        wrapper = environ.get("wsgi.file_wrapper")
        if isinstance(wrapper, type) and isinstance(answer, wrapper):
            # The server sends the file itself, without this code in between.
            watch.end()
            return answer
        return _Answer(answer, watch)


class _Watch:
    """One request while it goes on."""

    def __init__(
        self,
        reporter: Reporter,
        environ: Environ,
        body_bytes: int,
        user: Callable[[Environ], Any] | None,
        counts_as_failed: Collection[int],
    ) -> None:
        self._environ, self._user, self._counts_as_failed = environ, user, counts_as_failed
        self.status = 0
        self.answer: Body | None = None
        self._look: inside.Look | None = None
        self._method = str(environ.get("REQUEST_METHOD", ""))
        around = environ.get(_WATCHED)
        # A middleware around an app and another one around what is mounted in it see the same request.
        self._inside_of: _Watch | None = around if isinstance(around, _Watch) else None
        self._scope: RunScope
        self.run: runs.RunState
        if self._inside_of is not None:
            self._scope, self.run = self._inside_of._scope, self._inside_of.run
            return
        environ[_WATCHED] = self
        self._scope = RunScope(
            reporter,
            entry_point(self._method, str(environ.get("PATH_INFO", ""))),
            "wsgi",
            traceparent=environ.get("HTTP_TRACEPARENT"),
            tracestate=environ.get("HTTP_TRACESTATE"),
        )
        self.run = self._scope.run
        # Parts that the framework moves from one to the other still belong to the request's path.
        self._path = f"{environ.get('SCRIPT_NAME', '')}{environ.get('PATH_INFO', '')}"
        self.run.entry_point_now, self.run.resolve = self._entry_point, self._resolve
        self._stream: Any = None
        self._body = self._watch_body(body_bytes)

    @guarded
    def begun(self, status: str, headers: list[tuple[str, str]], answer_bytes: int, exc_info: Any) -> None:
        """The answer begins."""
        self.status = int(status[:3]) if status[:3].isdigit() else 0
        if self._inside_of is not None:
            return
        # Some frameworks forget the request as soon as it is answered.
        self.run.route = self.route() or None
        kind = next((value for name, value in headers if name.lower() == "content-type"), "")
        if answer_bytes:
            self.answer = Body(kind, answer_bytes)
        if inside.may_hold_one(self.status, kind, self._path):
            self._look = inside.Look(kind)
        if self.status >= 500:
            # A framework that answers for an exception by itself does so while it handles it.
            error = exc_info[1] if type(exc_info) is tuple else sys.exc_info()[1]
            if isinstance(error, BaseException):
                self._scope.ended_by(error)

    def seen(self, piece: bytes) -> None:
        """A piece of the answer is sent."""
        if self.answer is not None:
            self.answer.add(piece)
        if self._look is not None:
            self._look.add(piece)

    @guarded
    def failed(self, error: BaseException) -> None:
        """The app raised."""
        outcome = ended_by(error)
        if outcome == "failed":
            self.status = self.status or 500
            if self._inside_of is None:
                self._scope.record(error)
        self.end(outcome)

    @guarded
    def end(self, outcome: str | None = None) -> None:
        """The answer is complete."""
        if self._inside_of is not None or self._scope.is_over:
            return
        self._environ.pop(_WATCHED, None)
        if not self.status and outcome is None:
            # Where the app answers nothing, the server does, with a 500 of its own.
            self.status = 500
        outcome = outcome or requests.outcome_of(self.status, self._counts_as_failed)
        if self._look is not None:
            outcome = self._look.outcome_of(outcome, self.run)
        self._scope.finish(outcome, self.status or None)

    def route(self) -> str:
        return self.run.route or routes.of_environ(self._environ) or ""

    def _watch_body(self, limit: int) -> Body | None:
        """Keep a copy of the start of the body as the app reads it. Nothing is read before the app does."""
        environ = self._environ
        stream = environ.get("wsgi.input")
        length = str(environ.get("CONTENT_LENGTH") or "")
        if stream is None or not (length or environ.get("HTTP_TRANSFER_ENCODING")):
            return None
        body = Body(str(environ.get("CONTENT_TYPE", "")), limit)
        body.announced = int(length) if length.isdigit() else 0
        if body.announced or environ.get("HTTP_TRANSFER_ENCODING"):
            self._stream = stream
            environ["wsgi.input"] = _Passing(stream, body)
        return body

    def _unread(self, body: Body) -> bytes:
        """Return the part of the body that has arrived and was not read, on the request's own thread and where it failed."""
        if self._stream is None or not body.is_unread or self.run.outcome == "ok" or is_ours():
            return b""
        return arrived.of_stream(self._stream, self._environ, body.room) or b""

    def _entry_point(self) -> str:
        return routes.point_of(self._method, self.route(), self._path, self.status)

    def _resolve(self) -> None:
        environ = self._environ
        headers = [
            [short(name[5:].replace("_", "-").lower()), str(value)[: requests.MOST_HEADER_CHARS]]
            for name, value in list(environ.items())
            if name.startswith("HTTP_")
        ][: requests.MOST_HEADERS]
        headers += [[name, short(str(environ[key]))] for name, key in _UNPREFIXED if environ.get(key)]
        query = str(environ.get("QUERY_STRING", ""))
        host = environ.get("HTTP_HOST") or environ.get("SERVER_NAME", "")
        path = self._path.encode("latin-1", "replace").decode("utf-8", "replace")
        part: dict[str, Any] = {
            "method": short(self._method),
            "route": medium(self.route()),
            "url": kept(f"{environ.get('wsgi.url_scheme', 'http')}://{host}{path}{'?' + query if query else ''}"),
            "headers": headers,
            "client": short(str(environ.get("REMOTE_ADDR", ""))),
        }
        if query:
            part["query"] = requests.pairs(kept(query))
        if self.status:
            part["status"] = self.status
        if self._body is not None and (shown := self._body.as_report(self._unread(self._body))) is not None:
            part["body"] = shown
        if self.answer is not None and (shown := self.answer.as_report()) is not None:
            part["answer_body"] = shown
        self.run.request = part
        user = requests.ask_user(self._user, environ)
        if user is not None:
            self.run.attach("user.id", user)


_UNPREFIXED = (("content-type", "CONTENT_TYPE"), ("content-length", "CONTENT_LENGTH"))
_WATCHED = "obitus.request"


class _Passing:
    """An input stream that keeps a copy of what the app reads."""

    def __init__(self, stream: Any, body: Body) -> None:
        self._stream, self._body = stream, body

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)

    def __iter__(self) -> Iterator[bytes]:
        for line in self._stream:
            yield self._seen(line)

    def read(self, *args: Any) -> bytes:
        return self._seen(self._stream.read(*args))

    def readline(self, *args: Any) -> bytes:
        return self._seen(self._stream.readline(*args))

    def readlines(self, *args: Any) -> list[bytes]:
        return [self._seen(line) for line in self._stream.readlines(*args)]

    def _seen(self, data: bytes) -> bytes:
        self._body.add(data)
        return data


class _Answer:
    """The pieces of an answer; the run ends when the server closes it. Exceptions while it streams are reported."""

    def __init__(self, pieces: Iterable[bytes], watch: _Watch) -> None:
        self._inner = pieces
        self._watch = watch
        self._pieces = iter(pieces)

    def __iter__(self) -> Iterator[bytes]:
        return self

    def __next__(self) -> bytes:
        try:
            piece = next(self._pieces)
        except StopIteration:
            raise
        except BaseException as error:
            self._watch.failed(error)
            raise
        self._watch.seen(piece)
        return piece

    def close(self) -> None:
        """Pass the close on, and end the run."""
        try:
            close = getattr(self._inner, "close", None)
            if close is not None:
                close()
        except BaseException as error:
            self._watch.failed(error)
            raise
        finally:
            self._watch.end()
