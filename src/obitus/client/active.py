"""The reporter of this process: setting it, getting it, and ending it when the interpreter ends."""

from __future__ import annotations

import atexit
from typing import TYPE_CHECKING

from obitus.client import state

if TYPE_CHECKING:
    from obitus.client.reporter import Reporter


def active_reporter() -> Reporter | None:
    """Return the reporter of this process, None where nothing is reported."""
    found: Reporter | None = state.active
    return found


def use(chosen: Reporter) -> None:
    """Make a reporter the one of this process."""
    state.active = chosen
    state.marking = chosen if "mark" not in chosen.settings.leave_out else None
    atexit.register(at_exit)


def give_up() -> Reporter | None:
    """Stop reporting; return the reporter that there was."""
    found = active_reporter()
    state.active = state.marking = None
    atexit.unregister(at_exit)
    return found


def at_exit() -> None:
    """The interpreter ends."""
    reporter = active_reporter()
    if reporter is not None:
        reporter.life.last_words()
