"""What both channels and targets are refused for: settings that are not right, and addresses that may not be asked."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from obitus.service.alerting.channels.base import SettingsTrouble
from obitus.service.outward.allowed import NotAllowed
from obitus.service.outward.asking import AskingTrouble
from obitus.service.problems import Problem


@contextmanager
def settings_refused() -> Iterator[None]:
    """Answer what is wrong with settings, by the field that it stands in."""
    try:
        yield
    except SettingsTrouble as trouble:
        raise Problem("bad-field", f"{trouble}.", field=f"settings.{trouble.field}") from None
    except (AskingTrouble, NotAllowed) as trouble:
        raise Problem("bad-field", f"url: {trouble}.", field="settings.url") from None
