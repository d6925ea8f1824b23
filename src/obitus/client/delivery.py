"""Sends batches of reports to the service. The answer says which are done, and how long to wait before the next batch."""

from __future__ import annotations

import gzip
import json
import random
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any, Final

from obitus.client.log import Sayings, log
from obitus.client.posting import Answer, CannotConnect, Connection, PostTrouble
from obitus.client.settings import Settings
from obitus.core.redaction import Redactor
from obitus.core.version import AWAY_BEHIND_PROXY, media_type

TIMEOUT_S: Final = 10.0
LONGEST_WAIT_S: Final = 30.0


class Delivery:
    """Delivers to one service. ``on_answer`` gets its answers, ``counted`` the numbers of reports stored and refused."""

    def __init__(
        self,
        settings: Settings,
        redactor: Redactor,
        sayings: Sayings,
        *,
        says_time: bool,
        on_answer: Callable[[dict[str, Any]], None],
        drop: Callable[[str, int], None],
        counted: Callable[[int, int], None],
        is_on_disk: Callable[[], bool],
        is_leaving: Callable[[], bool],
    ) -> None:
        self._settings, self._redactor, self._sayings, self._says_time = settings, redactor, sayings, says_time
        self._on_answer, self._drop, self._counted = on_answer, drop, counted
        self._is_on_disk, self._is_leaving = is_on_disk, is_leaving
        self._url = (settings.url or "").rstrip("/") + "/reports"
        self._connection: Connection | None = None
        try:
            if not settings.only_file:
                self._connection = Connection(self._url)
        except ValueError as error:
            sayings.say("address", f"Obitus: nothing is sent: {error}. Set OBITUS_URL.")

    def close(self) -> None:
        """Close the connection."""
        if self._connection is not None:
            self._connection.close()

    def forget(self) -> None:
        """In a forked child: close the parent's connection."""
        if self._connection is not None:
            self._connection.forget()

    def post(
        self, batch: list[bytes], failures: int, connect_s: float, whole_s: float, *, at_the_end: bool = False
    ) -> tuple[int, float]:
        """Send a batch; return how many of its lines are done, and how long to wait. At the end of the process it
        raises CannotConnect: there is no next try.
        """
        headers = {
            "Authorization": f"Bearer {self._settings.key}",
            "Content-Type": media_type("python"),
            "Content-Encoding": "gzip",
            "User-Agent": "obitus-python",
        }
        if self._settings.tracepoints is not None:
            headers["Obitus-Tracepoints"] = "1"
        if self._says_time:
            # With it the service can correct times of a wrong clock here.
            headers["Obitus-Clock"] = datetime.now(UTC).isoformat(timespec="milliseconds")
        back_off = min(LONGEST_WAIT_S, 0.5 * 2 ** min(failures, 10)) * random.uniform(0.5, 1.0)  # noqa: S311 - jitter
        if self._connection is None:
            return 0, LONGEST_WAIT_S
        try:
            answer = self._connection.post(gzip.compress(b"".join(batch), 1), headers, connect_s, whole_s)
        except PostTrouble as error:
            if at_the_end and isinstance(error, CannotConnect):
                raise
            self._say_away(str(error), failures)
            return 0, back_off
        return self._read_answer(answer, batch, failures, back_off)

    def _say_away(self, why: str, failures: int) -> None:
        """Say that the service is away, at the second try: a process that has ended by then cannot print anything."""
        if failures and not self._is_leaving():
            where = "on disk" if self._is_on_disk() else "in memory"
            self._say("away", f"Obitus: {self._url} cannot be reached ({why}). Reports wait {where}.")

    def _read_answer(self, answer: Answer, batch: list[bytes], failures: int, back_off: float) -> tuple[int, float]:
        status, retry_after = answer.status, answer.headers.get("retry-after")
        try:
            body = json.loads(answer.body)
        except (ValueError, RecursionError):
            body = {}
        if not isinstance(body, dict):
            body = {}
        if status in (200, 422) and isinstance(body.get("lines"), list):
            self._count(body)
            self._on_answer(body)
            return len(batch), 0
        detail = str(body.get("detail", "")) or f"status {status}"
        if body.get("slug") == "format-not-supported":
            # The service may be upgraded: until then the reports wait.
            self._say("format", f"Obitus: nothing is reported: {detail}")
            return 0, back_off
        # A proxy in front of the service may have a smaller bound, and answers in its own words.
        if status == 413 or (status == 400 and body.get("slug")):
            if len(batch) > 1:
                # The service refuses something in it: send each report alone, so that only that one is lost.
                delivered = 0
                for line in batch:
                    one_done, wait_s = self.post([line], 0, TIMEOUT_S, TIMEOUT_S)
                    delivered += one_done
                    if wait_s:
                        return delivered, wait_s
                return delivered, 0
            self._drop("the service, or a proxy in front of it, found it too large", 1)
            self._say("too-large", f"Obitus: a report was refused and dropped: {detail}")
            return 1, 0
        if status in (429, 503, 507) and body.get("slug"):
            wait_s = float(retry_after) if retry_after and retry_after.isdigit() else back_off
            return 0, min(LONGEST_WAIT_S, max(0.05, wait_s))
        if status in AWAY_BEHIND_PROXY and not body.get("slug"):
            self._say_away(f"a proxy in front of it answers with status {status}", failures)
        elif status in (401, 403):
            self._say("key", f"Obitus: nothing is reported: {detail}")
        else:
            self._say("answer", f"Obitus: {self._url} answered {status}; is OBITUS_URL the address of Obitus? {detail}")
        return 0, back_off

    def _count(self, body: dict[str, Any]) -> None:
        refused = [line for line in body["lines"] if isinstance(line, dict) and line.get("verdict") == "refused"]
        self._counted(len(body["lines"]) - len(refused), len(refused))
        if refused:
            self._say("refused", f"Obitus: a report was refused: {refused[0].get('reason')}")
        if self._sayings.forget("away"):
            log.info("Obitus: reports arrive again.")

    def _say(self, what: str, text: str) -> None:
        self._sayings.say(what, self._redactor.text(text))

    def post_quietly(self, batch: list[bytes], connect_s: float, whole_s: float) -> tuple[int, float]:
        """Send a batch at the end of the process and print nothing; raises CannotConnect where another try is useless."""
        said = self._sayings
        self._sayings = Sayings()
        self._sayings.mute()
        try:
            if self._connection is None:
                raise CannotConnect("there is no service")
            done, wait_s = self.post(batch, 0, connect_s, whole_s, at_the_end=True)
            if not done and self._sayings.latest is not None:
                raise CannotConnect(self._sayings.latest)
            return done, wait_s
        finally:
            said.latest = self._sayings.latest
            self._sayings = said
