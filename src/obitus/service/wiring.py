"""The service's parts, wired together: store, preparer, live stream, clock."""

from __future__ import annotations

import contextlib
import logging
import sqlite3
import threading
import time
from collections.abc import Callable
from dataclasses import replace
from typing import Final, TypeVar

from obitus.core.clock import DAY_MS
from obitus.core.telemetry import Steps
from obitus.service.api.live import Live
from obitus.service.intake.bodies import Gate
from obitus.service.intake.heavy import Rules
from obitus.service.intake.linear_patterns import redactor_of
from obitus.service.intake.prepare import Preparer, grouping_of
from obitus.service.intake.processes import Processes
from obitus.service.jobs.regrouping import Regrouper
from obitus.service.jobs.telling import Telling
from obitus.service.jobs.watching import Watcher
from obitus.service.settings import MIB, Settings, system_clock_ms
from obitus.service.sign_in import secrets
from obitus.service.sign_in.keys import KnownKeys
from obitus.service.steady_clock import SteadyClock
from obitus.store import events, people, removing, rules
from obitus.store.database import Reader, lock_folder
from obitus.store.days.files import folder_beside
from obitus.store.days.reading import DayReaders
from obitus.store.errors import StoreError
from obitus.store.evidence import Evidence, add_dictionary
from obitus.store.writer import Writer

LINK_LASTS_MS: Final = DAY_MS
SESSION_LASTS_MS: Final = 14 * DAY_MS
OWNER_NAME: Final = "owner"
MOST_REFUSALS: Final = 1000
KEEPER_EVERY_S: Final = 5.0
PRUNE_EVERY_S: Final = 600.0
REMOVING_RESTS_S: Final = 0.02
TOUCH_EVERY_MS: Final = 5 * 60_000
PASSWORD_CHECKS_AT_ONCE: Final = 2
"""Each takes 32 MiB and most of a tenth of a second."""

_log = logging.getLogger("obitus.service")

Result = TypeVar("Result")


