"""Shared checks of channels and targets: settings that are not valid, and addresses that are not allowed."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from obitus.service.alerting.channels.base import SettingsTrouble
from obitus.service.outward.allowed import NotAllowed
from obitus.service.outward.asking import AskingTrouble
from obitus.service.problems import Problem


@contextmanager
def settings_refused() -> Iterator[None]:
    """Answer errors of settings with the field."""
    try:
        yield
    except SettingsTrouble as trouble:
        raise Problem("bad-field", f"{trouble}.", field=f"settings.{trouble.field}") from None
    except (AskingTrouble, NotAllowed) as trouble:
        raise Problem("bad-field", f"url: {trouble}.", field="settings.url") from None
