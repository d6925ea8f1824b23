"""Channels of the machine itself: a command, a file, and the consoles that are open."""

from __future__ import annotations

import json
import os
import signal
import subprocess
from pathlib import Path
from typing import Any, Final

from obitus.core.alerting.letters import as_data, as_text
from obitus.service.alerting.channels.base import DeliveryTrouble, Outgoing, SettingsTrouble
from obitus.service.alerting.channels.webhook import cloud_event
from obitus.service.live import Live
from obitus.service.outward.allowed import AllowedFile, NotAllowed
from obitus.service.outward.appending import append

COMMAND_S: Final = 10.0
MOST_SAID: Final = 2000
MOST_FILE_BYTES: Final = 64 * 1024 * 1024


def checked_command(settings: dict[str, Any]) -> dict[str, Any]:
    """Return a command channel's settings; raises SettingsTrouble."""
    if not isinstance(settings.get("command"), str) or not Path(settings["command"]).is_absolute():
        raise SettingsTrouble(
            "command", "the whole path of a program is expected, such as /usr/local/bin/page-night-desk"
        )
    return {"command": settings["command"]}


def checked_file(settings: dict[str, Any]) -> dict[str, Any]:
    """Return a file channel's settings; raises SettingsTrouble."""
    if not isinstance(settings.get("path"), str) or not Path(settings["path"]).is_absolute():
        raise SettingsTrouble("path", "the whole path of a file is expected, such as /var/log/obitus/alerts.ndjson")
    return {"path": settings["path"]}


class Command:
    """Runs a command that the owner's file allows. It gets the message as JSON on its standard input, and no arguments."""

    def __init__(self, allowed: AllowedFile) -> None:
        self._allowed = allowed

    def send(self, out: Outgoing) -> str:
        """Run it and return its output; raises DeliveryTrouble where it fails, or does not end in time."""
        try:
            command = self._allowed.command(checked_command(out.settings)["command"])
            started = subprocess.Popen(  # noqa: S603 - the owner of the machine has listed it
                [command],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                cwd="/",
                env={"PATH": "/usr/local/bin:/usr/bin:/bin", "LANG": "C.UTF-8"},
                start_new_session=True,
            )
        except (NotAllowed, OSError) as error:
            raise DeliveryTrouble(str(error)) from None
        try:
            output, _ = started.communicate(json.dumps(as_data(out.letter), ensure_ascii=False).encode(), COMMAND_S)
        except subprocess.TimeoutExpired:
            # Its children are killed too.
            os.killpg(started.pid, signal.SIGKILL)
            started.communicate()
            raise DeliveryTrouble(f"{command} did not end within {COMMAND_S:g} s, and was ended") from None
        text = " ".join(output[:MOST_SAID].decode("utf-8", "replace").split())
        if started.returncode:
            raise DeliveryTrouble(f"exit status {started.returncode}: {text}")
        return f"exit status 0 {text}".strip()


class File:
    """Appends messages to a file, one CloudEvent a line; a full one is renamed to ``.1``, which replaces the one before."""

    def __init__(self, allowed: AllowedFile) -> None:
        self._allowed = allowed

    def send(self, out: Outgoing) -> str:
        """Write a message and return where; raises DeliveryTrouble."""
        try:
            path = self._allowed.file(Path(checked_file(out.settings)["path"]))
            line = json.dumps(cloud_event(out.letter), ensure_ascii=False).encode() + b"\n"
            if path.exists() and path.stat().st_size + len(line) > MOST_FILE_BYTES:
                path.replace(path.with_name(path.name + ".1"))
            append(path, line)
        except (NotAllowed, OSError) as error:
            raise DeliveryTrouble(str(error)) from None
        return f"written to {path}"


class Consoles:
    """Shows messages in open consoles, as a notification where the person has allowed these."""

    def __init__(self, live: Live) -> None:
        self._live = live

    def send(self, out: Outgoing) -> str:
        """Send it to the consoles; there may be none."""
        letter = out.letter
        link = letter.parts[0].link if letter.parts else letter.home
        self._live.publish_from_thread(
            {"type": "alert", "title": letter.title, "text": as_text(letter)[:500], "link": link, "uid": letter.uid},
            narrowed=False,
        )
        return f"{self._live.listeners} consoles are open"
