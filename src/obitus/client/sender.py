"""Sending in the background: batches, retries, bounds. The app's threads only ever append to a queue.

A report's way: the queue (as captured) → written as JSON and redacted → the spool on disk, or memory where there is
none → the service. Only what the service has acknowledged leaves the spool.
"""

from __future__ import annotations

import copy
import gzip
import json
import random
import threading
import time
from collections import deque
from collections.abc import Callable
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, Final

from obitus.client.log import Sayings, log, ours
from obitus.client.settings import Settings
from obitus.client.spool import Spool
from obitus.client.trail import finish_trail
from obitus.core.redaction import Redactor

if TYPE_CHECKING:
    import urllib3

MOST_WAITING: Final = 500
MOST_MEMORY_BYTES: Final = 16 * 1024 * 1024
MOST_REPORT_BYTES: Final = 900_000
BATCH_REPORTS: Final = 50
BATCH_BYTES: Final = 1_000_000
GATHER_S: Final = 0.05
TIMEOUT_S: Final = 10.0
LONGEST_WAIT_S: Final = 30.0
ADOPT_EVERY_S: Final = 60.0


class Sender:
    """Sends reports to the service. Everything it holds is bounded; what does not fit is dropped and counted."""

    def __init__(
        self,
        settings: Settings,
        redactor: Redactor,
        *,
        says_time: bool = True,
        before_flush: Callable[[], None] = lambda: None,
    ) -> None:
        self._settings = settings
        self._url = (settings.url or "").rstrip("/") + "/reports"
        self._key = settings.key or ""
        self._says_time = says_time
        self._redactor = redactor
        self._before_flush = before_flush
        self._waiting: deque[dict[str, Any]] = deque()
        self._memory: deque[bytes] = deque()
        self._memory_bytes = 0
        self._spool: Spool | None = None
        self._spool_opened = False
        # A forked child makes a sender of its own, so no lock here is ever inherited while it is held.
        self._holding = threading.RLock()
        self._changed = threading.Condition(threading.RLock())
        self._busy = False
        self._hurry = False
        self._stopping = False
        self._thread: threading.Thread | None = None
        self._pool: urllib3.PoolManager | None = None
        self._adopted_s = 0.0
        self.sayings = Sayings()
        self.sent = 0
        self.refused = 0
        self.dropped: dict[str, int] = {}
        self.sent_last_s: float | None = None

    @property
    def waiting(self) -> int:
        """How many reports wait to be sent, wherever."""
        spool = self._spool
        return len(self._waiting) + len(self._memory) + (spool.waiting if spool is not None else 0)

    @property
    def spooled(self) -> tuple[int, int]:
        """How many reports wait on disk, and how many bytes they take."""
        spool = self._spool
        return (spool.waiting, spool.waiting_bytes) if spool is not None else (0, 0)

    @property
    def full(self) -> bool:
        """Whether there is no room for one more: then nothing need be captured."""
        return len(self._waiting) >= MOST_WAITING or self._stopping

    def begin(self) -> None:
        """Start, so that what earlier processes left in the spool is sent without anything new to send."""
        if self._settings.spool is not None:
            with self._changed:
                self._busy = True
                self._ensure_thread()
                if self._thread is None:
                    self._busy = False

    def put(self, report: dict[str, Any]) -> bool:
        """Queue a report; return whether there was room. Never waits for the network."""
        with self._changed:
            if self.full:
                self.drop("the queue is full")
                return False
            self._waiting.append(report)
            self._ensure_thread()
            if len(self._waiting) == 1:
                self._changed.notify_all()
        return True

    def drop(self, why: str, count: int = 1) -> None:
        """Count reports that are not sent. Takes no lock: one that cannot be afforded must cost nothing."""
        dropped = self.dropped
        dropped[why] = dropped[why] + count if why in dropped else count

    def secure(self) -> None:
        """Write everything that is queued to the spool at once, on this thread: the process is about to end."""
        try:
            self._encode_waiting()
        except Exception as error:
            self.sayings.say("broken", f"Obitus: reports could not be written ({type(error).__name__}: {error}).")

    def flush(self, timeout_s: float) -> bool:
        """Wait until everything queued was sent or given up on; return whether it was."""
        self._before_flush()
        ends = time.monotonic() + timeout_s
        with self._changed:
            self._hurry = True
            if self.waiting:
                self._ensure_thread()
            self._changed.notify_all()
            try:
                while self.waiting or self._busy:
                    left = ends - time.monotonic()
                    if left <= 0 or self._thread is None or not self._thread.is_alive():
                        return False
                    self._changed.wait(min(left, 0.5))
            finally:
                self._hurry = False
        return True

    def wind_up(self, timeout_s: float) -> bool:
        """Send what is queued, within the time given; write down and say what is left; return whether nothing is."""
        done = self.flush(timeout_s)
        if not done:
            self.secure()
        left = len(self._waiting) + len(self._memory)
        kept = self._spool.waiting if self._spool is not None else 0
        if left:
            log.warning("Obitus: %d reports could not be sent before the end.", left)
        if kept:
            log.warning(
                "Obitus: %d reports wait in %s; the next start sends them.", kept, self._spool and self._spool.folder
            )
        return done

    def stop(self, timeout_s: float) -> None:
        """Wind up, and end."""
        done = self.wind_up(timeout_s)
        with self._changed:
            self._stopping = True
            self._changed.notify_all()
            thread = self._thread
        if thread is not None and thread is not threading.current_thread():
            thread.join(timeout_s if done else 0.5)
        with self._holding:
            if self._spool is not None:
                self._spool.close()
                self._spool = None
        if done and self._pool is not None:
            self._pool.clear()

    def tidy(self) -> None:
        """Leave nothing behind where nothing waits."""
        with self._holding:
            if self._spool is not None:
                self._spool.tidy()

    def abandon(self) -> None:
        """In a forked child: let go of the parent's files; this sender is never used again."""
        if self._spool is not None:
            self._spool.forget()

    def open_spool(self) -> None:
        """Open the spool, if there is one, and take over what processes that are gone left in it."""
        with self._holding:
            if self._spool_opened:
                return
            self._spool_opened = True
            folder = self._settings.spool_of_goal
            if folder is None:
                return
            try:
                self._spool = Spool(
                    folder,
                    most_bytes=self._settings.spool_bytes,
                    most_age_s=self._settings.spool_hours * 3600,
                    dropped=self.drop,
                )
                self._adopt()
            except OSError as error:
                self.sayings.say(
                    "spool",
                    f"Obitus: {folder} cannot be used ({error}), so reports wait in memory only. "
                    "Set OBITUS_SPOOL to a folder that this process may write to.",
                )

    def _adopt(self) -> None:
        if self._spool is not None:
            self._adopted_s = time.monotonic()
            self._spool.adopt()

    def _ensure_thread(self) -> None:
        if self._thread is None:
            self._thread = threading.Thread(target=self._serve, name="obitus-client-sender", daemon=True)
            try:
                self._thread.start()
            except RuntimeError:
                # The interpreter is shutting down and takes no more threads.
                self._thread = None

    def _serve(self) -> None:
        ours.now = True
        failures = 0
        self.open_spool()
        with self._changed:
            self._busy = False
            self._changed.notify_all()
        while True:
            with self._changed:
                while not (self.waiting or self._stopping):
                    self._changed.wait()
                if self._stopping:
                    return
                self._busy = True
            try:
                # To disk first: only then is there time to gather more.
                self._encode_waiting()
                if not self._hurry:
                    time.sleep(GATHER_S)
                wait_s = self._step(failures)
            except Exception as error:
                wait_s = LONGEST_WAIT_S
                self.sayings.say("broken", f"Obitus: sending broke ({type(error).__name__}: {error}); it goes on.")
            failures = failures + 1 if wait_s else 0
            with self._changed:
                self._busy = False
                self._changed.notify_all()
                if self._stopping and wait_s:
                    return
            self._pause(wait_s)

    def _pause(self, wait_s: float) -> None:
        """Wait before the next try. Reports that come in meanwhile go to the spool; a flush or a stop shortens the wait."""
        ends = time.monotonic() + wait_s
        while (left := ends - time.monotonic()) > 0:
            self._encode_waiting()
            with self._changed:
                if self._stopping:
                    return
                if self._hurry:
                    self._changed.wait(min(left, 0.1))
                    return
                if not self._waiting:
                    self._changed.wait(left)

    def _step(self, failures: int) -> float:
        """Send one batch; return how long to wait before the next try, 0 when it went well."""
        self._encode_waiting()
        with self._holding:
            if time.monotonic() - self._adopted_s > ADOPT_EVERY_S:
                self._adopt()
            spool = self._spool
            batch = spool.peek(BATCH_REPORTS, BATCH_BYTES) if spool is not None else []
            from_spool = bool(batch)
            if not batch:
                size = 0
                for line in self._memory:
                    if batch and (len(batch) >= BATCH_REPORTS or size + len(line) > BATCH_BYTES):
                        break
                    batch.append(line)
                    size += len(line)
        if not batch:
            return 0
        done, wait_s = self._post(batch, failures)
        # The order is always: what is held, then what has changed. The other way round two threads could wait for ever.
        with self._holding:
            if from_spool:
                # Part of a batch that went through is sent again with the rest: its ids make that harmless.
                if done == len(batch) and spool is not None and spool is self._spool:
                    spool.done()
            else:
                for _ in range(done):
                    self._memory_bytes -= len(self._memory.popleft())
        return wait_s

    def _encode_waiting(self) -> None:
        """Write what waits in the queue, as far as it waited when this began, to the spool or to memory."""
        with self._holding:
            self.open_spool()
            left = len(self._waiting)
            while left > 0:
                lines: list[bytes] = []
                size = 0
                while left > 0 and len(lines) < BATCH_REPORTS and size < BATCH_BYTES:
                    left -= 1
                    try:
                        # No lock: only threads that hold the other one take from this end.
                        report = self._waiting.popleft()
                    except IndexError:
                        left = 0
                        break
                    line = self._encode(report)
                    if line is not None:
                        lines.append(line)
                        size += len(line)
                if lines:
                    self._hold(lines)

    def _encode(self, report: dict[str, Any]) -> bytes | None:
        """Return a report as it goes out, edited and redacted; None where it is dropped, which is counted."""
        finish_trail(report)
        edit = self._settings.edit
        if edit is not None:
            try:
                edited = edit(copy.deepcopy(report))
            except Exception as error:
                self.drop("edit raised")
                self.sayings.say(
                    "edit", f"Obitus: edit raised {type(error).__name__}: {error}. Its reports are dropped."
                )
                return None
            if edited is None:
                self.drop("edit dropped it")
                return None
            report = edited
        try:
            written = json.dumps(report, ensure_ascii=False, allow_nan=False)
            # What is known of a place in the code is shared by all reports; what changes a report needs its own.
            whole = json.loads(written) if self._redactor.rules else report
            text = json.dumps(self._redactor.report(whole, written), ensure_ascii=False, allow_nan=False)
            line = text.encode("utf-8", "replace") + b"\n"
        except Exception as error:
            self.drop("no JSON")
            self.sayings.say("encode", f"Obitus: a report could not be written as JSON ({error}); it was dropped.")
            return None
        if len(line) > MOST_REPORT_BYTES:
            self.drop("too large")
            return None
        return line

    def _hold(self, lines: list[bytes]) -> None:
        if self._spool is not None:
            try:
                self._spool.append(lines)
            except OSError as error:
                self.sayings.say(
                    "spool-write",
                    f"Obitus: {self._spool.folder} takes no more ({error}); reports wait in memory. Free some space there.",
                )
            else:
                return
        for line in lines:
            if self._memory_bytes + len(line) > MOST_MEMORY_BYTES:
                self.drop("memory is full")
                continue
            self._memory.append(line)
            self._memory_bytes += len(line)

    def _post(self, batch: list[bytes], failures: int) -> tuple[int, float]:
        """Send a batch; return how many of its lines are done with, and how long to wait."""
        import urllib3

        if self._pool is None:
            self._pool = urllib3.PoolManager(maxsize=1, retries=False)
        headers = {
            "Authorization": f"Bearer {self._key}",
            "Content-Type": "application/x-ndjson",
            "Content-Encoding": "gzip",
            "Obitus-Format": "1",
            "User-Agent": "obitus-python",
        }
        if self._says_time:
            # With it the service can put right what a wrong clock here has stamped.
            headers["Obitus-Sent"] = datetime.now(UTC).isoformat(timespec="milliseconds")
        back_off = min(LONGEST_WAIT_S, 0.5 * 2 ** min(failures, 10)) * random.uniform(0.5, 1.0)  # noqa: S311 - jitter
        try:
            answer = self._pool.request(
                "POST",
                self._url,
                body=gzip.compress(b"".join(batch), 1),
                headers=headers,
                redirect=False,
                timeout=urllib3.Timeout(connect=TIMEOUT_S, read=TIMEOUT_S),
            )
        except (urllib3.exceptions.HTTPError, ValueError, OSError) as error:
            where = "on disk" if self._spool is not None else "in memory"
            self._say("away", f"Obitus: {self._url} cannot be reached ({_cause(error)}). Reports wait {where}.")
            return 0, back_off
        return self._read_answer(answer.status, answer.headers.get("Retry-After"), answer.data, batch, back_off)

    def _read_answer(
        self, status: int, retry_after: str | None, data: bytes, batch: list[bytes], back_off: float
    ) -> tuple[int, float]:
        try:
            body = json.loads(data)
        except (ValueError, RecursionError):
            body = {}
        if not isinstance(body, dict):
            body = {}
        if status in (200, 422) and isinstance(body.get("lines"), list):
            self._count(body)
            return len(batch), 0
        detail = str(body.get("detail", "")) or f"status {status}"
        if body.get("slug") == "format-not-spoken":
            # The service may be brought up to date: until then what there is waits.
            self._say("format", f"Obitus: nothing is reported: {detail}")
            return 0, back_off
        if status in (413, 400) and body.get("slug"):
            if len(batch) > 1:
                # Something in it does not pass: each goes alone, so that only that one is lost.
                done = 0
                for line in batch:
                    one_done, wait_s = self._post([line], 0)
                    done += one_done
                    if wait_s:
                        return done, wait_s
                return done, 0
            self.drop("the service found it too large")
            self._say("too-large", f"Obitus: a report was refused and dropped: {detail}")
            return 1, 0
        if status in (429, 503, 507) and body.get("slug"):
            wait_s = float(retry_after) if retry_after and retry_after.isdigit() else back_off
            return 0, min(LONGEST_WAIT_S, max(0.05, wait_s))
        if status in (401, 403):
            self._say("key", f"Obitus: nothing is reported: {detail}")
        else:
            self._say("answer", f"Obitus: {self._url} answered {status}; is OBITUS_URL the address of Obitus? {detail}")
        return 0, back_off

    def _count(self, body: dict[str, Any]) -> None:
        refused = [line for line in body["lines"] if isinstance(line, dict) and line.get("verdict") == "refused"]
        self.refused += len(refused)
        self.sent += len(body["lines"]) - len(refused)
        self.sent_last_s = time.time()
        if refused:
            self._say("refused", f"Obitus: a report was refused: {refused[0].get('reason')}")
        if self.sayings.forget("away"):
            log.info("Obitus: reports arrive again.")

    def _say(self, what: str, text: str) -> None:
        self.sayings.say(what, self._redactor.text(text))


def _cause(error: BaseException) -> str:
    reason = getattr(error, "reason", None) or error
    return f"{type(reason).__name__}: {reason}"[:300]
