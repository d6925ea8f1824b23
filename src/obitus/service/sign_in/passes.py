"""Passes: sign-in links, sessions and personal tokens. Only the hashes of their secrets are kept."""

from __future__ import annotations

import contextlib
import sqlite3
from collections.abc import Callable
from typing import Annotated, Final

from obitus.core.clock import DAY_MS
from obitus.service import secrets
from obitus.service.clock import Clock
from obitus.service.dependencies import part
from obitus.service.live import Live
from obitus.service.lookup_cache import Known
from obitus.service.settings import Settings
from obitus.service.sign_in.acts import Acts
from obitus.service.sign_in.hashing import Hashing
from obitus.service.sign_in.openid import OpenIdSignIn
from obitus.service.threads import Threads
from obitus.store import people
from obitus.store.errors import StoreError
from obitus.store.records import OpenRecords
from obitus.store.rows.people import Scope

LINK_LASTS_MS: Final = DAY_MS
SESSION_LASTS_MS: Final = 14 * DAY_MS
OWNER_NAME: Final = "owner"
TOUCH_EVERY_MS: Final = 5 * 60_000
ASKED_AT_ONCE: Final = 2


class Passes:
    """Makes and ends passes, with the records, the clock and the record of acts."""

    def __init__(self, records: OpenRecords, clock: Clock, settings: Settings, acts: Acts, live: Live) -> None:
        self.records, self.clock, self.settings, self.acts, self.live = records, clock, settings, acts, live
        self.hashing = Hashing()
        self._known = Known(self._read)
        """The people of passes that were used lately."""
        records.writer.call_after(people.CHANGES_WHO_ASKS, "who_asks_changed", self._known.forget)
        self.threads = Threads(ASKED_AT_ONCE, "obitus-asking")
        """Threads for checking who asks."""

    def _read(self, given: tuple[people.PassKind, bytes]) -> people.Person | None:
        kind, secret_hash = given
        return people.person_with(self.records.reader, secret_hash, kind, self.clock.now_ms())

    def person_with(self, kind: people.PassKind, secret_hash: bytes) -> people.Person | None:
        """Return the person with a valid session or token."""
        return self._known.read((kind, secret_hash))

    def known_with(self, kind: people.PassKind, secret_hash: bytes) -> people.Person | None:
        """Return the person with a valid session or token that was used lately, without asking the records; else None."""
        person = self._known.known((kind, secret_hash))
        now_ms = self.clock.now_ms()
        if person is None or not _is_touched(person, now_ms):
            return None
        return person if person.until_ms is None or now_ms < person.until_ms else None

    def ensure_owner(self) -> bool:
        """Make the owner on the first start; return whether a password is set."""
        owner = people.owner(self.records.reader)
        if owner is None:
            now_ms = self.clock.now_ms()
            self.records.writer.run(lambda c: people.add_owner(c, OWNER_NAME, now_ms))
            return False
        return owner.password is not None

    def new_sign_in_link(self) -> str:
        """Return a link that signs the owner in once. The secret is after ``#``, so no server log has it."""
        owner = people.owner(self.records.reader)
        if owner is None:
            raise RuntimeError("the owner is made first")
        link, keep = self.new_link()
        self.records.writer.run(lambda c: keep(c, owner.id))
        return link

    def new_link(self) -> tuple[str, Callable[[sqlite3.Connection, int], None]]:
        """Return a link that signs a person in once, and the function that stores it."""
        secret, keep = self.new("link", "sign-in link", LINK_LASTS_MS)
        return f"{self.settings.url}/sign-in#{secret}", keep

    def new(
        self,
        kind: people.PassKind,
        label: str,
        lasts_ms: int | None,
        *,
        scope: Scope = "administer",
        by_link: bool = False,
        apps: list[int] | None = None,
    ) -> tuple[str, Callable[[sqlite3.Connection, int], None]]:
        """Make the secret of a sign-in link, a session or a personal token; return it, and the function that stores its hash."""
        secret = secrets.new_secret(secrets.TOKEN_PREFIX if kind == "token" else "")
        now_ms = self.clock.now_ms()
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
                apps=apps,
            )

        return secret, keep

    def add(self, kind: people.PassKind, person_id: int, label: str, lasts_ms: int | None) -> str:
        """Make the secret of a sign-in link, a session or a personal token, and return it; only its hash is stored."""
        secret, keep = self.new(kind, label, lasts_ms)
        self.records.writer.run(lambda c: keep(c, person_id))
        return secret

    def end(self, pass_id: str, person_id: int, act: str) -> None:
        """End a session or token, and its live streams; ``act`` is the entry of the record."""
        now_ms = self.clock.now_ms()
        self.acts.do(person_id, act, pass_id, lambda c: people.end_pass(c, pass_id, person_id, now_ms))
        self.live.end(pass_id)

    def touch(self, person: people.Person) -> None:
        """Record that a session or token is used, now and then, without waiting for it."""
        now_ms = self.clock.now_ms()
        if _is_touched(person, now_ms):
            return
        # Errors of the store are reported to requests that write.
        with contextlib.suppress(StoreError):
            self.records.writer.submit(lambda c: people.touch(c, person.pass_id, now_ms))


def _is_touched(person: people.Person, now_ms: int) -> bool:
    """Whether the present use of a pass is near enough to the latest that is recorded."""
    return person.used_ms is not None and abs(now_ms - person.used_ms) < TOUCH_EVERY_MS


ThePasses = Annotated[Passes, part("passes")]
TheOpenId = Annotated[OpenIdSignIn | None, part("openid")]
