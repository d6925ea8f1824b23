"""Records to a syslog server: RFC 5424 over UDP (RFC 5426), TCP and TLS (RFC 5425) with octet counting (RFC 6587)."""

from __future__ import annotations

import socket
import ssl
from collections.abc import Sequence
from typing import Any, Final

from obitus.core.passing.syslog import FACILITIES, framed, message
from obitus.service.alerting.channels.base import SettingsTrouble
from obitus.service.alerting.channels.mail import HOST
from obitus.service.outward.asking import Asker, AskingTrouble, NotAllowed
from obitus.service.passing.base import PassingTrouble, Settings, Taken

PORTS: Final = {"udp": 514, "tcp": 601, "tls": 6514}
SEND_S: Final = 10.0
MOST_DATAGRAM: Final = 8000


def checked(settings: Settings) -> dict[str, Any]:
    """Return a syslog target's settings with defaults; raises SettingsTrouble."""
    host, by, facility = settings.get("host"), settings.get("by", "tcp"), settings.get("facility", "local0")
    if not isinstance(host, str) or not HOST.fullmatch(host):
        raise SettingsTrouble("host", "the name of a syslog server is expected, such as logs.skerry.example")
    if by not in PORTS:
        raise SettingsTrouble("by", f"one of {', '.join(PORTS)} is expected")
    if facility not in FACILITIES:
        raise SettingsTrouble("facility", f"one of {', '.join(FACILITIES)} is expected")
    port = settings.get("port", PORTS[by])
    if not isinstance(port, int) or isinstance(port, bool) or not 1 <= port <= 65535:
        raise SettingsTrouble("port", "a number from 1 to 65535 is expected")
    return {"host": host, "port": port, "by": by, "facility": facility}


class SyslogTaker:
    """Sends to one server. Syslog has no acknowledgements: records written to the connection count as delivered."""

    def __init__(self, settings: Settings, asker: Asker) -> None:
        self._settings, self._asker = checked(settings), asker
        self._open: socket.socket | None = None

    def parts(self, batch: Sequence[dict[str, Any]]) -> Sequence[Sequence[dict[str, Any]]]:
        """Return the batch as one part."""
        return [batch]

    def take(self, batch: Sequence[dict[str, Any]]) -> Taken:
        """Send a batch; raises PassingTrouble."""
        messages = [message(record, self._settings["facility"]) for record in batch]
        try:
            if self._settings["by"] == "udp":
                self._datagrams(messages)
            else:
                self._stream(framed(messages))
        except (AskingTrouble, NotAllowed) as error:
            raise PassingTrouble(str(error)) from None
        except ssl.SSLError as error:
            self.close()
            raise PassingTrouble(
                f"{self._settings['host']} has no certificate that can be trusted: {error.reason or error}"
            ) from None
        except OSError as error:
            self.close()
            raise PassingTrouble(f"{self._settings['host']} broke off: {error}") from None
        return Taken()

    def close(self) -> None:
        """Close the connection."""
        opened, self._open = self._open, None
        if opened is not None:
            opened.close()

    def _datagrams(self, messages: list[bytes]) -> None:
        address, family = self._asker.address(self._settings["host"], self._settings["port"])
        with socket.socket(family, socket.SOCK_DGRAM) as opened:
            opened.settimeout(SEND_S)
            opened.connect((address, self._settings["port"]))
            for message in messages:
                opened.send(message[:MOST_DATAGRAM])

    def _stream(self, data: bytes) -> None:
        if self._open is not None and self._is_over(self._open):
            self.close()
        if self._open is None:
            opened = self._asker.connect(self._settings["host"], self._settings["port"], near=True)
            opened.settimeout(SEND_S)
            if self._settings["by"] == "tls":
                try:
                    opened = self._asker.tls.wrap_socket(opened, server_hostname=self._settings["host"])
                except OSError:
                    opened.close()
                    raise
            self._open = opened
        self._open.sendall(data)

    @staticmethod
    def _is_over(opened: socket.socket) -> bool:
        """Whether the server has closed its side: further records would be lost without an error."""
        opened.settimeout(0.0)
        try:
            return opened.recv(1) == b""
        except (BlockingIOError, ssl.SSLWantReadError):
            return False
        except OSError:
            return True
        finally:
            opened.settimeout(SEND_S)
