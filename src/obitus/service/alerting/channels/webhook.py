"""Webhooks: a CloudEvent (CloudEvents 1.0, HTTP binding, structured mode), or a body from the team's own template;
signed. The signature is HMAC-SHA-256 over the id, the time and the body, so that a receiver with the secret can
check that the message came from here, unchanged, just now, and for the first time.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import re
import time
from collections.abc import Mapping
from typing import Any, Final

from obitus.core.alerting.letters import Letter, as_data
from obitus.service.alerting.channels.base import DeliveryTrouble, Outgoing, SettingsTrouble
from obitus.service.alerting.rendering import MOST_TEMPLATE, Renderer, TemplateTrouble
from obitus.service.outward.asking import Asker, AskingTrouble, NotAllowed

TYPES: Final = {
    "firing": "obitus.alert.fired",
    "over": "obitus.alert.over",
    "escalation": "obitus.alert.escalated",
    "digest": "obitus.digest",
    "test": "obitus.test",
}
MOST_HEADERS: Final = 20
_HEADER: Final = re.compile(r"[A-Za-z0-9!#$%&'*+.^_`|~-]{1,100}")
_RESERVED: Final = frozenset({"host", "content-length", "transfer-encoding", "connection", "content-type"})
# With these statuses a receiver refuses this message for good; others may pass.
_AGAIN: Final = frozenset({401, 403, 404, 405, 407, 408, 409, 410, 421, 423, 425, 429})


def checked(settings: dict[str, Any], secrets: dict[str, Any], template: str) -> dict[str, Any]:
    """Return a webhook's settings; raises SettingsTrouble. The address itself is checked at each request."""
    if not isinstance(settings.get("url"), str):
        raise SettingsTrouble("url", "an address is expected, such as https://hooks.skerry.example/night")
    checked_headers(secrets)
    if len(template) > MOST_TEMPLATE:
        raise SettingsTrouble("template", f"a template has up to {MOST_TEMPLATE:,} characters")
    content_type = settings.get("content_type", "application/json")
    if content_type not in ("application/json", "text/plain"):
        raise SettingsTrouble("content_type", "application/json or text/plain is expected")
    return {"url": settings["url"], "content_type": content_type}


def checked_headers(secrets: Mapping[str, Any]) -> None:
    """Raise SettingsTrouble where the team's own headers are invalid."""
    headers = secrets.get("headers") or {}
    if not isinstance(headers, dict) or len(headers) > MOST_HEADERS:
        raise SettingsTrouble("headers", f"up to {MOST_HEADERS} headers are expected, by name")
    for name, value in headers.items():
        if (
            not _HEADER.fullmatch(name)
            or name.lower() in _RESERVED
            or not isinstance(value, str)
            or any(ord(sign) < 32 or ord(sign) > 126 for sign in value)
        ):
            raise SettingsTrouble(
                "headers", f"{str(name)[:60]!r} cannot be a header of one's own, or has a value that no header can have"
            )


def headers_of(secrets: Mapping[str, Any]) -> dict[str, str]:
    """Return the team's own headers."""
    return {str(name): str(value) for name, value in (secrets.get("headers") or {}).items()}


class Webhook:
    """Sends messages to an address."""

    def __init__(self, asker: Asker, renderer: Renderer) -> None:
        self._asker, self._renderer = asker, renderer

    def send(self, out: Outgoing) -> str:
        """Send a message and return the answer; raises DeliveryTrouble."""
        settings = checked(out.settings, out.secrets, out.template)
        body, content_type = self.body(out.letter, out.template, settings["content_type"])
        headers = headers_of(out.secrets) | {"Content-Type": content_type, "User-Agent": "obitus"}
        headers |= signature(str(out.secrets.get("secret", "")), out.letter.uid, int(time.time()), body)
        try:
            answer = self._asker.post(settings["url"], body, headers)
        except (AskingTrouble, NotAllowed) as error:
            raise DeliveryTrouble(str(error)) from None
        text = answer.said(300)
        if answer.is_taken:
            return text
        raise DeliveryTrouble(text, for_good=400 <= answer.status < 500 and answer.status not in _AGAIN)

    def body(self, letter: Letter, template: str, content_type: str) -> tuple[bytes, str]:
        """Return the body of a message and its media type; raises DeliveryTrouble where a template fails."""
        if not template:
            return json.dumps(
                cloud_event(letter), ensure_ascii=False
            ).encode(), "application/cloudevents+json; charset=utf-8"
        try:
            text = self._renderer.render(template, as_data(letter), is_json=content_type == "application/json")
        except TemplateTrouble as trouble:
            raise DeliveryTrouble(f"its template: {trouble}") from None
        return text.encode("utf-8", "replace"), f"{content_type}; charset=utf-8"


def cloud_event(letter: Letter) -> dict[str, Any]:
    """Return a message as a CloudEvent."""
    return {
        "specversion": "1.0",
        "id": letter.uid,
        "source": letter.home or "obitus",
        "type": TYPES[letter.kind],
        "time": letter.sent,
        "subject": letter.thread or letter.uid,
        "datacontenttype": "application/json",
        "data": as_data(letter),
    }


def signature(secret: str, uid: str, now_s: int, body: bytes) -> dict[str, str]:
    """Return the headers of the signature, the time and the id; without a secret only the last two.

    ``Obitus-Signature: sha256=HEX`` is HMAC-SHA-256 (RFC 2104) of ``ID.TIME.BODY``, the time in Unix seconds.
    """
    headers = {"Obitus-Id": uid, "Obitus-Time": str(now_s)}
    if secret:
        signed = b".".join((uid.encode(), str(now_s).encode(), body))
        headers["Obitus-Signature"] = f"sha256={hmac.new(secret.encode(), signed, hashlib.sha256).hexdigest()}"
    return headers