class Service:
    """One running service. Close it to finish what was queued and to let go of the file."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        own_clock = settings.clock_ms is system_clock_ms
        self._clock: Callable[[], int] = SteadyClock() if own_clock else settings.clock_ms
        self._lock = lock_folder(settings.data)
        self._lock.write(f"\n{settings.url}\n")
        self._lock.flush()
        try:
            self.writer = Writer(settings.database)
        except BaseException:
            self._lock.close()
            raise
        self.reader = Reader(settings.database)
        self.days = DayReaders(folder_beside(settings.database), self.reader)
        self.evidence = Evidence(self.reader, self.days)
        self.keys = KnownKeys(self.reader)
        self.preparer = Preparer(self.evidence)
        self._rules = Rules(0, (), (), None)
        self.load_rules()
        self.processes = Processes(settings.processes)
        self.live = Live()
        self.telling = Telling(self.reader, self.writer, self.live)
        self.regrouper = Regrouper(self)
        self.watcher = Watcher(self)
        self.steps = Steps()
        self.gate = Gate(settings.limits)
        # A span or record takes many times its bytes once it is read: these bodies are bounded more tightly.
        self.limits_of_telemetry = replace(
            settings.limits,
            inflated_bytes=min(settings.limits.inflated_bytes, 16 * MIB),
            inflates_times=min(settings.limits.inflates_times, 60),
            inflates_always_bytes=min(settings.limits.inflates_always_bytes, MIB),
        )
        self.refusals = Refusals()
        self.tried = Refusals()
        self.remarks = Refusals()
        self.password_checks = threading.BoundedSemaphore(PASSWORD_CHECKS_AT_ONCE)
        self._stopping = threading.Event()
        self._prunes_next_s = 0.0
        self._keeper = threading.Thread(target=self._keep, name="obitus-keeper", daemon=True)
        self._keeper.start()

    def now_ms(self) -> int:
        """Return the time by the service's clock, Unix milliseconds."""
        return self._clock()

    def heard(self, theirs_ms: int) -> None:
        """Take note of what time a sender's clock shows: after a jump of the own clock that says which time is right."""
        if isinstance(self._clock, SteadyClock):
            self._clock.heard(theirs_ms)

    def close(self) -> None:
        """Stop."""
        self._stopping.set()
        self.regrouper.close()
        self.watcher.close()
        self.telling.close()
        self.live.close()
        self._keeper.join()
        self.processes.close()
        # Readers first: the last one who closes leaves a single file.
        self.days.close()
        self.reader.close()
        self.writer.close()
        self._lock.close()

    def ensure_owner(self) -> bool:
        """Make the owner on the first start; return whether a password is set."""
        found = people.owner(self.reader)
        if found is None:
            now_ms = self.now_ms()
            self.writer.run(lambda c: people.add_owner(c, OWNER_NAME, now_ms))
            return False
        return found["password"] is not None

    def new_sign_in_link(self) -> str:
        """Return a link that signs the owner in once. The secret stands behind ``#``, so no server log ever sees it."""
        owner = people.owner(self.reader)
        if owner is None:
            raise RuntimeError("the owner is made first")
        secret = self.add_pass("link", owner["id"], "sign-in link", LINK_LASTS_MS)
        return f"{self.settings.url}/sign-in#{secret}"

    def load_rules(self) -> None:
        """Let the team's redaction and grouping rules act on what comes in from now on."""
        texts = [row["rule"] for row in rules.redaction_rules(self.reader)]
        grouping = [(row["rule"], row["id"]) for row in rules.grouping_rules(self.reader)]
        self.preparer.use(redactor_of(texts), grouping_of(grouping))
        self._rules = Rules(self._rules.number + 1, tuple(texts), tuple(grouping), self.evidence.dictionary)

    @property
    def rules(self) -> Rules:
        """What processes beside this one prepare reports by."""
        known, dictionary = self._rules, self.evidence.dictionary
        if (known.dictionary or (0,))[0] != (dictionary or (0,))[0]:
            known = self._rules = replace(known, number=known.number + 1, dictionary=dictionary)
        return known

    def remark(self, app: str, slug: str, reason: str) -> None:
        """Remember something about an app's reports that is not right though they are taken."""
        if self.remarks.note(app, slug, reason, self.now_ms()):
            self.live.publish_from_thread({"type": "refused", "app": app, "slug": slug})

    def refuse(self, app: str, slug: str, reason: str) -> None:
        """Remember that an app's report was refused, and tell the set-up page, which may be waiting for it."""
        self.refusals.note(app, slug, reason, self.now_ms())
        self.live.publish_from_thread({"type": "refused", "app": app, "slug": slug})

    def touch(self, person: people.Person) -> None:
        """Note that somebody's session or token is in use, now and then, without waiting for it."""
        now_ms = self.now_ms()
        if person.used_ms is not None and abs(now_ms - person.used_ms) < TOUCH_EVERY_MS:
            return
        # A store that is busy or in trouble is told to those who write.
        with contextlib.suppress(StoreError):
            self.writer.submit(lambda c: people.touch(c, person.pass_id, now_ms))

    def end_pass(self, pass_id: str, person_id: int, act: str) -> None:
        """End a session or token, and what is listened to with it; ``act`` is what goes on record."""
        now_ms = self.now_ms()
        self.acted(person_id, act, pass_id, lambda c: people.end_pass(c, pass_id, person_id, now_ms))
        self.live.end(pass_id)

    def acted(
        self,
        person_id: int | None,
        act: str,
        subject: str | Callable[[Result], str],
        work: Callable[[sqlite3.Connection], Result],
    ) -> Result:
        """Do what somebody wants and put it on record, in one transaction; return what it gave.

        ``subject`` is what it was done to, where that is known only afterwards as a function of what it gave.
        """
        now_ms = self.now_ms()

        def both(connection: sqlite3.Connection) -> Result:
            result = work(connection)
            people.note_act(
                connection, person_id, act, subject if isinstance(subject, str) else subject(result), now_ms
            )
            return result

        return self.writer.run(both)

    def note_act(self, person: people.Person | None, act: str, subject: str) -> None:
        """Put on record what somebody tried."""
        self.acted(person.id if person else None, act, subject, lambda _: None)

    def note_refusal(self, act: str, subject: str) -> None:
        """Put on record what a stranger tried. Of the same only the first in five minutes: strangers must not fill the record."""
        if self.tried.note(f"{act} {subject}", act, subject, self.now_ms(), quiet_ms=TOUCH_EVERY_MS):
            self.note_act(None, act, subject)

    def new_pass(
        self,
        kind: people.PassKind,
        label: str,
        lasts_ms: int | None,
        *,
        scope: people.Scope = "administer",
        by_link: bool = False,
    ) -> tuple[str, Callable[[sqlite3.Connection, int], None]]:
        """Make up a sign-in link's secret, a session's or a personal token; return it, and what keeps its hash for a person."""
        secret = secrets.new_secret(secrets.TOKEN_PREFIX if kind == "token" else "")
        now_ms = self.now_ms()
        pass_id = secrets.new_secret()[:12]

        def keep(connection: sqlite3.Connection, person_id: int) -> None:
            people.add_pass(
                connection,
                secret_hash=secrets.hash_of(secret),
                pass_id=pass_id,
                kind=kind,
                person_id=person_id,
                label=label,
                now_ms=now_ms,
                expires_ms=None if lasts_ms is None else now_ms + lasts_ms,
                scope=scope,
                by_link=by_link,
            )

        return secret, keep

    def add_pass(self, kind: people.PassKind, person_id: int, label: str, lasts_ms: int | None) -> str:
        """Make a sign-in link's secret, a session's or a personal token, and return it; only its hash is kept."""
        secret, keep = self.new_pass(kind, label, lasts_ms)
        self.writer.run(lambda c: keep(c, person_id))
        return secret

    def _prune(self) -> None:
        """Remove old events, now and then."""
        if time.monotonic() < self._prunes_next_s:
            return
        self._prunes_next_s = time.monotonic() + PRUNE_EVERY_S
        now_ms = self.now_ms()
        while self.writer.run(lambda c: events.prune(c, now_ms)) and not self._stopping.wait(REMOVING_RESTS_S):
            pass

    def _keep(self) -> None:
        while not self._stopping.wait(KEEPER_EVERY_S):
            try:
                if self.evidence.wants_training() and (body := self.evidence.train()) is not None:
                    now_ms = self.now_ms()
                    self.evidence.use(self.writer.run(lambda c, b=body, n=now_ms: add_dictionary(c, b, n)), body)  # type: ignore[misc]
                self._prune()
                for work in removing.steps(self.reader, self.days, self.writer.days):
                    self.writer.run(work)
                    # Others write in between.
                    if self._stopping.wait(REMOVING_RESTS_S):
                        break
            except Exception:
                # Housekeeping must never stop intake; it tries again at the next turn.
                _log.exception("housekeeping failed; it will be tried again")


class Refusals:
    """The latest refusals per reporting key, so that the set-up page can say what is wrong. Bounded; in memory."""

    def __init__(self) -> None:
        self._by_app: dict[str, tuple[int, str, str]] = {}

    def note(self, app: str, slug: str, reason: str, now_ms: int, *, quiet_ms: int = 60_000) -> bool:
        """Remember the latest refusal of an app's reports; return whether it is another one than the one before."""
        before = self._by_app.pop(app, None)
        self._by_app[app] = (now_ms, slug, reason)
        if len(self._by_app) > MOST_REFUSALS:
            self._by_app.pop(next(iter(self._by_app)))
        return before is None or before[1] != slug or abs(now_ms - before[0]) > quiet_ms

    def latest(self, app: str) -> tuple[int, str, str] | None:
        """Return (time, slug, reason) of the latest refusal."""
        return self._by_app.get(app)
