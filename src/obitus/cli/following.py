"""Following a stream of the service: through breaks and restarts, without a gap."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator, Mapping
from typing import Any, Final

from obitus.cli import show
from obitus.cli.api import Api
from obitus.cli.errors import Busy, Unreachable
from obitus.cli.safe import cleaned
from obitus.core.wording import as_sentence

PAUSES_S: Final = (0.5, 1, 2, 5)


def follow(api: Api, path: str, query: Mapping[str, Any]) -> Iterator[tuple[str, Any]]:
    """Yield each event of a stream with its content (server-sent events, WHATWG HTML), for ever.

    ``broken`` is yielded where the stream was interrupted; it continues after the last event. Raises CliError where
    it cannot begin, or where the service refuses it.
    """
    known_to, tries = "", 0
    while True:
        try:
            for fields in _events(api.stream(path, query, {"Last-Event-ID": known_to} if known_to else {})):
                known_to = fields.get("id", known_to)
                tries = 0
                if "event" in fields:
                    yield fields["event"], cleaned(json.loads(fields.get("data", "null")))
            trouble = "The stream ended."
        except (Unreachable, Busy) as error:
            if not known_to:
                raise
            trouble = as_sentence(str(error))
        if not tries:
            yield "broken", {"reason": trouble}
        time.sleep(PAUSES_S[min(tries, len(PAUSES_S) - 1)])
        tries += 1


def follow_records(api: Api, kind: str, narrowed: Mapping[str, Any], latest: int) -> Iterator[list[dict[str, Any]]]:
    """Yield the latest records, oldest first, and then new ones, for ever; print a note where records are missing in between."""
    numbers: set[int] | None = None
    # The stream first: it has the records that come while the latest are read.
    for event, data in follow(api, f"/api/records/{kind}/tail", narrowed):
        if event == "open" and numbers is None:
            before = api.get(f"/api/records/{kind}", dict(narrowed) | {"limit": latest})
            numbers = {row["number"] for row in before["records"]}
            yield list(reversed(before["records"]))
        elif event == "broken":
            show.say(f"{data['reason']} It continues as soon as the service answers.", show.QUIET)
        elif event == "records":
            if data["left_out"]:
                show.say(f"… {data['left_out']:,} more came in between and are not shown …", show.QUIET)
            yield [row for row in data["records"] if row["number"] not in (numbers or ())]


def _events(pieces: Iterator[bytes]) -> Iterator[dict[str, str]]:
    """Yield the fields of each event; comments are skipped."""
    rest = b""
    for piece in pieces:
        rest += piece
        while b"\n\n" in rest:
            block, rest = rest.split(b"\n\n", 1)
            lines = [line.partition(": ") for line in block.decode("utf-8", "replace").split("\n")]
            fields = {name: value for name, colon, value in lines if name and colon}
            if fields:
                yield fields
