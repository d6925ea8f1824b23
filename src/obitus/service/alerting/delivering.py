"""Delivering messages: each channel with waiting messages has a thread of its own, so that a broken one holds up no
other. A message is recorded as begun before it is sent, and as delivered after: after a kill in between, it is sent
again with the same id.
"""

from __future__ import annotations

import json
import logging
import random
import ssl
import threading
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Annotated, Any, Final, Protocol

from obitus.core.alerting.letters import Letter
from obitus.core.alerting.pacing import GIVEN_UP_MS, pause_s
from obitus.core.clock import MINUTE_MS, to_text
from obitus.service.alerting.channels.base import DeliveryTrouble, Outgoing, SettingsTrouble
from obitus.service.alerting.channels.local import Command, Consoles, File, checked_command, checked_file
from obitus.service.alerting.channels.mail import Mail
from obitus.service.alerting.channels.mail import checked as checked_mail
from obitus.service.alerting.channels.webhook import Webhook
from obitus.service.alerting.channels.webhook import checked as checked_webhook
from obitus.service.alerting.composing import Composer, acts_of
from obitus.service.alerting.periodic import Turns
from obitus.service.alerting.rendering import Renderer
from obitus.service.clock import Clock
from obitus.service.dependencies import part
from obitus.service.live import Live
from obitus.service.outward.allowed import AllowedFile, NotAllowed
from obitus.service.outward.asking import Asker
from obitus.service.outward.sealing import Seal, SealBroken
from obitus.service.secrets import hash_of
from obitus.store.alerts import channels, firings, messages
from obitus.store.errors import StoreBusy, StoreTrouble
from obitus.store.records import Records
from obitus.store.rows.alerts import Channel, ChannelKind, FiringRow, LinkAct, MessageRow

_log = logging.getLogger("obitus.service")

LOOKS_EVERY_S: Final = 0.2
AT_WORK_MS: Final = MINUTE_MS
"""After this time a begun message is tried again: longer than a try may take."""
REFUSED_TRIES: Final = 3
"""Tries of a message that the receiver itself refuses: later ones wait for it."""


class Kind(Protocol):
    """A kind of channel."""

    def send(self, out: Outgoing) -> str:
        """Send a message and return the answer; raises DeliveryTrouble."""


class Channels:
    """Sends to channels of every kind."""

    def __init__(self, allowed: AllowedFile, seal: Seal, live: Live, tls: ssl.SSLContext | None = None) -> None:
        self.allowed, self.seal, self.renderer = allowed, seal, Renderer()
        asker = Asker(allowed, tls)
        self.webhook = Webhook(asker, self.renderer)
        self.asker = asker
        self._by_kind: dict[ChannelKind, Kind] = {
            "mail": Mail(asker),
            "webhook": self.webhook,
            "command": Command(allowed),
            "file": File(allowed),
            "console": Consoles(live),
        }

    def send(self, channel: Channel, letter: Letter) -> str:
        """Send a message and return the answer; raises DeliveryTrouble."""
        try:
            secrets = self.seal.open(f"channel {channel.name}", channel.secrets)
            out = Outgoing(letter, json.loads(channel.settings), secrets, channel.template)
            return self._by_kind[channel.kind].send(out)
        except (SealBroken, SettingsTrouble) as error:
            raise DeliveryTrouble(str(error)) from None

    def why_not(self, channel: Channel) -> str:
        """Return why the owner of the machine has to allow a channel first, '' where it is allowed."""
        settings = json.loads(channel.settings)
        try:
            if channel.kind == "command":
                self.allowed.command(settings["command"])
            elif channel.kind == "file":
                self.allowed.file(Path(settings["path"]))
        except NotAllowed as trouble:
            return str(trouble)
        return ""

    def close(self) -> None:
        """End what was started."""
        self.renderer.close()


def checked(kind: ChannelKind, settings: dict[str, Any], secrets: dict[str, Any], template: str) -> dict[str, Any]:
    """Return a channel's settings in their stored form; raises SettingsTrouble."""
    if template and kind != "webhook":
        raise SettingsTrouble("template", "only webhooks have one")
    if kind == "mail":
        return checked_mail(settings)
    if kind == "webhook":
        return checked_webhook(settings, secrets, template)
    if kind == "command":
        return checked_command(settings)
    return checked_file(settings) if kind == "file" else {}


