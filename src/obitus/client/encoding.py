"""From a captured report to the line that is sent: edited by the team's own function, redacted, bounded."""

from __future__ import annotations

import copy
import json
from collections.abc import Callable
from typing import Any, Final

from obitus.client.exception_origin import is_the_apps
from obitus.client.log import Sayings
from obitus.client.settings import Settings
from obitus.client.trail import finish_trail
from obitus.core.redaction import Redactor

MOST_REPORT_BYTES: Final = 900_000


class Encoder:
    """Writes reports as lines of JSON. Used by any thread; has no state."""

    def __init__(
        self, settings: Settings, redactor: Redactor, dropped: Callable[[str], None], sayings: Sayings
    ) -> None:
        self._edit = settings.edit
        self._redactor = redactor
        self._dropped = dropped
        self._sayings = sayings

    def line(self, report: dict[str, Any]) -> bytes | None:
        """Return a report, edited and redacted; None where it is dropped, which is counted."""
        finish_trail(report)
        if self._edit is not None:
            try:
                edited = self._edit(copy.deepcopy(report))
            except Exception as error:
                if is_the_apps(error):
                    raise
                self._dropped("edit raised")
                self._sayings.say(
                    "edit", f"Obitus: edit raised {type(error).__name__}: {error}. Its reports are dropped."
                )
                return None
            if edited is None:
                self._dropped("edit dropped it")
                return None
            report = edited
        try:
            written = json.dumps(report, ensure_ascii=False, allow_nan=False)
            # Frames of one place are shared by all reports; an edit needs a copy of its own.
            whole = json.loads(written) if self._redactor.rules else report
            text = json.dumps(self._redactor.report(whole, written), ensure_ascii=False, allow_nan=False)
            line = text.encode("utf-8", "replace") + b"\n"
        except Exception as error:
            if is_the_apps(error):
                raise
            self._dropped("no JSON")
            self._sayings.say("encode", f"Obitus: a report could not be written as JSON ({error}); it was dropped.")
            return None
        if len(line) > MOST_REPORT_BYTES:
            self._dropped("too large")
            return None
        return line
