"""Sending in the background: batches, retries, bounds. The app's threads only ever append to a queue."""

from __future__ import annotations

import gzip
import json
import logging
import random
import threading
import time
from collections import deque
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any, Final

from obitus.core.redaction import Redactor

if TYPE_CHECKING:
    import urllib3

MOST_WAITING: Final = 500
MOST_ENCODED_BYTES: Final = 16 * 1024 * 1024
MOST_REPORT_BYTES: Final = 900_000
BATCH_REPORTS: Final = 50
BATCH_BYTES: Final = 1_000_000
GATHER_S: Final = 0.05
TIMEOUT_S: Final = 10.0
LONGEST_WAIT_S: Final = 30.0

log = logging.getLogger("obitus")

sending = threading.local()
"""``sending.now`` is true on a thread that sends, so that its own log records make no breadcrumbs."""


class Sender:
    """Sends reports to the service. Everything it holds is bounded; what does not fit is dropped and counted."""

    def __init__(self, url: str, key: str, redactor: Redactor, *, says_time: bool = True) -> None:
        self._url = url.rstrip("/") + "/reports"
        self._key = key
        self._says_time = says_time
        self._redactor = redactor
        self._waiting: deque[dict[str, Any]] = deque()
        self._encoded: deque[bytes] = deque()
        self._encoded_bytes = 0
        self._changed = threading.Condition(threading.RLock())
        self._busy = False
        self._hurry = False
        self._stopping = False
        self._thread: threading.Thread | None = None
        self._pool: urllib3.PoolManager | None = None
        self._said: set[str] = set()
        self.counts = {"sent": 0, "refused": 0, "dropped": 0}

    @property
    def waiting(self) -> int:
        """How many reports wait to be sent."""
        return len(self._waiting) + len(self._encoded)

    def put(self, report: dict[str, Any]) -> bool:
        """Queue a report; return whether there was room. Never waits for the network."""
        with self._changed:
            if self._stopping or len(self._waiting) >= MOST_WAITING:
                self.counts["dropped"] += 1
                return False
            self._waiting.append(report)
            self._ensure_thread()
            self._changed.notify_all()
        return True

    def flush(self, timeout_s: float) -> bool:
        """Wait until everything queued was sent or given up on; return whether it was."""
        ends = time.monotonic() + timeout_s
        with self._changed:
            self._hurry = True
            self._changed.notify_all()
            try:
                while self._waiting or self._encoded or self._busy:
                    left = ends - time.monotonic()
                    if left <= 0 or self._thread is None or not self._thread.is_alive():
                        return False
                    self._changed.wait(left)
            finally:
                self._hurry = False
        return True

    def stop(self, timeout_s: float) -> None:
        """Send what is queued, within the time given, and end."""
        done = self.flush(timeout_s)
        with self._changed:
            self._stopping = True
            left = len(self._waiting) + len(self._encoded)
            self._changed.notify_all()
            thread = self._thread
        if not done and left:
            log.warning("Obitus: %d reports could not be sent before the end.", left)
        if done and thread is not None and thread is not threading.current_thread():
            thread.join(timeout_s)
            if self._pool is not None:
                self._pool.clear()

    def _ensure_thread(self) -> None:
        if self._thread is None:
            self._thread = threading.Thread(target=self._serve, name="obitus-sender", daemon=True)
            try:
                self._thread.start()
            except RuntimeError:
                # The interpreter is shutting down and takes no more threads.
                self._thread = None

    def _serve(self) -> None:
        sending.now = True
        failures = 0
        while True:
            with self._changed:
                while not (self._waiting or self._encoded or self._stopping):
                    self._changed.wait()
                if self._stopping and not (self._waiting or self._encoded):
                    return
                self._busy = True
            try:
                if not self._hurry:
                    time.sleep(GATHER_S)
                wait_s = self._step(failures)
            except Exception as error:
                wait_s = LONGEST_WAIT_S
                self._say("broken", f"Obitus: sending broke ({type(error).__name__}: {error}); it goes on.")
            failures = failures + 1 if wait_s else 0
            with self._changed:
                self._busy = False
                self._changed.notify_all()
                if self._stopping and wait_s:
                    return
            self._pause(wait_s)

    def _pause(self, wait_s: float) -> None:
        """Wait before the next try. Reports that come in meanwhile are encoded; a flush or a stop shortens the wait."""
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
        batch: list[bytes] = []
        size = 0
        for line in self._encoded:
            if batch and (len(batch) >= BATCH_REPORTS or size + len(line) > BATCH_BYTES):
                break
            batch.append(line)
            size += len(line)
        if not batch:
            return 0
        done, wait_s = self._post(batch, failures)
        with self._changed:
            for _ in range(done):
                self._encoded_bytes -= len(self._encoded.popleft())
        return wait_s

    def _encode_waiting(self) -> None:
        while True:
            with self._changed:
                if not self._waiting:
                    return
                report = self._waiting.popleft()
            try:
                written = json.dumps(report, ensure_ascii=False, allow_nan=False)
                text = json.dumps(self._redactor.report(report, written), ensure_ascii=False, allow_nan=False)
                line = text.encode("utf-8", "replace") + b"\n"
            except Exception as error:
                self.counts["dropped"] += 1
                self._say("encode", f"Obitus: a report could not be written as JSON ({error}); it was dropped.")
                continue
            with self._changed:
                if len(line) > MOST_REPORT_BYTES or self._encoded_bytes + len(line) > MOST_ENCODED_BYTES:
                    self.counts["dropped"] += 1
                    continue
                self._encoded.append(line)
                self._encoded_bytes += len(line)

    def _post(self, batch: list[bytes], failures: int) -> tuple[int, float]:
        """Send a batch; return how many of its lines are done with, and how long to wait."""
        import urllib3

        if self._pool is None:
            self._pool = urllib3.PoolManager(maxsize=1, retries=False)
        headers = {
            "Authorization": f"Bearer {self._key}",
            "Content-Type": "application/x-ndjson",
            "Content-Encoding": "gzip",
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
            self._say("away", f"Obitus: {self._url} cannot be reached ({_cause(error)}). Reports wait in memory.")
            return 0, back_off
        return self._read_answer(answer.status, answer.headers.get("Retry-After"), answer.data, batch, back_off)

    def _read_answer(
        self, status: int, retry_after: str | None, data: bytes, batch: list[bytes], back_off: float
    ) -> tuple[int, float]:
        try:
            body = json.loads(data)
        except ValueError:
            body = {}
        if not isinstance(body, dict):
            body = {}
        if status in (200, 422) and isinstance(body.get("lines"), list):
            self._count(body)
            return len(batch), 0
        detail = str(body.get("detail", "")) or f"status {status}"
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
            self.counts["dropped"] += 1
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
        self.counts["refused"] += len(refused)
        self.counts["sent"] += len(body["lines"]) - len(refused)
        if refused:
            self._say("refused", f"Obitus: a report was refused: {refused[0].get('reason')}")
        if "away" in self._said:
            self._said.discard("away")
            log.info("Obitus: reports arrive again.")

    def _say(self, what: str, text: str) -> None:
        """Say a trouble once, not each time it is met."""
        if what not in self._said:
            self._said.add(what)
            log.warning("%s", self._redactor.text(text))


def _cause(error: BaseException) -> str:
    reason = getattr(error, "reason", None) or error
    return f"{type(reason).__name__}: {reason}"[:300]