class Delivering:
    """Delivers waiting messages. ``settle`` waits until nothing more can be sent now; ``changed`` is called after each try."""

    def __init__(self, records: Records, clock: Clock, some: Channels, home: str, changed: Callable[[], None]) -> None:
        self._changed = changed
        self._records, self._clock, self._channels = records, clock, some
        self.composer = Composer(records, home)
        self._dice = random.Random()  # noqa: S311 - spreads tries, and keeps no secret
        self._busy: dict[int, threading.Thread] = {}
        self._lock = threading.Lock()
        self.turns = Turns(
            "obitus-delivering", self._turn, lambda: LOOKS_EVERY_S, waits="messages wait", broke="delivering failed"
        )

    def close(self) -> None:
        """Stop; a message that is being sent is finished, or tried again after the next start."""
        self.turns.close()
        with self._lock:
            busy = list(self._busy.values())
        for thread in busy:
            thread.join(2.0)

    def settle(self, timeout_s: float = 30.0) -> bool:
        """Wait until nothing more can be sent now, and return whether that was reached."""
        ends_s = time.monotonic() + timeout_s
        while time.monotonic() < ends_s:
            self._turn()
            with self._lock:
                is_idle = not self._busy
            if is_idle and not messages.waiting_channels(self._records.reader, self._clock.now_ms()):
                return True
            time.sleep(0.01)
        return False

    def _turn(self) -> None:
        for channel_id in messages.waiting_channels(self._records.reader, self._clock.now_ms()):
            with self._lock:
                if channel_id in self._busy or self.turns.stopping.is_set():
                    continue
                thread = threading.Thread(
                    target=self._deliver, args=(channel_id,), name=f"obitus-channel-{channel_id}", daemon=True
                )
                # Started first: where no thread can be started, the channel must not count as busy. The thread takes the
                # lock before it ends.
                thread.start()
                self._busy[channel_id] = thread

    def _deliver(self, channel_id: int) -> None:
        """Send the messages of one channel that can be sent now, in order."""
        try:
            while not self.turns.stopping.is_set():
                now_ms = self._clock.now_ms()
                message = messages.head(self._records.reader, channel_id, now_ms)
                if message is None:
                    return
                goes_on = self._try(message, now_ms)
                self._changed()
                if not goes_on:
                    return
        except (StoreTrouble, StoreBusy) as error:
            _log.warning("messages wait: %s", error)
        except Exception:
            _log.exception("a message broke off; it will be tried again")
        finally:
            with self._lock:
                self._busy.pop(channel_id, None)

    def _try(self, message: MessageRow, now_ms: int) -> bool:
        """Try a message once, and return whether the next one may go out."""
        writer = self._records.writer
        tries = writer.run(partial(messages.begin, number=message.id, next_ms=now_ms + AT_WORK_MS))
        if tries is None:
            return True
        channel = channels.channel(self._records.reader, message.channel_id)
        if channel is None:
            writer.run(partial(messages.given_up, number=message.id, answer="The channel was removed.", now_ms=now_ms))
            return True
        try:
            answer = self._channels.send(channel, self._letter(message, now_ms))
        except DeliveryTrouble as trouble:
            return self._failed(message, tries, trouble)
        except Exception as error:
            # After any answer this message must not be sent again at once.
            _log.exception("sending to the channel %s failed", channel.name)
            return self._failed(message, tries, DeliveryTrouble(f"{type(error).__name__}: {error}"[:300]))
        writer.run(partial(messages.delivered, number=message.id, answer=answer[:500], now_ms=self._clock.now_ms()))
        return True

    def _failed(self, message: MessageRow, tries: int, trouble: DeliveryTrouble) -> bool:
        now_ms, writer = self._clock.now_ms(), self._records.writer
        since_ms = max(message.made_ms, message.due_ms)
        if (trouble.for_good and tries >= REFUSED_TRIES) or now_ms - since_ms > GIVEN_UP_MS:
            writer.run(partial(messages.given_up, number=message.id, answer=str(trouble)[:500], now_ms=now_ms))
            return True
        next_ms = now_ms + round(1000 * pause_s(tries, self._dice))
        writer.run(partial(messages.failed, number=message.id, answer=str(trouble)[:500], next_ms=next_ms))
        return False

    def _letter(self, message: MessageRow, now_ms: int) -> Letter:
        reader = self._records.reader
        rows = firings.some(reader, messages.firings_in(reader, message.id))
        return self.composer.letter(message, rows, self._links(message, rows, now_ms), now_ms)

    def _links(self, message: MessageRow, rows: list[FiringRow], now_ms: int) -> dict[int, dict[LinkAct, str]]:
        """Return the secrets of a message's actions, which are the same at each try."""
        if message.kind not in ("firing", "escalation") or message.channel_kind in ("console", "file"):
            return {}
        links: dict[int, dict[LinkAct, str]] = {}
        seen: set[str] = set()
        for row in rows:
            subject = firings.subject_of(row.rule_id, row.group_key, row.issue_id)
            if subject in seen or row.over_ms is not None:
                continue
            seen.add(subject)
            links[row.id] = {act: self._channels.seal.derive(message.uid, row.id, act) for act in acts_of(row)}

        def keep(connection: Any) -> None:
            for number, acts in links.items():
                for act, secret in acts.items():
                    messages.add_link(connection, hash_of(secret), message.id, act, number, now_ms)

        if links:
            self._records.writer.run(keep)
        return links


def test_letter(name: str, home: str, uid: str, now_ms: int) -> Letter:
    """Return a message that says that a channel works."""
    text = f"Messages to the channel {name} arrive. This one was sent on purpose, to see that; nothing has failed."
    return Letter(
        uid, "test", "low", f"Test of the channel {name}", [], text=text, home=home, thread=uid, sent=to_text(now_ms)
    )


TheDelivering = Annotated[Delivering, part("delivering")]
TheChannels = Annotated[Channels, part("channels")]
