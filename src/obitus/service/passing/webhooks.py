"""Records to an address: batches of CloudEvents (CloudEvents 1.0, HTTP binding, batched mode), signed as messages of alerts are."""

from __future__ import annotations

import json
import time
from collections.abc import Mapping, Sequence
from hashlib import sha256
from typing import Any, Final

from obitus.service.alerting.channels.webhook import checked as checked_webhook
from obitus.service.alerting.channels.webhook import headers_of, signature
from obitus.service.outward.asking import Asker, AskingTrouble, NotAllowed
from obitus.service.passing.base import PassingTrouble, Settings, Taken

CONTENT_TYPE: Final = "application/cloudevents-batch+json; charset=utf-8"
_AGAIN: Final = frozenset({401, 403, 404, 407, 408, 409, 423, 425, 429})


def checked(settings: Settings, secrets: Mapping[str, Any]) -> dict[str, Any]:
    """Return a webhook's settings; raises SettingsTrouble."""
    return {"url": checked_webhook(dict(settings), dict(secrets), "")["url"]}


class WebhookTaker:
    """Posts to one address."""

    def __init__(self, settings: Settings, secrets: Mapping[str, Any], asker: Asker, home: str) -> None:
        self._url, self._asker, self._home = checked(settings, secrets)["url"], asker, home
        self._headers = headers_of(secrets)
        self._secret = str(secrets.get("secret", ""))

    def parts(self, batch: Sequence[dict[str, Any]]) -> Sequence[Sequence[dict[str, Any]]]:
        """Return the batch as one part."""
        return [batch]

    def take(self, batch: Sequence[dict[str, Any]]) -> Taken:
        """Post a batch; raises PassingTrouble."""
        body = json.dumps([event_of(record, self._home) for record in batch], ensure_ascii=False).encode(
            "utf-8", "replace"
        )
        # The same batch again has the same id.
        uid = sha256("\n".join(str(record["id"]) for record in batch).encode()).hexdigest()[:32]
        headers = (
            self._headers
            | {"Content-Type": CONTENT_TYPE, "User-Agent": "obitus"}
            | signature(self._secret, uid, int(time.time()), body)
        )
        try:
            answer = self._asker.post(self._url, body, headers)
        except (AskingTrouble, NotAllowed) as error:
            raise PassingTrouble(str(error)) from None
        if answer.is_taken:
            return Taken()
        for_good = 400 <= answer.status < 500 and answer.status not in _AGAIN
        raise PassingTrouble(answer.said(), for_good=for_good, after_s=answer.after_s)

    def close(self) -> None:
        """Nothing is held open."""


def event_of(record: Mapping[str, Any], home: str) -> dict[str, Any]:
    """Return a record as a CloudEvent."""
    return {
        "specversion": "1.0",
        "id": str(record["id"]),
        "source": f"{home}/apps/{record['app']}" if record.get("app") else home,
        "type": f"obitus.{record['kind']}" + (f".{record['change']}" if record.get("change") else ""),
        "time": record.get("time"),
        "datacontenttype": "application/json",
        "data": dict(record),
    }
