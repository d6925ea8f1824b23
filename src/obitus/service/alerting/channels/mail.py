"""Mail: SMTP (RFC 5321) with TLS and sign-in; text and HTML (RFC 2046), threaded by headers (RFC 5322, section 3.6.4)."""

from __future__ import annotations

import re
import smtplib
import ssl
from datetime import UTC, datetime
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime
from hashlib import sha256
from typing import Any, Final

from obitus.core.alerting.letters import Letter, as_html, as_text
from obitus.service.alerting.channels.base import DeliveryTrouble, Outgoing, SettingsTrouble
from obitus.service.outward.asking import Asker, AskingTrouble, NotAllowed

ANSWER_S: Final = 10.0
MOST_TO: Final = 20
TLS: Final = ("starttls", "tls", "none")
PORTS: Final = {"starttls": 587, "tls": 465, "none": 25}
# Only addresses that no server reads as several (RFC 5321, 4.1.2, without quoted local parts and address literals).
_ADDRESS: Final = re.compile(r"[A-Za-z0-9.!#$%&'*+/=?^_`{|}~-]{1,64}@[A-Za-z0-9](?:[A-Za-z0-9.-]{0,250}[A-Za-z0-9])?")
HOST: Final = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9.:-]{0,250}[A-Za-z0-9])?")


def checked(settings: dict[str, Any]) -> dict[str, Any]:
    """Return a mail channel's settings with defaults; raises SettingsTrouble."""
    host, tls = str(settings.get("host", "")), str(settings.get("tls", "starttls"))
    if not HOST.fullmatch(host):
        raise SettingsTrouble("host", "the name of an SMTP server is expected, such as mail.skerry.example")
    if tls not in TLS:
        raise SettingsTrouble("tls", f"one of {', '.join(TLS)} is expected")
    port = settings.get("port", PORTS[tls])
    if not isinstance(port, int) or isinstance(port, bool) or not 1 <= port <= 65535:
        raise SettingsTrouble("port", "a number from 1 to 65535 is expected")
    to = settings.get("to", [])
    to = [to] if isinstance(to, str) else to
    if not isinstance(to, list) or not 1 <= len(to) <= MOST_TO:
        raise SettingsTrouble("to", f"1 to {MOST_TO} mail addresses are expected")
    for address in (*to, settings.get("from", "")):
        if not isinstance(address, str) or not _ADDRESS.fullmatch(address):
            raise SettingsTrouble(
                "to" if address in to else "from", f"{str(address)[:80]!r} is no mail address: name@host is expected"
            )
    if settings.get("user") and tls == "none":
        raise SettingsTrouble("tls", "a name and password are not sent without TLS: take starttls or tls")
    return {
        "host": host,
        "port": port,
        "tls": tls,
        "from": settings["from"],
        "to": to,
        "user": str(settings.get("user", "")),
    }


class Mail:
    """Sends mail. One connection for each message: most channels have one now and then."""

    def __init__(self, asker: Asker) -> None:
        self._asker = asker

    def send(self, out: Outgoing) -> str:
        """Send a message to the server and return its answer; raises DeliveryTrouble."""
        settings = checked(out.settings)
        message = written(out.letter, settings)
        try:
            return self._hand_over(settings, str(out.secrets.get("password", "")), message)
        except smtplib.SMTPRecipientsRefused as error:
            code, answer = next(iter(error.recipients.values()))
            raise DeliveryTrouble(f"{code} {_text(answer)}", for_good=code >= 500) from None
        except smtplib.SMTPAuthenticationError as error:
            raise DeliveryTrouble(
                f"the server does not let it in: {error.smtp_code} {_text(error.smtp_error)}"
            ) from None
        except smtplib.SMTPResponseException as error:
            raise DeliveryTrouble(
                f"{error.smtp_code} {_text(error.smtp_error)}", for_good=error.smtp_code in (552, 554)
            ) from None
        except smtplib.SMTPNotSupportedError as error:
            raise DeliveryTrouble(f"the server does not support that: {error}") from None
        except (AskingTrouble, NotAllowed) as error:
            raise DeliveryTrouble(str(error)) from None
        except ssl.SSLError as error:
            raise DeliveryTrouble(
                f"{settings['host']} has no certificate that can be trusted: {error.reason or error}"
            ) from None
        except (smtplib.SMTPException, OSError) as error:
            raise DeliveryTrouble(f"{settings['host']} broke off: {error}") from None

    def _hand_over(self, settings: dict[str, Any], password: str, message: EmailMessage) -> str:
        server = _Server(self._asker, settings)
        try:
            server.ehlo_or_helo_if_needed()
            if settings["tls"] == "starttls":
                server.starttls(context=self._asker.tls)
                server.ehlo()
            if settings["user"]:
                server.login(settings["user"], password)
            server.mail(settings["from"])
            refused = {to: server.rcpt(to) for to in settings["to"]}
            wrong = {to: answer for to, answer in refused.items() if answer[0] not in (250, 251)}
            if len(wrong) == len(refused):
                raise smtplib.SMTPRecipientsRefused(wrong)
            code, server_answer = server.data(message.as_bytes(policy=SMTP.clone(cte_type="7bit")))
            if code != 250:
                raise smtplib.SMTPDataError(code, server_answer)
        finally:
            server.close()
        not_to = f"; not to {', '.join(wrong)}" if wrong else ""
        return f"{code} {_text(server_answer)}{not_to}"


class _Server(smtplib.SMTP):
    """A connection to an allowed address, with TLS from its beginning where that is set."""

    def __init__(self, asker: Asker, settings: dict[str, Any]) -> None:
        self._asker, self._settings = asker, settings
        super().__init__(settings["host"], settings["port"], timeout=ANSWER_S)
        # The name that starttls checks the certificate for.
        self._host = settings["host"]

    def _get_socket(self, host: str, port: int, timeout: float) -> Any:
        opened = self._asker.connect(host, port, near=True)
        opened.settimeout(ANSWER_S)
        if self._settings["tls"] != "tls":
            return opened
        try:
            return self._asker.tls.wrap_socket(opened, server_hostname=host)
        except OSError:
            opened.close()
            raise


def written(letter: Letter, settings: dict[str, Any]) -> EmailMessage:
    """Return a message as mail."""
    domain = settings["from"].rpartition("@")[2]
    message = EmailMessage(policy=SMTP)
    message["From"] = Address("Obitus", addr_spec=settings["from"])
    message["To"] = ", ".join(settings["to"])
    message["Subject"] = letter.title
    message["Date"] = format_datetime(datetime.fromisoformat(letter.sent) if letter.sent else datetime.now(UTC))
    message["Message-ID"] = f"<{letter.uid}@{domain}>"
    if letter.thread:
        # All messages about one subject refer to a message that was never sent: so they form one thread in any order.
        root = f"<{sha256(f'{letter.home} {letter.thread}'.encode()).hexdigest()[:32]}@{domain}>"
        message["In-Reply-To"] = root
        message["References"] = root
    message["Auto-Submitted"] = "auto-generated"
    message["X-Priority"] = {"high": "1", "middle": "3", "low": "5"}[letter.priority]
    message.set_content(as_text(letter))
    message.add_alternative(as_html(letter), subtype="html")
    return message


def _text(said: Any) -> str:
    text = said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said)
    return " ".join(text.split())[:300]
